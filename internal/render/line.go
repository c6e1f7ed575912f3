package render

import (
	"fmt"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/linetest"
)

// Measured writes what was measured of a line, the worst of its runs first.
func (t Text) Measured(l *linetest.Line) {
	if len(l.Runs) == 0 {
		t.Line("Nothing was measured.")
		return
	}
	t.Title("The line to %s: the worst of %s", l.To, humanize.Plural(len(l.Runs), "run"))
	w := t.grid([]column{{"", true}, {"rate", false}, {"framing", true}, {"rate of IP", false}, {"one TCP", false}, {"when full", true}, {"delay idle", false}, {"delay full", false}, {"measured", true}}, nil).without("measured", "one TCP", "rate of IP")
	var lines []string
	for _, way := range []struct {
		name string
		up   bool
	}{{"out", true}, {"in", false}} {
		v, n := l.Worst(way.up)
		if n < 0 {
			lines = append(lines, way.name+": not judged. Packets of different lengths came at rates that no framing explains: the line, or this machine, was not steady. Measure again.")
			continue
		}
		framing := v.Framing
		if framing == "" {
			framing = "–"
		}
		rate := humanize.Rate(v.RateBps)
		full := fmt.Sprintf("waits %s (%s)", humanize.Milliseconds(v.QueueMs), humanize.Bytes(v.QueueB))
		switch {
		case !v.Full:
			rate, full = "at least "+rate, "was never full"
		case v.Polices:
			full = fmt.Sprintf("drops (burst %s)", humanize.Bytes(v.BurstB))
		}
		w.add(table.Row{way.name, rate, framing, humanize.Rate(v.IPBps), humanize.Rate(v.TCPBps), full, humanize.Milliseconds(v.DelayMs), humanize.Milliseconds(v.LoadedMs), l.Runs[n].At.Format("2006-01-02 15:04")})
		if same := sameFit(v.Fits); len(same) > 1 {
			lines = append(lines, fmt.Sprintf("%s: %s fit equally well; their bytes per packet are the same, or nearly.", way.name, strings.Join(same, ", ")))
		}
	}
	t.put(w)
	for _, s := range lines {
		t.Line("%s", s)
	}
	t.Line("")
	if up, n := l.Worst(true); n >= 0 {
		if down, k := l.Worst(false); k >= 0 {
			t.Line("Plan for the worst: imbrel draft FILE --line \"%s down, %s up\", or --measured with the saved file.", rateOf(down.RateBps), rateOf(up.RateBps))
		}
	}
}

// sameFit returns the framings that fit as well as the best, nearly.
func sameFit(fits []linetest.Fit) (out []string) {
	for _, f := range fits {
		if f.Off-fits[0].Off < 0.001 {
			out = append(out, f.Framing)
		}
	}
	return out
}

// rateOf writes a rate as a file would, with three digits.
func rateOf(bps int64) string {
	switch {
	case bps >= 1e9:
		return fmt.Sprintf("%.3gGbit/s", float64(bps)/1e9)
	case bps >= 1e6:
		return fmt.Sprintf("%.3gMbit/s", float64(bps)/1e6)
	}
	return fmt.Sprintf("%.3gkbit/s", float64(bps)/1e3)
}
