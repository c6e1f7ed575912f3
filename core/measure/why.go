package measure

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"imbrel/core/datapath"
	"imbrel/core/figure"
	"imbrel/core/meter"
	"imbrel/core/plan"
	"imbrel/core/policy"
	"imbrel/core/unit"
)

// Why says where and why an expectation failed: the place at which most of it happened.
type Why struct {
	Text        string   `json:"text"`
	Node        string   `json:"node,omitempty"`
	Interface   string   `json:"interface,omitempty"`
	Direction   string   `json:"direction,omitempty"` // in, out, or after the interface: carrier or link
	Class       string   `json:"class,omitempty"`
	File        string   `json:"file,omitempty"`
	Line        int      `json:"line,omitempty"`
	Reason      string   `json:"reason"` // a key of drops, carrier, link, late, waiting, mark, offered or path
	LostPackets int64    `json:"lost_packets"`
	OfferedBps  *int64   `json:"offered_bps,omitempty"`
	PromisedBps *int64   `json:"promised_bps,omitempty"`
	Against     []string `json:"against"`
	Change      *Change  `json:"change,omitempty"`
	// NoChange says that a change of one number was looked for, and that there is none.
	NoChange bool `json:"no_change,omitempty"`

	plan  *plan.Plan
	entry *plan.Entry
}

// Cause returns the policy in force at the place, nil when there is none, and its entry,
// nil when packets waited at the carrier after it.
func (w *Why) Cause() (*plan.Plan, *plan.Entry) { return w.plan, w.entry }

// A Change of one number of the file makes an expectation hold.
type Change struct {
	File string `json:"file"`
	Line int    `json:"line"`
	Path string `json:"path"` // policies.up.treat.voice.police.rate
	From string `json:"from"`
	To   string `json:"to"`
	// Breaks lists the expectations that held and then fail.
	Breaks []string `json:"breaks,omitempty"`
}

// The reasons of a Why that are no keys of drops.
const (
	byCarrier = "carrier"
	byLink    = "link"
	byLate    = "late"
	byWaiting = "waiting"
	byMark    = "mark"
	byOffer   = "offered"
	byPath    = "path"
)

func (w *Why) at(p policy.Place) {
	w.File, w.Line = p.File, p.Line
}

// place gives the why its place.
func (w *Why) place(p *Place) {
	w.Node, w.Interface, w.Direction, w.plan = p.Interface.Node.Name, p.Interface.Name, p.Direction.String(), p.Plan
	if p.Carrier {
		w.Direction = "carrier"
	}
	if p.Link {
		w.Direction = byLink
	}
}

// why says why an expectation of which something was measured failed.
func (m *Measures) why(r *Result, e *policy.Expectation, f *finding) *Why {
	w := &Why{Against: []string{}}
	switch {
	case e.Versus != "":
		w.Reason = byOffer
		w.Text = fmt.Sprintf("the %s of `%s` is %s times that of `%s`", e.Metric, e.Subject, figure.Digits(f.value), e.Versus)
	case e.Where != nil:
		m.whyThere(w, r, e)
	case e.Metric == policy.Arrival:
		m.whyMark(w, e, f)
	case isOfTCP(e.Metric):
		m.whyTCP(w, r, e, f)
	case e.Metric == policy.MOS || e.Metric == policy.Late || e.Metric == policy.Delay || e.Metric == policy.Jitter:
		m.whySlow(w, r, e, f)
	case e.Metric != policy.Throughput || f.value < e.Limit:
		m.whyLost(w, r, e, f)
	default:
		m.whyFast(w, f)
	}
	return w
}

// whyFast says what did not keep a rate lower.
func (m *Measures) whyFast(w *Why, f *finding) {
	w.Reason = byOffer
	s := add(f.of)
	w.Text = fmt.Sprintf("%s was offered, and %s arrived: ", figure.Rate(int64(s.wanted)), figure.Rate(int64(s.rate)))
	hops, at := most(f.of, func(h *Hop) int64 {
		if p := &m.Places[h.Place]; p.Plan == nil || p.Carrier || p.Direction == policy.In {
			return 0
		}
		return h.Packets
	})
	if at < 0 {
		w.Text += "no policy is on its way that could limit it"
		return
	}
	p := &m.Places[hops[at].Place]
	w.place(p)
	w.entry = p.Plan.Entries[hops[at].Slot]
	w.Class = w.entry.Name
	w.at(w.entry.Spec.At)
	limit := "has no limit"
	if w.entry.Bounded {
		limit = "lets up to " + rate(w.entry.Ceiling) + " pass"
	}
	w.Text += fmt.Sprintf("`%s`, in which most of it was at %s, %s%s", w.Class, p.Words(), limit, place(w))
}

