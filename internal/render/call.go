package render

import (
	"fmt"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/roundtrip"
	"imbrel.example/imbrel/internal/live"
)

// Call writes what calls met, and which of them are broken: those below a MOS.
func (t Text) Call(r *live.CallReport, broken float64) {
	t.Title("%s of %s to %s for %.4g s, marked %s", humanize.Plural(len(r.Calls), "call"), r.Codec, r.To, r.DurationS, r.DSCP)
	t.Line("")
	w := t.dense(t.grid([]column{{"call", false}, {"direction", true}, {"sent", false}, {"lost", false}, {"late", false}, {"jitter", false}, {"delay p50", false}, {"delay p99", false}, {"round trip p50", false}, {"round trip p99", false}, {"MOS", false}}, nil)).without("jitter", "delay p50", "round trip p50")
	for i := range r.Calls {
		c := &r.Calls[i]
		for n, k := range []*roundtrip.Way{&c.Ways.There, &c.Ways.Back} {
			row := table.Row{"", "reverse", humanize.Count(k.Sent), humanize.Ratio(k.Loss), humanize.Ratio(k.Late), humanize.Milliseconds(k.JitterMs), times(k.Delay, p50), times(k.Delay, p99), "", ""}
			if n == 0 {
				trip := func(of func(*measure.Milliseconds) float64) string { return times(c.Ways.RoundTrip, of) }
				row[0], row[1], row[8], row[9] = c.Call, "forward", trip(p50), trip(p99)
			}
			w.add(append(row, t.mos(k.MOS, broken)))
		}
	}
	t.put(w)
	t.Line("")
	if !r.Agree {
		t.paragraph("  ", "One-way delays are estimates: each way is taken as half the shortest round trip. Everything else is measured.")
	}
	t.marked(r)
	if r.TooMany {
		t.Line("  %s", t.bad(countsTooMany))
	}
	if r.Gone {
		t.Line("%s", t.bad(fmt.Sprintf("The far end was gone after %.4g s: nothing came back any more.", r.DurationS)))
	}
	holds, said := CallsHold(r, broken)
	if holds {
		t.Line("%s", t.good(said))
	} else {
		t.Line("%s", t.bad(said))
	}
}

// countsTooMany is what is said of a far end that lies, or is broken.
const countsTooMany = "The far end counts more packets than were sent. What it says of arrivals is not to be trusted."

// CallsHold says whether all calls are above a MOS.
func CallsHold(r *live.CallReport, broken float64) (holds bool, said string) {
	bad := 0
	for i := range r.Calls {
		for _, k := range []*roundtrip.Way{&r.Calls[i].Ways.There, &r.Calls[i].Ways.Back} {
			if k.MOS != nil && *k.MOS < broken {
				bad++
				break
			}
		}
	}
	switch {
	case bad == 0:
		return true, fmt.Sprintf("All hold: the lowest MOS is %.2f.", r.Worst())
	case len(r.Calls) == 1:
		return false, fmt.Sprintf("The call is broken: its lowest MOS is %.2f, below %.4g.", r.Worst(), broken)
	}
	return false, fmt.Sprintf("%d of %d calls are broken: the lowest MOS is %.2f, below %.4g.", bad, len(r.Calls), r.Worst(), broken)
}

// mos prints a MOS.
func (t Text) mos(v *float64, broken float64) painted {
	switch {
	case v == nil:
		return "-"
	case *v < broken:
		return t.bad(fmt.Sprintf("%.2f", *v))
	}
	return t.paint(fmt.Sprintf("%.2f", *v))
}

// marked says where the packets of calls did not keep their marking.
func (t Text) marked(r *live.CallReport) {
	for _, way := range []struct {
		words string
		as    map[string]int64
	}{{"on the way there: they arrive as", r.ArrivesAs}, {"on the way back: they come as", r.ReturnsAs}} {
		counts := make(map[string]int)
		for d, n := range way.as {
			counts[d] = int(n)
		}
		if len(counts) > 0 && !only(counts, r.DSCP) {
			t.Line("  The packets were %s %s %s.", t.bad("rewritten"), way.words, asMarked(counts))
		}
	}
	if WasBusy(r) {
		t.paragraph("  ", fmt.Sprintf("This machine sent packets up to %s late: it was busy, and late or lost packets may be its own fault.", humanize.Milliseconds(r.SentLate)))
	}
	if r.Wrong > 0 {
		t.Line("  %s were ignored: they were no answers.", humanize.Plural(int(r.Wrong), "packet"))
	}
}

// tooLate is from how many milliseconds on a packet that left late is worth a word.
const tooLate = 20

// floodRows is how many rows the steps of a flood are shown in.
const floodRows = 10

