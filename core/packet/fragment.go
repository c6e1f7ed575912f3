package packet

import (
	"encoding/binary"
	"net/netip"
	"slices"
)

// fragmentHeader is the length of the fragment header of IPv6 (RFC 8200 §4.5).
const fragmentHeader = 8

// DontFragment reports whether nobody on the way may divide the packet: its DF bit is set, or it is of IPv6 (RFC 8200 §5). A frame that is
// not IP is never divided.
func (p *Packet) DontFragment() bool {
	if p.network == 0 {
		return true
	}
	b := p.Bytes[p.network:]
	return b[0]>>4 != 4 || b[6]&0x40 != 0
}

// MayFragment clears the DF bit of an IPv4 packet.
func (p *Packet) MayFragment() {
	if p.network == 0 || p.Bytes[p.network]>>4 != 4 {
		return
	}
	b := p.Bytes[p.network:]
	was := binary.BigEndian.Uint16(b[6:])
	b[6] &^= 0x40
	updateChecksum(b[10:12], was, binary.BigEndian.Uint16(b[6:]))
}

// Fragments returns the parts, none longer than limit bytes of IP, that a packet is divided into: by RFC 791 §3.2 wherever it is, and by RFC 8200
// §4.5 for IPv6, which its sender alone may do. Each has its own bytes, as far as the packet's are at hand, and the same tags and labels. id
// tells them from those of other packets, where the packet has no identification. nil: the limit leaves no room for data, or the packet is no IP.
func (p *Packet) Fragments(limit int, id uint32) []Packet {
	if p.network == 0 {
		return nil
	}
	at := int(p.network)
	ip := p.Bytes[at:]
	v6 := ip[0]>>4 == 6
	fixed := int(ip[0]&0x0f) * 4 // of the header that each part has
	own := fixed
	if v6 {
		fixed, own = IPv6Header, IPv6Header+fragmentHeader
	}
	most := (limit - own) &^ 7
	if most < 8 || v6 && p.Fragment {
		return nil
	}
	data := p.Length - fixed
	var offset, more uint16 // of the packet, which may be a part itself
	if !v6 {
		flags := binary.BigEndian.Uint16(ip[6:])
		offset, more = flags&0x1fff, flags&0x2000
		if known := binary.BigEndian.Uint16(ip[4:]); known != 0 || p.Fragment {
			id = uint32(known)
		}
	}
	parts := make([]Packet, 0, (data+most-1)/most)
	for from := 0; from < data; from += most {
		length := min(most, data-from)
		last := from+length == data
		held := min(max(len(ip)-fixed-from, 0), length) // of its data, at hand
		b := make([]byte, 0, at+own+held+16)
		b = append(b, p.Bytes[:at+fixed]...)
		h := b[at:]
		if v6 {
			binary.BigEndian.PutUint16(h[4:], uint16(fragmentHeader+length))
			next := h[6]
			h[6] = 44
			flags := uint16(from)
			if !last {
				flags |= 1
			}
			b = append(b, next, 0)
			b = binary.BigEndian.AppendUint16(b, flags)
			b = binary.BigEndian.AppendUint32(b, id)
		} else {
			binary.BigEndian.PutUint16(h[2:], uint16(fixed+length))
			binary.BigEndian.PutUint16(h[4:], uint16(id))
			flags := offset + uint16(from/8)
			if !last {
				flags |= 0x2000
			} else {
				flags |= more
			}
			binary.BigEndian.PutUint16(h[6:], flags)
			h[10], h[11] = 0, 0
			binary.BigEndian.PutUint16(h[10:], Checksum(h[:fixed]))
		}
		if held > 0 {
			b = append(b, ip[fixed+from:fixed+from+held]...)
		}
		part := Packet{Owner: p.Owner}
		_ = part.Parse(b, at+own+length) // a later part has no header to look at
		part.In, part.Apps, part.LabelSwitched = p.In, p.Apps, p.LabelSwitched
		parts = append(parts, part)
	}
	return parts
}

// part returns where the data of a fragment begins in its packet and in its bytes, and whether more follows.
func (p *Packet) part() (offset int, data []byte, more bool) {
	ip := p.Bytes[p.network:]
	if ip[0]>>4 == 4 {
		flags, header := binary.BigEndian.Uint16(ip[6:]), int(ip[0]&0x0f)*4
		return int(flags&0x1fff) * 8, ip[header:min(p.Length, len(ip))], flags&0x2000 != 0
	}
	if ip[6] != 44 || len(ip) < IPv6Header+fragmentHeader {
		return 0, nil, true // other headers come before that of the fragment
	}
	flags := binary.BigEndian.Uint16(ip[IPv6Header+2:])
	return int(flags &^ 7), ip[IPv6Header+fragmentHeader : min(p.Length, len(ip))], flags&1 != 0
}

