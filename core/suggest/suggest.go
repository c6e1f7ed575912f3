// Package suggest finds the least change of one number of a policy file that makes a
// failed expectation hold. It tries: every change it returns was rehearsed.
package suggest

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
)

// A Finder knows the file and how to rehearse it with a change.
type Finder struct {
	// Number returns the text of the number at a path, "" where none is written, and the
	// place where it is, or would be.
	Number func(path string) (text string, at policy.Place)
	// Try rehearses the file with another text at a path. An error says that the file
	// cannot be so.
	Try func(path, text string) (*measure.Result, error)
	// Sound, when not nil, reports whether the file with another text at a path is as sound as it was: a change that makes a
	// check find something is none.
	Sound func(path, text string) bool
	// Fix, when not nil, returns what a check would write at a place, "" where it would write nothing. It is tried first.
	Fix func(at policy.Place) string
}

// A number is one that may be changed.
type number struct {
	path  string
	from  int64 // where none is written, what holds without it
	print func(int64) string
	up    bool
	limit int64 // not beyond
	hint  int64 // a rate that the reason names; 0: none
}

// Changes gives each failed expectation of a result its change: one for all that failed for the same cause where there is one,
// otherwise one for each. until says that the time is over, and may be nil.
func (f *Finder) Changes(r *measure.Result, until func() bool) {
	type cause struct {
		plan  *plan.Plan
		entry *plan.Entry
		what  string
	}
	of := func(w *measure.Why) cause {
		p, e := w.Culprit()
		return cause{p, e, cmp.Or(w.Cause, w.Reason)}
	}
	groups := make(map[cause][]int)
	for i := range r.Expectations {
		if w := r.Expectations[i].Why; !r.Expectations[i].Holds && w != nil {
			groups[of(w)] = append(groups[of(w)], i)
		}
	}
	for i := range r.Expectations {
		w := r.Expectations[i].Why
		if r.Expectations[i].Holds || w == nil || w.Change != nil {
			continue
		}
		if all := groups[of(w)]; len(all) > 1 && all[0] == i {
			if c, _ := f.Change(r, all...); c != nil && len(c.Breaks) == 0 {
				for _, j := range all {
					r.Expectations[j].Why.Change = c
				}
				continue
			}
		}
		w.Change, w.Tried = f.Change(r, i)
		if w.NoChange = w.Change == nil && (until == nil || !until()); !w.NoChange {
			w.Tried = nil
		}
	}
}

// Change returns the least change of one number that makes expectations of a result
// hold, by their indices, to a tenth of the change, and goes beyond by a tenth of it; nil when none of those tried does, and then how far
// each was tried. One that makes another expectation fail is taken only when there is no other, and says so. The numbers are those of
// the first expectation's reason.
func (f *Finder) Change(r *measure.Result, indices ...int) (*measure.Change, []measure.Tried) {
	why := r.Expectations[indices[0]].Why
	if why == nil {
		return nil, nil
	}
	var second *measure.Change
	tried := []measure.Tried{}
	for _, n := range f.numbers(why, r.Expectations[indices[0]].Expectation()) {
		c, last := f.fixed(r, indices, &n), int64(0)
		if c == nil {
			c, last = f.least(r, indices, &n)
		}
		switch {
		case c == nil:
			text, _ := f.Number(n.path)
			tried = append(tried, measure.Tried{Path: n.path, From: text, To: n.print(last)})
		case len(c.Breaks) == 0:
			return c, nil
		case second == nil:
			second = c
		}
	}
	return second, tried
}

// fixed returns the change that a check would make of a number, when it makes the expectations hold and no other fail.
func (f *Finder) fixed(r *measure.Result, indices []int, n *number) *measure.Change {
	text, at := f.Number(n.path)
	if f.Fix == nil || text == "" {
		return nil
	}
	to := f.Fix(at)
	if to == "" || to == text {
		return nil
	}
	if t := f.tryText(r, indices, n.path, to); !t.holds || len(t.breaks) > 0 {
		return nil
	}
	return &measure.Change{File: at.File, Line: at.Line, Path: n.path, From: text, To: to}
}

