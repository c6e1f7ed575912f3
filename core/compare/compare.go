// Package compare puts two results of rehearsals side by side: the expectations that
// turned, and the figures that moved, what got worse first.
package compare

import (
	"cmp"
	"fmt"
	"math"
	"regexp"
	"slices"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/repeat"
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
	Verdict   string  `json:"verdict"` // of several runs "fail" where one fails
	Repeats   int     `json:"repeats,omitempty"`
}

// An Expectation is one that turned, is new, or is gone.
type Expectation struct {
	Text string           `json:"text"`
	Turn string           `json:"turn"` // "fails now", "holds now", "new", "gone"
	Old  *measure.Outcome `json:"old"`
	New  *measure.Outcome `json:"new"`
	// Of several runs, in how many it holds.
	OldHolds int `json:"old_holds,omitempty"`
	NewHolds int `json:"new_holds,omitempty"`
}

// A Move is a figure that moved. Old or New is nil where there was nothing to measure.
type Move struct {
	Of     string   `json:"of"` // "class", "traffic" or "interface"
	Name   string   `json:"name"`
	Metric string   `json:"metric"`
	Unit   string   `json:"unit"` // "%", "ms", "bit/s", "mos", "packets"
	Old    *float64 `json:"old"`
	New    *float64 `json:"new"`
	Turn   string   `json:"turn"`            // "worse" or "better"; "differs" where it is neither
	Noise  *float64 `json:"noise,omitempty"` // of several runs: by how much the means may differ by chance, in 95 of 100 cases

	weight float64
}

// Runs compares two results.
func Runs(before, after *measure.Result) *Result {
	return Repeats([]*measure.Result{before}, []*measure.Result{after})
}

// Repeats compares the runs of a rehearsal with other runs of it, each with seeds of its own:
// the means, and which of them differ by more than their noise.
func Repeats(before, after []*measure.Result) *Result {
	old, now := before[0], after[0]
	r := &Result{Old: run(before), New: run(after), Notes: notes(old, now, len(before)+len(after) > 2), Expectations: expectations(before, after), Moved: []Move{}}
	for i := range now.Traffic {
		k := &now.Traffic[i]
		if olds := repeat.RowsLike(k, before); len(olds) > 0 {
			r.met("traffic", rowName(k, now), olds, repeat.RowsLike(k, after))
		}
	}
	for i := range now.Classes {
		name := now.Classes[i].Class
		if olds := repeat.ClassLike(name, before); len(olds) > 0 {
			r.met("class", name, olds, repeat.ClassLike(name, after))
		}
	}
	r.drops(before, after)
	slices.SortStableFunc(r.Moved, func(a, b Move) int { return cmp.Compare(b.weight, a.weight) })
	return r
}

// run describes runs by the first of them; they fail where one does.
func run(runs []*measure.Result) Run {
	r := runs[0]
	out := Run{Rehearsal: r.Rehearsal, Seed: r.Seed, DurationS: r.DurationS, Policy: r.Policy, Verdict: r.Verdict}
	if len(runs) > 1 {
		out.Repeats = len(runs)
	}
	for _, o := range runs {
		if o.Verdict == "fail" {
			out.Verdict = "fail"
		}
	}
	return out
}

// notes says in what the two runs were not alike to begin with.
func notes(a, b *measure.Result, repeats bool) []string {
	out := []string{}
	note := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	if a.Rehearsal != b.Rehearsal {
		note("they are of two rehearsals, `%s` and `%s`", a.Rehearsal, b.Rehearsal)
	}
	if a.DurationS != b.DurationS {
		note("the old one lasted %.4g s and the new one %.4g s, so numbers of packets are not compared", a.DurationS, b.DurationS)
	}
	if a.Seed != b.Seed && !repeats {
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
			note("`%s` is only in the new one", name)
		}
	}
	for i := range a.Traffic {
		if name := rowName(&a.Traffic[i], a); !now[name] {
			note("`%s` is only in the old one", name)
		}
	}
	return out
}

// rowName names a row: the traffic, its direction, and the class where it is in several.
func rowName(k *measure.Row, r *measure.Result) string {
	name := k.Title()
	if slices.ContainsFunc(r.Traffic, func(o measure.Row) bool { return o.Name == k.Name && o.Direction == k.Direction && o.Class != k.Class }) {
		name += " (" + k.Class + ")"
	}
	return name
}

// expectations returns those that turned, those that fail now first. Of several runs an
// expectation holds where it holds in each.
func expectations(before, after []*measure.Result) []Expectation {
	find := func(r *measure.Result, text string) *measure.Outcome {
		for i := range r.Expectations {
			if r.Expectations[i].Text == text {
				return &r.Expectations[i]
			}
		}
		return nil
	}
	// judged returns the outcome in the first run that fails, or else in the first.
	judged := func(runs []*measure.Result, text string) (o *measure.Outcome, holds int) {
		for _, r := range runs {
			switch one := find(r, text); {
			case one == nil:
			case one.Holds:
				if holds++; o == nil {
					o = one
				}
			case o == nil || o.Holds:
				o = one
			}
		}
		if len(before)+len(after) == 2 {
			return o, 0
		}
		return o, holds
	}
	out := []Expectation{}
	for i := range after[0].Expectations {
		text := after[0].Expectations[i].Text
		now, newHolds := judged(after, text)
		old, oldHolds := judged(before, text)
		e := Expectation{Text: text, Old: old, New: now, OldHolds: oldHolds, NewHolds: newHolds}
		switch {
		case old == nil:
			e.Turn = "new"
		case old.Holds && !now.Holds:
			e.Turn = FailsNow
		case !old.Holds && now.Holds:
			e.Turn = "holds now"
		default:
			continue
		}
		out = append(out, e)
	}
	for i := range before[0].Expectations {
		if text := before[0].Expectations[i].Text; find(after[0], text) == nil {
			old, holds := judged(before, text)
			out = append(out, Expectation{Text: text, Turn: Gone, Old: old, OldHolds: holds})
		}
	}
	order := []string{FailsNow, "holds now", "new", Gone}
	slices.SortStableFunc(out, func(x, y Expectation) int {
		return slices.Index(order, x.Turn) - slices.Index(order, y.Turn)
	})
	return out
}

