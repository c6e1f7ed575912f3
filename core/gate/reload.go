package gate

import (
	"cmp"
	"net/netip"
	"slices"
	"time"

	"imbrel.example/imbrel/core/datapath"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/traffic"
	"imbrel.example/imbrel/core/unit"
)

// slice is how many of the frames that waited under the policies before are given to the new ones at a time.
const slice = 64

// Policies are those of a file made ready for the ports of a gate.
type Policies struct {
	file    *policy.File
	node    *policy.Node
	in, out []*side // of each port
	watch   *watcher
	each    bool         // some entry has instances
	seen    []*addresses // of each lane, when some has
}

// Prepare makes the policies of a file ready, which may take long: the gate may move frames meanwhile, on other threads. The
// node and the interfaces of the ports are those of the file. Policies are put in force before others are prepared.
func (g *Gate) Prepare(f *policy.File, node *policy.Node, ports []*policy.Interface) *Policies {
	p := &Policies{file: f, node: node, watch: newWatcher(f)}
	for i, o := range g.ports {
		p.in = append(p.in, p.side(g, o, o.lane, ports[i], policy.In, o.in))
		p.out = append(p.out, p.side(g, o, g.sender(o), ports[i], policy.Out, o.out))
	}
	if p.each && g.seen == nil {
		for range g.Lanes {
			g.seen = append(g.seen, &addresses{})
		}
	}
	if p.each {
		p.seen = g.seen
	}
	return p
}

// sender returns the lane that sends by a port.
func (g *Gate) sender(p *port) *Lane {
	if len(g.Lanes) == 1 {
		return g.Lanes[0]
	}
	return g.Lanes[1-p.number]
}

// side makes one direction of a port, to follow another.
func (p *Policies) side(g *Gate, o *port, l *Lane, iface *policy.Interface, d policy.Direction, before *side) *side {
	s := &side{lane: l, port: o, iface: iface, direction: d, next: Never}
	a := iface.Attached[d]
	if a == nil {
		return s
	}
	s.plan = plan.Attached(a)
	s.path = datapath.New(datapath.Config{Plan: s.plan, Rate: iface.Rate, Framing: iface.Framing, StartAt: g.options.StartAt, InName: p.file.InterfaceName, Incoming: d == policy.In, Room: s.room,
		Random:   traffic.Random(g.options.Seed, iface.Path()+" "+d.String(), 0),
		Answered: func(a netip.Addr) bool { return l.heard != nil && l.heard.has(l.now, a) },
		Drop:     s.discarded})
	entries := len(s.plan.Entries)
	s.observed, s.before, s.lines, s.from = make([]observed, entries), make([]datapath.Counters, entries), make([]line, entries), make([]int, entries)
	names := make(map[string]int)
	if before != nil && before.path != nil {
		for i, e := range before.plan.Entries {
			names[e.Name] = i + 1
		}
	}
	for i, e := range s.plan.Entries {
		s.lines[i].side, s.from[i] = s, names[e.Name]-1
		p.each = p.each || e.Each != 0
	}
	return s
}

// Put puts prepared policies in force at a time. It is for callers with one thread. Run then classifies anew what waits
// under the policies before, a few frames at a time; frames of one entry keep their order.
func (g *Gate) Put(p *Policies, now time.Duration, send func(port int, frame []byte)) {
	for _, l := range g.Lanes {
		l.Put(p, now, send)
	}
	g.Reloaded(p)
}

// Reloaded counts a reload; observations name the new file from then on. Call it when every lane has had Put.
func (g *Gate) Reloaded(p *Policies) {
	g.file, g.node = p.file, p.node
	g.reloads++
}

// Moving reports whether frames still wait under the policies before.
func (l *Lane) Moving() bool { return len(l.moving) > 0 }

