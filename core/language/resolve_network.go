package language

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
)

// network puts the network together: the nodes, their interfaces, the links, those
// written at an interface among them, and the tunnels.
func (s *resolver) network() {
	lines := &s.doc.network
	n := &s.f.Network
	n.Source, n.Links, n.Tunnels, n.Bundles = lines.Source, lines.links, lines.tunnels, lines.bundles
	n.Nodes = make([]policy.Node, len(lines.nodes))
	unique(s, "nodes", lines.nodes, func(n *nodeLines) (string, policy.Place) { return n.Name, n.PlaceOf("name") })
	s.nodes = make(map[string]*policy.Node, len(n.Nodes))
	s.interfaces = make(map[string]*policy.Interface)
	s.subnets = make(map[netip.Prefix]*policy.Interface)
	for i := range lines.nodes {
		node := &n.Nodes[i]
		*node = lines.nodes[i].Node
		if _, twice := s.nodes[node.Name]; !twice {
			s.nodes[node.Name] = node
		}
		own := lines.nodes[i].interfaces
		unique(s, "interfaces of `"+node.Name+"`", own, func(i *interfaceLine) (string, policy.Place) { return i.Name, i.PlaceOf("name") })
		for j := range own {
			s.addInterface(node, &own[j].Interface)
		}
	}
	for i := range n.Nodes {
		s.self(&n.Nodes[i])
	}
	for i := range lines.nodes {
		for j := range lines.nodes[i].interfaces {
			if l := &lines.nodes[i].interfaces[j]; l.link != nil {
				s.siteLink(&l.Interface, l.link)
			}
		}
	}
	for _, l := range n.Links {
		s.link(l)
	}
	s.tunnels()
	s.bundles()
	number, sound := 0, s.sound("network")
	for i := range n.Nodes {
		for _, iface := range n.Nodes[i].Interfaces {
			number++
			iface.Number = number
			if sound && iface.Link == nil && len(iface.Subnets) == 0 {
				s.problem(iface.At, 0, "join it to another with an entry in `links`, or say which `subnets` its hosts are in", "the interface %s leads nowhere", iface.Path())
			}
		}
	}
}

// self gives a node whose interfaces have addresses the interface that leads to itself.
func (s *resolver) self(node *policy.Node) {
	self := policy.Interface{Name: policy.Self, Rate: policy.SelfRate, Own: true}
	for _, iface := range node.Interfaces {
		for _, a := range iface.Address {
			self.At = iface.PlaceOf("address")
			self.Subnets = append(self.Subnets, netip.PrefixFrom(a, a.BitLen()))
		}
	}
	if len(self.Subnets) == 0 {
		return
	}
	if other := s.interfaces[node.Name+"/"+policy.Self]; other != nil {
		s.problem(other.PlaceOf("name"), len(other.Name), "give it another name", "`self` of `%s` is the node itself, since its interfaces have addresses", node.Name)
		return
	}
	s.addInterface(node, &self)
}

func (s *resolver) addInterface(node *policy.Node, iface *policy.Interface) {
	iface.Node = node
	if iface.Framing == (packet.Framing{}) {
		iface.Framing = packet.FramingEthernet()
	}
	if iface.VLAN != nil && iface.Framing.Tags == 0 && s.sound("network") {
		s.problem(iface.PlaceOf("vlan"), 0, "give it a `framing` such as ethernet-vlan", "`vlan` needs a framing with a tag, and %s has %s", iface.Path(), iface.Framing.Name)
	}
	if iface.NAT != policy.NoNAT && len(iface.Address) == 0 && !has(iface, "address") {
		s.problem(iface.PlaceOf("nat"), 0, "give it the `address` that hosts behind it have beyond it", "%s translates addresses, and has none", iface.Path())
	}
	node.Interfaces = append(node.Interfaces, iface)
	if _, twice := s.interfaces[iface.Path()]; !twice {
		s.interfaces[iface.Path()] = iface
		s.paths = append(s.paths, iface.Path())
	}
	for _, p := range iface.Subnets {
		if other, twice := s.subnets[p]; twice {
			s.problem(iface.PlaceOf("subnets"), 0, "a subnet is at one interface", "the subnet %s is already at %s", p, other.Path())
		}
		s.subnets[p] = iface
		s.prefixes[p.Bits()] = true
	}
}

