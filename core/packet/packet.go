// Package packet reads and rewrites packet headers as the bytes they are:
// Ethernet, 802.1Q, PPPoE sessions, MPLS label stacks, IPv4, IPv6 with its
// extension headers, TCP and UDP. Nothing is copied and nothing allocated;
// marks are rewritten in place with the checksum kept right.
package packet

import (
	"encoding/binary"
	"net/netip"
	"time"

	"imbrel.example/imbrel/core/codepoint"
)

// IP protocol numbers (IANA).
const (
	ICMP   = 1
	TCP    = 6
	UDP    = 17
	IPv4in = 4  // an IPv4 packet inside
	IPv6in = 41 // an IPv6 packet inside
	GRE    = 47
	ESP    = 50
	AH     = 51
	ICMPv6 = 58
	SCTP   = 132
)

// EtherTypes (IEEE).
const (
	TypeIPv4  = 0x0800
	TypeARP   = 0x0806
	TypeVLAN  = 0x8100
	TypeIPv6  = 0x86dd
	TypeMPLS  = 0x8847
	TypeMPLSm = 0x8848
	TypePPPoE = 0x8864
	TypeQinQ  = 0x88a8
)

// EthernetHeader is the length of an Ethernet header without tags.
const EthernetHeader = 14

// A Flow is what the packets of one conversation in one direction have in
// common. It is comparable; the zero Flow belongs to packets that are not IP.
type Flow struct {
	From, To         netip.Addr
	FromPort, ToPort uint16 // zero where the protocol has none, or in a later fragment
	Protocol         uint8
}

// Reverse returns the flow in the other direction.
func (f Flow) Reverse() Flow {
	return Flow{From: f.To, To: f.From, FromPort: f.ToPort, ToPort: f.FromPort, Protocol: f.Protocol}
}

// A Packet is a frame and what its headers say. Parse fills it; the zero
// Packet is empty. What every data path touches comes first, in one cache line.
type Packet struct {
	// Bytes are the frame's bytes at hand, from the Ethernet header on. They
	// may stop short of the frame's end, but hold every header.
	Bytes []byte
	// Length is the length of the IP packet in bytes, what is not at hand
	// included; for a frame that is not IP, its payload's.
	Length int

	// Next is the packet after this one in the queue it is in; the queue sets it.
	Next *Packet
	// Arrived is when the packet reached the data path it is in; the data path
	// sets it.
	Arrived time.Duration
	// Size is the packet's size in bytes as the interface it is at counts;
	// the data path sets it.
	Size int32
	// Slot says which of the data path's counters the packet is booked to; the
	// data path sets it.
	Slot int32

	network   uint16 // offset of the IP header; 0 when there is none
	transport uint16 // offset of the header after it; 0 when it is not at hand
	// EtherType is that of the innermost Ethernet or PPPoE payload: IPv4 or
	// IPv6 also below a label stack.
	EtherType uint16
	// HasPorts reports that FromPort and ToPort were read, not merely zero.
	HasPorts bool
	// LabelSwitched hides the IP header from classification: the node forwards
	// the packet by its label and does not look below.
	LabelSwitched bool

	// In is the number of the interface by which the packet entered its node,
	// from 1; 0 when it is not known.
	In int32
	// GrowsBy and GrowsLabels are how many bytes of IP packet and how many labels the
	// packet will have more when it leaves the data path it is in: what a tunnel that
	// begins or ends here adds or takes. Whoever moves packets sets them.
	GrowsBy     int32
	GrowsLabels int8
	// PushedTC is, where labels are to be pushed, the traffic class plus one that a
	// policy wants on the topmost; 0: that of the DSCP.
	PushedTC uint8
	// VLAN is the identifier of the outermost tag, when Tagged.
	Tagged bool
	// Congested says that a queue has set the ECN field to CE since the packet reached
	// the data path it is in.
	Congested bool
	// Fragment reports a part of a larger packet, LaterFragment one other than
	// the first: it has no ports.
	Fragment, LaterFragment bool
	VLAN                    uint16

	tag      uint16 // offset of the outermost tag's control information; 0: none
	labels   uint16 // offset of the topmost label; 0: none
	depth    uint8  // how many labels
	fragment uint32 // identification, of a fragment

	// Owner is the caller's own; this package never looks at it.
	Owner any

	// Flow is read from the headers.
	Flow Flow
	// Apps are the applications recognised by more than ports, as a set of bits
	// by their number in the policy file; nil when there are none.
	Apps []uint64
}

