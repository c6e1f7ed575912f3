// Package rtp is the headers of RTP and the reports of RTCP as bytes (RFC 3550), and what a receiver
// of packets counts for them.
package rtp

import (
	"encoding/binary"
	"errors"
	"time"
)

// HeaderLength is the length of a header without contributing sources and extensions.
const HeaderLength = 12

// A Header is an RTP header (RFC 3550 §5.1).
type Header struct {
	Type      uint8 // of the payload
	Marker    bool
	Sequence  uint16
	Timestamp uint32
	Source    uint32 // SSRC
}

// Put writes the header into the first HeaderLength bytes.
func (h *Header) Put(b []byte) {
	b[0], b[1] = 2<<6, h.Type&0x7f
	if h.Marker {
		b[1] |= 0x80
	}
	binary.BigEndian.PutUint16(b[2:], h.Sequence)
	binary.BigEndian.PutUint32(b[4:], h.Timestamp)
	binary.BigEndian.PutUint32(b[8:], h.Source)
}

var errNone = errors.New("not RTP or RTCP of version 2")

// Parse returns the header of a packet, and its payload without contributing sources, extension and
// padding.
func Parse(b []byte) (h Header, payload []byte, err error) {
	if len(b) < HeaderLength || b[0]>>6 != 2 {
		return h, nil, errNone
	}
	h = Header{Type: b[1] & 0x7f, Marker: b[1]&0x80 != 0, Sequence: binary.BigEndian.Uint16(b[2:]), Timestamp: binary.BigEndian.Uint32(b[4:]), Source: binary.BigEndian.Uint32(b[8:])}
	at := HeaderLength + 4*int(b[0]&15)
	if b[0]&0x10 != 0 {
		if len(b) < at+4 {
			return h, nil, errNone
		}
		at += 4 + 4*int(binary.BigEndian.Uint16(b[at+2:]))
	}
	end := len(b)
	if b[0]&0x20 != 0 {
		end -= int(b[len(b)-1])
	}
	if at > end {
		return h, nil, errNone
	}
	return h, b[at:end], nil
}

// The packet types of RTCP that are written and read here (RFC 3550 §12.1).
const (
	senderReport   = 200
	receiverReport = 201 // that of who sends nothing
	sourceNames    = 202
)

// A Block is what a receiver reports of one source (RFC 3550 §6.4.1).
type Block struct {
	Source   uint32
	Fraction uint8  // lost since the report before, of 256
	Lost     int32  // in all, 24 bits
	Highest  uint32 // sequence number, with its cycles
	Jitter   uint32 // in ticks of the timestamps
	LastSR   uint32 // the middle of the time of the last sender report that came
	Delay    uint32 // since then, in 1/65536 s
}

// A Report is a sender report with at most one block, and the name of the source: a compound packet
// of RTCP.
type Report struct {
	Source    uint32
	Time      uint64 // of NTP
	Timestamp uint32
	Packets   uint32
	Octets    uint32
	Block     *Block
	Name      string // CNAME, 255 bytes at most
}

// Bytes returns the compound packet.
func (r *Report) Bytes() []byte {
	n := 28
	if r.Block != nil {
		n += 24
	}
	b := make([]byte, n, n+8+4+len(r.Name)+4)
	b[0], b[1] = 2<<6, senderReport
	binary.BigEndian.PutUint16(b[2:], uint16(n/4-1))
	binary.BigEndian.PutUint32(b[4:], r.Source)
	binary.BigEndian.PutUint64(b[8:], r.Time)
	binary.BigEndian.PutUint32(b[16:], r.Timestamp)
	binary.BigEndian.PutUint32(b[20:], r.Packets)
	binary.BigEndian.PutUint32(b[24:], r.Octets)
	if k := r.Block; k != nil {
		b[0] |= 1
		binary.BigEndian.PutUint32(b[28:], k.Source)
		binary.BigEndian.PutUint32(b[32:], uint32(k.Fraction)<<24|uint32(k.Lost)&0xffffff)
		binary.BigEndian.PutUint32(b[36:], k.Highest)
		binary.BigEndian.PutUint32(b[40:], k.Jitter)
		binary.BigEndian.PutUint32(b[44:], k.LastSR)
		binary.BigEndian.PutUint32(b[48:], k.Delay)
	}
	name := r.Name[:min(len(r.Name), 255)]
	at := len(b)
	b = append(b, 2<<6|1, sourceNames, 0, 0, 0, 0, 0, 0, 1, byte(len(name)))
	binary.BigEndian.PutUint32(b[at+4:], r.Source)
	b = append(b, name...)
	b = append(b, 0) // the end of the items
	for len(b)%4 != 0 {
		b = append(b, 0)
	}
	binary.BigEndian.PutUint16(b[at+2:], uint16((len(b)-at)/4-1))
	return b
}

