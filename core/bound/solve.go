package bound

import (
	"cmp"
	"slices"
	"time"

	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/words"
)

// maxRounds is how often the stations of a circle are computed. Each time their bounds hold, and get no worse.
const maxRounds = 8

// solve computes the bounds of all stations, each after those that its packets come from. In a circle of stations,
// the first round reckons with the rates of the links, and each later round with the bounds of the round before.
func (n *network) solve() {
	order, circle := n.order()
	for _, s := range circle {
		s.circle = s.around(circle)
	}
	for round := 1; ; round++ {
		changed := false
		for _, s := range order {
			changed = n.compute(s) || changed
		}
		if len(circle) == 0 || !changed || round == maxRounds {
			return
		}
	}
}

// around returns the names of the circle that a station is in, or behind: it is found by going back from it.
func (s *station) around(circle []*station) (names []string) {
	var way []*station
	for at := s; ; {
		if i := slices.Index(way, at); i >= 0 {
			for _, o := range way[i:] {
				names = append(names, o.name())
			}
			slices.Reverse(names)
			return names
		}
		way = append(way, at)
		next := at
		for _, v := range at.visits {
			if v.prev != nil && slices.Contains(circle, v.prev) {
				next = v.prev
				break
			}
		}
		at = next
	}
}

// order returns the stations in the order in which packets come to them; last those that are in a circle, or behind one.
func (n *network) order() (order, circle []*station) {
	before := make(map[*station]int)
	after := make(map[*station][]*station)
	for _, s := range n.stations {
		seen := make(map[*station]bool)
		for _, v := range s.visits {
			if p := v.prev; p != nil && !seen[p] {
				seen[p] = true
				before[s]++
				after[p] = append(after[p], s)
			}
		}
	}
	for _, s := range n.stations {
		if before[s] == 0 {
			order = append(order, s)
		}
	}
	for i := 0; i < len(order); i++ {
		for _, s := range after[order[i]] {
			if before[s]--; before[s] == 0 {
				order = append(order, s)
			}
		}
	}
	for _, s := range n.stations {
		if before[s] > 0 {
			circle = append(circle, s)
		}
	}
	return append(order, circle...), circle
}

// compute computes the arrivals and the delays of a station, and reports whether a delay changed.
func (n *network) compute(s *station) (changed bool) {
	s.arrives()
	entries := []*plan.Entry{nil}
	if s.plan != nil {
		entries = s.plan.Entries
	}
	all := slices.ContainsFunc(s.visits, func(v *visit) bool { return v.anyClass })
	was := s.queues
	s.queues = make(map[*plan.Entry]*classQueue)
	var order []*classQueue
	for _, e := range entries {
		if e != nil && !e.Leaf() {
			continue
		}
		if q := n.gathers(s, e, all); q != nil {
			s.queues[e] = q
			order = append(order, q)
		}
	}
	var t *tree
	if s.plan != nil {
		t = newTree(s)
	}
	for _, q := range order {
		s.serve(q, t)
	}
	for _, v := range s.visits {
		if v.number < 0 || v.anyClass {
			continue
		}
		if q := s.queues[v.entry]; q != nil {
			before := v.leaveMax
			v.result = s.wait(v, q)
			v.finish(q)
			changed = changed || v.leaveMax != before
		}
	}
	for _, q := range order {
		s.leaves(q)
		if w := was[q.entry]; w == nil || w.delay != q.delay {
			changed = true
		}
	}
	return changed
}

// arrives computes how long the packets of each visit took so far.
func (s *station) arrives() {
	for _, v := range s.visits {
		if v.number < 0 {
			continue
		}
		v.serviceMin = 0
		if s.line > 0 {
			v.serviceMin = timeOf(v.minBits, s.maxLine) - 1
		}
		if s.carrier && s.maxLine > s.line { // it may be no slower than the interface for a time
			v.serviceMin = 0
		}
		if v.number == 0 {
			continue
		}
		p := v.flow.visits[v.number-1]
		v.arriveMin = p.arriveMin + p.serviceMin + p.linkDelay
		most := p.result.Max
		if p.anyClass {
			most = p.at.worst(p)
		}
		if v.prev.computed() {
			if v.arriveMax = p.leaveMax; p.anyClass {
				v.arriveMax = later(p.arriveMax, most)
			}
			v.arriveMax = later(v.arriveMax, later(p.linkDelay, p.linkJitter))
			v.jitter = later(p.jitter, later(most, p.linkJitter))
			if v.jitter != Never {
				v.jitter -= p.serviceMin
			}
		} else {
			v.arriveMax, v.jitter = Never, Never
		}
	}
}

// computed reports whether a station was computed.
func (s *station) computed() bool { return len(s.queues) > 0 }

