package simulate

import (
	"time"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/packet"
)

// length returns the length of the IP packet that its source sent.
func (f *flight) length() int {
	if f.inside.Hides() {
		return f.inside.Length()
	}
	return f.Length
}

// book books a packet, at the end of its way, in the whole time and in each window that
// it was sent in.
func (r *run) book(f *flight, b func(t *measure.Tally, flow *measure.Flow, end time.Duration)) {
	if r.options.WithoutPolicy {
		f.in, f.first = f.prediction.in, f.prediction.first
	}
	if f.token != 0 {
		delete(r.away, f.token)
		delete(r.entered, f.token)
		f.token = 0
	}
	k := measure.Key{Traffic: f.source.index, Reverse: f.source.reverse, First: f.first, In: f.in}
	if !r.counts(f) {
		r.done(f)
		return
	}
	b(r.collectors[0].Tally(f.flow, k), f.flow, f.source.end)
	for i, w := range r.windows {
		if f.sent >= w.From && f.sent < w.To {
			flow := f.flow.Window(i, w, f.number)
			b(r.collectors[1+i].Tally(flow, k), flow, min(w.To, f.source.end))
		}
	}
	r.done(f)
}

// deliver books a packet that arrived at a time.
func (r *run) deliver(f *flight, at time.Duration) {
	if w := f.whole; w != nil {
		if r.partEnds(f, false) {
			r.deliver(w.flight, at)
		}
		return
	}
	segment, to := f.segment()
	a := measure.Arrived{Number: f.number, Sent: f.sent, Delay: max(0, at-f.sent), Length: f.length(), DSCP: f.DSCP()}
	r.book(f, func(t *measure.Tally, flow *measure.Flow, end time.Duration) {
		a.End = end
		late := t.Delivered(flow, &a, f.steps)
		if r.series != nil && flow == f.flow { // the whole, not a window
			r.series.way(int(f.source.index), f.source.reverse, func(i int, w *waySeries) {
				w.received[i] += int64(a.Length)
				w.delay.Add(i, a.Delay)
				if late {
					w.late[i]++
				}
			})
		}
	})
	if to != nil {
		r.receives(to, &segment)
	}
}

func (r *run) lose(f *flight) {
	if f.whole != nil {
		r.partEnds(f, true)
		return
	}
	if c := f.source.capture; c != nil && f.Flow.Protocol == packet.TCP && r.counts(f) {
		c.TCPLost++
	}
	if r.series != nil && r.counts(f) {
		r.series.way(int(f.source.index), f.source.reverse, func(i int, w *waySeries) { w.lost[i]++ })
	}
	r.book(f, func(t *measure.Tally, flow *measure.Flow, _ time.Duration) {
		t.Dropped(flow, f.number, f.length(), f.steps)
	})
}

// until returns the end of the measured time.
func (r *run) until() time.Duration { return r.plan.WarmUp + r.lasts }

// bps returns bytes over the measured time as a rate.
func (r *run) bps(bytes uint64) int64 { return over(bytes, r.lasts) }

// over returns bytes over a time as a rate.
func over(bytes uint64, d time.Duration) int64 {
	return int64(float64(bytes)*8/d.Seconds() + 0.5)
}
