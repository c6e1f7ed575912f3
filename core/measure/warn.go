package measure

import (
	"slices"
	"strings"
	"time"

	"imbrel.example/imbrel/core/datapath"
	"imbrel.example/imbrel/core/meter"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/words"
)

// A Warning is what a rehearsal saw that makes its verdict worth less.
type Warning struct {
	Name  string     `json:"name"`  // stable
	Level string     `json:"level"` // "warning", or "note", which does not count
	Text  words.Fact `json:"text"`
	File  string     `json:"file"`
	Line  int        `json:"line"`

	of   string // the class it is about, where it is about one
	more int    // places of which the same is said
}

// The names of the warnings.
const (
	policyIdle       = "policy-idle"       // a policy saw no packet
	entryIdle        = "entry-idle"        // an entry took none
	whenIdle         = "when-idle"         // a `when` never held
	unclassified     = "unclassified"      // a direction of a call was in no class
	noPolicy         = "no-policy"         // a congested place without a policy
	contractExceeded = "contract-exceeded" // by what was sent
	shapeTooHigh     = "shape-above-link"  // the queue is the carrier's
	burstTooSmall    = "burst-too-small"   // red packets below the policer's rate
	limitTooSmall    = "limit-too-small"   // a full queue below the promise
	tooLong          = "too-large"         // packets longer than an interface sends
	openLoop         = "open-loop"         // replayed TCP lost packets and did not slow down
	mosScale         = "mos-scale"         // no standard has the codec's values
	callRuined       = "call-ruined"       // a call is worth little, and no expectation says so
	classLoses       = "class-loses"       // a class loses packets, and no expectation is about that
	notEnded         = "unfinished"        // requests did not end
)

// Warnings returns how many warnings there are, notes apart.
func (r *Result) WarningCount() int {
	return r.count("warning")
}

// NoteCount returns the number of notes.
func (r *Result) NoteCount() int { return r.count("note") }

func (r *Result) count(level string) (n int) {
	for _, w := range r.Warnings {
		if w.Level == level {
			n++
		}
	}
	return n
}

// warn adds a warning. What is said of one line twice is said once, with the count.
func (r *Result) warn(name, level string, at policy.Place, fact words.Fact) {
	r.warnOf("", name, level, at, fact)
}

// warnOf adds a warning about a class. Warnings of one line are merged for each class.
func (r *Result) warnOf(class, name, level string, at policy.Place, fact words.Fact) {
	for i := range r.Warnings {
		if w := &r.Warnings[i]; w.Name == name && w.of == class && w.File == at.File && w.Line == at.Line {
			w.more++
			return
		}
	}
	r.Warnings = append(r.Warnings, Warning{Name: name, Level: level, Text: fact, File: at.File, Line: at.Line, of: class})
}

// warn finds what makes the verdict worth less.
func (m *Measures) warn(r *Result) {
	r.Warnings = []Warning{}
	for i := range r.Oversize {
		r.tooLong(&r.Oversize[i])
	}
	if r.Policy {
		m.carriers(r)
		r.contracts()
		m.plainQueues(r)
		m.outsideClasses(r)
		m.tooSmall(r)
		m.idle(r)
		m.unjudged(r)
		m.exceeds(r)
	}
	for i := range m.Rehearsal.Traffic {
		if t := &m.Rehearsal.Traffic[i]; t.Kind == policy.Calls && t.Codec.Assumed != "" {
			r.warn(mosScale, "note", t.At, words.MOSOnNarrowScale.With(t.Name, t.Codec.Name, t.Codec.Assumed))
		}
	}
	for _, c := range r.Captures {
		if c.TCPLost > 0 {
			for i := range m.Rehearsal.Traffic {
				if t := &m.Rehearsal.Traffic[i]; t.Name == c.Name {
					r.warn(openLoop, "note", t.At, words.RecordedTCP.With(c.Name, c.TCPLost))
				}
			}
		}
	}
	for i := range r.Warnings {
		if w := &r.Warnings[i]; w.more > 0 {
			w.Text = words.AlsoAt.With(w.Text, w.more)
		}
	}
}

