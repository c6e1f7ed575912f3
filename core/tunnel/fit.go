package tunnel

import (
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
)

// A Fitting is what a node does with a packet by its length.
type Fitting uint8

// What a node does. Fits is the zero Fitting.
const (
	Fits           Fitting = iota
	Divided                // before the outgoing policy (RFC 791 §3.2; for a GRE tunnel RFC 7588 §3.1)
	DividedLeaving         // as it leaves, with the outer header if it gets one (RFC 4301 §8.1)
	TooLarge               // it is dropped, and its sender may be told (RFC 1191 §4, RFC 8201 §3)
)

// Fit returns what the node does with a packet that Forward prepared, where the longest IP packet that may leave has so many bytes, labels included.
// most is how long the parts may be, or what the sender is told.
func (c *Crossing) Fit(p *packet.Packet, in *Inside, limit int) (f Fitting, most int) {
	labels := 4 * (p.Labels() + int(p.GrowsLabels))
	if p.Length+int(p.GrowsBy)+labels <= limit {
		return Fits, 0
	}
	own, leaving := p, false // the packet without what this node takes off as it leaves
	if c.ends != nil && in.Hides() {
		own, leaving = &in.inner, true
	}
	t := c.begins
	if t == nil || t.Kind == policy.MPLS {
		switch {
		case own.DontFragment():
			return TooLarge, limit - labels
		case leaving:
			return DividedLeaving, limit - labels
		}
		return Divided, limit - labels
	}
	most = c.Within(limit)
	switch {
	case t.ClearDF || !own.DontFragment() && (t.Kind == policy.IPsec || leaving):
		return DividedLeaving, limit
	case own.DontFragment():
		return TooLarge, most
	}
	return Divided, most
}

// Within returns the length of the longest packet that fits the tunnel that begins at the node, where the outer one may have so many bytes.
func (c *Crossing) Within(limit int) int {
	header := packet.IPv4Header
	if from, _ := c.outer(); from.Is6() {
		header = packet.IPv6Header
	}
	if c.begins.Kind == policy.IPsec {
		return (limit-header-packet.ESPLength(-2))/4*4 - 2
	}
	return limit - header - packet.GREHeader
}
