package gate

import (
	"cmp"
	"slices"
	"time"

	"imbrel.example/imbrel/core/datapath"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
)

// observed is what is measured of the frames of one entry beyond what its path counts.
type observed struct {
	waiting, most int64 // bytes
	recent        int64 // the most since the last sample
	busiest       datapath.Busiest
	delay         measure.Distribution
}

// counters returns what each entry has counted, since before the last reload.
func (s *side) counters() []datapath.Counters {
	out := s.path.Counters()
	for i := range out {
		out[i].Add(&s.before[i])
	}
	return out
}

// offered books a frame that the path took, in each entry around its own.
func (s *side) offered(f *frame) {
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

// went books a frame that the path took and gave back at once.
func (s *side) went(f *frame) {
	for i := int(f.Slot); i >= 0; i = s.path.Parent(i) {
		o := &s.observed[i]
		o.most, o.recent = max(o.most, o.waiting+int64(f.Size)), max(o.recent, o.waiting+int64(f.Size))
		o.delay.Add(0)
		if s.path.Limited(i) {
			o.busiest.Add(s.last, int(f.Size))
		}
	}
}

// discarded books a frame that the path dropped after it had taken it.
func (s *side) discarded(pkt *packet.Packet, _ datapath.Reason) {
	f := pkt.Owner.(*frame)
	for i := int(f.Slot); i >= 0; i = s.path.Parent(i) {
		s.observed[i].waiting -= int64(f.Size)
	}
	f.line.leave(f)
	s.lane.waiting--
	s.lane.free(f)
}

// An Observation is what the lanes of a gate had done at a time. Whoever has it may take as long as he likes
// to make something of it: the gate goes on.
type Observation struct {
	Counts
	Waiting int // frames
	At      time.Duration
	file    *policy.File
	node    *policy.Node
	ports   []*policy.Interface
	sides   []observation
}

// An observation is what a side had done.
type observation struct {
	number    int // of the port
	iface     *policy.Interface
	direction policy.Direction
	plan      *plan.Plan
	since     time.Duration
	counters  []datapath.Counters
	observed  []observed
	presences [][]datapath.Presence
	instances []instances
}

type instances struct {
	most   int
	shared uint64
	list   []datapath.Instance
}

// Observe adds what a lane has done until a time to an observation. sampled begins anew how much waits at most between two samples.
func (l *Lane) Observe(o *Observation, now time.Duration, sampled bool) {
	o.add(&l.Counts)
	o.Waiting += l.waiting
	o.At = max(o.At, now)
	for _, s := range l.sides {
		k := observation{number: s.port.number, iface: s.iface, direction: s.direction, plan: s.plan, since: s.since, counters: s.counters(), observed: slices.Clone(s.observed),
			presences: make([][]datapath.Presence, len(s.observed)), instances: make([]instances, len(s.observed))}
		for i := range s.observed {
			k.observed[i].delay = s.observed[i].delay.Clone()
			k.presences[i] = s.path.Presences(i, now)
			n := &k.instances[i]
			n.most, n.shared, n.list = s.path.Instances(i, measure.MaxTop)
			if sampled {
				s.observed[i].recent = s.observed[i].waiting
			}
		}
		o.sides = append(o.sides, k)
	}
}

// Observed says of an observation of which gate it is, when all lanes have been observed.
func (g *Gate) Observed(o *Observation) {
	o.file, o.node, o.Reloads = g.file, g.node, g.reloads
	for _, p := range g.ports {
		o.ports = append(o.ports, p.iface)
	}
	slices.SortStableFunc(o.sides, func(a, b observation) int {
		return cmp.Or(cmp.Compare(a.number, b.number), cmp.Compare(a.direction, b.direction))
	})
}

// Observe returns what a gate that one thread moves has done until a time, as each lane's Observe does.
func (g *Gate) Observe(now time.Duration, sampled bool) *Observation {
	var o Observation
	for _, l := range g.Lanes {
		l.Observe(&o, now, sampled)
	}
	g.Observed(&o)
	return &o
}

// Result returns what each side with a policy has done since its counters began, in the form
// of a rehearsal's, and what of the expectations about these interfaces held. lost returns how many frames were lost at an
// interface outside of the gate, and may be nil: nobody knows of which class they were, so they count as drops of each.
func (o *Observation) Result(rehearsal *policy.Rehearsal, lost func(*policy.Interface, policy.Direction) uint64) *measure.Result {
	r := &measure.Result{Imbrel: 1, Title: o.file.Title, Policy: true, Verdict: "none", Warnings: []measure.Warning{}, Expectations: []measure.Outcome{}, Interfaces: []measure.Interface{},
		Links: []measure.Link{}, Traffic: []measure.Row{}, Classes: []measure.ClassResult{}}
	h := policy.Rehearsal{Lasts: o.At, Name: "gate"}
	if rehearsal != nil {
		r.Rehearsal, h.Name = rehearsal.Name, rehearsal.Name
		for _, e := range rehearsal.Expect {
			if e.Where != nil && e.Where.Node.Name == o.node.Name && !e.Windowed() && e.Statistic != policy.Proven && o.has(e.Where, e.Direction) {
				h.Expect = append(h.Expect, e)
			} else {
				r.Elsewhere++
			}
		}
	}
	for i := range o.sides {
		s := &o.sides[i]
		k := s.result(o.At)
		if lost != nil {
			k.LostOutside = lost(s.iface, s.direction)
		}
		r.Interfaces = append(r.Interfaces, k)
		r.DurationS = max(r.DurationS, (o.At - s.since).Seconds())
	}
	c := measure.NewCollector(measure.NewSets(o.file, &h), &h)
	c.Finish(o.At)
	m := &measure.Measures{File: o.file, Rehearsal: &h, Collectors: []*measure.Collector{c}}
	m.Judge(r)
	return r
}

// Samples returns what each side with a policy had counted of each class.
func (o *Observation) Samples() (out []measure.Sample) {
	for n := range o.sides {
		s := &o.sides[n]
		for i := range s.counters {
			c, seen := &s.counters[i], &s.observed[i]
			var drops uint64
			for _, n := range c.Drops {
				drops += n
			}
			out = append(out, measure.Sample{Node: s.iface.Node.Name, Interface: s.iface.Name, Direction: s.direction.String(), RateBps: int64(s.plan.Whole), Class: s.plan.Entries[i].Name,
				OfferedBytes: c.OfferedBytes, SentBytes: c.SentBytes, Drops: drops, QueueBytes: seen.recent, Waits: &seen.delay})
		}
	}
	return out
}

// has reports whether a policy of the gate is in force at an interface in a direction.
func (o *Observation) has(iface *policy.Interface, d policy.Direction) bool {
	return slices.Contains(o.ports, iface) && iface.Attached[d] != nil
}

// result returns what a side did.
func (s *observation) result(now time.Duration) measure.Interface {
	seconds := max(now-s.since, time.Millisecond).Seconds()
	rate := func(bytes uint64) int64 { return int64(float64(bytes)*8/seconds + 0.5) }
	out := measure.Interface{Node: s.iface.Node.Name, Interface: s.iface.Name, Direction: s.direction.String(), PolicyAt: s.plan.Policy.Name, RateBps: int64(s.plan.Whole)}
	out.At(measure.Place{Interface: s.iface, Direction: s.direction, Plan: s.plan})
	var sent uint64
	for i := range s.counters {
		c, e, o := &s.counters[i], s.plan.Entries[i], &s.observed[i]
		if e.Parent == nil {
			sent += c.SentBytes
		}
		k := measure.NewClass(e.Name, c)
		k.OfferedBps, k.SentBps, k.MaxQueueBytes = rate(c.OfferedBytes), rate(c.SentBytes), o.most
		if s.direction == policy.Out || s.plan.Shape > 0 {
			promised := int64(e.Promise)
			k.PromisedBps, k.PerInstance = &promised, e.Instances() != nil
		}
		seen := &measure.Seen{Entry: e, Slot: int32(i), ActiveBps: k.OfferedBps, Windows: []measure.Figures{{OfferedPackets: c.OfferedPackets, SentPackets: c.SentPackets,
			Drops: k.Drops.Total(), OfferedBps: k.OfferedBps, SentBps: k.SentBps, MaxQueue: o.most, Delay: o.delay, Marks: measure.MarksOf(&c.Marks)}}}
		k.Held(s.presences[i])
		n := &s.instances[i]
		k.Full(e, c, o.busiest.Max, n.list)
		k.Instanced(n.most, n.shared, n.list, max(now-s.since, time.Millisecond))
		k.See(seen)
		out.Classes = append(out.Classes, k)
	}
	out.SentBps = rate(sent)
	return out
}