// A ParseError is what Parse finds wrong with a frame.
type ParseError string

// What Parse finds wrong with a frame.
const (
	ErrCut       ParseError = "the frame is cut before the end of its headers"
	ErrMalformed ParseError = "a header's length contradicts the frame"
	ErrTooDeep   ParseError = "too many headers"
)

func (e ParseError) Error() string { return string(e) }

// maxHeaders bounds the tags, labels and extension headers of one packet.
const maxHeaders = 16

// Parse reads the headers of an Ethernet frame whose first bytes are frame and
// whose whole length, without the check sequence, is wire. The packet keeps
// frame and does not copy it. Frames that are not IP are no error. With an error,
// what could be read still counts: IsIP says whether that is an IP header with its
// addresses, and Length is the frame's where the header's own contradicts it.
func (p *Packet) Parse(frame []byte, wire int) error {
	owner := p.Owner
	*p = Packet{Bytes: frame, Owner: owner}
	if len(frame) < EthernetHeader {
		return ErrCut
	}
	at := EthernetHeader
	kind := binary.BigEndian.Uint16(frame[12:])
	for depth := 0; ; depth++ {
		if depth > maxHeaders {
			return ErrTooDeep
		}
		switch {
		case kind == TypeVLAN || kind == TypeQinQ:
			if len(frame) < at+4 {
				return ErrCut
			}
			if !p.Tagged {
				p.Tagged, p.tag = true, uint16(at)
				p.VLAN = binary.BigEndian.Uint16(frame[at:]) & 0x0fff
			}
			kind = binary.BigEndian.Uint16(frame[at+2:])
			at += 4
			continue
		case kind == TypePPPoE:
			if len(frame) < at+8 {
				return ErrCut
			}
			switch binary.BigEndian.Uint16(frame[at+6:]) {
			case 0x0021:
				kind = TypeIPv4
			case 0x0057:
				kind = TypeIPv6
			}
			at += 8
		case kind == TypeMPLS || kind == TypeMPLSm:
			end, err := labelStackEnd(frame, at)
			if err != nil {
				return err
			}
			p.labels, p.depth = uint16(at), uint8((end-at)/4)
			at = end
			if len(frame) <= at {
				return ErrCut
			}
			switch frame[at] >> 4 { // RFC 4928: the first nibble tells
			case 4:
				kind = TypeIPv4
			case 6:
				kind = TypeIPv6
			}
		}
		break
	}
	p.EtherType = kind
	p.Length = max(wire, len(frame)) - at // a frame is at least what is at hand of it
	switch kind {
	case TypeIPv4:
		return p.parseIPv4(at)
	case TypeIPv6:
		return p.parseIPv6(at)
	}
	return nil
}

// A Mould is what Parse found in a packet, without its flow. Cast makes packets from it that differ in their payload alone, and does not read
// their headers again.
type Mould struct {
	network, transport, etherType uint16
	hasPorts                      bool
}

// Mould returns the mould of a packet without tags and labels that is no fragment; false: it is another.
func (p *Packet) Mould() (Mould, bool) {
	return Mould{p.network, p.transport, p.EtherType, p.HasPorts}, p.network > 0 && p.transport > 0 && !p.Tagged && p.labels == 0 && !p.Fragment
}

