package packet

import (
	"encoding/binary"
	"slices"
)

// A Tag is an 802.1Q VLAN tag.
type Tag struct {
	VLAN uint16
	PCP  uint8
	DEI  bool
}

func (t Tag) control() uint16 {
	c := uint16(t.PCP)<<13 | t.VLAN&0x0fff
	if t.DEI {
		c |= 1 << 12
	}
	return c
}

// tagCount returns how many VLAN tags the frame has.
func (p *Packet) tagCount() int {
	n := 0
	for at := 12; at+4 <= len(p.Bytes); at += 4 {
		if kind := binary.BigEndian.Uint16(p.Bytes[at:]); kind != TypeVLAN && kind != TypeQinQ {
			break
		}
		n++
	}
	return n
}

// Tags returns the frame's VLAN tags, the outermost first.
func (p *Packet) Tags() []Tag {
	if !p.Tagged {
		return nil
	}
	tags := make([]Tag, p.tagCount())
	for i := range tags {
		c := binary.BigEndian.Uint16(p.Bytes[14+4*i:])
		tags[i] = Tag{VLAN: c & 0x0fff, PCP: uint8(c >> 13), DEI: c&(1<<12) != 0}
	}
	return tags
}

// SetTags replaces the frame's VLAN tags, the outermost first. It may move the
// frame to larger memory.
func (p *Packet) SetTags(tags []Tag) {
	had := 0
	if p.Tagged {
		had = p.tagCount()
	}
	p.splice(12, 4*had, 4*len(tags))
	for i, t := range tags {
		kind := uint16(TypeVLAN)
		if i == 0 && len(tags) > 1 {
			kind = TypeQinQ
		}
		binary.BigEndian.PutUint16(p.Bytes[12+4*i:], kind)
		binary.BigEndian.PutUint16(p.Bytes[14+4*i:], t.control())
	}
	if p.Tagged, p.VLAN, p.tag = len(tags) > 0, 0, 0; p.Tagged {
		p.VLAN, p.tag = tags[0].VLAN&0x0fff, 14
	}
}

// splice replaces had bytes of the frame at an offset by as many as are wanted; what
// comes after them moves.
func (p *Packet) splice(at, had, want int) {
	grow := want - had
	if grow == 0 {
		return
	}
	size := len(p.Bytes)
	if grow > 0 {
		p.Bytes = slices.Grow(p.Bytes, grow)[:size+grow]
		copy(p.Bytes[at+want:], p.Bytes[at+had:size])
		clear(p.Bytes[at : at+want])
	} else {
		copy(p.Bytes[at+want:], p.Bytes[at+had:])
		p.Bytes = p.Bytes[:size+grow]
	}
	move := func(offset *uint16) {
		if *offset != 0 && int(*offset) >= at+had {
			*offset = uint16(int(*offset) + grow)
		}
	}
	move(&p.network)
	move(&p.transport)
	move(&p.labels)
	if int(p.tag) >= at+had {
		move(&p.tag)
	}
}

// typeAt returns the offset of the EtherType after the VLAN tags.
func (p *Packet) typeAt() int {
	if !p.Tagged {
		return 12
	}
	return 12 + 4*p.tagCount()
}

// firstLabel is the label of the bottom of a pushed stack: the first that is not
// reserved (RFC 3032 §2.1).
const firstLabel = 16

// PushLabel puts an MPLS label of a traffic class on top of the stack. It does
// nothing to a packet that is not IP.
func (p *Packet) PushLabel(tc uint8) {
	if !p.IsIP() {
		return
	}
	at := p.typeAt()
	bottom := uint32(0)
	if p.depth == 0 {
		p.splice(at+2, int(p.network)-at-2, 0) // a PPPoE header
		binary.BigEndian.PutUint16(p.Bytes[at:], TypeMPLS)
		bottom = 1 << 8
	}
	p.splice(at+2, 0, 4)
	binary.BigEndian.PutUint32(p.Bytes[at+2:], uint32(firstLabel+int(p.depth))<<12|uint32(tc&7)<<9|bottom|64)
	p.labels = uint16(at + 2)
	p.depth++
}

// PopLabel takes the topmost label off and returns its traffic class, or false when
// there is none.
func (p *Packet) PopLabel() (tc uint8, ok bool) {
	tc, ok = p.TC()
	if !ok {
		return 0, false
	}
	at := int(p.labels)
	if p.depth == 1 {
		p.labels = 0
		binary.BigEndian.PutUint16(p.Bytes[p.typeAt():], p.EtherType)
	}
	p.splice(at, 4, 0)
	if p.depth--; p.depth > 0 {
		p.labels = uint16(at)
	}
	return tc, true
}

// LabelClasses returns the traffic classes of the label stack, the topmost first.
func (p *Packet) LabelClasses() []uint8 {
	classes := make([]uint8, p.depth)
	for i := range classes {
		classes[i] = p.Bytes[int(p.labels)+4*i+2] >> 1 & 7
	}
	return classes
}

// DropLabels takes off all labels, and a PPPoE session header: the frame is as a
// router sends it on.
func (p *Packet) DropLabels() {
	if at := p.typeAt(); p.IsIP() && int(p.network) != at+2 {
		p.labels, p.depth = 0, 0
		p.splice(at+2, int(p.network)-at-2, 0)
		binary.BigEndian.PutUint16(p.Bytes[at:], p.EtherType)
	}
}

// Encapsulate makes p the first bytes of an outer IP packet that carries the given
// one, in memory of its own: with GRE (RFC 2784) the inner packet follows, with ESP
// in tunnel mode (RFC 4303) it cannot be seen. length is that of the outer packet.
// Outer and inner packet have the same ECN field (RFC 6040 §4.1).
func (p *Packet) Encapsulate(inner *Packet, flow Flow, length int) {
	owner, in := p.Owner, p.In
	p.Build(make([]byte, HeaderRoom, HeaderRoom+16+len(inner.Network())), flow, inner.DSCP(), length, 0)
	p.setClass(p.trafficClass()&^3 | inner.ECN())
	at := int(p.network) + 20
	if flow.From.Is6() {
		at = int(p.network) + 40
	}
	b := p.Bytes[:at]
	if flow.Protocol == GRE {
		b = append(b, 0, 0)
		b = binary.BigEndian.AppendUint16(b, inner.EtherType)
		b = append(b, inner.Network()...)
	} else {
		b = append(b, 0, 0, 1, 0, 0, 0, 0, 1) // security parameters index, sequence number
	}
	_ = p.Parse(b, EthernetHeader+length)
	p.Owner, p.In = owner, in
}

// SetESP writes the security parameters index and the sequence number of an ESP header (RFC 4303 §2).
func (p *Packet) SetESP(index, sequence uint32) {
	if b := p.Transport(); p.Flow.Protocol == ESP && len(b) >= 8 {
		binary.BigEndian.PutUint32(b, index)
		binary.BigEndian.PutUint32(b[4:], sequence)
	}
}

// GREHeader is the length of a GRE header without options (RFC 2784 §2).
const GREHeader = 4

// ESPLength returns the length of an ESP header and what follows it, for an inner
// packet of a length, with AES-GCM (RFC 4106): header 8, initialisation vector 8,
// padding and trailer to 4, check value 16.
func ESPLength(inner int) int { return 8 + 8 + (inner+2+3)/4*4 + 16 }
