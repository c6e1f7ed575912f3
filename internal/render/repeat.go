package render

import (
	"fmt"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/repeat"
)

// Repeats writes what several runs of a rehearsal come to.
func (t Text) Repeats(s *repeat.Summary) {
	with := "with the policies"
	if !s.Policy {
		with = "without policies"
	}
	t.Title("rehearsal `%s` %s: %s, seeds %s", s.Rehearsal, with, humanize.Plural(s.Repeats, "run"), seeds(s.Seeds))
	t.Line("")
	if len(s.Expectations) > 0 {
		w := t.grid([]column{{"expectation", true}, {"holds in", false}, {"mean ± 95 %", false}, {"min … max", false}}, nil)
		for _, h := range s.Expectations {
			name := h.Text
			if len(h.FailsIn) > 0 {
				name += " (fails " + strings.Join(h.FailsIn, ", ") + ")"
			}
			row := table.Row{name, fmt.Sprintf("%d of %d", h.Holds, h.Runs), "-", "-"}
			if v := h.Measured; v != nil {
				row = table.Row{row[0], row[1], plusMinus(v, h.Unit), between(v.Min, v.Max, h.Unit)}
			}
			w.add(row)
		}
		t.put(w)
		t.Line("")
	}
	t.figures(s)
	t.repeatVerdict(s)
}

// figures writes the figures of the traffic, each with half of its interval; those of TCP in a
// table of their own.
func (t Text) figures(s *repeat.Summary) {
	t.figuresOf(s, "", "rate", "loss", "late", "delay p99", "MOS")
	t.figuresOf(s, "goodput", "goodput", "retransmissions", "round trip p99", "completion p95")
}

// figuresOf writes some metrics of the traffic that has one of them, or of all.
func (t Text) figuresOf(s *repeat.Summary, needs string, metrics ...string) {
	var names []repeat.Subject
	of := make(map[repeat.Subject]map[string]*repeat.Figure)
	for i := range s.Figures {
		f := &s.Figures[i]
		if f.Of != "traffic" {
			continue
		}
		n := f.Subject
		if of[n] == nil {
			names = append(names, n)
			of[n] = make(map[string]*repeat.Figure)
		}
		of[n][f.Metric] = f
	}
	names = slices.DeleteFunc(names, func(n repeat.Subject) bool { return needs != "" && of[n][needs] == nil })
	if len(names) == 0 {
		return
	}
	metrics = slices.DeleteFunc(metrics, func(m string) bool {
		return !slices.ContainsFunc(names, func(n repeat.Subject) bool { return of[n][m] != nil })
	})
	columns := []column{{"traffic", true}, {"class", true}}
	for _, m := range metrics {
		columns = append(columns, column{m, false})
	}
	w := t.dense(t.grid(columns, nil))
	for _, n := range names {
		row := table.Row{policy.Directed(n.Name, n.Direction == "reverse"), n.Class}
		for _, m := range metrics {
			text := "-"
			if f := of[n][m]; f != nil {
				text = plusMinus(&f.Interval, f.Unit)
			}
			row = append(row, text)
		}
		w.add(row)
	}
	t.put(w)
	t.Line("")
}

// repeatVerdict says in one line what the runs come to.
func (t Text) repeatVerdict(s *repeat.Summary) {
	fails := 0
	var worst *repeat.Held
	for i := range s.Expectations {
		if h := &s.Expectations[i]; h.Holds < h.Runs {
			if fails++; worst == nil || h.Holds < worst.Holds {
				worst = h
			}
		}
	}
	if s.Incomplete {
		t.Line("Interrupted: these figures are of the runs that were complete by then.")
	}
	switch n := len(s.Expectations); {
	case n == 0:
		t.Line("No verdict: the rehearsal expects nothing. Add lines under `expect`")
	case fails == 0:
		t.Line("%s: %s in %d of %d runs", t.good("PASS"), allHold(n), s.Repeats, s.Repeats)
	default:
		verb := "do"
		if fails == 1 {
			verb = "does"
		}
		t.Line("%s: %d of %s %s not hold in every run; the worst, %q, in %d of %d: see one run with --seed %d", t.bad("FAIL"), fails, humanize.Plural(n, "expectation"), verb, worst.Text, worst.Holds, worst.Runs, *worst.Fails)
	}
}

// plusMinus prints a mean with half of its interval: "5.30 ± 0.02 ms".
func plusMinus(v *repeat.Interval, unit string) string {
	mean, half := Moved(&v.Mean, unit), (v.High-v.Low)/2
	if half == 0 {
		return mean
	}
	more := Moved(&half, unit)
	if number, of, ok := strings.Cut(mean, " "); ok && strings.HasSuffix(more, " "+of) {
		mean = number
	}
	return mean + " ± " + more
}

// between prints two figures, or one where they are the same.
func between(a, b float64, unit string) string {
	x, y := Moved(&a, unit), Moved(&b, unit)
	if x == y {
		return x
	}
	return x + " … " + y
}

// seeds lists seeds, in short where they follow each other.
func seeds(all []uint64) string {
	if n := len(all); n > 2 && all[n-1]-all[0] == uint64(n-1) {
		return fmt.Sprintf("%d to %d", all[0], all[n-1])
	}
	out := ""
	for i, s := range all {
		if i == 8 {
			return out + ", …"
		}
		if i > 0 {
			out += ", "
		}
		out += fmt.Sprint(s)
	}
	return out
}