// Cast makes p a packet of a mould: of its bytes, IP length and flow.
func (p *Packet) Cast(m *Mould, bytes []byte, length int, flow *Flow) {
	owner := p.Owner
	*p = Packet{} // in its place, not beside it
	p.Bytes, p.Length, p.Owner, p.Flow = bytes, length, owner, *flow
	p.network, p.transport, p.EtherType, p.HasPorts = m.network, m.transport, m.etherType, m.hasPorts
}

// labelStackEnd returns the offset after the label stack that begins at at.
func labelStackEnd(frame []byte, at int) (int, error) {
	for range maxHeaders {
		if len(frame) < at+4 {
			return 0, ErrCut
		}
		bottom := frame[at+2]&1 == 1
		at += 4
		if bottom {
			return at, nil
		}
	}
	return 0, ErrTooDeep
}

func (p *Packet) parseIPv4(at int) error {
	b := p.Bytes[at:]
	if len(b) < 20 {
		return ErrCut
	}
	if b[0]>>4 != 4 {
		return ErrMalformed
	}
	header, total := int(b[0]&0x0f)*4, int(binary.BigEndian.Uint16(b[2:]))
	p.network = uint16(at)
	p.Flow.From, p.Flow.To = netip.AddrFrom4([4]byte(b[12:16])), netip.AddrFrom4([4]byte(b[16:20]))
	p.Flow.Protocol = b[9]
	if header < 20 || header > p.Length {
		return ErrMalformed
	}
	if len(b) < header {
		return ErrCut
	}
	var err error
	switch {
	case total == 0: // the sender left segmentation to its interface
	case total < header || total > p.Length:
		err = ErrMalformed
	default:
		p.Length = total
	}
	if f := binary.BigEndian.Uint16(b[6:]); f&0x3fff != 0 { // more fragments, or an offset
		p.Fragment, p.fragment = true, uint32(binary.BigEndian.Uint16(b[4:]))
		if f&0x1fff != 0 {
			p.LaterFragment = true
			return err
		}
	}
	p.parsePorts(at + header)
	return err
}

func (p *Packet) parseIPv6(at int) error {
	b := p.Bytes[at:]
	if len(b) < 40 {
		return ErrCut
	}
	if b[0]>>4 != 6 {
		return ErrMalformed
	}
	p.network = uint16(at)
	p.Flow.From, p.Flow.To = netip.AddrFrom16([16]byte(b[8:24])), netip.AddrFrom16([16]byte(b[24:40]))
	var err error
	switch total := 40 + int(binary.BigEndian.Uint16(b[4:])); {
	case total > p.Length:
		err = ErrMalformed
	case total != 40: // 40 and more bytes: a jumbogram, or left to the interface
		p.Length = total
	}
	off := 40
	next := &p.Flow.Protocol
	*next = b[6]
	for range maxHeaders {
		bytes := 0 // of each that its length counts
		switch *next {
		case 0, 43, 60, 135, 139, 140: // hop-by-hop, routing, destination options, mobility, HIP, shim6
			bytes = 8
		case AH:
			bytes = 4
		case 44: // fragment
		default:
			if off > p.Length {
				return ErrMalformed
			}
			p.parsePorts(at + off)
			return err
		}
		if len(b) < off+8 {
			return ErrCut
		}
		fragment := *next == 44
		if fragment {
			p.Fragment, p.fragment = true, binary.BigEndian.Uint32(b[off+4:])
			p.LaterFragment = binary.BigEndian.Uint16(b[off+2:])&0xfff8 != 0
		}
		*next, off = b[off], off+8+int(b[off+1])*bytes
		if fragment && p.LaterFragment {
			return err
		}
		if off > p.Length {
			return ErrMalformed
		}
	}
	return ErrTooDeep
}

