// Package gate is the data path as a bump in the wire: frames come in at a port of a node, are
// classified, metered, marked, queued and scheduled by the very paths that are rehearsed, and
// leave by another port.
//
// A Gate takes the time as an argument, does no I/O and reads no clock. What the caller asks
// it late it does as of when it was due, so that rates are kept however late it is asked, up
// to a bound.
//
// A gate of two ports has a lane for each direction, and the lanes share nothing: each may be
// moved by a thread of its own.
package gate

import (
	"fmt"
	"time"

	"imbrel.example/imbrel/core/datapath"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/schedule"
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
	// maxWaiting bounds the frames of a lane that wait together. Beyond it, up to twice as many,
	// only entries of which less than little waits may have more: a flood in one class takes
	// no room from another's.
	maxWaiting = 1 << 16
	smallFrame = 1 << 16 // bytes
	// Link control passes at once up to a part of what the slowest way out of the gate sends, each kind for itself.
	controlPart  = 200
	leastControl = 16 * unit.KbitPerSecond
	controlBurst = 8192 // bytes
	// shortest is an Ethernet frame without its check sequence: shorter ones are padded.
	shortest = 60
)

// Options say how a gate works. The zero Options are those of a gate whose clock begins at no
// date.
type Options struct {
	// StartAt is the date and time at which the gate's clock is at zero, for what is in
	// force at named times.
	StartAt time.Time
	// Seed is what early drops at random follow from, as in a rehearsal.
	Seed uint64
	// PassUnreadable lets the classes take frames that are neither IP nor link control. Without it
	// they are dropped.
	PassUnreadable bool
}

// A Gate moves frames between the ports of one node.
type Gate struct {
	options Options
	ports   []*port
	// Lanes are its directions. Each takes the frames of some ports: Lane.Takes.
	Lanes   []*Lane
	file    *policy.File
	node    *policy.Node
	seen    []*addresses // by each lane; nil: no policy has asked
	reloads uint64
}

// A Lane moves the frames that come to some of the ports. Its methods must not run at the same time.
type Lane struct {
	gate     *Gate
	number   int
	ports    []*port // whose frames it takes
	sides    []*side // through which it leads them, those with a policy
	watch    *watcher
	stations *stations  // nil: there is but one other port
	spoken   *addresses // nil: no policy asks
	heard    *addresses // what the other lane has spoken
	spare    []*frame
	leaving  []*frame // given to send, and not yet used again
	moving   []*line  // of the policies before, what still waits
	waiting  int
	send     func(port int, frame []byte)
	now      time.Duration // the latest time that was given

	Counts
}

// Counts are what happened to frames beside the paths. Each frame that was taken is one of
// those that passed by, those of a path, or those that went nowhere.
type Counts struct {
	Taken        uint64 `json:"taken"`
	PassedBy     uint64 `json:"passed_by"`     // link control, within its bound
	ControlOver  uint64 `json:"control_over"`  // link control beyond its bound
	Malformed    uint64 `json:"malformed"`     // IP whose headers contradict themselves
	Unreadable   uint64 `json:"unreadable"`    // neither IP nor link control
	SamePort     uint64 `json:"same_port"`     // to a station at the port that they came by
	TooLong      uint64 `json:"too_long"`      // longer than MaxFrame
	NoRoom       uint64 `json:"no_room"`       // dropped by its class, for too many waited at all ports together
	StationsFull uint64 `json:"stations_full"` // from a station that there was no room to remember
	Sent         uint64 `json:"sent"`          // by all ports together
	MaxLate      int64  `json:"late_us"`       // how late a frame was sent at most, in microseconds
	LateLost     int64  `json:"lost_us"`       // time lost because it was later than can be made up for
	Reloads      uint64 `json:"reloads"`
}

// A Fate is one of the things that happened to frames beside the paths.
type Fate struct {
	Name string // as in JSON
	Text string // what the frames did, of several
	of   func(*Counts) *uint64
}

