// Package datapath is one interface in one direction, in the order of RFC 3290:
// classify, meter, mark, drop, queue, schedule, with counters for each.
//
// It takes the time as an argument, does no I/O, starts no goroutine and reads
// no clock: under simulated time it is a rehearsal, under the real clock it is
// enforcement.
package datapath

import (
	"math/rand/v2"
	"time"

	"imbrel/core/classify"
	"imbrel/core/codepoint"
	"imbrel/core/meter"
	"imbrel/core/packet"
	"imbrel/core/policy"
	"imbrel/core/queue"
	"imbrel/core/schedule"
	"imbrel/core/unit"
)

// Config says what stands at an interface in one direction.
type Config struct {
	Rate    unit.Rate // of the interface
	Framing packet.Framing
	Policy  *policy.Policy // nil: a plain FIFO
	// Always takes every entry as there, whatever its when: to tell classes apart
	// at any time.
	Always bool
	// Classes and ClassOf tell a plain FIFO how to book its packets: ClassOf
	// returns a number from 0 to Classes-1. A policy books by entry.
	Classes int
	ClassOf func(*packet.Packet) int
	// Drop is told of packets that are dropped after Enqueue took them: an AQM
	// drops from the head of its queue.
	Drop func(*packet.Packet, Reason)
	// StartAt is the date and time at which the path's clock stands at zero, for
	// entries that are there at named times.
	StartAt time.Time
	// Random serves what drops at random; nil is a generator of a fixed seed.
	Random *rand.Rand
}

// DefaultQueueTime is how much may wait in a queue whose limit the policy does
// not give, at the rate promised to it: 100 ms, a common depth.
const DefaultQueueTime = 100 * time.Millisecond

// leastDefaultPackets is the least that a queue without a given limit holds, so
// that a class that was promised nothing can still send a window at a time.
const leastDefaultPackets = 10

// Reason says why a packet was dropped.
type Reason uint8

// The reasons. Passed is the zero Reason: the packet was not dropped.
const (
	Passed Reason = iota
	Policed
	QueueFull
	Early
	Blocked
	Reasons // how many there are
)

func (r Reason) String() string {
	return [...]string{"passed", "policed", "queue_full", "early", "blocked"}[r]
}

// Counters are what the data path counts for one entry, at any level. Bytes are
// as the interface counts. Offered = Sent + Drops + what waits.
type Counters struct {
	OfferedPackets, OfferedBytes uint64
	SentPackets, SentBytes       uint64
	Drops                        [Reasons]uint64
	Colors                       [3]uint64                     // packets metered, by meter.Color
	Marks                        [codepoint.MaxDSCP + 1]uint64 // packets sent, by DSCP
	Congested                    uint64                        // packets sent with ECN's CE
	MaxQueueBytes                int64
}

// A Path is the data path of one interface in one direction.
type Path struct {
	framing  packet.Framing
	classOf  func(*packet.Packet) int
	top      *level
	elements []element // every entry at any level, a parent before what is within it
	counters []Counters
	leaves   []leafQueue // of each of the scheduler's leaves
	tree     *schedule.Tree
	drop     func(*packet.Packet, Reason)
	classes  []string
	pressure pressure
	whens    []*level // with entries that are not always there
	startAt  time.Time
}

// A level is the entries that compete for a packet.
type level struct {
	entries  []present
	matcher  *classify.Matcher // of those that are there
	elements []int32           // the same, the rest last
}

// An element is what the path does with the packets of one entry.
type element struct {
	parent int32 // -1: at the top
	mark   *policy.Mark
	block  bool
	police *policing
	inner  *level // or
	each   *each  // or
	queue  queue.Discipline
	leaf   int32
}

// A leafQueue is the queue of one of the scheduler's leaves, and its element.
type leafQueue struct {
	element int32
	queue   queue.Discipline
}

// policing is a meter and what is done with each colour.
type policing struct {
	meter.Meter
	actions [3]policy.Action
}

// Classes returns the names of the classes the path books to: of every entry,
// with those around it ("sales/voice"), each before what is within it; nil for a
// plain FIFO.
func (p *Path) Classes() []string { return p.classes }

// Counters returns the counters of each class; they go on counting.
func (p *Path) Counters() []Counters { return p.counters }

// Parent returns the number of the entry around another, or -1.
func (p *Path) Parent(class int) int {
	if p.classOf != nil {
		return -1
	}
	return int(p.elements[class].parent)
}

