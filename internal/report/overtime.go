package report

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"imbrel.example/imbrel/core/bound"
	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/internal/chart"
)

// placeID is the anchor of a place's charts.
func placeID(iface, direction string) string {
	return "at-" + strings.NewReplacer("/", "-", " ", "-").Replace(iface+" "+direction)
}

// places is the charts of each interface that was full in one of the runs, or the carrier after it: rates, drops, queues and
// waits. Of both, each run shows the one at which more packets waited or were dropped.
func (p *rehearsal) places() []block {
	type place struct{ iface, direction string }
	split := func(u *measure.PlaceUse) (place, bool) {
		if iface, carrier := strings.CutPrefix(u.Where, "carrier of "); carrier {
			return place{iface, policy.Out.String()}, true
		}
		iface, direction, _ := strings.Cut(u.Where, " ")
		return place{iface, direction}, false
	}
	var order []place
	for _, blamed := range []bool{true, false} {
		for _, r := range slices.Backward(p.runs) {
			for _, u := range r.Places() {
				if k, _ := split(&u); u.Full() && u.Blamed == blamed && !slices.Contains(order, k) {
					order = append(order, k)
				}
			}
		}
	}
	left := max(0, len(order)-maxPlaces)
	b := block{ID: "places", Title: "Where it was full"}
	for _, k := range order[:len(order)-left] {
		g := group{ID: placeID(k.iface, k.direction), Title: k.iface + " " + k.direction}
		p.shown[g.ID] = true
		var captions []string
		var charts []*chart.Chart
		for i, r := range p.runs {
			direction, harm := k.direction, -1.0
			for _, u := range r.Places() {
				at, carrier := split(&u)
				h := u.LongestMs + 1000*float64(u.Drops)
				if u.Blamed {
					h += 1e15 // an expectation failed by it
				}
				if at == k && h > harm {
					if harm, direction = h, k.direction; carrier {
						direction = "carrier"
					}
				}
			}
			f := series(r, k.iface, direction)
			if f == nil {
				continue
			}
			where := k.iface + " " + direction
			if direction == "carrier" {
				where = "the carrier's queue after " + k.iface
				p.shown[placeID(k.iface, direction)] = true
			}
			captions, charts = append(captions, strings.TrimPrefix(p.names[i]+": "+where, ": ")), append(charts, p.rates(r, f))
		}
		beside(charts)
		for i, c := range charts {
			g.Charts = append(g.Charts, p.draw(captions[i], c))
		}
		b.Groups = append(b.Groups, g)
	}
	if len(b.Groups) == 0 {
		return nil
	}
	b.Lead = []string{"Rates are stacked by class, as the place counts bytes. A dashed line is what there is to share, or what the link carries. A wait is a band from the median to the longest, with a line at p99."}
	if left > 0 {
		b.Lead = append(b.Lead, "These are the worst; "+humanize.Plural(left, "more place")+" had drops or waits, too.")
	}
	return []block{b}
}

// beside gives charts the same panels on the same scales, without those in which hardly anything happens in any of them.
func beside(charts []*chart.Chart) {
	tops := make(map[string]float64)
	for _, c := range charts {
		for i := range c.Panels {
			tops[c.Panels[i].Name] = max(tops[c.Panels[i].Name], c.Panels[i].Top())
		}
	}
	for _, c := range charts {
		c.Panels = slices.DeleteFunc(c.Panels, func(p chart.Panel) bool { return tops[p.Name] < p.Worth })
		for i := range c.Panels {
			c.Panels[i].Least = tops[c.Panels[i].Name]
		}
	}
}

// series returns what a place did over time, nil when nothing came.
func series(r *measure.Result, iface, direction string) *measure.SeriesInterface {
	for i := range r.Series.Interfaces {
		if f := &r.Series.Interfaces[i]; f.Node+"/"+f.Interface == iface && f.Direction == direction {
			return f
		}
	}
	return nil
}