// Of returns how many frames met it.
func (f *Fate) Of(c *Counts) uint64 { return *f.of(c) }

// Fates lists what happens to frames beside the paths, but for what is taken and sent.
var Fates = []Fate{
	{"passed_by", "of link control bypassed all classes", func(c *Counts) *uint64 { return &c.PassedBy }},
	{"control_over", "of link control exceeded its limit, and a class took them", func(c *Counts) *uint64 { return &c.ControlOver }},
	{"malformed", "had damaged IP headers, and a class took them by what can be read", func(c *Counts) *uint64 { return &c.Malformed }},
	{"unreadable", "were neither IP nor link control: dropped, unless --pass-unreadable is given", func(c *Counts) *uint64 { return &c.Unreadable }},
	{"same_port", "went to a station at the port that they came by", func(c *Counts) *uint64 { return &c.SamePort }},
	{"too_long", "were too long, and were dropped", func(c *Counts) *uint64 { return &c.TooLong }},
	{"no_room", "found no room: too many waited at all ports together", func(c *Counts) *uint64 { return &c.NoRoom }},
	{"stations_full", "came from stations that the gate has no room to remember", func(c *Counts) *uint64 { return &c.StationsFull }},
}

// add adds what another lane counted.
func (c *Counts) add(o *Counts) {
	for i := range Fates {
		*Fates[i].of(c) += Fates[i].Of(o)
	}
	c.Taken += o.Taken
	c.Sent += o.Sent
	c.MaxLate = max(c.MaxLate, o.MaxLate)
	c.LateLost += o.LateLost
	c.Reloads += o.Reloads
}

// A port is one of the gate's, an interface of the node.
type port struct {
	number  int
	lane    *Lane // that takes its frames
	iface   *policy.Interface
	in, out *side
	// Of link control that comes by it: how much of each kind passes at once, and until when it did.
	controlRate unit.Rate
	controlled  [packet.Standings]unit.Clock
}

// A side is a path with what it needs to run. It belongs to one lane.
type side struct {
	lane      *Lane
	port      *port
	iface     *policy.Interface
	direction policy.Direction
	plan      *plan.Plan // nil: none, and no path
	path      *datapath.Path
	clock     unit.Clock    // of the port: when what is being sent is sent
	next      time.Duration // when it is to be asked again
	last      time.Duration // when it was given something last: time does not run backwards
	observed  []observed
	lines     []line              // what waits, by entry
	before    []datapath.Counters // of each entry, what it counted before a reload
	from      []int               // of each entry, that of the same name before the reload; -1: none
	older     *side               // the one before, of which frames still move
	since     time.Duration
}

// A frame is a packet in the gate.
type frame struct {
	packet.Packet
	room []byte
	from int
	to   int  // of a frame for one port; -1: for all others
	kept bool // its bytes are in its room
	// In its line.
	line          *line
	ahead, behind *frame
}

// A line is what waits of an entry, in the order in which it came.
type line struct {
	side        *side
	first, last *frame
	length      int
}

func (l *line) join(f *frame) {
	f.line, f.ahead, f.behind = l, l.last, nil
	if l.last != nil {
		l.last.behind = f
	} else {
		l.first = f
	}
	l.last = f
	l.length++
}

func (l *line) leave(f *frame) {
	if f.ahead != nil {
		f.ahead.behind = f.behind
	} else {
		l.first = f.behind
	}
	if f.behind != nil {
		f.behind.ahead = f.ahead
	} else {
		l.last = f.ahead
	}
	f.line, f.ahead, f.behind = nil, nil, nil
	l.length--
}

