// Package stamp has the test packets of STAMP (RFC 8762) with the class-of-service extension
// (RFC 8972 §4.4): what a sender sends, and what a reflector makes of it.
package stamp

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"time"

	"imbrel.example/imbrel/core/codepoint"
)

// The lengths of test packets without extensions (RFC 8762 §4.2 and §4.3), in bytes.
const (
	Length              = 44
	AuthenticatedLength = 112
	macLength           = 16
)

// Port is the UDP port of reflectors (RFC 8762 §4.1).
const Port = 862

// An extension's flags, its type and its length come before its value (RFC 8972 §4).
const (
	unrecognised = 0x80
	malformed    = 0x40
	integrity    = 0x20
	tlvHeader    = 4
	tlvClass     = 4
	classLength  = 4
)

// A Probe is a packet of a sender.
type Probe struct {
	Sequence uint32
	Time     time.Time
	Error    uint16 // estimate of the clock's (RFC 4656 §4.1.2)
	Session  uint16
	// Class is the class of service that the answer is wanted with; nil: no extension.
	Class *Class
}

// A Class is the class-of-service extension.
type Class struct {
	Wanted   codepoint.DSCP // for the way back
	Received codepoint.DSCP // by the reflector
	ECN      uint8          // as the reflector received it
	Refused  bool           // the reflector does not send with Wanted
	Unknown  bool           // the reflector did not know the extension
}

// An Answer is a packet of a reflector.
type Answer struct {
	Sequence uint32 // the reflector's own count, or the sender's where it keeps none
	Time     time.Time
	Error    uint16
	Session  uint16
	Received time.Time // when the probe came
	Probe    Probe     // what of it comes back: number, time, error
	TTL      uint8     // with which the probe came
	Class    *Class
}

// What Parse finds wrong.
var (
	ErrShort = errors.New("it is shorter than a test packet")
	ErrKey   = errors.New("its authentication code is not that of the key")
)

// epoch is the second in which NTP's time begins, in Unix time.
const epoch = -2208988800

// putTime writes a time as NTP does: seconds since 1900 and their fraction in 2^-32 (RFC 5905 §6).
func putTime(b []byte, t time.Time) {
	binary.BigEndian.PutUint32(b, uint32(t.Unix()-epoch))
	binary.BigEndian.PutUint32(b[4:], uint32((uint64(t.Nanosecond())<<32+500_000_000)/1_000_000_000))
}

// getTime reads a time, which is one of the 136 years from 1970 on.
func getTime(b []byte) time.Time {
	seconds := int64(binary.BigEndian.Uint32(b)) + epoch
	if seconds < 0 { // before 1970: of the next era
		seconds += 1 << 32
	}
	return time.Unix(seconds, int64((uint64(binary.BigEndian.Uint32(b[4:]))*1_000_000_000+1<<31)>>32))
}

// Bytes returns the packet of a probe, authenticated where there is a key.
func (p *Probe) Bytes(key []byte) []byte {
	b := make([]byte, Length)
	at := 4 // of what comes after the number
	if len(key) > 0 {
		b = make([]byte, AuthenticatedLength)
		at = 16
	}
	binary.BigEndian.PutUint32(b, p.Sequence)
	putTime(b[at:], p.Time)
	binary.BigEndian.PutUint16(b[at+8:], p.Error)
	binary.BigEndian.PutUint16(b[at+10:], p.Session)
	if len(key) > 0 {
		seal(b, key)
	}
	return p.Class.append(b, unrecognised)
}

// seal writes the authentication code of a packet: HMAC-SHA-256 of what is before it, cut to 16
// bytes (RFC 8762 §4.4).
func seal(b, key []byte) {
	m := hmac.New(sha256.New, key)
	m.Write(b[:AuthenticatedLength-macLength])
	copy(b[AuthenticatedLength-macLength:], m.Sum(nil))
}

// sealed reports whether the code of a packet is right.
func sealed(b, key []byte) bool {
	m := hmac.New(sha256.New, key)
	m.Write(b[:AuthenticatedLength-macLength])
	return hmac.Equal(m.Sum(nil)[:macLength], b[AuthenticatedLength-macLength:AuthenticatedLength])
}

// append appends the extension.
func (c *Class) append(b []byte, flags byte) []byte {
	if c == nil {
		return b
	}
	refused := uint16(0)
	if c.Refused {
		refused = 1
	}
	value := uint16(c.Wanted)<<10 | uint16(c.Received)<<4 | uint16(c.ECN&3)<<2 | refused
	b = append(b, flags, tlvClass, 0, classLength)
	b = binary.BigEndian.AppendUint16(b, value)
	return append(b, 0, 0)
}

