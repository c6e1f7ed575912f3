// Package datapath is one interface in one direction, in the order of RFC 3290:
// classify, meter, mark, drop, queue, schedule, with counters for each.
//
// It takes the time as an argument, does no I/O, starts no goroutine and reads
// no clock: under simulated time it is a rehearsal, under the real clock it is
// enforcement.
package datapath

import (
	"cmp"
	"math/rand/v2"
	"net/netip"
	"slices"
	"time"

	"imbrel.example/imbrel/core/classify"
	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/meter"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/queue"
	"imbrel.example/imbrel/core/schedule"
	"imbrel.example/imbrel/core/unit"
)

// Config says what there is at an interface in one direction.
type Config struct {
	// Plan is the policy in force; nil: a plain FIFO of Rate and Framing.
	Plan    *plan.Plan
	Rate    unit.Rate
	Framing packet.Framing
	// Classes and ClassOf tell a plain FIFO how to count its packets: ClassOf
	// returns a number from 0 to Classes-1; when it is nil, all packets are of class
	// 0. A policy counts by entry, and a plain FIFO in the place of one, CountAs, by the
	// entries of that.
	Classes int
	ClassOf func(*packet.Packet) int
	CountAs *plan.Plan
	// Turned, when not nil, is told that an entry or a limit has come into force at a
	// time or has gone out of force.
	Turned func(e *plan.Entry, l Limit, at time.Duration, inForce bool)
	// Drop is told of packets that are dropped after Enqueue took them: an AQM
	// drops from the head of its queue. It may be nil.
	Drop func(*packet.Packet, Reason)
	// StartAt is the date and time at which the path's clock is at zero, for
	// entries and limits that are in force at named times.
	StartAt time.Time
	// InName returns the name of an interface that packets enter by, for the values of
	// instances; when it is nil, the number is the name.
	InName func(number int32) string
	// Incoming says that the caller takes each packet out as soon as it is in, for no interface
	// sends it on from here at a rate of its own.
	Incoming bool
	// Room, when not nil, is asked whether one more packet of an entry may wait; what may not is
	// dropped as if its queue were full.
	Room func(entry int32) bool
	// Answered, when not nil, says whether an address was seen lately in the other direction. Where there are as many
	// instances as there may be, a new one takes the place of one whose addresses were not.
	Answered func(netip.Addr) bool
	// Random serves what drops at random; nil is a generator of a fixed seed.
	Random *rand.Rand
}

// Reason says why a packet was dropped.
type Reason uint8

// The reasons. Passed is the zero Reason: the packet was not dropped.
const (
	Passed Reason = iota
	Policed
	QueueFull
	Early
	Blocked
	// The reasons of those who count beyond a data path.
	OnLink   // lost on a link
	Oversize // longer than the interface sends
	TooOld   // overtaken by more packets than a replay window has
	Exceeds  // what was bought of a carrier
	Reasons  // how many there are
)

func (r Reason) String() string {
	return [...]string{"passed", "policed", "queue_full", "early", "blocked", "link", "too_large", "too_old", "contract"}[r]
}

// Counters are what the data path counts for one entry, at any level. Bytes are
// as the interface counts. Offered = Sent + Drops + what waits.
//
// What every packet touches comes first.
type Counters struct {
	OfferedPackets, OfferedBytes uint64
	SentPackets, SentBytes       uint64
	MaxQueueBytes                int64
	Colors                       [3]uint64 // packets metered, by meter.Color
	Conforming                   Busiest   // metered, and not red
	Drops                        [Reasons]uint64
	TooLarge                     uint64                        // of the red ones, those that no bucket holds
	Congested                    uint64                        // packets sent that a queue here gave ECN's CE
	Marks                        [codepoint.MaxDSCP + 1]uint64 // packets sent, by DSCP
	_                            [16]byte                      // to whole cache lines
}

