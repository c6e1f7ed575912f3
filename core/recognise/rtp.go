package recognise

import "encoding/binary"

// rtpState watches one direction of a UDP flow for RTP: a valid header, one
// source, and sequence numbers in a row (RFC 3550 §A.1).
type rtpState struct {
	source   uint32
	sequence uint16
	payload  uint8
	inRow    uint8
}

// minSequential is how many packets in a row must be valid. RFC 3550 suggests 2
// after the first; with nothing but looks to go by, one more.
const minSequential = 4

// watch looks at a UDP payload and reports whether the flow is RTP.
func (s *rtpState) watch(b []byte) bool {
	if len(b) < 12 || b[0]>>6 != 2 {
		s.inRow = 0
		return false
	}
	payload := b[1] & 0x7f
	if payload >= 64 && payload <= 95 { // RTCP on the same port, RFC 5761 §4
		return false
	}
	header := 12 + 4*int(b[0]&0x0f)
	if b[0]&0x10 != 0 { // an extension
		if len(b) < header+4 {
			s.inRow = 0
			return false
		}
		header += 4 + 4*int(binary.BigEndian.Uint16(b[header+2:]))
	}
	sequence, source := binary.BigEndian.Uint16(b[2:]), binary.BigEndian.Uint32(b[8:])
	if s.inRow > 0 && sequence == s.sequence+1 && source == s.source && payload == s.payload {
		s.inRow++
	} else if s.inRow > 0 && sequence == s.sequence && source == s.source {
		return false // a duplicate
	} else {
		s.inRow = 1
	}
	s.sequence, s.source, s.payload = sequence, source, payload
	return s.inRow >= minSequential
}

// isRTCP reports whether a UDP payload is a compound RTCP packet (RFC 3550 §6.1):
// it begins with a report, and the lengths of its parts come to its own.
func isRTCP(b []byte) bool {
	if len(b) < 8 || b[0]>>6 != 2 || b[1] != 200 && b[1] != 201 {
		return false
	}
	for len(b) >= 4 {
		if b[0]>>6 != 2 || b[1] < 200 || b[1] > 207 {
			return false
		}
		n := 4 * (1 + int(binary.BigEndian.Uint16(b[2:])))
		if n > len(b) {
			return false
		}
		b = b[n:]
	}
	return len(b) == 0
}
