package render

import (
	"cmp"
	"fmt"
	"slices"
	"sort"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
)

// A View says which part of a result the text shows.
type View struct {
	At      []string // the interfaces, as node/interface, or that and a direction; none: those that matter
	Classes []string // the classes; none: all
	Detail  bool     // also each traffic, interface and link
	All     bool     // also what is idle, or is not among the worst
	Packets bool     // packets a second beside bit/s
	Checked string   // what a check of the file found, in a few words; "": nothing
	// Suggested says that changes were looked for.
	Suggested bool
	Next      bool // the caller says what to try next
}

// detailed reports whether more than the short form is shown.
func (v *View) detailed() bool { return v.Detail || v.All || v.Packets || len(v.At) > 0 }

// How much the text shows of what there may be much of, the worst first.
const (
	maxRows       = 24
	maxInterfaces = 8
	maxInstances  = 5
)

func (t Text) heading(r *measure.Result, with string, v *View) {
	title := ""
	if r.Title != "" {
		title = r.Title + ": "
	}
	warm := ""
	if r.WarmUpS > 0 {
		warm = fmt.Sprintf(" after %.6g s of warm-up", r.WarmUpS)
	}
	t.Title("%srehearsal `%s`, %.6g s of traffic%s, seed %d, %s", title, r.Rehearsal, r.DurationS, warm, r.Seed, with)
	if v.Checked != "" {
		t.Line("%s", v.Checked)
	}
	if r.Incomplete {
		t.Line("%s: all of this is of the first %.3g s; nothing is written to --capture-out", t.bad("INTERRUPTED"), r.DurationS)
	}
}

// rows returns the rows of the traffic that are shown, and how many more there are.
func (v *View) rows(r *measure.Result) (rows []*measure.Row, left int) {
	most := maxRows
	if v.All {
		most = len(r.Traffic)
	}
	return r.WorstRows(v.shows, most)
}

// interfaces returns those whose tables are shown, those left out because there are many, and those with nothing to say.
func (v *View) interfaces(r *measure.Result) (shown, left, idle []*measure.Interface) {
	if len(v.At) == 0 && !v.All {
		return r.WorstInterfaces(maxInterfaces)
	}
	for i := range r.Interfaces {
		if f := &r.Interfaces[i]; v.at(f.Node+"/"+f.Interface, f.Direction) {
			shown = append(shown, f)
		}
	}
	return shown, nil, nil
}

// Only leaves in a result what was chosen.
func (v *View) Only(r *measure.Result) {
	if len(v.At)+len(v.Classes) > 0 {
		r.Only(v.at, v.shows)
	}
}

// at reports whether a place is among those chosen.
func (v *View) at(iface, direction string) bool {
	return len(v.At) == 0 || slices.Contains(v.At, iface) || slices.Contains(v.At, iface+" "+direction)
}

// shows reports whether a class is among those chosen: by its own name or by its path.
func (v *View) shows(class string) bool {
	if len(v.Classes) == 0 {
		return true
	}
	return slices.ContainsFunc(v.Classes, func(c string) bool { return class == c || strings.HasSuffix(class, "/"+c) })
}

// rate prints a rate, with packets a second where they were asked for.
func (v *View) rate(bps int64, pps float64) string {
	if !v.Packets {
		return humanize.Rate(bps)
	}
	return humanize.Rate(bps) + ", " + humanize.Digits(pps) + "/s"
}

func (t Text) traffic(r *measure.Result, v *View) {
	rows, left := v.rows(r)
	calls := slices.ContainsFunc(rows, func(r *measure.Row) bool { return r.Late != nil })
	t.Title("What the traffic met, from end to end (rates count IP bytes)")
	columns := []column{{"traffic", true}, {"class", true}, {"packets", false}, {"lost", false}}
	if calls {
		columns = append(columns, column{"late", false})
	}
	columns = append(columns, column{"offered", false}, column{"arrived", false}, column{"p50 delay", false}, column{"p99 delay", false}, column{"jitter", false})
	if calls {
		columns = append(columns, column{"MOS", false})
	}
	w := t.dense(t.grid(columns, nil)).without("jitter", "p50 delay", "packets", "offered")
	for _, row := range rows {
		jitter := "-"
		if row.Delay != nil {
			jitter = humanize.Milliseconds(row.JitterMs)
		}
		class := row.Class
		if class == "" {
			class = "-"
		}
		cells := table.Row{row.Title(), class, humanize.Count(row.SentPackets), lost(row)}
		if calls {
			cells = append(cells, lateOf(&row.TrafficFigures))
		}
		cells = append(cells, v.rate(row.OfferedBps, row.OfferedPps), v.rate(row.RateBps, row.RatePps), times(row.Delay, p50), times(row.Delay, p99), jitter)
		if calls {
			cells = append(cells, mos(row.MOS))
		}
		w.add(cells)
	}
	t.put(w)
	if left > 0 {
		t.Line("  the worst %d; %s less harmed: --all shows them", len(rows), humanize.Plural(left, "more row"))
	}
	t.Line("")
}

