package explain

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"time"

	"imbrel/core/codepoint"
	"imbrel/core/packet"
	"imbrel/core/policy"
)

// carried is a packet on its way, and what is around it: a tag, labels, or an
// outer IP header.
type carried struct {
	inner    packet.Packet
	apps     []uint64
	in       int32
	at       time.Time
	detail   bool
	blocked  bool
	switched bool // forwarded by its label
	captured bool // its labels, if any, end at the node it enters

	tagged    bool
	pcp       uint8
	vlan      uint16
	pcpMarked bool

	labels []uint8 // traffic classes, the topmost last
	outer  *packet.Packet
	begin  *policy.Tunnel // that begins at this node
	seen   *packet.Packet // the frame as the policy saw it
	topTC  *uint8         // that a policy asked for on the label to be pushed
}

// visible returns the packet with the outermost IP header.
func (c *carried) visible() *packet.Packet {
	if c.outer != nil {
		return c.outer
	}
	return &c.inner
}

func (c *carried) visibleDSCP() codepoint.DSCP { return c.visible().DSCP() }

// defaultPCP returns the priority code point for a new tag: of the topmost
// label, else of the DSCP.
func (c *carried) defaultPCP() uint8 {
	if n := len(c.labels); n > 0 {
		return c.labels[n-1]
	}
	return c.visibleDSCP().PCP()
}

// frame returns the packet as it is seen on a link: real bytes, which a policy
// classifies and rewrites.
func (c *carried) frame() *packet.Packet {
	p := c.visible()
	out := append(make([]byte, 0, 160), p.Bytes[:12]...)
	if c.tagged {
		out = binary.BigEndian.AppendUint16(out, packet.TypeVLAN)
		out = binary.BigEndian.AppendUint16(out, uint16(c.pcp)<<13|c.vlan)
	}
	if n := len(c.labels); n > 0 {
		out = binary.BigEndian.AppendUint16(out, packet.TypeMPLS)
		for i := n - 1; i >= 0; i-- {
			label := uint32(16+i)<<12 | uint32(c.labels[i])<<9 | 64
			if i == 0 {
				label |= 1 << 8
			}
			out = binary.BigEndian.AppendUint32(out, label)
		}
	} else {
		out = binary.BigEndian.AppendUint16(out, p.EtherType)
	}
	before := len(out)
	out = append(out, p.Network()...)
	q := &packet.Packet{}
	_ = q.Parse(out, before+p.Length) // our own bytes
	q.Flow, q.HasPorts, q.LaterFragment = p.Flow, p.HasPorts, p.LaterFragment
	q.In, q.LabelSwitched = c.in, c.switched && len(c.labels) > 0
	if c.outer == nil {
		q.Apps = c.apps
	}
	return q
}

// take takes over the marks of a frame that a policy has rewritten.
func (c *carried) take(q *packet.Packet) {
	c.visible().SetDSCP(q.DSCP())
	if pcp, ok := q.PCP(); ok {
		c.pcp = pcp
	}
	if tc, ok := q.TC(); ok && len(c.labels) > 0 {
		c.labels[len(c.labels)-1] = tc
	}
}

// marks returns what can be seen on the link.
func (c *carried) marks() Marks {
	m := Marks{DSCP: c.visibleDSCP().Name()}
	if c.tagged {
		pcp := c.pcp
		m.PCP = &pcp
	}
	if n := len(c.labels); n > 0 {
		tc := c.labels[n-1]
		m.TC = &tc
	}
	return m
}

// outerHeader describes the outer IP header, or is "" when there is none.
func (c *carried) outerHeader() string {
	if c.outer == nil {
		return ""
	}
	f := c.outer.Flow
	ends := "addresses not given"
	if !f.From.IsUnspecified() {
		ends = fmt.Sprintf("%s to %s", f.From, f.To)
	}
	return fmt.Sprintf("%s, %s, %d bytes, %s", policy.ProtocolName(f.Protocol), ends, c.outer.Length, DSCP(c.outer.DSCP()))
}

// stack returns the labels' traffic classes, the topmost first.
func (c *carried) stack() []uint8 {
	out := make([]uint8, 0, len(c.labels))
	for i := len(c.labels) - 1; i >= 0; i-- {
		out = append(out, c.labels[i])
	}
	return out
}

// wrap puts the packet into a tunnel: the DSCP goes to every label pushed (RFC
// 3270), or into the outer header (RFC 2983).
func (c *carried) wrap(t *policy.Tunnel, back bool) {
	c.begin = nil
	if t.Kind == "mpls" {
		tc := c.inner.DSCP().TC()
		for range t.Labels {
			c.labels = append(c.labels, tc)
		}
		if c.topTC != nil {
			c.labels[len(c.labels)-1] = *c.topTC
			c.topTC = nil
		}
		return
	}
	from, to := t.From, t.To
	if back {
		from, to = to, from
	}
	if !from.IsValid() || !to.IsValid() || from.Is4() != to.Is4() {
		from, to = netip.IPv4Unspecified(), netip.IPv4Unspecified()
	}
	protocol, length := uint8(packet.GRE), c.inner.Length+4
	if t.Kind == "ipsec" {
		// ESP in tunnel mode with AES-GCM (RFC 4106): header 8, IV 8, padding and
		// trailer to 4, check value 16.
		protocol, length = packet.ESP, 8+8+(c.inner.Length+2+3)/4*4+16
	}
	header := 20
	if from.Is6() {
		header = 40
	}
	c.outer = &packet.Packet{}
	c.outer.Build(make([]byte, packet.HeaderRoom), packet.Flow{From: from, To: to, Protocol: protocol}, c.inner.DSCP(), min(header+length, 65535), 0)
}

// unwrap takes the packet out of a tunnel; the uniform model carries the outer
// marking down to it.
func (c *carried) unwrap(t *policy.Tunnel) {
	uniform := t.Model == "uniform"
	for len(c.labels) > 0 {
		c.pop(uniform)
	}
	if c.outer != nil {
		if uniform {
			c.inner.SetDSCP(c.outer.DSCP())
		}
		c.outer = nil
	}
}

// pop takes the topmost label off. In the uniform model its traffic class goes
// to the label below, or into the DSCP: where the upper three bits are what they
// were, the DSCP stays; otherwise it becomes the class selector.
func (c *carried) pop(uniform bool) {
	n := len(c.labels)
	if n == 0 {
		return
	}
	tc := c.labels[n-1]
	c.labels = c.labels[:n-1]
	switch {
	case !uniform:
	case n > 1:
		c.labels[n-2] = tc
	case c.inner.DSCP().TC() != tc:
		c.inner.SetDSCP(codepoint.DSCP(tc << 3))
	}
}
