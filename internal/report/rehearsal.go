package report

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/internal/chart"
	"imbrel.example/imbrel/internal/render"
)

// How much a page shows of what there may be much of, the worst first.
const (
	maxPlaces  = 6
	maxWays    = 4
	maxCalls   = 6
	maxClasses = 12
	maxScores  = 120
	maxRows    = 40
)

// A rehearsal is one or two runs on their way to a page.
type rehearsal struct {
	Page
	runs  []*measure.Result // without and with the policies, or the only one
	names []string          // of the runs
	inks  map[string]chart.Ink
	shown map[string]bool // the IDs of charts
}

// Rehearsal returns the page of one run, or of a run without and one with the policies. They hold series and hops.
func Rehearsal(runs []*measure.Result, ran *Ran) *Page {
	last := runs[len(runs)-1]
	p := &rehearsal{runs: runs, names: []string{""}, shown: make(map[string]bool)}
	p.Ran = ran
	p.Title = last.Rehearsal
	if last.Title != "" {
		p.Title = last.Title + ": " + last.Rehearsal
	}
	p.Facts = append(p.Facts, fmt.Sprintf("%.6g s of traffic", last.DurationS), fmt.Sprintf("seed %d", last.Seed))
	switch {
	case len(runs) == 2:
		p.names = []string{"without the policies", "with the policies"}
		p.Facts = append(p.Facts, "once without and once with the policies")
		p.judged(last, runs[0])
	case last.Policy:
		p.Facts = append(p.Facts, "with the policies")
		p.judged(last)
	default:
		p.Facts = append(p.Facts, "without the policies: plain FIFO queues")
		p.judged(last)
	}
	p.colours()
	p.answers()
	charts := slices.Concat(p.path(), p.places(), p.calls(), p.distributions(), p.transfers()) // first: reasons point to them
	reasons := p.reasons()
	failedHere(reasons, charts)
	p.Blocks = append(p.Blocks, reasons...)
	p.Blocks = append(p.Blocks, p.costs()...)
	p.Blocks = append(p.Blocks, p.expectations()...)
	p.Blocks = append(p.Blocks, p.classes()...)
	p.Blocks = append(p.Blocks, charts...)
	return &p.Page
}

// answers says in a sentence each what a reader asks first.
func (p *rehearsal) answers() {
	r := p.last()
	worst := func(r *measure.Result) (mos float64) {
		for i := range r.Classes {
			if m := r.Classes[i].MOS; m != nil && (mos == 0 || *m < mos) {
				mos = *m
			}
		}
		return mos
	}
	if mos := worst(r); mos > 0 {
		a := answer{Question: "Did the calls hold?", State: quality(mos)}
		word := map[string]string{"good": "Yes", "fair": "Just", "bad": "No"}[a.State]
		if a.Text = fmt.Sprintf("%s: the worst call has a MOS of %.2f", word, mos); len(p.runs) == 2 {
			a.Text += fmt.Sprintf("; without the policies %.2f", worst(p.runs[0]))
		}
		a.Text += "."
		p.Answers = append(p.Answers, a)
	}
	// The worst place of a run, or of those at an interface.
	trouble := func(r *measure.Result, at string) (iface, text string) {
		for _, u := range r.Places() {
			iface, _, _ := strings.Cut(strings.TrimPrefix(u.Where, "carrier of "), " ")
			if u.Full() && (at == "" || iface == at) {
				where := strings.Replace(u.Where, "carrier of", "the carrier's queue after", 1)
				return iface, fmt.Sprintf("%s was %.0f %% full: %s, waits up to %s", where, 100*u.Ratio(), humanize.Plural(int(u.Drops), "drop"), ms(u.LongestMs))
			}
		}
		return "", "nowhere"
	}
	where := answer{Question: "Where was it full?"}
	if iface, text := trouble(p.runs[0], ""); len(p.runs) == 1 || iface == "" {
		_, text = trouble(r, "")
		where.Text = sentence(text)
	} else {
		where.Text = "Without the policies " + text + "."
		if _, text := trouble(r, iface); text != "nowhere" {
			where.Text += " With them " + text + "."
		} else {
			where.Text += " With them it is not full."
		}
	}
	p.Answers = append(p.Answers, where)
	if len(p.runs) != 2 {
		return
	}
	mended, broken := 0, 0
	for i := range r.Expectations {
		switch before := p.runs[0].Expectations[i].Holds; {
		case !before && r.Expectations[i].Holds:
			mended++
		case before && !r.Expectations[i].Holds:
			broken++
		}
	}
	change := answer{Question: "What did the policy change?", Text: humanize.Plural(mended, "expectation") + " that failed without it now " + hold(mended) + ".", State: "good"}
	switch {
	case len(r.Expectations) == 0:
		change.Text, change.State = "Nothing was expected.", ""
	case mended == 0:
		change.Text, change.State = "No expectation that failed without it holds with it.", ""
	}
	if broken > 0 {
		change.Text, change.State = change.Text+" "+humanize.Plural(broken, "expectation")+" that held without it now "+map[bool]string{true: "fails", false: "fail"}[broken == 1]+".", "bad"
	}
	pays := answer{Question: "Who pays?", Text: "Nobody: nothing is worse with the policies than without.", State: "good"}
	if len(r.WhoPays) > 0 {
		pays.State = "fair"
		var all []string
		for _, w := range r.WhoPays[:min(3, len(r.WhoPays))] {
			all = append(all, w.Text.String())
		}
		pays.Text = sentence(strings.Join(all, "; "))
	}
	p.Answers = append(p.Answers, change, pays)
}

