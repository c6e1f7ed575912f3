package render

import (
	"fmt"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/internal/live"
)

// A Watch is what a live view of a gate shows: its last report, and which interface and class are looked at.
type Watch struct {
	Device string
	Frozen bool
	Rows   int // of the screen; 0: it has no end

	at, class   int
	now, before *live.Report
	begun       bool
}

// Add takes the next report.
func (w *Watch) Add(r *live.Report) {
	if !w.begun && len(r.Interfaces) > 0 { // begin where packets wait
		w.begun, w.at = true, max(0, slices.IndexFunc(r.Interfaces, func(f measure.Interface) bool { return f.Direction == "out" }))
	}
	w.before, w.now = w.now, r
}

// Interface goes so many interfaces on.
func (w *Watch) Interface(by int) {
	if n := len(w.now.Interfaces); n > 0 {
		w.at, w.class = ((w.at+by)%n+n)%n, 0
	}
}

// Class goes so many classes on.
func (w *Watch) Class(by int) {
	if len(w.now.Interfaces) > 0 {
		n := max(1, len(w.now.Interfaces[w.at%len(w.now.Interfaces)].Classes))
		w.class = ((w.class+by)%n + n) % n
	}
}

// minute is how many intervals of a gate's history a minute has.
func minute(s *measure.Series) int { return int(60/max(s.IntervalS, 0.001) + 0.5) }

// over returns what an interface, and a class of it, did over time; nil where nothing is known.
func (w *Watch) over(f *measure.Interface, class string) *measure.SeriesClass {
	if w.now.Series == nil {
		return nil
	}
	for i := range w.now.Series.Interfaces {
		s := &w.now.Series.Interfaces[i]
		if s.Node != f.Node || s.Interface != f.Interface || s.Direction != f.Direction {
			continue
		}
		for j := range s.Classes {
			if s.Classes[j].Class == class {
				return &s.Classes[j]
			}
		}
	}
	return nil
}

// classBefore returns what the report before said of a class; nothing where it did not have it.
func (w *Watch) classBefore(f *measure.Interface, c *measure.Class) *measure.Class {
	if w.before != nil {
		for i := range w.before.Interfaces {
			if g := &w.before.Interfaces[i]; g.Interface == f.Interface && g.Direction == f.Direction {
				for j := range g.Classes {
					if g.Classes[j].Class == c.Class {
						return &g.Classes[j]
					}
				}
			}
		}
	}
	return &measure.Class{}
}

// last returns the last value of a list; 0 where it is empty.
func last(values []int64) int64 {
	if len(values) == 0 {
		return 0
	}
	return values[len(values)-1]
}

// tail returns the last values of a list, so many at most.
func tail[T any](values []T, n int) []T { return values[max(0, len(values)-n):] }

// WatchKeys are the keys of the full-screen view.
const WatchKeys = "Tab: the next interface   ↑ ↓: the class that the chart shows   f: freeze   q: leave"

// Watch writes the view: all interfaces in a line each, the classes of one of them, and a chart of one class.
func (t Text) Watch(w *Watch) {
	r := w.now
	if r == nil || len(r.Interfaces) == 0 {
		t.Line("The gate at %s has no policies.", w.Device)
		return
	}
	state := ""
	if w.Frozen {
		state = "   FROZEN"
	}
	t.Title("The gate at %s, for %.0f s now%s", w.Device, r.DurationS, state)
	t.watchInterfaces(w)
	f := &r.Interfaces[w.at%len(r.Interfaces)]
	t.Line("")
	t.Title("%s/%s %s: policy %s", f.Node, f.Interface, f.Direction, f.PolicyAt)
	t.watchClasses(w, f)
	if len(f.Classes) == 0 {
		return
	}
	c := &f.Classes[w.class%len(f.Classes)]
	t.Line("")
	if s := w.over(f, c.Class); s != nil && len(s.SentBps) > 0 {
		width := chartWidth
		if t.Width > 0 {
			width = max(10, min(width, t.Width-chartScale-28))
		}
		n := len(s.SentBps)
		shown := *s
		shown.SentBps, shown.Drops, shown.QueueBytes = tail(s.SentBps, width), tail(s.Drops, width), tail(s.QueueBytes, width)
		begins := *r.Series
		begins.FromS += float64(n-len(shown.SentBps)) * begins.IntervalS
		rows := chartHeight
		if w.Rows > 0 { // what the tables and the keys leave
			rows = min(16, max(chartHeight, w.Rows-len(r.Interfaces)-len(f.Classes)-17))
		}
		t.over(&begins, c, &shown, rows)
	}
	if k := c.Instances; k != nil && len(k.Top) > 0 {
		t.Line("  %s of %s; the largest: %s", humanize.Plural(k.Max, "instance"), c.Class, instances(k))
	}
}