// Flood writes what came of a flood, and of the calls beside it.
func (t Text) Flood(r *live.FloodReport, broken float64) {
	what := fmt.Sprintf("at %s", humanize.Rate(r.ToBps))
	switch {
	case r.Flows > 0:
		what = fmt.Sprintf("by %s of TCP", humanize.Plural(r.Flows, "flow"))
	case r.FromBps != r.ToBps:
		what = fmt.Sprintf("from %s to %s", humanize.Rate(r.FromBps), humanize.Rate(r.ToBps))
	}
	t.Title("a flood to %s %s for %.4g s, marked %s", r.To, what, r.OverS, r.DSCP)
	t.Line("")
	columns := []column{{"from", false}, {"sent", false}, {"arrives", false}, {"lost", false}, {"", true}}
	if r.Flows > 0 {
		columns = []column{{"from", false}, {"TCP gets", false}, {"", true}}
	}
	if r.Call != nil {
		columns = append(columns, column{"lowest MOS", false})
	}
	w := t.grid(columns, nil)
	for from := 0; from < len(r.Steps); from += max(1, (len(r.Steps)+floodRows-1)/floodRows) {
		part := r.Steps[from:min(len(r.Steps), from+max(1, (len(r.Steps)+floodRows-1)/floodRows))]
		var sent, arrived int64
		lowest := 0.0
		for _, k := range part {
			sent += k.SentBps
			arrived += k.ArrivedBps
			if k.MOS > 0 && (lowest == 0 || k.MOS < lowest) {
				lowest = k.MOS
			}
		}
		n := int64(len(part))
		row := table.Row{fmt.Sprintf("%.4g s", part[0].AtS)}
		if r.Flows == 0 {
			loss := 0.0
			if sent > arrived {
				loss = float64(sent-arrived) / float64(sent)
			}
			row = append(row, humanize.Rate(sent/n), humanize.Rate(arrived/n), humanize.Ratio(loss))
		} else {
			row = append(row, humanize.Rate(arrived/n))
		}
		row = append(row, bar(float64(arrived/n), float64(r.MaxBps)))
		if r.Call != nil {
			row = append(row, t.mos(&lowest, broken))
		}
		w.add(row)
	}
	t.put(w)
	t.Line("")
	for _, s := range Flooded(r) {
		t.paragraph("  ", s)
	}
	if r.TooMany {
		t.Line("  %s", t.bad(countsTooMany))
	}
	if r.Gone {
		t.Line("%s", t.bad(fmt.Sprintf("The far end was gone after %.4g s.", r.OverS)))
	}
	if r.Call == nil {
		return
	}
	t.marked(r.Call)
	if holds, said := FloodedCall(r); holds {
		t.Line("%s", t.good(said))
	} else {
		t.Line("%s", t.bad(said))
	}
}

// FloodedCall says whether the calls beside a flood hold, and where they break.
func FloodedCall(r *live.FloodReport) (holds bool, said string) {
	beside := "during the flood"
	if r.Flows > 0 {
		beside = fmt.Sprintf("with %s of TCP", humanize.Plural(r.Flows, "flow"))
	}
	calls := "The call"
	if len(r.Call.Calls) > 1 {
		calls = fmt.Sprintf("The worst of %d calls", len(r.Call.Calls))
	}
	mos := fmt.Sprintf(" The MOS is %.2f before the flood, and %.2f at its worst.", r.Before, r.During)
	switch {
	case r.Breaks == nil && r.Broken > 0:
		return false, fmt.Sprintf("%s was broken for %.2g s of the flood.", calls, float64(r.Broken)*r.OverS/float64(len(r.Steps))) + mos
	case r.Breaks == nil:
		return true, fmt.Sprintf("%s holds %s.", calls, beside) + mos
	case r.Flows > 0:
		return false, fmt.Sprintf("%s breaks %s, %.4g s after they begin.", calls, beside, r.Breaks.AtS) + mos
	}
	return false, fmt.Sprintf("%s breaks at %s.", calls, humanize.Rate(r.Breaks.RateBps)) + mos
}

// Flooded says how much of a flood arrives.
func Flooded(r *live.FloodReport) (out []string) {
	line := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	switch {
	case r.Flows > 0:
		again := 0.0
		if r.Segments > 0 {
			again = float64(r.Resent) / float64(r.Segments)
		}
		var sum int64
		for _, k := range r.Steps {
			sum += k.ArrivedBps
		}
		line("TCP gets %s on average, and sends %s again.", humanize.Rate(sum/int64(max(1, len(r.Steps)))), humanize.Ratio(again))
	case r.FullUntilBps == nil:
		line("Some packets were lost at every rate: %s of %s arrived, at most %s.", humanize.Count(r.Arrived), humanize.Count(r.Sent), humanize.Rate(r.MaxBps))
	case r.Arrived*100 < r.Sent*98 || *r.FullUntilBps < r.Steps[len(r.Steps)-1].SentBps:
		line("Everything arrived up to %s. Above that, at most %s arrived.", humanize.Rate(*r.FullUntilBps), humanize.Rate(r.MaxBps))
	default:
		line("All arrives.")
	}
	if r.Slow > 0 {
		line("In %d of %d time steps this machine could not send at the wanted rate: it was busy or is too slow. Ignore those steps.", r.Slow, len(r.Steps))
	}
	if r.Remarked {
		line("The packets arrive with several markings.")
	} else if r.ArrivesAs != "" && r.ArrivesAs != r.DSCP {
		line("The packets were rewritten on the way: they arrive as %s.", r.ArrivesAs)
	}
	return out
}

// bar draws a part of a whole.
func bar(v, most float64) string {
	const width = 24
	if most <= 0 {
		return ""
	}
	return strings.Repeat("█", int(v/most*width+0.5))
}

// WasBusy reports whether a machine that called was too busy for its calls to say much of the network.
func WasBusy(r *live.CallReport) bool { return r.SentLate > tooLate }