// Put puts prepared policies in force in a lane, between two frames. The counts of the entries that remain go on.
func (l *Lane) Put(p *Policies, now time.Duration, send func(port int, frame []byte)) {
	l.send, l.now = send, max(l.now, now)
	l.move(2 * maxWaiting)
	before := l.sides
	l.put(p, l.now)
	for _, s := range before {
		for i := range s.lines {
			if s.lines[i].length > 0 {
				l.moving = append(l.moving, &s.lines[i])
			}
		}
	}
	// Of what there is little goes first: it was not held up much.
	slices.SortStableFunc(l.moving, func(a, b *line) int { return cmp.Compare(a.length, b.length) })
	if len(l.moving) == 0 {
		l.moved()
	}
}

// put makes prepared policies those of a lane.
func (l *Lane) put(p *Policies, now time.Duration) {
	l.watch, l.sides = p.watch, nil
	l.spoken, l.heard = nil, nil
	if p.seen != nil {
		l.spoken, l.heard = p.seen[l.number], p.seen[len(p.seen)-1-l.number]
	}
	for n, o := range l.gate.ports {
		if l.Takes(n) {
			o.iface = p.in[n].iface
			o.in = l.follow(p.in[n], o.in, now)
			o.controlRate = max(p.slowest(n)/controlPart, leastControl)
		}
		if l.Sends(n) {
			o.out = l.follow(p.out[n], o.out, now)
		}
	}
}

// slowest returns the least rate at which frames from a port leave by another.
func (p *Policies) slowest(from int) unit.Rate {
	least := unit.Rate(0)
	for n, s := range p.out {
		if n == from {
			continue
		}
		rate := s.iface.Rate
		if s.plan != nil {
			rate = min(rate, s.plan.Whole)
		}
		if least == 0 || rate < least {
			least = rate
		}
	}
	return least
}

// follow puts a side in the place of another.
func (l *Lane) follow(s, before *side, now time.Duration) *side {
	s.last, s.since = now, now
	if s.path == nil {
		if before != nil && before.path != nil {
			s.older = before
		}
		return s
	}
	l.sides = append(l.sides, s)
	if before == nil || before.path == nil {
		return s
	}
	s.since, s.older = before.since, before
	s.clock.NotBefore(before.clock.Ready())
	counts := before.counters()
	for i, from := range s.from {
		if from < 0 {
			continue
		}
		s.before[i] = counts[from] // what waits counts as offered anew
		notOffered(&s.before[i], before.observed[from].waiting)
		s.observed[i] = before.observed[from]
		s.observed[i].waiting = 0
	}
	return s
}

// held puts a frame behind those of its entry that still wait under the policies before, and reports whether there are any: the
// frames of a conversation stay in their order.
func (l *Lane) held(s *side, f *frame) bool {
	if len(l.moving) == 0 || s.older == nil {
		return false
	}
	line := &s.older.lines[s.older.path.ClassOf(&f.Packet)]
	if line.length == 0 {
		return false
	}
	line.join(f)
	l.waiting++
	return true
}

// again gives a frame that waited to the policies in force, those of the port that it came by or those of the port that it leaves by.
func (l *Lane) again(f *frame, in bool) {
	f.Next = nil
	s := l.gate.ports[f.from].in
	switch {
	case in && s.path != nil && s.path.Straight():
		s.pass(f, l.now)
		return
	case in && s.path == nil:
		l.forward(f, l.now)
		return
	case !in:
		if s = l.gate.ports[f.to].out; s.path == nil {
			l.emit(f)
			return
		}
	}
	s.run(l.now, l.now)
	s.take(f, l.now)
	s.run(l.now, l.now)
}

// move gives up to so many of the frames that waited under the policies before to those in force, and reports whether there
// are more.
func (l *Lane) move(most int) bool {
	if len(l.moving) == 0 {
		return false
	}
	for len(l.moving) > 0 {
		line := l.moving[0]
		if line.first == nil {
			l.moving = l.moving[1:]
			continue
		}
		if most--; most < 0 {
			return true
		}
		f := line.first
		line.leave(f)
		l.waiting--
		l.again(f, line.side.direction == policy.In)
	}
	l.moved()
	return false
}

// moved lets go of the policies before, under which nothing waits any more.
func (l *Lane) moved() {
	for n, p := range l.gate.ports {
		if l.Takes(n) {
			p.in.older = nil
		}
		if l.Sends(n) {
			p.out.older = nil
		}
	}
	l.moving = nil
}
