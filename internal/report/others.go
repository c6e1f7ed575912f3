package report

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"imbrel.example/imbrel/core/compare"
	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/proof"
	"imbrel.example/imbrel/core/repeat"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/internal/chart"
	"imbrel.example/imbrel/internal/live"
	"imbrel.example/imbrel/internal/render"
)

// Compared returns the page of what differs between two results.
func Compared(all []*compare.Result, ran *Ran) *Page {
	p := &Page{page: page{Title: "Two results compared", Word: "NO WORSE", State: "good", Ran: ran}}
	for i, r := range all {
		if r.Worse() {
			p.Word, p.State = "WORSE", "bad"
		}
		counted := render.CountMoved(r)
		if len(all) > 1 {
			counted = r.New.Rehearsal + ": " + counted
		}
		p.Said += counted + " "
		b := block{ID: fmt.Sprintf("compared-%d", i), Title: fmt.Sprintf("%s: %s, then %s", r.New.Rehearsal, render.Policies(&r.Old), render.Policies(&r.New))}
		if r.Old.Policy == r.New.Policy {
			b.Title = fmt.Sprintf("%s: old and new, both %s", r.New.Rehearsal, render.Policies(&r.New))
		}
		for _, n := range r.Notes {
			b.Lead = append(b.Lead, sentence(n.String()))
		}
		turned := &table{Head: []string{"expectation", "was", "is", ""}, Left: 1}
		for _, e := range r.Expectations {
			row := []cell{plain(e.Title()), plain("–"), plain("–"), plain(e.Became())}
			if e.Turn.Worse() {
				row[3].State = "bad"
			} else if e.Turn == compare.HoldsNow {
				row[3].State = "good"
			}
			if e.Old != nil {
				row[1] = outcome(e.Old)
			}
			if e.New != nil {
				row[2] = outcome(e.New)
			}
			turned.Rows = append(turned.Rows, row)
		}
		if turned.Rows != nil {
			p.Blocks = append(p.Blocks, block{ID: fmt.Sprintf("turned-%d", i), Title: "Expectations that changed", Table: turned})
		}
		figures := &table{Head: []string{"figure", "was", "is", ""}, Left: 1}
		for _, m := range r.Moved[:min(len(r.Moved), maxRows)] {
			was, is := plain(render.Moved(m.Old, m.Unit)), plain(render.Moved(m.New, m.Unit))
			if m.Old != nil && m.New != nil {
				if most := max(*m.Old, *m.New); most > 0 {
					was.Bar, is.Bar = *m.Old/most, *m.New/most
				}
			}
			turn := plain(m.Turn)
			turn.State = map[string]string{"worse": "bad", "better": "good"}[m.Turn]
			figures.Rows = append(figures.Rows, []cell{plain(m.Name + " " + m.Metric), was, is, turn})
		}
		if figures.Rows != nil {
			b.Lead = append(b.Lead, "The worst first. The bars are to the same scale in a row.")
			if left := len(r.Moved) - len(figures.Rows); left > 0 {
				b.Lead = append(b.Lead, humanize.Plural(left, "more figure")+" changed by less.")
			}
			b.Table = figures
		}
		p.Blocks = append(p.Blocks, b)
	}
	return p
}

