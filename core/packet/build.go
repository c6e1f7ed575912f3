package packet

import (
	"encoding/binary"
	"net/netip"

	"imbrel.example/imbrel/core/codepoint"
)

// HeaderRoom is enough for the headers that Build and PutRTP write, and for all options of
// TCP.
const HeaderRoom = EthernetHeader + 40 + 60

// The lengths of the IP headers without options and extensions.
const (
	IPv4Header = 20
	IPv6Header = 40
)

// RTPHeader is the length of an RTP header without contributing sources
// (RFC 3550 §5.1).
const RTPHeader = 12

// stationAddress is the made-up, locally administered hardware address with
// the last byte n that built frames carry.
func stationAddress(n byte) [6]byte { return [6]byte{0x02, 0, 0, 0, 0, n} }

// Build makes p the first packet bytes of an IP packet of the given length and
// flow: an Ethernet header, IPv4 or IPv6, and UDP or TCP, with extra bytes of
// zeros after them for a header of the caller's (as far as length goes). What
// is not at hand counts as zero, so the checksums are right. It needs room of
// HeaderRoom bytes and keeps it. The length must hold the headers.
func (p *Packet) Build(room []byte, flow Flow, dscp codepoint.DSCP, length, extra int) {
	p.Frame(room, flow, dscp, length, extra)
	p.Seal()
}

// Frame does what Build does, and leaves the checksum of UDP or TCP to a later Seal.
func (p *Packet) Frame(room []byte, flow Flow, dscp codepoint.DSCP, length, extra int) {
	b := room[:HeaderRoom]
	clear(b)
	to, from := stationAddress(2), stationAddress(1)
	copy(b, to[:])
	copy(b[6:], from[:])
	at := EthernetHeader
	ip := b[at:]
	if flow.From.Is4() {
		binary.BigEndian.PutUint16(b[12:], TypeIPv4)
		ip[0], ip[1] = 0x45, dscp.ToS()
		binary.BigEndian.PutUint16(ip[2:], uint16(length))
		ip[6] = 0x40 // don't fragment
		ip[8], ip[9] = 64, flow.Protocol
		f, t := flow.From.As4(), flow.To.As4()
		copy(ip[12:], f[:])
		copy(ip[16:], t[:])
		binary.BigEndian.PutUint16(ip[10:], Checksum(ip[:20]))
		at += 20
	} else {
		binary.BigEndian.PutUint16(b[12:], TypeIPv6)
		ip[0], ip[1] = 0x60|dscp.ToS()>>4, dscp.ToS()<<4
		binary.BigEndian.PutUint16(ip[4:], uint16(length-40))
		ip[6], ip[7] = flow.Protocol, 64
		f, t := flow.From.As16(), flow.To.As16()
		copy(ip[8:], f[:])
		copy(ip[24:], t[:])
		at += 40
	}
	l4 := b[at:]
	end := at
	switch flow.Protocol {
	case UDP, TCP:
		binary.BigEndian.PutUint16(l4, flow.FromPort)
		binary.BigEndian.PutUint16(l4[2:], flow.ToPort)
		if flow.Protocol == UDP {
			binary.BigEndian.PutUint16(l4[4:], uint16(length-(at-EthernetHeader)))
			end += 8
		} else {
			l4[12], l4[13] = 5<<4, 0x10 // ACK
			binary.BigEndian.PutUint16(l4[14:], 0xffff)
			end += 20
		}
	}
	end = min(end+extra, EthernetHeader+length, len(b))
	// The frame was made here, so the parse cannot fail.
	_ = p.Parse(b[:end], EthernetHeader+length)
}

// PutRTP writes an RTP header (RFC 3550 §5.1) after the UDP header of a packet
// that Build made with RTPHeader extra bytes, and mends the UDP checksum.
func (p *Packet) PutRTP(payloadType uint8, sequence uint16, timestamp, source uint32) {
	b := p.Payload()
	if len(b) < RTPHeader {
		return
	}
	b[0], b[1] = 0x80, payloadType&0x7f
	binary.BigEndian.PutUint16(b[2:], sequence)
	binary.BigEndian.PutUint32(b[4:], timestamp)
	binary.BigEndian.PutUint32(b[8:], source)
	p.Seal()
}

// Seal computes the UDP or TCP checksum over the pseudo-header and the bytes
// at hand; the rest is zero.
func (p *Packet) Seal() {
	at := 6
	switch p.Flow.Protocol {
	case UDP:
	case TCP:
		at = 16
	default:
		return
	}
	b := p.Bytes[p.transport:]
	b[at], b[at+1] = 0, 0
	s := uint32(^Checksum(b)) + pseudoSum(p.Flow.From) + pseudoSum(p.Flow.To) +
		uint32(p.Flow.Protocol) + uint32(p.Length-int(p.transport-p.network))
	for s > 0xffff {
		s = s&0xffff + s>>16
	}
	sum := ^uint16(s)
	if sum == 0 { // RFC 768: zero means none
		sum = 0xffff
	}
	binary.BigEndian.PutUint16(b[at:], sum)
}

func pseudoSum(a netip.Addr) uint32 {
	if a.Is4() {
		b := a.As4()
		return uint32(binary.BigEndian.Uint16(b[:])) + uint32(binary.BigEndian.Uint16(b[2:]))
	}
	b := a.As16()
	return uint32(^Checksum(b[:]))
}
