package datapath

import (
	"fmt"
	"math/rand/v2"
	"slices"

	"imbrel/core/meter"
	"imbrel/core/packet"
	"imbrel/core/policy"
	"imbrel/core/queue"
	"imbrel/core/schedule"
	"imbrel/core/unit"
)

// New compiles a path. The policy was validated when it was read.
func New(c Config) *Path {
	p := &Path{framing: c.Framing, drop: c.Drop, inName: c.InName, startAt: c.StartAt}
	if p.inName == nil {
		p.inName = func(number int32) string { return fmt.Sprint(number) }
	}
	if p.drop == nil {
		p.drop = func(*packet.Packet, Reason) {}
	}
	if c.Random == nil {
		c.Random = rand.New(rand.NewPCG(0, 0))
	}
	maxPacket := unit.Size(c.Framing.Size(1500))
	if c.Policy == nil {
		limit := max(int64(c.Rate.Bytes(DefaultQueueTime)), leastDefaultPackets*int64(maxPacket))
		p.elements = []*element{{parent: -1, node: 1, limits: queue.Limits{Bytes: limit}}}
		p.start()
		p.counters = make([]Counters, c.Classes)
		p.classOf = c.ClassOf
		p.tree = schedule.New(schedule.Node{Children: []schedule.Node{{}}}, maxPacket)
		return p
	}
	b := &compiler{path: p, config: &c, maxPacket: maxPacket, nodes: 1}
	whole := Whole(c.Policy, c.Rate)
	root := schedule.Node{}
	if c.Policy.Shape > 0 {
		root.Ceiling = whole
	}
	promises := Promises(c.Policy, c.Rate)
	p.pressure.whole = whole
	p.top = b.level(&root, promises, nil, "", whole, whole)
	p.counters = make([]Counters, len(p.elements))
	p.start()
	p.tree = schedule.New(root, maxPacket)
	return p
}

// start makes the states of the elements without instances.
func (p *Path) start() {
	for _, e := range p.elements {
		if e.each == nil {
			e.own.start(e, 0)
			p.node(&e.own)
		}
	}
}

// node books a state to its node.
func (p *Path) node(s *state) {
	for len(p.nodes) <= s.node {
		p.nodes = append(p.nodes, nil)
	}
	p.nodes[s.node] = s
}

// A compiler turns a policy's entries into elements and the scheduler's tree.
type compiler struct {
	path      *Path
	config    *Config
	maxPacket unit.Size
	nodes     int   // so far, of the tree's or of the instance's
	each      *each // what is being compiled is of its instances
}

// level compiles the entries of one level. Percentages are as in grow.
func (b *compiler) level(parent *schedule.Node, promises []*Promise, around *element, prefix string, promise, ceiling unit.Rate) *level {
	l := &level{}
	sometimes := false
	for _, o := range promises {
		e := o.Entry
		at := len(b.path.elements)
		parent.Children = append(parent.Children, b.entry(o, around, prefix, promise, ceiling))
		l.entries = append(l.entries, present{class: e.Class, element: b.path.elements[at], when: e.When, there: e.When == nil || b.config.Always, since: -1})
		sometimes = sometimes || e.When != nil && !b.config.Always
	}
	l.compile()
	if sometimes {
		b.path.whens = append(b.path.whens, l)
	}
	return l
}

