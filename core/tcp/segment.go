// Package tcp is the model of a TCP endpoint (RFC 9293): handshake, congestion control,
// loss detection, recovery, timers and close, with the headers that go on the wire. Bytes
// of the stream are counted, not kept.
//
// An End takes the time as an argument, reads no clock and starts nothing: the caller
// gives it the segments that arrive, takes those that it has to send, and asks it again
// when it says.
package tcp

import (
	"encoding/binary"

	"imbrel.example/imbrel/core/packet"
)

// Flags of a segment (RFC 9293 §3.1, RFC 3168 §6.1).
const (
	FIN = 1 << iota
	SYN
	_
	_
	ACK
	_
	ECE
	CWR
)

// Header is the length of a TCP header without options, MaxHeader that with all.
const (
	Header    = 20
	MaxHeader = 60
)

// A Range is the bytes From up to, not including, To of a stream.
type Range struct{ From, To uint64 }

// Timestamps is the length of the timestamps (RFC 7323 §3.2) that are in every segment, filled up.
const Timestamps = 12

// maxSACK is how many blocks fit in the options beside timestamps (RFC 2018 §3).
const maxSACK = 3

// A Segment is one TCP segment. Sequence numbers count from 0, the SYN's, and do not wrap;
// on the wire they are the low 32 bits with the initial sequence number added.
type Segment struct {
	Seq, Ack uint64
	Data     int // bytes of the stream
	Flags    uint8
	Window   int64 // bytes that the sender of the segment can still take
	SACK     [maxSACK]Range
	Blocks   int  // of SACK
	Capable  bool // the IP packet says that it can be marked (ECT)
	Marked   bool // it was marked: congestion experienced
	Again    bool // a retransmission; on the wire nothing tells

	Stamp, Echo uint32 // the timestamps, in milliseconds
}

// Length returns what the segment takes of the sequence numbers.
func (s *Segment) Length() uint64 {
	n := uint64(s.Data)
	if s.Flags&SYN != 0 {
		n++
	}
	if s.Flags&FIN != 0 {
		n++
	}
	return n
}

// optionBytes returns the length of the segment's options, a multiple of 4.
func (s *Segment) optionBytes() int {
	switch {
	case s.Flags&SYN != 0:
		return 8 + Timestamps // maximum segment size, SACK permitted, window scale
	case s.Blocks > 0:
		return Timestamps + 4 + 8*s.Blocks
	}
	return Timestamps
}

// HeaderBytes returns the length of the segment's TCP header.
func (s *Segment) HeaderBytes() int { return Header + s.optionBytes() }

// initials are the initial sequence numbers of the sender and of the other end.
type initials struct{ own, other uint32 }

// put writes the header of the segment after the port numbers of a packet's TCP header.
func (s *Segment) put(b []byte, n initials, mss int, scale uint8) {
	binary.BigEndian.PutUint32(b[4:], uint32(s.Seq)+n.own)
	binary.BigEndian.PutUint32(b[8:], 0)
	if s.Flags&ACK != 0 {
		binary.BigEndian.PutUint32(b[8:], uint32(s.Ack)+n.other)
	}
	b[12], b[13] = byte(s.HeaderBytes()/4)<<4, s.Flags
	window := s.Window
	if s.Flags&SYN == 0 {
		window >>= scale
	}
	binary.BigEndian.PutUint16(b[14:], uint16(min(window, 0xffff)))
	o := b[Header:]
	if s.Flags&SYN != 0 {
		o[0], o[1] = 2, 4 // RFC 9293 §3.7.1: options are no part of it (RFC 6691)
		binary.BigEndian.PutUint16(o[2:], uint16(mss+Timestamps))
		o[4], o[5] = 4, 2 // RFC 2018 §2
		o[6], o[7] = 8, 10
		binary.BigEndian.PutUint32(o[8:], s.Stamp)
		binary.BigEndian.PutUint32(o[12:], s.Echo)
		o[16], o[17], o[18], o[19] = 1, 3, 3, scale
		return
	}
	o[0], o[1], o[2], o[3] = 1, 1, 8, 10 // RFC 7323 appendix A
	binary.BigEndian.PutUint32(o[4:], s.Stamp)
	binary.BigEndian.PutUint32(o[8:], s.Echo)
	o = o[Timestamps:]
	switch {
	case s.Blocks > 0:
		o[0], o[1], o[2], o[3] = 1, 1, 5, byte(2+8*s.Blocks)
		for i, k := range s.SACK[:s.Blocks] {
			binary.BigEndian.PutUint32(o[4+8*i:], uint32(k.From)+n.other)
			binary.BigEndian.PutUint32(o[8+8*i:], uint32(k.To)+n.other)
		}
	}
}

