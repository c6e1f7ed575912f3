package simulate

import (
	"math/rand/v2"
	"net/netip"
	"strings"
	"time"

	"imbrel/core/datapath"
	"imbrel/core/measure"
	"imbrel/core/packet"
	"imbrel/core/policy"
	"imbrel/core/queue"
	"imbrel/core/route"
	"imbrel/core/schedule"
	"imbrel/core/unit"
)

// A port is an interface at work.
type port struct {
	face *policy.Interface
	node int
	peer *port // at the other end of the link, or nil

	in, out path
	sending bool
	clock   unit.Clock // when what is being sent is sent

	carrier *carrier // nil: the link carries what the interface sends
	delay   time.Duration
}

// A path is a data path with what the rehearsal measures of it.
type path struct {
	*datapath.Path // nil: packets pass untouched
	policy         *policy.Policy
	learner        *datapath.Path // the policy attached here, in force or not; only to classify
	class          []int          // that each entry of it stands for in the measures
	names          []string       // of each of the data path's counters
	delays         []measure.Distribution
	asking         time.Duration // when it is asked again, if later than now
	offered, sent  []uint64      // bytes in the measured time
}

// A carrier is the provider's plain FIFO where a link carries less than the
// interface sends.
type carrier struct {
	rate    unit.Rate
	queue   queue.FIFO
	sending bool
	clock   unit.Clock
	drops   uint64
	bytes   uint64 // carried in the measured time
	delay   measure.Distribution
}

// network is the file's network at work.
type network struct {
	ports  []*port
	byFace map[*policy.Interface]*port
	table  *route.Table
	next   [][]*port // the same, by node and destination node
}

// where returns the port behind which an address is, or nil.
func (n *network) where(a netip.Addr) *port {
	return n.byFace[n.table.Where(a)]
}

// build puts the network together, with the policies in force or not.
func build(f *policy.File, w *works) *network {
	n := &network{byFace: make(map[*policy.Interface]*port), table: route.New(f)}
	for i := range f.Network.Nodes {
		node := &f.Network.Nodes[i]
		for j := range node.Interfaces {
			face := &node.Interfaces[j]
			p := &port{face: face, node: i}
			n.ports = append(n.ports, p)
			n.byFace[face] = p
			p.in = newPath(f, face, policy.In, w)
			p.out = newPath(f, face, policy.Out, w)
		}
	}
	for _, p := range n.ports {
		link := p.face.Link
		if link == nil {
			continue
		}
		own, other := link.Ends[p.face.End], link.Ends[1-p.face.End]
		p.peer, p.delay = n.byFace[other.Interface], link.Delay
		if own.Sends > 0 && own.Sends < p.face.Rate {
			p.carrier = &carrier{rate: own.Sends, queue: queue.FIFO{Limits: queue.Limits{Bytes: int64(own.Sends.Bytes(own.Buffer))}}}
		}
	}
	n.next = make([][]*port, len(f.Network.Nodes))
	for i := range f.Network.Nodes {
		n.next[i] = make([]*port, len(f.Network.Nodes))
		for j := range f.Network.Nodes {
			n.next[i][j] = n.byFace[n.table.Next(&f.Network.Nodes[i], &f.Network.Nodes[j])]
		}
	}
	return n
}

// works is what every path of a network is made with.
type works struct {
	withPolicy bool
	classes    map[string]int // number of each class in the measures
	names      []string       // the same, by number
	classOf    func(*packet.Packet) int
	drop       func(*packet.Packet)
	random     func(name string) *rand.Rand
	startAt    time.Time
}

// measuredAs returns the class that an entry stands for in the measures: the
// innermost of "sales/voice" that is not the rest.
func measuredAs(name string) string {
	parts := strings.Split(name, "/")
	for i := len(parts) - 1; i > 0; i-- {
		if parts[i] != policy.Rest {
			return parts[i]
		}
	}
	return parts[0]
}

func newPath(f *policy.File, face *policy.Interface, d policy.Direction, w *works) path {
	attached := f.Attached(face, d)
	p := path{asking: schedule.Never}
	c := datapath.Config{Rate: face.Rate, Framing: face.Framing, Classes: len(w.classes), ClassOf: w.classOf,
		Drop: func(pkt *packet.Packet, _ datapath.Reason) { w.drop(pkt) }, Random: w.random(face.Path() + " " + d.String()), StartAt: w.startAt, InName: f.InterfaceName}
	if attached != nil {
		c.Policy, c.Always = attached, true
		p.learner = datapath.New(c)
		c.Always = false
		for _, name := range p.learner.Classes() {
			p.class = append(p.class, w.classes[measuredAs(name)])
		}
		c.Policy = nil
		if w.withPolicy {
			c.Policy, p.policy = attached, attached
		}
	}
	if c.Policy == nil && d == policy.In {
		return p // nothing stands there
	}
	p.Path = datapath.New(c)
	p.names = p.Classes()
	if c.Policy == nil {
		p.names = w.names
	}
	p.delays = make([]measure.Distribution, len(p.names))
	p.offered, p.sent = make([]uint64, len(p.names)), make([]uint64, len(p.names))
	return p
}