// Enqueue takes a packet in, or drops it and says why. The path keeps a packet
// it takes until Dequeue gives it back or Drop is told of it.
func (p *Path) Enqueue(now time.Duration, pkt *packet.Packet) Reason {
	pkt.Arrived = now
	if len(p.whens) > 0 && now >= p.pressure.end {
		p.look(now)
	}
	pkt.Size = int32(p.framing.Size(pkt.Length))
	if p.classOf != nil {
		pkt.Slot = int32(p.classOf(pkt))
		p.offer(pkt.Slot, pkt)
		return p.wait(now, 0, p.elements[0].queue, pkt)
	}
	at := int32(p.Classify(pkt))
	pkt.Slot = at
	for i := at; i >= 0; i = p.elements[i].parent {
		p.offer(i, pkt)
	}
	e := &p.elements[at]
	own, leaf, q := e.police, int(e.leaf), e.queue
	var i *instance
	if e.each != nil {
		i = p.instance(now, at, e.each, pkt)
		own, leaf, q = i.police, i.leaf, i.queue
		i.Offered++
		i.OfferedBytes += uint64(pkt.Size)
	}
	reason := p.condition(now, at, own, pkt)
	if reason == Passed {
		reason = p.wait(now, leaf, q, pkt)
	} else {
		p.dropped(at, reason)
	}
	if i != nil && reason != Passed {
		i.Dropped++
	}
	return reason
}

func (p *Path) offer(i int32, pkt *packet.Packet) {
	c := &p.counters[i]
	c.OfferedPackets++
	c.OfferedBytes += uint64(pkt.Size)
}

// dropped books a drop to an entry and those around it.
func (p *Path) dropped(at int32, reason Reason) {
	for i := at; i >= 0; i = p.elements[i].parent {
		p.counters[i].Drops[reason]++
		if p.classOf != nil {
			return
		}
	}
}

// Classify returns the number, as in Classes, of the innermost entry that takes
// the packet.
func (p *Path) Classify(pkt *packet.Packet) int {
	l := p.top
	s := classify.NewSubject(pkt)
	for {
		i := l.matcher.MatchSubject(&s)
		if i < 0 {
			i = len(l.elements) - 1
		}
		at := l.elements[i]
		if l = p.elements[at].inner; l == nil {
			return int(at)
		}
	}
}

// condition meters and marks a packet by its entry and those around it, the
// outermost first.
func (p *Path) condition(now time.Duration, at int32, police *policing, pkt *packet.Packet) Reason {
	e := &p.elements[at]
	if e.parent >= 0 {
		if reason := p.condition(now, e.parent, p.elements[e.parent].police, pkt); reason != Passed {
			return reason
		}
	}
	if e.block {
		return Blocked
	}
	color := meter.Green
	if police != nil {
		color = police.Measure(now, int(pkt.Size), colorOf(pkt))
		p.counters[at].Colors[color]++
		if police.actions[color].Drop {
			return Policed
		}
	}
	if e.mark != nil {
		Mark(e.mark, pkt)
	}
	if police != nil {
		if m := police.actions[color].Mark; m != nil {
			Mark(m, pkt)
		}
	}
	return Passed
}

// colorOf returns the colour that a packet arrives with: its drop precedence in
// assured forwarding (RFC 2597); all else is green.
func colorOf(pkt *packet.Packet) meter.Color {
	return meter.Color(max(pkt.DSCP().DropPrecedence(), 1) - 1)
}

// wait puts a packet into its queue.
func (p *Path) wait(now time.Duration, leaf int, q queue.Discipline, pkt *packet.Packet) Reason {
	c := &p.counters[pkt.Slot]
	before := q.Len()
	switch q.Push(now, pkt) {
	case queue.Full:
		p.dropped(pkt.Slot, QueueFull)
		return QueueFull
	case queue.Early:
		p.dropped(pkt.Slot, Early)
		return Early
	}
	c.MaxQueueBytes = max(c.MaxQueueBytes, q.Bytes())
	if before == 0 {
		p.tree.Ready(now, leaf)
	}
	return Passed
}

// discard is told of packets that a queue drops after it took them.
func (p *Path) discard(pkt *packet.Packet, v queue.Verdict) {
	reason := Early
	if v == queue.Full {
		reason = QueueFull
	}
	p.dropped(pkt.Slot, reason)
	p.drop(pkt, reason)
}

// Dequeue gives back the packet to send now. When there is none it returns nil
// and the time to ask again, or schedule.Never; the next Enqueue is another.
func (p *Path) Dequeue(now time.Duration) (*packet.Packet, time.Duration) {
	for {
		leaf, again := p.tree.Next(now)
		if leaf < 0 {
			return nil, again
		}
		q := p.leaves[leaf].queue
		pkt := q.Pop(now)
		if pkt == nil { // it dropped all it had
			p.tree.Sent(now, leaf, 0, q.Len() > 0)
			continue
		}
		p.tree.Sent(now, leaf, int(pkt.Size), q.Len() > 0)
		p.sent(pkt)
		return pkt, now
	}
}

// sent books a packet to its entry and those around it.
func (p *Path) sent(pkt *packet.Packet) {
	class := pkt.TrafficClass()
	dscp, congested := class>>2, class&3 == 3
	p.pressure.bytes += int64(pkt.Size)
	for i := pkt.Slot; i >= 0; i = p.elements[i].parent {
		c := &p.counters[i]
		c.SentPackets++
		c.SentBytes += uint64(pkt.Size)
		c.Marks[dscp]++
		if congested {
			c.Congested++
		}
		if p.classOf != nil {
			return
		}
	}
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