// Reassemble returns the frame of the packet that fragments are of, whose bytes are all at hand; false where one is missing.
func Reassemble(parts []Packet) (frame []byte, ok bool) {
	parts = slices.Clone(parts)
	slices.SortFunc(parts, func(a, b Packet) int {
		x, _, _ := a.part()
		y, _, _ := b.part()
		return x - y
	})
	var data []byte
	for i := range parts {
		offset, own, more := parts[i].part()
		if offset != len(data) || more == (i == len(parts)-1) {
			return nil, false
		}
		data = append(data, own...)
	}
	if len(parts) == 0 {
		return nil, false
	}
	first := &parts[0]
	at := int(first.network)
	ip := first.Bytes[at:]
	if ip[0]>>4 == 4 {
		header := int(ip[0]&0x0f) * 4
		frame = append(append(frame, first.Bytes[:at+header]...), data...)
		h := frame[at:]
		binary.BigEndian.PutUint16(h[2:], uint16(header+len(data)))
		h[6], h[7], h[10], h[11] = h[6]&0x40, 0, 0, 0
		binary.BigEndian.PutUint16(h[10:], Checksum(h[:header]))
		return frame, true
	}
	frame = append(append(frame, first.Bytes[:at+IPv6Header]...), data...)
	h := frame[at:]
	binary.BigEndian.PutUint16(h[4:], uint16(len(data)))
	h[6] = ip[IPv6Header]
	return frame, true
}

// TooBig returns the frame of the word that a node sends to the sender of a packet that is longer than it sends: mtu bytes would fit (RFC 1191 §4,
// RFC 4443 §3.2). It comes from an address that stands for nodes without one (RFC 7600 §4.6; RFC 6666).
func (p *Packet) TooBig(mtu int) []byte {
	const icmp, icmpV6, quoted = 1, 58, 1280 - IPv6Header - 8
	ip := p.Bytes[p.network:]
	var b []byte
	var out Packet
	if ip[0]>>4 == 4 {
		own := ip[:min(len(ip), int(ip[0]&0x0f)*4+8)]
		b = append([]byte{3, 4, 0, 0, 0, 0, byte(mtu >> 8), byte(mtu)}, own...)
		binary.BigEndian.PutUint16(b[2:], Checksum(b))
		out.Build(make([]byte, HeaderRoom), Flow{From: netip.AddrFrom4([4]byte{192, 0, 0, 8}), To: p.Flow.From, Protocol: icmp}, 0, IPv4Header+len(b), 0)
	} else {
		b = append([]byte{2, 0, 0, 0, byte(mtu >> 24), byte(mtu >> 16), byte(mtu >> 8), byte(mtu)}, ip[:min(len(ip), p.Length, quoted)]...)
		from := netip.MustParseAddr("100::1")
		s := uint32(^Checksum(b)) + pseudoSum(from) + pseudoSum(p.Flow.From) + icmpV6 + uint32(len(b))
		for s > 0xffff {
			s = s&0xffff + s>>16
		}
		binary.BigEndian.PutUint16(b[2:], ^uint16(s))
		out.Build(make([]byte, HeaderRoom), Flow{From: from, To: p.Flow.From, Protocol: icmpV6}, 0, IPv6Header+len(b), 0)
	}
	header := int(out.network) + IPv4Header
	if p.Flow.From.Is6() {
		header = int(out.network) + IPv6Header
	}
	return append(out.Bytes[:header:header], b...)
}

// LimitMSS makes the maximum segment size that a SYN offers at most so many bytes (RFC 9293 §3.7.1).
func (p *Packet) LimitMSS(most int) {
	b := p.Transport()
	if p.Flow.Protocol != TCP || len(b) < 20 || b[13]&0x02 == 0 {
		return
	}
	end := min(int(b[12]>>4)*4, len(b))
	for at := 20; at < end; {
		switch kind := b[at]; {
		case kind == 0:
			return
		case kind == 1:
			at++
			continue
		case at+1 >= end || b[at+1] < 2 || at+int(b[at+1]) > end:
			return
		case kind == 2 && b[at+1] == 4:
			if was := binary.BigEndian.Uint16(b[at+2:]); int(was) > most {
				is := uint16(most)
				binary.BigEndian.PutUint16(b[at+2:], is)
				if at%2 == 1 { // the two bytes are in two words
					was, is = was<<8|was>>8, is<<8|is>>8
				}
				updateChecksum(b[16:18], was, is)
			}
			return
		}
		at += int(b[at+1])
	}
}
