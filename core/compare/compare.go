// Package compare puts two results of rehearsals side by side: the expectations that
// turned, and the figures that moved, what got worse first.
package compare

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"imbrel/core/measure"
)

// A Result is what differs between two runs, an old one and a new one.
type Result struct {
	Old          Run           `json:"old"`
	New          Run           `json:"new"`
	Notes        []string      `json:"notes"` // why the two are not alike to begin with
	Expectations []Expectation `json:"expectations"`
	Moved        []Move        `json:"moved"` // what got worse first, by how much
	Same         int           `json:"same"`  // figures that did not move
}

// A Run says which run it is.
type Run struct {
	Rehearsal string  `json:"rehearsal"`
	Seed      uint64  `json:"seed"`
	DurationS float64 `json:"duration_s"`
	Policy    bool    `json:"policy"`
	Verdict   string  `json:"verdict"`
}

// An Expectation is one that turned, is new, or is gone.
type Expectation struct {
	Text string           `json:"text"`
	Turn string           `json:"turn"` // "fails now", "holds now", "new", "gone"
	Old  *measure.Outcome `json:"old"`
	New  *measure.Outcome `json:"new"`
}

// A Move is a figure that moved. Old or New is nil where there was nothing to measure.
type Move struct {
	Of     string   `json:"of"` // "class", "traffic" or "interface"
	Name   string   `json:"name"`
	Metric string   `json:"metric"`
	Unit   string   `json:"unit"` // "%", "ms", "bit/s", "mos", "packets"
	Old    *float64 `json:"old"`
	New    *float64 `json:"new"`
	Turn   string   `json:"turn"` // "worse" or "better"; "differs" where it is neither

	weight float64
}

// A metric is a figure that is compared, and what counts as moved: more than the step, and
// more than the part of what it was.
type metric struct {
	name, unit string
	step, part float64
	better     int // 1: more is better; -1: less is
	of         func(m *measure.Met) *float64
}

func metrics() []metric {
	some := func(v float64) *float64 { return &v }
	delay := func(of func(d *measure.Milliseconds) float64) func(m *measure.Met) *float64 {
		return func(m *measure.Met) *float64 {
			if m.Delay == nil {
				return nil
			}
			return some(of(m.Delay))
		}
	}
	return []metric{
		{"loss", "%", 0.1, 0.05, -1, func(m *measure.Met) *float64 { return some(100 * m.Loss) }},
		{"late", "%", 0.1, 0.05, -1, func(m *measure.Met) *float64 {
			if m.Late == nil {
				return nil
			}
			return some(100 * *m.Late)
		}},
		{"MOS", "mos", 0.05, 0, 1, func(m *measure.Met) *float64 { return m.MOS }},
		{"delay p99", "ms", 1, 0.05, -1, delay(func(d *measure.Milliseconds) float64 { return d.P99 })},
		{"delay p50", "ms", 1, 0.05, -1, delay(func(d *measure.Milliseconds) float64 { return d.P50 })},
		{"jitter", "ms", 1, 0.05, -1, func(m *measure.Met) *float64 { return some(m.JitterMs) }},
		{"rate", "bit/s", 1000, 0.02, 1, func(m *measure.Met) *float64 { return some(float64(m.RateBps)) }},
		{"offered", "bit/s", 1000, 0.02, 0, func(m *measure.Met) *float64 { return some(float64(m.OfferedBps)) }},
	}
}

// Runs compares two results.
func Runs(before, after *measure.Result) *Result {
	r := &Result{Old: run(before), New: run(after), Notes: notes(before, after), Expectations: expectations(before, after), Moved: []Move{}}
	for i := range after.Traffic {
		k := &after.Traffic[i]
		old := slices.IndexFunc(before.Traffic, func(o measure.Row) bool {
			return o.Name == k.Name && o.Direction == k.Direction && o.Class == k.Class
		})
		if old >= 0 {
			r.met("traffic", rowName(k, after), &before.Traffic[old].Met, &k.Met)
		}
	}
	for i := range after.Classes {
		k := &after.Classes[i]
		if old := slices.IndexFunc(before.Classes, func(o measure.ClassResult) bool { return o.Class == k.Class }); old >= 0 {
			r.met("class", k.Class, &before.Classes[old].Met, &k.Met)
		}
	}
	r.drops(before, after)
	slices.SortStableFunc(r.Moved, func(a, b Move) int { return cmp.Compare(b.weight, a.weight) })
	return r
}

func run(r *measure.Result) Run {
	return Run{r.Rehearsal, r.Seed, r.DurationS, r.Policy, r.Verdict}
}

// notes says in what the two runs were not alike to begin with.
func notes(a, b *measure.Result) []string {
	out := []string{}
	note := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	if a.Rehearsal != b.Rehearsal {
		note("they are of two rehearsals, `%s` and `%s`", a.Rehearsal, b.Rehearsal)
	}
	if a.DurationS != b.DurationS {
		note("the old one lasted %.4g s and the new one %.4g s, so numbers of packets are not compared", a.DurationS, b.DurationS)
	}
	if a.Seed != b.Seed {
		note("their seeds are %d and %d, so part of what moved is chance", a.Seed, b.Seed)
	}
	for i, r := range []*measure.Result{a, b} {
		if r.Incomplete {
			note("the %s one was interrupted", [...]string{"old", "new"}[i])
		}
	}
	keys := func(r *measure.Result) map[string]bool {
		all := make(map[string]bool)
		for i := range r.Traffic {
			all[rowName(&r.Traffic[i], r)] = true
		}
		return all
	}
	old, now := keys(a), keys(b)
	for i := range b.Traffic {
		if name := rowName(&b.Traffic[i], b); !old[name] {
			note("`%s` is in the new one alone", name)
		}
	}
	for i := range a.Traffic {
		if name := rowName(&a.Traffic[i], a); !now[name] {
			note("`%s` is in the old one alone", name)
		}
	}
	return out
}

