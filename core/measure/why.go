package measure

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"imbrel/core/datapath"
	"imbrel/core/meter"
	"imbrel/core/plan"
	"imbrel/core/policy"
	"imbrel/core/unit"
	"imbrel/core/words"
)

// Why says where and why an expectation failed: the place at which most of it happened.
type Why struct {
	Text        words.Fact `json:"text"`
	Node        string     `json:"node,omitempty"`
	Interface   string     `json:"interface,omitempty"`
	Direction   string     `json:"direction,omitempty"` // in, out, or after the interface: carrier or link
	Class       string     `json:"class,omitempty"`
	File        string     `json:"file,omitempty"`
	Line        int        `json:"line,omitempty"`
	Reason      string     `json:"reason"` // a key of drops, carrier, link, late, waiting, mark, offered or path
	LostPackets int64      `json:"lost_packets"`
	OfferedBps  *int64     `json:"offered_bps,omitempty"`
	PromisedBps *int64     `json:"promised_bps,omitempty"`
	Against     []string   `json:"against"`
	Change      *Change    `json:"change,omitempty"`
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
		w.Text = words.RatioIs.With(string(e.Metric), e.Subject, f.value, e.Versus)
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
	because := func(why words.Fact) { w.Text = words.TooFast.With(unit.Rate(s.wanted), unit.Rate(s.rate), why) }
	hops, at := most(f.of, func(h *Hop) int64 {
		if p := &m.Places[h.Place]; p.Plan == nil || p.Carrier || p.Direction == policy.In {
			return 0
		}
		return h.Packets
	})
	if at < 0 {
		because(words.NoLimitOnWay.With())
		return
	}
	p := &m.Places[hops[at].Place]
	w.place(p)
	w.entry = p.Plan.Entries[hops[at].Slot]
	w.Class = w.entry.Name
	w.at(w.entry.Spec.At)
	limit := words.HasNoLimit.With()
	if w.entry.Bounded {
		limit = words.LetsPass.With(w.entry.Ceiling)
	}
	because(words.MostlyIn.With(w.Class, p.Words(), limit, w.written()))
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
		w.Text = words.NothingLost.With(unit.Rate(s.wanted))
		return
	}
	h := &hops[at]
	where := words.AllAtPlace.With()
	if here := h.Dropped(); here < w.LostPackets {
		where = words.SomeAtPlace.With(here)
	}
	cause := m.cause(w, r, h, reasonOf(h))
	w.Text = words.WereLost.With(w.LostPackets, s.sent, where, m.Places[h.Place].Words(), w.Class, cause, max(0, w.LostPackets-h.Dropped()))
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
		w.Text = words.NoneWaited.With(time.Duration(s.delay.Statistic("mean")))
		return
	}
	h := &hops[at]
	elsewhere := 0.0
	for i := range hops {
		if i != at {
			elsewhere += hops[i].Slow
		}
	}
	mean := func(ns float64) time.Duration { return time.Duration(ns / float64(max(slow, 1))) }
	least := time.Duration(0)
	for _, t := range f.of {
		if t.least > 0 && (least == 0 || t.least < least) {
			least = t.least
		}
	}
	if e.Metric == policy.Delay && float64(least) > e.Limit {
		w.Reason = byPath
		w.Text = words.PathTooSlow.With(least)
		return
	}
	cause := m.cause(w, r, h, datapath.Passed)
	switch place := m.Places[h.Place].Words(); {
	case e.Metric == policy.Jitter:
		w.Text = words.WaitsDiffer.With(place, w.Class, h.Max, cause)
	case e.Metric == policy.Delay:
		w.Text = words.TookLonger.With(slow, s.received, mean(h.Slow), place, w.Class, mean(elsewhere), cause)
	default:
		w.Reason = byLate
		w.Text = words.CameTooLate.With(s.late, s.received, mean(h.Slow), place, w.Class, mean(elsewhere), cause)
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
func (m *Measures) cause(w *Why, r *Result, h *Hop, reason datapath.Reason) words.Fact {
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
			return words.LinkJitters.With(l.Jitter.Mean, w.written())
		}
		w.at(l.PlaceOf("loss"))
		return words.LinkLoses.With(words.Percentage(100*l.Loss.Part), w.written())
	}
	if p.Carrier {
		w.Reason = byCarrier
		return m.carrierCause(w, r, p)
	}
	f, c := classAt(r, p, h.Slot)
	if c == nil {
		w.at(p.Interface.At)
		return words.QueueUnknown.With()
	}
	w.Class = c.Class
	w.OfferedBps, w.PromisedBps = &c.OfferedBps, c.PromisedBps
	w.Against = against(f, c)
	if p.Plan == nil {
		w.at(p.Interface.At)
		return words.PlainFIFO.With(p.Interface.Rate, beside(f, w.Against))
	}
	e := p.Plan.Entries[h.Slot]
	w.at(e.Spec.At)
	w.entry = e
	return causeOf(w, f, c, e, reason)
}

// written returns where the cause is written.
func (w *Why) written() policy.Place {
	if w.Line == 0 {
		return policy.Place{}
	}
	return policy.Place{File: w.File, Line: w.Line}
}