// siteLink makes the link that is written at an interface, and the interface at its
// other end, which has the name of this node and is as this one.
func (s *resolver) siteLink(iface *policy.Interface, l *siteLink) {
	hub := s.nodes[l.to.Text]
	if hub == nil {
		s.unknown(l.to, "node", namesOf(s.f.Network.Nodes, func(n *policy.Node) string { return n.Name }))
		s.paths = append(s.paths, "") // that of the interface that is not made
		return
	}
	far := &policy.Interface{Source: policy.Source{At: l.At}, Name: iface.Node.Name, Rate: iface.Rate, Framing: iface.Framing, VLAN: iface.VLAN, MTU: iface.MTU, Ring: iface.Ring}
	if other := s.interfaces[hub.Name+"/"+far.Name]; other != nil {
		s.problem(l.to.At, len(l.to.Text), "join the two with an entry in `links`, which names both interfaces", "the link makes the interface %s/%s, and there is one in line %d", hub.Name, far.Name, other.At.Line)
		return
	}
	s.addInterface(hub, far)
	s.f.Network.Links = append(s.f.Network.Links, &policy.Link{Source: l.Source, Delay: l.delay, Loss: l.loss, Jitter: l.jitter, MTU: l.mtu, Cost: l.cost, HalfDuplex: l.halfDuplex.rate, TurnAround: l.halfDuplex.turn, Ends: []policy.LinkEnd{
		{Source: l.Source, AtName: policy.Ref{Text: iface.Path(), At: l.At}, Sends: l.sends, Buffer: l.buffer, Framing: l.framing, Contract: l.contract},
		{Source: l.Source, AtName: policy.Ref{Text: far.Path(), At: l.At}, Sends: l.receives, Buffer: l.buffer, Framing: l.framing, Contract: l.delivers},
	}})
}

func (s *resolver) link(l *policy.Link) {
	if len(l.Ends) != 2 {
		if has(l, "ends") {
			s.problem(l.PlaceOf("ends"), 0, "a link joins two interfaces", "a link has two ends, not %d", len(l.Ends))
		}
		return
	}
	if o := &l.Loss; o.Burst > 0 && o.Part > o.Burst*(1-o.Part) {
		s.problem(o.PlaceOf("burst"), 0, "give a longer burst, or lose less", "with %g %% of the packets lost, losses come in longer bursts than %g", 100*o.Part, o.Burst)
	}
	if l.HalfDuplex > 0 && (l.Ends[0].Sends > 0 || l.Ends[1].Sends > 0) {
		s.problem(l.PlaceOf("half-duplex"), 0, "keep one of them", "both directions share %s, so none has a rate of its own", l.HalfDuplex)
	}
	var ends [2]*policy.Interface
	for i := range l.Ends {
		end := &l.Ends[i]
		if end.Buffer == 0 {
			end.Buffer = policy.DefaultBuffer
		}
		s.contract(l, end.Contract)
		iface := s.interfaces[end.AtName.Text]
		if iface == nil {
			s.unknown(end.AtName, "interface", s.paths)
			continue
		}
		if iface.Link != nil {
			s.problem(end.AtName.At, len(end.AtName.Text), fmt.Sprintf("the other is in line %d; an interface has one link", iface.Link.At.Line), "%s is already the end of a link", iface.Path())
			continue
		}
		ends[i], end.Interface = iface, iface
	}
	if ends[0] == nil || ends[1] == nil || ends[0] == ends[1] {
		if ends[0] != nil && ends[0] == ends[1] {
			s.problem(l.PlaceOf("ends"), 0, "a link joins two interfaces", "both ends of the link are %s", ends[0].Path())
		}
		return
	}
	for i, iface := range ends {
		iface.Link, iface.End = l, i
		iface.MTU = cmp.Or(iface.MTU, l.MTU)
	}
}

