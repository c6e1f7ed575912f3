// Package gate is the data path as a bump in the wire: frames come in at a port of a node, are
// classified, metered, marked, queued and scheduled by the very paths that are rehearsed, and
// leave by another port.
//
// A Gate takes the time as an argument, does no I/O and reads no clock. What the caller asks
// it late it does as of when it was due, so that rates are kept however late it is asked, up
// to a bound.
package gate

import (
	"fmt"
	"time"

	"imbrel.example/imbrel/core/datapath"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/recognise"
	"imbrel.example/imbrel/core/schedule"
	"imbrel.example/imbrel/core/traffic"
	"imbrel.example/imbrel/core/unit"
)

// Never is when nothing is due.
const Never = schedule.Never

// Catch-up and memory are bounded.
const (
	// maxLate is how late what was due is still done as of then; time beyond it is lost to
	// the shapers, which then send less.
	maxLate = 10 * time.Millisecond
	// MaxFrame is the longest frame that passes.
	MaxFrame = 1 << 16
	// maxWaiting bounds the frames that wait at all ports together. Beyond it, up to twice as many,
	// only entries of which less than little waits may have more: a flood in one class takes
	// no room from another's.
	maxWaiting = 1 << 16
	smallFrame = 1 << 16 // bytes
	// maxStations bounds the hardware addresses that are remembered.
	maxStations = 1 << 14
)

// Options say how a gate works. The zero Options are those of a gate whose clock begins at no
// date.
type Options struct {
	// StartAt is the date and time at which the gate's clock is at zero, for what is in
	// force at named times.
	StartAt time.Time
	// Seed is what early drops at random follow from, as in a rehearsal.
	Seed uint64
}

// A Gate moves frames between the ports of one node.
type Gate struct {
	file       *policy.File
	node       *policy.Node
	options    Options
	ports      []*port
	stations   map[[6]byte]int // the port at which a hardware address was seen, plus 1
	learned    int             // how often that changed
	recogniser *recognise.Recogniser
	recognises bool
	spare      []*frame
	waiting    int
	send       func(port int, frame []byte)
	now        time.Duration // the latest time that was given

	// Counts are what happened to frames beyond the paths.
	Counts
}

// Counts are what happened to frames beside the paths. Each frame that was taken is one of
// those that passed by, those of a path, or those that went nowhere.
type Counts struct {
	Taken     uint64 `json:"taken"`
	PassedBy  uint64 `json:"passed_by"` // ARP, neighbour discovery, link control and whatever is not IP
	Malformed uint64 `json:"malformed"` // of those that passed by, with headers that contradict themselves
	SamePort  uint64 `json:"same_port"` // to a station at the port that they came by
	TooLong   uint64 `json:"too_long"`  // longer than MaxFrame
	NoRoom    uint64 `json:"no_room"`   // dropped by its class, for too many waited at all ports together
	Sent      uint64 `json:"sent"`      // by all ports together
	MaxLate   int64  `json:"late_us"`   // how late a frame was sent at most, in microseconds
	LateLost  int64  `json:"lost_us"`   // time lost because it was later than can be made up for
	Reloads   uint64 `json:"reloads"`
}

// A port is one of the gate's, an interface of the node.
type port struct {
	number  int
	iface   *policy.Interface
	pair    [12]byte // the addresses of the frame before
	to      int      // where that went
	learned int      // g.learned then, plus 1
	in, out *side
}

// A side is a path with what it needs to run.
type side struct {
	gate      *Gate
	port      *port
	direction policy.Direction
	plan      *plan.Plan // nil: none, and no path
	path      *datapath.Path
	clock     unit.Clock    // of the port: when what is being sent is sent
	next      time.Duration // when it is to be asked again
	last      time.Duration // when it was given something last: time does not run backwards
	observed  []observed
	before    []datapath.Counters // of each entry, what it counted before a reload
	counted   []datapath.Counters // at a reload, all that it has counted
	since     time.Duration
}

// A frame is a packet in the gate.
type frame struct {
	packet.Packet
	room []byte
	from int
	to   int // of a frame for one port; -1: for all others
}

// New returns a gate of a node of a file, with a port for each of the interfaces, whose
// attached policies are in force from a time on.
func New(f *policy.File, node *policy.Node, ports []*policy.Interface, now time.Duration, o Options) (*Gate, error) {
	if len(ports) < 2 {
		return nil, fmt.Errorf("a gate needs two ports or more: it takes frames from one to another")
	}
	g := &Gate{options: o, stations: make(map[[6]byte]int), now: now}
	for i := range ports {
		g.ports = append(g.ports, &port{number: i})
	}
	g.put(f, node, ports, now)
	return g, nil
}

// put puts the policies of a file in force. The counts of the policies before go on; Reload
// gives what waited to the new ones.
func (g *Gate) put(f *policy.File, node *policy.Node, ports []*policy.Interface, now time.Duration) {
	g.file, g.node = f, node
	g.recogniser, g.recognises = recognise.New(f.Apps), false
	for i := range f.Apps {
		g.recognises = g.recognises || f.Apps[i].Recognised()
	}
	for i, p := range g.ports {
		p.iface = ports[i]
		in, out := p.in, p.out
		p.in, p.out = g.side(p, policy.In, now), g.side(p, policy.Out, now)
		p.in.resume(in)
		p.out.resume(out)
	}
}

