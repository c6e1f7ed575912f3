package render

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/explain"
	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/policy"
)

// Answer writes a packet's route, hop by hop.
func (t Text) Answer(q *explain.Question, a *explain.Answer, why bool) {
	f := q.Flow
	ports := ""
	if f.FromPort != 0 {
		ports = fmt.Sprintf(", from port %d", f.FromPort)
	}
	if f.ToPort != 0 {
		ports += fmt.Sprintf(", to port %d", f.ToPort)
	}
	t.Title("%s to %s, %s%s, %d bytes, sent as %s", f.From, f.To, policy.ProtocolName(f.Protocol), ports, q.Length, explain.DSCP(q.DSCP))
	t.Line("")
	for i := range a.Hops {
		t.step(&a.Hops[i], why)
	}
	t.Line("")
	t.paragraph("", fmt.Sprintf("The packet %s.", a.Summary))
}

// step tells what happens at one place: one sentence, and the details under it.
func (t Text) step(s *explain.Step, why bool) {
	where := t.paint(fmt.Sprintf("%s/%s %s", s.Node, s.Interface, s.Direction), 1)
	detail := func(what string, said any) { t.paragraph(fmt.Sprintf("    %-8s ", what), fmt.Sprint(said)) }
	switch {
	case s.TooLong != nil && s.Policy == "" && !s.TooLong.Fragmented:
		t.Line("%s: %s, %s as it would leave, longer than the %s that the interface sends", where, t.bad("DROPPED"), humanize.Bytes(int64(s.TooLong.Length)), humanize.Bytes(int64(s.TooLong.MTU)))
		return
	case s.Policy == "" && s.Direction == "out":
		t.Line("%s: no policy, plain FIFO, %s", where, marksOf(s))
		t.around(s)
		return
	case s.Policy == "":
		t.Line("%s: no policy, %s", where, marksOf(s))
		t.around(s)
		return
	case s.Blocked:
		t.Line("%s: %s by class %s", where, t.bad("BLOCKED"), t.paint(s.Class, 1))
	case s.Policed:
		t.Line("%s: %s by the policer of class %s, whose burst holds no packet of this length", where, t.bad("DROPPED"), t.paint(s.Class, 1))
	default:
		t.Line("%s: class %s, %s", where, t.paint(s.Class, 1), marksOf(s))
	}
	line := ""
	if s.Line > 0 {
		line = fmt.Sprintf(", %s:%d", s.File, s.Line)
	}
	because := ""
	if !s.Because.IsZero() {
		because = ": " + s.Because.String()
	}
	detail("policy", s.Policy+line+because)
	if !s.Meter.IsZero() {
		detail("meter", s.Meter)
	}
	if !s.Queue.IsZero() {
		detail("queue", s.Queue)
	}
	for i, try := range s.Tried {
		what := "not in"
		if i > 0 {
			what = ""
		}
		if !why || len(try.Conditions) == 0 {
			detail(what, fmt.Sprintf("%s (line %d): %s", try.Class, try.Line, try.Reason))
			continue
		}
		detail(what, fmt.Sprintf("%s (line %d)", try.Class, try.Line))
		for _, c := range try.Conditions {
			t.paragraph("               ", c.String())
		}
	}
	t.around(s)
}

// around writes what is around the packet, and remarks.
func (t Text) around(s *explain.Step) {
	if s.Tunnel != "" {
		stack := ""
		if len(s.Labels) > 0 {
			stack = ", label stack with TC " + strings.Trim(strings.ReplaceAll(fmt.Sprint(s.Labels), " ", ", "), "[]")
		}
		if !s.Outer.IsZero() {
			stack = ", outer header " + s.Outer.String()
		}
		t.Line("    tunnel   leaves in %s%s", s.Tunnel, stack)
	}
	if f := s.TooLong; f != nil && f.Fragmented {
		t.paragraph("    length   ", fmt.Sprintf("leaves in fragments: as %s it is longer than the %s that the interface sends; up to %s it would fit", humanize.Bytes(int64(f.Length)), humanize.Bytes(int64(f.MTU)), humanize.Bytes(int64(f.Most))))
	}
	for _, n := range s.Notes {
		t.paragraph("    note     ", n.String())
	}
}

