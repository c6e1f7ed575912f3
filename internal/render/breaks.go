package render

import (
	"fmt"
	"slices"

	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/measure"
)

// breaks writes, for each ramp, from where on which expectations did not hold: in one run, or
// without and with the policies.
func (t Text) breaks(runs ...*measure.Result) {
	last := ""
	for i := range runs[0].Breaks {
		b := &runs[0].Breaks[i]
		if b.Ramp != last {
			last = b.Ramp
			what := "rises"
			if b.To < b.From {
				what = "falls"
			}
			t.Title("Where it breaks, as `%s` %s from %s to %s in %.6g s", b.Ramp, what, ramped(b.From, b.Unit), ramped(b.To, b.Unit), b.OverS)
		}
		if len(runs) == 1 {
			t.Line("  %s %s", b.Text, t.broke(b))
			continue
		}
		with := runs[1].Breaks
		switch j := slices.IndexFunc(with, func(o measure.Break) bool { return o.Ramp == b.Ramp && o.Text == b.Text }); {
		case j < 0:
		case b.Judged+with[j].Judged == 0:
			t.Line("  %s %s", b.Text, t.broke(b))
		default:
			t.Line("  %s %s without, and %s with the policies", b.Text, t.broke(b), t.broke(&with[j]))
		}
	}
	if last != "" {
		t.Line("")
	}
}

// broke says from where on an expectation fails.
func (t Text) broke(b *measure.Break) painted {
	switch {
	case b.Judged == 0:
		return t.bad("has nothing to judge") + painted(": nothing that it is about was sent during the ramp")
	case !b.Breaks:
		return t.good("holds") + painted(" up to "+ramped(b.To, b.Unit))
	case b.Holds == nil:
		return t.bad("fails") + painted(" from "+ramped(b.Value, b.Unit)+" on")
	}
	return t.bad("breaks") + painted(fmt.Sprintf(" at %s (%.3g s)", ramped(b.Value, b.Unit), b.AtS))
}

// ramped prints what a ramp is at.
func ramped(v int64, unit string) string {
	if unit == "calls" {
		return humanize.Plural(int(v), "call")
	}
	return humanize.Rate(v)
}
