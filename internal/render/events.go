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
		t.Title("The event `%s`, %s", e.Name, EventTime(e))
		w := t.grid([]column{{"expectation", true}, {"before", false}, {"during", false}, {"after", false}, {"holds again", true}}, nil)
		for j := range e.Expectations {
			o := &e.Expectations[j]
			row := table.Row{o.Text}
			for _, p := range policy.Phases() {
				row = append(row, t.phase(o, *o.Phase(p)))
			}
			w.add(append(row, HoldsAgain(o)))
		}
		t.put(w)
		t.Line("")
	}
}

// EventTime says when an event begins and ends, and when the routes follow.
func EventTime(e *measure.EventResult) string {
	text := fmt.Sprintf("from %s to %s", seconds(e.AtS), seconds(e.UntilS))
	if e.DetectedS != nil {
		text += fmt.Sprintf("; the routes follow %s after it fails, and after it is back", seconds(*e.DetectedS))
	}
	return text
}

// HoldsAgain says when an expectation holds again after an event began; "": it never failed.
func HoldsAgain(o *measure.EventOutcome) string {
	switch {
	case o.Stays:
		return "not until the end"
	case o.RecoversS != nil:
		return "after " + seconds(*o.RecoversS)
	}
	return ""
}

// InPhase prints the measured value of a phase, and reports whether the expectation fails in it.
func InPhase(o *measure.EventOutcome, p *measure.PhaseOutcome) (text string, fails bool) {
	switch {
	case p == nil:
		return "-", false
	case p.Measured == nil:
		return "nothing arrived", true
	}
	text = humanize.Decided(*p.Measured, p.Limit, o.Unit())
	if p.Above {
		text = "> " + text
	}
	return text, !p.Holds
}

func (t Text) phase(o *measure.EventOutcome, p *measure.PhaseOutcome) painted {
	text, fails := InPhase(o, p)
	if fails {
		return t.bad(text + " FAILS")
	}
	return painted(text)
}

// seconds prints a number of seconds.
func seconds(s float64) string { return fmt.Sprintf("%.3g s", s) }
