// Package echo says what a call's packets met on each way, from those that a far end sent back with
// the times at which they came and left.
//
// Two clocks need not agree. The least round trip is then taken to be half on each way, so that
// delays are right where both ways take equally long; round trips, jitter, loss and what is late need no such
// thing.
package echo

import (
	"time"

	"imbrel/core/codec"
	"imbrel/core/measure"
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
	There     Way                   `json:"there"`
	Back      Way                   `json:"back"`
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
	begin := packets[0].Sent
	end := packets[len(packets)-1].Sent - begin + c.Interval
	there, back := measure.NewCall(c, playout, 0, end)
	w := walker{there: way{flow: there, end: end}, back: way{flow: back, end: end}}
	var trips measure.Distribution
	first, waiting := int64(0), int64(0) // the number of the next echo, and packets before it that did not return
	if n := firstNumber(packets); n > 0 {
		first = n
	}
	for i := range packets {
		p := &packets[i]
		if !p.Returned {
			waiting++
			continue
		}
		w.missing(waiting, p.Number-first)
		waiting, first = 0, max(first, p.Number+1)
		sent := p.Sent - begin
		w.there.delivered(sent, max(0, p.Came-p.Sent-offset))
		w.back.delivered(p.Left-offset-begin, max(0, p.Back-p.Left+offset))
		trips.Add(max(0, p.Back-p.Sent-(p.Left-p.Came)))
	}
	w.missing(waiting, arrived-w.there.arrived)
	out.There, out.Back, out.RoundTrip = w.there.result(), w.back.result(), trips.Summary()
	return out
}

// firstNumber returns the number of the first echo of a part of a call: what came before it is of no
// matter here, but for packets of this part that did not return.
func firstNumber(packets []Packet) int64 {
	for i := range packets {
		if packets[i].Returned {
			return packets[i].Number - int64(i)
		}
	}
	return 0
}

type walker struct{ there, back way }

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
	sent, arrived int64
	late          int64
	delays        measure.Distribution
}

func (w *way) delivered(sent, delay time.Duration) {
	w.step, w.last, w.delay = max(0, sent-w.last), sent, delay
	if _, late := w.flow.Delivered(w.sent, sent, delay, w.end); late {
		w.late++
	}
	w.sent++
	w.arrived++
	w.delays.Add(delay)
}

func (w *way) dropped() {
	w.flow.Dropped(w.sent)
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