func lateOf(m *measure.TrafficFigures) string {
	if m.Late == nil {
		return "-"
	}
	return humanize.Ratio(*m.Late)
}

func mos(m *float64) string {
	if m == nil {
		return "-"
	}
	return fmt.Sprintf("%.2f", *m)
}

// hops writes what each traffic met at each place, where it was asked for.
func (t Text) hops(r *measure.Result, v *View) {
	if r.Hops == nil {
		return
	}
	t.Title("What each traffic met at each place on its way")
	w := t.grid([]column{{"traffic", true}, {"place", true}, {"class", true}, {"packets", false}, {"dropped", false}, {"why", true}, {"mean wait", false}, {"longest", false}}, nil)
	last := ""
	for i := range r.Hops {
		h := &r.Hops[i]
		if !v.shows(h.Class) || !v.at(h.Node+"/"+h.Interface, h.At) {
			continue
		}
		name := policy.Directed(h.Traffic, h.Direction == "reverse")
		shown := name
		if name == last {
			shown = ""
		}
		last = name
		place := h.Node + "/" + h.Interface + " " + h.At
		if h.At == "carrier" {
			place = h.Node + "/" + h.Interface + ", its carrier"
		}
		if h.At == "link" || h.At == "ring" {
			place = h.Node + "/" + h.Interface + ", its " + h.At
		}
		w.add(table.Row{shown, place, h.Class, humanize.Count(h.Packets), humanize.Count(h.Drops.Total()), Reasons(&h.Drops), humanize.Milliseconds(h.MeanMs), humanize.Milliseconds(h.MaxMs)})
	}
	t.put(w)
	t.Line("")
}

// Reasons names why packets were dropped.
func Reasons(d *measure.Drops) string {
	var words []string
	for _, k := range []struct {
		n    uint64
		word string
	}{{d.Policed, "policed"}, {d.QueueFull, "queue full"}, {d.Early, "early"}, {d.Blocked, "blocked"}, {d.Link, "lost on it"}, {d.TooLarge, "too large"}, {d.TooOld, "too old for the replay window"}, {d.Contract, "beyond the contract"}} {
		if k.n > 0 {
			words = append(words, k.word)
		}
	}
	return strings.Join(words, ", ")
}

func (t Text) interfaces(r *measure.Result, v *View) {
	shown, left, idle := v.interfaces(r)
	t.Title("What each interface did (rates count bytes as its framing says)")
	for _, f := range shown {
		t.oneInterface(r, f, v)
	}
	if len(left) > 0 {
		t.Line("  the worst %d; %s with fewer drops and shorter waits: %s", len(shown), humanize.Plural(len(left), "more interface"), places(left))
	}
	if len(idle) > 0 {
		t.Line("  Not shown (no policy, no drops): %s", places(idle))
	}
	if len(shown)+len(idle) == 0 {
		t.Line("  no packet came to any of them")
		t.Line("")
	}
	if len(left)+len(idle) > 0 {
		t.Line("  --all shows them, --at NODE/INTERFACE one")
		t.Line("")
	}
}

// places names interfaces, up to ten.
func places(list []*measure.Interface) string {
	var names []string
	for _, f := range list[:min(10, len(list))] {
		names = append(names, f.Node+"/"+f.Interface+" "+f.Direction)
	}
	if more := len(list) - len(names); more > 0 {
		return strings.Join(names, ", ") + fmt.Sprintf(" and %d more", more)
	}
	return humanize.List(names)
}

