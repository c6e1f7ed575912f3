package render

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/measure"
)

// Bounds of the short form.
const (
	screen          = 40 // lines; of a longer text the verdict stands at both ends
	maxExpectations = 12
	maxClasses      = 12
	maxPlaces       = 5
	maxWarnings     = 4
)

// screens writes a text, and the verdict once more below one that is longer than a screen.
func (t Text) screens(write, verdict func(Text)) {
	var b bytes.Buffer
	in := t
	in.W = &b
	write(in)
	t.W.Write(b.Bytes()) // an error of the writer comes again when it is flushed
	if bytes.Count(b.Bytes(), []byte("\n")) > screen {
		verdict(t)
	}
}

// Rehearsal writes one result: the answer first, and what the view asks for below it.
func (t Text) Rehearsal(r *measure.Result, v *View) {
	t.screens(func(t Text) {
		with := withPolicies
		if !r.Policy {
			with = withoutPolicies + " (plain FIFO queues)"
		}
		t.heading(r, with, v)
		t.verdict(r)
		t.Line("")
		t.expectations(r, v)
		t.classes(r, v)
		t.proven(r, v)
		t.places(r)
		t.warnings(r, v)
		t.breaks(r)
		t.happened(r, v)
		if v.detailed() {
			t.traffic(r, v)
			t.tcp(r, v)
			t.interfaces(r, v)
			t.links(r, v)
			t.contracts(r, v)
		}
		t.hops(r, v)
		t.series(r, v)
		t.admissions(r)
		t.captures(r, v)
		t.next(r, v)
	}, func(t Text) { t.verdict(r) })
}

// next says what can be seen besides.
func (t Text) next(r *measure.Result, v *View) {
	if v.Next {
		return
	}
	var next []string
	if r.Verdict == "fail" && r.Policy && !v.Suggested {
		next = append(next, "--suggest looks for a change that makes it hold")
	}
	if notes := r.NoteCount(); !v.detailed() && notes > 0 {
		next = append(next, "--detail shows each traffic, interface and link, and "+humanize.Plural(notes, "note"))
	} else if !v.detailed() {
		next = append(next, "--detail shows each traffic, interface and link")
	}
	if r.Series == nil && r.Verdict == "fail" {
		next = append(next, "--every 1s shows rates and queues over time")
	}
	if len(next) > 0 {
		t.paragraph("Next: ", strings.Join(next, "; "))
	}
}

// classes writes what the packets of each class met, from end to end.
func (t Text) classes(r *measure.Result, v *View) {
	shown := slices.DeleteFunc(slices.Clone(r.Classes), func(c measure.ClassResult) bool { return !v.shows(c.Class) })
	left := 0
	if !v.detailed() && len(shown) > maxClasses {
		shown, left = shown[:maxClasses], len(shown)-maxClasses
	}
	if len(shown) == 0 {
		return
	}
	late := slices.ContainsFunc(shown, func(c measure.ClassResult) bool { return c.Late != nil })
	uses := make([]*measure.PromiseUse, len(shown))
	promised := false
	for i := range shown {
		uses[i] = r.PromiseUse(shown[i].Class)
		promised = promised || uses[i] != nil
	}
	columns := []column{{"class", true}, {"offered", false}, {"delivered", false}, {"lost", false}}
	if late {
		columns = append(columns, column{"late", false})
	}
	if columns = append(columns, column{"p99 delay", false}); late {
		columns = append(columns, column{"MOS", false})
	}
	if promised {
		columns = append(columns, column{"of its promise", true})
	}
	w := t.dense(t.grid(columns, nil)).without("offered", "of its promise")
	for i := range shown {
		c := &shown[i]
		row := table.Row{humanize.Short(c.Class, 28), v.rate(c.OfferedBps, c.OfferedPps), v.rate(c.RateBps, c.RatePps), humanize.Ratio(c.Loss)}
		if late {
			row = append(row, lateOf(&c.TrafficFigures))
		}
		if row = append(row, times(c.Delay, p99)); late {
			row = append(row, mos(c.MOS))
		}
		if u := uses[i]; u != nil {
			row = append(row, gauge(u.SentBps, u.PromisedBps)+" of "+humanize.Rate(u.PromisedBps))
		} else if promised {
			row = append(row, "-")
		}
		w.add(row)
	}
	t.put(w)
	if left > 0 {
		t.Line("  %s: --detail shows them", humanize.Plural(left, "more class"))
	}
	t.Line("")
}