// edges returns when the intervals of a run begin, and when the last ends.
func edges(r *measure.Result, n int) []float64 {
	out := make([]float64, n+1)
	for i := range out {
		out[i] = min(max(r.Series.FromS+float64(i)*r.Series.IntervalS, r.WarmUpS), r.WarmUpS+r.DurationS)
	}
	return out
}

// overTime starts a chart over the time of a run, with its events shaded.
func overTime(r *measure.Result) *chart.Chart {
	c := &chart.Chart{X: chart.Axis{Name: "time", Min: r.WarmUpS, Max: r.WarmUpS + r.DurationS, Say: seconds}}
	for _, e := range r.Events {
		c.Spans = append(c.Spans, chart.Span{Name: e.Name, From: e.AtS, To: e.UntilS})
	}
	return c
}

func floats(values []int64) []float64 {
	out := make([]float64, len(values))
	for i, v := range values {
		out[i] = float64(v)
	}
	return out
}

// rates is the chart of a place.
func (p *rehearsal) rates(r *measure.Result, f *measure.SeriesInterface) *chart.Chart {
	c := overTime(r)
	where := f.Node + "/" + f.Interface
	rate := chart.Panel{Name: "rate by class", Kind: chart.Areas, Say: bps, Height: 1.4}
	drops := chart.Panel{Name: "dropped packets in each step", Kind: chart.Bars, Say: count, Whole: true, Height: 0.6, Worth: 1}
	queue := chart.Panel{Name: "longest queue in each step", Kind: chart.Steps, Say: func(v float64) string { return humanize.Bytes(int64(v)) }, Height: 0.8, Worth: 3000}
	var waits []chart.Panel
	for i := range f.Classes {
		k := &f.Classes[i]
		if strings.Contains(k.Class, "/") { // within another
			continue
		}
		x := edges(r, len(k.SentBps))
		line := func(values []int64) chart.Line {
			return chart.Line{Name: k.Class, Ink: p.ink(k.Class), X: x, Y: floats(values)}
		}
		rate.Lines = append(rate.Lines, line(k.SentBps))
		drops.Lines, queue.Lines = append(drops.Lines, line(k.Drops)), append(queue.Lines, line(k.QueueBytes))
		waits = append(waits, chart.Panel{Name: "wait of " + k.Class, Kind: chart.Bands, Say: ms, Height: 0.6, Worth: 1,
			Lines: []chart.Line{{Name: k.Class, Ink: p.ink(k.Class), X: x, Y: k.Waits.Max, Low: k.Waits.P50, Mid: k.Waits.P99}}})
	}
	name := "it sends "
	switch {
	case f.Direction == "carrier":
		name = "the link carries "
	case r.Policy && shaped(r, f):
		name = "to share "
	}
	rate.Levels = append(rate.Levels, chart.Level{Name: name + humanize.Rate(f.RateBps), At: float64(f.RateBps)})
	for i := range r.Links {
		if l := &r.Links[i]; l.From == where && f.Direction == policy.Out.String() && l.SendsBps != f.RateBps {
			rate.Levels = append(rate.Levels, chart.Level{Name: "the link carries " + humanize.Rate(l.SendsBps), At: float64(l.SendsBps)})
		}
	}
	top := rate.Top()
	rate.Levels = slices.DeleteFunc(rate.Levels, func(l chart.Level) bool { return l.At > 2.5*top }) // it is nowhere near
	c.Panels = append(append(c.Panels, rate, drops, queue), waits...)
	for _, s := range r.Series.Whens {
		if r.Policy && s.Node == f.Node && s.Interface == f.Interface && s.Direction == f.Direction {
			c.Spans = append(c.Spans, chart.Span{Name: strings.TrimSpace(s.Limit + " of " + s.Class), From: s.FromS, To: s.ToS})
		}
	}
	return c
}