// A Path is the data path of one interface in one direction.
type Path struct { // what every packet touches comes first
	fifo     *queue.FIFO // of a plain FIFO, which has no tree; nil: a policy's
	tree     *schedule.Tree
	straight bool                     // nothing ever waits
	limits   bool                     // some entry has an upper limit
	whens    bool                     // something has a `when`
	elements []element                // every entry at any level, a parent before what is within it
	classOf  func(*packet.Packet) int // of a plain FIFO, the class of a packet
	room     func(int32) bool         // nil: there is always some

	framing  packet.Framing
	counters []*Counters // of each element alone; nil: of a class of a plain FIFO that did not come yet

	plain      queue.FIFO // that fifo points to
	parents    []int32    // of each counter, the one around it or -1; nil: there is none
	triggers   []*trigger
	credit     unit.Size            // of the shape
	nodes      []*state             // of each of the scheduler's entries
	pressure   pressure             // what was sent, where a `when` looks at it
	classifier *classify.Classifier // nil: a plain FIFO
	countAs    *plan.Plan           // by whose entries is counted; nil: by ClassOf alone
	began      time.Duration        // from when on is counted
	closed     bool                 // rates are over
	ended      time.Duration        // since when
	stopped    int                  // of the acts of the packet that was policed or blocked last, the one that did it
	turned     func(e *plan.Entry, l Limit, at time.Duration, inForce bool)
	drop       func(*packet.Packet, Reason)
	inName     func(int32) string
	answered   func(netip.Addr) bool // nil: nobody knows
	startAt    time.Time
}

// An element is what the path does with the packets of one entry.
type element struct { // what every packet touches comes first
	queue     func() queue.Discipline // nil: a FIFO
	instances *instanceSet            // when this entry, or one around it, has instances
	acts      []*element              // of this one and those around it, the ones that block, meter or mark, the outermost first
	counters  *Counters
	number    int32
	capped    bool  // a ceiling is in force always
	limited   bool  // a ceiling that is in force only sometimes is so now
	node      int   // the scheduler's, or from the first of an instance
	own       state // when there are no instances

	Treatment
	entry  *plan.Entry
	meter  *meter.Meter // as it is at first; nil: none
	limits queue.Limits
	_      [16]byte // to whole cache lines
}

// A state is what an element keeps: its meter, and its queue when nothing is
// within it.
type state struct {
	node    int
	of      *instance // nil: of none
	meter   *meter.Meter
	waiting *queue.Waiting
	queue   queue.Discipline
	fifo    queue.FIFO
}

// start makes the state of an element; its node comes after base others.
func (s *state) start(e *element, base int) {
	s.node = base + e.node
	if e.meter != nil {
		own := *e.meter
		s.meter = &own
	}
	if !e.entry.Leaf() {
		return
	}
	s.fifo.Limits, s.queue = e.limits, &s.fifo
	if e.queue != nil {
		s.queue = e.queue()
	}
	s.waiting = s.queue.Level()
}

// Classes returns the names of the classes the path counts by: of every entry,
// with those around it ("sales/voice"), each before what is within it; nil for a
// plain FIFO.
func (p *Path) Classes() []string {
	if p.countAs == nil {
		return nil
	}
	names := make([]string, len(p.countAs.Entries))
	for i, e := range p.countAs.Entries {
		names[i] = e.Name
	}
	return names
}

// Counters returns the counters of each class so far. Those of an entry
// with others within it are the sums of these.
func (p *Path) Counters() []Counters {
	out := make([]Counters, len(p.counters))
	for i, c := range p.counters {
		if c != nil {
			out[i] = *c
		}
	}
	for i := len(out) - 1; i >= 0; i-- {
		if parent := p.Parent(i); parent >= 0 {
			out[parent].add(&out[i])
		}
	}
	return out
}

// Each calls do with the counters of each class so far that there are, as Counters returns them.
func (p *Path) Each(do func(class int, c *Counters)) {
	if p.parents == nil {
		for i, c := range p.counters {
			if c != nil {
				do(i, c)
			}
		}
		return
	}
	all := p.Counters()
	for i := range all {
		do(i, &all[i])
	}
}

// newCounters makes counters in one block.
func newCounters(n int) []*Counters {
	block, out := make([]Counters, n), make([]*Counters, n)
	for i := range out {
		out[i] = &block[i]
	}
	return out
}

// Offered returns how many packets the path was offered.
func (p *Path) Offered() (packets uint64) {
	for _, c := range p.counters {
		if c != nil {
			packets += c.OfferedPackets
		}
	}
	return packets
}

// Idle reports whether nothing waits in the path.
func (p *Path) Idle() bool {
	if p.fifo != nil {
		return p.fifo.Level().Packets == 0
	}
	return p.tree.Idle()
}

