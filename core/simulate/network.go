package simulate

import (
	"encoding/binary"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"imbrel.example/imbrel/core/datapath"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/meter"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/queue"
	"imbrel.example/imbrel/core/route"
	"imbrel.example/imbrel/core/schedule"
	"imbrel.example/imbrel/core/traffic"
	"imbrel.example/imbrel/core/tunnel"
	"imbrel.example/imbrel/core/unit"
)

// A port is an interface at work.
type port struct { // what every packet touches comes first
	sending  bool   // an event asks it again when it has sent
	computes bool   // when its packets leave the link is known when they begin to be sent
	down     bool   // the link carries nothing
	longest  int32  // IP packet, with labels
	number   int32  // in the network
	cuts     uint32 // how often the link went down
	run      *run   // that the port is of
	rate     unit.Rate
	clock    unit.Clock // when what is being sent is sent
	peer     *port      // at the other end of the link, or nil
	carrier  *carrier   // nil: the link carries what the interface sends

	delay                              time.Duration
	ring                               []*flight // of the hardware, first out first; nil: there is none
	carrierPlace, linkPlace, ringPlace int32

	medium *medium   // nil: the link loses nothing, and takes its delay
	bought *contract // nil: the carrier meters nothing

	in       path // each begins in a cache line of its own
	iface    *policy.Interface
	node     int // its number
	_        [8]byte
	out      path
	oversize oversize
	_        [56]byte
}

// placesOfPort is how many places a port has where packets wait or are lost.
const placesOfPort = 5

// A path is a data path with what the rehearsal measures of it. It is made when the
// first packet comes.
type path struct { // what every packet touches comes first
	*datapath.Path
	attached  *plan.Plan     // the policy attached here, in force or not
	shadow    *datapath.Path // of that policy where it is not in force: what it would measure of the load
	recent    *slot          // the one that was used last, nil where none was
	asking    time.Duration  // when it is asked again, if later than now
	place     int32
	ruled     bool                // by a policy in force
	sometimes bool                // which has a `when`
	predictor *datapath.Predictor // of the attached policy
	config    *datapath.Config

	slots     []*slot     // of each of the data path's counters
	members   []member    // what each entry of the attached policy makes a packet count for
	names     []string    // of each of the data path's counters
	turns     []turn      // of what has a `when`
	pcps, tcs [][8]uint64 // packets by the priority code point and the traffic class they left with
	changes   bool        // an event puts another policy in force
	// From and until are when events put the policy in force and took it out of force; 0: at the start, and at the end.
	from, until time.Duration
}

// A member is what the packets count for that an entry takes.
type member struct {
	known    bool
	in       measure.Set
	class    int32       // the first that took them
	from, to measure.Set // the union that was asked for last
}

// A hop is one node on a packet's route.
type hop struct {
	in, out *port
	number  int32 // of the route
	wraps   bool
	tunnel.Crossing
	_ [8]byte // to a whole number of cache lines
}

// network is the file's network at work.
type network struct {
	lock    sync.Mutex // of routes
	ports   []*port
	byIface map[*policy.Interface]*port
	file    *policy.File
	table   *route.Table
	whole   *route.Table       // without failures; nil: nobody needed it
	routes  map[routeKey][]hop // nil: there is none

	generation uint32 // of the routes
	numbered   int32  // routes
}

// where returns the port at which an address is, or nil.
func (n *network) where(a netip.Addr) *port {
	return n.byIface[n.table.Where(a)]
}

// route returns the hops of a flow between two ports, worked out once for those that go the same way. An error says why
// there are none.
func (n *network) route(from, to *port, flow packet.Flow) ([]hop, error) {
	n.lock.Lock()
	defer n.lock.Unlock()
	key := routeKey{from: from, to: to}
	if from != to && n.table.Several(to.iface) {
		hops, err := n.table.Route(from.iface, to.iface, route.KeyOf(flow))
		if err != nil {
			return nil, err
		}
		var outs []byte
		for _, h := range hops {
			outs = binary.LittleEndian.AppendUint32(outs, uint32(h.Out.Number))
		}
		if key.outs = string(outs); n.routes[key] == nil {
			n.keep(key, hops)
		}
		return n.routes[key], nil
	}
	if known, ok := n.routes[key]; ok && known != nil {
		return known, nil
	}
	hops, err := n.table.Route(from.iface, to.iface, route.Key{})
	if err != nil {
		n.routes[key] = nil
		return nil, err
	}
	return n.keep(key, hops), nil
}