func hold(n int) string {
	if n == 1 {
		return "holds"
	}
	return "hold"
}

// last is the run that is judged.
func (p *rehearsal) last() *measure.Result { return p.runs[len(p.runs)-1] }

// colours gives each class its ink, the rest the last.
func (p *rehearsal) colours() {
	p.inks = map[string]chart.Ink{policy.Rest: chart.Classes - 1}
	next := chart.Ink(0)
	give := func(class string) {
		if _, known := p.inks[class]; !known {
			p.inks[class] = next % (chart.Classes - 1)
			next++
		}
	}
	for _, r := range slices.Backward(p.runs) {
		for i := range r.Interfaces {
			for j := range r.Interfaces[i].Classes {
				if c := r.Interfaces[i].Classes[j].Class; r.Policy && !strings.Contains(c, "/") {
					give(c)
				}
			}
		}
		for i := range r.Classes {
			give(r.Classes[i].Class)
		}
	}
}

func (p *rehearsal) ink(class string) chart.Ink {
	if k, known := p.inks[class]; known {
		return k
	}
	return p.inks[class[strings.LastIndex(class, "/")+1:]]
}

// reasons is each expectation that failed.
func (p *rehearsal) reasons() []block {
	b := block{ID: "failed", Title: "What failed, and why"}
	r := p.last()
	var causes []*measure.Why
	for i := range r.Expectations {
		o := &r.Expectations[i]
		if o.Holds {
			continue
		}
		f := reason{Expectation: o.Text, Measured: render.Measured(o)}
		if w := o.Why; w != nil {
			f.Why, f.Change = sentence(w.Text.String()), sentence(render.ChangeText(w))
			if w.File != "" && !strings.Contains(f.Why, fmt.Sprintf("%s:%d", w.File, w.Line)) {
				f.At = fmt.Sprintf("%s:%d", w.File, w.Line)
			}
			if first := slices.IndexFunc(causes, w.SameCause); first >= 0 { // it stands below the first with that cause
				b.Reasons[first].Also = append(b.Reasons[first].Also, f)
				continue
			}
			if id := placeID(w.Node+"/"+w.Interface, w.Direction); p.shown[id] {
				f.Chart = placeID(w.Node+"/"+w.Interface, strings.Replace(w.Direction, "carrier", policy.Out.String(), 1))
			}
		}
		if f.Chart == "" && o.Expectation() != nil {
			if id := "delay-" + o.Expectation().Subject; p.shown[id] {
				f.Chart = id
			}
		}
		b.Reasons, causes = append(b.Reasons, f), append(causes, cmp.Or(o.Why, &measure.Why{}))
	}
	if b.Reasons == nil {
		return nil
	}
	return []block{b}
}