// whyAbsent says why there was nothing to measure.
func (m *Measures) whyAbsent(e *policy.Expectation, f *finding) *Why {
	if len(f.of) == 0 {
		return nil
	}
	w := &Why{Against: []string{}}
	m.whyLost(w, nil, e, f)
	return w
}

// most returns the sums of the tallies' hops by place and slot, and the one with the
// highest weight.
func most(ts []*Tally, weight func(*Hop) int64) (all []Hop, at int) {
	sums := Tally{}
	for _, t := range ts {
		for i := range t.hops {
			sums.hop(i, t.hops[i].Place, t.hops[i].Slot).add(&t.hops[i])
		}
	}
	at = -1
	for i := range sums.hops {
		if n := weight(&sums.hops[i]); n > 0 && (at < 0 || n > weight(&sums.hops[at])) {
			at = i
		}
	}
	return sums.hops, at
}

// whyLost says where packets were lost.
func (m *Measures) whyLost(w *Why, r *Result, e *policy.Expectation, f *finding) {
	s := add(f.of)
	w.LostPackets = s.sent - s.received
	hops, at := most(f.of, (*Hop).Dropped)
	if at < 0 {
		w.Reason = byOffer
		w.Text = fmt.Sprintf("nothing of it was lost: only %s was offered", figure.Rate(int64(s.wanted)))
		return
	}
	h := &hops[at]
	where := "all at "
	if here := h.Dropped(); here < w.LostPackets {
		where = figure.Count(here) + " of them at "
	}
	rest := ""
	if elsewhere := w.LostPackets - h.Dropped(); elsewhere > 0 {
		rest = fmt.Sprintf("; %s elsewhere", figure.Count(elsewhere))
	}
	cause := m.cause(w, r, h, reasonOf(h))
	w.Text = fmt.Sprintf("%s of %s packets were lost, %s%s%s: %s%s", figure.Count(w.LostPackets), figure.Count(s.sent), where, m.Places[h.Place].Words(), inClass(w), cause, rest)
}

func inClass(w *Why) string {
	if w.Class == "" {
		return ""
	}
	return " in `" + w.Class + "`"
}

// reasonOf returns the reason for which most packets of a hop were dropped.
func reasonOf(h *Hop) datapath.Reason {
	reason := datapath.Passed
	for i := range datapath.Reasons {
		if h.Drops(i) > h.Drops(reason) {
			reason = i
		}
	}
	return reason
}

// whySlow says where packets waited that came too late.
func (m *Measures) whySlow(w *Why, r *Result, e *policy.Expectation, f *finding) {
	s := add(f.of)
	w.LostPackets = s.sent - s.received
	if e.Metric == policy.MOS && w.LostPackets > s.late {
		m.whyLost(w, r, e, f)
		return
	}
	weight := func(h *Hop) int64 { return int64(h.Slow) }
	if e.Metric == policy.Jitter {
		weight = func(h *Hop) int64 { return int64(h.Max) }
	}
	hops, at := most(f.of, weight)
	slow := int64(0)
	for _, t := range f.of {
		slow += t.slowed
	}
	if at < 0 || e.Metric != policy.Jitter && slow == 0 {
		w.Reason = byPath
		w.Text = fmt.Sprintf("no packet waited: the links and the codec alone take %s", figure.Milliseconds(s.delay.Statistic("mean")/1e6))
		return
	}
	h := &hops[at]
	elsewhere := 0.0
	for i := range hops {
		if i != at {
			elsewhere += hops[i].Slow
		}
	}
	mean := func(ns float64) float64 { return ns / float64(max(slow, 1)) / 1e6 }
	least := time.Duration(0)
	for _, t := range f.of {
		if t.least > 0 && (least == 0 || t.least < least) {
			least = t.least
		}
	}
	if e.Metric == policy.Delay && float64(least) > e.Limit {
		w.Reason = byPath
		w.Text = fmt.Sprintf("without any wait a packet takes %s: links and sending alone are too slow", figure.Milliseconds(float64(least)/1e6))
		return
	}
	cause := m.cause(w, r, h, datapath.Passed)
	switch place := m.Places[h.Place].Words() + inClass(w); {
	case e.Metric == policy.Jitter:
		w.Text = fmt.Sprintf("waits differ most at %s, by up to %s: %s", place, figure.Milliseconds(float64(h.Max)/1e6), cause)
	case e.Metric == policy.Delay:
		w.Text = fmt.Sprintf("%s of %s packets took longer; these waited %s at %s and %s elsewhere: %s", figure.Count(slow), figure.Count(s.received), figure.Milliseconds(mean(h.Slow)), place, figure.Milliseconds(mean(elsewhere)), cause)
	default:
		w.Reason = byLate
		w.Text = fmt.Sprintf("%s of %s packets came too late to be played; these waited %s at %s and %s elsewhere: %s", figure.Count(s.late), figure.Count(s.received), figure.Milliseconds(mean(h.Slow)), place, figure.Milliseconds(mean(elsewhere)), cause)
	}
}

