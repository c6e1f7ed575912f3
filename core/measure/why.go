package measure

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"imbrel.example/imbrel/core/datapath"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/words"
)

// Why says where and why an expectation failed: the place at which most of it happened.
type Why struct {
	Text      words.Fact `json:"text"`
	Node      string     `json:"node,omitempty"`
	Interface string     `json:"interface,omitempty"`
	Direction string     `json:"direction,omitempty"` // in, out, or after the interface: carrier or link
	Class     string     `json:"class,omitempty"`
	File      string     `json:"file,omitempty"`
	Line      int        `json:"line,omitempty"`
	Reason    string     `json:"reason"` // a key of drops, carrier, link, late, waiting, mark, offered or path
	// Cause is what dropped the packets or let them wait: police, at-most, block, priority, share, queue, early, fifo, carrier or
	// link. By is the entry whose policer, limit or block it was.
	Cause string `json:"cause,omitempty"`
	By    string `json:"by,omitempty"`
	// Also are causes that would do the same without the first: limits that are below what was offered too, or the others' traffic.
	Also        []Blame  `json:"also,omitempty"`
	LostPackets int64    `json:"lost_packets"`
	OfferedBps  *int64   `json:"offered_bps,omitempty"`
	PromisedBps *int64   `json:"promised_bps,omitempty"`
	Against     []string `json:"against"`
	Change      *Change  `json:"change,omitempty"`
	// NoChange says that a change of one number was looked for, and that there is none; Tried says how far.
	NoChange bool    `json:"no_change,omitempty"`
	Tried    []Tried `json:"tried,omitempty"`

	plan  *plan.Plan
	entry *plan.Entry
	marks []string // with which packets arrived
	first string   // the first class that took them; "": none, or they differ
}

// Culprit returns the policy in force at the place, nil when there is none, and the entry to blame,
// nil when packets waited at the carrier after it.
func (w *Why) Culprit() (*plan.Plan, *plan.Entry) { return w.plan, w.entry }

// A Blame is one more cause.
type Blame struct {
	Cause   string   `json:"cause"`
	By      string   `json:"by,omitempty"`
	Against []string `json:"against,omitempty"`
}

// Tried is a number of the file that was changed as far as a value, and made nothing hold.
type Tried struct {
	Path string `json:"path"`
	From string `json:"from"`
	To   string `json:"to"`
}

// A Change of one number of the file makes an expectation hold, and the others that failed for the same cause.
type Change struct {
	File string `json:"file"`
	Line int    `json:"line"`
	Path string `json:"path"` // policies.up.treat.voice.police.rate
	From string `json:"from"`
	To   string `json:"to"`
	// Least is the value from which on it holds: To goes beyond by a tenth of the change where that holds too. It is "" where To is what
	// check --fix writes.
	Least string `json:"least,omitempty"`
	// Breaks lists the expectations that held and then fail.
	Breaks []string `json:"breaks,omitempty"`
}

// The reasons of a Why that are no keys of drops.
const (
	byCarrier = "carrier"
	byLink    = "link"
	byLength  = "too_large"
	byRing    = "ring"
	byOrder   = "too_old"
	byLate    = "late"
	byWaiting = "waiting"
	byMark    = "mark"
	byOffer   = "offered"
	byPath    = "path"

	byContract = "contract"
)

func (w *Why) at(p policy.Place) {
	w.File, w.Line = p.File, p.Line
}

// place gives the why its place.
func (w *Why) place(p *Place) {
	w.Node, w.Interface, w.Direction, w.plan = p.Interface.Node.Name, p.Interface.Name, p.Direction.String(), p.Plan
	switch {
	case p.Ring:
		w.Direction = byRing
	case p.Link:
		w.Direction = byLink
	case p.Carrier:
		w.Direction = byCarrier
	}
}

// newWhy returns a why that knows the marks and the class of the packets that it is about.
func (m *Measures) newWhy(f *finding) *Why {
	w := &Why{Against: []string{}}
	classes := m.File.ClassNames()
	for i, t := range f.of {
		if first := classes[t.First]; i == 0 && first != policy.Rest {
			w.first = first
		} else if first != w.first {
			w.first = ""
		}
		for _, a := range t.arrived {
			w.marks = append(w.marks, a.dscp.Name())
		}
	}
	return w
}

// why says why an expectation of which something was measured failed.
func (m *Measures) why(r *Result, e *policy.Expectation, f *finding) *Why {
	w := m.newWhy(f)
	switch {
	case e.Versus != "":
		w.Reason = byOffer
		w.Text = words.RatioIs.With(string(e.Metric), e.Subject, f.value, e.Versus)
	case e.Where != nil:
		m.whyThere(w, r, e)
	case e.Metric == policy.Arrival:
		m.whyMark(w, e, f)
	case e.Metric.Row().OfTCP:
		m.whyTCP(w, r, e, f)
	case e.Metric == policy.MOS:
		m.whyMOS(w, r, e, f)
	case e.Metric.Row().Blame != policy.Losses:
		m.whySlow(w, r, e, f)
	case e.Metric != policy.Throughput || f.value < e.Limit:
		m.whyLost(w, r, e, f)
	default:
		m.whyFast(w, r, e, f)
	}
	return w
}