func (p *Packet) parsePorts(at int) {
	if at >= len(p.Bytes) || at > 0xffff {
		return
	}
	p.transport = uint16(at)
	switch p.Flow.Protocol {
	case TCP, UDP, SCTP:
		if b := p.Bytes[at:min(len(p.Bytes), max(at, int(p.network)+p.Length))]; len(b) >= 4 {
			p.Flow.FromPort, p.Flow.ToPort = binary.BigEndian.Uint16(b), binary.BigEndian.Uint16(b[2:])
			p.HasPorts = true
		}
	}
}

// IsIP reports whether the packet has an IPv4 or IPv6 header.
func (p *Packet) IsIP() bool { return p.network != 0 }

// Sequence returns the TCP sequence number.
func (p *Packet) Sequence() uint32 {
	if b := p.Bytes[p.transport:]; p.transport != 0 && p.Flow.Protocol == TCP && len(b) >= 8 {
		return binary.BigEndian.Uint32(b[4:])
	}
	return 0
}

// BeginsTCP reports whether the packet is the first of a TCP connection: SYN
// without ACK (RFC 9293 §3.1).
func (p *Packet) BeginsTCP() bool {
	if p.transport == 0 || p.Flow.Protocol != TCP || len(p.Bytes) < int(p.transport)+14 {
		return false
	}
	return p.Bytes[p.transport+13]&0x12 == 0x02
}

// WireLength returns the frame's length without the check sequence, what is not
// at hand included.
func (p *Packet) WireLength() int {
	return max(len(p.Bytes), int(p.network)+p.Length)
}

// WireEnd returns where the packet ends in its frame: what comes after it is padding, or a trailer.
func (p *Packet) WireEnd() int { return int(p.network) + p.Length }

// Network returns the packet's bytes at hand from the IP header on.
func (p *Packet) Network() []byte { return p.Bytes[p.network:] }

// Transport returns the bytes at hand from the header after IP on, without padding; nil
// when there are none.
func (p *Packet) Transport() []byte {
	if p.transport == 0 {
		return nil
	}
	return p.Bytes[p.transport:min(len(p.Bytes), int(p.network)+p.Length)]
}

// TransportLength returns the length of what follows the IP header and its extensions, what
// is not at hand included.
func (p *Packet) TransportLength() int { return p.Length - int(p.transport-p.network) }

// Headers returns how many of the bytes at hand are headers, as far as anything looks into
// them: what follows may be left out.
func (p *Packet) Headers() int {
	switch {
	case p.transport > 0:
		return min(len(p.Bytes), int(p.transport)+20)
	case p.network > 0: // with extension headers
		return min(len(p.Bytes), int(p.network)+128)
	}
	return min(len(p.Bytes), HeaderRoom)
}

// Payload returns the bytes at hand after the TCP or UDP header, or nil.
func (p *Packet) Payload() []byte {
	if p.transport == 0 {
		return nil
	}
	b := p.Transport()
	switch {
	case p.Flow.Protocol == UDP && len(b) >= 8:
		return b[8:]
	case p.Flow.Protocol == TCP && len(b) >= 20 && int(b[12]>>4)*4 >= 20 && int(b[12]>>4)*4 <= len(b):
		return b[int(b[12]>>4)*4:]
	}
	return nil
}

// TrafficClass returns the ToS or Traffic Class byte, DSCP and ECN; a packet that
// is not IP has 0.
func (p *Packet) TrafficClass() uint8 {
	if p.network == 0 {
		return 0
	}
	return p.trafficClass()
}

func (p *Packet) trafficClass() uint8 {
	first := binary.BigEndian.Uint16(p.Bytes[p.network:])
	if first>>12 == 4 {
		return uint8(first)
	}
	return uint8(first >> 4)
}

// DSCP returns the packet's codepoint; a packet that is not IP has DF.
func (p *Packet) DSCP() codepoint.DSCP {
	if p.network == 0 {
		return codepoint.DF
	}
	return codepoint.DSCP(p.trafficClass() >> 2)
}

