package datapath_test

import (
	"fmt"
	"net/netip"
	"time"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/datapath"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
)

func ExamplePath() {
	voice := &policy.Class{Name: "voice", Match: []policy.Condition{policy.All(policy.KeyDSCP.In(policy.One(46)))}}
	path := datapath.New(datapath.Config{Plan: plan.New(&policy.Policy{Treat: []policy.Entry{
		{ClassName: policy.Ref{Text: "voice"}, Class: voice, Priority: 1},
	}}, 10*unit.MbitPerSecond, packet.FramingEthernet())})
	now := time.Duration(0) // the caller's clock
	for _, dscp := range []codepoint.DSCP{codepoint.DF, codepoint.EF} {
		p := &packet.Packet{}
		p.Build(make([]byte, packet.HeaderRoom), packet.Flow{From: netip.MustParseAddr("10.1.0.8"), To: netip.MustParseAddr("10.2.0.8"), Protocol: packet.UDP}, dscp, 500, 0)
		path.Enqueue(now, p)
	}
	for {
		p, _ := path.Dequeue(now)
		if p == nil {
			break
		}
		fmt.Println(p.DSCP().Name(), "of", path.Classes()[p.Slot], "takes", unit.Rate(10*unit.MbitPerSecond).Time(unit.Size(p.Size)))
	}
	// Output:
	// ef of voice takes 430.4µs
	// df of rest takes 430.4µs
}
