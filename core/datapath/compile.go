package datapath

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"time"

	"imbrel.example/imbrel/core/classify"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/queue"
	"imbrel.example/imbrel/core/schedule"
	"imbrel.example/imbrel/core/unit"
)

// New compiles a path.
func New(c Config) *Path {
	p := &Path{framing: c.Framing, drop: c.Drop, inName: c.InName, startAt: c.StartAt, turned: c.Turned, countAs: c.CountAs, room: c.Room, answered: c.Answered}
	if c.Plan != nil {
		p.countAs = c.Plan
	}
	if p.countAs != nil {
		p.parents = make([]int32, len(p.countAs.Entries))
		for i, e := range p.countAs.Entries {
			p.parents[i] = -1
			if e.Parent != nil {
				p.parents[i] = int32(e.Parent.Number)
			}
		}
	}
	if p.inName == nil {
		p.inName = func(number int32) string { return fmt.Sprint(number) }
	}
	if p.drop == nil {
		p.drop = func(*packet.Packet, Reason) {}
	}
	if c.Random == nil {
		c.Random = rand.New(rand.NewPCG(0, 0))
	}
	if c.Plan == nil {
		p.withoutPolicy(&c)
		return p
	}
	p.framing = c.Plan.Framing
	p.classifier = classify.New(c.Plan)
	p.elements = make([]element, len(c.Plan.Entries))
	p.counters = newCounters(len(p.elements))
	b := &compiler{path: p, config: &c, maxPacket: c.Plan.MaxPacket, nodes: 1}
	root := schedule.Entry{Ceiling: c.Plan.Shape, Credit: c.Plan.Credit()}
	p.credit = root.Credit
	if c.Plan.Policy != nil && c.Plan.Policy.Follows { // the promises are parts of what there is
		root.Relative = c.Plan.Whole
	}
	b.level(&root, c.Plan.Top)
	p.start()
	p.tree = schedule.New(root, c.Plan.MaxPacket)
	p.begin()
	p.straight = c.Incoming && c.Plan.Shape == 0
	for i := range p.elements { // nothing holds a packet up; an empty queue of tail drop takes any packet
		e := &p.elements[i]
		p.limits = p.limits || e.entry.AtMost != nil
		if e.entry.AtMost != nil || e.entry.Leaf() && e.queue != nil {
			p.straight = false
		}
	}
	return p
}

// withoutPolicy makes the path a plain FIFO, which needs no scheduler.
func (p *Path) withoutPolicy(c *Config) {
	p.plain.Limits = queue.Limits{Bytes: int64(plan.FIFO(c.Rate, c.Framing))}
	p.fifo = &p.plain
	p.classOf = c.ClassOf
	if p.classOf == nil {
		p.classOf = func(*packet.Packet) int { return 0 }
	}
	if p.counters = make([]*Counters, max(c.Classes, 1)); p.countAs != nil {
		p.counters = newCounters(len(p.parents))
	}
}

