// Package tunnel is what a node does with the headers around a packet: VLAN tags
// that are kept, put on or taken off, labels that are pushed and popped, and outer
// IP headers. It rewrites the packet's own bytes, so that what `explain` says, what
// a rehearsal does and what its captures show are one.
//
// A packet crosses a node in this order: Enter, the incoming policy, Forward, the
// outgoing policy, Leave.
package tunnel

import (
	"net/netip"
	"slices"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/route"
)

// A Crossing is what a node does with the packets of one route between two of its
// interfaces. It is only read once made.
type Crossing struct { // what every packet touches comes first
	plain    bool    // no tunnel and no address changes anything here
	first    bool    // the packet enters the network here
	switched bool    // the node forwards by label
	back     bool    // begins is gone through from its end to its start
	tags     int8    // of the frames that leave
	number   int32   // of In
	own      *uint16 // the VLAN of Out, where it has one

	In, Out *policy.Interface
	Tunnel  *policy.Tunnel // the packet is in it when it leaves; nil: none

	ends   *policy.Tunnel // at this node
	begins *policy.Tunnel // at this node
	pops   *policy.Tunnel // this node takes the topmost label off as the packet leaves
	// Addresses that are translated: leaving by Out, the source becomes one of leaves; a packet that goes to hosts behind an interface further on has one
	// of hides as its destination from the first node on, until this is the node where it comes in by that interface, shows.
	leaves, hides, shows *policy.Interface
}

// Crossings returns what each node of a route does.
func Crossings(hops []route.Hop) []Crossing {
	out := make([]Crossing, len(hops))
	var before *policy.Tunnel
	for i, h := range hops {
		c := Crossing{In: h.In, Out: h.Out, Tunnel: h.Tunnel, first: i == 0, number: int32(h.In.Number), tags: int8(h.Out.Framing.Tags), own: h.Out.VLAN}
		if before != nil && before != h.Tunnel {
			c.ends = before
		}
		if h.Tunnel != nil && h.Tunnel != before {
			c.begins, c.back = h.Tunnel, h.Back
		}
		c.switched = before != nil && c.ends == nil && before.Kind == policy.MPLS
		if t := h.Tunnel; t != nil && t.Kind == policy.MPLS && t.Pop == policy.Penultimate && hops[i+1].Tunnel != t {
			c.pops = t
		}
		out[i] = c
		before = h.Tunnel
	}
	translations(out)
	for i := range out {
		c := &out[i]
		c.plain = c.ends == nil && c.begins == nil && c.pops == nil && c.leaves == nil && c.hides == nil && c.shows == nil && !c.switched
	}
	return out
}

// translations notes where addresses are translated on a route: not those of nodes themselves, and not within tunnels.
func translations(route []Crossing) {
	last := len(route) - 1
	for i := range route {
		c := &route[i]
		if i < last && c.Out.NAT != policy.NoNAT && c.Tunnel == nil && !c.In.Own {
			c.leaves = c.Out
		}
		if i > 0 && c.In.NAT != policy.NoNAT && route[i-1].Tunnel == nil && !c.Out.Own && route[0].hides == nil {
			c.shows, route[0].hides = c.In, c.In
		}
	}
}

// Leaves returns the interface whose address the source becomes as packets leave, nil where it stays; and Shows the one by which packets come in whose
// destination becomes that of the host again.
func (c *Crossing) Leaves() *policy.Interface { return c.leaves }

// Shows returns the interface by which packets come in whose destination becomes that of the host again; nil where it stays.
func (c *Crossing) Shows() *policy.Interface { return c.shows }

// show gives a packet the address of its host again.
func (c *Crossing) show(p *packet.Packet, in *Inside) {
	if in != nil && in.to.IsValid() && !in.full {
		p.SetTo(in.to)
		in.to = netip.Addr{}
	}
}

// leave gives a packet the address of the interface by which it leaves.
func (c *Crossing) leave(p *packet.Packet) {
	if a, ok := c.leaves.Translated(p.Flow.From); ok {
		p.SetFrom(a)
	}
}

// Inside is what an outer IP header hides of a packet. The zero Inside is nothing.
type Inside struct {
	inner packet.Packet
	full  bool
	to    netip.Addr // of the host that the packet goes to, while another address stands for it
}

// Hides reports whether the packet is under an outer IP header.
func (i *Inside) Hides() bool { return i != nil && i.full }

// Packet returns the packet that is hidden.
func (i *Inside) Packet() *packet.Packet { return &i.inner }