// failedHere says below each place which expectations failed by it.
func failedHere(reasons, charts []block) {
	for _, b := range reasons {
		for i := range b.Reasons {
			f := &b.Reasons[i]
			said := "Failed here: " + f.Expectation + " (" + f.Measured + ")"
			for _, also := range f.Also {
				said += ", " + also.Expectation + " (" + also.Measured + ")"
			}
			for _, c := range charts {
				for j := range c.Groups {
					if g := &c.Groups[j]; g.ID == f.Chart {
						g.Lead = append(g.Lead, said+". "+f.Why)
						if f.Change != "" {
							g.Lead = append(g.Lead, f.Change)
						}
					}
				}
			}
		}
	}
}

// sentence begins a text with a capital letter and ends it with a point.
func sentence(text string) string {
	if text == "" {
		return ""
	}
	if first, _, _ := strings.Cut(text, " "); !strings.ContainsAny(first, "/`_.") {
		text = strings.ToUpper(text[:1]) + text[1:]
	}
	return strings.TrimSuffix(text, ".") + "."
}

// costs is who pays, and what the verdict does not cover.
func (p *rehearsal) costs() []block {
	b := block{ID: "pays", Title: "What the verdict does not cover"}
	r := p.last()
	if len(p.runs) == 2 {
		b.Title = "Who pays, and what the verdict does not cover"
		pays := list{Title: "Worse with the policies than without"}
		for _, pay := range r.WhoPays {
			pays.Items = append(pays.Items, item{Text: sentence(pay.Text.String())})
		}
		if len(r.WhoPays) == 0 {
			pays.Items = []item{{Text: "Nothing."}}
		}
		b.Lists = append(b.Lists, pays)
	}
	for _, level := range []struct{ name, title string }{{"warning", "Warnings"}, {"note", "Notes"}} {
		l := list{Title: level.title}
		for i := range r.Warnings {
			if w := &r.Warnings[i]; w.Level == level.name {
				l.Items = append(l.Items, item{sentence(w.Text.String()), fmt.Sprintf("%s:%d", w.File, w.Line)})
			}
		}
		if l.Items != nil {
			b.Lists = append(b.Lists, l)
		}
	}
	if b.Lists == nil {
		return nil
	}
	return []block{b}
}

// expectations is a table of all expectations, those that failed first, each beside its limit.
func (p *rehearsal) expectations() []block {
	r := p.last()
	if len(r.Expectations) == 0 {
		return nil
	}
	t := &table{Head: []string{"expectation"}, Left: 1}
	for _, name := range p.names {
		t.Head = append(t.Head, cmp.Or(name, "measured"))
	}
	t.Head = append(t.Head, "judged by")
	for _, holds := range []bool{false, true} {
		for i := range r.Expectations {
			if r.Expectations[i].Holds != holds {
				continue
			}
			row := []cell{plain(r.Expectations[i].Text)}
			for _, run := range p.runs {
				row = append(row, outcome(&run.Expectations[i]))
			}
			t.Rows = append(t.Rows, append(row, plain(r.Expectations[i].Of)))
		}
	}
	return []block{{ID: "expectations", Title: "What was expected", Table: t, Lead: []string{"The line in each bar is the limit."}}}
}

// outcome is what was measured of an expectation: its bar ends where the value is, between nothing and twice the limit.
func outcome(o *measure.Outcome) cell {
	c := plain(render.Measured(o))
	c.State = map[bool]string{true: "good", false: "bad"}[o.Holds]
	if o.Measured != nil && o.Limit > 0 {
		c.Bar, c.Limit = *o.Measured/o.Limit/2, 0.5
	}
	return c
}