// shaped reports whether a policy is in force at a place.
func shaped(r *measure.Result, f *measure.SeriesInterface) bool {
	return slices.ContainsFunc(r.Interfaces, func(i measure.Interface) bool {
		return i.Node == f.Node && i.Interface == f.Interface && i.Direction == f.Direction && i.PolicyAt != ""
	})
}

// calls is delay and damage of each traffic of calls over time, and a strip of their scores.
func (p *rehearsal) calls() []block {
	b := block{ID: "calls", Title: "The calls"}
	type found struct {
		title string
		worst float64
	}
	var order []found
	for _, r := range p.runs {
		for _, s := range r.Series.Calls {
			title := policy.Directed(s.Name, s.Direction == "reverse")
			worst := slices.Min(s.MOS)
			if i := slices.IndexFunc(order, func(f found) bool { return f.title == title }); i >= 0 {
				order[i].worst = min(order[i].worst, worst)
				continue
			}
			order = append(order, found{title, worst})
		}
	}
	slices.SortStableFunc(order, func(a, b found) int { return cmp.Compare(a.worst, b.worst) })
	left := max(0, len(order)-maxCalls)
	for _, o := range order[:len(order)-left] {
		g := group{ID: placeID("calls", o.title), Title: o.title}
		var captions []string
		var charts []*chart.Chart
		for i, r := range p.runs {
			for j := range r.Series.Traffic {
				if t := &r.Series.Traffic[j]; t.Title() == o.title {
					captions, charts = append(captions, strings.TrimPrefix(p.names[i]+": "+o.title, ": ")), append(charts, p.call(r, t))
				}
			}
			for _, s := range r.Series.Calls {
				if policy.Directed(s.Name, s.Direction == "reverse") == o.title {
					b.Scores = append(b.Scores, strip(strings.TrimSuffix(o.title+", "+p.names[i], ", "), s.MOS))
				}
			}
		}
		beside(charts)
		for i, c := range charts {
			g.Charts = append(g.Charts, p.draw(captions[i], c))
		}
		b.Groups = append(b.Groups, g)
	}
	if b.Groups == nil {
		return nil
	}
	b.Lead = []string{"Delay from end to end: the band is from the median to the longest, the line is p99. A late packet arrives, but after the moment at which it is played."}
	if left > 0 {
		b.Lead = append(b.Lead, "The worst are shown; "+humanize.Plural(left, "more direction")+" of calls met less.")
	}
	return []block{b}
}

// strip is the score of each call, the worst first.
func strip(title string, mos []float64) scores {
	s := scores{Title: title, Left: max(0, len(mos)-maxScores)}
	mos = slices.Sorted(slices.Values(mos))
	for _, m := range mos[:len(mos)-s.Left] {
		s.Calls = append(s.Calls, score{fmt.Sprintf("%.2f", m), quality(m)})
	}
	return s
}

// call is the chart of a traffic of calls in one direction.
func (p *rehearsal) call(r *measure.Result, t *measure.SeriesTraffic) *chart.Chart {
	c := overTime(r)
	x := edges(r, len(t.Lost))
	c.Panels = []chart.Panel{{Name: "delay", Kind: chart.Bands, Say: ms, Lines: []chart.Line{{Name: "delay", Ink: 0, X: x, Y: t.Delay.Max, Low: t.Delay.P50, Mid: t.Delay.P99}},
		Levels: p.bounds(r, t.Title(), t.Name, false)}}
	damage := chart.Panel{Name: "packets lost or late in each step", Kind: chart.Bars, Say: count, Whole: true, Height: 0.6, Worth: 1}
	for _, l := range []struct {
		name   string
		ink    chart.Ink
		values []int64
	}{{"lost", chart.Lost, t.Lost}, {"late", 1, t.Late}} {
		if len(l.values) > 0 {
			damage.Lines = append(damage.Lines, chart.Line{Name: l.name, Ink: l.ink, X: x, Y: floats(l.values)})
		}
	}
	c.Panels = append(c.Panels, damage)
	return c
}