// Clone returns a copy that shares nothing with it; of nil, nil.
func (i *Inside) Clone() *Inside {
	if i == nil {
		return nil
	}
	c := *i
	c.inner.Bytes = slices.Clone(i.inner.Bytes)
	return &c
}

// Length returns the length of the IP packet that is hidden.
func (i *Inside) Length() int { return i.inner.Length }

// Ends returns the tunnel that ends at the node, or nil.
func (c *Crossing) Ends() *policy.Tunnel { return c.ends }

// Back reports whether the tunnel that begins at the node is gone through from its end to its start.
func (c *Crossing) Back() bool { return c.back }

// Begins returns the tunnel that begins at the node, or nil.
func (c *Crossing) Begins() *policy.Tunnel { return c.begins }

// Host returns the address of the host that a packet goes to while another stands for it; invalid: its own does.
func (i *Inside) Host() netip.Addr {
	if i == nil {
		return netip.Addr{}
	}
	return i.to
}

// Enter prepares a packet for the incoming policy. The Inside is needed where Wraps says so.
func (c *Crossing) Enter(p *packet.Packet, in *Inside) {
	p.In = c.number
	if c.plain {
		p.LabelSwitched = false
		return
	}
	if c.hides != nil {
		if a, ok := c.hides.Translated(p.Flow.To); ok && a != p.Flow.To {
			in.to = p.Flow.To
			p.SetTo(a)
		}
	}
	if c.shows != nil && c.shows.NAT == policy.AfterPolicy {
		c.show(p, in)
	}
	p.LabelSwitched = c.switched && p.Labels() > 0
}

// Forward prepares a packet for the outgoing policy, which sees the frame as it
// leaves: with its tag, and out of a tunnel that ends here unless its model is pipe.
// A tunnel that begins here comes after the policy, which decides where it still
// sees the packet; how much longer the packet will be is noted in it.
func (c *Crossing) Forward(p *packet.Packet, in *Inside) {
	if c.plain {
		if c.first && p.Labels() > 0 { // a capture's labels end where it enters
			p.DropLabels()
		}
		c.tag(p)
		return
	}
	if c.shows != nil && c.shows.NAT == policy.BeforePolicy {
		c.show(p, in)
	}
	if c.leaves != nil && c.leaves.NAT == policy.BeforePolicy {
		c.leave(p)
	}
	if c.first && p.Labels() > 0 { // a capture's labels end where it enters
		p.DropLabels()
	}
	if c.ends != nil && c.ends.Model != policy.Pipe {
		c.unwrap(p, in)
	}
	c.tag(p)
	if c.ends != nil && c.ends.Model == policy.Pipe {
		p.GrowsLabels -= int8(p.Labels())
		if in.Hides() {
			p.GrowsBy += int32(in.inner.Length - p.Length)
		}
	}
	if t := c.begins; t != nil {
		if t.Kind == policy.MPLS {
			p.GrowsLabels += int8(t.Labels)
		} else {
			length := p.Length + int(p.GrowsBy)
			p.GrowsBy += int32(c.outerLength(length) - length)
		}
	}
	if c.pops != nil {
		p.GrowsLabels--
	}
}

// Leave does what comes after the outgoing policy: labels and outer headers put on
// or taken off.
func (c *Crossing) Leave(p *packet.Packet, in *Inside) {
	p.GrowsBy, p.GrowsLabels = 0, 0
	if c.plain {
		p.PushedTC = 0
		return
	}
	if c.leaves != nil && c.leaves.NAT == policy.AfterPolicy {
		c.leave(p)
	}
	if c.ends != nil && c.ends.Model == policy.Pipe {
		c.unwrap(p, in)
	}
	if c.begins != nil {
		c.wrap(p, in)
	}
	if c.pops != nil {
		pop(p, c.pops.Model == policy.Uniform)
	}
	p.PushedTC = 0
}

// Wraps reports whether the crossing puts packets under an outer header, or takes
// them out of one: then it needs an Inside.
func (c *Crossing) Wraps() bool {
	return c.begins != nil && c.begins.Kind != policy.MPLS || c.ends != nil && c.ends.Kind != policy.MPLS || c.hides != nil
}