// Build makes p the packet of a segment of the end: its headers in room, which needs
// packet.HeaderRoom bytes. Ports and addresses are those of flow.
func (e *End) Build(p *packet.Packet, room []byte, flow packet.Flow, s *Segment) {
	ip := 20
	if flow.From.Is6() {
		ip = 40
	}
	s.Stamp, s.Echo = e.clock, e.stamp
	h := s.HeaderBytes()
	p.Frame(room, flow, e.c.DSCP, ip+h+s.Data, h-Header)
	s.put(p.Transport(), e.initials, e.c.MSS, e.scale)
	p.Seal()
	if s.Capable {
		p.SetECN(2) // ECT(0)
	}
}

// near returns the number whose low 32 bits, with the initial number added, are on the
// wire and which is nearest to one that is known.
func near(wire, initial uint32, known uint64) uint64 {
	return uint64(int64(known) + int64(int32(wire-initial-uint32(known))))
}

// Parse returns the segment of a packet that arrived at the end. False: it is none.
func (e *End) Parse(p *packet.Packet) (s Segment, ok bool) {
	b := p.Transport()
	if p.Flow.Protocol != packet.TCP || len(b) < Header {
		return s, false
	}
	h := int(b[12]>>4) * 4
	if h < Header || h > len(b) {
		return s, false
	}
	s.Flags = b[13]
	s.Data = p.TransportLength() - h
	s.Marked = p.ECN() == 3
	seq := binary.BigEndian.Uint32(b[4:])
	if s.Flags&SYN != 0 {
		e.initials.other = seq
	}
	s.Seq = near(seq, e.initials.other, e.in.next)
	if s.Flags&ACK != 0 {
		s.Ack = near(binary.BigEndian.Uint32(b[8:]), e.initials.own, e.out.acked)
	}
	s.Window = int64(binary.BigEndian.Uint16(b[14:]))
	if s.Flags&SYN == 0 {
		s.Window <<= e.otherScale
	}
	for o := b[Header:h]; len(o) > 0; {
		n := 1
		if o[0] > 1 {
			if len(o) < 2 || o[1] < 2 || int(o[1]) > len(o) {
				break
			}
			n = int(o[1])
		}
		switch {
		case o[0] == 0:
			return s, true
		case o[0] == 2 && n == 4 && s.Flags&SYN != 0:
			e.offered(int(binary.BigEndian.Uint16(o[2:])) - Timestamps)
		case o[0] == 3 && n == 3 && s.Flags&SYN != 0:
			e.otherScale = min(o[2], 14) // RFC 7323 §2.3
		case o[0] == 8 && n == 10:
			s.Stamp, s.Echo = binary.BigEndian.Uint32(o[2:]), binary.BigEndian.Uint32(o[6:])
		case o[0] == 5:
			for k := o[2:n]; len(k) >= 8 && s.Blocks < maxSACK; k = k[8:] {
				s.SACK[s.Blocks] = Range{near(binary.BigEndian.Uint32(k), e.initials.own, e.out.acked), near(binary.BigEndian.Uint32(k[4:]), e.initials.own, e.out.acked)}
				s.Blocks++
			}
		}
		o = o[n:]
	}
	return s, true
}
