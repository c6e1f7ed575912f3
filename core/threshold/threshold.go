// Package threshold finds where an expectation just holds as one number of a policy file changes
// between two values. Every value that it speaks of was rehearsed.
package threshold

import (
	"cmp"
	"slices"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/unit"
)

// A Point is one value, and what the rehearsal came to with it.
type Point struct {
	Value    string   `json:"value"`
	Measured *float64 `json:"measured"` // nil: nothing to measure
	Unit     string   `json:"unit"`
	Holds    bool     `json:"holds"`
	// Warnings tell of calls, classes and requests that this value ruins, and that the expectation is not about.
	Warnings []measure.Warning `json:"warnings,omitempty"`

	at int64
}

// A Result is where the expectation holds.
type Result struct {
	Policy bool    `json:"policy"` // with the policies in force
	Points []Point `json:"points"` // in the order of their values
	// Holds is the last value that holds, next to Fails, the first that does not; both are
	// "" where it holds everywhere that was tried, or nowhere.
	Holds string `json:"holds"`
	Fails string `json:"fails"`
	// Turns is how often it turns between neighbouring values: more than once, and it holds
	// in several stretches, of which Holds is the end of one.
	Turns int `json:"turns"`
}

// Held returns the point whose value holds next to one that fails, or the last where all hold; nil: none holds.
func (r *Result) Held() *Point {
	for i := len(r.Points) - 1; i >= 0; i-- {
		if p := &r.Points[i]; p.Holds && (p.Value == r.Holds || r.Holds == "") {
			return p
		}
	}
	return nil
}

// Everywhere reports whether it held with every value that was tried.
func (r *Result) Everywhere() bool {
	return r.Fails == "" && len(r.Points) > 0 && r.Points[0].Holds
}

// inside is how many values between the ends are tried first: an expectation may hold in the
// middle alone. maxTries bounds the values in all.
const (
	inside   = 3
	maxTries = 24
)

// A Try rehearses the file with a value, and returns the result and the outcome of the expectation. An error ends the search.
type Try func(value string) (*measure.Result, *measure.Outcome, error)

// Between looks for where the expectation turns, to a hundredth of the way from one value to
// the other or closer, the least step of the kind of number permitting. With an error of a try comes what was found
// until then.
func Between(from, to unit.Number, try Try) (*Result, error) {
	r := &Result{}
	if from.Value > to.Value {
		from, to = to, from
	}
	ask := func(v int64) (Point, error) {
		for _, p := range r.Points {
			if p.at == v {
				return p, nil
			}
		}
		text := from.With(v).String()
		res, o, err := try(text)
		if err != nil {
			return Point{}, err
		}
		p := Point{Value: text, Measured: o.Measured, Unit: o.Unit, Holds: o.Holds, Warnings: res.Damage(), at: v}
		r.Points = append(r.Points, p)
		slices.SortFunc(r.Points, func(a, b Point) int { return cmp.Compare(a.at, b.at) })
		return p, nil
	}
	way := to.Value - from.Value
	for i := range int64(inside + 2) {
		v := to.Value
		if i <= inside {
			v = rounded(from.Value+way/(inside+1)*i, way)
		}
		if i == 0 {
			v = from.Value
		}
		if _, err := ask(v); err != nil {
			return r.ended(), err
		}
	}
	for len(r.Points) < maxTries {
		i := r.turn()
		if i < 0 {
			break
		}
		a, b := r.Points[i].at, r.Points[i+1].at
		if b-a <= max(1, way/100) {
			break
		}
		v := rounded(a+(b-a)/2, b-a)
		if v <= a || v >= b {
			v = a + (b-a)/2
		}
		if _, err := ask(v); err != nil {
			return r.ended(), err
		}
	}
	return r.ended(), nil
}

// ended notes where the points tried turn.
func (r *Result) ended() *Result {
	if i := r.turn(); i >= 0 {
		r.Holds, r.Fails = r.Points[i].Value, r.Points[i+1].Value
		if !r.Points[i].Holds {
			r.Holds, r.Fails = r.Fails, r.Holds
		}
	}
	for i := 1; i < len(r.Points); i++ {
		if r.Points[i].Holds != r.Points[i-1].Holds {
			r.Turns++
		}
	}
	return r
}

// turn returns the number of the last point before the last turn, or -1: of several
// stretches the one with the greatest values is looked into.
func (r *Result) turn() int {
	for i := len(r.Points) - 2; i >= 0; i-- {
		if r.Points[i].Holds != r.Points[i+1].Holds {
			return i
		}
	}
	return -1
}

// rounded rounds a value to few digits, by no more than a hundredth of a way.
func rounded(v, way int64) int64 {
	step := int64(1)
	for step*10 <= way/20 {
		step *= 10
	}
	return (v + step/2) / step * step
}