// barWidth is how many characters a bar has.
const barWidth = 8

// gauge draws a part of a whole, with the percentage.
func gauge(n, of int64) string {
	ratio := float64(n) / float64(max(of, 1))
	full := min(barWidth, int(ratio*barWidth+0.5))
	return strings.Repeat("▇", full) + strings.Repeat("▁", barWidth-full) + fmt.Sprintf(" %3.0f %%", 100*ratio)
}

// places writes which interfaces and carriers were full, or dropped packets; or the fullest.
func (t Text) places(r *measure.Result) {
	all := r.Places()
	full := slices.DeleteFunc(slices.Clone(all), func(u measure.PlaceUse) bool { return !u.Full() })
	if len(all) == 0 {
		return
	}
	if len(full) == 0 {
		u := &all[0]
		t.Line("No interface was full, and none dropped a packet. The fullest: %s, %s of %s (%.0f %%)", u.Where, humanize.Rate(u.SentBps), humanize.Rate(u.RateBps), 100*u.Ratio())
		t.Line("")
		return
	}
	w := t.grid([]column{{"full, or dropping", true}, {"sent", false}, {"of", false}, {"", true}, {"drops", false}, {"longest wait", false}}, nil)
	for i := range full[:min(maxPlaces, len(full))] {
		u := &full[i]
		where := u.Where
		if u.Policy != "" {
			where += ", " + u.Policy
		}
		w.add(table.Row{where, humanize.Rate(u.SentBps), humanize.Rate(u.RateBps), gauge(u.SentBps, u.RateBps), humanize.Count(u.Drops), humanize.Milliseconds(u.LongestMs)})
	}
	t.put(w)
	if left := len(full) - maxPlaces; left > 0 {
		t.Line("  and %s: --detail shows them", humanize.Plural(left, "more place"))
	}
	t.Line("")
}

// Both writes the runs without and with the policies side by side.
func (t Text) Both(without, with *measure.Result, v *View) {
	verdict := func(t Text) { t.verdict(with, without) }
	t.screens(func(t Text) {
		t.heading(with, "without and with the policies", v)
		verdict(t)
		t.Line("")
		t.bothExpectations(without, with, v)
		t.classesBeside(without, with, v)
		if v.detailed() {
			t.sideBySide(without, with, v)
			t.tcpBeside(without, with, v)
			t.whereItQueued(without, with)
		} else {
			t.fullBeside(without, with)
		}
		t.paragraph("", WhoPays(with.WhoPays).String())
		t.provenInLine(with, v)
		if len(with.Events) == 0 || v.detailed() || slices.ContainsFunc(with.Events, func(e measure.EventResult) bool { return !e.Holds() }) {
			t.Line("")
		}
		t.happened(with, v)
		t.warnings(with, v)
		t.breaks(without, with)
		t.captures(with, v)
		t.next(with, v)
	}, verdict)
}

// fullBeside names the places that were full in each run.
func (t Text) fullBeside(without, with *measure.Result) {
	for i, r := range []*measure.Result{without, with} {
		var full []string
		for _, u := range r.Places() {
			if u.Full() {
				drops := humanize.Plural(int(u.Drops), "drop")
				if len(full) > 0 {
					drops = humanize.Count(u.Drops)
				}
				full = append(full, fmt.Sprintf("%s (%.0f %%, %s)", u.Where, 100*u.Ratio(), drops))
			}
		}
		text := "none"
		if len(full) > 0 {
			text = strings.Join(full[:min(maxPlaces-2, len(full))], ", ")
			if left := len(full) - (maxPlaces - 2); left > 0 {
				text += fmt.Sprintf(" and %s", humanize.Plural(left, "more place"))
			}
		}
		t.paragraph("", "Full "+[...]string{"without", "with"}[i]+": "+text)
	}
}