// Add adds what another path counted of the same entry. The most that waited or conformed is
// the more of both.
func (c *Counters) Add(o *Counters) {
	c.add(o)
	c.TooLarge += o.TooLarge
	for i, n := range o.Colors {
		c.Colors[i] += n
	}
	c.MaxQueueBytes = max(c.MaxQueueBytes, o.MaxQueueBytes)
	c.Conforming.Max = max(c.Conforming.Max, o.Conforming.Max)
}

// add adds what the packets of an entry within this one have in common with it.
func (c *Counters) add(inner *Counters) {
	c.OfferedPackets += inner.OfferedPackets
	c.OfferedBytes += inner.OfferedBytes
	c.SentPackets += inner.SentPackets
	c.SentBytes += inner.SentBytes
	c.Congested += inner.Congested
	for i, n := range inner.Drops {
		c.Drops[i] += n
	}
	for i, n := range inner.Marks {
		c.Marks[i] += n
	}
}

// Parent returns the number of the entry around another, or -1.
func (p *Path) Parent(class int) int {
	if p.parents == nil {
		return -1
	}
	return int(p.parents[class])
}

// state returns the state of an element for a packet of an instance, or of none.
func (e *element) state(i *instance) *state {
	if e.instances == nil {
		return &e.own
	}
	for i.set != e.instances {
		i = i.key.outer
	}
	return &i.states[e.number-e.instances.first]
}

// Enqueue takes a packet in, or drops it and says why. The path keeps a packet
// it takes until Dequeue gives it back or Drop is told of it.
func (p *Path) Enqueue(now time.Duration, pkt *packet.Packet) Reason {
	if p.whens && now >= p.pressure.end {
		p.look(now)
	}
	if p.fifo != nil {
		return p.wait(now, pkt)
	}
	return p.EnqueueAs(now, pkt, p.classifier.Number(pkt))
}

// offered counts a packet that a plain FIFO is offered.
func (p *Path) offered(now time.Duration, pkt *packet.Packet) *Counters {
	pkt.Arrived = now
	pkt.Size = int32(p.framing.Size(pkt.Length+int(pkt.GrowsBy), pkt.Labels()+int(pkt.GrowsLabels)))
	pkt.Slot = int32(p.classOf(pkt))
	c := p.counters[pkt.Slot]
	if c == nil {
		c = &Counters{}
		p.counters[pkt.Slot] = c
	}
	c.OfferedPackets++
	c.OfferedBytes += uint64(pkt.Size)
	return c
}

// leaves counts a packet that leaves.
func (c *Counters) leaves(pkt *packet.Packet) {
	c.SentPackets++
	c.SentBytes += uint64(pkt.Size)
	c.Marks[pkt.DSCP()]++
}

// wait puts a packet into a plain FIFO.
func (p *Path) wait(now time.Duration, pkt *packet.Packet) Reason {
	c := p.offered(now, pkt)
	if p.fifo.Push(now, pkt) != queue.Taken {
		c.Drops[QueueFull]++
		return QueueFull
	}
	c.MaxQueueBytes = max(c.MaxQueueBytes, p.fifo.Level().Bytes)
	return Passed
}

// leave takes the next packet out of a plain FIFO.
func (p *Path) leave(now time.Duration) (*packet.Packet, time.Duration) {
	pkt := p.fifo.Pop(now)
	if pkt == nil {
		return nil, schedule.Never
	}
	p.counters[pkt.Slot].leaves(pkt)
	return pkt, now
}

// Sometimes reports whether an entry or a limit of the policy has a `when`.
func (p *Path) Sometimes() bool { return p.whens }

// EnqueueAs does what Enqueue does with a packet whose class, by its number, is known:
// a caller that has classified it for a purpose of its own need not have it done twice.
// It is not for a policy with a `when`.
func (p *Path) EnqueueAs(now time.Duration, pkt *packet.Packet, class int32) Reason {
	e, i, reason := p.admit(now, pkt, class)
	return p.push(now, pkt, e, i, reason)
}

// push puts a packet that was admitted into its queue, and counts one that goes no further.
func (p *Path) push(now time.Duration, pkt *packet.Packet, e *element, i *instance, reason Reason) Reason {
	class := e.number
	if reason == Passed && p.room != nil && !p.room(class) {
		reason = QueueFull
	}
	if reason == Passed {
		s := e.state(i)
		if reason = reasons[s.queue.Push(now, pkt)]; reason == Passed {
			c := e.counters
			c.MaxQueueBytes = max(c.MaxQueueBytes, s.waiting.Bytes)
			p.tree.Ready(now, s.node, int(s.waiting.Head))
			return Passed
		}
	}
	e.counters.Drops[reason]++
	i.dropped()
	return reason
}