// attachedOtherwise names a policy at an interface, or at the far end of its link, in
// another direction than the one that is congested.
func attachedOtherwise(iface *policy.Interface, d policy.Direction) (*policy.Attachment, words.Fact) {
	if a := iface.Attached[1-d]; a != nil {
		return a, words.OtherDirection.With(a.Policy.Name, a.Direction)
	}
	if peer := iface.Peer(); peer != nil {
		for _, a := range peer.Attached {
			if a != nil {
				return a, words.FarEndAlone.With(a.Policy.Name, peer.Path(), a.Direction)
			}
		}
	}
	return nil, words.Fact{}
}

// carriers warns of queues at carriers.
func (m *Measures) carriers(r *Result) {
	for i := range r.Links {
		l := &r.Links[i]
		p := &l.place
		if p.Plan != nil && p.Plan.Shape > p.Plan.Carries && l.QueueDelay != nil {
			r.warn(shapeTooHigh, "warning", p.Plan.Policy.PlaceOf("shape"), words.ShapeAboveCarried.With(p.Plan.Policy.Name, p.Plan.Shape, p.Plan.Carries, p.Interface.Path()))
			continue
		}
		rate, framing, _ := p.Interface.Link.Ends[p.Interface.End].Carrier()
		full := float64(rate.Time(plan.FullPacket(framing))) / 1e6
		switch {
		case p.Plan == nil && l.Drops > 0 && (several(len(l.Classes), func(i int) bool { return l.Classes[i].Class != policy.Rest }) || m.callsLost(p)):
			a, otherwise := attachedOtherwise(p.Interface, policy.Out)
			at := p.Interface.Link.At
			if a != nil {
				at = a.At
			}
			r.warn(noPolicy, "warning", at, words.LinkDropped.With(p.Words(), ofClasses(l.Drops, linkClasses(l)), p.Interface.Path(), otherwise))
		case p.Plan != nil && (l.Drops > 0 || l.QueueDelay != nil && l.QueueDelay.P99 > 5*full):
			at, why := p.Plan.Policy.PlaceOf("shape"), words.Fact{}
			if e := m.fell(p); e != nil {
				if l.QueueDelay == nil || p.Plan.Policy.Follows {
					continue // for as long as the shape takes to follow
				}
				why = fellWords(e, p.Plan, policy.Place{})
			} else {
				why = notKept(p.Plan, policy.Place{})
			}
			r.warn(shapeTooHigh, "warning", at, words.QueuesAtCarrier.With(p.Interface.Path(), l.Drops, time.Duration(1e6*maxOf(l.QueueDelay)), why))
		}
	}
	// Incoming: a shape above what can arrive.
	for i := range r.Interfaces {
		if p := r.Interfaces[i].place.Plan; p != nil && p.Direction == policy.In && p.Shape > p.Carries {
			r.warn(shapeTooHigh, "warning", p.Policy.PlaceOf("shape"), words.ShapeNeverFills.With(p.Policy.Name, p.Shape, p.Carries, p.Interface.Path()))
		}
	}
}

// tooLong warns of packets that were longer than an interface sends.
func (r *Result) tooLong(o *Oversize) {
	at := o.place.Interface.PlaceOf("mtu")
	mtu, longest := unit.Size(o.MTUBytes), unit.Size(o.LongestBytes)
	if o.Dropped > 0 {
		told := words.SendersWereTold.With()
		level := "note"
		switch {
		case o.Untold == o.Dropped:
			told, level = words.NobodyTold.With(), "warning"
		case o.Untold > 0:
			told, level = words.SendersNotTold.With(o.Untold), "warning"
		}
		r.warn(tooLong, level, at, words.TooLongDropped.With(o.At, mtu, o.Dropped, longest, told))
	} else {
		r.warn(tooLong, "note", at, words.TooLongDivided.With(o.At, mtu, o.Fragmented, longest))
	}
}

