package gate

import (
	"time"

	"imbrel.example/imbrel/core/datapath"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
)

// observed is what is measured of the frames of one entry beyond what its path counts.
type observed struct {
	waiting, most int64 // bytes
	recent        int64 // the most since the last sample
	busiest       datapath.Busiest
	delay         measure.Distribution
}

// offered books a frame that the path was offered, in each entry around its own.
func (s *side) offered(f *frame, reason datapath.Reason) {
	if reason != datapath.Passed {
		return
	}
	for i := int(f.Slot); i >= 0; i = s.path.Parent(i) {
		o := &s.observed[i]
		o.waiting += int64(f.Size)
		o.most, o.recent = max(o.most, o.waiting), max(o.recent, o.waiting)
	}
}

// sent books a frame that left the path at a time.
func (s *side) sent(f *frame, at time.Duration) {
	for i := int(f.Slot); i >= 0; i = s.path.Parent(i) {
		o := &s.observed[i]
		o.waiting -= int64(f.Size)
		o.delay.Add(max(0, at-f.Arrived))
		if s.path.Limited(i) {
			o.busiest.Add(at, int(f.Size))
		}
	}
}

// discarded books a frame that the path dropped after it had taken it.
func (s *side) discarded(f *frame) {
	for i := int(f.Slot); i >= 0; i = s.path.Parent(i) {
		s.observed[i].waiting -= int64(f.Size)
	}
	s.gate.waiting--
	s.gate.free(f)
}

// Result returns what each side with a policy has done since its counters began, in the form
// of a rehearsal's, and what of the expectations about these interfaces held. lost returns how many frames were lost at an
// interface outside of the gate, and may be nil: nobody knows of which class they were, so they count as drops of each.
func (g *Gate) Result(now time.Duration, rehearsal *policy.Rehearsal, lost func(*policy.Interface, policy.Direction) uint64) *measure.Result {
	r := &measure.Result{Imbrel: 1, Title: g.file.Title, Policy: true, Verdict: "none", Warnings: []measure.Warning{}, Expectations: []measure.Outcome{}, Interfaces: []measure.Interface{},
		Links: []measure.Link{}, Traffic: []measure.Row{}, Classes: []measure.ClassResult{}}
	h := policy.Rehearsal{Lasts: now, Name: "gate"}
	if rehearsal != nil {
		r.Rehearsal, h.Name = rehearsal.Name, rehearsal.Name
		for _, e := range rehearsal.Expect {
			if e.Where != nil && e.Where.Node.Name == g.node.Name && !e.Windowed() && g.has(e.Where, e.Direction) {
				h.Expect = append(h.Expect, e)
			} else {
				r.Elsewhere++
			}
		}
	}
	for _, p := range g.ports {
		for _, s := range []*side{p.in, p.out} {
			if s.path != nil {
				i := s.result(now)
				if lost != nil {
					i.LostOutside = lost(p.iface, s.direction)
				}
				r.Interfaces = append(r.Interfaces, i)
				r.DurationS = max(r.DurationS, (now - s.since).Seconds())
			}
		}
	}
	c := measure.NewCollector(measure.NewSets(g.file, &h), &h)
	c.Finish(now)
	m := &measure.Measures{File: g.file, Rehearsal: &h, Collectors: []*measure.Collector{c}}
	m.Judge(r)
	return r
}

// Sample returns what each side with a policy has counted of each class so far.
func (g *Gate) Sample() (out []measure.Sample) {
	for _, p := range g.ports {
		for _, s := range []*side{p.in, p.out} {
			if s.path == nil {
				continue
			}
			for i, c := range s.counters() {
				o := &s.observed[i]
				var drops uint64
				for _, n := range c.Drops {
					drops += n
				}
				out = append(out, measure.Sample{Node: p.iface.Node.Name, Interface: p.iface.Name, Direction: s.direction.String(), RateBps: int64(s.plan.Whole), Class: s.plan.Entries[i].Name,
					OfferedBytes: c.OfferedBytes, SentBytes: c.SentBytes, Drops: drops, QueueBytes: o.recent, Waits: &o.delay})
				o.recent = o.waiting
			}
		}
	}
	return out
}

