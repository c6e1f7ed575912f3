package render

import (
	"fmt"
	"slices"

	"github.com/jedib0t/go-pretty/v6/table"

	"imbrel/core/figure"
	"imbrel/core/repeat"
)

// Repeats writes what several runs of a rehearsal come to.
func (t Text) Repeats(s *repeat.Summary) {
	with := "with the policies"
	if !s.Policy {
		with = "without policies"
	}
	t.Title("rehearsal `%s` %s: %s, seeds %s", s.Rehearsal, with, figure.Plural(s.Repeats, "run"), seeds(s.Seeds))
	t.Line("")
	if len(s.Expectations) > 0 {
		w := t.grid([]column{{"expectation", true}, {"holds in", false}, {"mean", false}, {"95 % of means", false}, {"of all runs", false}}, nil)
		for _, h := range s.Expectations {
			row := table.Row{h.Text, fmt.Sprintf("%d of %d", h.Holds, h.Runs), "-", "-", "-"}
			if v := h.Measured; v != nil {
				row = table.Row{row[0], row[1], moved(&v.Mean, h.Unit), between(v.Low, v.High, h.Unit), between(v.Least, v.Most, h.Unit)}
			}
			w.add(row)
		}
		t.put(w)
		t.Line("")
	}
	t.figures(s)
	t.Line("%s", t.verdictOf(s))
}

// figures writes the figures of the traffic, each with half of its interval.
func (t Text) figures(s *repeat.Summary) {
	metrics := []string{"rate", "loss", "late", "delay p50", "delay p99", "jitter", "MOS"}
	type name struct{ name, direction, class string }
	var names []name
	of := make(map[name]map[string]*repeat.Figure)
	for i := range s.Figures {
		f := &s.Figures[i]
		if f.Of != "traffic" {
			continue
		}
		n := name{f.Name, f.Direction, f.Class}
		if of[n] == nil {
			names = append(names, n)
			of[n] = make(map[string]*repeat.Figure)
		}
		of[n][f.Metric] = f
	}
	metrics = slices.DeleteFunc(metrics, func(m string) bool {
		return !slices.ContainsFunc(names, func(n name) bool { return of[n][m] != nil })
	})
	columns := []column{{"traffic", true}, {"class", true}}
	for _, m := range metrics {
		columns = append(columns, column{m, false})
	}
	w := t.grid(columns, nil)
	for _, n := range names {
		title := n.name
		if n.direction == "reverse" {
			title += " back"
		}
		row := table.Row{title, n.class}
		for _, m := range metrics {
			text := "-"
			if f := of[n][m]; f != nil {
				if text = moved(&f.Mean, f.Unit); f.High > f.Low {
					half := (f.High - f.Low) / 2
					text += " ± " + moved(&half, f.Unit)
				}
			}
			row = append(row, text)
		}
		w.add(row)
	}
	t.put(w)
	t.Line("")
}

// verdictOf says in one line what the runs come to.
func (t Text) verdictOf(s *repeat.Summary) painted {
	if len(s.Expectations) == 0 {
		return t.paint("Nothing was expected.")
	}
	fails := 0
	var first *repeat.Held
	for i := range s.Expectations {
		if h := &s.Expectations[i]; h.Holds < h.Runs {
			if fails++; first == nil || h.Holds < first.Holds {
				first = h
			}
		}
	}
	if fails == 0 {
		return t.good(fmt.Sprintf("PASS: each of %s holds in %d of %d runs", figure.Plural(len(s.Expectations), "expectation"), s.Repeats, s.Repeats))
	}
	return t.bad(fmt.Sprintf("FAIL: %d of %s not hold in every run; %q in %d of %d: see one with --seed %d", fails, figure.Plural(len(s.Expectations), "expectation")+" do", first.Text, first.Holds, first.Runs, *first.Fails))
}

// between prints two figures, or one where they are the same.
func between(a, b float64, unit string) string {
	x, y := moved(&a, unit), moved(&b, unit)
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