// callsLost reports whether packets of calls were dropped at a place.
func (m *Measures) callsLost(p *Place) bool {
	for _, t := range m.Collectors[0].settled {
		if m.Rehearsal.Traffic[t.Traffic].Kind != policy.Calls {
			continue
		}
		for i := range t.hops {
			o := &m.Places[t.hops[i].Place]
			if t.hops[i].Dropped() > 0 && o.Interface == p.Interface && o.Direction == p.Direction && o.Carrier == p.Carrier && o.Link == p.Link {
				return true
			}
		}
	}
	return false
}

func maxOf(d *Milliseconds) float64 {
	if d == nil {
		return 0
	}
	return d.Max
}

// several reports whether there are at least two, or one that counts.
func several(n int, counts func(int) bool) bool {
	for i := range n {
		if counts(i) {
			return true
		}
	}
	return n > 1
}

func linkClasses(l *Link) []string {
	var names []string
	for _, c := range l.Classes {
		names = append(names, c.Class)
	}
	return names
}

// ofClasses counts the packets that a plain queue dropped, and names their classes.
func ofClasses(drops uint64, classes []string) words.Fact {
	switch {
	case len(classes) < 2: // it is for the calls that this is said
		return words.CallsAndAll.With(drops)
	case len(classes) > 4:
		return words.ManyClasses.With(drops, classes[:4], len(classes)-4)
	}
	return words.EveryClass.With(drops, classes)
}

// plainQueues warns of interfaces without a policy that dropped packets.
func (m *Measures) plainQueues(r *Result) {
	for i := range r.Interfaces {
		f := &r.Interfaces[i]
		if f.place.Plan != nil {
			continue
		}
		drops, names := uint64(0), []string{}
		for _, c := range f.Classes {
			drops += c.Drops.Total()
			names = append(names, c.Class)
		}
		if drops == 0 || !several(len(names), func(i int) bool { return names[i] != policy.Rest }) && !m.callsLost(&f.place) {
			continue
		}
		a, otherwise := attachedOtherwise(f.place.Interface, f.place.Direction)
		at := f.place.Interface.At
		if a != nil {
			at = a.At
		}
		r.warn(noPolicy, "warning", at, words.PlainDropped.With(f.place.Words(), ofClasses(drops, names), otherwise))
	}
}

// outsideClasses warns of directions of calls that are in no class of a policy anywhere,
// and of other traffic that meets no policy at all, if packets were lost or waited longer
// than a full packet takes. What plain queues dropped has a warning of its own.
func (m *Measures) outsideClasses(r *Result) {
	c := m.Collectors[0]
	byTraffic := make(map[int32][]*Tally)
	for _, t := range c.settled {
		byTraffic[t.Traffic] = append(byTraffic[t.Traffic], t)
	}
	for _, way := range ways(c.settled) {
		traffic := &m.Rehearsal.Traffic[way[0].Traffic]
		out := slices.DeleteFunc(slices.Clone(way), func(t *Tally) bool { return c.Sets.Named(t.In) })
		if traffic.Kind != policy.Calls {
			out = m.meetNone(way)
		}
		hops, at := most(out, func(h *Hop) int64 {
			if m.harmed(h) {
				return h.Dropped()*int64(time.Second) + int64(h.Max) + 1
			}
			return 0
		})
		if at < 0 || hops[at].Dropped() > 0 && r.warned(noPolicy) && m.Places[hops[at].Place].Plan == nil {
			continue
		}
		place, other := traffic.At, ""
		for _, t := range byTraffic[way[0].Traffic] {
			if t.Reverse != way[0].Reverse && c.Sets.Named(t.In) {
				if int(t.First) < len(m.File.Classes) {
					k := &m.File.Classes[t.First]
					place, other = k.Source.At, k.Name
				}
				break
			}
		}
		h := &hops[at]
		what := words.InNoClass
		if m.meetNone(way) != nil {
			what = words.MeetsNoPolicy
		}
		r.warn(unclassified, "warning", place, what.With(c.nameOf(way[0]), other, m.Places[h.Place].Words(), h.Dropped(), h.Max))
	}
}