func point(name string) string {
	d, err := codepoint.ParseDSCP(name)
	if err != nil {
		return name
	}
	return explain.DSCP(d)
}

// marksOf prints the marks before and after.
func marksOf(s *explain.Step) string {
	in, out := s.MarksIn, s.MarksOut
	parts := []string{}
	if in.DSCP == out.DSCP {
		parts = append(parts, strings.ToUpper(in.DSCP)+" kept")
	} else {
		parts = append(parts, point(in.DSCP)+" → "+point(out.DSCP))
	}
	if in.VLAN != nil && out.VLAN != nil && *in.VLAN != *out.VLAN || (in.VLAN == nil) != (out.VLAN == nil) {
		parts = append(parts, "VLAN "+number(in.VLAN)+" → "+number(out.VLAN))
	}
	parts = append(parts, field("PCP", in.PCP, out.PCP)...)
	parts = append(parts, field("TC", in.TC, out.TC)...)
	return strings.Join(parts, "; ")
}

func number[T any](v *T) string {
	if v == nil {
		return "none"
	}
	return fmt.Sprint(*v)
}

func field(name string, in, out *uint8) []string {
	switch {
	case in == nil && out == nil:
		return nil
	case in != nil && out != nil && *in == *out:
		return []string{fmt.Sprintf("%s %d", name, *in)}
	}
	return []string{name + " " + number(in) + " → " + number(out)}
}

// Capture writes a capture explained.
func (t Text) Capture(name string, r *explain.CaptureResult, top int) {
	t.Title("%s: %s packets, %s of IP, %s", name, humanize.Count(r.Packets), humanize.Bytes(r.Bytes), humanize.Plural(len(r.Flows), "flow"))
	for i, a := range r.Attachments {
		if i == 0 {
			t.Line("")
			t.Line("The policies on the routes, by number:")
		}
		t.Line("  %d  %s", i+1, a)
	}
	t.Line("")
	t.totals(r)
	if len(r.Totals) > 0 {
		t.groups(r, top)
		t.captureNotes(r)
		return
	}
	shown := r.Flows
	if top > 0 && len(shown) > top {
		shown = shown[:top]
	}
	if len(r.Flows) == 0 {
		t.Line("No packet of it can be followed.")
	} else {
		t.Line("")
		t.Title("The flows with most bytes, and what each policy did")
		t.flows(r, shown)
	}
	if rest := len(r.Flows) - len(shown); rest > 0 {
		t.Line("  and %s; --top 0 shows all", humanize.Plural(rest, "more flow"))
	}
	t.Line("")
	t.captureNotes(r)
}

func (t Text) captureNotes(r *explain.CaptureResult) {
	if len(r.Notes) > 0 {
		t.Line("Notes:")
		for _, n := range r.Notes {
			t.Line("  %s", n)
		}
	}
}

