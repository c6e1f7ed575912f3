package report

import (
	"cmp"
	"fmt"
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
	p.Blocks = append(p.Blocks, p.events()...)
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
		if most := callsProven(r); most > 0 {
			a.Text += " Proven: in any run, a packet of a call takes at most " + ms(float64(most)/1e6) + "."
		}
		p.Answers = append(p.Answers, a)
	}
	// The worst place of a run, or of those at an interface.
	trouble := func(r *measure.Result, at string) (iface, text string) {
		for _, u := range r.Places() {
			iface, _, _ := strings.Cut(strings.TrimPrefix(u.Where, "carrier of "), " ")
			if u.Full() && (at == "" || iface == at) {
				where := strings.Replace(u.Where, "carrier of", "the carrier's queue after", 1)
				return iface, fmt.Sprintf("%s carried %.0f %% of its rate: %s, waits up to %s", where, 100*u.Ratio(), humanize.Plural(int(u.Drops), "drop"), ms(u.LongestMs))
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
		f := reason{Expectation: o.Title(), Measured: render.Measured(o)}
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

// events makes a table for each event: the expectations before, during and after it.
func (p *rehearsal) events() []block {
	var out []block
	for i := range p.last().Events {
		e := &p.last().Events[i]
		t := &table{Head: []string{"expectation", "before", "during", "after", "holds again"}, Left: 1}
		for j := range e.Expectations {
			o := &e.Expectations[j]
			row := []cell{plain(o.Text)}
			for _, phase := range policy.Phases() {
				v := *o.Phase(phase)
				text, fails := render.InPhase(o, v)
				c := plain(text)
				if v != nil {
					c.State = map[bool]string{true: "bad", false: "good"}[fails]
				}
				row = append(row, c)
			}
			t.Rows = append(t.Rows, append(row, plain(cmp.Or(render.HoldsAgain(o), "–"))))
		}
		out = append(out, block{ID: fmt.Sprintf("event-%d", i), Title: "The event " + e.Name, Lead: []string{sentence(render.EventTime(e))}, Table: t})
	}
	return out
}

// outcome is what was measured of an expectation: its bar ends where the value is, between nothing and twice the limit.
func outcome(o *measure.Outcome) cell {
	c := plain(render.Phased(o))
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