// resume lets the entries that remain go on counting where those of the side before stopped. What
// waited counts as offered anew.
func (s *side) resume(before *side) {
	if before == nil || before.path == nil || s.path == nil {
		return
	}
	s.since = before.since
	s.clock.NotBefore(before.clock.Ready())
	counts := before.counted
	for i, e := range s.plan.Entries {
		for j, o := range before.plan.Entries {
			if e.Name != o.Name {
				continue
			}
			c := &s.before[i]
			*c = counts[j]
			c.OfferedPackets = c.SentPackets + c.Drops[datapath.Policed] + c.Drops[datapath.QueueFull] + c.Drops[datapath.Early] + c.Drops[datapath.Blocked]
			c.OfferedBytes -= uint64(max(0, before.observed[j].waiting))
			s.observed[i] = before.observed[j]
			s.observed[i].waiting = 0
			break
		}
	}
}

// counters returns what each entry has counted, since before the last reload.
func (s *side) counters() []datapath.Counters {
	out := s.path.Counters()
	for i := range out {
		out[i].Add(&s.before[i])
	}
	return out
}

// side makes one direction of a port.
func (g *Gate) side(p *port, d policy.Direction, now time.Duration) *side {
	s := &side{gate: g, port: p, direction: d, next: Never, last: now, since: now}
	a := p.iface.Attached[d]
	if a == nil {
		return s
	}
	s.plan = plan.Attached(a)
	s.path = datapath.New(datapath.Config{Plan: s.plan, Rate: p.iface.Rate, Framing: p.iface.Framing, StartAt: g.options.StartAt, InName: g.file.InterfaceName, Incoming: d == policy.In, Room: s.room,
		Random: traffic.Random(g.options.Seed, p.iface.Path()+" "+d.String(), 0),
		Drop:   func(pkt *packet.Packet, _ datapath.Reason) { s.discarded(pkt.Owner.(*frame)) }})
	s.observed, s.before = make([]observed, len(s.plan.Entries)), make([]datapath.Counters, len(s.plan.Entries))
	return s
}

// Take takes a frame that came to a port at a time; frame may be used again after it. send
// is called with what leaves at once, whose bytes are the gate's until it returns. A frame of a port that the gate does not
// have counts as malformed.
func (g *Gate) Take(at time.Duration, n int, bytes []byte, send func(port int, frame []byte)) {
	g.send = send
	at = max(at, g.now)
	g.now = at
	g.Taken++
	if n < 0 || n >= len(g.ports) || len(bytes) > MaxFrame || len(bytes) < packet.EthernetHeader {
		if len(bytes) > MaxFrame {
			g.TooLong++
		} else {
			g.Malformed++
		}
		return
	}
	f := g.frame()
	f.room = append(f.room[:0], bytes...)
	f.from = n
	err := f.Parse(f.room, len(f.room))
	if !g.place(f) {
		g.SamePort++
		g.free(f)
		return
	}
	if err != nil || !f.IsIP() || control(&f.Packet) {
		g.PassedBy++
		if err != nil {
			g.Malformed++
		}
		g.emit(f, f.room)
		g.free(f)
		return
	}
	p := g.ports[n]
	f.In = int32(p.iface.Number)
	if g.recognises || f.Fragment {
		g.recogniser.Watch(at, &f.Packet)
	}
	if p.in.path == nil {
		g.forward(f, at)
		return
	}
	if p.in.path.Straight() {
		p.in.pass(f, at)
		return
	}
	p.in.take(f, at)
	p.in.run(at, at)
}

// pass takes a frame through a path in which nothing ever waits.
func (s *side) pass(f *frame, at time.Duration) {
	s.last = max(s.last, at)
	if s.path.Pass(s.last, &f.Packet) != datapath.Passed {
		s.gate.free(f)
		return
	}
	for i := int(f.Slot); i >= 0; i = s.path.Parent(i) {
		o := &s.observed[i]
		o.most = max(o.most, o.waiting+int64(f.Size))
		o.delay.Add(0)
	}
	s.gate.forward(f, s.last)
}

// control reports whether a packet is what links need to work: neighbour discovery (RFC 4861)
// is never held up by a class.
func control(p *packet.Packet) bool {
	const icmpv6, first, last = 58, 133, 137
	if p.Flow.Protocol != icmpv6 || p.Fragment {
		return false
	}
	b := p.Transport()
	return len(b) > 0 && b[0] >= first && b[0] <= last
}