// groups writes the sums of a capture, a table for each grouping.
func (t Text) groups(r *explain.CaptureResult, top int) {
	for _, g := range explain.Groupings {
		var list []explain.Total
		for _, k := range r.Totals {
			if k.By == g.Name {
				list = append(list, k)
			}
		}
		if len(list) == 0 {
			continue
		}
		shown := list
		if top > 0 && len(shown) > top {
			shown = shown[:top]
		}
		columns := []column{{g.Head, true}, {"bytes", false}, {"part", false}, {"packets", false}, {"mean", false}, {"busiest second", false}, {"at", false}}
		flows := list[0].Flows > 0
		if flows {
			columns = slices.Insert(columns, 4, column{"flows", false})
		}
		w := t.dense(t.grid(columns, nil)).without("packets", "flows", "at")
		for _, k := range shown {
			row := table.Row{humanize.Short(cmp.Or(k.Name, g.None), 46), humanize.Bytes(k.Bytes), humanize.Ratio(float64(k.Bytes) / float64(max(r.Bytes, 1))), humanize.Count(k.Packets), humanize.Rate(k.MeanBps), humanize.Rate(k.BusiestBps), fmt.Sprintf("%d s", k.BusiestAtS)}
			if flows {
				row = slices.Insert(row, 4, any(humanize.Count(k.Flows)))
			}
			w.add(row)
		}
		t.put(w)
		if left := len(list) - len(shown); left > 0 {
			t.Line("  and %d more; --top 0 shows all", left)
		}
		t.Line("")
	}
}

// A MarkRow is what becomes of a packet that is sent with one DSCP.
type MarkRow struct {
	Sent string `json:"sent"`
	*explain.Answer
}

// Marks writes what becomes of each DSCP at each hop: the class that takes the packet, and the mark that it leaves with. Codepoints
// of which the same becomes are one row.
func (t Text) Marks(q *explain.Question, rows []MarkRow) {
	t.Title("%s → %s, %s: what each policy does with each DSCP", q.Flow.From, q.Flow.To, policy.ProtocolName(q.Flow.Protocol))
	columns := []column{{"sent as", true}}
	for _, hop := range placesOf(rows) {
		columns = append(columns, column{hop, true})
	}
	w := t.grid(append(columns, column{"arrives as", true}), nil)
	type line struct{ sent, cells []string }
	var lines []*line
	for i := range rows {
		var cells []string
		for _, hop := range placesOf(rows) {
			j := slices.IndexFunc(rows[i].Hops, func(s explain.Step) bool { return placeOf(&s) == hop })
			if j < 0 { // it came no further
				cells = append(cells, "-")
				continue
			}
			s := &rows[i].Hops[j]
			cell := s.Class
			switch {
			case s.TooLong != nil && !s.TooLong.Fragmented:
				cell += "dropped: too long"
			case s.Blocked:
				cell += ": blocked"
			case s.Policed:
				cell += ": dropped by the policer"
			case s.MarksOut.DSCP != s.MarksIn.DSCP:
				cell += " → " + s.MarksOut.DSCP
			}
			cells = append(cells, cell)
		}
		arrives := "-"
		if a := rows[i].Arrives; a != nil {
			if arrives = a.DSCP; arrives == rows[i].Sent {
				arrives = "as sent"
			}
		}
		cells = append(cells, arrives)
		n := slices.IndexFunc(lines, func(l *line) bool { return slices.Equal(l.cells, cells) })
		if n < 0 {
			n = len(lines)
			lines = append(lines, &line{cells: cells})
		}
		lines[n].sent = append(lines[n].sent, rows[i].Sent)
	}
	slices.SortStableFunc(lines, func(a, b *line) int { return len(a.sent) - len(b.sent) }) // the exceptions first
	for i, l := range lines {
		sent := strings.Join(l.sent, " ")
		if i > 0 && i == len(lines)-1 && len(l.sent) > 8 {
			sent = fmt.Sprintf("the other %d", len(l.sent))
		}
		row := table.Row{sent}
		for _, c := range l.cells {
			row = append(row, c)
		}
		w.add(row)
	}
	t.put(w)
	t.Line("")
	t.Title("The queues of these classes")
	var said []string
	for i := range rows {
		for j := range rows[i].Hops {
			s := &rows[i].Hops[j]
			if text := fmt.Sprintf("%s, %s: %s", placeOf(s), s.Class, s.Queue); s.Policy != "" && s.Queue.String() != "" && !slices.Contains(said, text) {
				said = append(said, text)
			}
		}
	}
	slices.Sort(said)
	for _, text := range said {
		t.paragraph("  ", text)
	}
}

