package measure

import (
	"cmp"
	"slices"
	"strings"

	"imbrel.example/imbrel/core/datapath"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

// passes reports whether a hop is at an interface, in its direction, whatever the policy in force.
func (m *Measures) passes(h *Hop, f *Interface) bool {
	p := &m.Places[h.Place]
	return !p.Carrier && p.Interface == f.place.Interface && p.Direction == f.place.Direction
}

// isIn reports whether a hop is at an interface while its policy is in force, and its packets are in a class there.
func (m *Measures) isIn(h *Hop, f *Interface, c *Class) bool {
	if !m.passes(h, f) || m.Places[h.Place].Plan != f.place.Plan {
		return false
	}
	if f.place.Plan == nil {
		return h.Slot == c.seen.Slot
	}
	e := f.place.Plan.Entries[h.Slot]
	return e == c.seen.Entry || e.IsWithin(c.seen.Entry)
}

// hopAt sums what the packets of a class met at an interface, in a window.
func (m *Measures) hopAt(window int, f *Interface, c *Class) *Hop {
	var sum Hop
	for _, t := range m.Collectors[window].settled {
		for i := range t.hops {
			if h := &t.hops[i]; m.isIn(h, f, c) {
				sum.add(h)
			}
		}
	}
	return &sum
}

// lostBefore returns how many packets of the traffic that came to a class at an interface were dropped before, and where most of them were.
func (m *Measures) lostBefore(window int, f *Interface, c *Class) (lost int64, at string) {
	came := make(map[string]bool)
	ts, way := m.Collectors[window].settled, m.Collectors[window].nameOf
	for _, t := range ts {
		if slices.ContainsFunc(t.hops, func(h Hop) bool { return m.isIn(&h, f, c) }) {
			came[way(t)] = true
		}
	}
	dropped := make([]int64, len(m.Places))
	for _, t := range ts {
		for i := range t.hops {
			if h := &t.hops[i]; came[way(t)] && !m.passes(h, f) {
				dropped[h.Place] += h.Dropped()
			} else {
				break
			}
		}
	}
	most := 0
	for i, n := range dropped {
		if lost += n; n > dropped[most] {
			most = i
		}
	}
	if lost > 0 {
		at = m.Places[most].Words()
	}
	return lost, at
}

// whyThere says why an expectation at an interface failed.
func (m *Measures) whyThere(w *Why, r *Result, e *policy.Expectation) {
	window := m.window(e)
	f := interfaceAt(r, e)
	w.place(&f.place)
	classes := classesAt(f, e.Subject)
	if len(classes) == 0 {
		return
	}
	drops := func(c *Class) uint64 { return c.seen.Windows[window].Drops }
	c := slices.MaxFunc(classes, func(a, b *Class) int {
		return cmp.Compare(a.seen.Windows[window].OfferedPackets, b.seen.Windows[window].OfferedPackets)
	})
	for i := range f.Classes { // the innermost that most of it went through
		if o := &f.Classes[i]; strings.HasPrefix(o.Class, c.Class+"/") && drops(o)*2 > drops(c) && drops(c) > 0 {
			c = o
		}
	}
	h := m.hopAt(window, f, c)
	reason := datapath.Passed
	if drops(c) > 0 && e.Metric.Row().Blame == policy.Losses {
		if reason = reasonOf(h); reason == datapath.Passed {
			reason = c.Drops.most()
		}
	}
	s := m.scene(f, c, h, reason, m.span(e, nil))
	w.LostPackets = int64(drops(c))
	var cause words.Fact
	if e.Metric == policy.Marking || e.Metric == policy.Throughput && (e.AtMost() || w.LostPackets == 0) { // neither drops nor waits are to blame
		s.describe(w)
	} else {
		cause = s.also(w, reason, s.cause(w, reason))
	}
	w.Reason = reason.String()
	if reason == datapath.Passed {
		w.Reason = byWaiting
	}
	all := m.scene(f, c, h, datapath.Passed, m.span(e, nil))
	offered, _ := all.rates(c, all.life)
	switch e.Metric {
	case policy.Marking:
		w.Reason = byMark
		var left []words.Fact
		for _, name := range sortedMarks(c.Marks) {
			left = append(left, words.MarkedAs.With(name, c.Marks[name]))
		}
		w.Text = words.LeftAs.With(left, w.written())
	case policy.Throughput:
		if e.AtMost() {
			w.Reason = byOffer
			limit := words.NoLimitThere.With()
			if s.e != nil {
				w.entry = s.e
				if w.at(s.e.Spec.At); s.e.Bounded || s.e.AtMost != nil || s.e.Meter != nil {
					w.By = s.e.Name
					limit = limitOf(c, s.e, s.span)
				}
			}
			w.Text = words.WasOffered.With(c.Class, offered, limit, w.written())
			return
		}
		if w.LostPackets == 0 {
			w.Reason = byOffer
			lost, at := m.lostBefore(window, f, c)
			w.Text = words.OnlyCame.With(offered, c.Class, lost, at, w.written())
			return
		}
		fallthrough
	case policy.Drops:
		w.Text = words.WereDropped.With(w.LostPackets, c.seen.Windows[window].OfferedPackets, c.Class, cause)
	default:
		if w.Text = words.ClassCause.With(c.Class, cause); e.AtLeast() {
			w.Text = words.NoMoreWaited.With(c.Class)
		}
	}
}
