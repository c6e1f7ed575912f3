package datapath

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"imbrel/core/packet"
	"imbrel/core/policy"
	"imbrel/core/queue"
	"imbrel/core/schedule"
)

// Bounds of the instances of one entry. Beyond MaxInstances those that are new
// share one.
const (
	MaxInstances = 1 << 17
	idleAfter    = time.Minute
)

// An instanceKey is what the packets of one instance have in common.
type instanceKey struct {
	source, destination netip.Addr
	fromPort, toPort    uint16 // with protocol, of a flow
	vlan                uint16
	protocol            uint8
	flow                bool
	in                  int32
}

func (k instanceKey) String() string {
	var parts []string
	switch {
	case k.flow:
		parts = append(parts, fmt.Sprintf("flow %s, %s to %s", policy.ProtocolName(k.protocol),
			netip.AddrPortFrom(k.source, k.fromPort), netip.AddrPortFrom(k.destination, k.toPort)))
	default:
		if k.source.IsValid() {
			parts = append(parts, "source "+k.source.String())
		}
		if k.destination.IsValid() {
			parts = append(parts, "destination "+k.destination.String())
		}
	}
	if k.vlan > 0 {
		parts = append(parts, fmt.Sprint("vlan ", k.vlan))
	}
	if k.in > 0 {
		parts = append(parts, fmt.Sprint("interface ", k.in))
	}
	if len(parts) == 0 {
		return "all others"
	}
	return strings.Join(parts, ", ")
}

// each is the instances of an entry: a separate policer, limits and queue for
// every value.
type each struct {
	by        []string
	open      int // of the scheduler
	node      schedule.Node
	queue     func() queue.Discipline
	police    *policing
	instances map[instanceKey]*instance
	// Those seen longest ago first.
	oldest, newest *instance
	most           int
	shared         uint64 // packets of the instance that those beyond the bound share
}

// An instance is one value's. It is removed when it has idled.
type instance struct {
	key          instanceKey
	queue        queue.Discipline
	police       *policing
	leaf         int
	seen         time.Duration
	older, newer *instance

	Offered, Dropped, OfferedBytes uint64
}

func (e *each) key(pkt *packet.Packet) instanceKey {
	var k instanceKey
	for _, by := range e.by {
		switch by {
		case "source":
			k.source = pkt.Flow.From
		case "destination":
			k.destination = pkt.Flow.To
		case "flow":
			f := &pkt.Flow
			k.source, k.destination, k.fromPort, k.toPort, k.protocol, k.flow = f.From, f.To, f.FromPort, f.ToPort, f.Protocol, true
		case "vlan":
			k.vlan = pkt.VLAN
		case "interface":
			k.in = pkt.In
		}
	}
	return k
}

// instance returns the instance of a packet, made on the first.
func (p *Path) instance(now time.Duration, at int32, e *each, pkt *packet.Packet) *instance {
	k := e.key(pkt)
	i := e.instances[k]
	if i == nil {
		p.expire(now, e)
		if len(e.instances) >= MaxInstances {
			e.shared++
			if i = e.instances[instanceKey{}]; i != nil {
				return i
			}
			k = instanceKey{}
		}
		i = &instance{key: k, queue: e.queue(), leaf: p.tree.Add(e.open, e.node)}
		if e.police != nil {
			own := *e.police
			i.police = &own
		}
		for len(p.leaves) <= i.leaf {
			p.leaves = append(p.leaves, leafQueue{})
		}
		p.leaves[i.leaf] = leafQueue{at, i.queue}
		e.instances[k] = i
		e.most = max(e.most, len(e.instances))
	} else {
		e.unlink(i)
	}
	i.seen = now
	i.older, i.newer = e.newest, nil
	if e.newest != nil {
		e.newest.newer = i
	} else {
		e.oldest = i
	}
	e.newest = i
	return i
}

func (e *each) unlink(i *instance) {
	if i.older != nil {
		i.older.newer = i.newer
	} else {
		e.oldest = i.newer
	}
	if i.newer != nil {
		i.newer.older = i.older
	} else {
		e.newest = i.older
	}
}

// expire removes the instances that have idled.
func (p *Path) expire(now time.Duration, e *each) {
	for i := e.oldest; i != nil && now-i.seen > idleAfter && i.queue.Len() == 0 && p.tree.Idle(i.leaf); i = e.oldest {
		e.unlink(i)
		delete(e.instances, i.key)
		p.tree.Remove(i.leaf)
	}
}

// An Instance is what was counted for one value of an entry's each.
type Instance struct {
	Value                          string
	Offered, Dropped, OfferedBytes uint64
}

// Instances returns, of the entry of a class, how many instances there were at
// most at a time, how many packets shared one because there were too many, and
// those that were offered most.
func (p *Path) Instances(class, top int) (most int, shared uint64, list []Instance) {
	if p.classOf != nil || p.elements[class].each == nil {
		return 0, 0, nil
	}
	e := p.elements[class].each
	for _, i := range e.instances {
		list = append(list, Instance{i.key.String(), i.Offered, i.Dropped, i.OfferedBytes})
	}
	slices.SortFunc(list, func(a, b Instance) int {
		if a.OfferedBytes != b.OfferedBytes {
			if a.OfferedBytes > b.OfferedBytes {
				return -1
			}
			return 1
		}
		return strings.Compare(a.Value, b.Value)
	})
	return e.most, e.shared, list[:min(top, len(list))]
}

// each compiles the instances of an entry.
func (b *compiler) each(e *policy.Entry, o *Promise, n *schedule.Node, police *policing) *each {
	out := &each{by: e.Each, open: b.opens, police: police, instances: make(map[instanceKey]*instance),
		node: schedule.Node{Ceiling: n.Ceiling, Credit: n.Credit, Peak: n.Peak, Weight: 1}}
	b.opens++
	n.Open, n.Ceiling, n.Peak, n.Credit = true, 0, 0, 0 // the limits are each one's own
	own := *o
	if e.Police != nil || !e.AtMost.IsZero() {
		own.Rate = o.Ceiling
	}
	out.queue = func() queue.Discipline { return b.queue(&e.Queue, &own) }
	return out
}