// New returns a gate of a node of a file, with a port for each of the interfaces, whose
// attached policies are in force from a time on.
func New(f *policy.File, node *policy.Node, ports []*policy.Interface, now time.Duration, o Options) (*Gate, error) {
	if len(ports) < 2 {
		return nil, fmt.Errorf("a gate needs two ports or more: it takes frames from one to another")
	}
	g := &Gate{options: o}
	for i := range ports {
		g.ports = append(g.ports, &port{number: i})
	}
	if len(ports) == 2 {
		for i := range ports {
			g.Lanes = append(g.Lanes, &Lane{gate: g, number: i, ports: g.ports[i : i+1], now: now})
			g.ports[i].lane = g.Lanes[i]
		}
	} else {
		l := &Lane{gate: g, ports: g.ports, stations: newStations(), now: now}
		g.Lanes = []*Lane{l}
		for _, p := range g.ports {
			p.lane = l
		}
	}
	p := g.Prepare(f, node, ports)
	for _, l := range g.Lanes {
		l.put(p, now)
	}
	g.file, g.node = p.file, p.node
	return g, nil
}

// Number returns which of the gate's lanes it is, from 0.
func (l *Lane) Number() int { return l.number }

// Takes reports whether this lane reads the frames that come to a port.
func (l *Lane) Takes(port int) bool {
	return port >= 0 && port < len(l.gate.ports) && l.gate.ports[port].lane == l
}

// Sends reports whether a lane sends frames by a port.
func (l *Lane) Sends(port int) bool { return len(l.ports) > 1 || !l.Takes(port) }

// Take takes a frame that came to a port at a time. It is for callers with one thread. send is called with what
// leaves at once, which may be the frame's own bytes: nothing that it was given is kept after the next Take or Run. A frame of an
// unknown port counts as unreadable.
func (g *Gate) Take(at time.Duration, n int, bytes []byte, send func(port int, frame []byte)) {
	for _, l := range g.Lanes {
		if l.Takes(n) {
			l.Flushed()
			l.Take(at, n, bytes, send)
			return
		}
	}
	g.Lanes[0].Taken++
	g.Lanes[0].Unreadable++
}

// Run does what was due until a time and returns when to call it again; Never: not before the next frame is taken. It is for
// callers with one thread.
func (g *Gate) Run(now time.Duration, send func(port int, frame []byte)) time.Duration {
	next := Never
	for _, l := range g.Lanes {
		l.Flushed()
		next = min(next, l.Run(now, send))
	}
	return next
}

// Counts returns the sum of the lanes' counts.
func (g *Gate) Counts() (c Counts) {
	for _, l := range g.Lanes {
		c.add(&l.Counts)
	}
	c.Reloads = g.reloads
	return c
}

// Waiting returns how many frames wait.
func (g *Gate) Waiting() (n int) {
	for _, l := range g.Lanes {
		n += l.waiting
	}
	return n
}

// Take takes a frame that came to one of the lane's ports at a time. Marks are changed in its bytes. send is called with what
// leaves at once. The caller keeps the bytes as they are until Flushed, and so does the lane with all that it gave to send.
func (l *Lane) Take(at time.Duration, n int, bytes []byte, send func(port int, frame []byte)) {
	l.send = send
	at = max(at, l.now)
	l.now = at
	l.Taken++
	if len(bytes) > MaxFrame {
		l.TooLong++
		return
	}
	f := l.frame()
	f.from = n
	err := f.Parse(bytes, len(bytes))
	stands := f.Standing()
	if stands == packet.Unreadable {
		if l.Unreadable++; !l.gate.options.PassUnreadable || len(bytes) < packet.EthernetHeader {
			l.free(f)
			return
		}
	} else if err != nil {
		l.Malformed++
	}
	if !l.place(f, at) {
		l.SamePort++
		l.free(f)
		return
	}
	p := l.gate.ports[n]
	f.grow()
	if stands.Control() {
		if l.controls(p, f, stands, at) {
			l.PassedBy++
			l.bypass(p, f, at)
			return
		}
		l.ControlOver++
	}
	f.In = int32(p.iface.Number)
	l.watch.see(at, f)
	if l.spoken != nil {
		l.spoken.note(at, f.Flow.From)
		l.spoken.note(at, f.Flow.To)
	}
	switch {
	case l.held(p.in, f):
	case p.in.path == nil:
		l.forward(f, at)
	case p.in.path.Straight():
		p.in.pass(f, at)
	default:
		p.in.take(f, at)
		p.in.run(at, at)
	}
	if f.line != nil && !f.kept { // it stays longer than its bytes
		f.keep()
	}
}