// Found returns the page of where an expectation just holds: the curve of what was measured with each value.
func Found(f *render.Found, ran *Ran) *Page {
	p := &Page{page: page{Title: fmt.Sprintf("%s: where “%s” holds", f.Rehearsal, f.Judged), Word: "FOUND", State: "none", Ran: ran}}
	if last := f.Runs[len(f.Runs)-1]; last.Holds == "" && !last.Everywhere() {
		p.Word, p.State = "NOWHERE", "bad"
	}
	sentences := f.Sentences()
	slices.Reverse(sentences) // the run with the policies is the last
	p.Said, p.Notes = sentences[0], sentences[1:]
	p.Facts = []string{fmt.Sprintf("%s:%d says %s now", f.File, f.Line, f.Written), f.Path + " from " + f.First + " to " + f.Last}
	c := &chart.Chart{X: chart.Axis{Name: f.Path, Min: math.Inf(1), Max: math.Inf(-1), Say: func(v float64) string { return written(f.First, v) }}}
	panel := chart.Panel{Name: f.Judged, Kind: chart.Curves, Height: 2}
	t := &table{Head: []string{f.Path, "measured", ""}, Left: 1}
	for i, r := range f.Runs {
		l := chart.Line{Name: "with the policies", Ink: 0}
		if !r.Policy {
			l.Name, l.Ink, l.Dashed = "without the policies", chart.Lost, true
		}
		for _, point := range r.Points {
			kind := point.Unit
			panel.Say = func(v float64) string { return render.Moved(&v, kind) }
			n, err := unit.ParseNumber(point.Value)
			if err != nil || point.Measured == nil {
				continue
			}
			x := float64(n.Value)
			c.X.Min, c.X.Max = min(c.X.Min, x), max(c.X.Max, x)
			l.X, l.Y = append(l.X, x), append(l.Y, *point.Measured)
			holds := plain("holds")
			if holds.State = "good"; !point.Holds {
				holds.Text, holds.State = "fails", "bad"
			}
			name := point.Value
			if len(f.Runs) > 1 {
				name += ", " + l.Name
			}
			t.Rows = append(t.Rows, []cell{plain(name), plain(render.Moved(point.Measured, point.Unit)), holds})
		}
		if len(l.X) > 0 {
			panel.Lines = append(panel.Lines, l)
		}
		if i == 0 && r.Holds != "" {
			if n, err := unit.ParseNumber(r.Holds); err == nil {
				panel.Levels = append(panel.Levels, chart.Level{Name: "holds at " + r.Holds, At: float64(n.Value), Vertical: true})
			}
		}
	}
	if len(panel.Lines) > 0 {
		if n, err := unit.ParseNumber(f.Written); err == nil && float64(n.Value) > c.X.Min && float64(n.Value) < c.X.Max {
			panel.Levels = append(panel.Levels, chart.Level{Name: "the file: " + f.Written, At: float64(n.Value), Vertical: true})
		}
		c.Panels = []chart.Panel{panel}
		p.Blocks = append(p.Blocks, block{ID: "curve", Title: "What was measured", Groups: []group{{Charts: []drawn{p.draw("measured with each value", c)}}}})
	}
	p.Blocks = append(p.Blocks, block{ID: "values", Title: "The values that were tried", Table: t})
	return p
}

// written says a number as the file would, of the kind of one that is written so.
func written(like string, v float64) string {
	n, err := unit.ParseNumber(like)
	if err != nil {
		return humanize.Digits(v)
	}
	n.Value = int64(v)
	return n.String()
}

// Repeated returns the page of several runs of one rehearsal: of each expectation in how many it holds, and what each run measured.
func Repeated(sums []*repeat.Summary, groups [][]*measure.Result, ran *Ran) *Page {
	p := &Page{page: page{Title: sums[0].Rehearsal, Ran: ran}}
	for i, s := range sums {
		runs, holds := groups[i], 0
		for _, h := range s.Expectations {
			if h.Holds == h.Runs {
				holds++
			}
		}
		with := "with the policies"
		if !s.Policy {
			with = "without the policies"
		}
		p.Word, p.State = "PASS", "good"
		if s.Verdict == "fail" {
			p.Word, p.State = "FAIL", "bad"
		}
		p.Said = fmt.Sprintf("%d of %s hold in each of %s %s.", holds, humanize.Plural(len(s.Expectations), "expectation"), humanize.Plural(s.Repeats, "run"), with)
		if i+1 < len(sums) {
			p.Notes = append(p.Notes, p.Said)
		}
		t := &table{Head: []string{"expectation", "holds in", "mean", "least", "most"}, Left: 1}
		g := group{}
		for j, h := range s.Expectations {
			in := plain(fmt.Sprintf("%d of %d", h.Holds, h.Runs))
			in.Bar, in.State = float64(h.Holds)/float64(max(h.Runs, 1)), map[bool]string{true: "good", false: "bad"}[h.Holds == h.Runs]
			row := []cell{plain(h.Text), in, plain("–"), plain("–"), plain("–")}
			if v := h.Measured; v != nil {
				row[2], row[3], row[4] = plain(render.Moved(&v.Mean, h.Unit)), plain(render.Moved(&v.Min, h.Unit)), plain(render.Moved(&v.Max, h.Unit))
				g.Charts = append(g.Charts, p.draw(h.Text, eachRun(runs, j, h.Unit)))
			}
			t.Rows = append(t.Rows, row)
		}
		p.Blocks = append(p.Blocks, block{ID: fmt.Sprintf("held-%d", i), Title: "What was expected, " + with, Table: t},
			block{ID: fmt.Sprintf("runs-%d", i), Title: "Each run, " + with, Lead: []string{"The values of all runs in their order, the least at the left. The dashed line is the limit."}, Groups: []group{g}})
	}
	return p
}