// entry compiles an entry and those within it.
func (b *compiler) entry(o *Promise, around *element, prefix string, promise, ceiling unit.Rate) schedule.Node {
	e := o.Entry
	n := schedule.Node{
		Priority: e.Priority, Guarantee: o.AtLeast, Ceiling: e.AtMost.Of(ceiling),
		Credit: 2 * b.maxPacket, Weight: weight(e, max(promise, 1)),
	}
	if e.Above != nil { // the bucket that lasts for so long at the peak
		n.Peak = e.Above.To.Of(ceiling)
		n.Credit += max(n.Peak-n.Ceiling, 0).Bytes(e.Above.For)
	}
	own := &element{number: int32(len(b.path.elements)), parent: -1, mark: e.Mark, block: e.Block}
	if around != nil {
		own.parent, own.acts = around.number, slices.Clip(around.acts)
	}
	if e.Mark != nil || e.Block || e.Police != nil {
		own.acts = append(own.acts, own)
	}
	if p := e.Police; p != nil {
		m := police(p, ceiling)
		own.meter, own.actions = &m, [3]policy.Action{p.Green, p.Yellow, p.Red}
	}
	several := len(e.Each) > 0 && !e.Block
	outer, open := b.each, b.nodes
	if several {
		b.each, b.nodes = newEach(e.Each, outer, own.number, open), 0
	}
	own.each, own.node = b.each, b.nodes
	b.nodes++
	b.path.elements = append(b.path.elements, own)
	b.path.classes = append(b.path.classes, prefix+e.ClassName.Text)
	if len(o.Inner) > 0 {
		own.inner = b.level(&n, o.Inner, own, prefix+e.ClassName.Text+"/", o.whole(), o.Ceiling)
	} else {
		b.queue(own, o)
	}
	if several {
		n = b.instances(n, o)
		b.each, b.nodes = outer, open+1
	}
	return n
}

// instances closes the entry whose instances were compiled: their node is added
// as they come, within one that is open.
func (b *compiler) instances(n schedule.Node, o *Promise) schedule.Node {
	out := schedule.Node{Priority: n.Priority, Guarantee: n.Guarantee, Weight: n.Weight, Open: true}
	n.Weight, n.Relative = 1, o.Ceiling
	b.each.node, b.each.end = n, int32(len(b.path.elements))
	return out
}

// police compiles a policer.
func police(p *policy.Police, ceiling unit.Rate) meter.Meter {
	rate := p.Rate.Of(ceiling)
	switch {
	case p.Has("peak") && p.Has("excess-burst"):
		return meter.NewTwoRateExcess(rate, p.Burst, max(p.Peak.Of(ceiling)-rate, unit.MinRate), p.Excess, p.Aware)
	case p.Has("peak"):
		return meter.NewTwoRate(p.Peak.Of(ceiling), p.PeakBurst, rate, p.Burst, p.Aware)
	case p.Excess > 0:
		return meter.NewSingleRate(rate, p.Burst, p.Excess, p.Aware)
	}
	return meter.New(rate, p.Burst, p.Aware)
}

// instanceFlows is how many flows the fq-codel of an instance tells apart: fewer
// than one that all share, since there may be many of them.
const instanceFlows = 64

// queue compiles the queue of an entry without entries within.
func (b *compiler) queue(e *element, o *Promise) {
	q, rate, flows := &o.Entry.Queue, o.Queue(), queue.Flows
	if b.each != nil {
		b.each.cost++
		flows = instanceFlows
	}
	e.limits = queue.Limits{Packets: q.Packets, Bytes: int64(QueueLimit(q, rate, b.maxPacket))}
	limits, slowest := e.limits, max(rate, unit.MinRate).Time(b.maxPacket)
	switch q.Drop {
	case "red":
		bytes := limits.Bytes
		if bytes == 0 {
			bytes = int64(q.Packets) * int64(b.maxPacket)
		}
		e.queue = func() queue.Discipline {
			red := queue.NewRED(bytes, rate, int(b.maxPacket), q.ECN, b.config.Random)
			red.Limits = limits
			return red
		}
	case "codel":
		e.queue = func() queue.Discipline {
			return queue.NewCoDel(limits, slowest, int(b.maxPacket), q.ECN, b.path.discard)
		}
	case "fq-codel":
		if b.each != nil {
			b.each.cost += instanceFlows / 8
		}
		e.queue = func() queue.Discipline {
			return queue.NewFQCoDel(limits, flows, slowest, int(b.maxPacket), q.ECN, b.path.discard)
		}
	}
}