// controls reports whether a frame of link control is within the bound of its kind.
func (l *Lane) controls(p *port, f *frame, kind packet.Standing, at time.Duration) bool {
	c := &p.controlled[kind]
	if c.NotBefore(at - p.controlRate.Time(controlBurst)); c.Ready() > at {
		return false
	}
	c.Advance(len(f.Bytes), p.controlRate)
	return true
}

// bypass sends a frame that no class holds up. The shapes that it goes past are charged.
func (l *Lane) bypass(from *port, f *frame, at time.Duration) {
	from.in.charge(f, at)
	for n, p := range l.gate.ports {
		if n == f.to || f.to < 0 && n != f.from {
			p.out.charge(f, at)
		}
	}
	l.emit(f)
}

// charge books a frame that goes beside the path.
func (s *side) charge(f *frame, at time.Duration) {
	if s.path == nil {
		return
	}
	at = max(at, s.last)
	s.run(at, at)
	s.last = max(s.last, at)
	s.path.Charge(s.last, &f.Packet)
	if s.direction == policy.Out {
		s.clock.NotBefore(s.last)
		s.clock.Advance(int(f.Size), s.iface.Rate)
		if s.next != Never {
			s.next = max(s.next, s.clock.Ready())
		}
	}
}

// pass takes a frame through a path in which nothing ever waits.
func (s *side) pass(f *frame, at time.Duration) {
	s.last = max(s.last, at)
	if s.path.Pass(s.last, &f.Packet) != datapath.Passed {
		s.lane.free(f)
		return
	}
	s.went(f)
	s.lane.forward(f, s.last)
}

// place finds the port a frame leaves by; false where that is the one it came by.
func (l *Lane) place(f *frame, at time.Duration) bool {
	if l.stations == nil { // two ports are a wire
		f.to = 1 - f.from
		return true
	}
	to, remembered := l.stations.place(f.Bytes, f.from, at)
	if !remembered {
		l.StationsFull++
	}
	f.to = to
	return f.to != f.from
}

// forward gives a frame to the port that it leaves by, or to all others.
func (l *Lane) forward(f *frame, at time.Duration) {
	if f.to >= 0 {
		l.gate.ports[f.to].out.offer(f, at)
		return
	}
	last := -1
	for i := range l.gate.ports {
		if i == f.from {
			continue
		}
		if last >= 0 {
			c := l.frame()
			room := c.room
			c.Packet, c.from, c.to = f.Packet, f.from, last
			c.Owner, c.Next = c, nil
			c.room = room
			c.keep()
			l.gate.ports[last].out.offer(c, at)
		}
		last = i
	}
	f.to = last
	l.gate.ports[last].out.offer(f, at)
}

// offer gives a frame to an outgoing side.
func (s *side) offer(f *frame, at time.Duration) {
	switch {
	case s.lane.held(s, f):
	case s.path == nil:
		s.lane.emit(f)
	default:
		s.run(at, at)
		if s.clock.Ready() > at || at < s.last {
			s.take(f, at)
			return
		}
		s.last = at
		switch reason, went := s.path.Offer(at, &f.Packet); {
		case went:
			s.went(f)
			s.clock.NotBefore(at)
			s.clock.Advance(int(f.Size), s.iface.Rate)
			s.lane.emit(f)
		case reason != datapath.Passed:
			s.lane.free(f)
		default:
			s.wait(f)
			s.run(at, at)
		}
	}
}

