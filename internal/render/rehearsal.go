package render

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"imbrel/core/measure"
)

// Rehearsal writes one result.
func (t Text) Rehearsal(r *measure.Result) {
	with := "with the policies in force"
	if !r.Policy {
		with = "without the policies, plain FIFO queues everywhere"
	}
	t.heading(r, with)
	t.traffic(r)
	t.interfaces(r)
	t.links(r)
	t.captures(r)
	t.expectations(r)
	t.verdict(r)
}

func (t Text) heading(r *measure.Result, with string) {
	title := ""
	if r.Title != "" {
		title = r.Title + ": "
	}
	t.Title("%srehearsal `%s`, %g s of traffic, seed %d", title, r.Rehearsal, r.DurationS, r.Seed)
	t.Line("%s", with)
	t.Line("")
}

func (t Text) traffic(r *measure.Result) {
	t.Title("What the traffic met, from end to end (rates count IP bytes)")
	w := t.grid([]column{{"traffic", true}, {"class", true}, {"packets", false}, {"lost", false}, {"offered", false}, {"arrived", false},
		{"p50 delay", false}, {"p99 delay", false}, {"jitter", false}, {"MOS", false}}, nil)
	for i := range r.Traffic {
		row := &r.Traffic[i]
		p50, p99, jitter := "-", "-", "-"
		if row.Delay != nil {
			p50, p99, jitter = ms(row.Delay.P50), ms(row.Delay.P99), ms(row.JitterMs)
		}
		w.AppendRow(table.Row{rowName(row), row.Class, count(row.SentPackets), ratio(row.Loss), Rate(row.OfferedBps), Rate(row.RateBps), p50, p99, jitter, mos(row.MOS)})
	}
	t.put(w)
	t.Line("")
}

func mos(m *float64) string {
	if m == nil {
		return "-"
	}
	return fmt.Sprintf("%.2f", *m)
}

func (t Text) interfaces(r *measure.Result) {
	t.Title("What each interface did (rates count bytes as its framing says)")
	for i := range r.Interfaces {
		f := &r.Interfaces[i]
		what := "plain FIFO"
		if f.PolicyAt != "" {
			what = "policy " + f.PolicyAt
		}
		t.Line("  %s/%s %s: %s, rate %s, sent %s", f.Node, f.Interface, f.Direction, what, Rate(f.RateBps), Rate(f.SentBps))
		early := slices.ContainsFunc(f.Classes, func(c measure.Class) bool { return c.Drops.Early > 0 })
		blocked := slices.ContainsFunc(f.Classes, func(c measure.Class) bool { return c.Drops.Blocked > 0 })
		columns := []column{{"class", true}, {"promised", false}, {"offered", false}, {"sent", false}, {"policed", false}, {"queue full", false}}
		if early {
			columns = append(columns, column{"early", false})
		}
		if blocked {
			columns = append(columns, column{"blocked", false})
		}
		w := t.grid(append(columns, column{"leaves as", true}, column{"max queue", false}, column{"p99 wait", false}), nil)
		for j := range f.Classes {
			c := &f.Classes[j]
			promised, wait := "-", "-"
			if c.PromisedBps != nil {
				promised = Rate(*c.PromisedBps)
			}
			if c.PerInstance {
				promised += " each"
			}
			if c.QueueDelay != nil {
				wait = ms(c.QueueDelay.P99)
			}
			row := table.Row{c.Class, promised, Rate(c.OfferedBps), Rate(c.SentBps), count(c.Drops.Policed), count(c.Drops.QueueFull)}
			if early {
				row = append(row, count(c.Drops.Early))
			}
			if blocked {
				row = append(row, count(c.Drops.Blocked))
			}
			w.AppendRow(append(row, leavesAs(c), bytes(c.MaxQueueBytes), wait))
		}
		t.put(w)
		for j := range f.Classes {
			t.counters(&f.Classes[j], r.DurationS)
		}
		t.Line("")
	}
}

// counters writes what was counted of an entry beyond its row.
func (t Text) counters(c *measure.Class, lasts float64) {
	if c.When != nil {
		t.presence(c.Class+": its `when`", *c.When, lasts)
	}
	for _, l := range c.Limits {
		t.presence(c.Class+": the `when` of its `"+l.Limit+"`", l.Presence, lasts)
	}
	if m := c.Colors; m != nil && m.Yellow+m.Red > 0 {
		t.Line("    %s: metered %s green, %s yellow, %s red", c.Class, count(m.Green), count(m.Yellow), count(m.Red))
	}
	if c.TooLarge > 0 {
		t.Line("    %s: %s larger than the burst of its policer, and always red: raise the burst", c.Class, plural(int(c.TooLarge), "packet"))
	}
	if c.Congested > 0 {
		t.Line("    %s: %s left with a congestion mark (ECN)", c.Class, plural(int(c.Congested), "packet"))
	}
	t.instances(c)
}