// worst returns how long a packet waits that may be in any queue.
func (s *station) worst(v *visit) (most time.Duration) {
	for _, q := range s.queues {
		most = max(most, q.delay)
	}
	return most
}

// gathers returns the queue of an entry, or of a plain FIFO, with its arrivals; nil: it has none.
func (n *network) gathers(s *station, e *plan.Entry, all bool) *classQueue {
	type group struct {
		prev  *station
		entry *plan.Entry
	}
	q := &classQueue{entry: e, offered: Nothing()}
	sums := make(map[group]Curve)
	var order []group
	ratios := make(map[*station]int64)
	found := false
	for _, v := range s.visits {
		if v.entry != e && !v.anyClass {
			continue
		}
		found = true
		q.flows++
		q.anyClass = q.anyClass || v.anyClass
		if q.minBits == 0 || v.minBits < q.minBits {
			q.minBits = v.minBits
		}
		q.maxBits = max(q.maxBits, v.maxBits)
		g := group{prev: v.prev}
		if v.number > 0 && !v.flow.visits[v.number-1].anyClass {
			g.entry = v.flow.visits[v.number-1].entry
		}
		own := v.comes()
		if !own.Finite() && q.unbound.IsZero() {
			q.unbound = v.flow.send.why
		}
		if one := instance(v, e); one != nil {
			own = own.Min(one...)
		}
		if sum, known := sums[g]; known {
			sums[g] = sum.Add(own)
		} else {
			sums[g] = own
			order = append(order, g)
		}
		if v.prev != nil {
			ratios[v.prev] = max(ratios[v.prev], v.grows())
		}
	}
	if !found && !all {
		return nil
	}
	from := make(map[*station]Curve)
	var stations []*station
	for _, g := range order {
		sum := sums[g]
		if g.prev == nil {
			q.offered = q.offered.Add(sum)
			continue
		}
		if p := g.prev.queues[g.entry]; p != nil && !p.anyClass {
			sum = sum.Min(p.out.Shift(n.varies(g.prev, s)).Scale(ratios[g.prev], perMille)...)
		}
		if have, known := from[g.prev]; known {
			from[g.prev] = have.Add(sum)
		} else {
			from[g.prev] = sum
			stations = append(stations, g.prev)
		}
	}
	for _, p := range stations {
		if p.keeps && s.carrier { // it is never sent more than it carries
			from[p] = from[p].Min(Curve{{plus(p.credit, p.maxPacket), min(p.maxRate, s.rate)}}.Scale(ratios[p], perMille)...)
		}
		q.offered = q.offered.Add(from[p].Min(p.out.Shift(n.varies(p, s)).Scale(ratios[p], perMille)...))
	}
	q.arrivals = q.offered
	for o := e; o != nil; o = o.Parent {
		q.arrivals = q.arrivals.Min(policed(o)...)
	}
	return q
}

// varies returns by how much the time between two stations varies.
func (n *network) varies(from, to *station) time.Duration {
	if to.carrier {
		return 0
	}
	_, varies := n.takes(from.iface)
	return varies
}

// perMille is the unit in which sizes in two framings are compared.
const perMille = 1000

// grows returns by how much, in thousandths, a packet of a visit counts for more than where it was before, at most.
func (v *visit) grows() int64 {
	if v.number <= 0 {
		p := v.prev
		most := int64(0)
		for length := 20; length <= 120; length++ { // overhead counts most for the shortest; cells, where they are filled least
			most = max(most, wide(int64(v.at.framing.Size(length, 0)), perMille).over(int64(p.framing.Size(length, 0))))
		}
		return most
	}
	p := v.flow.visits[v.number-1]
	return max(wide(v.maxBits, perMille).over(p.maxBits), wide(v.minBits, perMille).over(p.minBits))
}

// comes returns what bounds the packets of a visit: what their sender sends, and the policers that they have passed.
func (v *visit) comes() Curve {
	jitter := v.jitter
	if v.number < 0 {
		return nil
	}
	if v.arriveMax != Never {
		jitter = min(jitter, v.arriveMax-v.arriveMin)
	}
	c := v.flow.send.curve(v.allBits, jitter)
	grown := int64(perMille)
	for i := v.number - 1; i >= 0; i-- {
		grown = wide(grown, v.flow.visits[i+1].grows()).over(perMille)
		p := v.flow.visits[i]
		if p.anyClass || v.jitter == Never {
			continue
		}
		for o := p.entry; o != nil; o = o.Parent {
			passes := policed(o)
			if passes == nil && o.Meter != nil {
				passes = instance(p, p.entry)
			}
			if passes != nil {
				c = c.Min(passes.Shift(v.jitter-p.jitter).Scale(grown, perMille)...)
			}
		}
	}
	return c
}