func (t Text) oneInterface(r *measure.Result, f *measure.Interface, v *View) {
	what := "plain FIFO"
	if f.PolicyAt != "" {
		what = "policy " + f.PolicyAt
		switch {
		case f.FromS > 0 && f.UntilS > 0:
			what += fmt.Sprintf(", from %.4g s to %.4g s", f.FromS, f.UntilS)
		case f.FromS > 0:
			what += fmt.Sprintf(", from %.4g s on", f.FromS)
		case f.UntilS > 0:
			what += fmt.Sprintf(", until %.4g s", f.UntilS)
		}
	}
	t.Line("  %s/%s %s: %s, rate %s, sent %s", f.Node, f.Interface, f.Direction, what, humanize.Rate(f.RateBps), humanize.Rate(f.SentBps))
	// A column of drops is there when something was dropped for its reason.
	type dropColumn struct {
		head string
		of   func(*measure.Drops) uint64
	}
	var dropColumns []dropColumn
	for _, d := range []dropColumn{
		{"policed", func(d *measure.Drops) uint64 { return d.Policed }},
		{"queue full", func(d *measure.Drops) uint64 { return d.QueueFull }},
		{"early", func(d *measure.Drops) uint64 { return d.Early }},
		{"blocked", func(d *measure.Drops) uint64 { return d.Blocked }},
	} {
		if slices.ContainsFunc(f.Classes, func(c measure.Class) bool { return d.of(&c.Drops) > 0 }) {
			dropColumns = append(dropColumns, d)
		}
	}
	columns := []column{{"class", true}, {"promised", false}, {"packets", false}, {"bytes", false}, {"offered", false}, {"sent", false}}
	if len(dropColumns) == 0 {
		columns = append(columns, column{"dropped", false})
	}
	for _, d := range dropColumns {
		columns = append(columns, column{d.head, false})
	}
	w := t.dense(t.grid(append(columns, column{"leaves as", true}, column{"max queue", false}, column{"p99 wait", false}), nil)).without("bytes", "leaves as", "packets", "max queue")
	for j := range f.Classes {
		c := &f.Classes[j]
		if !v.shows(c.Class) {
			continue
		}
		promised, wait := "-", "-"
		if c.PromisedBps != nil {
			promised = humanize.Rate(*c.PromisedBps)
		}
		if c.PerInstance {
			promised += " each"
		}
		if c.QueueDelay != nil {
			wait = humanize.Milliseconds(c.QueueDelay.P99)
		}
		row := table.Row{c.Class, promised, humanize.Count(c.OfferedPackets), humanize.Bytes(int64(c.OfferedBytes)),
			v.rate(c.OfferedBps, float64(c.OfferedPackets)/r.DurationS), v.rate(c.SentBps, float64(c.SentPackets)/r.DurationS)}
		if len(dropColumns) == 0 {
			row = append(row, "0")
		}
		for _, d := range dropColumns {
			row = append(row, humanize.Count(d.of(&c.Drops)))
		}
		w.add(append(row, leavesAs(c), humanize.Bytes(c.MaxQueueBytes), wait))
	}
	t.put(w)
	for j := range f.Classes {
		if c := &f.Classes[j]; v.shows(c.Class) {
			t.counters(c, r.DurationS)
		}
	}
	t.Line("")
}

// counters writes what was counted of an entry beyond its row.
func (t Text) counters(c *measure.Class, lasts float64) {
	if c.When != nil {
		t.presence(c.Class+" was", *c.When, lasts)
	}
	for _, l := range c.Limits {
		t.presence(c.Class+": its `"+l.Limit+"` was", l.Presence, lasts)
	}
	for i := range c.Fullness {
		f := &c.Fullness[i]
		never := slices.ContainsFunc(c.Limits, func(l measure.LimitPresence) bool { return l.Limit == f.Limit && l.HeldS == 0 })
		if c.OfferedPackets == 0 || never {
			continue
		}
		of := ""
		if f.Of != "" {
			of = ", of " + f.Of
		}
		if f.Ratio > 1 {
			t.Line("    %s: busiest second %s, above its `%s` of %s (burst)%s", c.Class, humanize.Rate(f.BusiestBps), f.Limit, humanize.Rate(f.RateBps), of)
		} else {
			t.Line("    %s: busiest second %s, %s of its `%s` of %s%s", c.Class, humanize.Rate(f.BusiestBps), humanize.Ratio(f.Ratio), f.Limit, humanize.Rate(f.RateBps), of)
		}
	}
	if m := c.Colors; m != nil && m.Yellow+m.Red > 0 {
		t.Line("    %s: metered %s green, %s yellow, %s red", c.Class, humanize.Count(m.Green), humanize.Count(m.Yellow), humanize.Count(m.Red))
	}
	if c.TooLarge > 0 {
		t.Line("    %s: %s larger than the burst of its policer, which drops or marks them all: raise the burst", c.Class, humanize.Plural(int(c.TooLarge), "packet"))
	}
	if c.Congested > 0 {
		t.Line("    %s: %s left with a congestion mark (ECN)", c.Class, humanize.Plural(int(c.Congested), "packet"))
	}
	t.instances(c)
}