// SetDSCP rewrites the codepoint in place. The ECN field stays; the IPv4
// header checksum is updated by RFC 1624 equation 3. It does nothing to a
// packet that is not IP.
func (p *Packet) SetDSCP(d codepoint.DSCP) {
	if p.network == 0 {
		return
	}
	p.setClass(uint8(d)<<2 | p.trafficClass()&3)
}

// setClass rewrites the ToS or Traffic Class byte.
func (p *Packet) setClass(class uint8) {
	b := p.Bytes[p.network:]
	if b[0]>>4 == 6 {
		b[0] = b[0]&0xf0 | class>>4
		b[1] = b[1]&0x0f | class<<4
		return
	}
	was := binary.BigEndian.Uint16(b)
	b[1] = class
	updateChecksum(b[10:12], was, binary.BigEndian.Uint16(b))
}

// updateChecksum replaces one 16-bit word in an Internet checksum:
// HC' = ~(~HC + ~m + m') (RFC 1624 §3).
func updateChecksum(sum []byte, was, is uint16) {
	s := uint32(^binary.BigEndian.Uint16(sum)) + uint32(^was) + uint32(is)
	s = s&0xffff + s>>16
	s = s&0xffff + s>>16
	binary.BigEndian.PutUint16(sum, ^uint16(s))
}

// SetFrom rewrites the source address in place, and SetTo the destination, with the checksums kept right (RFC 1624). They do nothing to a packet of another version.
func (p *Packet) SetFrom(a netip.Addr) { p.setAddress(&p.Flow.From, a, 0) }

// SetTo rewrites the destination address in place.
func (p *Packet) SetTo(a netip.Addr) { p.setAddress(&p.Flow.To, a, 1) }

func (p *Packet) setAddress(of *netip.Addr, a netip.Addr, nth int) {
	if p.network == 0 || a.Is4() != of.Is4() {
		return
	}
	b := p.Bytes[p.network:]
	is, at := a.AsSlice(), 8+16*nth
	if a.Is4() {
		at = 12 + 4*nth
	}
	sums := [][]byte{}
	if a.Is4() {
		sums = append(sums, b[10:12])
	}
	if p.transport != 0 && !p.LaterFragment {
		t := p.Bytes[p.transport:]
		switch {
		case p.Flow.Protocol == TCP && len(t) >= 18:
			sums = append(sums, t[16:18])
		case p.Flow.Protocol == UDP && len(t) >= 8 && t[6]|t[7] != 0: // zero is none (RFC 768)
			sums = append(sums, t[6:8])
		}
	}
	for i := 0; i < len(is); i += 2 {
		was, now := binary.BigEndian.Uint16(b[at+i:]), binary.BigEndian.Uint16(is[i:])
		for _, sum := range sums {
			updateChecksum(sum, was, now)
		}
		b[at+i], b[at+i+1] = is[i], is[i+1]
	}
	*of = a
}

// ECN returns the explicit congestion notification field (RFC 3168).
func (p *Packet) ECN() uint8 {
	if p.network == 0 {
		return 0
	}
	return p.trafficClass() & 3
}

// SetECN rewrites the ECN field in place. It does nothing to a packet that is not IP.
func (p *Packet) SetECN(v uint8) {
	if p.network != 0 {
		p.setClass(p.trafficClass()&^3 | v&3)
	}
}

// CongestionExperienced sets the ECN field to CE and reports true, when the
// packet's transport allows it: ECT(0), ECT(1), or CE already.
func (p *Packet) CongestionExperienced() bool {
	switch p.ECN() {
	case 0:
		return false
	case 3:
		return true
	}
	p.setClass(p.trafficClass() | 3)
	p.Congested = true
	return true
}

// Precedence returns the IP precedence, the upper three bits of the codepoint.
func (p *Packet) Precedence() uint8 { return uint8(p.DSCP() >> 3) }

// PCP returns the priority code point of the outermost VLAN tag.
func (p *Packet) PCP() (uint8, bool) {
	if !p.Tagged {
		return 0, false
	}
	return p.Bytes[p.tag] >> 5, true
}

