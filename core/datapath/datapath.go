// Package datapath is one interface in one direction, in the order of RFC 3290:
// classify, meter, mark, drop, queue, schedule, with counters for each.
//
// It takes the time as an argument, does no I/O, starts no goroutine and reads
// no clock: under simulated time it is a rehearsal, under the real clock it is
// enforcement.
package datapath

import (
	"time"

	"imbrel/core/classify"
	"imbrel/core/codepoint"
	"imbrel/core/fluid"
	"imbrel/core/meter"
	"imbrel/core/packet"
	"imbrel/core/policy"
	"imbrel/core/queue"
	"imbrel/core/schedule"
	"imbrel/core/unit"
)

// Config says what stands at an interface in one direction.
type Config struct {
	Rate      unit.Rate // of the interface
	Framing   packet.Framing
	Direction policy.Direction
	Policy    *policy.Policy // nil: a plain FIFO
	// Classes and ClassOf tell a plain FIFO how to book its packets: ClassOf
	// returns a number from 0 to Classes-1. A policy books by entry.
	Classes int
	ClassOf func(*packet.Packet) int
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

// Counters are what the data path counts for one entry. Bytes are as the
// interface counts. Offered = Sent + Drops + what waits.
type Counters struct {
	OfferedPackets, OfferedBytes uint64
	SentPackets, SentBytes       uint64
	Drops                        [Reasons]uint64
	Marks                        [codepoint.MaxDSCP + 1]uint64 // packets sent, by DSCP
	MaxQueueBytes                int64
}

// A Path is the data path of one interface in one direction.
type Path struct {
	framing  packet.Framing
	matcher  *classify.Matcher
	classOf  func(*packet.Packet) int
	entries  []entry
	counters []Counters
	tree     *schedule.Tree
	classes  []string
}

// An entry is what the path does with the packets of one entry of the policy.
type entry struct {
	mark    *policy.Mark
	block   bool
	policed bool
	bucket  meter.TokenBucket
	queue   queue.FIFO
}

// New compiles a path. The policy was validated when it was read.
func New(c Config) *Path {
	p := &Path{framing: c.Framing}
	maxPacket := unit.Size(c.Framing.Size(1500))
	if c.Policy == nil {
		limit := c.Rate.Bytes(DefaultQueueTime)
		p.entries = []entry{{queue: queue.FIFO{MaxBytes: max(int64(limit), leastDefaultPackets*int64(maxPacket))}}}
		p.counters = make([]Counters, c.Classes)
		p.classOf = c.ClassOf
		p.tree = schedule.New(schedule.Node{Children: []schedule.Node{{}}}, maxPacket)
		return p
	}
	p.matcher = classify.Compile(classify.Of(c.Policy.Treat))
	whole := Whole(c.Policy, c.Rate)
	root := schedule.Node{}
	if c.Policy.Shape > 0 {
		root.Ceiling = whole
	}
	treat := WithRest(c.Policy)
	promises := Promises(c.Policy, c.Rate)
	for i := range treat {
		e := &treat[i]
		n := schedule.Node{
			Priority: e.Priority, Guarantee: e.AtLeast.Of(whole), Ceiling: e.AtMost.Of(whole),
			Credit: 2 * maxPacket, Weight: weight(e, whole),
		}
		root.Children = append(root.Children, n)
		own := entry{mark: e.Mark, block: e.Block, queue: queue.FIFO{MaxPackets: e.Queue.Packets, MaxBytes: int64(QueueLimit(&e.Queue, promises[i].Rate, maxPacket))}}
		if e.Police != nil {
			own.policed = true
			own.bucket = meter.NewTokenBucket(e.Police.Rate.Of(whole), e.Police.Burst)
		}
		p.entries = append(p.entries, own)
		p.classes = append(p.classes, e.ClassName.Text)
	}
	p.counters = make([]Counters, len(p.entries))
	p.tree = schedule.New(root, maxPacket)
	return p
}

// WithRest returns the policy's entries with one for the rest at the end, which
// promises nothing when the policy has none of its own.
func WithRest(p *policy.Policy) []policy.Entry { return withRest(p.Treat, p.Source) }

func withRest(entries []policy.Entry, at policy.Source) []policy.Entry {
	if n := len(entries); n > 0 && entries[n-1].ClassName.Text == policy.Rest && entries[n-1].When == nil {
		return entries
	}
	rest := policy.Entry{Source: policy.Source{At: at.At}, ClassName: policy.Ref{Text: policy.Rest, At: at.At}}
	return append(entries[:len(entries):len(entries)], rest)
}

// Whole returns the rate a policy has to divide at an interface: its shape,
// never more than the interface's rate.
func Whole(p *policy.Policy, rate unit.Rate) unit.Rate {
	if p.Shape > 0 {
		return min(p.Shape, rate)
	}
	return rate
}

// weight returns an entry's part of what is left over: as given, in per cent of
// the whole by its promise, else 1; in thousandths, so that parts of a per cent
// count too.
func weight(e *policy.Entry, whole unit.Rate) int64 {
	switch {
	case e.Weight > 0:
		return int64(e.Weight) * 1000
	case e.AtLeast.Percent > 0:
		return max(1, int64(e.AtLeast.Percent)/10)
	case e.AtLeast.Rate > 0:
		return max(1, int64(e.AtLeast.Rate)*100_000/int64(whole))
	}
	return 1000
}

// A Promise is what an entry gets when all want everything, and the entries
// within it.
type Promise struct {
	Entry   *policy.Entry
	Rate    unit.Rate
	Ceiling unit.Rate // what it never exceeds: its own at-most or policer, or those around it
	Inner   []*Promise
}

// Promises returns what each entry of a policy, and the rest, gets at an
// interface of the given rate when all of them want everything.
func Promises(p *policy.Policy, rate unit.Rate) []*Promise {
	whole := Whole(p, rate)
	root := &fluid.Node{}
	promises := grow(root, WithRest(p), whole, whole)
	fluid.Allocate(root, whole)
	settle(root, promises)
	return promises
}

// grow makes the fluid tree of one level. A percentage of a promise is of what
// the parent is promised, one of a ceiling of the parent's ceiling.
func grow(parent *fluid.Node, entries []policy.Entry, promise, ceiling unit.Rate) []*Promise {
	var out []*Promise
	for i := range entries {
		e := &entries[i]
		n := &fluid.Node{Priority: e.Priority, Guarantee: e.AtLeast.Of(promise), Ceiling: e.AtMost.Of(ceiling), Weight: weight(e, max(promise, 1)), Demand: fluid.Greedy}
		bound := ceiling
		if n.Ceiling > 0 {
			bound = min(bound, n.Ceiling)
		}
		if e.Police != nil {
			n.Demand = e.Police.Rate.Of(ceiling)
			if peak := e.Police.Peak.Of(ceiling); peak > 0 {
				n.Demand = peak
			}
			bound = min(bound, n.Demand)
			n.Ceiling = bound
		}
		if e.Block {
			n.Demand, bound = 0, 0
		}
		o := &Promise{Entry: e, Ceiling: bound}
		if inner := e.Inner(); len(inner) > 0 && !e.Block {
			own := n.Guarantee
			if e.Priority > 0 {
				own = bound
			}
			o.Inner = grow(n, withRest(inner, e.Source), own, bound)
		}
		parent.Children = append(parent.Children, n)
		out = append(out, o)
	}
	return out
}

func settle(n *fluid.Node, promises []*Promise) {
	for i, p := range promises {
		p.Rate = n.Children[i].Gets
		settle(n.Children[i], p.Inner)
	}
}

// QueueLimit returns a queue's limit in bytes, or 0 when it is in packets: a
// limit in time is what passes in that time at the promised rate.
func QueueLimit(q *policy.QueueSpec, promise unit.Rate, maxPacket unit.Size) unit.Size {
	switch {
	case q.Packets > 0:
		return 0
	case q.Bytes > 0:
		return q.Bytes
	case q.Time > 0:
		return max(1, promise.Bytes(q.Time))
	}
	return max(promise.Bytes(DefaultQueueTime), leastDefaultPackets*maxPacket)
}

// Classes returns the names of the classes the path books to, in the order of
// the policy; nil for a plain FIFO.
func (p *Path) Classes() []string { return p.classes }

// Counters returns the counters of each class; they go on counting.
func (p *Path) Counters() []Counters { return p.counters }

// Enqueue takes a packet in, or drops it and says why. The path keeps a packet
// it takes until Dequeue gives it back.
func (p *Path) Enqueue(now time.Duration, pkt *packet.Packet) Reason {
	pkt.Arrived = now
	pkt.Size = int32(p.framing.Size(pkt.Length))
	at, slot := 0, 0
	if p.matcher != nil {
		if at = p.matcher.Match(pkt); at < 0 {
			at = len(p.entries) - 1
		}
		slot = at
	} else {
		slot = p.classOf(pkt)
	}
	pkt.Slot = int32(slot)
	e, c := &p.entries[at], &p.counters[slot]
	c.OfferedPackets++
	c.OfferedBytes += uint64(pkt.Size)
	if e.block {
		c.Drops[Blocked]++
		return Blocked
	}
	if e.policed && !e.bucket.Take(now, int(pkt.Size)) {
		c.Drops[Policed]++
		return Policed
	}
	if e.mark != nil {
		Mark(e.mark, pkt)
	}
	if !e.queue.Push(pkt) {
		c.Drops[QueueFull]++
		return QueueFull
	}
	c.MaxQueueBytes = max(c.MaxQueueBytes, e.queue.Bytes())
	if e.queue.Len() == 1 {
		p.tree.Ready(now, at)
	}
	return Passed
}

// Dequeue gives back the packet to send now. When there is none it returns nil
// and the time to ask again, or schedule.Never; the next Enqueue is another.
func (p *Path) Dequeue(now time.Duration) (*packet.Packet, time.Duration) {
	leaf, again := p.tree.Next(now)
	if leaf < 0 {
		return nil, again
	}
	q := &p.entries[leaf].queue
	pkt := q.Pop()
	p.tree.Sent(now, leaf, int(pkt.Size), q.Len() > 0)
	c := &p.counters[pkt.Slot]
	c.SentPackets++
	c.SentBytes += uint64(pkt.Size)
	c.Marks[pkt.DSCP()]++
	return pkt, now
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
