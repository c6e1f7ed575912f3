package simulate

import (
	"fmt"
	"net/netip"
	"time"

	"imbrel/core/classify"
	"imbrel/core/datapath"
	"imbrel/core/measure"
	"imbrel/core/packet"
	"imbrel/core/policy"
	"imbrel/core/queue"
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
	ports   []*port
	byFace  map[*policy.Interface]*port
	next    [][]*port // by node and destination node: the port to leave by
	subnets []subnet
	nodes   []string
	cache   map[netip.Addr]*port
}

type subnet struct {
	prefix netip.Prefix
	port   *port
}

// Where returns the port behind which an address is, or nil.
func (n *network) where(a netip.Addr) *port {
	if p, ok := n.cache[a]; ok {
		return p
	}
	var best *port
	length := -1
	for _, s := range n.subnets {
		if s.prefix.Bits() > length && s.prefix.Contains(a) {
			best, length = s.port, s.prefix.Bits()
		}
	}
	const most = 1 << 16 // a capture may hold any number of addresses
	if len(n.cache) >= most {
		clear(n.cache)
	}
	n.cache[a] = best
	return best
}

// build puts the network together, with the policies in force or not.
func build(f *policy.File, withPolicy bool, classes map[string]int, classOf func(*packet.Packet) int) *network {
	n := &network{byFace: make(map[*policy.Interface]*port), cache: make(map[netip.Addr]*port)}
	for i := range f.Network.Nodes {
		node := &f.Network.Nodes[i]
		n.nodes = append(n.nodes, node.Name)
		for j := range node.Interfaces {
			face := &node.Interfaces[j]
			p := &port{face: face, node: i}
			n.ports = append(n.ports, p)
			n.byFace[face] = p
			for _, prefix := range face.Subnets {
				n.subnets = append(n.subnets, subnet{prefix, p})
			}
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
	n.route()
	return n
}

func newPath(f *policy.File, face *policy.Interface, d policy.Direction, withPolicy bool, classes map[string]int, classOf func(*packet.Packet) int) path {
	attached := f.Attached(face, d)
	p := path{asking: schedule.Never}
	c := datapath.Config{Rate: face.Rate, Framing: face.Framing, Direction: d, Classes: len(classes), ClassOf: classOf}
	if attached != nil {
		p.matcher = classify.Compile(attached)
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

// route finds the way from every node to every other: fewest links, then least
// delay, then the order of the file.
func (n *network) route() {
	n.next = make([][]*port, len(n.nodes))
	for from := range n.nodes {
		n.next[from] = make([]*port, len(n.nodes))
	}
	type cost struct {
		hops  int
		delay time.Duration
	}
	toward := make([][]*port, len(n.nodes)) // ports of other nodes whose link ends at a node
	for _, p := range n.ports {
		if p.peer != nil {
			toward[p.peer.node] = append(toward[p.peer.node], p)
		}
	}
	for to := range n.nodes {
		costs := make([]cost, len(n.nodes))
		reached := make([]bool, len(n.nodes))
		reached[to] = true
		ring := []int{to}
		for hops := 1; len(ring) > 0; hops++ { // ring by ring outward
			var outer []int
			for _, at := range ring {
				for _, p := range toward[at] {
					c := cost{hops, costs[at].delay + p.delay}
					switch was := costs[p.node]; {
					case !reached[p.node]:
						reached[p.node] = true
						outer = append(outer, p.node)
					case was.hops < hops || was.delay <= c.delay:
						continue
					}
					costs[p.node], n.next[p.node][to] = c, p
				}
			}
			ring = outer
		}
	}
}

// check finds out whether packets can get from one port to the other.
func (n *network) check(from, to *port, who string) error {
	if from == to {
		return fmt.Errorf("%s: both addresses are behind %s, so nothing between them crosses the network", who, from.face.Path())
	}
	if from.node != to.node && n.next[from.node][to.node] == nil {
		return fmt.Errorf("%s: no way through the network from node `%s` to node `%s`: join them with an entry in `links`",
			who, n.nodes[from.node], n.nodes[to.node])
	}
	return nil
}