// class looks for the extension after a packet of a length.
func class(b []byte) *Class {
	for len(b) >= tlvHeader {
		n := int(binary.BigEndian.Uint16(b[2:]))
		if tlvHeader+n > len(b) {
			return nil
		}
		if b[1] == tlvClass && n == classLength {
			v := binary.BigEndian.Uint16(b[tlvHeader:])
			return &Class{Wanted: codepoint.DSCP(v >> 10), Received: codepoint.DSCP(v >> 4 & 63), ECN: uint8(v >> 2 & 3), Refused: v&3 != 0, Unknown: b[0]&(unrecognised|malformed|integrity) != 0}
		}
		b = b[tlvHeader+n:]
	}
	return nil
}

// lengthOf returns the length of a packet without extensions.
func lengthOf(key []byte) int {
	if len(key) > 0 {
		return AuthenticatedLength
	}
	return Length
}

// ParseProbe reads the packet of a sender.
func ParseProbe(b, key []byte) (p Probe, err error) {
	n := lengthOf(key)
	if len(b) < n {
		return p, ErrShort
	}
	at := 4
	if len(key) > 0 {
		if at = 16; !sealed(b, key) {
			return p, ErrKey
		}
	}
	return Probe{Sequence: binary.BigEndian.Uint32(b), Time: getTime(b[at:]), Error: binary.BigEndian.Uint16(b[at+8:]), Session: binary.BigEndian.Uint16(b[at+10:]), Class: class(b[n:])}, nil
}

// Reflect returns the packet that answers a probe: as long as that, with its extensions, none of
// which but the class of service is known here.
func (a *Answer) Reflect(probe, key []byte) []byte {
	n := lengthOf(key)
	b := make([]byte, n, len(probe))
	binary.BigEndian.PutUint32(b, a.Sequence)
	if len(key) == 0 { // RFC 8762 §4.3.1
		putTime(b[4:], a.Time)
		binary.BigEndian.PutUint16(b[12:], a.Error)
		binary.BigEndian.PutUint16(b[14:], a.Session)
		putTime(b[16:], a.Received)
		copy(b[24:], probe[:14]) // number, time, error
		b[40] = a.TTL
	} else { // §4.3.2
		putTime(b[16:], a.Time)
		binary.BigEndian.PutUint16(b[24:], a.Error)
		binary.BigEndian.PutUint16(b[26:], a.Session)
		putTime(b[32:], a.Received)
		copy(b[48:], probe[:4])
		copy(b[64:], probe[16:26])
		b[80] = a.TTL
		seal(b, key)
	}
	rest := probe[n:]
	for len(rest) >= tlvHeader {
		v := int(binary.BigEndian.Uint16(rest[2:]))
		if tlvHeader+v > len(rest) {
			break
		}
		if rest[1] == tlvClass && v == classLength && a.Class != nil {
			b = a.Class.append(b, 0)
		} else {
			at := len(b)
			b = append(b, rest[:tlvHeader+v]...)
			b[at] |= unrecognised
		}
		rest = rest[tlvHeader+v:]
	}
	return append(b, make([]byte, len(rest))...)
}

// ParseAnswer reads the packet of a reflector.
func ParseAnswer(b, key []byte) (a Answer, err error) {
	n := lengthOf(key)
	if len(b) < n {
		return a, ErrShort
	}
	a.Sequence = binary.BigEndian.Uint32(b)
	if len(key) == 0 {
		a.Time, a.Error, a.Session, a.Received = getTime(b[4:]), binary.BigEndian.Uint16(b[12:]), binary.BigEndian.Uint16(b[14:]), getTime(b[16:])
		a.Probe = Probe{Sequence: binary.BigEndian.Uint32(b[24:]), Time: getTime(b[28:]), Error: binary.BigEndian.Uint16(b[36:]), Session: a.Session}
		a.TTL = b[40]
	} else {
		if !sealed(b, key) {
			return a, ErrKey
		}
		a.Time, a.Error, a.Session, a.Received = getTime(b[16:]), binary.BigEndian.Uint16(b[24:]), binary.BigEndian.Uint16(b[26:]), getTime(b[32:])
		a.Probe = Probe{Sequence: binary.BigEndian.Uint32(b[48:]), Time: getTime(b[64:]), Error: binary.BigEndian.Uint16(b[72:]), Session: a.Session}
		a.TTL = b[80]
	}
	a.Class = class(b[n:])
	return a, nil
}