// ParseReport reads a compound packet: its sender or receiver report, with the first block, and the name.
func ParseReport(b []byte) (r Report, err error) {
	if len(b) < 8 || b[0]>>6 != 2 || b[1] != senderReport && b[1] != receiverReport {
		return r, errNone
	}
	for first := true; len(b) >= 4; first = false {
		n := 4 * (int(binary.BigEndian.Uint16(b[2:])) + 1)
		if b[0]>>6 != 2 || n > len(b) {
			return r, errNone
		}
		p, count := b[:n], int(b[0]&31)
		b = b[n:]
		switch {
		case first:
			at := 28
			if p[1] == receiverReport {
				at = 8
			}
			if n < at+24*count {
				return r, errNone
			}
			if r.Source = binary.BigEndian.Uint32(p[4:]); p[1] == senderReport {
				r.Time, r.Timestamp, r.Packets, r.Octets = binary.BigEndian.Uint64(p[8:]), binary.BigEndian.Uint32(p[16:]), binary.BigEndian.Uint32(p[20:]), binary.BigEndian.Uint32(p[24:])
			}
			if count > 0 {
				k := p[at:]
				r.Block = &Block{Source: binary.BigEndian.Uint32(k), Fraction: k[4], Lost: int32(binary.BigEndian.Uint32(k[4:])<<8) >> 8, Highest: binary.BigEndian.Uint32(k[8:]),
					Jitter: binary.BigEndian.Uint32(k[12:]), LastSR: binary.BigEndian.Uint32(k[16:]), Delay: binary.BigEndian.Uint32(k[20:])}
			}
		case p[1] == sourceNames && count > 0 && n >= 12 && p[8] == 1 && 10+int(p[9]) <= n:
			r.Name = string(p[10 : 10+int(p[9])])
		}
	}
	return r, nil
}

// Middle returns the middle 32 bits of a time of NTP, by which reports name it.
func Middle(t uint64) uint32 { return uint32(t >> 16) }

// NTP returns a time as NTP has it: seconds since 1900 and their parts of 2^32.
func NTP(t time.Time) uint64 {
	const since1970 = 2208988800
	return uint64(t.Unix()+since1970)<<32 | uint64(t.Nanosecond())<<32/1e9
}

// Time returns the time of NTP, of the era that began in 1900.
func Time(v uint64) time.Time {
	const since1970 = 2208988800
	return time.Unix(int64(v>>32)-since1970, int64(v&0xffffffff*1e9>>32))
}

// A Receiver counts the packets of one source (RFC 3550 appendix A). The zero Receiver has none.
type Receiver struct {
	Source   uint32
	begun    bool
	base     uint32
	highest  uint32 // with cycles
	received uint32
	before   struct{ expected, received uint32 } // at the last report
	transit  uint32
	jitter   float64
	lastSR   uint32
	heardSR  time.Time
}

// Take counts a packet that came, at a time in ticks of the timestamps.
func (r *Receiver) Take(h *Header, ticks uint32) {
	transit := ticks - h.Timestamp
	if !r.begun {
		*r = Receiver{Source: h.Source, begun: true, base: uint32(h.Sequence), highest: uint32(h.Sequence), transit: transit, lastSR: r.lastSR, heardSR: r.heardSR}
	}
	if step := int16(h.Sequence - uint16(r.highest)); step > 0 {
		r.highest += uint32(step)
	}
	r.received++
	d := float64(int32(transit - r.transit))
	r.transit = transit
	if d < 0 {
		d = -d
	}
	r.jitter += (d - r.jitter) / 16
}

// Heard notes a sender report that came.
func (r *Receiver) Heard(s *Report, at time.Time) { r.lastSR, r.heardSR = Middle(s.Time), at }

// Block returns what is to be reported now, or nil where nothing came.
func (r *Receiver) Block(now time.Time) *Block {
	if !r.begun {
		return nil
	}
	expected := r.highest - r.base + 1
	b := &Block{Source: r.Source, Lost: max(-1<<23, min(1<<23-1, int32(expected-r.received))), Highest: r.highest, Jitter: uint32(r.jitter), LastSR: r.lastSR}
	if e, got := expected-r.before.expected, r.received-r.before.received; e > got && int32(e) > 0 {
		b.Fraction = uint8(min(255, uint64(e-got)<<8/uint64(e)))
	}
	r.before.expected, r.before.received = expected, r.received
	if r.lastSR != 0 {
		b.Delay = uint32(now.Sub(r.heardSR) * 65536 / time.Second)
	}
	return b
}