// bounds returns what is expected of the delay of a traffic, by its own name or its class.
func (p *rehearsal) bounds(r *measure.Result, title, name string, vertical bool) (out []chart.Level) {
	for i := range r.Expectations {
		o := &r.Expectations[i]
		e := o.Expectation()
		in := slices.ContainsFunc(r.Traffic, func(t measure.Row) bool { return t.Title() == title && e != nil && t.Class == e.Subject })
		if e == nil || e.Metric != policy.Delay || e.WhereName != "" || !e.AtMost() || e.Subject != name && !in {
			continue
		}
		out = append(out, chart.Level{Name: strings.TrimSpace(e.Statistic + " at most " + ms(o.Limit)), At: o.Limit, Vertical: vertical})
	}
	return append(out, proven(r, vertical, func(p *bound.Path) bool { return p.Name() == title })...)
}

// callsProven returns the bound of all calls of a run; 0: there are none, or one has no bound.
func callsProven(r *measure.Result) (most time.Duration) {
	if r.Bounds == nil {
		return 0
	}
	for i := range r.Bounds.Paths {
		p := &r.Bounds.Paths[i]
		switch {
		case p.Calls == 0:
		case p.Max == bound.Never:
			return 0
		default:
			most = max(most, p.Max)
		}
	}
	return most
}

// farBound is how many times what was seen a bound may be for a chart to have room for it.
const farBound = 3

// proven returns the bound of some paths, the largest, where it is not far from what was seen.
func proven(r *measure.Result, vertical bool, of func(*bound.Path) bool) []chart.Level {
	if r.Bounds == nil {
		return nil
	}
	most, seen, longest := time.Duration(0), time.Duration(0), r.Longest()
	for i := range r.Bounds.Paths {
		if p := &r.Bounds.Paths[i]; of(p) {
			most, seen = max(most, p.Max), max(seen, longest.Seen(p))
		}
	}
	if most == 0 || most > farBound*seen {
		return nil
	}
	at := float64(most) / 1e6
	return []chart.Level{{Name: "at most " + ms(at) + ", proven", At: at, Vertical: vertical}}
}

// distributions is the delays of each class, of all runs in one chart.
func (p *rehearsal) distributions() []block {
	b := block{ID: "delays", Title: "How delays were distributed"}
	levels := func(class string) (out []chart.Level) {
		for i := range p.last().Expectations {
			o := &p.last().Expectations[i]
			if e := o.Expectation(); e != nil && e.Metric == policy.Delay && e.WhereName == "" && e.Subject == class && e.AtMost() {
				out = append(out, chart.Level{Name: strings.TrimSpace(e.Statistic + " at most " + ms(o.Limit)), At: o.Limit, Vertical: true})
			}
		}
		return append(out, proven(p.last(), true, func(p *bound.Path) bool { return p.Class == class })...)
	}
	var order []string
	for _, expected := range []bool{true, false} {
		for i := range p.last().Classes {
			if class := p.last().Classes[i].Class; (levels(class) != nil) == expected {
				order = append(order, class)
			}
		}
	}
	g := group{ID: "delays-all"}
	for _, class := range order[:min(maxClasses, len(order))] {
		c := &chart.Chart{Log: true, X: chart.Axis{Name: "delay", Min: math.Inf(1), Say: ms}}
		panel := chart.Panel{Name: class, Kind: chart.Steps, Say: func(v float64) string { return fmt.Sprintf("%.0f %%", 100*v) }, Least: 1, Levels: levels(class), Height: 1.2}
		for i, r := range p.runs {
			n := slices.IndexFunc(r.Classes, func(o measure.ClassResult) bool { return o.Class == class })
			if n < 0 || r.Classes[n].Delay == nil {
				continue
			}
			x, y := thin(r.Classes[n].Delay.Cumulative())
			if len(x) == 0 {
				continue
			}
			c.X.Min, c.X.Max = min(c.X.Min, x[0]), max(c.X.Max, x[len(x)-1])
			k, name := p.ink(class), p.names[i]
			if dashed := i == 0 && len(p.runs) == 2; dashed {
				k = chart.Lost
			}
			panel.Lines = append(panel.Lines, chart.Line{Name: cmp.Or(name, class), Ink: k, Dashed: len(p.runs) == 2 && i == 0, X: x, Y: y})
		}
		if len(panel.Lines) == 0 {
			continue
		}
		for _, l := range panel.Levels {
			c.X.Min, c.X.Max = min(c.X.Min, l.At), max(c.X.Max, l.At)
		}
		c.X.Min, c.X.Max = max(c.X.Min*0.9, 0.001), c.X.Max*1.15
		for i := range panel.Lines { // all are there from the first on, or not yet
			l := &panel.Lines[i]
			l.X, l.Y = append([]float64{c.X.Min}, l.X...), append([]float64{0}, l.Y...)
			l.X, l.Y = append(l.X, c.X.Max), append(l.Y, 1)
		}
		c.Panels = []chart.Panel{panel}
		p.shown["delay-"+class] = true
		d := p.draw("delay of "+class, c)
		d.ID = "delay-" + class
		g.Charts = append(g.Charts, d)
	}
	if len(g.Charts) == 0 {
		return nil
	}
	b.Groups = []group{g}
	b.Lead = []string{"The part of a class's packets that took at most that long, from end to end. The scale of time is logarithmic."}
	return []block{b}
}

