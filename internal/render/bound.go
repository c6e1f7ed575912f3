package render

import (
	"fmt"
	"slices"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"

	"imbrel.example/imbrel/core/bound"
	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/words"
	"imbrel.example/imbrel/core/worst"
)

// Bounds writes the proven bounds of a rehearsal.
func (t Text) Bounds(title string, r *bound.Result, hops bool) {
	if title != "" {
		title += ": "
	}
	t.Title("%srehearsal `%s`: the delays that are possible, proven", title, r.Rehearsal)
	if len(r.Paths) == 0 {
		t.Line("  there is no traffic whose path is known")
		return
	}
	w := t.dense(t.grid([]column{{"traffic", true}, {"class", true}, {"min", false}, {"max", false}, {"longest wait at", true}, {"up to", false}, {"loss", true}}, nil))
	for i := range r.Paths {
		p := &r.Paths[i]
		where, upTo := "", ""
		if h := p.Longest(); h != nil && p.Max != bound.Never {
			where, upTo = h.Place, delay(h.Max)
		}
		loss := any("possible")
		if p.Kept {
			loss = t.good("impossible")
		}
		least := delay(p.Min)
		if p.Min == 0 && p.Max == bound.Never {
			least = "-"
		}
		w.add(table.Row{p.Name(), p.Class, least, t.maximum(p), where, upTo, loss})
	}
	t.put(w)
	t.unbound(r)
	if !hops {
		t.advice(r)
		t.paragraph("", "No packet takes longer than max, whatever the moments at which the senders begin. --hops shows the delay at each place.")
		return
	}
	for i := range r.Paths {
		t.boundHops(&r.Paths[i])
	}
}

// maximum writes the bound of a path.
func (t Text) maximum(p *bound.Path) any {
	if p.Max == bound.Never {
		return t.warn("no bound")
	}
	return delay(p.Max)
}

// delay writes a time in milliseconds.
func delay(d time.Duration) string {
	if d == bound.Never {
		return "no bound"
	}
	return humanize.Milliseconds(float64(d) / 1e6)
}

// unbound says why paths have no bound, each reason once.
func (t Text) unbound(r *bound.Result) {
	var order []string
	of := make(map[string][]string)
	for i := range r.Paths {
		p := &r.Paths[i]
		if p.Max != bound.Never {
			continue
		}
		why := p.Why.String()
		if of[why] == nil {
			order = append(order, why)
		}
		if name := p.Name(); !slices.Contains(of[why], name) {
			of[why] = append(of[why], name)
		}
	}
	for _, why := range order {
		t.paragraph("  ", "no bound for "+humanize.List(of[why])+": "+why)
	}
	if len(order) > 0 {
		t.Line("")
	}
}

// maxAdvice is how many changes are proposed.
const maxAdvice = 4

// advice says what to change for smaller bounds, for the paths that wait longest beyond what they take anyway.
func (t Text) advice(r *bound.Result) {
	var said []string
	for i := range r.Paths {
		p := &r.Paths[i]
		h := p.Longest()
		if h == nil || p.Max == bound.Never || h.Advice.IsZero() || 4*h.Max < p.Max-p.Min || slices.Contains(said, h.Advice.String()) {
			continue
		}
		if len(said) == 0 {
			t.Line("To lower max")
		}
		if said = append(said, h.Advice.String()); len(said) > maxAdvice {
			break
		}
		t.paragraph("  ", p.Name()+": "+h.Advice.String())
	}
	if len(said) > 0 {
		t.Line("")
	}
}

// boundHops writes what a path's packets wait for at each place.
func (t Text) boundHops(p *bound.Path) {
	t.Line("")
	t.Title("%s (%s)", p.Name(), p.Class)
	limited := slices.ContainsFunc(p.Hops, func(h bound.Hop) bool { return h.Ceiling > 0 })
	columns := []column{{"place", true}, {"class", true}, {"up to", false}, {"own queue", false}, {"others", false}, {"begun", false}}
	if limited {
		columns = append(columns, column{"upper limit", false})
	}
	w := t.dense(t.grid(append(columns, column{"can wait", false}, column{"queue", false}), nil)).without("queue", "class")
	part := func(d time.Duration) string {
		if d == 0 {
			return "-"
		}
		return delay(d)
	}
	for i := range p.Hops {
		h := &p.Hops[i]
		waits := "full"
		if h.Backlog >= 0 {
			waits = humanize.Bytes(int64(h.Backlog))
		}
		row := table.Row{h.Place, orDash(h.Class), delay(h.Max)}
		if h.Max == bound.Never {
			row = append(row, "", "", "")
		} else {
			row = append(row, part(h.Own), part(h.Others), part(h.Blocking))
		}
		if limited {
			row = append(row, part(h.Ceiling))
		}
		w.add(append(row, waits, humanize.Bytes(int64(h.Size))))
	}
	t.put(w)
	if p.Saved > 0 {
		t.Line("    bursts wait once for places in a row: %s less than the sum", delay(p.Saved))
	}
	for i := range p.Hops {
		if h := &p.Hops[i]; !h.Advice.IsZero() && 4*h.Max > p.Max-p.Min {
			t.paragraph("    ", "to lower the wait at "+h.Place+": "+h.Advice.String())
		}
	}
	if !p.Kept {
		t.paragraph("    ", "loss is possible: "+p.Lost.String())
	}
}

// proven writes the bounds beside what was seen: in the short form those of calls, in detail those of every class.
func (t Text) proven(r *measure.Result, v *View) {
	if r.Bounds == nil {
		return
	}
	all := boundsOf(r, func(p *bound.Path, class string) bool { return v.shows(class) && (p.Calls > 0 || v.detailed()) })
	for i, c := range all {
		if i == maxProven && !v.detailed() {
			break
		}
		t.paragraph("  ", c.said())
	}
	if len(all) > 0 {
		t.Line("")
	}
}

