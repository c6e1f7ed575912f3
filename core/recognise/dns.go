package recognise

import (
	"encoding/binary"
	"net/netip"
	"strings"
	"time"
)

// answer remembers which addresses a DNS answer (RFC 1035 §4) gives for the
// name that was asked. Aliases lead from that name to others, so every address
// in the answer belongs to it.
func (r *Recogniser) answer(now time.Duration, b []byte) {
	if len(b) < 12 || b[2]&0x80 == 0 || b[3]&0x0f != 0 || binary.BigEndian.Uint16(b[4:]) != 1 {
		return // no answer, an error, or not one question
	}
	asked, at, ok := dnsName(b, 12)
	if !ok || asked == "" || at+4 > len(b) {
		return
	}
	at += 4
	for range min(int(binary.BigEndian.Uint16(b[6:])), 64) {
		if _, at, ok = dnsName(b, at); !ok || at+10 > len(b) {
			return
		}
		kind, size := binary.BigEndian.Uint16(b[at:]), int(binary.BigEndian.Uint16(b[at+8:]))
		at += 10
		if at+size > len(b) {
			return
		}
		var a netip.Addr
		switch {
		case kind == 1 && size == 4:
			a = netip.AddrFrom4([4]byte(b[at : at+4]))
		case kind == 28 && size == 16:
			a = netip.AddrFrom16([16]byte(b[at : at+16]))
		}
		if a.IsValid() {
			r.names.put(now, a).value = asked
		}
		at += size
	}
}

// dnsName reads a name at an offset, following compression, and returns the
// offset after it.
func dnsName(b []byte, at int) (name string, next int, ok bool) {
	var labels []string
	jumps, length := 0, 0
	next = -1
	for {
		if at >= len(b) {
			return "", 0, false
		}
		n := int(b[at])
		switch {
		case n == 0:
			if next < 0 {
				next = at + 1
			}
			return strings.ToLower(strings.Join(labels, ".")), next, true
		case n >= 0xc0:
			if at+2 > len(b) || jumps > 16 {
				return "", 0, false
			}
			if next < 0 {
				next = at + 2
			}
			jumps++
			at = int(binary.BigEndian.Uint16(b[at:]) & 0x3fff)
		case n > 63 || at+1+n > len(b):
			return "", 0, false
		default:
			if length += n + 1; length > 255 {
				return "", 0, false
			}
			labels = append(labels, string(b[at+1:at+1+n]))
			at += 1 + n
		}
	}
}