// classAt returns what the interface of a place did with the packets of a slot, or nil.
func classAt(r *Result, p *Place, slot int32) (*Interface, *Class) {
	if r == nil {
		return nil, nil
	}
	for i := range r.Interfaces {
		f := &r.Interfaces[i]
		if f.place.Interface != p.Interface || f.place.Direction != p.Direction {
			continue
		}
		for j := range f.Classes {
			if f.Classes[j].seen.Slot == slot {
				return f, &f.Classes[j]
			}
		}
		return f, nil
	}
	return nil, nil
}

// cause says why packets were dropped, or waited, at a place.
func (m *Measures) cause(w *Why, r *Result, h *Hop, reason datapath.Reason) string {
	p := &m.Places[h.Place]
	w.place(p)
	w.Reason = reason.String()
	if reason == datapath.Passed {
		w.Reason = byWaiting
	}
	if p.Link {
		l := p.Interface.Link
		w.Reason = byLink
		if w.Class = ""; reason == datapath.Passed {
			w.at(l.PlaceOf("jitter"))
			return fmt.Sprintf("the jitter of the link is %s on average, which no policy mends%s", unit.FormatDuration(l.Jitter.Mean), place(w))
		}
		w.at(l.PlaceOf("loss"))
		return fmt.Sprintf("the link itself loses %.3g %% of the packets, which no policy mends%s", 100*l.Loss.Part, place(w))
	}
	if p.Carrier {
		w.Reason = byCarrier
		return m.carrierCause(w, r, p)
	}
	f, c := classAt(r, p, h.Slot)
	if c == nil {
		w.at(p.Interface.At)
		return "nothing is known of the queue there"
	}
	w.Class = c.Class
	w.OfferedBps, w.PromisedBps = &c.OfferedBps, c.PromisedBps
	w.Against = against(f, c)
	if p.Plan == nil {
		w.at(p.Interface.At)
		return "a plain FIFO of " + figure.Rate(int64(p.Interface.Rate)) + " treats every class alike" + beside(f, w.Against)
	}
	e := p.Plan.Entries[h.Slot]
	w.at(e.Spec.At)
	w.entry = e
	return causeOf(w, f, c, e, reason) + place(w)
}

// place returns the file and line of a why, to end a sentence.
func place(w *Why) string {
	if w.Line == 0 {
		return ""
	}
	return fmt.Sprintf(" (%s:%d)", w.File, w.Line)
}