// take puts a frame into the path.
func (s *side) take(f *frame, at time.Duration) {
	s.last = max(s.last, at)
	if s.path.Enqueue(s.last, &f.Packet) != datapath.Passed {
		s.lane.free(f)
		return
	}
	s.wait(f)
}

// wait books a frame that the path has taken.
func (s *side) wait(f *frame) {
	s.lines[f.Slot].join(f)
	s.offered(f)
	s.lane.waiting++
	if s.next > s.last {
		s.next = s.last
		if s.direction == policy.Out { // not before what is being sent is sent
			s.next = max(s.next, s.clock.Ready())
		}
	}
}

// room reports whether one more frame of an entry may wait.
func (s *side) room(entry int32) bool {
	l := s.lane
	if l.waiting < maxWaiting || l.waiting < 2*maxWaiting && s.observed[entry].waiting < smallFrame {
		return true
	}
	l.NoRoom++
	return false
}

// run does what was due until a time.
func (s *side) run(until, now time.Duration) {
	for s.next <= until {
		at := s.next
		if late := now - at; late > maxLate { // it cannot be made up for
			s.lane.LateLost += (late - maxLate).Microseconds()
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
		s.lane.waiting--
		s.sent(f, at)
		f.line.leave(f)
		s.next = at
		if s.direction == policy.In {
			s.lane.forward(f, at)
			if f.line != nil && !f.kept {
				f.keep()
			}
			continue
		}
		s.clock.NotBefore(at)
		s.clock.Advance(int(f.Size), s.iface.Rate)
		s.next = s.clock.Ready()
		s.lane.MaxLate = max(s.lane.MaxLate, (now - at).Microseconds())
		s.lane.emit(f)
	}
}

// Run does what was due until a time and returns when to call it again; Never: not before
// the next frame is taken. What send was given stays as it is until Flushed.
func (l *Lane) Run(now time.Duration, send func(port int, frame []byte)) time.Duration {
	l.send = send
	l.now = max(l.now, now)
	if l.move(slice) {
		l.run()
		return l.now
	}
	return l.run()
}

func (l *Lane) run() time.Duration {
	for {
		var first *side // the one that was due first, so that time goes on in all alike
		for _, s := range l.sides {
			if first == nil || s.next < first.next {
				first = s
			}
		}
		if first == nil {
			return Never
		}
		if first.next > l.now {
			return first.next
		}
		first.run(first.next, l.now)
	}
}

// Flushed says that what send was given is sent, and may be used again.
func (l *Lane) Flushed() {
	for _, f := range l.leaving {
		l.free(f)
	}
	l.leaving = l.leaving[:0]
}

// emit sends a frame by its port, or by all others.
func (l *Lane) emit(f *frame) {
	for n := range l.gate.ports {
		if n == f.to || f.to < 0 && n != f.from {
			l.Sent++
			l.send(n, f.Bytes)
		}
	}
	if f.kept {
		l.leaving = append(l.leaving, f)
		return
	}
	l.free(f)
}

// grow lets what comes after a packet in its frame count as well, for it is sent with it.
func (f *frame) grow() {
	if f.IsIP() {
		f.GrowsBy = int32(max(len(f.Bytes), shortest) - max(f.WireEnd(), shortest))
	}
}

// keep copies the bytes of a frame into its room.
func (f *frame) keep() {
	f.room = append(f.room[:0], f.Bytes...)
	f.Bytes, f.kept = f.room, true
}

// frame returns a frame that is not used.
func (l *Lane) frame() *frame {
	if n := len(l.spare); n > 0 {
		f := l.spare[n-1]
		l.spare = l.spare[:n-1]
		return f
	}
	f := &frame{}
	f.Owner = f
	return f
}

// free takes a frame back. Room for a giant one is not kept.
func (l *Lane) free(f *frame) {
	if cap(f.room) > 4096 {
		f.room = nil
	}
	f.Next, f.Apps, f.Bytes, f.kept = nil, nil, nil, false
	l.spare = append(l.spare, f)
}
