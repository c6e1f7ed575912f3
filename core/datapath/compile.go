package datapath

import (
	"math/rand/v2"

	"imbrel/core/meter"
	"imbrel/core/packet"
	"imbrel/core/policy"
	"imbrel/core/queue"
	"imbrel/core/schedule"
	"imbrel/core/unit"
)

// New compiles a path. The policy was validated when it was read.
func New(c Config) *Path {
	p := &Path{framing: c.Framing, drop: c.Drop, startAt: c.StartAt}
	if p.drop == nil {
		p.drop = func(*packet.Packet, Reason) {}
	}
	if c.Random == nil {
		c.Random = rand.New(rand.NewPCG(0, 0))
	}
	maxPacket := unit.Size(c.Framing.Size(1500))
	if c.Policy == nil {
		limit := max(int64(c.Rate.Bytes(DefaultQueueTime)), leastDefaultPackets*int64(maxPacket))
		p.elements = []element{{parent: -1, queue: &queue.FIFO{Limits: queue.Limits{Bytes: limit}}}}
		p.leaves = []leafQueue{{0, p.elements[0].queue}}
		p.counters = make([]Counters, c.Classes)
		p.classOf = c.ClassOf
		p.tree = schedule.New(schedule.Node{Children: []schedule.Node{{}}}, maxPacket)
		return p
	}
	b := &compiler{path: p, config: &c, maxPacket: maxPacket}
	whole := Whole(c.Policy, c.Rate)
	root := schedule.Node{}
	if c.Policy.Shape > 0 {
		root.Ceiling = whole
	}
	promises := Promises(c.Policy, c.Rate)
	p.pressure.whole = whole
	p.top = b.level(&root, promises, -1, "", whole, whole)
	p.counters = make([]Counters, len(p.elements))
	p.tree = schedule.New(root, maxPacket)
	return p
}

// A compiler turns a policy's entries into elements and the scheduler's tree.
type compiler struct {
	path      *Path
	config    *Config
	maxPacket unit.Size
	opens     int
}

// level compiles the entries of one level. Percentages are as in grow.
func (b *compiler) level(parent *schedule.Node, promises []*Promise, around int32, prefix string, promise, ceiling unit.Rate) *level {
	l := &level{}
	sometimes := false
	for _, o := range promises {
		e := o.Entry
		at := int32(len(b.path.elements))
		l.entries = append(l.entries, present{class: e.Class, element: at, when: e.When, there: e.When == nil || b.config.Always, since: -1})
		sometimes = sometimes || e.When != nil && !b.config.Always
		n := schedule.Node{
			Priority: e.Priority, Guarantee: e.AtLeast.Of(promise), Ceiling: e.AtMost.Of(ceiling),
			Credit: 2 * b.maxPacket, Weight: weight(e, max(promise, 1)),
		}
		if e.Above != nil { // the bucket that lasts for so long at the peak
			n.Peak = e.Above.To.Of(ceiling)
			n.Credit += max(n.Peak-n.Ceiling, 0).Bytes(e.Above.For)
		}
		name := prefix + e.ClassName.Text
		b.path.elements = append(b.path.elements, element{parent: around, mark: e.Mark, block: e.Block, police: police(e.Police, ceiling)})
		b.path.classes = append(b.path.classes, name)
		if len(o.Inner) > 0 {
			own := n.Guarantee
			if e.Priority > 0 {
				own = o.Ceiling
			}
			b.path.elements[at].inner = b.level(&n, o.Inner, at, name+"/", own, o.Ceiling)
		} else if own := &b.path.elements[at]; len(e.Each) > 0 && !e.Block {
			own.each = b.each(e, o, &n, own.police)
		} else {
			own.leaf = int32(len(b.path.leaves))
			own.queue = b.queue(&e.Queue, o)
			b.path.leaves = append(b.path.leaves, leafQueue{at, own.queue})
		}
		parent.Children = append(parent.Children, n)
	}
	l.compile()
	if sometimes {
		b.path.whens = append(b.path.whens, l)
	}
	return l
}

// police compiles a policer, or returns nil.
func police(p *policy.Police, ceiling unit.Rate) *policing {
	if p == nil {
		return nil
	}
	out := &policing{actions: [3]policy.Action{p.Green, p.Yellow, p.Red}}
	rate := p.Rate.Of(ceiling)
	switch {
	case p.Has("peak") && p.Has("excess-burst"):
		out.Meter = meter.NewTwoRateExcess(rate, p.Burst, max(p.Peak.Of(ceiling)-rate, unit.MinRate), p.Excess, p.Aware)
	case p.Has("peak"):
		out.Meter = meter.NewTwoRate(p.Peak.Of(ceiling), p.PeakBurst, rate, p.Burst, p.Aware)
	case p.Excess > 0:
		out.Meter = meter.NewSingleRate(rate, p.Burst, p.Excess, p.Aware)
	default:
		out.Meter = meter.New(rate, p.Burst, p.Aware)
	}
	return out
}

// queue compiles the queue of an entry without entries within.
func (b *compiler) queue(q *policy.QueueSpec, o *Promise) queue.Discipline {
	limits := queue.Limits{Packets: q.Packets, Bytes: int64(QueueLimit(q, o.Rate, b.maxPacket))}
	slowest := max(o.Rate, unit.MinRate).Time(b.maxPacket)
	switch q.Drop {
	case "red":
		bytes := limits.Bytes
		if bytes == 0 {
			bytes = int64(q.Packets) * int64(b.maxPacket)
		}
		red := queue.NewRED(bytes, o.Rate, int(b.maxPacket), q.ECN, b.config.Random)
		red.Limits = limits
		return red
	case "codel":
		return queue.NewCoDel(limits, slowest, int(b.maxPacket), q.ECN, b.path.discard)
	case "fq-codel":
		return queue.NewFQCoDel(limits, slowest, int(b.maxPacket), q.ECN, b.path.discard)
	}
	return &queue.FIFO{Limits: limits}
}
