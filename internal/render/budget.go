package render

import (
	"fmt"

	"github.com/jedib0t/go-pretty/v6/table"

	"imbrel.example/imbrel/core/budget"
	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/unit"
)

// Budget writes what calls take.
func (t Text) Budget(r *budget.Result) {
	calls := humanize.Plural(max(r.Calls, 1), "call")
	t.Title("%s of %s, a packet every %s, over %s", calls, r.Of(), unit.FormatDuration(r.Of().Interval), r.Framing)
	columns := []column{{"in one direction", true}, {"a packet", false}, {"a call", false}}
	if r.Calls > 1 {
		columns = append(columns, column{calls, false})
	}
	w := t.grid(columns, nil)
	for _, row := range []struct {
		name      string
		bytes     int
		one, many int64
	}{{"payload", r.PayloadBytes, r.PerCall.PayloadBps, r.Total.PayloadBps}, {"IP", r.IPBytes, r.PerCall.IPBps, r.Total.IPBps}, {"on the wire", r.WireBytes, r.PerCall.WireBps, r.Total.WireBps}} {
		cells := table.Row{row.name, humanize.Bytes(int64(row.bytes)), humanize.Rate(row.one), humanize.Rate(row.many)}
		w.add(cells[:len(columns)])
	}
	w.add(table.Row{"packets", "", perSecond(r.PerCall.PacketsPerS), perSecond(r.Total.PacketsPerS)}[:len(columns)])
	t.put(w)
	t.Line("The other direction takes as much.")
	if f := r.Fits; f != nil {
		t.Line("")
		if f.Calls == 0 {
			t.Line("%s %s no call: one takes %s.", humanize.Rate(f.RateBps), "carries", humanize.Rate(r.PerCall.WireBps))
		} else {
			t.Line("%s carries %s, which take %s.", humanize.Rate(f.RateBps), humanize.Plural(f.Calls, "call"), humanize.Rate(f.WireBps))
		}
	}
	if e := r.Erlang; e != nil {
		t.Line("")
		t.Line("%g erlangs, of which at most %.3g %% may find no room: plan for %s at a time.", e.Erlangs, 100*e.Wanted, humanize.Plural(e.Calls, "call"))
		t.Line("With %s, %.3g %% of the calls find no room; with %s it is %.3g %% (Erlang B: calls begin at random, and one that finds no room is given up).",
			humanize.Count(e.Calls), 100*e.Blocking, humanize.Count(e.Calls-1), 100*e.OneLess)
	}
	if l := r.Link; l != nil {
		t.Line("")
		if l.LeftBps < 0 {
			t.Line("%s", t.bad(fmt.Sprintf("They do not fit a link of %s: %s is missing.", humanize.Rate(l.RateBps), humanize.Rate(-l.LeftBps))))
		} else {
			t.Line("Of a link of %s they leave %s, %s of it.", humanize.Rate(l.RateBps), humanize.Rate(l.LeftBps), humanize.Ratio(float64(l.LeftBps)/float64(l.RateBps)))
		}
		t.Line("A full packet of %s bytes takes %s on it: a voice packet that arrives just after it waits that long.", humanize.Count(budget.FullPacket), humanize.Milliseconds(l.FullPacketMs))
	}
	if r.Calls > 0 && r.Entry != "" {
		t.Line("")
		t.Line("An entry with room for them, at an interface with this framing:")
		t.Line("  - %s", r.Entry)
	}
}

// perSecond prints a number of packets a second.
func perSecond(pps float64) string {
	if pps >= 1000 {
		return humanize.Count(int64(pps+0.5)) + "/s"
	}
	return humanize.Digits(pps) + "/s"
}