// has reports whether a policy of the gate is in force at an interface in a direction.
func (g *Gate) has(iface *policy.Interface, d policy.Direction) bool {
	for _, p := range g.ports {
		if p.iface == iface {
			return p.iface.Attached[d] != nil
		}
	}
	return false
}

// result returns what a side did.
func (s *side) result(now time.Duration) measure.Interface {
	seconds := max(now-s.since, time.Millisecond).Seconds()
	rate := func(bytes uint64) int64 { return int64(float64(bytes)*8/seconds + 0.5) }
	out := measure.Interface{Node: s.port.iface.Node.Name, Interface: s.port.iface.Name, Direction: s.direction.String(), PolicyAt: s.plan.Policy.Name, RateBps: int64(s.plan.Whole)}
	out.At(measure.Place{Interface: s.port.iface, Direction: s.direction, Plan: s.plan})
	var sent uint64
	for i, c := range s.counters() {
		e, o := s.plan.Entries[i], &s.observed[i]
		if s.path.Parent(i) < 0 {
			sent += c.SentBytes
		}
		k := measure.NewClass(e.Name, &c)
		k.OfferedBps, k.SentBps, k.MaxQueueBytes = rate(c.OfferedBytes), rate(c.SentBytes), o.most
		if s.direction == policy.Out || s.plan.Shape > 0 {
			promised := int64(e.Promise)
			k.PromisedBps, k.PerInstance = &promised, e.Instances() != nil
		}
		seen := &measure.Seen{Entry: e, Slot: int32(i), ActiveBps: k.OfferedBps, Windows: []measure.Figures{{OfferedPackets: c.OfferedPackets, SentPackets: c.SentPackets,
			Drops: k.Drops.Total(), OfferedBps: k.OfferedBps, SentBps: k.SentBps, MaxQueue: o.most, Delay: o.delay, Marks: measure.MarksOf(&c.Marks)}}}
		k.Held(s.path.Presences(i, now))
		most, shared, list := s.path.Instances(i, measure.MaxTop)
		k.Full(e, &c, o.busiest.Max, list)
		k.Instanced(most, shared, list, max(now-s.since, time.Millisecond))
		k.See(seen)
		out.Classes = append(out.Classes, k)
	}
	out.SentBps = rate(sent)
	return out
}

// Reload puts the policies of another file in force, between two frames: the node and the
// interfaces of the ports are those of the new file with the same names. What waits under the
// policies before is classified anew, in the order in which it would have left, and those
// conversations that are recognised are watched from the beginning.
func (g *Gate) Reload(f *policy.File, node *policy.Node, ports []*policy.Interface, now time.Duration, send func(port int, frame []byte)) {
	g.send, g.now = send, max(g.now, now)
	now = g.now
	type held struct {
		f  *frame
		in bool
	}
	var all []held
	for _, p := range g.ports {
		for _, s := range []*side{p.in, p.out} {
			if s.path == nil {
				continue
			}
			s.counted = s.counters()
			for _, pkt := range s.path.Drain() {
				all = append(all, held{pkt.Owner.(*frame), s.direction == policy.In})
			}
		}
	}
	g.waiting = 0
	g.Reloads++
	g.put(f, node, ports, now)
	for _, h := range all {
		h.f.Next = nil
		switch p := g.ports[h.f.from]; {
		case h.in && p.in.path != nil && p.in.path.Straight():
			p.in.pass(h.f, now)
		case h.in && p.in.path != nil:
			p.in.take(h.f, now)
			p.in.run(now, now)
		default:
			g.forward(h.f, now)
		}
	}
}
