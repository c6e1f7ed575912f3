package simulate

import (
	"net/netip"
	"time"

	"imbrel/core/classify"
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
	matcher        *classify.Matcher // of the policy attached here, in force or not
	class          []int             // of each entry of the policy, then of the rest
	slots          []int             // class of each of the data path's counters
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
func build(f *policy.File, withPolicy bool, classes map[string]int, classOf func(*packet.Packet) int) *network {
	n := &network{byFace: make(map[*policy.Interface]*port), table: route.New(f)}
	for i := range f.Network.Nodes {
		node := &f.Network.Nodes[i]
		for j := range node.Interfaces {
			face := &node.Interfaces[j]
			p := &port{face: face, node: i}
			n.ports = append(n.ports, p)
			n.byFace[face] = p
			p.in = newPath(f, face, policy.In, withPolicy, classes, classOf)
			p.out = newPath(f, face, policy.Out, withPolicy, classes, classOf)
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
			p.carrier = &carrier{rate: own.Sends, queue: queue.FIFO{MaxBytes: int64(own.Sends.Bytes(own.Buffer))}}
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

func newPath(f *policy.File, face *policy.Interface, d policy.Direction, withPolicy bool, classes map[string]int, classOf func(*packet.Packet) int) path {
	attached := f.Attached(face, d)
	p := path{asking: schedule.Never}
	c := datapath.Config{Rate: face.Rate, Framing: face.Framing, Direction: d, Classes: len(classes), ClassOf: classOf}
	if attached != nil {
		p.matcher = classify.Compile(classify.Of(attached.Treat))
		for _, e := range datapath.WithRest(attached) {
			p.class = append(p.class, classes[e.ClassName.Text])
		}
		if withPolicy {
			c.Policy, p.policy = attached, attached
		}
	}
	switch {
	case c.Policy != nil:
		p.slots = p.class
	case d == policy.In:
		return p // nothing stands there
	default:
		for i := range len(classes) {
			p.slots = append(p.slots, i)
		}
	}
	p.Path = datapath.New(c)
	p.delays = make([]measure.Distribution, len(p.slots))
	p.offered, p.sent = make([]uint64, len(p.slots)), make([]uint64, len(p.slots))
	return p
}
