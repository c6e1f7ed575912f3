// Package chart draws values over time, and distributions, as SVG and PNG. A chart is data; colours and patterns come from a style
// sheet, so that light and dark do.
package chart

import (
	"math"
	"slices"
)

// A Chart is one picture: panels below one another, over one axis.
type Chart struct {
	Title  string // what a screen reader says
	X      Axis
	Log    bool // of the x axis
	Panels []Panel
	Spans  []Span // times that each panel shades
}

// An Axis has a name, and says a value as people write it.
type Axis struct {
	Name     string
	Min, Max float64
	Say      func(float64) string
}

// A Panel is lines over the same x.
type Panel struct {
	Name   string
	Kind   Kind
	Say    func(float64) string // a value of the y axis
	Least  float64              // the y axis reaches at least to here
	Whole  bool                 // values are whole numbers
	Lines  []Line
	Levels []Level
	Height float64 // beside the others; 0: 1
	Worth  float64 // a panel whose values all are below this shows nothing of interest
}

// A Kind is how the lines of a panel are drawn.
type Kind int

// The kinds of panels.
const (
	Areas  Kind = iota // one upon the other, a step for each interval
	Steps              // a line of steps, each from its x to the next
	Bars               // one upon the other, a bar for each interval
	Curves             // a line through the points
	Bands              // from Low to Y, and a line through Mid
)

// A Line is one of the things a panel shows. X are where its values begin; of intervals there is one more, the end.
type Line struct {
	Name     string
	Ink      Ink
	Dashed   bool
	X, Y     []float64
	Low, Mid []float64 // of bands
}

// A Level is a value that lines are compared with: a horizontal line; of a chart of a distribution a vertical one.
type Level struct {
	Name     string
	At       float64
	Vertical bool
}

// A Span is a time in which something was active.
type Span struct {
	Name     string
	From, To float64
}

// Top returns the greatest value of a panel's lines, stacked where they are.
func (p *Panel) Top() (top float64) {
	switch p.Kind {
	case Areas, Bars:
		for _, v := range p.sums() {
			top = max(top, v)
		}
	default:
		for i := range p.Lines {
			for _, v := range p.Lines[i].Y {
				top = max(top, v)
			}
		}
	}
	return top
}

// scale returns the greatest value that the axis of a panel has.
func (p *Panel) scale() float64 {
	top := max(p.Least, p.Top())
	for _, l := range p.Levels {
		if !l.Vertical {
			top = max(top, l.At)
		}
	}
	if top == 0 {
		return 1
	}
	return top
}

// sums returns the sum of all lines at each value.
func (p *Panel) sums() []float64 {
	var out []float64
	for i := range p.Lines {
		for j, v := range p.Lines[i].Y {
			if j == len(out) {
				out = append(out, 0)
			}
			out[j] += v
		}
	}
	return out
}

// steps returns the values at which an axis from 0 has ticks: at most so many, a round distance apart.
func steps(top float64, most int, whole bool) []float64 {
	least := math.Pow(10, math.Floor(math.Log10(top/float64(most))))
	size := least
	for _, n := range []float64{2, 5, 10} {
		if top/size <= float64(most) || n*least > top { // one tick besides 0 there is always
			break
		}
		size = n * least
	}
	if whole {
		size = max(size, 1)
	}
	var out []float64
	for i := 0; float64(i)*size <= top*1.0001; i++ {
		out = append(out, float64(i)*size)
	}
	return out
}

// decades returns the ticks of a logarithmic axis.
func decades(from, to float64) (out []float64) {
	for e := math.Floor(math.Log10(from)); ; e++ {
		for _, n := range []float64{1, 2, 5} {
			v := n * math.Pow(10, e)
			if v > to*1.0001 {
				return out
			}
			if v >= from*0.9999 && (n == 1 || to/from < 1000) {
				out = append(out, v)
			}
		}
	}
}

// A Table is a chart's numbers: a row for each x.
type Table struct {
	Head []string
	Rows [][]string
}

// Table returns the numbers of a chart. Lines whose x differ are tables of their own, one after the other.
func (c *Chart) Table() (all []Table) {
	var xs [][]float64
	for i := range c.Panels {
		p := &c.Panels[i]
		for j := range p.Lines {
			l := &p.Lines[j]
			n := slices.IndexFunc(xs, func(x []float64) bool { return slices.Equal(x, l.X) })
			if n < 0 {
				n = len(xs)
				xs = append(xs, l.X)
				t := Table{Head: []string{c.X.Name}}
				for k := range l.Y {
					t.Rows = append(t.Rows, []string{c.X.Say(l.X[k])})
				}
				all = append(all, t)
			}
			for _, v := range []struct {
				name   string
				values []float64
			}{{" low", l.Low}, {" mid", l.Mid}, {"", l.Y}} {
				if v.values == nil {
					continue
				}
				name := p.Name
				if l.Name != p.Name {
					name += ": " + l.Name
				}
				if p.Kind == Bands {
					name += map[string]string{" low": " p50", " mid": " p99", "": " max"}[v.name]
				}
				all[n].Head = append(all[n].Head, name)
				for k, y := range v.values {
					all[n].Rows[k] = append(all[n].Rows[k], p.Say(y))
				}
			}
		}
	}
	return all
}
