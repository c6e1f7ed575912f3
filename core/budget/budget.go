// Package budget does the sums before there is a policy: what calls take on a link, how
// many fit, what they leave, and how many to plan for.
package budget

import (
	"errors"
	"fmt"
	"math"
	"math/bits"
	"time"

	"imbrel.example/imbrel/core/codec"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/unit"
)

// A Question is what is to be reckoned. The zero values of what is optional ask nothing.
type Question struct {
	Calls    int // 0: as many as fit Fits, else one
	Codec    codec.Codec
	IPv6     bool
	Framing  packet.Framing
	Fits     unit.Rate // how many calls it carries
	Link     unit.Rate // what is left of it
	Erlangs  float64   // calls to plan for: this much traffic in the busy hour …
	Blocking float64   // … of which this part finds no room
}

// Rates are what something takes in one direction.
type Rates struct {
	PayloadBps  int64   `json:"payload_bps"`
	IPBps       int64   `json:"ip_bps"`
	WireBps     int64   `json:"wire_bps"` // as the framing counts
	PacketsPerS float64 `json:"packets_per_s"`
}

// A Result is the answer.
type Result struct {
	Calls        int     `json:"calls"`
	Codec        string  `json:"codec"`
	IntervalMs   float64 `json:"interval_ms"`
	Framing      string  `json:"framing"`
	PayloadBytes int     `json:"payload_bytes"` // of a packet
	IPBytes      int     `json:"ip_bytes"`
	WireBytes    int     `json:"wire_bytes"`
	PerCall      Rates   `json:"per_call"`
	Total        Rates   `json:"total"`
	Fits         *Fits   `json:"fits"`
	Link         *Link   `json:"link,omitempty"`
	Erlang       *Erlang `json:"erlang,omitempty"`
	Entry        string  `json:"entry,omitempty"` // of a policy, for the calls

	codec codec.Codec
}

// Of returns the codec that was asked for.
func (r *Result) Of() codec.Codec { return r.codec }

// Fits is how many calls a rate carries.
type Fits struct {
	RateBps int64 `json:"rate_bps"`
	Calls   int   `json:"calls"`
	WireBps int64 `json:"wire_bps"` // that they take
}

// A Link is what the calls leave of one.
type Link struct {
	RateBps       int64   `json:"rate_bps"`
	LeftBps       int64   `json:"left_bps"`        // negative: they do not fit
	FullPacketMs  float64 `json:"full_packet_ms"`  // a packet of 1,500 bytes, on the wire
	VoicePacketMs float64 `json:"voice_packet_ms"` // one of a call
}

// An Erlang is how many calls at a time a load needs (Erlang B).
type Erlang struct {
	Erlangs  float64 `json:"erlangs"`
	Wanted   float64 `json:"blocking_wanted"`
	Calls    int     `json:"calls"`
	Blocking float64 `json:"blocking"`          // with so many
	OneLess  float64 `json:"blocking_one_less"` // with one less
}

// FullPacket is the longest IP packet that most networks carry, in bytes.
const FullPacket = 1500

// Bounds of what may be asked.
const (
	MaxCalls   = 100_000
	MaxErlangs = 100_000
)

// Reckon answers a question. An error says what of it cannot be.
func Reckon(q *Question) (*Result, error) {
	c := q.Codec
	if c.Interval <= 0 || c.Payload <= 0 {
		return nil, errors.New("a budget needs a codec")
	}
	ip := c.Length(q.IPv6)
	wire := q.Framing.Size(ip, 0)
	r := &Result{Calls: q.Calls, Codec: c.Name, IntervalMs: float64(c.Interval) / 1e6, Framing: q.Framing.Name, PayloadBytes: c.Payload, IPBytes: ip, WireBytes: wire, codec: c}
	if q.Erlangs > 0 {
		e, err := Plan(q.Erlangs, q.Blocking)
		if err != nil {
			return nil, err
		}
		r.Erlang, r.Calls = e, e.Calls
	}
	if q.Fits > 0 {
		n := Fitting(c, wire, q.Fits)
		if r.Calls == 0 {
			r.Calls = n
		}
		r.Fits = &Fits{int64(q.Fits), n, int64(c.Rate(n * wire))}
	}
	if r.Calls == 0 && q.Fits == 0 {
		r.Calls = 1
	}
	rates := func(n int) Rates {
		return Rates{int64(c.Rate(n * c.Payload)), int64(c.Rate(n * ip)), int64(c.Rate(n * wire)), float64(n) / c.Interval.Seconds()}
	}
	r.PerCall, r.Total = rates(1), rates(r.Calls)
	if q.Link > 0 {
		ms := func(size int) float64 { return float64(q.Link.Time(unit.Size(size))) / 1e6 }
		r.Link = &Link{int64(q.Link), int64(q.Link) - r.Total.WireBps, ms(q.Framing.Size(FullPacket, 0)), ms(wire)}
	}
	if r.Calls <= MaxCalls {
		r.Entry = entry(r, q)
	}
	return r, nil
}

// Fitting returns how many calls, each of packets of so many bytes on the wire, a rate
// carries.
func Fitting(c codec.Codec, wire int, rate unit.Rate) int {
	// n · wire · 8 / interval ≤ rate
	hi, lo := bits.Mul64(uint64(rate), uint64(c.Interval))
	n, _ := bits.Div64(hi, lo, 8*uint64(time.Second)*uint64(wire))
	return int(min(n, math.MaxInt32))
}

// entry returns the entry of a policy that has room for the calls.
func entry(r *Result, q *Question) string {
	more := ""
	if usual, ok := codec.ByName(r.Codec); ok && usual.Interval != q.Codec.Interval {
		more += ", interval: " + unit.FormatDuration(q.Codec.Interval)
	}
	if b := q.Codec.Chosen(); b > 0 {
		more += ", bitrate: " + b.String()
	}
	if q.IPv6 {
		more += ", ip: 6"
	}
	return fmt.Sprintf("{class: voice, mark: ef, priority: 1, police: {calls: %d, codec: %s%s}}", max(r.Calls, 1), r.Codec, more)
}

// Plan returns how many calls at a time to plan for, so that at most a part of those that
// come finds no room: Erlang B, B(0) = 1, B(n) = a·B(n−1) / (n + a·B(n−1)), of a erlangs:
// calls that begin in a second, times how many seconds they last on average.
func Plan(erlangs, blocking float64) (*Erlang, error) {
	if !(erlangs > 0 && erlangs <= MaxErlangs) {
		return nil, fmt.Errorf("%v erlangs are not possible: give more than 0 and at most %d", erlangs, MaxErlangs)
	}
	if !(blocking > 0 && blocking < 1) {
		return nil, fmt.Errorf("a blocking of %v is not possible: give more than 0 and less than 1", blocking)
	}
	e := &Erlang{Erlangs: erlangs, Wanted: blocking, Blocking: 1}
	for e.Blocking > blocking {
		e.Calls++
		e.OneLess = e.Blocking
		e.Blocking = erlangs * e.Blocking / (float64(e.Calls) + erlangs*e.Blocking)
	}
	return e, nil
}