// presence writes for how long a `when` held.
func (t Text) presence(what string, w measure.Presence, lasts float64) {
	switch {
	case w.HeldS == 0:
		t.Line("    %s never held", what)
	case w.Times == 1:
		t.Line("    %s held for %.1f s of %.4g s", what, w.HeldS, lasts)
	default:
		t.Line("    %s held for %.1f s of %.4g s, in %d parts", what, w.HeldS, lasts, w.Times)
	}
}

// instances writes the separate instances of an entry.
func (t Text) instances(c *measure.Class) {
	if c.Instances == nil {
		return
	}
	t.Line("    %s: %s at most at a time; those that were offered most:", c.Class, plural(c.Instances.Most, "instance"))
	for _, i := range c.Instances.Top {
		t.Line("      %s: %s offered, %s dropped", i.Value, plural(int(i.Offered), "packet"), count(i.Dropped))
	}
	if c.Instances.Shared > 0 {
		t.Line("      %s shared one, because there were too many", plural(int(c.Instances.Shared), "packet"))
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

func (t Text) links(r *measure.Result) {
	if len(r.Links) == 0 {
		return
	}
	t.Title("What the carrier did where a link carries less than its interface sends")
	w := t.grid([]column{{"from", true}, {"to", true}, {"carries", false}, {"carried", false}, {"drops", false}, {"p99 wait", false}}, nil)
	for _, l := range r.Links {
		wait := "-"
		if l.QueueDelay != nil {
			wait = ms(l.QueueDelay.P99)
		}
		w.AppendRow(table.Row{l.From, l.To, Rate(l.SendsBps), Rate(l.CarriedBps), count(l.Drops), wait})
	}
	t.put(w)
	t.Line("")
}

func (t Text) captures(r *measure.Result) {
	for _, c := range r.Captures {
		var not []string
		for _, n := range []struct {
			count int64
			why   string
		}{{c.NotIP, "not IP"}, {c.Malformed, "with headers cut or contradicting each other"}, {c.NoRoute, "to addresses in no subnet of the network"}, {c.OtherWay, "travelling the other way"}} {
			if n.count > 0 {
				not = append(not, count(n.count)+" "+n.why)
			}
		}
		t.Line("The capture of `%s`: %s of %s packets were sent.", c.Name, count(c.Replayed), count(c.Packets))
		if len(not) > 0 {
			t.Line("  Not sent: %s.", list(not))
		}
		t.Line("")
	}
}

func (t Text) holds(o *measure.Outcome) string {
	if o.Holds {
		return t.good("holds")
	}
	return t.bad("FAILS")
}

// measured prints an outcome's value with its unit.
func measured(o *measure.Outcome) string {
	if o.Measured == nil {
		return o.Reason
	}
	switch v := *o.Measured; o.Unit {
	case "ms":
		return ms(v)
	case "%":
		return ratio(v / 100)
	case "packets":
		return plural(int(v), "packet")
	case "bit/s":
		return Rate(int64(v))
	default:
		return fmt.Sprintf("%.2f", v)
	}
}

func (t Text) expectations(r *measure.Result) {
	if len(r.Expectations) == 0 {
		return
	}
	t.Title("What was expected")
	w := t.grid([]column{{"expectation", true}, {"measured", false}, {"", true}}, nil)
	for i := range r.Expectations {
		o := &r.Expectations[i]
		w.AppendRow(table.Row{o.Text, measured(o), t.holds(o)})
	}
	t.put(w)
	t.Line("")
}

func failures(r *measure.Result) int {
	n := 0
	for _, o := range r.Expectations {
		if !o.Holds {
			n++
		}
	}
	return n
}

func (t Text) verdict(r *measure.Result) {
	switch n := len(r.Expectations); {
	case n == 0:
		t.Line("Verdict: none; the rehearsal expects nothing. Add lines under `expect`.")
	case r.Verdict == "pass":
		t.Line("Verdict: %s. %s.", t.good("PASS"), allHold(n))
	default:
		t.Line("Verdict: %s. %d of %s.", t.bad("FAIL"), failures(r), plural(n, "expectation")+" not met")
	}
}

func allHold(n int) string {
	if n == 1 {
		return "The expectation holds"
	}
	return fmt.Sprintf("All %d expectations hold", n)
}

// Both writes the runs without and with the policies side by side.
func (t Text) Both(without, with *measure.Result) {
	t.heading(with, "the same traffic twice: through plain FIFO queues, and with the policies in force")
	t.sideBySide(without, with)
	t.whereItQueued(without, with)
	t.captures(with)
	t.bothExpectations(without, with)
	t.Line("Without the policies: %s.", summary(without))
	t.verdict(with)
}

func (t Text) sideBySide(without, with *measure.Result) {
	t.Title("What the traffic met, from end to end (rates count IP bytes)")
	const a, b = "without the policies", "with the policies"
	w := t.grid([]column{{"traffic", true}, {"class", true}, {"│", true},
		{"lost", false}, {"arrived", false}, {"p99 delay", false}, {"MOS", false}, {"│", true},
		{"lost", false}, {"arrived", false}, {"p99 delay", false}, {"MOS", false}},
		[]string{"", " ", "│", a, a, a, a, "│ ", b, b, b, b})
	w.Style().Box.PaddingRight = " " // two runs side by side leave no room for more
	for i := range with.Traffic {
		r := &with.Traffic[i]
		row := table.Row{short(rowName(r), 24), short(r.Class, 16), "│"}
		row = append(row, met(find(without, r))...)
		row = append(row, "│")
		row = append(row, met(r)...)
		w.AppendRow(row)
	}
	t.put(w)
	t.Line("")
}

// rowName names a traffic in one direction.
func rowName(r *measure.Row) string {
	if r.Direction == "reverse" {
		return r.Name + " back"
	}
	return r.Name
}

// find returns the row of another run that is about the same packets.
func find(in *measure.Result, like *measure.Row) *measure.Row {
	for i := range in.Traffic {
		if r := &in.Traffic[i]; r.Name == like.Name && r.Direction == like.Direction && r.Class == like.Class {
			return r
		}
	}
	return nil
}

func met(r *measure.Row) table.Row {
	if r == nil {
		return table.Row{"-", "-", "-", "-"}
	}
	p99 := "-"
	if r.Delay != nil {
		p99 = ms(r.Delay.P99)
	}
	return table.Row{ratio(r.Loss), Rate(r.RateBps), p99, mos(r.MOS)}
}

// whereItQueued lists the places at which packets were dropped or waited long,
// in either run.
func (t Text) whereItQueued(without, with *measure.Result) {
	type place struct {
		drops [2]uint64
		wait  [2]float64
	}
	places := make(map[string]*place)
	var order []string
	note := func(run int, name string, drops uint64, wait *measure.Milliseconds) {
		p := places[name]
		if p == nil {
			p = &place{}
			places[name] = p
			order = append(order, name)
		}
		p.drops[run] += drops
		if wait != nil {
			p.wait[run] = max(p.wait[run], wait.Max)
		}
	}
	for run, r := range []*measure.Result{without, with} {
		for _, f := range r.Interfaces {
			for _, c := range f.Classes {
				note(run, f.Node+"/"+f.Interface+" "+f.Direction, c.Drops.Total(), c.QueueDelay)
			}
		}
		for _, l := range r.Links {
			note(run, "the carrier, "+l.From+" to "+l.To, l.Drops, l.QueueDelay)
		}
	}
	const a, b = "without the policies", "with the policies"
	w := t.grid([]column{{"place", true}, {"│", true}, {"drops", false}, {"longest wait", false}, {"│", true}, {"drops", false}, {"longest wait", false}},
		[]string{"", "│", a, a, "│ ", b, b})
	rows := 0
	for _, name := range order {
		p := places[name]
		if p.drops == [2]uint64{} && max(p.wait[0], p.wait[1]) < 2 {
			continue
		}
		rows++
		w.AppendRow(table.Row{name, "│", count(p.drops[0]), ms(p.wait[0]), "│", count(p.drops[1]), ms(p.wait[1])})
	}
	if rows == 0 {
		return
	}
	t.Title("Where packets waited or were dropped")
	t.put(w)
	t.Line("")
}

func (t Text) bothExpectations(without, with *measure.Result) {
	if len(with.Expectations) == 0 {
		return
	}
	t.Title("What was expected")
	w := t.grid([]column{{"expectation", true}, {"without", false}, {"", true}, {"with", false}, {"", true}}, nil)
	for i := range with.Expectations {
		a, b := &without.Expectations[i], &with.Expectations[i]
		w.AppendRow(table.Row{b.Text, measured(a), t.holds(a), measured(b), t.holds(b)})
	}
	t.put(w)
	t.Line("")
}

func summary(r *measure.Result) string {
	n := len(r.Expectations)
	switch bad := failures(r); bad {
	case 0:
		return strings.ToLower(allHold(n)[:1]) + allHold(n)[1:]
	default:
		return fmt.Sprintf("%d of %s fail", bad, plural(n, "expectation"))
	}
}