// instance returns what a policer lets pass for each source, destination or flow, where all packets of a visit are of one.
func instance(v *visit, e *plan.Entry) (out Curve) {
	if v.anyClass || v.number < 0 {
		return nil
	}
	single := v.flow.traffic.Kind == policy.Stream || v.flow.traffic.Kind == policy.Video || v.flow.traffic.Kind == policy.Calls && v.flow.count == 1
	for o := e; o != nil; o = o.Parent {
		in := o
		if o.Each == 0 {
			in = o.Instances()
		}
		if o.Meter == nil || in == nil {
			continue
		}
		one := true
		for i := in; i != nil; i = i.Instances() {
			one = one && (single || i.Each&policy.ByFlow == 0)
		}
		if one {
			out = out.Min(bucketOf(o.Meter)...)
		}
	}
	return out
}

// serve finds what a queue gets for certain, and how much may wait.
func (s *station) serve(q *classQueue, t *tree) {
	q.backlog = Endless
	switch {
	case !s.why.IsZero():
		q.why = s.why
	case t == nil:
		q.services = []service{{Service: Service{Rate: s.rate}, any: timeOf(s.committed(), s.rate), strict: true}}
	default:
		q.services, q.arrivals, q.why = t.services(q.entry)
		q.unordered = q.entry.Each != 0 || q.entry.Instances() != nil
		if q.entry.Queue.Drop == policy.FQCoDel {
			q.unordered = true
		}
	}
	for _, g := range q.services {
		whole := Service{g.Rate, later(g.Wait, timeOf(q.maxBits, g.Rate))} // a packet waits until all of it may go
		q.backlog = min(q.backlog, q.arrivals.Backlog(whole))
	}
	if t != nil && !slices.ContainsFunc(q.services, func(s service) bool { return s.strict }) {
		q.starved = t.why
	}
	if len(q.services) == 0 && q.why.IsZero() {
		q.why = words.UnboundNothing.With(q.name(), s.name())
	}
}

// room returns how many bits may wait in a queue: its limit, but one packet always.
func (s *station) room(q *classQueue) int64 {
	if q.entry == nil {
		return max(s.limit, q.maxBits)
	}
	l := &q.entry.Queue
	if l.Packets > 0 {
		return int64(l.Packets) * q.maxBits
	}
	return max(bitsOf(l.Bytes), q.maxBits)
}

// drains returns how many bits leave before what a full queue holds has left: with each packet, the change of the direction of a medium.
func (s *station) drains(q *classQueue) int64 {
	room := s.room(q)
	if s.turn == 0 {
		return room
	}
	least := q.minBits
	if q.anyClass {
		least = bitsOf(packet.IPv4Header)
	}
	return plus(room, mulUp(s.turn, room, least))
}

// wait bounds how long the packets of a visit are at a station, until they have left.
func (s *station) wait(v *visit, q *classQueue) Hop {
	h := Hop{Place: s.name(), Class: q.class(), Plan: s.plan, Entry: q.entry, Backlog: -1, Size: unit.Size(s.room(q) / 8), Max: Never}
	if q.backlog != Endless {
		h.Backlog = unit.Size(q.backlog/8 + 1)
	}
	if s.rate == 0 && q.why.IsZero() && !holds(q.entry) { // nothing ever waits
		h.Max, h.Backlog = 0, unit.Size(q.maxBits/8)
		return h
	}
	in := q.arrivals
	if s.single && s.first.line > 0 && v.maxBits < s.maxPacket && v.allBits == v.maxBits { // the last of what comes over one line is a packet of this size
		in = in.Min(s.first.ends(v, s)...)
	}
	for _, g := range q.services {
		d, own := Never, Never
		if q.unordered {
			d = in.BusyPeriod(g.Service)
			own = d - min(d, g.Wait)
		} else if d = in.Delay(g.Service); d != Never {
			own = d - g.Wait
		}
		h.take(d, own, g, false)
		if g.strict && !q.unordered && g.any != Never {
			own := timeOf(s.drains(q), g.Rate)
			h.take(later(g.any, own), own, g, true)
		}
	}
	if h.Max == Never {
		h.Why = s.without(q)
		return h
	}
	// A packet has left when its last bit has, at the rate of the line, and not when it is paid for at the rate of the whole.
	if s.rate > 0 && s.rate != s.line {
		sooner := s.lineGain(v)
		h.Max -= min(h.Max, sooner)
		h.Own -= min(h.Own, sooner)
	}
	h.Max += 4 // what the clocks of the scheduler round
	return h
}

