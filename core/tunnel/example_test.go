package tunnel_test

import (
	"fmt"
	"net/netip"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/route"
	"imbrel.example/imbrel/core/tunnel"
)

func ExampleCrossings() {
	// Three nodes and a label-switched path over them; the last but one takes the label off.
	nodes := []*policy.Node{{Name: "west"}, {Name: "core"}, {Name: "east"}}
	path := &policy.Tunnel{Name: "path", Kind: policy.MPLS, Labels: 1, Through: nodes}
	port := func(n int) *policy.Interface {
		return &policy.Interface{Node: nodes[n], Framing: packet.FramingEthernet()}
	}
	hops := []route.Hop{{In: port(0), Out: port(0), Tunnel: path}, {In: port(1), Out: port(1), Tunnel: path}, {In: port(2), Out: port(2)}}
	var p packet.Packet
	p.Build(make([]byte, packet.HeaderRoom), packet.Flow{From: netip.MustParseAddr("10.1.0.8"), To: netip.MustParseAddr("10.2.0.8"), Protocol: packet.UDP}, codepoint.EF, 200, 0)
	var inside tunnel.Inside
	for _, c := range tunnel.Crossings(hops) {
		c.Enter(&p, &inside)
		// the incoming policy
		c.Forward(&p, &inside)
		// the outgoing policy
		c.Leave(&p, &inside)
		fmt.Println("leaves", c.Out.Node.Name, "under the labels", p.LabelClasses())
	}
	// Output:
	// leaves west under the labels [5]
	// leaves core under the labels []
	// leaves east under the labels []
}