// instances names the largest instances of a class with their rates.
func instances(k *measure.Instances) string {
	var said []string
	for _, i := range k.Top {
		said = append(said, i.Value+" "+humanize.Rate(i.SentBps))
	}
	return strings.Join(said, ", ")
}

// watchInterfaces writes a line for each interface: how full it is, and what it drops.
func (t Text) watchInterfaces(w *Watch) {
	g := t.dense(t.grid([]column{{"", true}, {"interface", true}, {"sends", false}, {"of", false}, {"how full", true}, {"drops/s", false}, {"p99, 60 s", false}}, nil)).without("of")
	for i := range w.now.Interfaces {
		f := &w.now.Interfaces[i]
		var rate, drops int64
		p99 := 0.0
		for j := range f.Classes {
			s := w.over(f, f.Classes[j].Class)
			if s == nil {
				continue
			}
			longest, _ := s.Recent(minute(w.now.Series))
			p99 = max(p99, longest)
			if !strings.Contains(f.Classes[j].Class, "/") {
				rate, drops = rate+last(s.SentBps), drops+last(s.Drops)
			}
		}
		at := ""
		if i == w.at%len(w.now.Interfaces) {
			at = "▶"
		}
		g.add(table.Row{at, f.Node + "/" + f.Interface + " " + f.Direction, humanize.Rate(rate), humanize.Rate(f.RateBps), gauge(rate, f.RateBps), humanize.Count(drops), humanize.Milliseconds(p99)})
	}
	t.put(g)
}

// watchClasses writes a line for each class of an interface.
func (t Text) watchClasses(w *Watch, f *measure.Interface) {
	const past = 20
	g := t.dense(t.grid([]column{{"", true}, {"class", true}, {"offered", false}, {"sent", false}, {"of its promise", true}, {fmt.Sprintf("last %d", past), true}, {"drops", false}, {"why", true}, {"queue", false}, {"p99, 60 s", false}}, nil)).without(fmt.Sprintf("last %d", past), "offered", "why")
	for j := range f.Classes {
		c := &f.Classes[j]
		at := ""
		if j == w.class%len(f.Classes) {
			at = "▶"
		}
		row := table.Row{at, humanize.Short(c.Class, 24), "-", "-", "-", "", "", "", "-", "-"}
		if s := w.over(f, c.Class); s != nil {
			sent := last(s.SentBps)
			row[2], row[3] = humanize.Rate(last(s.OfferedBps)), humanize.Rate(sent)
			if c.PromisedBps != nil && *c.PromisedBps > 0 {
				row[4] = gauge(sent, *c.PromisedBps) + " of " + humanize.Rate(*c.PromisedBps)
			}
			recent := tail(s.SentBps, past)
			if len(recent) > 0 {
				row[5] = strings.Repeat(" ", past-len(recent)) + spark(recent, max(1, slices.Max(recent)))
			}
			p99, _ := s.Recent(minute(w.now.Series))
			row[8], row[9] = humanize.Bytes(last(s.QueueBytes)), humanize.Milliseconds(p99)
		}
		drops := difference(&c.Drops, &w.classBefore(f, c).Drops)
		row[6] = humanize.Count(drops.Total())
		if row[7] = Reasons(&drops); drops.Total() > 0 {
			row[6] = t.bad(humanize.Count(drops.Total()))
		}
		g.add(row)
	}
	t.put(g)
}

// difference returns what was dropped since an earlier count.
func difference(now, before *measure.Drops) measure.Drops {
	since := func(a, b uint64) uint64 {
		if a < b {
			return 0
		}
		return a - b
	}
	return measure.Drops{Policed: since(now.Policed, before.Policed), QueueFull: since(now.QueueFull, before.QueueFull), Early: since(now.Early, before.Early), Blocked: since(now.Blocked, before.Blocked)}
}