// SameCause reports whether two reasons name the same cause at the same place.
func (w *Why) SameCause(o *Why) bool {
	return w.Line != 0 && w.File == o.File && w.Line == o.Line && w.Node == o.Node && w.Interface == o.Interface && w.Direction == o.Direction && w.Class == o.Class
}

// whyAbsent says why there was nothing to measure.
func (m *Measures) whyAbsent(r *Result, e *policy.Expectation, f *finding) *Why {
	if len(f.of) == 0 {
		return nil
	}
	w := m.newWhy(f)
	m.whyLost(w, r, e, f)
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
	if n := narrows(e, f, hops, &s); n >= 0 {
		at = n
	}
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
	cause := m.cause(w, r, h, reasonOf(h), m.span(e, f.of))
	w.Text = words.WereLost.With(w.LostPackets, s.sent, where, m.Places[h.Place].Words(), w.Class, cause, max(0, w.LostPackets-h.Dropped()))
}

// narrows returns the first hop on the way after which the rate is below what an expectation asks for, or -1: it asks for no rate, or none is.
func narrows(e *policy.Expectation, f *finding, hops []Hop, s *sum) int {
	if e.Metric != policy.Throughput || !e.AtLeast() || s.received == 0 {
		return -1
	}
	left, each := s.sent, f.value/float64(s.received)
	return slices.IndexFunc(hops, func(h Hop) bool {
		left -= h.Dropped()
		return h.Dropped() > 0 && float64(left)*each < e.Limit
	})
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
	s, blame := add(f.of), e.Metric.Row().Blame
	w.LostPackets = s.sent - s.received
	weight := func(h *Hop) int64 { return int64(h.Slow()) }
	if blame == policy.Uneven {
		weight = func(h *Hop) int64 { return int64(h.Max) }
	}
	hops, at := most(f.of, weight)
	slow := int64(0)
	for _, t := range f.of {
		slow += t.slowed
	}
	if at < 0 || blame != policy.Uneven && slow == 0 {
		w.Reason = byPath
		if w.Text = words.PathTooSlow.With(time.Duration(s.delay.Statistic("mean"))); blame == policy.Uneven {
			w.Text = words.LengthsDiffer.With()
		}
		return
	}
	h := &hops[at]
	elsewhere := 0.0
	for i := range hops {
		if i != at {
			elsewhere += hops[i].Slow()
		}
	}
	mean := func(ns float64) time.Duration { return time.Duration(ns / float64(max(slow, 1))) }
	least := leastOf(f.of)
	if blame == policy.Waits && float64(least) > e.Limit {
		w.Reason = byPath
		w.Text = words.PathTooSlow.With(least)
		return
	}
	cause := m.cause(w, r, h, datapath.Passed, m.span(e, f.of))
	switch place := m.Places[h.Place].Words(); {
	case blame == policy.Uneven:
		w.Text = words.WaitsDiffer.With(place, w.Class, h.Max, cause)
	case blame == policy.Waits:
		w.Text = words.TookLonger.With(slow, s.received, mean(h.Slow()), place, w.Class, mean(elsewhere), cause)
	default:
		w.Reason = byLate
		w.Text = words.CameTooLate.With(s.late, s.received, mean(h.Slow()), place, w.Class, mean(elsewhere), cause)
	}
}

// leastOf returns the least that the way of some packets takes without any wait; 0: none arrived.
func leastOf(ts []*Tally) (least time.Duration) {
	for _, t := range ts {
		if t.least > 0 && (least == 0 || t.least < least) {
			least = t.least
		}
	}
	return least
}

// classAt returns what the interface of a place did with the packets of a slot, or nil.
func classAt(r *Result, p *Place, slot int32) (*Interface, *Class) {
	if r == nil {
		return nil, nil
	}
	for i := range r.Interfaces {
		f := &r.Interfaces[i]
		if f.place.Interface != p.Interface || f.place.Direction != p.Direction || f.place.Plan != p.Plan {
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

// written returns where the cause is written.
func (w *Why) written() policy.Place {
	if w.Line == 0 {
		return policy.Place{}
	}
	return policy.Place{File: w.File, Line: w.Line}
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
	if e := m.fell(p); e != nil {
		w.at(e.Source.At)
		return fellWords(e, p.Plan, w.written())
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
			left = append(left, words.MarkedAs.With(a.dscp.Name(), a.packets))
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
			row := HopRow{Traffic: c.names[way[0].Traffic], Direction: policy.DirectionOf(way[0].Reverse), Node: p.Interface.Node.Name, Interface: p.Interface.Name, At: p.Direction.String(), Packets: h.Packets,
				Drops: Drops{Policed: uint64(h.Drops(datapath.Policed)), QueueFull: uint64(h.Drops(datapath.QueueFull)), Early: uint64(h.Drops(datapath.Early)), Blocked: uint64(h.Drops(datapath.Blocked)), Link: uint64(h.Drops(datapath.OnLink)), TooLarge: uint64(h.Drops(datapath.Oversize)), TooOld: uint64(h.Drops(datapath.TooOld)), Contract: uint64(h.Drops(datapath.Exceeds))}}
			if p.Carrier {
				if row.At, row.Class = byCarrier, m.File.ClassNames()[h.Slot]; p.Link {
					row.At = byLink
				} else if p.Ring {
					row.At = byRing
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
