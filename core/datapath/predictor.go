package datapath

import (
	"slices"
	"time"

	"imbrel.example/imbrel/core/classify"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/unit"
)

// A Predictor says what a policy would do with a packet that does not come to it: one
// that was dropped before, or one of a run without policies. It takes the packet as the
// first match wins, with what is in force at the time, and every meter as green.
type Predictor struct {
	classifier *classify.Classifier
	entries    []*plan.Entry // those with a `when`
	held       []bool        // of each, as the classifier has it
	startAt    time.Time
	load       *Path
}

// NewPredictor returns the predictor of a plan. The path that load is knows whether the
// conditions on the load of the interface hold; without one they never do.
func NewPredictor(p *plan.Plan, startAt time.Time, load *Path) *Predictor {
	f := &Predictor{classifier: classify.New(p), startAt: startAt, load: load}
	for _, e := range p.Entries {
		if e.When != nil {
			f.entries = append(f.entries, e)
		}
	}
	f.held = make([]bool, len(f.entries))
	f.classifier.InForce(f.entries, func(*plan.Entry) bool { return false })
	return f
}

// Take returns the entry that would take the packet.
func (f *Predictor) Take(now time.Duration, pkt *packet.Packet) int32 {
	for i, e := range f.entries {
		if holds := f.active(now, e.When); holds != f.held[i] {
			f.held[i] = holds
			f.classifier.InForce(f.entries[i:i+1], func(*plan.Entry) bool { return holds })
		}
	}
	return f.classifier.Number(pkt)
}

// active reports whether a condition is true; none always is.
func (f *Predictor) active(now time.Duration, w *plan.When) bool {
	switch {
	case w == nil:
		return true
	case w.Time != nil:
		return w.Time.Holds(f.startAt.Add(now))
	}
	return f.load != nil && f.load.holds(w)
}

// holds reports whether a `when` of the path's policy holds now.
func (p *Path) holds(w *plan.When) bool {
	return slices.ContainsFunc(p.triggers, func(t *trigger) bool { return t.when == w && t.inForce })
}

// Slowest returns the least upper limit of an entry and those around it that is in force, or the rate
// where that is less.
func (f *Predictor) Slowest(now time.Duration, e *plan.Entry, rate unit.Rate) unit.Rate {
	for ; e != nil; e = e.Parent {
		if m := e.AtMost; m != nil && f.active(now, m.When) {
			rate = min(rate, m.Rate)
		}
	}
	return rate
}

// Mark marks a packet as an entry and those around it would, and reports whether one of them blocks it.
func (f *Predictor) Mark(now time.Duration, e *plan.Entry, pkt *packet.Packet) (blocked bool) {
	for _, o := range e.Chain() {
		t := TreatmentOf(o, func(w *plan.When) bool { return f.active(now, w) })
		if t.withoutLimits(pkt) {
			return true
		}
	}
	return false
}

// WithoutLimits marks a packet that Enqueue has just policed as if it had been green there and
// in what is within, and reports whether something blocks it.
func (p *Path) WithoutLimits(pkt *packet.Packet) (blocked bool) {
	return slices.ContainsFunc(p.elements[pkt.Slot].acts[p.stopped:], func(a *element) bool { return a.withoutLimits(pkt) })
}

// Observe tells a path that forwards nothing what another one sends in its place, so
// that it knows which conditions on the load hold.
func (p *Path) Observe(now time.Duration, bytes int) {
	if len(p.triggers) > 0 && now >= p.pressure.end {
		p.look(now)
	}
	p.pressure.bytes += int64(bytes)
}