// tag makes the frame's VLAN tags those of the interface it leaves by. A routing
// interface has a VLAN of its own. A switching one keeps the tags that there are;
// new ones are of the default VLAN and priority 0.
func (c *Crossing) tag(p *packet.Packet) {
	count, own := int(c.tags), c.own
	if count == 0 && !p.Tagged || count == 1 && own == nil && p.Tagged && len(p.Tags()) == 1 {
		return
	}
	if count == 0 {
		p.SetTags(nil)
		return
	}
	had := p.Tags()
	tags := make([]packet.Tag, count)
	for i := range tags {
		switch {
		case i == 0 && own != nil:
			tags[i] = packet.Tag{VLAN: *own}
		case i < len(had):
			tags[i] = had[i]
		default:
			tags[i] = packet.Tag{VLAN: policy.DefaultVLAN}
		}
	}
	p.SetTags(tags)
}

// outer returns the addresses of an outer header.
func (c *Crossing) outer() (from, to netip.Addr) {
	from, to = c.begins.From, c.begins.To
	if c.back {
		from, to = to, from
	}
	if !from.IsValid() || !to.IsValid() || from.Is4() != to.Is4() {
		return netip.IPv4Unspecified(), netip.IPv4Unspecified()
	}
	return from, to
}

// maxIP is the length of the longest IP packet.
const maxIP = 65535

// outerLength returns the length of the outer IP packet around one of a length.
func (c *Crossing) outerLength(length int) int {
	header := 20
	if from, _ := c.outer(); from.Is6() {
		header = 40
	}
	if c.begins.Kind == policy.IPsec {
		return min(header+packet.ESPLength(length), maxIP)
	}
	return min(header+packet.GREHeader+length, maxIP)
}

// wrap puts the packet into the tunnel that begins here: the upper bits of the DSCP
// go to every label pushed (RFC 3270), the DSCP into the outer header (RFC 2983).
func (c *Crossing) wrap(p *packet.Packet, in *Inside) {
	if c.begins.MSS > 0 {
		p.LimitMSS(c.begins.MSS)
	}
	if t := c.begins; t.Kind == policy.MPLS {
		tc := p.DSCP().TC()
		for n := 1; n <= t.Labels; n++ {
			if n == t.Labels && p.PushedTC > 0 {
				tc = p.PushedTC - 1
			}
			p.PushLabel(tc)
		}
		return
	}
	in.inner, in.full = *p, true
	protocol := uint8(packet.GRE)
	if c.begins.Kind == policy.IPsec {
		protocol = packet.ESP
	}
	from, to := c.outer()
	tags, whole := p.Tags(), p.DontFragment() && !c.begins.ClearDF
	outer := packet.Packet{Owner: p.Owner, In: p.In, Next: p.Next, Arrived: p.Arrived, Size: p.Size, Slot: p.Slot}
	outer.Encapsulate(&in.inner, packet.Flow{From: from, To: to, Protocol: protocol}, c.outerLength(p.Length))
	outer.Next, outer.Arrived, outer.Size, outer.Slot = p.Next, p.Arrived, p.Size, p.Slot
	if !whole {
		outer.MayFragment()
	}
	*p = outer
	p.SetTags(tags)
}

// unwrap takes the packet out of the tunnel that ends here; the uniform model
// carries the outer marking down to it.
func (c *Crossing) unwrap(p *packet.Packet, in *Inside) {
	uniform := c.ends.Model == policy.Uniform
	for p.Labels() > 0 {
		pop(p, uniform)
	}
	if !in.Hides() {
		return
	}
	outer := *p
	*p = in.inner
	p.Owner, p.In, p.Next, p.Arrived, p.Size, p.Slot = outer.Owner, outer.In, outer.Next, outer.Arrived, outer.Size, outer.Slot
	p.GrowsBy, p.GrowsLabels, p.PushedTC, p.LabelSwitched = outer.GrowsBy, outer.GrowsLabels, outer.PushedTC, outer.LabelSwitched
	in.full, in.inner = false, packet.Packet{}
	if uniform {
		p.SetDSCP(outer.DSCP())
	}
	if outer.ECN() == 3 { // RFC 6040 §4.2
		p.CongestionExperienced()
	}
	p.SetTags(outer.Tags())
}

// pop takes the topmost label off. In the uniform model its traffic class goes
// to the label below, or into the DSCP: where the upper three bits are what they
// were, the DSCP stays; otherwise it becomes the class selector.
func pop(p *packet.Packet, uniform bool) {
	tc, ok := p.PopLabel()
	switch {
	case !ok || !uniform:
	case p.Labels() > 0:
		p.SetTC(tc)
	case p.DSCP().TC() != tc:
		p.SetDSCP(codepoint.DSCP(tc << 3))
	}
}