// start makes the states of the elements without instances.
func (p *Path) start() {
	for i := range p.elements {
		if e := &p.elements[i]; e.instances == nil {
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

// A compiler turns a plan's entries into elements and the scheduler's tree.
type compiler struct {
	path      *Path
	config    *Config
	maxPacket unit.Size
	nodes     int          // so far, of the tree's or of the instance's
	instances *instanceSet // what is being compiled is of its instances
}

// level compiles the entries of one level.
func (b *compiler) level(parent *schedule.Entry, entries []*plan.Entry) {
	for _, e := range entries {
		parent.Children = append(parent.Children, b.entry(e))
	}
}

// entry compiles an entry and those within it.
func (b *compiler) entry(e *plan.Entry) schedule.Entry {
	n := schedule.Entry{Priority: e.Priority, Weight: e.Weight}
	if e.Priority == 0 {
		n.Guarantee, n.Lag = e.Part, b.config.Plan.Lag(e)
	}
	if m := e.AtMost; m != nil && m.When == nil {
		n.Ceiling, n.Peak, n.Credit = m.Rate, m.Peak, m.Credit
	}
	own := &b.path.elements[e.Number]
	*own = element{entry: e, number: int32(e.Number), counters: b.path.counters[e.Number], Treatment: TreatmentOf(e, func(*plan.When) bool { return false }),
		capped: e.AtMost != nil && e.AtMost.When == nil}
	if e.Parent != nil {
		own.acts = slices.Clip(b.path.elements[e.Parent.Number].acts)
	}
	if own.mark != nil || e.Spec.Block || e.Meter != nil {
		own.acts = append(own.acts, own)
	}
	if e.Meter != nil {
		m := e.Meter.New()
		own.meter = &m
	}
	several := e.Each != 0 && !e.Block
	outer, open := b.instances, b.nodes
	if several {
		b.instances, b.nodes = newInstanceSet(e.Each, outer, own.number, open), 0
	}
	own.instances, own.node = b.instances, b.nodes
	b.nodes++
	if b.instances != nil {
		b.instances.remembers(e)
	}
	b.path.watch(own)
	if e.Leaf() {
		b.queue(own)
	} else {
		b.level(&n, e.Inner)
	}
	if several {
		n = b.close(n, e)
		b.instances, b.nodes = outer, open+1
	}
	return n
}

// close closes the entry whose instances were compiled: their node is added as they
// come, within one that is open.
func (b *compiler) close(n schedule.Entry, e *plan.Entry) schedule.Entry {
	out := schedule.Entry{Priority: n.Priority, Guarantee: n.Guarantee, Lag: n.Lag, Weight: n.Weight, Open: true}
	n.Weight, n.Relative = 1, e.Ceiling
	b.instances.node, b.instances.end = n, int32(e.Number)+1
	for _, o := range b.config.Plan.Entries[e.Number+1:] { // those within it follow
		if !o.IsWithin(e) {
			break
		}
		b.instances.end++
	}
	return out
}

// remembers makes the instances stay until the buckets of an entry are full again.
func (s *instanceSet) remembers(e *plan.Entry) {
	if e.Meter != nil {
		s.idle = max(s.idle, e.Meter.Fills())
	}
	if m := e.AtMost; m != nil {
		s.idle = max(s.idle, m.Rate.Time(m.Credit))
	}
}

// instanceFlows is how many flows the fq-codel of an instance separates: fewer
// than one that all share, since there may be many of them.
const instanceFlows = 64

// queue compiles the queue of an entry without entries within.
func (b *compiler) queue(e *element) {
	q, flows := &e.entry.Queue, queue.Flows
	if b.instances != nil {
		b.instances.cost++
		flows = instanceFlows
	}
	e.limits = queue.Limits{Packets: q.Packets, Bytes: int64(q.Bytes)}
	if b.instances != nil && q.Drop.Row().Fair {
		b.instances.cost += instanceFlows / 8
	}
	if discipline := disciplines[q.Drop]; discipline != nil {
		limits := e.limits
		e.queue = func() queue.Discipline { return discipline(b, q, limits, flows) }
	}
}

// disciplines make the queues of each dropper; nil: the plain FIFO that every element has.
var disciplines = [...]func(b *compiler, q *plan.Queue, limits queue.Limits, flows int) queue.Discipline{
	policy.TailDrop: nil,
	policy.RED: func(b *compiler, q *plan.Queue, limits queue.Limits, _ int) queue.Discipline {
		red := queue.NewRED(limits, q.Rate, int(b.maxPacket), q.ECN, b.config.Random)
		red.Set(q.RED.From, q.RED.To, q.RED.Probability, q.RED.Weight)
		return red
	},
	policy.PIE: func(b *compiler, q *plan.Queue, limits queue.Limits, _ int) queue.Discipline {
		return queue.NewPIE(limits, int(b.maxPacket), q.ECN, b.config.Random)
	},
	policy.CoDel: func(b *compiler, q *plan.Queue, limits queue.Limits, _ int) queue.Discipline {
		return queue.NewCoDel(limits, b.slowest(q), int(b.maxPacket), q.ECN, b.path.discard)
	},
	policy.FQCoDel: func(b *compiler, q *plan.Queue, limits queue.Limits, flows int) queue.Discipline {
		return queue.NewFQCoDel(limits, flows, b.slowest(q), int(b.maxPacket), q.ECN, b.path.discard)
	},
}

// slowest returns the time that the largest packet takes at a queue's rate.
func (b *compiler) slowest(q *plan.Queue) time.Duration {
	return max(q.Rate, unit.MinRate).Time(b.maxPacket)
}