// thin leaves out points between which hardly any packets are.
func thin(x, y []float64) (ox, oy []float64) {
	for i := range x {
		if i > 0 && i < len(x)-1 && y[i]-oy[len(oy)-1] < 0.004 && x[i] < ox[len(ox)-1]*1.03 {
			continue
		}
		ox, oy = append(ox, x[i]), append(oy, y[i])
	}
	return ox, oy
}

// transfers is what the applications got by TCP over time.
func (p *rehearsal) transfers() []block {
	b := block{ID: "tcp", Title: "What TCP got"}
	g := group{ID: "goodput"}
	var captions []string
	var charts []*chart.Chart
	for i, r := range p.runs {
		c := overTime(r)
		panel := chart.Panel{Name: "goodput", Kind: chart.Steps, Say: bps, Height: 1.4}
		for j := range r.Series.Traffic {
			t := &r.Series.Traffic[j]
			if t.GoodputBps == nil {
				continue
			}
			panel.Lines = append(panel.Lines, chart.Line{Name: t.Title(), Ink: chart.Ink(len(panel.Lines)), X: edges(r, len(t.GoodputBps)), Y: floats(t.GoodputBps)})
			for k := range r.Expectations {
				o := &r.Expectations[k]
				if e := o.Expectation(); e != nil && e.Metric == policy.Goodput && e.AtLeast() && (e.Subject == t.Name || o.Of == t.Title()) {
					panel.Levels = append(panel.Levels, chart.Level{Name: t.Name + " at least " + humanize.Rate(int64(o.Limit)), At: o.Limit})
				}
			}
		}
		if len(panel.Lines) == 0 {
			continue
		}
		if len(panel.Lines) > chart.Classes { // the most
			slices.SortStableFunc(panel.Lines, func(a, b chart.Line) int { return cmp.Compare(mean(b.Y), mean(a.Y)) })
			panel.Lines = panel.Lines[:chart.Classes]
			b.Lead = []string{fmt.Sprintf("The %d with most goodput.", chart.Classes)}
		}
		c.Panels = []chart.Panel{panel}
		captions, charts = append(captions, cmp.Or(p.names[i], "goodput over time")), append(charts, c)
	}
	if len(charts) == 0 {
		return nil
	}
	beside(charts)
	for i, c := range charts {
		g.Charts = append(g.Charts, p.draw(captions[i], c))
	}
	b.Groups = []group{g}
	return []block{b}
}

func mean(values []float64) float64 {
	sum := 0.0
	for _, v := range values {
		sum += v
	}
	return sum / float64(max(len(values), 1))
}
