package measure

import (
	"slices"
	"time"

	"imbrel.example/imbrel/core/bound"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

// boundExceeded is the name of a warning: a packet took longer than is possible by its bound.
const boundExceeded = "bound-exceeded"

// proven returns the bound that an expectation asks for.
func (m *Measures) proven(r *Result, e *policy.Expectation, subject string) finding {
	f := finding{whole: 1}
	if !r.Policy {
		f.absent = words.BoundsWithPolicies.With()
		return f
	}
	paths := m.Bounds.Of(subject)
	if m.isTraffic(subject) {
		paths = slices.DeleteFunc(paths, func(p *bound.Path) bool { return p.Traffic != subject })
	}
	for _, p := range paths {
		value, comes := p.MaxAt(e)
		if !comes {
			continue
		}
		if e.Metric == policy.Loss {
			if value = 0; !p.Kept {
				value = bound.Never
			}
		}
		if f.path != nil && float64(value) <= f.value {
			continue
		}
		f.path, f.name, f.value, f.absent = p, p.Name(), float64(value), words.Fact{}
		if value == bound.Never {
			f.absent = words.NotProven.With()
		}
	}
	switch {
	case f.path == nil:
		f.absent = m.noneOf(subject)
	case f.name == subject && len(paths) == 1:
		f.name = ""
	}
	return f
}

// whyUnproven says why there is no bound.
func whyUnproven(e *policy.Expectation, p *bound.Path) *Why {
	why := p.Why
	if e.Metric == policy.Loss {
		why = p.Lost
	} else if h := p.At(e.WhereName + " " + e.Direction.String()); h != nil {
		why = h.Why
	}
	return &Why{Against: []string{}, Reason: byWaiting, Text: why}
}

// whyProven says where a bound comes from, and what to change for a smaller one.
func whyProven(p *bound.Path) *Why {
	h := p.Longest()
	if h == nil {
		return nil
	}
	return &Why{Against: []string{}, Reason: byWaiting, Class: h.Class, Text: words.ProvenWait.With(h.Max, h.Place, h.Advice), plan: h.Plan, entry: h.Entry}
}

// exceeds warns where a packet took longer than its bound: one of the two is wrong.
func (m *Measures) exceeds(r *Result) {
	if m.Bounds == nil || !r.Policy {
		return
	}
	longest := r.Longest()
	for i := range m.Bounds.Paths {
		p := &m.Bounds.Paths[i]
		if seen := longest.Seen(p); p.Max != bound.Never && seen > longest.Bounded(p) {
			r.warn(boundExceeded, "warning", m.Rehearsal.At, words.BoundExceeded.With(p.Name(), seen, p.Max))
		}
	}
}

// Longest are the longest delays of each traffic and direction: of the packets of a run, and of those that are possible.
type Longest struct{ seen, bound map[trafficWay]time.Duration }

// A trafficWay is a direction of a traffic.
type trafficWay struct {
	traffic string
	reverse bool
}

// Longest returns the longest delays of a result.
func (r *Result) Longest() *Longest {
	l := &Longest{make(map[trafficWay]time.Duration), make(map[trafficWay]time.Duration)}
	for i := range r.Traffic {
		if t := &r.Traffic[i]; t.Delay != nil {
			w := trafficWay{t.Name, t.Direction == "reverse"}
			l.seen[w] = max(l.seen[w], time.Duration(t.Delay.Max*1e6+0.5))
		}
	}
	if r.Bounds != nil {
		for i := range r.Bounds.Paths {
			p := &r.Bounds.Paths[i]
			w := trafficWay{p.Traffic, p.Reverse}
			l.bound[w] = max(l.bound[w], p.Max)
		}
	}
	return l
}

// Seen returns the longest delay of the packets of a path's traffic and direction in the run; 0: none arrived.
func (l *Longest) Seen(p *bound.Path) time.Duration { return l.seen[trafficWay{p.Traffic, p.Reverse}] }

// Bounded returns the largest bound of the paths of the same traffic and direction.
func (l *Longest) Bounded(p *bound.Path) time.Duration {
	return l.bound[trafficWay{p.Traffic, p.Reverse}]
}