// maxProven is of how many classes with calls the short form says the bounds.
const maxProven = 3

// provenInLine writes the bounds of classes with calls in a line.
func (t Text) provenInLine(r *measure.Result, v *View) {
	if r.Bounds == nil {
		return
	}
	for i, c := range boundsOf(r, func(p *bound.Path, class string) bool { return v.shows(class) && p.Calls > 0 }) {
		if i < maxProven {
			t.paragraph("", "With the policies, "+c.said())
		}
	}
}

// said returns the sentence of a bound.
func (c *classBound) said() string {
	of := c.of()
	switch {
	case c.worst.Max == bound.Never:
		return words.ClassNotProven.With(of, c.worst.Why).String()
	case c.worst.FullAt() != nil:
		return words.ClassProvenFull.With(of, delay(c.worst.Max), c.worst.FullAt().Place, delay(c.seen)).String()
	case c.kept:
		return words.ClassProvenKept.With(of, delay(c.worst.Max), delay(c.seen)).String()
	}
	return words.ClassProven.With(of, delay(c.worst.Max), delay(c.seen)).String()
}

// A classBound is the bound of a class, and the longest delay of its packets that was seen.
type classBound struct {
	name  string
	worst *bound.Path
	seen  time.Duration
	kept  bool
	calls bool // of calls alone
}

// of names the packets that the bound is of.
func (c *classBound) of() string {
	if c.calls {
		return "calls in " + c.name
	}
	return c.name
}

// boundsOf returns the bounds of the classes of some paths. A call counts whole, as in the table of classes: the direction that
// no class takes is in the class of the other.
func boundsOf(r *measure.Result, shown func(p *bound.Path, class string) bool) (all []*classBound) {
	longest := r.Longest()
	type way struct {
		traffic string
		reverse bool
	}
	classes := make(map[way]string) // of the calls that go a way: the rest where they differ
	for i := range r.Bounds.Paths {
		if p := &r.Bounds.Paths[i]; p.Calls > 0 {
			w := way{p.Traffic, p.Reverse}
			if class, known := classes[w]; known && class != p.Class {
				classes[w] = policy.Rest
			} else {
				classes[w] = p.Class
			}
		}
	}
	for i := range r.Bounds.Paths {
		p := &r.Bounds.Paths[i]
		class := p.Class
		if other := classes[way{p.Traffic, !p.Reverse}]; p.Calls > 0 && class == policy.Rest && other != "" {
			class = other
		}
		if !shown(p, class) {
			continue
		}
		n := slices.IndexFunc(all, func(c *classBound) bool { return c.name == class })
		if n < 0 {
			n = len(all)
			all = append(all, &classBound{name: class, worst: p, kept: true, calls: true})
		}
		c := all[n]
		if p.Max > c.worst.Max {
			c.worst = p
		}
		c.seen, c.kept, c.calls = max(c.seen, longest.Seen(p)), c.kept && p.Kept, c.calls && p.Calls > 0
	}
	return all
}

// proofBounds writes the bounds of the classes with calls beside what was rehearsed and measured.
func (t Text) proofBounds(r *Proof) {
	if r.Rehearsed.Bounds == nil {
		return
	}
	measured := *r.Staged.Result
	measured.Bounds = r.Rehearsed.Bounds
	calls := func(p *bound.Path, _ string) bool { return p.Calls > 0 && p.Max != bound.Never }
	seen := boundsOf(&measured, calls)
	for i, c := range boundsOf(r.Rehearsed, calls) {
		t.paragraph("  ", words.ClassProvenMeasured.With(c.of(), delay(c.worst.Max), delay(c.seen), delay(seen[i].seen)).String())
	}
	for _, beyond := range r.Beyond {
		t.paragraph("  ", beyond.String())
	}
	if len(seen)+len(r.Beyond) > 0 {
		t.Line("")
	}
}

// Worst writes the worst traffic that was found.
func (t Text) Worst(r *worst.Result) {
	t.Title("rehearsal `%s`: the longest delay of %s that was found in %s", r.Rehearsal, r.Class, humanize.Plural(r.Runs, "run"))
	t.Line("")
	w := t.grid([]column{{"", true}, {r.Traffic, false}}, nil)
	w.add(table.Row{"as the file and the seed say", humanize.Milliseconds(r.Drawn)})
	w.add(table.Row{"longest found", humanize.Milliseconds(r.Found)})
	if r.Bound == nil {
		w.add(table.Row{"proven maximum", t.warn("none")})
	} else {
		w.add(table.Row{"proven maximum", humanize.Milliseconds(*r.Bound)})
		w.add(table.Row{"found, of the proven maximum", humanize.Ratio(*r.Part)})
	}
	t.put(w)
	if r.Bound == nil {
		t.paragraph("  ", words.ClassNotProven.With(r.Class, r.Path.Why).String())
	}
	if len(r.Senders) == 0 {
		t.Line("  no run had a longer delay than the first")
		return
	}
	t.Line("")
	g := t.grid([]column{{"traffic", true}, {"first packet", false}, {"sends", true}}, nil)
	for _, c := range r.Senders {
		sends := "as in the file"
		if x := c.Stream; x != nil {
			sends = fmt.Sprintf("%s for %s, in packets of %s", humanize.Rate(int64(x.Rate)), unit.FormatDuration(c.As.Lasts), humanize.Bytes(int64(x.Packet)))
		}
		first := humanize.Milliseconds(c.PhaseMs)
		if c.As.Starts > 0 {
			first = unit.FormatDuration(c.As.Starts) + " + " + first
		}
		g.add(table.Row{c.Traffic, first, sends})
	}
	t.put(g)
}
