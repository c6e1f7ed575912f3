package traffic

import (
	"math"
	"math/rand/v2"
	"time"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
)

// A Stream sends packets at a rate. Rate counts IP bytes; where arrivals are on-off, it is
// the rate of a burst.
type Stream struct {
	Rate       unit.Rate
	Length     int // of its IP packets; the mean, where they vary
	Flow       packet.Flow
	DSCP       codepoint.DSCP
	Start, End time.Duration
	Arrivals   policy.Arrivals
	Varied     bool // lengths are exponentially distributed
	// On and Off are the mean times of a burst and of a pause.
	On, Off time.Duration
	// From is the rate that it begins with, and Over the time in which that becomes Rate; Over
	// 0: it is Rate from the start.
	From unit.Rate
	Over time.Duration
	// Random is needed where something is random; otherwise it may be nil.
	Random *rand.Rand

	clock unit.Clock
	begun bool
	burst time.Duration // when it ends
	sent  float64       // of a ramp: the bits until the next packet
	next  int           // length of the next packet
	like  like
}

// Next yields the stream's next packet.
func (s *Stream) Next(p *packet.Packet, room []byte) (time.Duration, bool, error) {
	return nextOf(s, p, room)
}

// Due returns when the stream's next packet is sent.
func (s *Stream) Due() (time.Duration, bool) {
	if s.next = s.Length; s.Varied {
		s.next = s.length()
	}
	if !s.begun {
		s.begun = true
		s.begin()
	}
	at := s.clock.Ready()
	if s.Arrivals == policy.OnOff && at >= s.burst && at < s.End {
		at += heavyTailed(s.Random, s.Off)
		s.burst = at + heavyTailed(s.Random, s.On)
		s.clock.NotBefore(at)
	}
	return at, at < s.End
}

// Make makes the packet that is due.
func (s *Stream) Make(p *packet.Packet, room []byte) {
	length := s.next
	switch {
	case s.Over > 0 && s.Arrivals == policy.Poisson:
		s.sent += float64(Exponential(s.Random) * float64(8*s.Length))
		s.clock.NotBefore(s.Start + s.ramped(s.sent))
	case s.Over > 0:
		s.sent += float64(8 * length)
		s.clock.NotBefore(s.Start + s.ramped(s.sent))
	case s.Arrivals == policy.Poisson:
		s.clock.NotBefore(s.clock.Ready() + s.gap())
	default:
		s.clock.Advance(length, s.Rate)
	}
	if s.Varied {
		p.Build(room, s.Flow, s.DSCP, length, 0)
	} else {
		s.like.next(p, room, &s.Flow, s.DSCP, length, 0)
	}
}

// begin sets when the first packet is sent.
func (s *Stream) begin() {
	s.clock.NotBefore(s.Start)
	switch {
	case s.Arrivals == policy.Poisson && s.Over > 0:
		s.sent = float64(Exponential(s.Random) * float64(8*s.Length))
		s.clock.NotBefore(s.Start + s.ramped(s.sent))
	case s.Arrivals == policy.Poisson:
		s.clock.NotBefore(s.Start + s.gap())
	case s.Arrivals == policy.OnOff: // in a burst as often as it is in one later
		s.burst = s.Start
		if s.Random.Float64() < float64(s.On)/float64(s.On+s.Off) {
			s.burst += heavyTailed(s.Random, s.On)
		}
	}
}

// gap draws the time to the next packet of a Poisson process.
func (s *Stream) gap() time.Duration {
	return time.Duration(Exponential(s.Random) * float64(s.Rate.Time(unit.Size(s.Length))))
}

// ramped returns after how much time a ramp has sent so many bits. With the rates f and r and
// the time T of the ramp, f·t + (r-f)·t²/2T bits are sent after t; solved for t in the form
// that does not cancel.
func (s *Stream) ramped(bits float64) time.Duration {
	f, r, over := float64(s.From), float64(s.Rate), s.Over.Seconds()
	seconds := 0.0
	if whole := float64((f+r)/2) * over; bits >= whole {
		seconds = over + (bits-whole)/r
	} else {
		seconds = 2 * bits / (f + math.Sqrt(float64(f*f)+float64(2*(r-f)/over*bits)))
	}
	return time.Duration(min(seconds, 1e6) * 1e9)
}

// RampAt returns the rate of a ramp after a time.
func RampAt(from, to unit.Rate, over, after time.Duration) unit.Rate {
	if after >= over {
		return to
	}
	return from + unit.Rate(float64(to-from)*(float64(max(after, 0))/float64(over)))
}

// length draws the length of a packet: its headers at least, at most what IP can say.
func (s *Stream) length() int {
	least := packet.IPv4Header
	if s.Flow.From.Is6() {
		least = packet.IPv6Header
	}
	switch s.Flow.Protocol {
	case packet.UDP:
		least += 8
	case packet.TCP:
		least += 20
	}
	return min(max(int(Exponential(s.Random)*float64(s.Length)+0.5), least), 65535)
}