// presence writes for how long a `when` held.
func (t Text) presence(what string, w measure.Presence, lasts float64) {
	switch {
	case w.HeldS == 0:
		t.Line("    %s never active (its condition was never true)", what)
	case w.Times == 1:
		t.Line("    %s active for %.1f s of %.4g s", what, w.HeldS, lasts)
	default:
		t.Line("    %s active for %.1f s of %.4g s, %d times", what, w.HeldS, lasts, w.Times)
	}
}

// instances writes the separate instances of an entry.
func (t Text) instances(c *measure.Class) {
	if c.Instances == nil {
		return
	}
	t.Line("    %s: %s at most at a time; those that were offered most:", c.Class, humanize.Plural(c.Instances.Max, "instance"))
	for _, i := range c.Instances.Top[:min(maxInstances, len(c.Instances.Top))] {
		t.Line("      %s: offered %s, sent %s, %s of %s dropped, waited %s on average and %s at most", i.Value, humanize.Rate(i.OfferedBps), humanize.Rate(i.SentBps),
			humanize.Count(i.Dropped), humanize.Plural(int(i.Offered), "packet"), humanize.Milliseconds(i.MeanMs), humanize.Milliseconds(i.MaxMs))
	}
	if c.Instances.Shared > 0 {
		t.Line("      %s shared one, because there were too many", humanize.Plural(int(c.Instances.Shared), "packet"))
	}
}

// leavesAs prints the markings of packets that left, at every layer.
func leavesAs(c *measure.Class) string {
	s := marks(c.Marks)
	if len(c.PCPs) > 0 {
		s += " pcp " + marks(c.PCPs)
	}
	if len(c.TCs) > 0 {
		s += " tc " + marks(c.TCs)
	}
	return s
}

// marks prints the most common markings of packets that left.
func marks(m map[string]uint64) string {
	names := make([]string, 0, len(m))
	for n := range m {
		names = append(names, n)
	}
	sort.Slice(names, func(a, b int) bool {
		return m[names[a]] > m[names[b]] || m[names[a]] == m[names[b]] && names[a] < names[b]
	})
	if len(names) > 3 {
		return strings.Join(names[:3], " ") + fmt.Sprintf(" +%d", len(names)-3)
	}
	if len(names) == 0 {
		return "-"
	}
	return strings.Join(names, " ")
}

func (t Text) links(r *measure.Result, v *View) {
	var shown []*measure.Link
	quiet := 0
	for i := range r.Links {
		l := &r.Links[i]
		switch {
		case !v.at(l.From, "out"):
		case v.All || l.Drops > 0 || l.Lost > 0 || l.QueueDelay != nil && len(r.Links) <= maxInterfaces:
			shown = append(shown, l)
		default:
			quiet++
		}
	}
	if len(shown) == 0 && quiet == 0 {
		return
	}
	lossy := slices.ContainsFunc(shown, func(l *measure.Link) bool { return l.Lost > 0 })
	if lossy {
		t.Title("Links: packets lost on the line, and the carrier's queue")
	} else {
		t.Title("Links slower than their interface: the carrier's queue")
	}
	if !v.All {
		slices.SortStableFunc(shown, func(a, b *measure.Link) int { return cmp.Compare(b.Drops, a.Drops) })
	}
	left := 0
	if !v.All && len(shown) > maxRows {
		shown, left = shown[:maxRows], len(shown)-maxRows
	}
	if len(shown) > 0 {
		columns := []column{{"from", true}, {"to", true}, {"carries", false}, {"carried", false}, {"drops", false}, {"p99 wait", false}}
		if lossy {
			columns = append(columns, column{"lost on it", false})
		}
		w := t.grid(columns, nil)
		for _, l := range shown {
			wait := "-"
			if l.QueueDelay != nil {
				wait = humanize.Milliseconds(l.QueueDelay.P99)
			}
			row := table.Row{l.From, l.To, humanize.Rate(l.SendsBps), humanize.Rate(l.CarriedBps), humanize.Count(l.Drops), wait}
			if lossy {
				row = append(row, humanize.Count(l.Lost))
			}
			w.add(row)
		}
		t.put(w)
	}
	if left > 0 {
		t.Line("  %s with fewer drops: --all shows them", humanize.Plural(left, "more carrier"))
	}
	if quiet > 0 {
		t.Line("  %s dropped nothing; --all shows them", humanize.Plural(quiet, "more link"))
	}
	t.Line("")
}

