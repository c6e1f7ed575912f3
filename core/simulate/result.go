package simulate

import (
	"cmp"
	"slices"
	"strconv"
	"time"

	"imbrel.example/imbrel/core/bound"
	"imbrel.example/imbrel/core/datapath"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/traffic"
)

// result turns what was counted into a result.
func (r *run) result() *measure.Result {
	res := &measure.Result{
		Imbrel: 1, Rehearsal: r.plan.Name, Title: r.file.Title, Seed: r.options.Seed,
		DurationS: r.lasts.Seconds(), WarmUpS: r.plan.WarmUp.Seconds(), Policy: !r.options.WithoutPolicy, Incomplete: r.stopped,
		Interfaces: []measure.Interface{}, Links: []measure.Link{},
	}
	var quiet []measure.Interface
	for _, p := range r.network.ports {
		for _, o := range r.former {
			if o.at == p && o.Path != nil && o.busy() {
				res.Interfaces = append(res.Interfaces, r.interfaceResult(p, o.direction, o.path))
			}
		}
		for d, path := range []*path{&p.in, &p.out} { // policy.In, policy.Out
			switch {
			case path.Path == nil:
			case path.busy():
				res.Interfaces = append(res.Interfaces, r.interfaceResult(p, policy.Direction(d), path))
			case path.config.Plan != nil && path.Sometimes():
				quiet = append(quiet, r.interfaceResult(p, policy.Direction(d), path))
			}
		}
	}
	for _, p := range r.network.ports {
		if l, ok := r.linkResult(p); ok {
			res.Links = append(res.Links, l)
		}
	}
	for _, p := range r.network.ports {
		if o := &p.oversize; o.longest > 0 {
			found := measure.Oversize{At: p.iface.Path(), MTUBytes: int(p.longest), LongestBytes: o.longest, Dropped: o.dropped, Untold: o.untold, Fragmented: o.divided}
			found.Place(measure.Place{Interface: p.iface, Direction: policy.Out})
			res.Oversize = append(res.Oversize, found)
		}
	}
	for _, p := range r.network.ports {
		if p.bought != nil {
			res.Contracts = append(res.Contracts, p.bought.results(r, p)...)
		}
	}
	res.Admissions = r.admissions
	for _, s := range r.sources {
		if c := s.replays; c != nil {
			c.account(s.Source.(*traffic.Replay))
			res.Captures = append(res.Captures, *c.Capture)
		}
	}
	r.unfinished()
	for _, c := range r.collectors {
		c.Finish(r.until())
	}
	res.Traffic = r.collectors[0].Rows(r.plan, r.classes)
	res.Classes = r.collectors[0].ClassResults(r.classes)
	m := &measure.Measures{File: r.file, Rehearsal: r.plan, Windows: r.windows, Collectors: r.collectors, Quiet: quiet}
	for _, p := range r.network.ports {
		m.Places = append(m.Places, measure.Place{Interface: p.iface, Direction: policy.In, Plan: r.planAt(p, policy.In, 0)},
			measure.Place{Interface: p.iface, Direction: policy.Out, Plan: r.planAt(p, policy.Out, 0)},
			measure.Place{Interface: p.iface, Direction: policy.Out, Carrier: true, Plan: p.out.config.Plan},
			measure.Place{Interface: p.iface, Direction: policy.Out, Carrier: true, Link: true, Plan: p.out.config.Plan},
			measure.Place{Interface: p.iface, Direction: policy.Out, Carrier: true, Ring: true, Plan: p.out.config.Plan})
	}
	for _, o := range r.former { // the places of what came after each
		m.Places = append(m.Places, measure.Place{Interface: o.at.iface, Direction: o.direction, Plan: r.planAt(o.at, o.direction, o.until)})
	}
	if b := r.options.Bounds || slices.ContainsFunc(r.plan.Expect, func(e policy.Expectation) bool { return e.Statistic == policy.Proven }); b && res.Policy {
		res.Bounds = bound.Compute(r.file, r.plan, r.options.Capture)
		m.Bounds = res.Bounds
	}
	m.Judge(res)
	if r.options.Hops {
		res.Hops = m.HopRows(res)
	}
	if r.series != nil {
		res.Series = r.series.result()
	}
	return res
}

// planAt returns the plan that is in force at a place from a time on.
func (r *run) planAt(p *port, d policy.Direction, from time.Duration) *plan.Plan {
	for _, o := range r.former {
		if o.at == p && o.direction == d && o.until > from {
			return o.config.Plan
		}
	}
	return p.path(d).config.Plan
}

// linkResult returns what the carrier after a port, and its link, did; false when there is
// neither, or the link is perfect.
func (r *run) linkResult(p *port) (measure.Link, bool) {
	c := p.carrier
	if c == nil && p.medium == nil {
		return measure.Link{}, false
	}
	l := measure.Link{From: p.iface.Path(), To: p.peer.iface.Path()}
	l.At(measure.Place{Interface: p.iface, Direction: policy.Out, Carrier: true, Plan: p.out.config.Plan})
	if m := p.medium; m != nil {
		l.SendsBps, l.CarriedBps, l.Lost = int64(p.iface.Rate), r.bps(m.bytes), m.lost
	}
	if c == nil {
		return l, true
	}
	l.SendsBps, l.CarriedBps, l.Drops, l.QueueDelay = int64(c.rate), r.bps(c.bytes), c.drops, c.delay.Summary()
	for i, k := range c.classes {
		if k.bytes > 0 || k.drops > 0 {
			l.Classes = append(l.Classes, measure.LinkClass{Class: r.classes[i], CarriedBps: r.bps(k.bytes), Drops: k.drops})
		}
	}
	return l, true
}

