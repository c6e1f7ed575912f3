package render

import (
	"slices"

	"github.com/jedib0t/go-pretty/v6/table"

	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/measure"
)

// chartWidth is how many characters a chart over time is wide at most.
const chartWidth = 20

// series writes what happened over time: for each class a chart of its rate, its queue
// and its drops.
func (t Text) series(s *measure.Series, v *View) {
	if s == nil {
		return
	}
	t.Title("Over time, in steps of %g s (each chart from 0 to the most beside it)", s.IntervalS)
	for i := range s.Interfaces {
		f := &s.Interfaces[i]
		name := f.Node + "/" + f.Interface
		if !v.at(name, f.Direction) {
			continue
		}
		quiet := !slices.ContainsFunc(f.Classes, func(c measure.SeriesClass) bool { return slices.Max(c.Drops) > 0 || c.Wakes != nil })
		if quiet && len(v.At) == 0 && !v.All {
			continue
		}
		t.Line("  %s %s", name, f.Direction)
		w := t.dense(t.grid([]column{{"class", true}, {"sent", true}, {"most", false}, {"queue", true}, {"most", false}, {"drops", true}, {"most", false}}, nil))
		for j := range f.Classes {
			c := &f.Classes[j]
			if !v.shows(c.Class) {
				continue
			}
			w.add(chartRow(c, ""))
			for k := range c.Instances {
				w.add(chartRow(&c.Instances[k], "  "))
			}
		}
		t.put(w)
		for j := range f.Classes {
			for _, k := range f.Classes[j].Wakes {
				switch {
				case !v.shows(f.Classes[j].Class) || k.AtS == 0: // it did not wake, it was there
				case k.PromiseAfter == nil:
					t.Line("    %s began at %g s and never had its promise", f.Classes[j].Class, k.AtS)
				default:
					t.Line("    %s started at %g s and reached its promised rate, or all it offered, within %g s", f.Classes[j].Class, k.AtS, *k.PromiseAfter)
				}
			}
		}
		for _, h := range s.Whens {
			if h.Node == f.Node && h.Interface == f.Interface && h.Direction == f.Direction {
				what := "its `when`"
				if h.Limit != "" {
					what = "the `when` of its `" + h.Limit + "`"
				}
				t.Line("    %s: %s held from %.4g s to %.4g s", h.Class, what, h.FromS, h.ToS)
			}
		}
		t.Line("")
	}
}

func chartRow(c *measure.SeriesClass, in string) table.Row {
	return table.Row{in + humanize.Short(c.Class, 30), chart(c.SentBps), humanize.Rate(slices.Max(c.SentBps)),
		chart(c.QueueBytes), humanize.Bytes(slices.Max(c.QueueBytes)), chart(c.Drops), humanize.Count(slices.Max(c.Drops))}
}

// chart draws values as a row of blocks, the highest for the most; of several values in
// a block, the highest.
func chart(values []int64) string {
	const blocks = " ▁▂▃▄▅▆▇█"
	heights := []rune(blocks)
	n := min(len(values), chartWidth)
	most := max(1, slices.Max(values))
	out := make([]rune, n)
	for i := range out {
		v := slices.Max(values[i*len(values)/n : max(i*len(values)/n+1, (i+1)*len(values)/n)])
		h := 0
		if v > 0 {
			h = 1 + int(v*7/most)
		}
		out[i] = heights[h]
	}
	return string(out)
}