// causeOf says why a policy's entry dropped packets or let them wait.
func causeOf(w *Why, f *Interface, c *Class, e *plan.Entry, reason datapath.Reason) string {
	promised := "is promised " + rate(e.Promise)
	if e.Priority > 0 {
		promised = fmt.Sprintf("has priority %d, up to %s", e.Priority, rate(e.Promise))
	}
	offered := figure.Rate(c.OfferedBps)
	switch reason {
	case datapath.Policed:
		o := e
		for o.Parent != nil && (o.Meter == nil || !o.Meter.Actions[meter.Red].Drop) {
			o = o.Parent
		}
		if o.Meter == nil {
			break
		}
		w.at(o.Spec.PlaceOf("police"))
		text := fmt.Sprintf("the policer lets %s with a burst of %s pass", rate(o.Meter.Rate), o.Meter.Burst)
		if o.Each != 0 {
			text += " for each " + o.Each.String()
		}
		if o == e && e.Each == 0 && c.OfferedBps < int64(o.Meter.Rate) && c.seen.BurstNeeded > int64(o.Meter.Burst) {
			return text + fmt.Sprintf("; it was offered %s on average, in bursts that need %s", offered, figure.Bytes(c.seen.BurstNeeded))
		}
		return text + ", and was offered " + offered
	case datapath.Blocked:
		w.at(e.Spec.PlaceOf("block"))
		return "the entry blocks it"
	case datapath.Early:
		w.at(e.Spec.PlaceOf("queue"))
		return fmt.Sprintf("its queue drops early (%s); it was offered %s and %s%s", e.Queue.Drop, offered, promised, beside(f, w.Against))
	}
	what := "its queue was full"
	if reason == datapath.Passed {
		what = "it waited in its queue"
	}
	if n := e.AtMost; n != nil && n.When == nil && c.OfferedBps > int64(n.Rate) && e.Each == 0 {
		w.at(e.Spec.PlaceOf("at-most"))
		return fmt.Sprintf("%s: it was offered %s and may send at most %s", what, offered, rate(n.Rate))
	}
	if c.OfferedBps < int64(e.Promise) && c.seen.QueueNeeded > 0 && e.Queue.Bytes > 0 && reason == datapath.QueueFull {
		w.at(e.Spec.PlaceOf("queue"))
		return fmt.Sprintf("%s of %s: it was offered %s, less than the %s promised, in bursts that need %s", what, figure.Bytes(int64(e.Queue.Bytes)), offered, rate(e.Promise), figure.Bytes(c.seen.QueueNeeded))
	}
	return fmt.Sprintf("%s: it was offered %s and %s%s", what, offered, promised, beside(f, w.Against))
}

func rate(r unit.Rate) string { return figure.Rate(int64(r)) }

// carrierCause says why packets queued at the carrier.
func (m *Measures) carrierCause(w *Why, r *Result, p *Place) string {
	sends, against := "", ""
	if r != nil {
		for i := range r.Links {
			if l := &r.Links[i]; l.place.Interface == p.Interface {
				sends = figure.Rate(l.SendsBps)
				classes := slices.Clone(l.Classes)
				slices.SortStableFunc(classes, func(a, b LinkClass) int { return cmp.Compare(b.CarriedBps, a.CarriedBps) })
				var words []string
				for _, c := range classes[:min(3, len(classes))] {
					w.Against = append(w.Against, c.Class)
					words = append(words, c.Class+" "+figure.Rate(c.CarriedBps))
				}
				against = "; it carried " + figure.List(words)
			}
		}
	}
	if p.Plan == nil {
		w.at(p.Interface.Link.At)
		return fmt.Sprintf("the carrier's plain FIFO of %s treats every class alike%s", sends, against)
	}
	w.at(p.Plan.Policy.PlaceOf("shape"))
	return notKept(p.Plan) + place(w)
}

// notKept says why packets queue at the carrier after a policy.
func notKept(p *plan.Plan) string {
	switch _, framing, _ := p.Interface.Link.Ends[p.Interface.End].Carrier(); {
	case p.Shape == 0:
		return fmt.Sprintf("the policy `%s` has no shape, and the link carries %s where the interface sends %s", p.Policy.Name, p.Carries, p.Rate)
	case p.Shape > p.Carries:
		return fmt.Sprintf("the shape of %s is above the %s that the link carries", p.Shape, p.Carries)
	case framing != p.Framing:
		return fmt.Sprintf("the shape of %s counts bytes as %s, and the carrier's %s counts %s", p.Shape, p.Framing.Name, p.Carries, framing.Name)
	}
	return fmt.Sprintf("the shape of %s leaves no room below the %s that the link carries", p.Shape, p.Carries)
}

