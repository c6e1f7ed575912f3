package packet

import "encoding/binary"

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
		part := Packet{Owner: p.Owner, In: p.In, Apps: p.Apps, LabelSwitched: p.LabelSwitched}
		_ = part.Parse(b, at+own+length) // a later part has no header to look at
		parts = append(parts, part)
	}
	return parts
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