// FailsNow is the turn of an expectation that held and does not any more.
const FailsNow = "fails now"

// Gone is the turn of an expectation that is no longer there.
const Gone = "gone"

// Worse reports whether an expectation that held fails now, or is gone, and none that asks for as much took its place.
func (r *Result) Worse() bool {
	return slices.ContainsFunc(r.Expectations, func(e Expectation) bool {
		return e.Turn == FailsNow || e.Turn == Gone && !slices.ContainsFunc(r.Expectations, func(n Expectation) bool { return n.Turn == "new" && asMuch(e.Old, n.New) })
	})
}

var operator = regexp.MustCompile(` (<=|>=|<|>|=) `)

// asMuch reports whether an outcome is of an expectation about the same as another, with a bound that is as tight.
func asMuch(old, now *measure.Outcome) bool {
	a, b := operator.FindStringSubmatchIndex(old.Text), operator.FindStringSubmatchIndex(now.Text)
	if a == nil || b == nil || old.Text[:a[0]] != now.Text[:b[0]] || old.Text[a[2]:a[3]] != now.Text[b[2]:b[3]] || old.Measured == nil || now.Measured == nil {
		return false
	}
	switch old.Text[a[2]] {
	case '<':
		return now.Limit <= old.Limit
	case '>':
		return now.Limit >= old.Limit
	}
	return now.Limit == old.Limit
}

// met compares what packets met in the runs.
func (r *Result) met(of, name string, a, b []*measure.TrafficFigures) {
	offered := func(m *measure.TrafficFigures) *float64 {
		v := float64(m.OfferedBps)
		return &v
	}
	others := moved(mean(a, offered), mean(b, offered))
	for _, m := range measure.TrafficMetrics() {
		if m.Metric.Metric == policy.Throughput && others { // what arrives follows what was sent
			m.Better = 0
		}
		r.move(Move{Of: of, Name: name, Metric: m.Name, Unit: m.Metric.Unit}, &m, values(a, m.Of), values(b, m.Of))
	}
}

// values returns a figure of each run that has it.
func values(runs []*measure.TrafficFigures, of func(*measure.TrafficFigures) *float64) (out []float64) {
	for _, m := range runs {
		if v := of(m); v != nil {
			out = append(out, *v)
		}
	}
	return out
}

func mean(runs []*measure.TrafficFigures, of func(*measure.TrafficFigures) *float64) float64 {
	v, _ := repeat.Moments(values(runs, of))
	return v
}

// moved reports whether what was offered moved.
func moved(a, b float64) bool { return math.Abs(b-a) > max(1000, 0.02*max(a, b)) }

// move keeps a figure if it moved.
func (r *Result) move(v Move, m *measure.TrafficMetric, a, b []float64) {
	old, oldVariance := repeat.Moments(a)
	now, newVariance := repeat.Moments(b)
	if len(a) > 0 {
		v.Old = &old
	}
	if len(b) > 0 {
		v.New = &now
	}
	switch {
	case v.Old == nil && v.New == nil:
		return
	case v.Old == nil || v.New == nil: // nothing arrived in one of them: its loss says so
		v.Turn, v.weight = "differs", 0
		r.Moved = append(r.Moved, v)
		return
	}
	change := now - old
	most := max(math.Abs(old), math.Abs(now))
	noise := 0.0
	if len(a)+len(b) > 2 { // the difference of two means (Welch 1947), with the fewer runs' degrees of freedom
		fewer := max(1, min(len(a), len(b))-1)
		noise = repeat.T95(fewer) * math.Sqrt(oldVariance/float64(len(a))+newVariance/float64(len(b)))
		v.Noise = &noise
	}
	if math.Abs(change) <= max(m.Step, m.Part*most, noise) {
		r.Same++
		return
	}
	// A step is what one feels, so that figures of different kinds are in one order.
	v.weight = math.Abs(change) / max(m.Step, 0.02*most)
	switch {
	case m.Better == 0:
		v.Turn, v.weight = "differs", 0
	case (change > 0) == (m.Better > 0):
		v.Turn, v.weight = "better", -1/v.weight
	default:
		v.Turn = "worse"
	}
	r.Moved = append(r.Moved, v)
}

// drops compares what each interface and carrier dropped, of each class.
func (r *Result) drops(before, after []*measure.Result) {
	if before[0].DurationS != after[0].DurationS {
		return
	}
	m := measure.TrafficMetric{Name: "drops", Metric: policy.Drops.Row(), Step: 10, Part: 0.05, Better: -1}
	var names []string
	known := make(map[string]bool)
	count := func(runs []*measure.Result) map[string][]float64 {
		n := make(map[string][]float64)
		for at, of := range runs {
			add := func(name string, drops uint64) {
				if !known[name] {
					known[name] = true
					names = append(names, name)
				}
				if n[name] == nil {
					n[name] = make([]float64, len(runs))
				}
				n[name][at] += float64(drops)
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
		}
		return n
	}
	now := count(after)
	old := count(before)
	for _, name := range names {
		x, y := old[name], now[name]
		if x == nil {
			x = make([]float64, len(before))
		}
		if y == nil {
			y = make([]float64, len(after))
		}
		r.move(Move{Of: "interface", Name: name, Metric: m.Name, Unit: m.Metric.Unit}, &m, x, y)
	}
}
