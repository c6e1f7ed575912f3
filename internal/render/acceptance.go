package render

import (
	"fmt"

	"github.com/jedib0t/go-pretty/v6/table"

	"imbrel.example/imbrel/core/acceptance"
	"imbrel.example/imbrel/core/humanize"
)

// Acceptance writes what came of the test of a contract.
func (t Text) Acceptance(r *acceptance.Result) {
	by := ""
	if r.Policies {
		by = " through the policies of the file"
	}
	t.Title("The contract at %s: what passes of what was bought%s (rates count IP bytes)", r.At, by)
	w := t.grid([]column{{"step", true}, {"marked", true}, {"offered", false}, {"sent", false}, {"arrived", false}, {"lost", false}, {"p99 delay", false}, {"", true}}, nil)
	bad, last := 0, ""
	for i := range r.Steps {
		o := &r.Steps[i]
		step, offered, delay, verdict := o.Step, "-", "-", t.good("holds")
		if step == last {
			step = ""
		}
		last = o.Step
		if o.OfferedBs > 0 {
			offered = humanize.Rate(o.OfferedBs)
		}
		if o.DelayMs != nil {
			delay = humanize.Milliseconds(*o.DelayMs)
		}
		if !o.Holds {
			verdict = t.bad("FAILS")
			bad++
		}
		w.add(table.Row{step, o.DSCP, offered, humanize.Count(o.Sent), humanize.Count(o.Arrived), humanize.Ratio(o.Loss), delay, verdict})
	}
	t.put(w)
	for i := range r.Steps {
		if o := &r.Steps[i]; !o.Why.IsZero() {
			t.paragraph("  ", fmt.Sprintf("%s, %s: %s.", o.Step, o.DSCP, o.Why))
		}
	}
	t.Line("")
	if bad == 0 {
		t.Line("%s", t.good("What was bought passes, and no more than that."))
	} else {
		t.Line("%s", t.bad(fmt.Sprintf("%d of %s fail.", bad, humanize.Plural(len(r.Steps), "test"))))
		if r.Policies {
			t.Line("Next: --without-policy tests the line alone")
		}
	}
}