// placeOf names the place of a step.
func placeOf(s *explain.Step) string { return s.Node + "/" + s.Interface + " " + s.Direction }

// placesOf are the places with a policy on the way of packets, in their order.
func placesOf(rows []MarkRow) (out []string) {
	for i := range rows {
		for j := range rows[i].Hops {
			if s := &rows[i].Hops[j]; s.Policy != "" && !slices.Contains(out, placeOf(s)) {
				out = append(out, placeOf(s))
			}
		}
	}
	return out
}

// flows writes each flow, and below it what the policies on its route did.
func (t Text) flows(r *explain.CaptureResult, shown []explain.FlowResult) {
	w := t.grid([]column{{"bytes", false}, {"packets", false}, {"application", true}, {bare, true}}, nil)
	for i := range shown {
		f := &shown[i]
		w.add(table.Row{humanize.Bytes(f.Bytes), humanize.Count(f.Packets), appName(f), flowName(f)})
		var made []string
		for j := range f.At {
			at := &f.At[j]
			class := at.Class
			if len(at.Classes) > 1 {
				class = strings.Join(at.Classes, "+")
			}
			marks := strings.Join(at.DSCPIn, ",") + " → " + strings.Join(at.DSCPOut, ",")
			if slices.Equal(at.DSCPIn, at.DSCPOut) {
				marks = strings.Join(at.DSCPIn, ",") + " kept"
			}
			if len(at.DSCPOut) == 0 {
				marks = strings.Join(at.DSCPIn, ",")
			}
			marks += dropped(&at.Dropped, len(at.DSCPOut) == 0)
			made = append(made, fmt.Sprintf("%d: %s, %s", 1+slices.Index(r.Attachments, at.Interface+" "+at.Direction), class, marks))
		}
		if len(made) > 0 {
			w.add(table.Row{"", "", "", "  " + strings.Join(made, "   ")})
		}
	}
	t.put(w)
}

// dropped says how many packets are dropped, or that all are.
func dropped(d *explain.Dropped, all bool) string {
	say := func(n int64, what string) string {
		switch {
		case n == 0:
			return ""
		case all && n == d.Blocked+d.TooLarge:
			return ", " + what
		}
		return fmt.Sprintf(", %s %s", humanize.Count(n), what)
	}
	return say(d.Blocked, "blocked") + say(d.TooLarge, "too large for a policer's burst")
}

// appName prints a flow's application, and how it was recognised.
func appName(f *explain.FlowResult) string {
	name := orDash(humanize.Short(f.App, 20))
	if f.AppBy != "" && f.AppBy != "port" {
		name += " (" + f.AppBy + ")"
	}
	return name
}

func orDash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}

// flowName prints a flow in as few letters as it takes.
func flowName(f *explain.FlowResult) string {
	end := func(addr string, port uint16) string {
		if port == 0 {
			return addr
		}
		if strings.Contains(addr, ":") {
			return fmt.Sprintf("[%s]:%d", addr, port)
		}
		return fmt.Sprintf("%s:%d", addr, port)
	}
	s := fmt.Sprintf("%s %s → %s", f.Protocol, end(f.From, f.FromPort), end(f.To, f.ToPort))
	if f.ServerName != "" {
		s += " (" + f.ServerName + ")"
	}
	return s
}

func (t Text) totals(r *explain.CaptureResult) {
	if len(r.Classes) == 0 {
		return
	}
	t.Title("What each policy put into each class")
	sum, lost := make(map[string]int64), false
	for _, c := range r.Classes {
		sum[c.Interface+" "+c.Direction] += c.Bytes
		lost = lost || c.Dropped != explain.Dropped{}
	}
	columns := []column{{"policy at", true}, {"class", true}, {"packets", false}, {"bytes", false}, {"share", false}}
	if lost {
		columns = append(columns, column{"dropped", true})
	}
	w := t.grid(columns, nil)
	for _, c := range r.Classes {
		at := c.Interface + " " + c.Direction
		row := table.Row{at, c.Class, humanize.Count(c.Packets), humanize.Bytes(c.Bytes), humanize.Ratio(float64(c.Bytes) / float64(max(sum[at], 1)))}
		if lost {
			row = append(row, orDash(strings.TrimPrefix(dropped(&c.Dropped, c.Packets == c.Blocked+c.TooLarge), ", ")))
		}
		w.add(row)
	}
	t.put(w)
	t.Line("")
	t.fellToTheRest(r)
}

