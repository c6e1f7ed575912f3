package compare

import (
	"slices"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
)

// An Expectation is one that turned, changed its bound, is new, or is gone.
type Expectation struct {
	Text string           `json:"text"`
	Was  string           `json:"was,omitempty"` // its text in the old run, if that differs
	Turn Turn             `json:"turn"`
	Old  *measure.Outcome `json:"old"`
	New  *measure.Outcome `json:"new"`
	// Of several runs, in how many it holds.
	OldHolds int `json:"old_holds,omitempty"`
	NewHolds int `json:"new_holds,omitempty"`
}

// Title names the expectation, and its old text if that differs.
func (e *Expectation) Title() string {
	if e.Was == "" {
		return e.Text
	}
	return e.Text + " (before: " + e.Was + ")"
}

// Became returns the turn in words, and whether the expectation fails.
func (e *Expectation) Became() string {
	if e.New != nil && !e.New.Holds && e.Turn != FailsNow {
		return string(e.Turn) + ", fails"
	}
	return string(e.Turn)
}

// A Turn is how an expectation changed.
type Turn string

// The turns.
const (
	FailsNow Turn = "fails now" // it held, and the new run does not meet the old bound
	AsksLess Turn = "asks for less"
	HoldsNow Turn = "holds now"
	AsksMore Turn = "asks for more"
	New      Turn = "new"
	Gone     Turn = "gone"
)

// turns are all turns in the order of a list, and whether each is for the worse.
var turns = []struct {
	turn  Turn
	worse bool
}{{FailsNow, true}, {AsksLess, true}, {HoldsNow, false}, {AsksMore, false}, {New, false}, {Gone, true}}

// Worse reports whether the turn is for the worse.
func (t Turn) Worse() bool { return turns[t.rank()].worse }

// rank returns the place of a turn among all.
func (t Turn) rank() int {
	for i := range turns {
		if turns[i].turn == t {
			return i
		}
	}
	return len(turns) - 1
}

// Worse reports whether an expectation that held fails now, asks for less, or is gone.
func (r *Result) Worse() bool {
	return slices.ContainsFunc(r.Expectations, func(e Expectation) bool { return e.Turn.Worse() })
}

// A line is an expectation of runs, with its outcome.
type line struct {
	policy.Expectation
	known   bool             // the text can be read
	outcome *measure.Outcome // of the first run in which it fails, or else of the first
	holds   int              // runs
	other   *line            // of the runs on the other side; nil: there is none
}

// lines returns the expectations of several runs of one file, each once.
func lines(runs []*measure.Result) []*line {
	var out []*line
	for i := range runs[0].Expectations {
		l := &line{}
		text := runs[0].Expectations[i].Text
		if slices.ContainsFunc(out, func(o *line) bool { return o.Text == text }) {
			continue
		}
		var err error
		l.Expectation, err = policy.ParseExpectation(text)
		l.known = err == nil
		for _, r := range runs {
			n := slices.IndexFunc(r.Expectations, func(o measure.Outcome) bool { return o.Text == text })
			if n < 0 {
				continue
			}
			one := &r.Expectations[n]
			if one.Holds {
				l.holds++
			}
			if l.outcome == nil || l.outcome.Holds && !one.Holds {
				l.outcome = one
			}
		}
		out = append(out, l)
	}
	return out
}

// expectations returns those that turned. Of several runs an expectation holds where it holds in each.
func expectations(before, after []*measure.Result) []Expectation {
	olds, news := lines(before), lines(after)
	// First those with the same text go together, then those with the same bound, then a tighter one with the old, then any about one figure.
	for _, alike := range []func(old, now *line) bool{
		func(old, now *line) bool { return old.Text == now.Text },
		func(old, now *line) bool { return now.implies(old) && old.implies(now) },
		func(old, now *line) bool { return now.implies(old) },
		func(old, now *line) bool { return old.known && now.known && old.SameFigure(&now.Expectation) },
	} {
		for _, now := range news {
			for _, old := range olds {
				if now.other == nil && old.other == nil && alike(old, now) {
					now.other, old.other = old, now
				}
			}
		}
	}
	out := []Expectation{}
	add := func(e Expectation) {
		if len(before)+len(after) == 2 {
			e.OldHolds, e.NewHolds = 0, 0
		}
		out = append(out, e)
	}
	for _, now := range news {
		e := Expectation{Text: now.Text, Turn: New, New: now.outcome, NewHolds: now.holds}
		if old := now.other; old != nil {
			if e.Turn = old.turn(now); e.Turn == "" {
				continue
			}
			if e.Old, e.OldHolds = old.outcome, old.holds; old.Text != now.Text {
				e.Was = old.Text
			}
		}
		add(e)
	}
	for _, old := range olds {
		if old.other == nil && !slices.ContainsFunc(news, func(now *line) bool { return now.implies(old) }) {
			add(Expectation{Text: old.Text, Turn: Gone, Old: old.outcome, OldHolds: old.holds})
		}
	}
	slices.SortStableFunc(out, func(x, y Expectation) int { return x.Turn.rank() - y.Turn.rank() })
	return out
}

// implies reports whether each value that meets l meets the other.
func (l *line) implies(other *line) bool {
	return l.known && other.known && l.Implies(&other.Expectation)
}

// turn returns how an expectation changed; "": it did not.
func (l *line) turn(now *line) Turn {
	old := l.outcome
	same := l.Text == now.Text || l.implies(now) && now.implies(l)
	switch {
	case old.Holds && !now.outcome.Holds && (same || !l.met(now.outcome)):
		return FailsNow
	case !same && !now.implies(l):
		return AsksLess
	case !same:
		return AsksMore
	case !old.Holds && now.outcome.Holds:
		return HoldsNow
	}
	return ""
}

// met reports whether the value of another run meets l.
func (l *line) met(o *measure.Outcome) bool {
	if o.Measured == nil || o.Above && !l.AtLeast() {
		return false
	}
	e := l.Expectation
	e.Limit = l.outcome.Limit // in the unit of the figure
	return e.Holds(*o.Measured)
}