// meetNone returns the tallies if nothing in them met a policy, and otherwise none.
func (m *Measures) meetNone(way []*Tally) []*Tally {
	for _, t := range way {
		for i := range t.hops {
			if p := &m.Places[t.hops[i].Place]; p.Plan != nil && !p.Carrier {
				return nil
			}
		}
	}
	return way
}

// warned reports whether there is a warning of a name.
func (r *Result) warned(name string) bool {
	return slices.ContainsFunc(r.Warnings, func(w Warning) bool { return w.Name == name })
}

// harmed reports whether packets were lost at a hop, or waited longer than a full packet
// takes to be sent there.
func (m *Measures) harmed(h *Hop) bool {
	p := &m.Places[h.Place]
	rate, framing := p.Interface.Rate, p.Interface.Framing
	switch {
	case p.Link:
		return false // no policy mends it
	case p.Carrier:
		rate, framing, _ = p.Interface.Link.Ends[p.Interface.End].Carrier()
	case p.Plan != nil:
		rate = p.Plan.Whole
	}
	return h.Dropped() > 0 || h.Max > rate.Time(plan.FullPacket(framing))
}

// tooSmall warns of bursts and limits that dropped packets of a class that was offered
// less than it may send.
func (m *Measures) tooSmall(r *Result) {
	closed := m.closedLoops()
	for i := range r.Interfaces {
		f := &r.Interfaces[i]
		if f.place.Plan == nil {
			continue
		}
		for j := range f.Classes {
			c := &f.Classes[j]
			e := c.seen.Entry
			if closed[occupant{f.place.Interface, f.place.Direction, c.seen.Slot}] > 0 {
				continue // TCP sends until something is full
			}
			if n := e.Meter; n != nil && n.Kind == policy.OneBucket && c.Colors != nil && c.Colors.Red > 0 && c.seen.BurstNeeded > int64(n.Burst) && c.seen.ActiveBps < int64(n.Rate) {
				treated, of, red := words.WereRed.With(), "", c.Colors.Red
				if n.Actions[meter.Red].Drop {
					treated = words.WerePoliced.With()
				}
				if c.seen.RedOf != "" {
					of, red = c.seen.RedOf, c.seen.Red
				}
				r.warn(burstTooSmall, "warning", e.Spec.PlaceOf("police"), words.BurstTooSmall.With(
					red, c.Class, of, f.place.Words(), treated, unit.Rate(c.seen.ActiveBps), n.Rate, n.Burst, unit.Size(roundUp(c.seen.BurstNeeded))))
			}
			promise := e.Promise
			if e.Priority > 0 {
				promise = e.Ceiling
			}
			if q := &e.Queue; e.Leaf() && c.Drops.QueueFull > 0 && c.seen.QueueNeeded > 0 && c.seen.ActiveBps < int64(promise) && q.Bytes > 0 && m.ownQueue(f, c) {
				need := roundUp(c.seen.QueueNeeded + 2*int64(f.place.Plan.MaxPacket))
				r.warn(limitTooSmall, "warning", e.Spec.PlaceOf("queue"), words.LimitTooSmall.With(
					c.Drops.QueueFull, c.Class, f.place.Words(), unit.Rate(c.seen.ActiveBps), promise, q.Bytes, unit.Size(need)))
			}
		}
	}
}

// ownQueue reports whether an entry's queue itself was too small: no upper limit held its packets back, and no class with
// priority took the promised rate.
func (m *Measures) ownQueue(f *Interface, c *Class) bool {
	h := m.hopAt(0, f, c)
	if h.culprit(datapath.QueueFull) >= 0 {
		return false
	}
	s := m.scene(f, c, h, datapath.QueueFull, m.span(&policy.Expectation{}, nil))
	urgent, _, _ := s.starved()
	return len(urgent) == 0
}