// eachRun is what the runs measured of an expectation, in the order of the values.
func eachRun(runs []*measure.Result, n int, kind string) *chart.Chart {
	say := func(v float64) string { return render.Moved(&v, kind) }
	l := chart.Line{Name: "measured", Ink: 0}
	panel := chart.Panel{Name: "measured", Kind: chart.Steps, Say: say}
	for _, r := range runs {
		o := &r.Expectations[n]
		if v := o.OverTheWhole(); v != nil {
			l.Y = append(l.Y, *v)
			if panel.Levels == nil && o.Limit > 0 {
				panel.Levels = []chart.Level{{Name: "limit " + say(o.Limit), At: o.Limit}}
			}
		}
	}
	slices.Sort(l.Y)
	for i := range len(l.Y) + 1 {
		l.X = append(l.X, float64(i))
	}
	panel.Lines = []chart.Line{l}
	return &chart.Chart{X: chart.Axis{Name: "run", Max: float64(len(l.Y)), Say: count}, Panels: []chart.Panel{panel}}
}

// Proof returns the page of a rehearsal beside the same with real packets. Both results hold series and hops.
func Proof(r *render.Proof, ran *Ran) *Page {
	p := &rehearsal{runs: []*measure.Result{r.Rehearsed, r.Staged.Result}, names: []string{"rehearsed", "measured"}, shown: make(map[string]bool)}
	p.Ran, p.Title = ran, r.Rehearsal
	word, said, more := r.Said()
	p.Word, p.Said = word, said
	p.State = map[string]string{render.Pass: "good", render.Fail: "bad"}[r.Verdict]
	if p.State == "" {
		p.State = "none"
	}
	if more != "" {
		p.Notes = append(p.Notes, more)
	}
	p.Facts = []string{fmt.Sprintf("%.4g s rehearsed, and %.4g s measured with %s real frames", r.Rehearsed.DurationS, r.Staged.Result.DurationS, humanize.Count(r.Staged.Frames))}
	p.colours()
	charts := slices.Concat(p.path(), p.places(), p.calls(), p.distributions(), p.transfers())
	p.Blocks = append(p.Blocks, p.expectations()...)
	t := &table{Head: []string{"figure", "rehearsed", "measured", ""}, Left: 1}
	for i := range r.Figures {
		f := &r.Figures[i]
		a, b := plain(render.Moved(f.Rehearsed, f.Unit)), plain(render.Moved(f.Measured, f.Unit))
		if f.Rehearsed != nil && f.Measured != nil {
			if most := max(*f.Rehearsed, *f.Measured); most > 0 {
				a.Bar, b.Bar = *f.Rehearsed/most, *f.Measured/most
			}
		}
		word := plain(f.Word)
		if word.State = "good"; f.Word != proof.Agrees {
			word.State = "bad"
		}
		t.Rows = append(t.Rows, []cell{plain(f.Name + " " + f.Where + " " + f.Metric), a, b, word})
	}
	slices.SortStableFunc(t.Rows, func(a, b []cell) int { return cmp.Compare(a[3].State, b[3].State) }) // bad before good
	b := block{ID: "figures", Title: "Figure by figure", Table: t, Lead: []string{"Figures that differ by more than the tolerance come first. The bars are to the same scale in a row."}}
	if left := len(t.Rows) - maxRows; left > 0 {
		t.Rows = t.Rows[:maxRows]
		b.Lead = append(b.Lead, humanize.Plural(left, "more figure")+": imbrel prove --all shows them.")
	}
	p.Blocks = append(append(p.Blocks, b), p.together()...)
	p.Blocks = append(p.Blocks, charts...)
	return &p.Page
}