// fellToTheRest lists the applications of flows that no class took anywhere.
func (t Text) fellToTheRest(r *explain.CaptureResult) {
	sums := make(map[string]int64)
	var apps []string
	for i := range r.Flows {
		f := &r.Flows[i]
		for _, a := range f.At {
			if a.Class == policy.Rest {
				app := orDash(f.App)
				if _, known := sums[app]; !known {
					apps = append(apps, app)
				}
				sums[app] += f.Bytes
				break
			}
		}
	}
	if len(apps) == 0 {
		return
	}
	// The flows are sorted by bytes, so the first seen are not always the largest.
	for i := range apps {
		for j := i + 1; j < len(apps); j++ {
			if sums[apps[j]] > sums[apps[i]] {
				apps[i], apps[j] = apps[j], apps[i]
			}
		}
	}
	var words []string
	for _, a := range apps[:min(8, len(apps))] {
		name := a
		if a == "-" {
			name = "not recognised"
		}
		words = append(words, name+" "+humanize.Bytes(sums[a]))
	}
	t.Line("Unclassified at one hop or more, by application: %s.", strings.Join(words, ", "))
}

// AppJSON is the JSON of an application.
type AppJSON struct {
	Name        string   `json:"name"`
	TCP         []string `json:"tcp"`
	UDP         []string `json:"udp"`
	Protocols   []string `json:"protocols"`
	ServerNames []string `json:"server_names"`
	LooksLike   string   `json:"looks_like"`
	What        string   `json:"what"`
}

// AppsJSON returns the JSON of applications.
func AppsJSON(apps []policy.App) any {
	out := make([]AppJSON, 0, len(apps))
	for i := range apps {
		a := &apps[i]
		j := AppJSON{a.Name, ranges(a.TCP), ranges(a.UDP), []string{}, append([]string{}, a.ServerNames...), looks(a), a.What}
		for _, p := range a.Protocols {
			j.Protocols = append(j.Protocols, policy.ProtocolName(p))
		}
		out = append(out, j)
	}
	return struct {
		Apps []AppJSON `json:"apps"`
	}{out}
}

// looks returns what packets of an application look like, or "".
func looks(a *policy.App) string {
	if a.LooksLike == policy.LooksLikeRTP {
		return "rtp"
	}
	return ""
}

func ranges(rs []policy.Range) []string {
	out := []string{}
	for _, r := range rs {
		s := fmt.Sprint(r.First)
		if r.Last != r.First {
			s += fmt.Sprint("-", r.Last)
		}
		out = append(out, s)
	}
	return out
}

// Apps lists applications.
func (t Text) Apps(apps []policy.App) {
	w := t.grid([]column{{"application", true}, {"what it is", true}, {"TCP ports", true}, {"UDP ports", true}, {"otherwise", true}}, nil)
	for i := range apps {
		a := &apps[i]
		var other []string
		for _, p := range a.Protocols {
			other = append(other, "protocol "+policy.ProtocolName(p))
		}
		other = append(other, a.ServerNames...)
		if l := looks(a); l != "" {
			other = append(other, "looks like "+l)
		}
		what := a.What
		if what == "" {
			what = "of this file"
		}
		w.add(table.Row{a.Name, what, strings.Join(ranges(a.TCP), " "), strings.Join(ranges(a.UDP), " "), strings.Join(other, ", ")})
	}
	t.put(w)
}