// against returns the other classes that an interface sent, most first: up to three,
// none within another.
func against(f *Interface, own *Class) []string {
	var others []*Class
	for i := range f.Classes {
		c := &f.Classes[i]
		leaf := c.seen.Entry == nil || c.seen.Entry.Leaf()
		if c != own && leaf && c.SentBps > f.SentBps/100 {
			others = append(others, c)
		}
	}
	slices.SortStableFunc(others, func(a, b *Class) int { return cmp.Compare(b.SentBps, a.SentBps) })
	names := []string{}
	for _, c := range others[:min(3, len(others))] {
		names = append(names, c.Class)
	}
	return names
}

// beside names what an interface sent of other classes.
func beside(f *Interface, against []string) string {
	var words []string
	for _, name := range against {
		for i := range f.Classes {
			if f.Classes[i].Class == name {
				words = append(words, name+" "+figure.Rate(f.Classes[i].SentBps))
			}
		}
	}
	if len(words) == 0 {
		return ""
	}
	return "; beside it went " + figure.List(words)
}

// whyThere says why an expectation at an interface failed.
func (m *Measures) whyThere(w *Why, r *Result, e *policy.Expectation) {
	f := interfaceAt(r, e)
	w.place(&f.place)
	classes := classesAt(f, e.Subject)
	if len(classes) == 0 {
		return
	}
	c := slices.MaxFunc(classes, func(a, b *Class) int { return cmp.Compare(a.OfferedPackets, b.OfferedPackets) })
	for i := range f.Classes { // the innermost that most of it went through
		if o := &f.Classes[i]; strings.HasPrefix(o.Class, c.Class+"/") && o.Drops.Total()*2 > c.Drops.Total() && c.Drops.Total() > 0 {
			c = o
		}
	}
	w.Class, w.OfferedBps, w.PromisedBps, w.Against = c.Class, &c.OfferedBps, c.PromisedBps, against(f, c)
	w.LostPackets = int64(c.Drops.Total())
	entry := c.seen.Entry
	if f.place.Plan == nil {
		entry = nil
	}
	if w.entry = entry; entry != nil {
		w.at(entry.Spec.At)
	} else {
		w.at(f.place.Interface.At)
	}
	reason := datapath.Passed
	for i, n := range []uint64{0, c.Drops.Policed, c.Drops.QueueFull, c.Drops.Early, c.Drops.Blocked} {
		if n > 0 && (reason == datapath.Passed || n > w.drops(c, reason)) {
			reason = datapath.Reason(i)
		}
	}
	w.Reason = reason.String()
	if reason == datapath.Passed {
		w.Reason = byWaiting
	}
	cause := "a plain FIFO of " + figure.Rate(int64(f.place.Interface.Rate)) + " treats every class alike" + beside(f, w.Against)
	if entry != nil {
		cause = causeOf(w, f, c, entry, reason) + place(w)
	}
	switch e.Metric {
	case policy.Marking:
		w.Reason = byMark
		var left []string
		for _, name := range sortedMarks(c.Marks) {
			left = append(left, fmt.Sprintf("%s as %s", figure.Plural(int(c.Marks[name]), "packet"), name))
		}
		w.Text = "left " + figure.List(left) + place(w)
	case policy.Throughput:
		if e.AtMost() {
			w.Reason = byOffer
			w.Text = fmt.Sprintf("`%s` was offered %s, and no limit there kept it lower%s", c.Class, figure.Rate(c.OfferedBps), place(w))
			return
		}
		if w.LostPackets == 0 {
			w.Reason = byOffer
			w.Text = fmt.Sprintf("only %s came to `%s`, and nothing of it was lost there%s", figure.Rate(c.OfferedBps), c.Class, place(w))
			return
		}
		fallthrough
	case policy.Drops:
		w.Text = fmt.Sprintf("%s of %s packets of `%s` were dropped: %s", figure.Count(w.LostPackets), figure.Count(c.OfferedPackets), c.Class, cause)
	default:
		w.Text = fmt.Sprintf("`%s`: %s", c.Class, cause)
	}
}

func (w *Why) drops(c *Class, reason datapath.Reason) uint64 {
	return [...]uint64{0, c.Drops.Policed, c.Drops.QueueFull, c.Drops.Early, c.Drops.Blocked}[reason]
}