// rowName names a row: the traffic, its direction, and the class where it is in several.
func rowName(k *measure.Row, r *measure.Result) string {
	name := k.Name
	if k.Direction == "reverse" {
		name += " back"
	}
	if slices.ContainsFunc(r.Traffic, func(o measure.Row) bool { return o.Name == k.Name && o.Direction == k.Direction && o.Class != k.Class }) {
		name += " (" + k.Class + ")"
	}
	return name
}

// expectations returns those that turned, those that fail now first.
func expectations(a, b *measure.Result) []Expectation {
	find := func(r *measure.Result, text string) *measure.Outcome {
		for i := range r.Expectations {
			if r.Expectations[i].Text == text {
				return &r.Expectations[i]
			}
		}
		return nil
	}
	out := []Expectation{}
	for i := range b.Expectations {
		now := &b.Expectations[i]
		old := find(a, now.Text)
		switch {
		case old == nil:
			out = append(out, Expectation{now.Text, "new", nil, now})
		case old.Holds && !now.Holds:
			out = append(out, Expectation{now.Text, FailsNow, old, now})
		case !old.Holds && now.Holds:
			out = append(out, Expectation{now.Text, "holds now", old, now})
		}
	}
	for i := range a.Expectations {
		if o := &a.Expectations[i]; find(b, o.Text) == nil {
			out = append(out, Expectation{o.Text, "gone", o, nil})
		}
	}
	order := []string{FailsNow, "holds now", "new", "gone"}
	slices.SortStableFunc(out, func(x, y Expectation) int {
		return slices.Index(order, x.Turn) - slices.Index(order, y.Turn)
	})
	return out
}

// FailsNow is the turn of an expectation that held and does not any more.
const FailsNow = "fails now"

// Worse reports whether an expectation that held fails now.
func (r *Result) Worse() bool {
	return slices.ContainsFunc(r.Expectations, func(e Expectation) bool { return e.Turn == FailsNow })
}

// met compares what packets met in both runs.
func (r *Result) met(of, name string, a, b *measure.Met) {
	others := moved(a.OfferedBps, b.OfferedBps)
	for _, m := range metrics() {
		if m.name == "rate" && others { // what arrives follows what was sent
			m.better = 0
		}
		r.move(Move{Of: of, Name: name, Metric: m.name, Unit: m.unit, Old: m.of(a), New: m.of(b)}, &m)
	}
}

// moved reports whether what was offered moved.
func moved(a, b int64) bool {
	return math.Abs(float64(b-a)) > max(1000, 0.02*float64(max(a, b)))
}

// move keeps a figure if it moved.
func (r *Result) move(v Move, m *metric) {
	switch {
	case v.Old == nil && v.New == nil:
		return
	case v.Old == nil || v.New == nil: // nothing arrived in one of them: its loss says so
		v.Turn, v.weight = "differs", 0
		r.Moved = append(r.Moved, v)
		return
	}
	change := *v.New - *v.Old
	most := max(math.Abs(*v.Old), math.Abs(*v.New))
	if math.Abs(change) <= max(m.step, m.part*most) {
		r.Same++
		return
	}
	// A step is what one feels, so that figures of different kinds are in one order.
	v.weight = math.Abs(change) / max(m.step, 0.02*most)
	switch {
	case m.better == 0:
		v.Turn, v.weight = "differs", 0
	case (change > 0) == (m.better > 0):
		v.Turn, v.weight = "better", -1/v.weight
	default:
		v.Turn = "worse"
	}
	r.Moved = append(r.Moved, v)
}

// drops compares what each interface and carrier dropped, of each class.
func (r *Result) drops(a, b *measure.Result) {
	if a.DurationS != b.DurationS {
		return
	}
	m := metric{"drops", "packets", 10, 0.05, -1, nil}
	count := func(of *measure.Result) (names []string, n map[string]float64) {
		n = make(map[string]float64)
		add := func(name string, drops uint64) {
			if _, known := n[name]; !known {
				names = append(names, name)
			}
			n[name] += float64(drops)
		}
		for i := range of.Interfaces {
			f := &of.Interfaces[i]
			for j := range f.Classes {
				add(f.Classes[j].Class+" at "+f.Node+"/"+f.Interface+" "+f.Direction, f.Classes[j].Drops.Total())
			}
		}
		for _, l := range of.Links {
			add("the carrier of "+l.From, l.Drops)
		}
		return names, n
	}
	olds, old := count(a)
	names, now := count(b)
	for _, name := range olds {
		if _, known := now[name]; !known {
			names = append(names, name)
		}
	}
	for _, name := range names {
		x, y := old[name], now[name]
		r.move(Move{Of: "interface", Name: name, Metric: m.name, Unit: m.unit, Old: &x, New: &y}, &m)
	}
}
