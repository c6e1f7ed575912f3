// Package codec has the voice codecs: how each turns speech into packets, and
// what the E-model needs to know of it.
package codec

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"imbrel.example/imbrel/core/unit"
)

// RTPHeader, UDPHeader, IPv4Header and IPv6Header are the headers of a packet of
// voice, in bytes (RFC 3550 §5.1, 768, 791, 8200).
const (
	RTPHeader  = 12
	UDPHeader  = 8
	IPv4Header = 20
	IPv6Header = 40
)

// A Codec is one codec at one packet interval. The zero Codec is none.
type Codec struct {
	Name        string
	Interval    time.Duration // between packets
	Payload     int           // bytes a packet, without headers
	PayloadType uint8         // RFC 3551
	Clock       int64         // ticks of the RTP timestamp a second
	LookAhead   time.Duration // of the coder, before it can code a frame
	Ie, Bpl     float64       // ITU-T G.113 appendix I, with loss concealment
	Assumed     string        // which of the values no standard gives

	frame      time.Duration // an interval is a whole number of frames
	frameBytes int           // 0: as its bit rate says
	bitRate    unit.Rate     // of the payload, where it can be chosen
}

// all lists the codecs at their usual packet interval.
func all() []Codec {
	const ms = time.Millisecond
	return []Codec{
		{Name: "g711", Interval: 20 * ms, PayloadType: 0, Clock: 8000, Ie: 0, Bpl: 25.1, frame: ms, frameBytes: 8},
		{Name: "g722", Interval: 20 * ms, PayloadType: 9, Clock: 8000, Ie: 0, Bpl: 25.1, frame: ms, frameBytes: 8,
			Assumed: "Ie and Bpl as G.711: the narrow-band scale has no figure for a wide-band codec"},
		{Name: "g729", Interval: 20 * ms, PayloadType: 18, Clock: 8000, LookAhead: 5 * ms, Ie: 11, Bpl: 19, frame: 10 * ms, frameBytes: 10},
		{Name: "g723", Interval: 30 * ms, PayloadType: 4, Clock: 8000, LookAhead: 7500 * time.Microsecond, Ie: 15, Bpl: 16.1, frame: 30 * ms, frameBytes: 24},
		{Name: "opus", Interval: 20 * ms, PayloadType: 111, Clock: 48000, LookAhead: 6500 * time.Microsecond, Ie: 0, Bpl: 10, frame: 10 * ms, bitRate: 24 * unit.KbitPerSecond,
			Assumed: "24 kbit/s unless `bitrate` is given, Ie 0 and Bpl 10: G.113 lists none"},
	}
}

// Names returns the names of all codecs, as words of the language.
func Names() []string {
	var names []string
	for _, c := range all() {
		names = append(names, c.Name)
	}
	return names
}

// ByName returns a codec at its usual packet interval.
func ByName(name string) (Codec, bool) {
	for _, c := range all() {
		if c.Name == name {
			c.Payload = c.payload()
			return c, true
		}
	}
	return Codec{}, false
}

// With returns the codec at another packet interval, or bit rate; 0 leaves either
// as it is. An error says which values are possible.
func (c Codec) With(interval time.Duration, bitRate unit.Rate) (Codec, error) {
	if c.frame <= 0 {
		return c, errors.New("this is not a codec: take one by its name")
	}
	if interval > 0 {
		if interval%c.frame != 0 || interval > 200*time.Millisecond {
			return c, fmt.Errorf("%s has frames of %s: a packet holds a whole number of them, up to 200ms", c.Name, unit.FormatDuration(c.frame))
		}
		c.Interval = interval
	}
	if bitRate > 0 {
		if c.bitRate == 0 {
			return c, fmt.Errorf("the bit rate of %s cannot be chosen", c.Name)
		}
		if bitRate < 6*unit.KbitPerSecond || bitRate > 510*unit.KbitPerSecond {
			return c, fmt.Errorf("%s has from 6kbit/s to 510kbit/s", c.Name)
		}
		c.bitRate = bitRate
	}
	c.Payload = c.payload()
	return c, nil
}

// WithFEC returns the codec with forward error correction in its packets (RFC 6716 §2.1.7), of the same rate: a copy of each packet, in less quality, is in the next.
// A loss is heard where two in a row are lost; no standard gives figures, and Bpl is taken as twice that without. It reports false where the codec has none.
func (c Codec) WithFEC() (Codec, bool) {
	if c.Name != "opus" {
		return c, false
	}
	c.Bpl *= 2
	c.Assumed += "; with `fec`, Bpl 20"
	return c, true
}

func (c Codec) payload() int {
	if c.bitRate > 0 {
		return int(c.bitRate.Bytes(c.Interval))
	}
	return int(c.Interval/c.frame) * c.frameBytes
}

// Length returns the length of the IP packets of a call, in bytes.
func (c Codec) Length(ipv6 bool) int {
	ip := IPv4Header
	if ipv6 {
		ip = IPv6Header
	}
	return ip + UDPHeader + RTPHeader + c.Payload
}

// Rate returns the bit rate of so many packets a second as one call sends, each of
// size bytes, rounded up.
func (c Codec) Rate(size int) unit.Rate {
	if c.Interval <= 0 {
		return 0 // of no codec
	}
	n := int64(size) * 8 * int64(time.Second)
	return unit.Rate((n + int64(c.Interval) - 1) / int64(c.Interval))
}

// Chosen returns the bit rate of a codec whose bit rate can be chosen, where it is not the
// usual one; else 0.
func (c Codec) Chosen() unit.Rate {
	if usual, ok := ByName(c.Name); !ok || usual.bitRate == c.bitRate {
		return 0
	}
	return c.bitRate
}

// Ticks returns the units of the RTP timestamp that a packet takes.
func (c Codec) Ticks() uint32 { return uint32(c.Clock * int64(c.Interval) / int64(time.Second)) }

// String returns the name as people write it: "G.711", "Opus".
func (c Codec) String() string {
	if digits, ok := strings.CutPrefix(c.Name, "g"); ok {
		return "G." + digits
	}
	return strings.ToUpper(c.Name[:min(1, len(c.Name))]) + c.Name[min(1, len(c.Name)):]
}