// place finds the port a frame leaves by, from the hardware addresses that were seen; false
// where that is the one it came by.
func (g *Gate) place(f *frame) bool {
	p := g.ports[f.from]
	pair := [12]byte(f.room)
	if p.learned == g.learned+1 && pair == p.pair { // as the frame before
		f.to = p.to
		return f.to != f.from
	}
	var to, from [6]byte
	copy(to[:], f.room)
	copy(from[:], f.room[6:])
	if from[0]&1 == 0 && g.stations[from] != f.from+1 {
		if len(g.stations) >= maxStations {
			clear(g.stations)
		}
		g.stations[from] = f.from + 1
		g.learned++
	}
	f.to = -1
	if n := g.stations[to]; n > 0 && to[0]&1 == 0 {
		f.to = n - 1
	}
	p.pair, p.to, p.learned = pair, f.to, g.learned+1
	return f.to != f.from
}

// forward gives a frame to the port that it leaves by, or to all others.
func (g *Gate) forward(f *frame, at time.Duration) {
	if f.to >= 0 {
		g.ports[f.to].out.offer(f, at)
		return
	}
	last := -1
	for i := range g.ports {
		if i == f.from {
			continue
		}
		if last >= 0 {
			c := g.frame()
			room := append(c.room[:0], f.Bytes...)
			c.Packet, c.room, c.from, c.to = f.Packet, room, f.from, last
			c.Bytes, c.Owner, c.Next = room, c, nil
			g.ports[last].out.offer(c, at)
		}
		last = i
	}
	f.to = last
	g.ports[last].out.offer(f, at)
}

// offer gives a frame to an outgoing side.
func (s *side) offer(f *frame, at time.Duration) {
	if s.path == nil {
		s.gate.emit(f, f.Bytes)
		s.gate.free(f)
		return
	}
	s.run(at, at)
	s.take(f, at)
	s.run(at, at)
}

// take puts a frame into the path.
func (s *side) take(f *frame, at time.Duration) {
	s.last = max(s.last, at)
	reason := s.path.Enqueue(s.last, &f.Packet)
	s.offered(f, reason)
	if reason != datapath.Passed {
		s.gate.free(f)
		return
	}
	s.gate.waiting++
	if s.next > s.last {
		s.next = s.last
		if s.direction == policy.Out { // not before what is being sent is sent
			s.next = max(s.next, s.clock.Ready())
		}
	}
}

// room reports whether one more frame of an entry may wait.
func (s *side) room(entry int32) bool {
	g := s.gate
	if g.waiting < maxWaiting || g.waiting < 2*maxWaiting && s.observed[entry].waiting < smallFrame {
		return true
	}
	g.NoRoom++
	return false
}

// run does what was due until a time.
func (s *side) run(until, now time.Duration) {
	for s.next <= until {
		at := s.next
		if late := now - at; late > maxLate { // it cannot be made up for
			s.gate.LateLost += (late - maxLate).Microseconds()
			at = now - maxLate
		}
		at = max(at, s.last)
		s.last = at
		pkt, again := s.path.Dequeue(at)
		if pkt == nil {
			s.next = again
			if again <= at {
				s.next = at + time.Microsecond
			}
			continue
		}
		f := pkt.Owner.(*frame)
		s.gate.waiting--
		s.sent(f, at)
		s.next = at
		if s.direction == policy.In {
			s.gate.forward(f, at)
			continue
		}
		s.clock.NotBefore(at)
		s.clock.Advance(int(f.Size), s.port.iface.Rate)
		s.next = s.clock.Ready()
		s.gate.MaxLate = max(s.gate.MaxLate, (now - at).Microseconds())
		s.gate.emit(f, f.Bytes)
		s.gate.free(f)
	}
}

// Run does what was due until a time and returns when to call it again; Never: not before
// the next frame is taken.
func (g *Gate) Run(now time.Duration, send func(port int, frame []byte)) time.Duration {
	g.send = send
	g.now = max(g.now, now)
	for {
		var first *side // the one that was due first, so that time goes on in all alike
		for _, p := range g.ports {
			for _, s := range []*side{p.in, p.out} {
				if s.path != nil && (first == nil || s.next < first.next) {
					first = s
				}
			}
		}
		if first == nil {
			return Never
		}
		if first.next > g.now {
			return first.next
		}
		first.run(first.next, g.now)
	}
}

// Waiting returns how many frames wait.
func (g *Gate) Waiting() int { return g.waiting }

// emit sends a frame by its port, or by all others.
func (g *Gate) emit(f *frame, bytes []byte) {
	if f.to >= 0 {
		g.Sent++
		g.send(f.to, bytes)
		return
	}
	for i := range g.ports {
		if i != f.from {
			g.Sent++
			g.send(i, bytes)
		}
	}
}

// frame returns a frame that is not used.
func (g *Gate) frame() *frame {
	if n := len(g.spare); n > 0 {
		f := g.spare[n-1]
		g.spare = g.spare[:n-1]
		return f
	}
	f := &frame{room: make([]byte, 0, 1600)}
	f.Owner = f
	return f
}

// free takes a frame back. Room for a giant one is not kept.
func (g *Gate) free(f *frame) {
	if cap(f.room) > 4096 {
		f.room = make([]byte, 0, 1600)
	}
	f.Next, f.Apps = nil, nil
	g.spare = append(g.spare, f)
}