// Offer does what Enqueue does; where nothing else waits in the path, and nothing holds the packet back, it does what Dequeue does as well, and
// went is true.
func (p *Path) Offer(now time.Duration, pkt *packet.Packet) (reason Reason, went bool) {
	if p.fifo != nil {
		if p.fifo.Level().Packets > 0 {
			return p.wait(now, pkt), false
		}
		c := p.offered(now, pkt)
		c.MaxQueueBytes = max(c.MaxQueueBytes, int64(pkt.Size))
		c.leaves(pkt)
		return Passed, true
	}
	if p.whens && now >= p.pressure.end {
		p.look(now)
	}
	return p.OfferAs(now, pkt, p.classifier.Number(pkt))
}

// OfferAs does so with a packet whose class is known, as EnqueueAs does.
func (p *Path) OfferAs(now time.Duration, pkt *packet.Packet, class int32) (reason Reason, went bool) {
	if p.elements[class].queue != nil {
		return p.EnqueueAs(now, pkt, class), false
	}
	e, i, reason := p.admit(now, pkt, class)
	if reason == Passed {
		if s := e.state(i); p.tree.Alone(now, s.node, int(pkt.Size)) {
			c := e.counters
			c.MaxQueueBytes = max(c.MaxQueueBytes, int64(pkt.Size))
			p.departs(now, s, c, pkt)
			return Passed, true
		}
	}
	return p.push(now, pkt, e, i, reason), false
}

// Straight reports whether nothing ever waits in the path, so that Pass does what Enqueue and
// Dequeue do.
func (p *Path) Straight() bool { return p.straight }

// Pass takes a packet through a straight path, or drops it and says why.
func (p *Path) Pass(now time.Duration, pkt *packet.Packet) Reason {
	if p.whens && now >= p.pressure.end {
		p.look(now)
	}
	return p.PassAs(now, pkt, p.classifier.Number(pkt))
}

// PassAs does so with a packet whose class is known, as EnqueueAs does.
func (p *Path) PassAs(now time.Duration, pkt *packet.Packet, class int32) Reason {
	e, i, reason := p.admit(now, pkt, class)
	c := e.counters
	if reason != Passed {
		c.Drops[reason]++
		i.dropped()
		return reason
	}
	c.MaxQueueBytes = max(c.MaxQueueBytes, int64(pkt.Size))
	p.departs(now, e.state(i), c, pkt)
	return Passed
}

// Charge books a packet that goes beside the path, whatever waits in it, to the shape of the whole.
func (p *Path) Charge(now time.Duration, pkt *packet.Packet) {
	pkt.Size = int32(p.framing.Size(pkt.Length+int(pkt.GrowsBy), pkt.Labels()+int(pkt.GrowsLabels)))
	p.Observe(now, int(pkt.Size))
	if p.tree != nil {
		p.tree.Charge(now, int(pkt.Size))
	}
}

// ClassOf returns the number of the entry that takes a packet now; not of a plain FIFO.
func (p *Path) ClassOf(pkt *packet.Packet) int32 { return p.classifier.Number(pkt) }

// admit counts a packet as offered to its class, and does what comes before the queue.
func (p *Path) admit(now time.Duration, pkt *packet.Packet, class int32) (*element, *instance, Reason) {
	pkt.Arrived = now
	pkt.Size = int32(p.framing.Size(pkt.Length+int(pkt.GrowsBy), pkt.Labels()+int(pkt.GrowsLabels)))
	pkt.Slot = class
	e := &p.elements[class]
	c := e.counters
	c.OfferedPackets++
	c.OfferedBytes += uint64(pkt.Size)
	var i *instance
	if e.instances != nil {
		i = p.instance(now, e.instances, pkt)
		for in := i; in != nil; in = in.key.outer {
			in.Offered++
			in.OfferedBytes += uint64(pkt.Size)
			if !in.ranked && in.OfferedBytes > in.set.floor {
				in.set.rank(in)
			}
		}
	}
	return e, i, p.condition(now, e, i, pkt)
}

