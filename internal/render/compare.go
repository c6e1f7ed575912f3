package render

import (
	"fmt"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"imbrel.example/imbrel/core/compare"
	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/measure"
)

// maxMoved is how many figures that changed are shown.
const maxMoved = 24

// Compared writes what differs between two runs.
func (t Text) Compared(r *compare.Result, all bool) {
	if both := ""; r.Old.Policy == r.New.Policy {
		if both = ", both with the policies"; !r.New.Policy {
			both = ", both without policies"
		}
		t.Title("rehearsal `%s`: old: %s, new: %s%s", r.New.Rehearsal, ran(&r.Old), ran(&r.New), both)
	} else {
		t.Title("rehearsal `%s`: old, %s: %s; new, %s: %s", r.New.Rehearsal, Policies(&r.Old), ran(&r.Old), Policies(&r.New), ran(&r.New))
	}
	for _, n := range r.Notes {
		t.paragraph("  ", n.String())
	}
	t.Line("")
	if len(r.Expectations) > 0 {
		t.Title("Expectations that changed")
		w := t.grid([]column{{"expectation", true}, {"was", false}, {"is", false}, {"", true}, {"of", true}}, nil)
		for _, e := range r.Expectations {
			turn := t.paint(e.Became())
			if e.Turn.Worse() {
				turn = t.bad(e.Became())
			} else if e.Turn == compare.HoldsNow {
				turn = t.good(e.Became())
			}
			of := ""
			if e.New != nil {
				of = e.New.Of
			}
			w.add(table.Row{e.Title(), outcome(e.Old), outcome(e.New), turn, of})
		}
		t.put(w)
		t.Line("")
	}
	if len(r.Moved) > 0 {
		t.Title("Figures that changed, worst first")
		w := t.grid([]column{{"", true}, {"", true}, {"figure", true}, {"was", false}, {"is", false}, {"", true}}, nil)
		left := 0
		for i, m := range r.Moved {
			if i >= maxMoved && !all {
				left++
				continue
			}
			turn := t.paint(m.Turn)
			if m.Turn == "worse" {
				turn = t.bad(m.Turn)
			}
			w.add(table.Row{m.Of, m.Name, m.Metric, Moved(m.Old, m.Unit), Moved(m.New, m.Unit), turn})
		}
		t.put(w)
		if left > 0 {
			t.Line("  and %s that changed: --all shows them", humanize.Plural(left, "more figure"))
		}
		t.Line("")
	}
	t.Line("%s", CountMoved(r))
}

// CountMoved says in a sentence how many figures got worse, better, or are as before.
func CountMoved(r *compare.Result) string {
	if len(r.Expectations)+len(r.Moved) == 0 {
		return fmt.Sprintf("No change in %s.", humanize.Plural(r.Same, "figure"))
	}
	worse, better := 0, 0
	for _, m := range r.Moved {
		switch m.Turn {
		case "worse":
			worse++
		case "better":
			better++
		}
	}
	return fmt.Sprintf("%s worse, %d better, %d as before.", humanize.Plural(worse, "figure"), better, r.Same)
}

// ran names the verdict of a run.
func ran(r *compare.Run) string {
	switch r.Verdict {
	case "pass", "fail":
		return strings.ToUpper(r.Verdict)
	}
	return "nothing expected"
}

// Policies says whether the policies were in force in a run.
func Policies(r *compare.Run) string {
	if r.Policy {
		return "with the policies"
	}
	return "without policies"
}

func outcome(o *measure.Outcome) string {
	if o == nil {
		return "-"
	}
	return Phased(o)
}

// Moved prints a figure with its unit.
func Moved(v *float64, unit string) string {
	if v == nil {
		return "-"
	}
	switch unit {
	case "%":
		return humanize.Ratio(*v / 100)
	case "ms":
		return humanize.Milliseconds(*v)
	case "bit/s":
		return humanize.Rate(int64(*v))
	case "packets":
		return humanize.Count(int64(*v))
	}
	return fmt.Sprintf("%.2f", *v)
}
