// Package roundtrip says what a call's packets met on each way, from those that a far end sent back with
// the times at which they came and left.
//
// Two clocks need not agree. The least round trip is then taken to be half on each way, so that
// delays are right where both ways take equally long; round trips, jitter, loss and what is late need no such
// thing.
package roundtrip

import (
	"time"

	"imbrel.example/imbrel/core/codec"
	"imbrel.example/imbrel/core/measure"
)

// A Packet is one that the caller sent.
type Packet struct {
	Sent     time.Duration // by the caller's clock
	Returned bool
	Came     time.Duration // to the far end, by its clock
	Left     time.Duration // the far end, by its clock
	Back     time.Duration // at the caller, by its clock
	Number   int64         // of the echo, among those that the far end sent back of the call
}

// A Way is what the packets met on one way.
type Way struct {
	Sent     int64                 `json:"sent"`
	Arrived  int64                 `json:"arrived"`
	Loss     float64               `json:"loss"`
	Late     float64               `json:"late"` // of those that arrived, what came too late to be played
	Delay    *measure.Milliseconds `json:"delay_ms"`
	JitterMs float64               `json:"jitter_ms"` // RFC 3550
	MOS      *float64              `json:"mos"`
}

// A Call is what one call met.
type Call struct {
	There     Way                   `json:"forward"`
	Back      Way                   `json:"reverse"`
	RoundTrip *measure.Milliseconds `json:"round_trip_ms"` // without the time at the far end
}

// Offset returns by how much the far end's clock is ahead of the caller's: 0 where they are said to
// agree, and so that the least round trip is half on each way where not.
func Offset(packets []Packet, agree bool) time.Duration {
	if agree {
		return 0
	}
	var there, trip time.Duration
	any := false
	for i := range packets {
		p := &packets[i]
		if !p.Returned {
			continue
		}
		t, rtt := p.Came-p.Sent, p.Back-p.Sent-(p.Left-p.Came)
		if !any || rtt < trip {
			trip = rtt
		}
		if !any || t < there {
			there = t
		}
		any = true
	}
	return there - trip/2
}

// Judge returns what a call of a codec met. Packets are in the order in which they were sent;
// arrived is how many the far end counts in all, or less where that is not known.
func Judge(c codec.Codec, playout time.Duration, packets []Packet, offset time.Duration, arrived int64) Call {
	var out Call
	if len(packets) == 0 {
		return out
	}
	w := newWalker(c, playout, packets)
	for i := range packets {
		w.walk(&packets[i], offset)
	}
	w.missing(w.waiting, arrived-w.there.arrived)
	return w.result()
}

// Part returns what the packets from one number up to another met of a call whose packets are all given. The
// playout point is that of the call, which remembers the ten seconds before.
func Part(c codec.Codec, playout time.Duration, packets []Packet, from, to int, offset time.Duration) Call {
	var out Call
	if from >= to {
		return out
	}
	w := newWalker(c, playout, packets)
	var part *walker
	for i := range packets[:to] {
		if i == from {
			w.missing(w.waiting, 0) // those before are not of the part
			w.waiting = 0
			part = w.part(measure.Window{From: packets[from].Sent - w.begin, To: packets[to-1].Sent - w.begin + c.Interval})
		}
		w.walk(&packets[i], offset)
		if part != nil {
			part.walk(&packets[i], offset)
		}
	}
	part.missing(part.waiting, 0)
	return part.result()
}

// A walker books the packets of a call, or of a part of one, in their order.
type walker struct {
	there, back    way
	begin          time.Duration
	first, waiting int64 // the number of the next echo, and packets before it that did not return
	trips          measure.Distribution
}

func newWalker(c codec.Codec, playout time.Duration, packets []Packet) *walker {
	begin := packets[0].Sent
	end := packets[len(packets)-1].Sent - begin + c.Interval
	there, back := measure.NewCall(&c, playout, 0, end)
	return &walker{there: way{flow: there, end: end}, back: way{flow: back, end: end}, begin: begin}
}

// part returns a walker of the packets from now on.
func (w *walker) part(span measure.Window) *walker {
	out := &walker{begin: w.begin, first: w.first}
	for _, way := range []struct{ of, to *way }{{&w.there, &out.there}, {&w.back, &out.back}} {
		*way.to = *way.of
		way.to.flow, way.to.end = way.of.flow.Window(0, span, way.of.sent), span.To
		way.to.before, way.to.sent, way.to.arrived, way.to.late, way.to.delays = way.of.sent, 0, 0, 0, measure.Distribution{}
	}
	return out
}

// walk books a packet, once one after it has returned.
func (w *walker) walk(p *Packet, offset time.Duration) {
	if !p.Returned {
		w.waiting++
		return
	}
	w.missing(w.waiting, p.Number-w.first)
	w.waiting, w.first = 0, max(w.first, p.Number+1)
	w.there.delivered(p.Sent-w.begin, max(0, p.Came-p.Sent-offset))
	w.back.delivered(p.Left-offset-w.begin, max(0, p.Back-p.Left+offset))
	w.trips.Add(max(0, p.Back-p.Sent-(p.Left-p.Came)))
}

func (w *walker) result() Call {
	return Call{There: w.there.result(), Back: w.back.result(), RoundTrip: w.trips.Summary()}
}

// missing books packets that did not return, of which the far end sent so many echoes: which they
// were is not known, and the first are taken.
func (w *walker) missing(packets, echoes int64) {
	echoes = max(0, min(packets, echoes))
	for range echoes {
		w.there.delivered(w.there.last+w.there.step, w.there.delay)
		w.back.dropped()
	}
	for range packets - echoes {
		w.there.dropped()
	}
}

// A way is one at work.
type way struct {
	flow          *measure.Flow
	end           time.Duration
	last, step    time.Duration // when the last was sent, and how long after the one before
	delay         time.Duration // of the last that arrived
	before        int64         // packets of the call before this part
	sent, arrived int64
	late          int64
	delays        measure.Distribution
}

func (w *way) delivered(sent, delay time.Duration) {
	w.step, w.last, w.delay = max(0, sent-w.last), sent, delay
	if _, late, _ := w.flow.Delivered(w.before+w.sent, sent, delay, w.end); late {
		w.late++
	}
	w.sent++
	w.arrived++
	w.delays.Add(delay)
}

func (w *way) dropped() {
	w.flow.Dropped(w.before + w.sent)
	w.sent++
}

func (w *way) result() Way {
	out := Way{Sent: w.sent, Arrived: w.arrived, Delay: w.delays.Summary(), JitterMs: float64(int64(w.flow.MeanJitter()/1e3)) / 1e3}
	if w.sent > 0 {
		out.Loss = float64(w.sent-w.arrived) / float64(w.sent)
	}
	if w.arrived > 0 {
		out.Late = float64(w.late) / float64(w.arrived)
	}
	if w.sent > 0 {
		mos := w.flow.MOS()
		out.MOS = &mos
	}
	return out
}