// sortedMarks returns the markings, the most common first.
func sortedMarks(m map[string]uint64) []string {
	var names []string
	for n := range m {
		names = append(names, n)
	}
	slices.SortFunc(names, func(a, b string) int { return cmp.Or(cmp.Compare(m[b], m[a]), strings.Compare(a, b)) })
	return names
}

// whyMark says with which marks packets arrived, and what marked them last.
func (m *Measures) whyMark(w *Why, e *policy.Expectation, f *finding) {
	w.Reason = byMark
	var left []string
	for _, t := range f.of {
		for _, a := range t.arrived {
			left = append(left, fmt.Sprintf("%s as %s", figure.Plural(int(a.packets), "packet"), a.dscp.Name()))
		}
	}
	w.Text = "arrived " + figure.List(left)
	var last *plan.Entry
	for _, t := range f.of {
		for i := range t.hops {
			p := &m.Places[t.hops[i].Place]
			if p.Plan == nil || p.Carrier {
				continue
			}
			for o := p.Plan.Entries[t.hops[i].Slot]; o != nil; o = o.Parent {
				if o.Spec.Mark != nil {
					last = o
					w.place(p)
					w.Class = o.Name
					w.at(o.Spec.PlaceOf("mark"))
					break
				}
			}
		}
	}
	if last == nil {
		w.Text += "; no policy on the way marks it"
		return
	}
	w.Text += fmt.Sprintf("; `%s` marks it last, at %s/%s %s%s", last.Name, w.Node, w.Interface, w.Direction, place(w))
}

// A HopRow is what one traffic met in one direction at one place.
type HopRow struct {
	Traffic   string  `json:"traffic"`
	Direction string  `json:"direction"`
	Node      string  `json:"node"`
	Interface string  `json:"interface"`
	At        string  `json:"at"` // in, out, carrier or link
	Class     string  `json:"class"`
	Packets   int64   `json:"packets"`
	Drops     Drops   `json:"drops"`
	MeanMs    float64 `json:"mean_wait_ms"`
	MaxMs     float64 `json:"max_wait_ms"`
}

// HopRows returns a row for each traffic, direction, place and class there, in the order
// of the way.
func (m *Measures) HopRows(r *Result) []HopRow {
	rows := []HopRow{}
	c := m.Collectors[0]
	for _, way := range ways(c.settled) {
		hops, _ := most(way, func(*Hop) int64 { return 0 })
		far := distances(way)
		slices.SortFunc(hops, func(a, b Hop) int {
			return cmp.Or(cmp.Compare(far[a.Place], far[b.Place]), cmp.Compare(a.Place, b.Place), cmp.Compare(a.Slot, b.Slot))
		})
		for i := range hops {
			h := &hops[i]
			p := &m.Places[h.Place]
			row := HopRow{Traffic: c.names[way[0].Traffic], Direction: "forward", Node: p.Interface.Node.Name, Interface: p.Interface.Name, At: p.Direction.String(), Packets: h.Packets,
				Drops: Drops{Policed: uint64(h.Drops(datapath.Policed)), QueueFull: uint64(h.Drops(datapath.QueueFull)), Early: uint64(h.Drops(datapath.Early)), Blocked: uint64(h.Drops(datapath.Blocked)), Link: uint64(h.Drops(datapath.OnLink))}}
			if way[0].Reverse {
				row.Direction = "reverse"
			}
			if p.Carrier {
				if row.At, row.Class = byCarrier, m.File.ClassNames()[h.Slot]; p.Link {
					row.At = byLink
				}
			} else if _, k := classAt(r, p, h.Slot); k != nil {
				row.Class = k.Class
			}
			if passed := h.Packets - h.Dropped(); passed > 0 {
				row.MeanMs, row.MaxMs = inMilliseconds(h.Wait/float64(passed)), inMilliseconds(float64(h.Max))
			}
			rows = append(rows, row)
		}
	}
	return rows
}

// distances returns how many other places packets pass before each, at most.
func distances(way []*Tally) map[int32]int {
	far := make(map[int32]int)
	for _, t := range way {
		passed := make(map[int32]bool)
		for i := range t.hops {
			if p := t.hops[i].Place; !passed[p] {
				far[p] = max(far[p], len(passed))
				passed[p] = true
			}
		}
	}
	return far
}