// causeOf says why a policy's entry dropped packets or let them wait.
func causeOf(w *Why, f *Interface, c *Class, e *plan.Entry, reason datapath.Reason) words.Fact {
	promised := words.PromisedRate.With(e.Promise)
	if e.Priority > 0 {
		promised = words.PriorityRate.With(e.Priority, e.Promise)
	}
	offered := unit.Rate(c.OfferedBps)
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
		each := ""
		if o.Each != 0 {
			each = o.Each.String()
		}
		if o == e && e.Each == 0 && c.OfferedBps < int64(o.Meter.Rate) && c.seen.BurstNeeded > int64(o.Meter.Burst) {
			return words.PolicerBursts.With(o.Meter.Rate, o.Meter.Burst, offered, unit.Size(c.seen.BurstNeeded), w.written())
		}
		return words.PolicerLets.With(o.Meter.Rate, o.Meter.Burst, each, offered, w.written())
	case datapath.Blocked:
		w.at(e.Spec.PlaceOf("block"))
		return words.EntryBlocks.With(w.written())
	case datapath.Early:
		w.at(e.Spec.PlaceOf("queue"))
		return words.DropsEarly.With(e.Queue.Drop, offered, promised, beside(f, w.Against), w.written())
	}
	what := words.QueueFull.With()
	if reason == datapath.Passed {
		what = words.WaitedInQueue.With()
	}
	if n := e.AtMost; n != nil && n.When == nil && c.OfferedBps > int64(n.Rate) && e.Each == 0 {
		w.at(e.Spec.PlaceOf("at-most"))
		return words.AboveAtMost.With(what, offered, n.Rate, w.written())
	}
	if c.OfferedBps < int64(e.Promise) && c.seen.QueueNeeded > 0 && e.Queue.Bytes > 0 && reason == datapath.QueueFull {
		w.at(e.Spec.PlaceOf("queue"))
		return words.BurstsInQueue.With(e.Queue.Bytes, offered, e.Promise, unit.Size(c.seen.QueueNeeded), w.written())
	}
	return words.AbovePromise.With(what, offered, promised, beside(f, w.Against), w.written())
}

// carrierCause says why packets queued at the carrier.
func (m *Measures) carrierCause(w *Why, r *Result, p *Place) words.Fact {
	sends := unit.Rate(0)
	var against []words.Fact
	if r != nil {
		for i := range r.Links {
			if l := &r.Links[i]; l.place.Interface == p.Interface {
				sends = unit.Rate(l.SendsBps)
				classes := slices.Clone(l.Classes)
				slices.SortStableFunc(classes, func(a, b LinkClass) int { return cmp.Compare(b.CarriedBps, a.CarriedBps) })
				for _, c := range classes[:min(3, len(classes))] {
					w.Against = append(w.Against, c.Class)
					against = append(against, words.ClassRate.With(c.Class, unit.Rate(c.CarriedBps)))
				}
			}
		}
	}
	if p.Plan == nil {
		w.at(p.Interface.Link.At)
		return words.CarrierFIFO.With(sends, against)
	}
	w.at(p.Plan.Policy.PlaceOf("shape"))
	return notKept(p.Plan, w.written())
}

// notKept says why packets queue at the carrier after a policy.
func notKept(p *plan.Plan, at policy.Place) words.Fact {
	switch _, framing, _ := p.Interface.Link.Ends[p.Interface.End].Carrier(); {
	case p.Shape == 0:
		return words.NoShapeHere.With(p.Policy.Name, p.Carries, p.Rate, at)
	case p.Shape > p.Carries:
		return words.ShapeAbove.With(p.Shape, p.Carries, at)
	case framing != p.Framing:
		return words.ShapeFraming.With(p.Shape, p.Framing.Name, p.Carries, framing.Name, at)
	}
	return words.ShapeNoRoom.With(p.Shape, p.Carries, at)
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
func beside(f *Interface, against []string) (out []words.Fact) {
	for _, name := range against {
		for i := range f.Classes {
			if f.Classes[i].Class == name {
				out = append(out, words.ClassRate.With(name, unit.Rate(f.Classes[i].SentBps)))
			}
		}
	}
	return out
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
	cause := words.PlainFIFO.With(f.place.Interface.Rate, beside(f, w.Against))
	if entry != nil {
		cause = causeOf(w, f, c, entry, reason)
	}
	switch e.Metric {
	case policy.Marking:
		w.Reason = byMark
		var left []words.Fact
		for _, name := range sortedMarks(c.Marks) {
			left = append(left, words.MarkedAs.With(c.Marks[name], name))
		}
		w.Text = words.LeftAs.With(left, w.written())
	case policy.Throughput:
		if e.AtMost() {
			w.Reason = byOffer
			w.Text = words.NotKeptLower.With(c.Class, unit.Rate(c.OfferedBps), w.written())
			return
		}
		if w.LostPackets == 0 {
			w.Reason = byOffer
			w.Text = words.OnlyCame.With(unit.Rate(c.OfferedBps), c.Class, w.written())
			return
		}
		fallthrough
	case policy.Drops:
		w.Text = words.WereDropped.With(w.LostPackets, c.OfferedPackets, c.Class, cause)
	default:
		w.Text = words.ClassCause.With(c.Class, cause)
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
	var left []words.Fact
	for _, t := range f.of {
		for _, a := range t.arrived {
			left = append(left, words.MarkedAs.With(a.packets, a.dscp.Name()))
		}
	}
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
		w.Text = words.ArrivedAs.With(left)
		return
	}
	w.Text = words.ArrivedMarked.With(left, last.Name, w.Node+"/"+w.Interface+" "+w.Direction, w.written())
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
