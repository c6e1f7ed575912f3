package render

import (
	"fmt"

	"github.com/jedib0t/go-pretty/v6/table"

	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
)

// happened writes what each event did to the expectations: in short, where all hold.
func (t Text) happened(r *measure.Result, v *View) {
	for i := range r.Events {
		e := &r.Events[i]
		if e.Holds() && !v.detailed() {
			t.Line("`%s`, from %s to %s: all holds before, during and after it.", e.Name, seconds(e.AtS), seconds(e.UntilS))
			if i == len(r.Events)-1 {
				t.Line("")
			}
			continue
		}
		routes := ""
		if e.DetectedS != nil {
			routes = fmt.Sprintf("; the routes follow %s after it fails, and after it is back", seconds(*e.DetectedS))
		}
		t.Title("The event `%s`, from %s to %s%s", e.Name, seconds(e.AtS), seconds(e.UntilS), routes)
		w := t.grid([]column{{"expectation", true}, {"before", false}, {"during", false}, {"after", false}, {"holds again", true}}, nil)
		for j := range e.Expectations {
			o := &e.Expectations[j]
			row := table.Row{o.Text}
			for _, p := range policy.Phases() {
				row = append(row, t.phase(o, *o.Phase(p)))
			}
			again := ""
			switch {
			case o.Stays:
				again = "not until the end"
			case o.RecoversS != nil:
				again = "after " + seconds(*o.RecoversS)
			}
			w.add(append(row, again))
		}
		t.put(w)
		t.Line("")
	}
}

// phase prints what was measured in a phase, and whether the expectation fails in it.
func (t Text) phase(o *measure.EventOutcome, p *measure.PhaseOutcome) painted {
	switch {
	case p == nil:
		return "-"
	case p.Measured == nil:
		return t.bad("nothing arrived: FAILS")
	}
	text := humanize.Decided(*p.Measured, p.Limit, o.Unit())
	if p.Above {
		text = "> " + text
	}
	if p.Holds {
		return painted(text)
	}
	return t.bad(text + " FAILS")
}

// seconds prints a number of seconds.
func seconds(s float64) string { return fmt.Sprintf("%.3g s", s) }