// contracts writes what carriers metered; in the short form, where they dropped or marked something.
func (t Text) contracts(r *measure.Result, v *View) {
	var shown []*measure.ContractUse
	for i := range r.Contracts {
		if c := &r.Contracts[i]; v.at(c.At, "out") && (v.All || c.Yellow+c.Red > 0) {
			shown = append(shown, c)
		}
	}
	if len(shown) == 0 {
		return
	}
	t.Title("Contracts: what the carriers metered, in packets")
	w := t.grid([]column{{"from", true}, {"marked", true}, {"rate", false}, {"burst", false}, {"offered", false}, {"green", false}, {"yellow", false}, {"red", false}, {"dropped", false}}, nil)
	for _, c := range shown {
		marked := "all"
		if len(c.DSCPs) > 0 {
			marked = strings.Join(c.DSCPs, " ")
		} else if len(r.Contracts) > 1 {
			marked = "others"
		}
		w.add(table.Row{c.At, marked, humanize.Rate(c.RateBps), humanize.Bytes(c.BurstBytes), humanize.Rate(c.OfferedBps), humanize.Count(c.Green), humanize.Count(c.Yellow), humanize.Count(c.Red), humanize.Count(c.Dropped)})
	}
	t.put(w)
	t.Line("")
}

// admissions writes how many calls were refused.
func (t Text) admissions(r *measure.Result) {
	for _, a := range r.Admissions {
		t.paragraph("", fmt.Sprintf("`%s`: %s of %s that arrived %s refused, with %d held at most. On average it is %s (Erlang B, %.3g erlangs).", a.Traffic, humanize.Count(a.Refused), humanize.Plural(a.Offered, "call"),
			map[bool]string{true: "was", false: "were"}[a.Refused == 1], a.Admit, humanize.Ratio(a.ErlangB), a.Erlangs))
	}
	if len(r.Admissions) > 0 {
		t.Line("")
	}
}

// captures writes what captures held and how much of them was sent; in the short form, only of one that was not sent whole.
func (t Text) captures(r *measure.Result, v *View) {
	for _, c := range r.Captures {
		if !v.detailed() && c.Replayed == c.Packets && c.Wild == 0 && c.NotRead == 0 && len(c.Skipped) == 0 {
			continue
		}
		var not []string
		for _, n := range []struct {
			count int64
			why   string
		}{{c.NotIP, "not IP"}, {c.Control, "of link control, which stays on its link"}, {c.Malformed, "with IP headers that cannot be read"}, {c.NoRoute, "to addresses in no subnet of the network"}, {c.OtherWay, "travelling the other way"}} {
			if n.count > 0 {
				not = append(not, humanize.Count(n.count)+" "+n.why)
			}
		}
		t.Line("The capture of `%s`: %s of %s packets were sent.", c.Name, humanize.Count(c.Replayed), humanize.Count(c.Packets))
		if c.ClosedLoop > 0 {
			t.Line("  In place of %s of TCP its conversations were at work, each with as many bytes: `%s-tcp`.", humanize.Count(c.ClosedLoop), c.Name)
		}
		for _, s := range c.Skipped {
			not = append(not, fmt.Sprintf("%s, which cannot be used (%s)", s.Why, humanize.Count(s.Count)))
		}
		if len(not) > 0 {
			t.Line("  Not sent: %s.", humanize.List(not))
		}
		if c.Wild > 0 {
			t.Line("  Sent at the time of the packet before, because their own times are more than a day away: %s.", humanize.Count(c.Wild))
		}
		if c.NotRead > 0 {
			t.Line("  The rehearsal ends before the capture: %s of the file was not read.", humanize.Ratio(c.NotRead))
		}
		t.Line("")
	}
}