// neighbours returns the hops from one node itself to another over the link whose ends have the addresses of a flow, nil where no link has.
func (n *network) neighbours(from, to *port, flow packet.Flow) []hop {
	for _, l := range n.file.Network.Links {
		for i := range l.Ends {
			near, far := l.Ends[i].Interface, l.Ends[1-i].Interface
			if slices.Contains(near.Address, flow.From) && slices.Contains(far.Address, flow.To) && near.Node == from.iface.Node && far.Node == to.iface.Node {
				return n.atWork([]route.Hop{{In: from.iface, Out: near}, {In: far, Out: to.iface}})
			}
		}
	}
	return nil
}

// lastRoute returns the hops of a flow between two ports; where all ways have failed, those that there were without failures.
func (n *network) lastRoute(from, to *port, flow packet.Flow) []hop {
	if hops, err := n.route(from, to, flow); err == nil {
		return hops
	}
	n.lock.Lock()
	defer n.lock.Unlock()
	if n.whole == nil {
		n.whole = route.New(n.file)
	}
	hops, err := n.whole.Route(from.iface, to.iface, route.KeyOf(flow))
	if err != nil {
		panic(err) // it was there when the run began
	}
	return n.atWork(hops)
}

// A routeKey is the ends of routes, and the interfaces that one of several leaves nodes by.
type routeKey struct {
	from, to *port
	outs     string
}

// keep puts a route to work, and keeps it.
func (n *network) keep(key routeKey, hops []route.Hop) []hop {
	n.routes[key] = n.atWork(hops)
	return n.routes[key]
}

// atWork puts a route to work.
func (n *network) atWork(hops []route.Hop) []hop {
	out := make([]hop, len(hops))
	for i, c := range tunnel.Crossings(hops) {
		out[i] = hop{Crossing: c, in: n.byIface[c.In], out: n.byIface[c.Out], wraps: c.Wraps(), number: n.numbered}
	}
	n.numbered++
	return out
}