// account notes what of a capture was not sent: what its reader could not use, and what
// comes after the end.
func (c *replayed) account(replay *traffic.Replay) {
	c.Wild = replay.Wild
	if r, ok := c.reader.(interface{ Skipped() []traffic.Skipped }); ok {
		c.Skipped = r.Skipped()
	}
	if r, ok := c.reader.(interface{ Left() float64 }); ok {
		c.NotRead = float64(int(1000*r.Left())) / 1000
	}
}

// busy reports whether any packet came to the path.
func (p *path) busy() bool {
	return p.Offered() > 0
}

func (r *run) interfaceResult(p *port, d policy.Direction, path *path) measure.Interface {
	res := measure.Interface{Node: p.iface.Node.Name, Interface: p.iface.Name, Direction: d.String(), RateBps: int64(p.iface.Rate)}
	res.At(measure.Place{Interface: p.iface, Direction: d, Plan: path.config.Plan})
	promises := false
	if pl := path.config.Plan; pl != nil {
		res.PolicyAt, res.RateBps = pl.Policy.Name, int64(pl.Whole)
		// Incoming without a shape nothing ever waits, so nothing is promised.
		promises = d == policy.Out || pl.Shape > 0
	}
	var sent uint64
	lasts := r.lasts // in which the policy was in force
	if path.from > 0 || path.until > 0 {
		lasts = max(min(cmp.Or(path.until, r.until()), r.until())-max(path.from, r.plan.WarmUp), time.Millisecond)
		res.FromS, res.UntilS = path.from.Seconds(), path.until.Seconds()
	}
	path.Each(func(i int, c *datapath.Counters) {
		slot := path.slot(r, int32(i))
		if path.Parent(i) < 0 {
			sent += slot.whole.sent
		}
		if path.config.Plan == nil && c.OfferedPackets == 0 {
			return // a FIFO lists the classes that came
		}
		class := measure.NewClass(path.names[i], c)
		class.OfferedBps, class.SentBps, class.MaxQueueBytes = over(slot.whole.offered, lasts), over(slot.whole.sent, lasts), slot.whole.maxQueue
		if promises {
			e := path.attached.Entries[i]
			promised := int64(e.Promise)
			class.PromisedBps, class.PerInstance = &promised, e.Instances() != nil
		}
		if path.pcps != nil {
			class.PCPs, class.TCs = byNumber(path.pcps[i]), byNumber(path.tcs[i])
		}
		class.Held(path.Presences(i, r.until()))
		most, shared, all := path.Instances(i, datapath.MaxInstances)
		class.Instanced(most, shared, all, r.lasts)
		if path.config.Plan != nil {
			class.Full(path.attached.Entries[i], c, slot.sent.Max, all)
		}
		seen := r.seen(path, i, c)
		if path.config.Plan != nil && path.attached.Entries[i].Meter != nil {
			r.worstInstance(seen, int64(path.attached.Entries[i].Meter.Rate), all)
		}
		class.See(seen)
		res.Classes = append(res.Classes, class)
	})
	res.SentBps = over(sent, lasts)
	return res
}

// worstInstance notes, of the instances of a policer that had red packets though they were
// offered less than its rate, the one that needed the largest burst.
func (r *run) worstInstance(s *measure.Seen, rate int64, instances []datapath.Instance) {
	for i := range instances {
		k := &instances[i]
		if need := int64(k.Need.Burst()); k.Red > 0 && over(k.OfferedBytes, r.lasts) < rate && need > s.BurstNeeded {
			s.BurstNeeded, s.ActiveBps, s.RedOf, s.Red = need, over(k.OfferedBytes, r.lasts), k.Value, k.Red
		}
	}
}

// seen returns what a verdict needs to know of a slot.
func (r *run) seen(p *path, i int, c *datapath.Counters) *measure.Seen {
	s := p.slots[i]
	out := &measure.Seen{Slot: int32(i), ActiveBps: s.active(c.OfferedBytes)}
	if p.attached != nil {
		out.Entry = p.attached.Entries[i]
	}
	out.StepLength, out.Steps = r.stepLength, s.steps
	if p.config.Plan != nil {
		out.Active = p.activity(p.attached.Entries[i], r.until())
		out.BurstNeeded, out.QueueNeeded = int64(s.burst.Burst()), int64(s.queue.Burst())
	}
	for w := range 1 + len(s.windows) {
		g, marks, lasts := windowFigures{figures: s.whole, offeredPackets: c.OfferedPackets, sentPackets: c.SentPackets}, &c.Marks, r.lasts
		if w == 0 {
			for _, n := range c.Drops {
				g.drops += n
			}
		} else {
			g = s.windows[w-1]
			marks = g.marks
			lasts = max(min(r.windows[w-1].To, r.until())-r.windows[w-1].From, time.Millisecond)
		}
		f := measure.Figures{OfferedPackets: g.offeredPackets, SentPackets: g.sentPackets, Drops: g.drops, MaxQueue: g.maxQueue, Delay: g.delay,
			OfferedBps: over(g.offered, lasts), SentBps: over(g.sent, lasts)}
		if marks != nil {
			f.Marks = measure.MarksOf(marks)
		}
		out.Windows = append(out.Windows, f)
	}
	return out
}

// byNumber returns the numbers that were counted, nil when none was.
func byNumber(counts [8]uint64) map[string]uint64 {
	var out map[string]uint64
	for n, count := range counts {
		if count > 0 {
			if out == nil {
				out = make(map[string]uint64)
			}
			out[strconv.Itoa(n)] = count
		}
	}
	return out
}
