package simulate

import (
	"math/rand/v2"
	"net/netip"
	"strings"
	"time"

	"imbrel/core/classify"
	"imbrel/core/datapath"
	"imbrel/core/measure"
	"imbrel/core/packet"
	"imbrel/core/plan"
	"imbrel/core/policy"
	"imbrel/core/queue"
	"imbrel/core/route"
	"imbrel/core/schedule"
	"imbrel/core/tunnel"
	"imbrel/core/unit"
)

// A port is an interface at work.
type port struct {
	iface *policy.Interface
	peer  *port // at the other end of the link, or nil

	in, out path
	sending bool
	clock   unit.Clock // when what is being sent is sent

	carrier *carrier // nil: the link carries what the interface sends
	delay   time.Duration
}

// A path is a data path with what the rehearsal measures of it. It is made when the
// first packet comes.
type path struct {
	*datapath.Path
	config     datapath.Config
	attached   *plan.Plan           // the policy attached here, in force or not
	classifier *classify.Classifier // of that policy, every entry in force
	class      []int                // that each entry of it counts as in the measures
	same       bool                 // the data path finds the same entry as the classifier
	names      []string             // of each of the data path's counters
	delays     []measure.Distribution
	asking     time.Duration // when it is asked again, if later than now
	offered    []uint64      // bytes in the measured time
	sent       []uint64      // the same
	pcps, tcs  [][8]uint64   // packets by the priority code point and the traffic class they left with
}

// leaves counts the marks below and above IP with which a packet leaves.
func (p *path) leaves(f *flight) {
	if !f.Tagged && f.Labels() == 0 {
		return
	}
	if p.pcps == nil {
		p.pcps, p.tcs = make([][8]uint64, len(p.names)), make([][8]uint64, len(p.names))
	}
	pcp, tagged := f.PCP()
	tc, labelled := f.TC()
	for i := int(f.Slot); i >= 0; i = p.Parent(i) {
		if tagged {
			p.pcps[i][pcp]++
		}
		if labelled {
			p.tcs[i][tc]++
		}
	}
}

// A carrier is the provider's plain FIFO where a link carries less than the
// interface sends. It counts bytes by a framing of its own.
type carrier struct {
	rate    unit.Rate
	framing packet.Framing
	queue   queue.FIFO
	sending bool
	clock   unit.Clock
	drops   uint64
	bytes   uint64 // carried in the measured time
	delay   measure.Distribution
}

// A hop is one node on a packet's route.
type hop struct {
	tunnel.Crossing
	in, out *port
	wraps   bool
}

// network is the file's network at work.
type network struct {
	ports   []*port
	byIface map[*policy.Interface]*port
	table   *route.Table
	routes  map[[2]*port][]hop // nil: there is none
}

// where returns the port at which an address is, or nil.
func (n *network) where(a netip.Addr) *port {
	return n.byIface[n.table.Where(a)]
}

// route returns the hops between two ports, worked out once. An error says why
// there are none.
func (n *network) route(from, to *port) ([]hop, error) {
	key := [2]*port{from, to}
	if known, ok := n.routes[key]; ok && known != nil {
		return known, nil
	}
	hops, err := n.table.Route(from.iface, to.iface)
	if err != nil {
		n.routes[key] = nil
		return nil, err
	}
	out := make([]hop, len(hops))
	for i, c := range tunnel.Crossings(hops) {
		out[i] = hop{Crossing: c, in: n.byIface[c.In], out: n.byIface[c.Out], wraps: c.Wraps()}
	}
	n.routes[key] = out
	return out, nil
}

// conditions are what every path of a network is made with.
type conditions struct {
	withPolicy bool
	classes    map[string]int // number of each class in the measures
	names      []string       // the same, by number
	classOf    func(*packet.Packet) int
	drop       func(*packet.Packet)
	random     func(name string) *rand.Rand
	startAt    time.Time
}

// build puts the network together, with the policies in force or not.
func build(f *policy.File, c *conditions) *network {
	n := &network{byIface: make(map[*policy.Interface]*port), table: route.New(f), routes: make(map[[2]*port][]hop)}
	for i := range f.Network.Nodes {
		for _, iface := range f.Network.Nodes[i].Interfaces {
			p := &port{iface: iface, in: newPath(f, iface, policy.In, c), out: newPath(f, iface, policy.Out, c)}
			n.ports = append(n.ports, p)
			n.byIface[iface] = p
		}
	}
	for _, p := range n.ports {
		peer := p.iface.Peer()
		if peer == nil {
			continue
		}
		p.peer, p.delay = n.byIface[peer], p.iface.Link.Delay
		own := &p.iface.Link.Ends[p.iface.End]
		if rate, framing, slower := own.Carrier(); slower {
			p.carrier = &carrier{rate: rate, framing: framing, queue: queue.FIFO{Limits: queue.Limits{Bytes: int64(rate.Bytes(own.Buffer))}}}
		}
	}
	return n
}

// measuredAs returns the class that an entry counts as in the measures: the
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

func newPath(f *policy.File, iface *policy.Interface, d policy.Direction, c *conditions) path {
	p := path{asking: schedule.Never}
	p.config = datapath.Config{Rate: iface.Rate, Framing: iface.Framing, Classes: len(c.names), ClassOf: c.classOf,
		Drop: func(pkt *packet.Packet, _ datapath.Reason) { c.drop(pkt) }, StartAt: c.startAt, InName: f.InterfaceName}
	if a := iface.Attached[d]; a != nil {
		p.attached = plan.Attached(a)
		p.classifier = classify.New(p.attached)
		for _, e := range p.attached.Entries {
			p.class = append(p.class, c.classes[measuredAs(e.Name)])
		}
		if c.withPolicy {
			p.config.Plan = p.attached
			p.config.Random = c.random(iface.Path() + " " + d.String())
			p.open(c.names)
		}
	}
	return p
}

// open makes the data path.
func (p *path) open(names []string) {
	p.Path = datapath.New(p.config)
	if p.names = p.Classes(); p.config.Plan == nil {
		p.names = names
	}
	p.same = p.config.Plan != nil && !p.Sometimes()
	p.delays = make([]measure.Distribution, len(p.names))
	p.offered, p.sent = make([]uint64, len(p.names)), make([]uint64, len(p.names))
}
