// Package compare puts two results of rehearsals side by side: the expectations that
// turned, and the figures that moved, what got worse first.
package compare

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/repeat"
	"imbrel.example/imbrel/core/words"
)

// A Result is what differs between two runs, an old one and a new one.
type Result struct {
	Old          Run           `json:"old"`
	New          Run           `json:"new"`
	Notes        []words.Fact  `json:"notes"` // how the two runs differ before anything is measured
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
	olds, news := subjectsOf(before), subjectsOf(after)
	r := &Result{Old: run(before), New: run(after), Notes: notes(before, after, olds, news), Expectations: expectations(before, after), Moved: []Move{}}
	for _, k := range news.all {
		if olds, both := olds.of[k.Subject]; both {
			r.met(k.Of, news.title(k.Subject), olds.Runs, k.Runs)
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

// notes returns how the two runs differ before anything is measured.
func notes(before, after []*measure.Result, olds, news *subjects) []words.Fact {
	out := []words.Fact{}
	a, b := before[0], after[0]
	note := func(row *words.Row, values ...any) { out = append(out, row.With(values...)) }
	if a.Rehearsal != b.Rehearsal {
		note(words.TwoRehearsals, a.Rehearsal, b.Rehearsal)
	}
	if a.DurationS != b.DurationS {
		note(words.OtherDuration, seconds(a), seconds(b))
	}
	if a.Seed != b.Seed && len(before)+len(after) == 2 {
		note(words.OtherSeeds, a.Seed, b.Seed)
	}
	for i, r := range []*measure.Result{a, b} {
		if r.Incomplete {
			note(words.Interrupted, [...]string{"old", "new"}[i])
		}
	}
	for _, side := range []struct {
		here, there *subjects
		which       string
	}{{news, olds, "new"}, {olds, news, "old"}} {
		for _, k := range side.here.all {
			if _, both := side.there.of[k.Subject]; k.Of == "traffic" && !both {
				note(words.OnlyIn, side.here.title(k.Subject), side.which)
			}
		}
	}
	return out
}

func seconds(r *measure.Result) string { return fmt.Sprintf("%.4g s", r.DurationS) }

// subjects are the traffic and the classes of the runs of one side.
type subjects struct {
	all     []repeat.Met
	of      map[repeat.Subject]*repeat.Met
	classes map[repeat.Subject]int // how many a traffic has in a direction, by the subject without its class
}

func subjectsOf(runs []*measure.Result) *subjects {
	s := &subjects{repeat.Subjects(runs), make(map[repeat.Subject]*repeat.Met), make(map[repeat.Subject]int)}
	for i := range s.all {
		k := s.all[i].Subject
		s.of[k] = &s.all[i]
		k.Class = ""
		s.classes[k]++
	}
	return s
}

// title names a class; or a traffic, its direction, and its class where it is in several.
func (s *subjects) title(k repeat.Subject) string {
	name, class := policy.Directed(k.Name, k.Direction == "reverse"), k.Class
	if k.Class = ""; s.classes[k] > 1 {
		name += " (" + class + ")"
	}
	return name
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
