package classify_test

import (
	"fmt"
	"net/netip"

	"imbrel.example/imbrel/core/classify"
	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
)

func ExampleMatcher() {
	voice := &policy.Class{Name: "voice", Match: []policy.Condition{policy.All(policy.KeyDSCP.In(policy.One(46)))}}
	web := &policy.Class{Name: "web", Match: []policy.Condition{policy.All(
		policy.KeyProtocol.In(policy.One(packet.TCP)), policy.KeyToPort.In(policy.One(80), policy.One(443)))}}
	matcher := classify.Compile([]*policy.Class{voice, web, nil}) // nil: the rest
	var p packet.Packet
	for _, port := range []uint16{443, 25} {
		p.Build(make([]byte, packet.HeaderRoom), packet.Flow{From: netip.MustParseAddr("10.1.0.8"), To: netip.MustParseAddr("10.2.0.8"), Protocol: packet.TCP, ToPort: port},
			codepoint.DF, 1500, 0)
		fmt.Println("to port", port, "is entry", matcher.Match(&p))
	}
	// Output:
	// to port 443 is entry 1
	// to port 25 is entry 2
}