// lineGain returns by how much the packets of a visit leave sooner, the smallest of them, than they are paid for at the rate of the whole.
func (s *station) lineGain(v *visit) time.Duration {
	sooner := timeOf(v.minBits, s.maxRate) - 1
	if s.line > 0 {
		sooner -= timeOf(v.minBits, s.line)
	}
	return max(sooner, 0)
}

// holds reports whether an entry or one around it has an upper limit.
func holds(e *plan.Entry) bool {
	for ; e != nil; e = e.Parent {
		if e.AtMost != nil {
			return true
		}
	}
	return false
}

// take notes a bound where it is the least so far.
func (h *Hop) take(d, own time.Duration, g service, full bool) {
	if d >= h.Max {
		return
	}
	h.Max, h.Own, h.Others, h.Blocking, h.Ceiling, h.Full, h.By = d, own, g.urgent, g.packet, g.limit, full, g.by
	if full {
		h.Blocking += g.any - g.Wait
	}
	if g.urgent == 0 {
		h.By = nil
	}
}

// ends returns the arrivals at the next station up to a packet of a visit that is smaller than the largest. A shape spaces
// packets by their beginnings, so that a small packet arrives sooner after the one before than its rate says.
func (s *station) ends(v *visit, next *station) Curve {
	if s.rate == s.line || s.rate == 0 || s.maxRate > s.rate && !(s.keeps && next.carrier) || v.number <= 0 || v.flow.visits[v.number-1].linkJitter > 0 {
		return nil
	}
	p := v.flow.visits[v.number-1]
	grown := int64(0)
	for _, o := range next.visits {
		grown = max(grown, o.grows())
	}
	rate := s.rate
	if s.maxRate > rate {
		rate = min(s.maxRate, next.rate)
	}
	before := Curve{{plus(wide(s.maxPacket-p.maxBits, s.maxRate).over(s.line), s.credit), rate}}.Scale(grown, perMille)
	return before.Add(Curve{{Burst: v.maxBits}})
}

// without says why a queue has no bound.
func (s *station) without(q *classQueue) words.Fact {
	if !q.why.IsZero() {
		return q.why
	}
	if !q.arrivals.Finite() {
		if !q.starved.IsZero() {
			return q.starved
		}
		why := q.unbound
		if why.IsZero() {
			why = words.UnboundCircle.With(s.circle)
		}
		return words.UnboundArrivals.With(q.name(), s.name(), why)
	}
	if s.waitsForItself(q) {
		return words.UnboundArrivals.With(q.name(), s.name(), words.UnboundCircle.With(s.circle))
	}
	best := int64(0)
	for _, g := range q.services {
		best = max(best, g.Rate)
	}
	return words.UnboundRate.With(unit.Rate(q.arrivals[len(q.arrivals)-1].Rate), q.name(), s.name(), unit.Rate(best))
}

// waitsForItself reports whether a queue has no bound since its station is in a circle: what comes to it is bounded by its sender, and has
// no bound where it was before.
func (s *station) waitsForItself(q *classQueue) bool {
	return len(s.circle) > 0 && slices.ContainsFunc(s.visits, func(v *visit) bool {
		return v.entry == q.entry && v.number > 0 && v.jitter == Never && len(v.flow.send.patterns) > 0
	})
}

// name names a queue in a sentence.
func (q *classQueue) name() any {
	if q.entry == nil {
		return "the queue"
	}
	return words.Quote(q.entry.Name)
}

// class returns the name of a queue's entry; "": it is a plain FIFO.
func (q *classQueue) class() string {
	if q.entry == nil {
		return ""
	}
	return q.entry.Name
}

// leaves computes what of a queue leaves.
func (s *station) leaves(q *classQueue) {
	q.delay = 0
	alone := time.Duration(0)
	if s.line > 0 {
		alone = timeOf(q.minBits, s.maxLine) - 1
	}
	for _, v := range s.visits {
		if v.entry == q.entry && !v.anyClass && v.number >= 0 {
			q.delay = max(q.delay, v.result.Max)
		}
	}
	if q.anyClass || q.delay == 0 { // and of any packet that may come
		h := s.wait(&visit{at: s, maxBits: q.maxBits, minBits: q.minBits, number: -1}, q)
		q.delay = max(q.delay, h.Max)
	}
	q.out = nil
	if q.delay != Never {
		q.out = q.arrivals.Shift(max(q.delay-alone, 0))
	}
	for o := q.entry; o != nil; o = o.Parent {
		if m := o.AtMost; m != nil && m.When == nil && o.Each == 0 && o.Instances() == nil {
			q.out = q.out.Min(Bucket{bitsOf(m.Credit) + s.maxPacket + 1, int64(m.Rate)})
		}
	}
	slices.SortFunc(q.services, func(a, b service) int { return cmp.Compare(a.Wait, b.Wait) })
}