// SetPCP rewrites the priority code point of the outermost VLAN tag; the drop
// eligible indicator and the identifier stay. It does nothing without a tag.
func (p *Packet) SetPCP(v uint8) {
	if p.Tagged {
		p.Bytes[p.tag] = p.Bytes[p.tag]&0x1f | v<<5
	}
}

// DEI returns the drop eligible indicator of the outermost VLAN tag.
func (p *Packet) DEI() bool { return p.Tagged && p.Bytes[p.tag]&0x10 != 0 }

// SetDEI rewrites the drop eligible indicator of the outermost VLAN tag. It does
// nothing without a tag.
func (p *Packet) SetDEI(on bool) {
	if p.Tagged {
		p.Bytes[p.tag] &^= 0x10
		if on {
			p.Bytes[p.tag] |= 0x10
		}
	}
}

// Labels returns how many MPLS labels the packet has.
func (p *Packet) Labels() int { return int(p.depth) }

// TC returns the traffic class of the topmost label (RFC 5462).
func (p *Packet) TC() (uint8, bool) {
	if p.depth == 0 {
		return 0, false
	}
	return p.Bytes[p.labels+2] >> 1 & 7, true
}

// SetTC rewrites the traffic class of the topmost label, or of the one that is about
// to be pushed. It does nothing without a label.
func (p *Packet) SetTC(v uint8) {
	if p.GrowsLabels > 0 {
		p.PushedTC = v + 1
	} else if p.depth > 0 {
		b := &p.Bytes[p.labels+2]
		*b = *b&0xf1 | v<<1
	}
}

// FragmentKey is what the fragments of one packet have in common.
type FragmentKey struct {
	From, To       netip.Addr
	Identification uint32
	Protocol       uint8
}

// FragmentKey returns the key of a fragment.
func (p *Packet) FragmentKey() FragmentKey {
	return FragmentKey{p.Flow.From, p.Flow.To, p.fragment, p.Flow.Protocol}
}

// Inner parses the IP packet that a GRE or IP-in-IP packet carries into q, and
// reports whether there is one. The packets share their bytes.
func (p *Packet) Inner(q *Packet) bool {
	if p.transport == 0 {
		return false
	}
	at := int(p.transport)
	kind := 0
	switch p.Flow.Protocol {
	case IPv4in:
		kind = TypeIPv4
	case IPv6in:
		kind = TypeIPv6
	case GRE: // RFC 2784, RFC 2890
		b := p.Bytes[at:]
		if len(b) < 4 || b[1]&7 != 0 {
			return false
		}
		kind = int(binary.BigEndian.Uint16(b[2:]))
		at += 4
		for _, bit := range []byte{0x80, 0x20, 0x10} { // checksum, key, sequence number
			if b[0]&bit != 0 {
				at += 4
			}
		}
	}
	rest := p.Length - (at - int(p.network))
	if at >= len(p.Bytes) || rest <= 0 {
		return false
	}
	*q = Packet{Bytes: p.Bytes, EtherType: uint16(kind), Length: rest}
	switch kind {
	case TypeIPv4:
		return q.parseIPv4(at) == nil
	case TypeIPv6:
		return q.parseIPv6(at) == nil
	}
	return false
}

// Checksum returns the Internet checksum of b (RFC 1071).
func Checksum(b []byte) uint16 {
	var s uint64
	for ; len(b) >= 8; b = b[8:] {
		s += uint64(binary.BigEndian.Uint32(b)) + uint64(binary.BigEndian.Uint32(b[4:]))
	}
	for ; len(b) > 1; b = b[2:] {
		s += uint64(binary.BigEndian.Uint16(b))
	}
	if len(b) == 1 {
		s += uint64(b[0]) << 8
	}
	for s > 0xffff {
		s = s&0xffff + s>>16
	}
	return ^uint16(s)
}