// roundUp rounds a number of bytes up to two digits.
func roundUp(n int64) int64 {
	scale := int64(1)
	for n/scale >= 100 {
		scale *= 10
	}
	return (n + scale - 1) / scale * scale
}

// An idle is something of the file that a rehearsal may have used.
type idle struct {
	Warning
	used bool
	busy bool // the policy, and the entry around, were used
}

// idle lists what of the policies the rehearsal used; what no rehearsal of the file
// used is warned of by Idle.
func (m *Measures) idle(r *Result) {
	seen := make(map[*plan.Plan]*Interface)
	for i := range r.Interfaces {
		if p := r.Interfaces[i].place.Plan; p != nil {
			seen[p] = &r.Interfaces[i]
		}
	}
	m.idlePolicies(r, seen)
	for i := range m.Quiet { // to which no packet came: a `when` may have held all the same
		seen[m.Quiet[i].place.Plan] = &m.Quiet[i]
	}
	m.idleEntries(r, seen)
}

func (m *Measures) idlePolicies(r *Result, seen map[*plan.Plan]*Interface) {
	busy := make(map[*policy.Attachment]bool)
	for p := range seen {
		busy[p.Interface.Attached[p.Direction]] = true
	}
	forward := make(map[Place]bool) // the places that packets of a forward direction came to
	for _, t := range m.Collectors[0].settled {
		for i := range t.hops {
			if p := m.Places[t.hops[i].Place]; !t.Reverse && !p.Carrier {
				forward[Place{Interface: p.Interface, Direction: p.Direction}] = true
			}
		}
	}
	used := make(map[*policy.Policy]bool) // attached, or inside one that is
	var mark func(p *policy.Policy)
	var within func(entries []policy.Entry)
	within = func(entries []policy.Entry) {
		for i := range entries {
			if e := &entries[i]; e.Within != nil {
				mark(e.Within)
			} else {
				within(e.Treat)
			}
		}
	}
	mark = func(p *policy.Policy) {
		if !used[p] {
			used[p] = true
			within(p.Treat)
		}
	}
	for i := 0; i < len(m.File.Attach); {
		first := &m.File.Attach[i]
		any, onlyAnswers, n := false, true, 0
		var places []string
		for ; i < len(m.File.Attach) && m.File.Attach[i].At == first.At; i++ {
			a := &m.File.Attach[i]
			mark(a.Policy)
			any = any || busy[a]
			onlyAnswers = onlyAnswers && (!busy[a] || m.onlyAnswers(a, forward))
			if n++; n <= 3 {
				places = append(places, a.Interface.Path()+" "+a.Direction.String())
			}
		}
		more := max(0, n-3)
		r.idle = append(r.idle, idle{Warning{Name: policyIdle, Level: "warning", Text: words.SawNoPacket.With(first.Policy.Name, places, more), File: first.At.File, Line: first.At.Line}, any, true},
			idle{Warning{Name: policyIdle, Level: "warning", Text: words.SawOnlyAnswers.With(first.Policy.Name, places, more), File: first.At.File, Line: first.At.Line}, !any || !onlyAnswers, true})
	}
	for i := range m.File.Rehearsals {
		for _, e := range m.File.Rehearsals[i].Events {
			if e.Attach != nil {
				mark(e.Attach.Policy)
			}
		}
	}
	for i := range m.File.Policies {
		if p := &m.File.Policies[i]; !used[p] {
			r.idle = append(r.idle, idle{Warning{Name: policyIdle, Level: "warning", Text: words.AttachedNowhere.With(p.Name), File: p.At.File, Line: p.At.Line}, false, true})
		}
	}
}