// numbers returns the numbers worth changing, the best first.
func (f *Finder) numbers(why *measure.Why, e *policy.Expectation) []number {
	p, entry := why.Culprit()
	if p == nil {
		return nil
	}
	var out []number
	add := func(path string, without int64, up bool, limit int64) {
		text, _ := f.Number(path)
		n := number{path: path, from: without, up: up, limit: limit, print: func(v int64) string { return unit.Rate(v).String() }}
		switch {
		case text == "" && without == 0:
			return
		case text == "":
		case strings.HasSuffix(text, "%"):
			v, err := unit.ParsePercent(text)
			if err != nil {
				return
			}
			n.from, n.limit = int64(v), int64(unit.Whole)
			if !up {
				n.limit = int64(unit.Whole) / 100
			}
			n.print = func(v int64) string { return unit.Percent(v).String() }
		default:
			if !n.read(text) {
				return
			}
		}
		if v, err := unit.ParseNumber(text); err == nil && v.Kind == unit.ARate && why.OfferedBps != nil {
			n.hint = *why.OfferedBps * 21 / 20
		}
		if n.limit == 0 {
			n.limit = n.from * maxTimes
			if !up {
				n.limit = max(n.from/maxTimes, 1)
			}
		}
		out = append(out, n)
	}
	shape := "policies." + p.Policy.Name + ".shape"
	if why.Direction == "carrier" {
		add(shape, int64(p.Carries), false, int64(p.Carries)/4)
		return out
	}
	if entry == nil {
		return nil
	}
	if e.Statistic == policy.Proven {
		for o := entry; o != nil; o = o.Parent {
			path := pathOf(p, o)
			add(path+".at-least", 0, true, int64(p.Whole))
			add(path+".police.burst", 0, false, 0)
			if o.Leaf() {
				add(path+".queue.limit", 0, false, 0)
			}
		}
		add(shape, 0, true, int64(p.Carries))
		return out
	}
	rate := e.Metric.Row().Kind == policy.Rates
	slower := rate && (e.AtMost() || e.Operator == "=")
	for o := entry; o != nil; o = o.Parent {
		path := pathOf(p, o)
		switch {
		case slower:
			add(path+".at-most"+rateOf(o), int64(p.Whole), false, int64(unit.MinRate))
			add(path+".police.rate", 0, false, int64(unit.MinRate))
		case why.Reason == "policed" && o.Meter != nil:
			if why.OfferedBps != nil && *why.OfferedBps < int64(o.Meter.Rate) {
				add(path+".police.burst", 0, true, 0)
			}
			add(path+".police.calls", 0, true, 0)
			add(path+".police.rate", 0, true, int64(p.Whole))
			add(path+".police.burst", 0, true, 0)
		case why.Reason == "policed":
		default:
			add(path+".at-most"+rateOf(o), 0, true, int64(p.Whole))
			add(path+".at-least", 0, true, int64(p.Whole))
			if o.Leaf() { // a longer queue loses less, a shorter one delays less
				add(path+".queue.limit", 0, e.Metric.Row().Blame == policy.Losses, 0)
			}
			add(path+".weight", 0, true, 0)
			if o.Priority == 0 {
				add(path+".police.rate", 0, true, int64(p.Whole))
			}
		}
	}
	if p.Shape > 0 && p.Shape < p.Carries && !slower {
		add(shape, 0, true, int64(p.Carries)-int64(p.Carries)/50)
	}
	return out
}

// rateOf returns the key of a ceiling's rate, which may be written on its own.
func rateOf(e *plan.Entry) string {
	if m := e.Spec.AtMost; m != nil && (m.Burst != nil || m.When != nil) {
		return ".rate"
	}
	return ""
}

// read reads a number with its unit, or a count.
func (n *number) read(text string) bool {
	v, err := unit.ParseNumber(text)
	if err != nil || v.Kind == unit.APercent {
		return false
	}
	n.from, n.print = v.Value, func(to int64) string { return v.With(to).String() }
	switch v.Kind {
	case unit.ACount:
		if n.limit > 1<<20 {
			n.limit = 0
		}
	case unit.ASize, unit.ADuration:
		n.limit = 0
	}
	return true
}

// pathOf returns the path of an entry of a plan: of the policy in which it is written.
func pathOf(p *plan.Plan, e *plan.Entry) string {
	around, level := "policies."+p.Policy.Name, p.Top
	if o := e.Parent; o != nil {
		level = o.Inner
		if around = pathOf(p, o); o.Spec.Within != nil {
			around = "policies." + o.Spec.Within.Name
		}
	}
	name, nth := e.Spec.ClassName.Text, 1 // of those of its class, which differ in `when`
	for _, o := range level {
		if o == e {
			break
		}
		if o.Spec.ClassName.Text == name {
			nth++
		}
	}
	if nth > 1 {
		name = fmt.Sprintf("%s#%d", name, nth)
	}
	return around + ".treat." + name
}