// build puts the network together, with the policies in force or not.
func (r *run) build() *network {
	n := &network{file: r.file, byIface: make(map[*policy.Interface]*port), table: route.New(r.file), routes: make(map[routeKey][]hop)}
	for i := range r.file.Network.Nodes {
		for _, iface := range r.file.Network.Nodes[i].Interfaces {
			p := &port{run: r, iface: iface, node: i, rate: iface.Rate, longest: int32(iface.Longest())}
			p.number = int32(len(n.ports))
			first := placesOfPort * p.number
			p.in.place, p.out.place, p.carrierPlace, p.linkPlace, p.ringPlace = first, first+1, first+2, first+3, first+4
			if iface.Ring > 0 {
				p.ring = make([]*flight, 0, iface.Ring)
			}
			n.ports = append(n.ports, p)
			n.byIface[iface] = p
			r.newPath(p, policy.In, iface.Attached[policy.In])
			r.newPath(p, policy.Out, iface.Attached[policy.Out])
		}
	}
	for _, p := range n.ports {
		peer := p.iface.Peer()
		if peer == nil {
			continue
		}
		p.peer, p.delay, p.medium = n.byIface[peer], p.iface.Link.Delay, newMedium(r, p)
		p.bought = newContract(p)
		own := &p.iface.Link.Ends[p.iface.End]
		if rate, framing, slower := own.Carrier(); slower {
			p.carrier = &carrier{rate: rate, framing: framing, queue: queue.FIFO{Limits: queue.Limits{Bytes: max(1, int64(rate.Bytes(own.Buffer)))}}} // 0 would be no limit
			if l := p.iface.Link; l.HalfDuplex > 0 {
				p.carrier.shared = &shared{turnAround: l.TurnAround}
				if other := p.peer.carrier; other != nil {
					p.carrier.shared = other.shared
				}
			}
		}
		p.computes = r.computes(p)
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

// path returns the path of a port in a direction.
func (p *port) path(d policy.Direction) *path {
	if d == policy.In {
		return &p.in
	}
	return &p.out
}

func (r *run) newPath(at *port, d policy.Direction, a *policy.Attachment) {
	p := at.path(d)
	p.asking = schedule.Never
	p.config = &datapath.Config{Rate: at.iface.Rate, Framing: at.iface.Framing, Classes: len(r.classes), StartAt: r.plan.StartAt, InName: r.file.InterfaceName, Incoming: d == policy.In,
		Drop: func(pkt *packet.Packet, why datapath.Reason) { at.run.discarded(at, d, pkt, why) }}
	p.changes = slices.ContainsFunc(r.plan.Events, func(e policy.Event) bool {
		return e.Attach != nil && e.Attach.Interface == at.iface && e.Attach.Direction == d
	})
	if a == nil {
		p.config.ClassOf = func(pkt *packet.Packet) int { return int(pkt.Owner.(*flight).prediction.first) }
		return
	}
	p.attached = plan.Attached(a)
	p.members = make([]member, len(p.attached.Entries))
	p.config.CountAs = p.attached
	p.config.ClassOf = func(pkt *packet.Packet) int { return r.predictedEntry(pkt.Owner.(*flight), d) }
	ruled := *p.config
	ruled.Plan, ruled.Random = p.attached, traffic.Random(r.options.Seed, at.iface.Path()+" "+d.String(), 0)
	ruled.Turned = func(e *plan.Entry, l datapath.Limit, when time.Duration, inForce bool) {
		r.epoch++
		r.turned(at, d, e, l, when, inForce)
	}
	var load *datapath.Path
	switch {
	case !r.options.WithoutPolicy:
		p.config = &ruled
		p.open(r)
		load = p.Path
	case slices.ContainsFunc(p.attached.Entries, func(e *plan.Entry) bool { return len(e.Whens()) > 0 }):
		p.shadow = datapath.New(ruled)
		load = p.shadow
	}
	p.predictor = datapath.NewPredictor(p.attached, r.plan.StartAt, load)
}

// open makes the data path.
func (p *path) open(r *run) {
	p.Path = datapath.New(*p.config)
	p.ruled = p.config.Plan != nil
	p.sometimes = p.Sometimes() || p.changes
	if p.names = p.Classes(); p.names == nil {
		p.names = r.classes
	}
}

// slot returns what is measured of an entry at the path, or of a class in a plain FIFO, made when its first packet comes.
func (p *path) slot(r *run, i int32) *slot {
	if s := p.recent; s != nil && s.number == i {
		return s
	}
	p.recent = p.slotOf(r, i)
	return p.recent
}

// slotOf returns the slot of a number, made when its first packet comes.
func (p *path) slotOf(r *run, i int32) *slot {
	if p.slots == nil {
		p.slots = make([]*slot, len(p.names))
		if p.config.CountAs != nil {
			block := make([]slot, len(p.names))
			for i := range block {
				p.slots[i] = &block[i]
				p.measures(r, int32(i))
			}
		}
	}
	if p.slots[i] == nil {
		p.slots[i] = &slot{}
		p.measures(r, i)
	}
	return p.slots[i]
}

// measures prepares a slot.
func (p *path) measures(r *run, i int32) {
	s := p.slots[i]
	if s.number = i; p.Parent(int(i)) >= 0 {
		s.around = p.slots[p.Parent(int(i))]
	}
	if s.windows = make([]windowFigures, len(r.windows)); p.config.Plan == nil {
		return
	}
	e := p.attached.Entries[i]
	if e.Meter != nil && e.Meter.Kind == policy.OneBucket && e.Each == 0 && e.Instances() == nil {
		s.policed, s.burst = true, meter.NewNeed(e.Meter.Rate)
	}
	if e.Leaf() && e.Promise > 0 && e.Each == 0 && e.Instances() == nil {
		s.queued, s.queue = true, meter.NewNeed(e.Promise)
	}
}
