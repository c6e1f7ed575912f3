package render

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/internal/live"
)

// Probe writes what came of probing.
func (t Text) Probe(r *live.ProbeReport) {
	t.Title("probes to %s", r.To)
	t.Line("")
	w := t.grid([]column{{"sent as", true}, {"arrives as", true}, {"comes back as", true}, {"sent", false}, {"lost forward", false}, {"lost reverse", false}, {"round trip p50", false}, {"round trip p99", false}}, nil)
	for i := range r.Probes {
		p := &r.Probes[i]
		trip := func(of func(*measure.Milliseconds) float64) string { return times(p.RoundTrip, of) }
		w.add(table.Row{p.DSCP, asMarked(p.ArrivesAs), asMarked(p.ReturnsAs), humanize.Count(p.Sent), lostOf(p.Sent-p.Arrived, p.Sent), lostOf(p.Arrived-p.Returned, p.Arrived), trip(p50), trip(p99)})
	}
	t.put(w)
	t.Line("")
	if r.Wrong > 0 {
		t.Line("  %s were ignored: they were no answers, lacked the key, or said what cannot be.", humanize.Plural(r.Wrong, "packet"))
	}
	switch r.Nothing {
	case live.NothingLost:
		t.Line("  The far end answers a hello: the network %s the probes, or their answers.", t.bad("loses"))
	case live.NothingRefused:
		t.Line("  The far end %s: %s.", t.bad("refuses"), r.Refusal)
	case live.NothingAnswered:
		t.Line("  Nothing answers a hello either: see whether `imbrel answer` runs there, and whether the network lets UDP through.")
	}
	for i := range r.Probes {
		p := &r.Probes[i]
		if p.TooMany {
			t.Line("  %s: %s", p.DSCP, t.bad(countsTooMany))
		}
		switch {
		case p.Returned == 0 && r.Nothing != "":
		case p.Returned == 0:
			t.Line("  %s: %s.", p.DSCP, t.bad("nothing comes back"))
		case len(p.ArrivesAs) == 0:
			t.Line("  %s: the far end does not say how it arrives: it does not know the class of service of RFC 8972.", p.DSCP)
		case !only(p.ArrivesAs, p.DSCP):
			t.Line("  %s: %s on the way there: it arrives as %s.", p.DSCP, t.bad("rewritten"), asMarked(p.ArrivesAs))
		case p.Refused > 0:
			t.Line("  %s: the far end does not send with it.", p.DSCP)
		case !only(p.ReturnsAs, p.DSCP):
			t.Line("  %s: %s on the way back: it comes as %s.", p.DSCP, t.bad("rewritten"), asMarked(p.ReturnsAs))
		}
	}
	if n := Rewritten(r); n == 0 && len(r.Probes) == 1 {
		t.Line("The marking arrives and comes back as it was sent.")
	} else if n == 0 {
		t.Line("All %s arrive and come back as they were sent.", humanize.Plural(len(r.Probes), "marking"))
	} else {
		t.Line("%d of %s do not arrive and come back as they were sent.", n, humanize.Plural(len(r.Probes), "marking"))
	}
}

// Rewritten returns how many codepoints do not arrive or come back as they were sent.
func Rewritten(r *live.ProbeReport) (n int) {
	for i := range r.Probes {
		if p := &r.Probes[i]; !only(p.ArrivesAs, p.DSCP) || !only(p.ReturnsAs, p.DSCP) {
			n++
		}
	}
	return n
}

// only reports whether all were of one marking.
func only(marks map[string]int, dscp string) bool { return len(marks) == 1 && marks[dscp] > 0 }

// asMarked names markings, the most frequent first, with how many where there are several.
func asMarked(marks map[string]int) string {
	if len(marks) == 0 {
		return "-"
	}
	names := slices.SortedFunc(maps.Keys(marks), func(a, b string) int {
		if marks[a] != marks[b] {
			return marks[b] - marks[a]
		}
		return strings.Compare(a, b)
	})
	if len(names) == 1 {
		return names[0]
	}
	for i, n := range names {
		names[i] = fmt.Sprintf("%s %d", n, marks[n])
	}
	return strings.Join(names, " ")
}

func lostOf(n, of int) string {
	if of == 0 {
		return "-"
	}
	return humanize.Ratio(float64(n) / float64(of))
}