// onlyAnswers reports whether a policy saw only the way back of calls, and what they
// answer crosses its interface the other way without meeting a policy there or at the far
// end.
func (m *Measures) onlyAnswers(a *policy.Attachment, forward map[Place]bool) bool {
	iface, peer := a.Interface, a.Interface.Peer()
	if forward[Place{Interface: iface, Direction: a.Direction}] {
		return false
	}
	other := Place{Interface: iface, Direction: policy.Out}
	if a.Direction == policy.Out {
		if peer == nil {
			return false // what hosts send is not queued anywhere
		}
		other.Interface = peer
	}
	free := iface.Attached[1-a.Direction] == nil && (peer == nil || peer.Attached[a.Direction] == nil)
	return free && forward[other]
}

func (m *Measures) idleEntries(r *Result, seen map[*plan.Plan]*Interface) {
	var order []*idle
	items := make(map[any]*idle)
	note := func(key any, name string, text words.Fact, at policy.Place, policyBusy, used bool) {
		k := items[key]
		if k == nil {
			k = &idle{Warning: Warning{Name: name, Level: "warning", Text: text, File: at.File, Line: at.Line}}
			items[key] = k
			order = append(order, k)
		}
		k.used = k.used || used
		k.busy = k.busy || policyBusy
	}
	for i := range m.Places {
		p := m.Places[i].Plan
		if p == nil || m.Places[i].Carrier {
			continue
		}
		f := seen[p]
		for n, e := range p.Entries {
			took, held := false, map[string]bool{}
			if f != nil {
				c := &f.Classes[n]
				took = c.OfferedPackets > 0
				held[""] = c.When != nil && c.When.HeldS > 0
				for _, l := range c.Limits {
					held[l.Limit] = l.HeldS > 0
				}
			}
			policyBusy := f != nil && offered(f) && (e.Parent == nil || f.Classes[e.Parent.Number].OfferedPackets > 0)
			for i, w := range []*plan.When{e.When, atMostWhen(e), meterWhen(e), e.BlockWhen} {
				if w != nil {
					limit := datapath.Limit(i).String()
					never := words.EntryNeverHeld.With(e.Name, p.Policy.Name, w.Spec.Words())
					if limit != "" {
						never = words.LimitNeverHeld.With(limit, e.Name, p.Policy.Name, w.Spec.Words())
					}
					note(w.Spec, whenIdle, never, whenAt(w), policyBusy, held[limit])
				}
			}
			if e.Spec.ClassName.Text != policy.Rest && e.When == nil {
				note(e.Spec, entryIdle, words.NoPacketCame.With(e.Name, p.Policy.Name), e.Spec.At, policyBusy, took)
			}
		}
	}
	slices.SortStableFunc(order, func(a, b *idle) int {
		if a.File != b.File {
			return strings.Compare(a.File, b.File)
		}
		return a.Line - b.Line
	})
	for _, k := range order {
		r.idle = append(r.idle, *k)
	}
}

// offered reports whether any packet came to an interface.
func offered(f *Interface) bool {
	return slices.ContainsFunc(f.Classes, func(c Class) bool { return c.OfferedPackets > 0 })
}

// whenAt returns where a `when` is written.
func whenAt(w *plan.When) policy.Place {
	if w.Time != nil {
		return w.Spec.TimeName.At
	}
	return w.Spec.At
}

func atMostWhen(e *plan.Entry) *plan.When {
	if e.AtMost == nil {
		return nil
	}
	return e.AtMost.When
}

func meterWhen(e *plan.Entry) *plan.When {
	if e.Meter == nil {
		return nil
	}
	return e.Meter.When
}

// Idle warns, in the results of all rehearsals of a file with the policies in force, of
// the policies, entries and conditions that none of them used.
func Idle(results []*Result) {
	if len(results) == 0 {
		return
	}
	for i, it := range results[0].idle {
		used, busy := false, false
		for _, r := range results {
			used, busy = used || r.idle[i].used, busy || r.idle[i].busy
		}
		if !used && busy { // otherwise it is the policy, or the entry around, that is idle
			for _, r := range results {
				r.Warnings = append(r.Warnings, it.Warning)
			}
		}
	}
}