// contract checks what was bought, and finishes it.
func (s *resolver) contract(l *policy.Link, lines []policy.ContractLine) {
	named := make(map[codepoint.DSCP]bool)
	for i := range lines {
		c := &lines[i]
		peak, excess := has(c, "peak"), has(c, "excess")
		switch {
		case l.HalfDuplex > 0:
			s.problem(c.At, 0, "keep one of them", "a medium for both directions has no contract")
			return
		case peak && excess:
			s.problem(c.PlaceOf("excess"), 0, "keep one of them", "`peak` and `excess` both say how much is yellow")
		case excess && !has(c, "excess-burst"):
			s.problem(c.PlaceOf("excess"), 0, "give `excess-burst` too (RFC 4115)", "`excess` needs the key `excess-burst` beside it")
		case !excess:
			s.reader.buckets(c)
		}
		if peak && c.Peak.Rate > 0 && c.Peak.Rate < c.Rate.Rate {
			s.problem(c.PlaceOf("peak"), 0, "raise the peak", "the peak %s is below the rate %s", c.Peak.Rate, c.Rate.Rate)
		}
		if excess {
			c.Peak.Rate += c.Rate.Rate
		}
		if !has(c, "red") {
			c.Red.Drop = true
		}
		if has(c, "by") && !has(c, "aware") {
			s.problem(c.PlaceOf("by"), 0, "write `aware: true` too, or remove it", "`by` means nothing to a contract that is not aware of colours")
		}
		for _, a := range []*policy.Action{&c.Green, &c.Yellow, &c.Red} {
			s.mark(a.Mark)
		}
		for _, d := range c.DSCPs {
			if named[d] {
				s.problem(c.PlaceOf("dscp"), 0, "name each code point once", "%s is in two lines of the contract", d.Name())
			}
			named[d] = true
		}
		switch last := i == len(lines)-1; {
		case last && len(c.DSCPs) > 0 && s.sound("network"):
			s.problem(c.PlaceOf("dscp"), 0, "add a line without `dscp`: what the others get", "the last line of a contract is for all code points that no other line names")
		case !last && len(c.DSCPs) == 0 && s.sound("network"):
			s.problem(c.At, 0, "give it `dscp`, or put it last", "a line without `dscp` takes all, so the lines after it take nothing")
		}
	}
}

func (s *resolver) bundles() {
	n := &s.f.Network
	unique(s, "bundles", n.Bundles, func(b *policy.Bundle) (string, policy.Place) { return b.Name, b.PlaceOf("name") })
	in := make(map[*policy.Link]string)
	for i := range n.Bundles {
		b := &n.Bundles[i]
		for _, ref := range b.MemberNames {
			iface := s.interfaces[ref.Text]
			switch {
			case iface == nil:
				s.unknown(ref, "interface", s.paths)
			case iface.Peer() == nil:
				if s.sound("network") {
					s.problem(ref.At, len(ref.Text), "name interfaces whose links lead to one other node", "no link ends at %s", ref.Text)
				}
			case len(b.Members) > 0 && (iface.Node != b.Members[0].Node || iface.Peer().Node != b.Members[0].Peer().Node):
				s.problem(ref.At, len(ref.Text), "a bundle is of links between the same two nodes", "%s leads from `%s` to `%s`, and %s from `%s` to `%s`", ref.Text, iface.Node.Name, iface.Peer().Node.Name, b.Members[0].Path(), b.Members[0].Node.Name, b.Members[0].Peer().Node.Name)
			case in[iface.Link] != "":
				s.problem(ref.At, len(ref.Text), "name each link once", "the link of %s is in the bundle `%s` already", ref.Text, in[iface.Link])
			default:
				b.Members = append(b.Members, iface)
				in[iface.Link] = b.Name
			}
		}
		if len(b.MemberNames) < 2 && has(b, "members") && s.sound("network") {
			s.problem(b.PlaceOf("members"), 0, "name two or more", "a bundle of %d links shares nothing", len(b.MemberNames))
		}
	}
}

