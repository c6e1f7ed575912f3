package render

import (
	"github.com/jedib0t/go-pretty/v6/table"

	"imbrel.example/imbrel/core/gate"
	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/words"
	"imbrel.example/imbrel/internal/live"
)

// Gate writes what a gate has done.
func (t Text) Gate(r *live.Report, v *View) {
	if r.Title == "" {
		t.Title("A gate for %.4g s", r.DurationS)
	} else {
		t.Title("%s: a gate for %.4g s", r.Title, r.DurationS)
	}
	t.Line("")
	t.interfaces(r.Result, v)
	w := t.grid([]column{{"port", true}, {"device", true}, {"received", false}, {"sent", false}, {"refused", false}, {"lost", false}, {"missed", false}}, nil)
	for _, p := range r.Ports {
		w.add(table.Row{p.Port, p.Device, humanize.Count(p.Received), humanize.Count(p.Sent), humanize.Count(p.Refused), humanize.Count(p.Lost), humanize.Count(p.Missed)})
	}
	t.Title("The machine's interfaces, in frames")
	t.put(w)
	g := &r.Gate
	for i := range gate.Fates {
		if k := &gate.Fates[i]; i == 0 || k.Of(g) > 0 {
			t.Line("  %s %s", humanize.Plural(int(k.Of(g)), "frame"), k.Text)
		}
	}
	for _, p := range r.Ports {
		if p.Missed > 0 {
			t.Line("  %s came to %s faster than the gate read, and are lost", humanize.Plural(int(p.Missed), "frame"), p.Device)
		}
		if p.Giants > 0 {
			t.Line("  %s of several segments could not be sent by %s: turn segmentation offload off at their sender", humanize.Plural(int(p.Giants), "frame"), p.Device)
		}
	}
	t.Line("  worst delay added by this machine: %s", humanize.Milliseconds(float64(g.MaxLate)/1000))
	if g.LateLost > 0 {
		t.Line("  %s of shaping time was lost: the machine was too busy to catch up", humanize.Milliseconds(float64(g.LateLost)/1000))
	}
	for i := range r.Interfaces {
		if f := &r.Interfaces[i]; f.LostOutside > 0 && len(r.Expectations) > 0 {
			t.paragraph("  ", words.LostOutside.With(int(f.LostOutside), f.Node+"/"+f.Interface+" "+f.Direction).String())
		}
	}
	t.Line("")
	t.expectations(r.Result, v)
	if n := len(r.Expectations); n+r.Elsewhere > 0 {
		if r.Elsewhere > 0 {
			t.paragraph("", words.JudgedHere.With(n, n+r.Elsewhere, r.Rehearsal, r.Elsewhere).String())
		}
		if n > 0 {
			t.verdict(r.Result)
		}
	}
}
