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

// A record is what the measures need of a packet at the end of its way.
type record struct {
	moment
	source  *source
	flow    *measure.Flow
	key     measure.Key
	arrived measure.Arrived
	lost    bool
	steps   int32 // how many it has
}

// book books a packet that ends its way at a time.
func (r *run) book(f *flight, at time.Duration, lost bool) {
	if r.options.WithoutPolicy {
		f.in, f.first = f.prediction.in, f.prediction.first
	}
	if f.token != 0 {
		delete(r.away, f.token)
		delete(r.entered, f.token)
		f.token = 0
	}
	if r.counts(f) {
		k := record{source: f.source, flow: f.flow, lost: lost, key: measure.Key{Traffic: f.source.index, Reverse: f.source.reverse, First: f.first, In: f.in},
			arrived: measure.Arrived{Number: f.number, Sent: f.sent, Delay: max(0, at-f.sent), Length: f.length(), DSCP: f.DSCP()}}
		if r.team == nil {
			r.enterRecord(&k, f.steps)
		} else {
			r.keepRecord(&k, f.steps)
		}
	}
	r.done(f)
}

// enterRecord enters a record into the measures of the whole time, and of the windows in which the packet was sent.
func (r *run) enterRecord(k *record, steps []measure.Step) {
	k.arrived.End = k.source.end
	late := r.enterAt(0, k.flow, k, steps)
	if r.series != nil && !k.lost {
		r.series.way(int(k.key.Traffic), k.key.Reverse, func(i int, w *waySeries) {
			w.received[i] += int64(k.arrived.Length)
			w.delay.Add(i, k.arrived.Delay)
			if late {
				w.late[i]++
			}
		})
	}
	for i, w := range r.windows {
		if k.arrived.Sent >= w.From && k.arrived.Sent < w.To {
			k.arrived.End = min(w.To, k.source.end)
			r.enterAt(1+i, k.flow.Window(i, w, k.arrived.Number), k, steps)
		}
	}
}

// enterAt enters a record into a collector.
func (r *run) enterAt(collector int, flow *measure.Flow, k *record, steps []measure.Step) (late bool) {
	if r.team != nil && !flow.Booked() {
		r.first[collector] = append(r.first[collector], firstBooking{k.moment, flow})
	}
	t := r.collectors[collector].Tally(flow, k.key)
	if k.lost {
		t.Dropped(flow, k.arrived.Number, k.arrived.Length, steps)
		return false
	}
	return t.Delivered(flow, &k.arrived, steps)
}

// deliver books a packet that arrived at a time.
func (r *run) deliver(f *flight, at time.Duration) {
	if w := f.whole; w != nil {
		if r.partEnds(f, false) {
			r.deliver(w.flight, at)
		}
		return
	}
	if e := f.source.endpoint; e == nil || e.model == nil {
		r.book(f, at, false)
		return
	}
	segment, to := f.segment()
	r.book(f, at, false)
	if to != nil {
		r.receives(to, &segment)
	}
}

func (r *run) lose(f *flight) {
	if f.whole != nil {
		r.partEnds(f, true)
		return
	}
	if c := f.source.replays; c != nil && f.Flow.Protocol == packet.TCP && r.counts(f) {
		c.TCPLost++
	}
	if r.series != nil && r.counts(f) {
		r.series.way(int(f.source.index), f.source.reverse, func(i int, w *waySeries) { w.lost[i]++ })
	}
	r.book(f, r.now, true)
}

// until returns the end of the measured time.
func (r *run) until() time.Duration { return r.plan.WarmUp + r.lasts }

// bps returns bytes over the measured time as a rate.
func (r *run) bps(bytes uint64) int64 { return over(bytes, r.lasts) }

// over returns bytes over a time as a rate.
func over(bytes uint64, d time.Duration) int64 {
	return int64(float64(bytes)*8/d.Seconds() + 0.5)
}