func (s *resolver) tunnels() {
	n := &s.f.Network
	unique(s, "tunnels", n.Tunnels, func(t *policy.Tunnel) (string, policy.Place) { return t.Name, t.PlaceOf("name") })
	for i := range n.Tunnels {
		t := &n.Tunnels[i]
		for _, ref := range t.ThroughName {
			node := s.nodes[ref.Text]
			switch {
			case node == nil:
				s.unknown(ref, "node", namesOf(n.Nodes, func(n *policy.Node) string { return n.Name }))
			case slices.Contains(t.Through, node):
				s.problem(ref.At, len(ref.Text), "name each node once", "the tunnel `%s` goes through `%s` twice", t.Name, ref.Text)
			default:
				t.Through = append(t.Through, node)
			}
		}
		if len(t.Through) != len(t.ThroughName) {
			t.Through = nil
			continue
		}
		if t.ThroughName != nil && len(t.Through) < 2 {
			s.problem(t.PlaceOf("through"), 0, "name the nodes from its start to its end", "the tunnel `%s` does not have two ends", t.Name)
		}
		for j := 1; j < len(t.Through) && s.sound("network"); j++ {
			if t.Through[j-1].Towards(t.Through[j]) == nil {
				s.problem(t.ThroughName[j].At, len(t.ThroughName[j].Text), "join them with an entry in `links`, or name the nodes between them", "no link joins `%s` and `%s`", t.Through[j-1].Name, t.Through[j].Name)
			}
		}
		s.tunnelKeys(t)
	}
}

// tunnelKeys checks that each key belongs to the kind, and sets what is not
// given.
func (s *resolver) tunnelKeys(t *policy.Tunnel) {
	mpls := t.Kind == policy.MPLS
	for _, k := range []struct {
		name   string
		ofMPLS bool
	}{{"labels", true}, {"pop", true}, {"from", false}, {"to", false}, {"df", false}} {
		if has(t, k.name) && k.ofMPLS != mpls && s.sound("network") {
			s.problem(t.PlaceOf(k.name), 0, "remove it", "`%s` means nothing to a tunnel of kind %s", k.name, t.Kind)
		}
	}
	for _, key := range []string{"replay-window", "sa-per"} {
		if has(t, key) && t.Kind != policy.IPsec && s.sound("network") {
			s.problem(t.PlaceOf(key), 0, "remove it", "`%s` means nothing to a tunnel of kind %s", key, t.Kind)
		}
	}
	if t.Kind == policy.IPsec && !has(t, "replay-window") {
		t.Window = policy.DefaultWindow
	}
	if mpls {
		t.Labels = max(t.Labels, 1)
	}
}

// devices checks that each device is a node, and is there once.
func (s *resolver) devices() {
	unique(s, "devices", s.f.Devices, func(d *policy.Device) (string, policy.Place) { return d.Name, d.At })
	for i := range s.f.Devices {
		if d := &s.f.Devices[i]; s.nodes[d.Name] == nil {
			s.unknown(policy.Ref{Text: d.Name, At: d.At}, "node", namesOf(s.f.Network.Nodes, func(n *policy.Node) string { return n.Name }))
		}
	}
}

// interfaceOf returns the interface at which an address is, by the longest prefix
// of all subnets, or nil.
func (s *resolver) interfaceOf(a netip.Addr) *policy.Interface {
	for bits := a.BitLen(); bits >= 0; bits-- {
		if !s.prefixes[bits] {
			continue
		}
		if p, err := a.Prefix(bits); err == nil {
			if iface := s.subnets[p]; iface != nil {
				return iface
			}
		}
	}
	return nil
}
