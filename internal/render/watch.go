package render

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"

	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/internal/live"
)

// watched is how many steps of the past a view keeps.
const watched = 20

// A Watch is what a live view of a gate has seen: the last report, and each class's rate in the
// steps before.
type Watch struct {
	Device string
	At     int // which of the gate's interfaces is shown

	now, before *live.Report
	step        time.Duration
	sent        map[string][]int64 // bit/s by interface, direction and class
}

// Add takes the next report, so long after the one before.
func (w *Watch) Add(r *live.Report, step time.Duration) {
	if w.now == nil { // begin where packets wait
		w.At = max(0, slices.IndexFunc(r.Interfaces, func(f measure.Interface) bool { return f.Direction == "out" }))
	}
	w.before, w.now, w.step = w.now, r, step
	if w.sent == nil {
		w.sent = make(map[string][]int64)
	}
	if w.before == nil {
		return
	}
	for i := range r.Interfaces {
		f := &r.Interfaces[i]
		for j := range f.Classes {
			c := &f.Classes[j]
			key := watchKey(f, c)
			was := w.classBefore(f, c)
			rates := append(w.sent[key], w.rate(c.SentBytes, was.SentBytes))
			w.sent[key] = rates[max(0, len(rates)-watched):]
		}
	}
}

func watchKey(f *measure.Interface, c *measure.Class) string {
	return f.Interface + " " + f.Direction + " " + c.Class
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

// rate returns a count of bytes over the last step, in bit/s; 0 where the count began anew.
func (w *Watch) rate(now, before uint64) int64 {
	if now < before || w.step <= 0 {
		return 0
	}
	return int64(float64(now-before) * 8 / w.step.Seconds())
}

// Watch writes the view: one interface of the gate, and how to go on.
func (t Text) Watch(w *Watch, frozen bool) {
	r := w.now
	if r == nil || len(r.Interfaces) == 0 {
		t.Line("The gate at %s has no policies.", w.Device)
		return
	}
	f := &r.Interfaces[w.At%len(r.Interfaces)]
	state := ""
	if frozen {
		state = ", frozen"
	}
	t.Title("%s/%s %s: policy %s, %s; %d of %d%s", f.Node, f.Interface, f.Direction, f.PolicyAt, humanize.Rate(f.RateBps), w.At%len(r.Interfaces)+1, len(r.Interfaces), state)
	g := t.dense(t.grid([]column{{"class", true}, {"promised", false}, {"offered", false}, {"sent", false}, {"of promise", false}, {fmt.Sprintf("last %d", watched), true}, {"drops", false}, {"reason", true}, {"queued", false}, {"p99 wait", false}}, nil))
	for j := range f.Classes {
		c := &f.Classes[j]
		was := w.classBefore(f, c)
		sent := w.rate(c.SentBytes, was.SentBytes)
		promised, part := "-", "-"
		if c.PromisedBps != nil {
			promised = humanize.Rate(*c.PromisedBps)
			if *c.PromisedBps > 0 {
				part = fmt.Sprintf("%.0f %%", 100*float64(sent)/float64(*c.PromisedBps))
			}
		}
		drops := difference(&c.Drops, &was.Drops)
		past := w.sent[watchKey(f, c)]
		line := strings.Repeat(" ", watched-len(past))
		if len(past) > 0 {
			line += spark(past, max(1, slices.Max(past)))
		}
		wait := "-"
		if c.QueueDelay != nil {
			wait = humanize.Milliseconds(c.QueueDelay.P99)
		}
		g.add(table.Row{c.Class, promised, humanize.Rate(w.rate(c.OfferedBytes, was.OfferedBytes)), humanize.Rate(sent), part, line, humanize.Count(drops.Total()), reasons(&drops), humanize.Bytes(c.MaxQueueBytes), wait})
	}
	t.put(g)
	for j := range f.Classes {
		if n := f.Classes[j].Instances; n != nil && len(n.Top) > 0 {
			var words []string
			for _, i := range n.Top[:min(3, len(n.Top))] {
				words = append(words, i.Value+" "+humanize.Rate(i.SentBps))
			}
			t.Line("  %s: %s; the largest are %s", f.Classes[j].Class, humanize.Plural(n.Max, "instance"), humanize.List(words))
		}
	}
	t.Line("")
	t.Line("tab: the next interface   f: freeze   q: leave")
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