// classes is what the packets of each class met, in each run.
func (p *rehearsal) classes() []block {
	r := p.last()
	t := &table{Head: []string{"class", "offered"}, Left: 1}
	if len(p.runs) == 2 {
		t.Above = append(t.Above, above{"", 2}, above{p.names[0], 4}, above{p.names[1], 4})
	}
	for range p.runs {
		t.Head = append(t.Head, "delivered", "lost", "p99 delay", "MOS")
	}
	for i := range r.Classes[:min(maxRows, len(r.Classes))] {
		c := &r.Classes[i]
		row := []cell{plain(c.Class), plain(humanize.Rate(c.OfferedBps))}
		for _, run := range p.runs {
			n := slices.IndexFunc(run.Classes, func(o measure.ClassResult) bool { return o.Class == c.Class })
			if n < 0 {
				row = append(row, plain("–"), plain("–"), plain("–"), plain("–"))
				continue
			}
			row = append(row, figures(&run.Classes[n].TrafficFigures)...)
		}
		t.Rows = append(t.Rows, row)
	}
	if len(t.Rows) == 0 {
		return nil
	}
	b := block{ID: "classes", Title: "What each class met", Table: t, Lead: []string{
		"From end to end, in IP bytes. The bar is the part that arrived. MOS is the estimated quality of the worst call, from 1 to 4.5 on the narrow-band scale (G.107)."}}
	if left := len(r.Classes) - len(t.Rows); left > 0 {
		b.Lead = append(b.Lead, humanize.Plural(left, "more class")+": imbrel rehearse --detail shows them.")
	}
	return []block{b}
}

func figures(m *measure.TrafficFigures) []cell {
	delivered := plain(humanize.Rate(m.RateBps))
	delivered.Bar = 1 - m.Loss
	lost := plain(humanize.Ratio(m.Loss))
	if m.Late != nil && *m.Late > 0 {
		lost.Text += ", " + humanize.Ratio(*m.Late) + " late"
	}
	delay, mos := plain("–"), plain("–")
	if m.Delay != nil {
		delay.Text = ms(m.Delay.P99)
	}
	if m.MOS != nil {
		mos.Text, mos.State = fmt.Sprintf("%.2f", *m.MOS), quality(*m.MOS)
	}
	return []cell{delivered, lost, delay, mos}
}

// quality says what a MOS is worth, in the steps of G.107 Annex B: from 4.03 on most are satisfied, below 3.6 many are not.
func quality(mos float64) string {
	switch {
	case mos >= 4.03:
		return "good"
	case mos >= 3.6:
		return "fair"
	}
	return "bad"
}

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

// overTime starts a chart over the time of a run.
func overTime(r *measure.Result) *chart.Chart {
	return &chart.Chart{X: chart.Axis{Name: "time", Min: r.WarmUpS, Max: r.WarmUpS + r.DurationS, Say: seconds}}
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
		if s.Node == f.Node && s.Interface == f.Interface && s.Direction == f.Direction {
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
	return out
}

// distributions is the delays of each class, of all runs in one chart.
func (p *rehearsal) distributions() []block {
	b := block{ID: "delays", Title: "How delays were distributed"}
	bound := func(class string) (out []chart.Level) {
		for i := range p.last().Expectations {
			o := &p.last().Expectations[i]
			if e := o.Expectation(); e != nil && e.Metric == policy.Delay && e.WhereName == "" && e.Subject == class && e.AtMost() {
				out = append(out, chart.Level{Name: strings.TrimSpace(e.Statistic + " at most " + ms(o.Limit)), At: o.Limit, Vertical: true})
			}
		}
		return out
	}
	var order []string
	for _, expected := range []bool{true, false} {
		for i := range p.last().Classes {
			if class := p.last().Classes[i].Class; (bound(class) != nil) == expected {
				order = append(order, class)
			}
		}
	}
	g := group{ID: "delays-all"}
	for _, class := range order[:min(maxClasses, len(order))] {
		c := &chart.Chart{Log: true, X: chart.Axis{Name: "delay", Min: math.Inf(1), Say: ms}}
		panel := chart.Panel{Name: class, Kind: chart.Steps, Say: func(v float64) string { return fmt.Sprintf("%.0f %%", 100*v) }, Least: 1, Levels: bound(class), Height: 1.2}
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
	b.Lead = []string{"What part of a class's packets took at most so long, from end to end. The scale of time is logarithmic."}
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