// together is the rates and the waits of each class at each outgoing interface with a policy, of both runs in one chart.
func (p *rehearsal) together() []block {
	b := block{ID: "together", Title: "Rehearsed and measured together", Lead: []string{"For each class the rate that left, and the wait p99. The dashed line was rehearsed, the other measured."}}
	g := group{}
	for i := range p.last().Interfaces {
		f := &p.last().Interfaces[i]
		if f.PolicyAt == "" || f.Direction != policy.Out.String() || len(g.Charts) == maxPlaces {
			continue
		}
		where := f.Node + "/" + f.Interface
		c := overTime(p.last())
		for j := range f.Classes {
			class := f.Classes[j].Class
			rate := chart.Panel{Name: "rate of " + class, Kind: chart.Steps, Say: bps, Height: 0.6, Worth: 1000}
			wait := chart.Panel{Name: "wait p99 of " + class, Kind: chart.Steps, Say: ms, Height: 0.6, Worth: 1}
			for n, r := range p.runs {
				s := series(r, where, f.Direction)
				if s == nil {
					continue
				}
				for k := range s.Classes {
					if s.Classes[k].Class != class {
						continue
					}
					l := chart.Line{Name: p.names[n], Ink: p.ink(class), X: edges(r, len(s.Classes[k].SentBps))}
					if n == 0 {
						l.Ink, l.Dashed = chart.Lost, true
					}
					l.Y = floats(s.Classes[k].SentBps)
					rate.Lines = append(rate.Lines, l)
					l.Y = s.Classes[k].Waits.P99
					wait.Lines = append(wait.Lines, l)
				}
			}
			c.Panels = append(c.Panels, rate, wait)
		}
		if beside([]*chart.Chart{c}); len(c.Panels) > 0 {
			g.Charts = append(g.Charts, p.draw(where+" "+f.Direction, c))
		}
	}
	if g.Charts == nil {
		return nil
	}
	b.Groups = []group{g}
	return []block{b}
}

// Called returns the page of calls to a far end.
func Called(r *live.CallReport, broken float64, ran *Ran) *Page {
	p := &Page{page: page{Title: "Calls to " + r.To, Ran: ran}}
	holds, said := render.CallsHold(r, broken)
	p.verdict(holds, said)
	p.Facts = []string{humanize.Plural(len(r.Calls), "call") + " of " + r.Codec, fmt.Sprintf("%.4g s", r.DurationS), "marked " + r.DSCP}
	p.Blocks = append(p.Blocks, p.called(r)...)
	return p
}

func (p *Page) verdict(holds bool, said string) {
	p.Word, p.State, p.Said = "PASS", "good", said
	if !holds {
		p.Word, p.State = "FAIL", "bad"
	}
}