// A trial is what became of one change.
type trial struct {
	holds  bool
	breaks []string // of the other expectations, those that held before
	failed bool     // the file cannot be so
}

func (f *Finder) try(r *measure.Result, indices []int, n *number, v int64) trial {
	return f.tryText(r, indices, n.path, n.print(v))
}

func (f *Finder) tryText(r *measure.Result, indices []int, path, text string) trial {
	got, err := f.Try(path, text)
	if err != nil {
		return trial{failed: true}
	}
	t := trial{holds: !slices.ContainsFunc(indices, func(i int) bool { return !got.Expectations[i].Holds })}
	for i := range got.Expectations {
		if r.Expectations[i].Holds && !got.Expectations[i].Holds {
			t.breaks = append(t.breaks, r.Expectations[i].Text)
		}
	}
	t.holds = t.holds && (f.Sound == nil || f.Sound(path, text))
	return t
}

// maxTimes is how many times as much a number without a limit of its own may become.
const maxTimes = 64

// factors are by how much a number is changed until the expectation holds; then by 8 times as much, up to the number's limit.
var factors = []float64{1.02, 1.1, 1.25, 1.6, 2.5, 5, 12, 64, 512, 4096, 1 << 15, 1 << 18}

// least bisects for the least change of a number. Without one it returns how far it looked.
func (f *Finder) least(r *measure.Result, indices []int, n *number) (*measure.Change, int64) {
	clamp := func(v int64) int64 {
		if n.up {
			return min(v, n.limit)
		}
		return max(v, n.limit)
	}
	// From fails to the first that holds.
	fails, holds, found := n.from, n.from, false
	var last trial
	values := make([]int64, 0, len(factors)+1)
	for _, factor := range factors {
		if n.up {
			values = append(values, int64(math.Round(float64(n.from)*factor)))
		} else {
			values = append(values, int64(math.Round(float64(n.from)/factor)))
		}
	}
	if n.up && n.hint > n.from { // what the reason says would do
		values = append(values, n.hint)
		slices.Sort(values)
	}
	for _, v := range values {
		if v = clamp(n.round(v)); v == fails {
			continue
		}
		last = f.try(r, indices, n, v)
		if last.failed {
			// Too much for the file: half the way is the last that is tried.
			if v = n.round((fails + v) / 2); v != fails {
				if last = f.try(r, indices, n, v); last.holds {
					holds, found = v, true
				}
			}
			break
		}
		if last.holds {
			holds, found = v, true
			break
		}
		if fails = v; v == n.limit {
			break
		}
	}
	if !found {
		return nil, fails
	}
	breaks := last.breaks
	for range 24 {
		gap, change := abs(holds-fails), abs(holds-n.from)
		if gap*20 <= change || gap <= 1 {
			break
		}
		v := n.round(fails + (holds-fails)/2)
		if v == fails || v == holds {
			break
		}
		if t := f.try(r, indices, n, v); t.holds {
			holds, breaks = v, t.breaks
		} else {
			fails = v
		}
	}
	// A tenth less fails; where it does not, what holds is not one stretch of numbers, and
	// the search goes on from there.
	for range 12 {
		v := n.from + (holds-n.from)*9/10
		if less := n.round(v); abs(less-n.from) <= abs(v-n.from) { // as few digits as do
			v = less
		}
		if v == holds {
			break
		}
		t := f.try(r, indices, n, v)
		if !t.holds {
			break
		}
		holds, breaks = v, t.breaks
	}
	c := &measure.Change{Path: n.path, To: n.print(holds), Least: n.print(holds), Breaks: breaks}
	// A margin: what just holds in one rehearsal may not in the next.
	if v := clamp(n.round(holds + (holds-n.from)/10)); v != holds {
		if t := f.try(r, indices, n, v); t.holds && len(t.breaks) <= len(breaks) {
			c.To, c.Breaks = n.print(v), t.breaks
		}
	}
	text, at := f.Number(n.path)
	c.From, c.File, c.Line = text, at.File, at.Line
	return c, holds
}

// round rounds a number to digits that say it: steps of a power of ten, at most a
// twentieth of the change that it is.
func (n *number) round(v int64) int64 {
	scale := int64(1)
	for change := abs(v - n.from); change/(scale*10) >= 20; {
		scale *= 10
	}
	return (v + scale/2) / scale * scale
}

func abs(v int64) int64 { return max(v, -v) }