// departs counts a packet as sent.
func (p *Path) departs(now time.Duration, s *state, c *Counters, pkt *packet.Packet) {
	if p.whens {
		p.pressure.bytes += int64(pkt.Size)
	}
	c.leaves(pkt)
	for i := s.of; i != nil; i = i.key.outer {
		i.sent(now, pkt, p.closed)
	}
	if pkt.Congested {
		pkt.Congested = false
		c.Congested++
	}
}

// reasons are what a queue's verdicts mean.
var reasons = [...]Reason{queue.Taken: Passed, queue.Full: QueueFull, queue.Early: Early}

// condition meters and marks a packet by its entry and those around it, the
// outermost first.
func (p *Path) condition(now time.Duration, e *element, own *instance, pkt *packet.Packet) Reason {
	for i, a := range e.acts {
		color := meter.Green
		if a.Metering && !a.Block {
			s := a.state(own)
			m := s.meter
			if m.Aware {
				color = ColorOf(pkt)
			}
			color = m.Measure(now, int(pkt.Size), color)
			a.counters.Colors[color]++
			if s.of != nil {
				s.of.metered(now, int(pkt.Size), color)
			}
			switch {
			case color != meter.Red:
				a.counters.Conforming.Add(now, int(pkt.Size))
			case !m.Fits(int(pkt.Size)):
				a.counters.TooLarge++
			}
		}
		if r := a.Apply(color, pkt); r != Passed {
			p.stopped = i
			return r
		}
	}
	return Passed
}

// ColorOf returns the colour that a packet arrives with: its drop precedence in
// assured forwarding (RFC 2597); all else is green.
func ColorOf(pkt *packet.Packet) meter.Color {
	return meter.Color(max(pkt.DSCP().DropPrecedence(), 1) - 1)
}

// discard is told of packets that a queue drops after it took them.
func (p *Path) discard(pkt *packet.Packet, v queue.Verdict) {
	p.counters[pkt.Slot].Drops[reasons[v]]++
	if p.classifier != nil {
		if set := p.elements[pkt.Slot].instances; set != nil {
			set.find(pkt).dropped()
		}
	}
	p.drop(pkt, reasons[v])
}

// Dequeue gives back the packet to send now. When there is none it returns nil
// and the time to ask again, or schedule.Never; the next Enqueue is another.
func (p *Path) Dequeue(now time.Duration) (*packet.Packet, time.Duration) {
	if p.fifo != nil {
		return p.leave(now)
	}
	for {
		leaf, again := p.tree.Next(now)
		if leaf < 0 {
			return nil, again
		}
		s := p.nodes[leaf]
		pkt := s.queue.Pop(now)
		if pkt == nil { // it dropped all it had
			p.tree.Sent(now, leaf, 0, int(s.waiting.Head))
			continue
		}
		p.tree.Sent(now, leaf, int(pkt.Size), int(s.waiting.Head))
		p.departs(now, s, p.elements[pkt.Slot].counters, pkt)
		return pkt, now
	}
}

// Drain returns all packets that wait, in the order in which they came, and drops none. The path
// is of no use after it.
func (p *Path) Drain() []*packet.Packet {
	var out []*packet.Packet
	take := func(pop func(time.Duration) *packet.Packet) {
		for pkt := pop(0); pkt != nil; pkt = pop(0) { // at time 0 nothing has waited for too long
			out = append(out, pkt)
		}
	}
	if p.fifo != nil {
		take(p.fifo.Pop)
	}
	for _, s := range p.nodes {
		if s != nil && s.queue != nil {
			take(s.queue.Pop)
		}
	}
	slices.SortStableFunc(out, func(a, b *packet.Packet) int { return cmp.Compare(a.Arrived, b.Arrived) })
	return out
}

// Mark rewrites a packet's marks at every layer that m names and the packet
// has. An IP header below a label by which the packet is switched stays.
func Mark(m *policy.Mark, p *packet.Packet) {
	if !p.LabelSwitched && p.IsIP() {
		switch {
		case m.DSCP != nil:
			p.SetDSCP(*m.DSCP)
		case m.Map != nil:
			p.SetDSCP(m.Map.To[p.DSCP()])
		case m.Precedence != nil:
			p.SetDSCP(codepoint.DSCP(*m.Precedence<<3) | p.DSCP()&7)
		}
	}
	if m.PCP != nil {
		p.SetPCP(*m.PCP)
	}
	if m.DEI != nil {
		p.SetDEI(*m.DEI)
	}
	if m.TC != nil {
		p.SetTC(*m.TC)
	}
}