// called is the calls of a report: their scores, and what they met over time.
func (p *Page) called(r *live.CallReport) []block {
	t := &table{Head: []string{"call", "direction", "lost", "late", "p99 delay", "p99 round trip", "MOS"}, Left: 2}
	var mos [2][]float64
	for i := range r.Calls {
		c := &r.Calls[i]
		for n, w := range [2]*struct {
			name       string
			loss, late float64
			delay      *measure.Milliseconds
			mos        *float64
		}{{"forward", c.Ways.There.Loss, c.Ways.There.Late, c.Ways.There.Delay, c.Ways.There.MOS}, {"reverse", c.Ways.Back.Loss, c.Ways.Back.Late, c.Ways.Back.Delay, c.Ways.Back.MOS}} {
			row := []cell{plain(fmt.Sprint(c.Call)), plain(w.name), plain(humanize.Ratio(w.loss)), plain(humanize.Ratio(w.late)), plain("–"), plain("–"), plain("–")}
			if w.delay != nil {
				row[4].Text = ms(w.delay.P99)
			}
			if c.Ways.RoundTrip != nil {
				row[5].Text = ms(c.Ways.RoundTrip.P99)
			}
			if w.mos != nil {
				row[6].Text, row[6].State = fmt.Sprintf("%.2f", *w.mos), quality(*w.mos)
				mos[n] = append(mos[n], *w.mos)
			}
			t.Rows = append(t.Rows, row)
		}
	}
	t.Rows = t.Rows[:min(len(t.Rows), maxRows)]
	b := block{ID: "calls", Title: "The calls", Table: t}
	for n, name := range []string{"forward", "reverse"} {
		if mos[n] != nil {
			b.Scores = append(b.Scores, strip(name, mos[n]))
		}
	}
	if !r.Agree {
		b.Lead = append(b.Lead, "One-way delays are estimates: each way is taken as half the shortest round trip.")
	}
	over := block{ID: "time", Title: "The delay over time", Lead: []string{"The band is from the median to the longest, the line is p99. Packets that did not come back were lost in one direction or the other."}}
	var charts []*chart.Chart
	for i := range r.OverTime {
		s := &r.OverTime[i]
		x := make([]float64, len(s.Delay.Max)+1)
		for j := range x {
			x[j] = min(float64(j)*r.EveryS, r.DurationS)
		}
		c := &chart.Chart{X: chart.Axis{Name: "time", Max: r.DurationS, Say: seconds}, Panels: []chart.Panel{
			{Name: "delay", Kind: chart.Bands, Say: ms, Lines: []chart.Line{{Name: "delay", Ink: 0, X: x, Y: s.Delay.Max, Low: s.Delay.P50, Mid: s.Delay.P99}}}}}
		if s.Lost != nil {
			c.Panels = append(c.Panels, chart.Panel{Name: "packets lost in each step", Kind: chart.Bars, Say: count, Whole: true, Height: 0.6, Worth: 1, Lines: []chart.Line{{Name: "lost", Ink: chart.Lost, X: x, Y: floats(s.Lost)}}})
		}
		charts = append(charts, c)
	}
	beside(charts)
	g := group{}
	for i, c := range charts {
		g.Charts = append(g.Charts, p.draw(r.OverTime[i].Direction, c))
	}
	over.Groups = []group{g}
	return []block{b, over}
}

// Flooded returns the page of a flood: what arrived over time, and below it what the calls met.
func Flooded(r *live.FloodReport, ran *Ran) *Page {
	p := &Page{page: page{Title: "A flood to " + r.To, Word: "MEASURED", State: "none", Ran: ran}}
	said := render.Flooded(r)
	if r.Call != nil {
		holds, call := render.FloodedCall(r)
		p.verdict(holds, call)
		p.Notes = said
	} else {
		p.Said, p.Notes = said[0], said[1:]
	}
	p.Facts = []string{fmt.Sprintf("%.4g s", r.OverS), "marked " + r.DSCP}
	sent, arrived := chart.Line{Name: "sent", Ink: chart.Lost, Dashed: true}, chart.Line{Name: "arrived", Ink: 0}
	mos := chart.Line{Name: "MOS", Ink: 2}
	for i := range r.Steps {
		k := &r.Steps[i]
		for _, l := range []*chart.Line{&sent, &arrived, &mos} {
			l.X = append(l.X, k.AtS)
		}
		sent.Y, arrived.Y, mos.Y = append(sent.Y, float64(k.SentBps)), append(arrived.Y, float64(k.ArrivedBps)), append(mos.Y, k.MOS)
	}
	for _, l := range []*chart.Line{&sent, &arrived, &mos} {
		l.X = append(l.X, r.OverS)
	}
	c := &chart.Chart{X: chart.Axis{Name: "time", Max: r.OverS, Say: seconds}, Panels: []chart.Panel{{Name: "rate of IP packets", Kind: chart.Steps, Say: bps, Height: 1.4, Lines: []chart.Line{arrived}}}}
	if r.Flows == 0 {
		c.Panels[0].Lines = []chart.Line{sent, arrived}
	}
	if r.Call != nil {
		c.Panels = append(c.Panels, chart.Panel{Name: "MOS of the worst call", Kind: chart.Steps, Say: func(v float64) string { return fmt.Sprintf("%.2g", v) }, Least: 4.5, Lines: []chart.Line{mos}})
	}
	p.Blocks = []block{{ID: "arrived", Title: "What arrived", Groups: []group{{Charts: []drawn{p.draw("what arrived over time", c)}}}}}
	if r.Call != nil {
		p.Blocks = append(p.Blocks, p.called(r.Call)...)
	}
	return p
}
