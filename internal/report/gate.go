package report

import (
	"fmt"
	"strings"

	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/internal/chart"
	"imbrel.example/imbrel/internal/live"
	"imbrel.example/imbrel/internal/render"
)

// Gate returns the page of what a gate has done. Its result holds a series. A live page is that of a gate at work, and loads itself
// again every few seconds.
func Gate(r *live.Report, alive bool, ran *Ran) *Page {
	p := &rehearsal{runs: []*measure.Result{r.Result}, names: []string{""}, shown: make(map[string]bool)}
	p.Ran, p.Title = ran, "The gate"
	if r.Title != "" {
		p.Title = r.Title + ": the gate"
	}
	if p.judged(r.Result); r.Verdict == "none" {
		p.Word, p.Said = "AT WORK", fmt.Sprintf("%s in %.0f s.", sent(r), r.DurationS)
		if !alive {
			p.Word = "ENDED"
		}
	}
	if alive {
		p.Refresh = 3
		p.Facts = append(p.Facts, fmt.Sprintf("the last %.0f s", min(r.DurationS, 120)), "this page loads itself again every 3 s")
	}
	p.colours()
	p.Blocks = append(append(append(p.Blocks, p.reasons()...), p.costs()...), p.expectations()...)
	p.Blocks = append(p.Blocks, overview(r))
	b := block{ID: "places", Title: "Each interface over time", Lead: []string{"Rates are stacked by class, as the interface counts bytes. A wait is a band from the median to the longest, with a line at p99."}}
	for i := range r.Series.Interfaces {
		f := &r.Series.Interfaces[i]
		c := p.rates(r.Result, f)
		c.X.Min, c.X.Max = r.Series.FromS, 0
		for j := range c.Panels {
			for k := range c.Panels[j].Lines {
				l := &c.Panels[j].Lines[k]
				for n := range l.X {
					l.X[n] = r.Series.FromS + float64(n)*r.Series.IntervalS
					c.X.Max = max(c.X.Max, l.X[n])
				}
			}
		}
		if c.X.Max <= c.X.Min {
			continue
		}
		beside([]*chart.Chart{c})
		where := f.Node + "/" + f.Interface + " " + f.Direction
		b.Groups = append(b.Groups, group{ID: placeID(f.Node+"/"+f.Interface, f.Direction), Charts: []drawn{p.draw(where, c)}})
	}
	if b.Groups != nil {
		p.Blocks = append(p.Blocks, b)
	}
	return &p.Page
}

// sent is how much all interfaces have sent.
func sent(r *live.Report) string {
	var bytes uint64
	for i := range r.Interfaces {
		for j := range r.Interfaces[i].Classes {
			if c := &r.Interfaces[i].Classes[j]; !strings.Contains(c.Class, "/") && r.Interfaces[i].Direction == policy.Out.String() {
				bytes += c.SentBytes
			}
		}
	}
	return humanize.Bytes(int64(bytes)) + " sent"
}

// overview is a table of the classes of all interfaces.
func overview(r *live.Report) block {
	t := &table{Head: []string{"class", "offered", "sent", "of its promise", "drops", "why", "p99 wait"}, Left: 1}
	for i := range r.Interfaces {
		f := &r.Interfaces[i]
		for j := range f.Classes {
			c := &f.Classes[j]
			row := []cell{plain(f.Interface + " " + f.Direction + ": " + c.Class), plain(humanize.Rate(c.OfferedBps)), plain(humanize.Rate(c.SentBps)), plain("–"), plain(humanize.Count(c.Drops.Total())), plain(render.Reasons(&c.Drops)), plain("–")}
			if c.PromisedBps != nil && *c.PromisedBps > 0 {
				row[3] = cell{Text: fmt.Sprintf("%.0f %% of %s", 100*float64(c.SentBps)/float64(*c.PromisedBps), humanize.Rate(*c.PromisedBps)), Bar: float64(c.SentBps) / float64(*c.PromisedBps), Limit: -1}
			}
			if c.QueueDelay != nil {
				row[6].Text = ms(c.QueueDelay.P99)
			}
			t.Rows = append(t.Rows, row)
		}
	}
	return block{ID: "classes", Title: "All classes, since the gate began", Table: t}
}
