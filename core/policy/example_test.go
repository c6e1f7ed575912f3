package policy_test

import (
	"fmt"
	"net/netip"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
)

func ExampleCondition() {
	phones := policy.All(policy.KeyFrom.Within(netip.MustParsePrefix("10.1.0.0/24")), policy.KeyDSCP.In(policy.One(46)))
	var p packet.Packet
	for _, from := range []string{"10.1.0.8", "10.9.0.8"} {
		p.Build(make([]byte, packet.HeaderRoom), packet.Flow{From: netip.MustParseAddr(from), To: netip.MustParseAddr("10.2.0.8"), Protocol: packet.UDP}, codepoint.EF, 200, 0)
		fmt.Println(from, phones.Holds(&p))
	}
	// Output:
	// 10.1.0.8 true
	// 10.9.0.8 false
}
