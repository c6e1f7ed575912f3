package simulate

import (
	"slices"
	"strconv"

	"imbrel/core/codepoint"
	"imbrel/core/datapath"
	"imbrel/core/measure"
	"imbrel/core/plan"
	"imbrel/core/policy"
)

// result turns what was counted into a result.
func (r *run) result() *measure.Result {
	res := &measure.Result{
		Imbrel: 1, Rehearsal: r.plan.Name, Title: r.file.Title, Seed: r.options.Seed,
		DurationS: r.plan.Lasts.Seconds(), Policy: !r.options.WithoutPolicy,
		Interfaces: []measure.Interface{}, Links: []measure.Link{},
	}
	for _, p := range r.network.ports {
		for d, path := range []*path{&p.in, &p.out} { // policy.In, policy.Out
			if path.Path != nil && path.busy() {
				res.Interfaces = append(res.Interfaces, r.interfaceResult(p, policy.Direction(d), path))
			}
		}
	}
	for _, p := range r.network.ports {
		if c := p.carrier; c != nil {
			res.Links = append(res.Links, measure.Link{
				From: p.iface.Path(), To: p.peer.iface.Path(), SendsBps: int64(c.rate), CarriedBps: r.bps(c.bytes),
				Drops: c.drops, QueueDelay: c.delay.Summary(),
			})
		}
	}
	for _, s := range r.sources {
		if s.capture != nil {
			res.Captures = append(res.Captures, *s.capture)
		}
	}
	r.collect.Settle()
	res.Traffic = r.collect.Rows(r.plan, r.classes)
	res.Classes = r.collect.ClassResults(r.classes)
	r.collect.Judge(res, r.plan, r.classes)
	return res
}

// busy reports whether any packet came to the path.
func (p *path) busy() bool {
	return slices.ContainsFunc(p.Counters(), func(c datapath.Counters) bool { return c.OfferedPackets > 0 })
}

func (r *run) interfaceResult(p *port, d policy.Direction, path *path) measure.Interface {
	res := measure.Interface{Node: p.iface.Node.Name, Interface: p.iface.Name, Direction: d.String(), RateBps: int64(p.iface.Rate)}
	var entries []*plan.Entry
	if pl := path.config.Plan; pl != nil {
		res.PolicyAt, res.RateBps = pl.Policy.Name, int64(pl.Whole)
		// Incoming without a shape nothing ever waits, so nothing is promised.
		if d == policy.Out || pl.Shape > 0 {
			entries = pl.Entries
		}
	}
	var sent uint64
	counters := path.Counters()
	for i := range counters {
		c := &counters[i]
		if path.Parent(i) < 0 {
			sent += path.sent[i]
		}
		if path.config.Plan == nil && c.OfferedPackets == 0 {
			continue // a FIFO lists the classes that came
		}
		class := measure.Class{
			Class: path.names[i], OfferedPackets: c.OfferedPackets, SentPackets: c.SentPackets,
			OfferedBps: r.bps(path.offered[i]), SentBps: r.bps(path.sent[i]),
			Drops: measure.Drops{Policed: c.Drops[datapath.Policed], QueueFull: c.Drops[datapath.QueueFull],
				Early: c.Drops[datapath.Early], Blocked: c.Drops[datapath.Blocked]},
			Marks: make(map[string]uint64), MaxQueueBytes: c.MaxQueueBytes,
		}
		if entries != nil {
			promised := int64(entries[i].Promise)
			class.PromisedBps, class.PerInstance = &promised, entries[i].Instances() != nil
		}
		for dscp, n := range c.Marks {
			if n > 0 {
				class.Marks[codepoint.DSCP(dscp).Name()] = n
			}
		}
		if path.pcps != nil {
			class.PCPs, class.TCs = byNumber(path.pcps[i]), byNumber(path.tcs[i])
		}
		if c.Colors != [3]uint64{} {
			class.Colors = &measure.Colors{Green: c.Colors[0], Yellow: c.Colors[1], Red: c.Colors[2]}
		}
		class.Congested, class.TooLarge = c.Congested, c.TooLarge
		for _, o := range path.Presences(i, r.plan.Lasts) {
			held := measure.Presence{HeldS: o.Held.Seconds(), Times: o.Times}
			if o.Limit == datapath.TheEntry {
				class.When = &held
			} else {
				class.Limits = append(class.Limits, measure.LimitPresence{Limit: o.Limit.String(), Presence: held})
			}
		}
		if most, shared, top := path.Instances(i, 5); most > 0 {
			class.Instances = &measure.Instances{Most: most, Shared: shared}
			for _, k := range top {
				class.Instances.Top = append(class.Instances.Top, measure.Instance{Value: k.Value, Offered: k.Offered, Dropped: k.Dropped, Bytes: k.OfferedBytes})
			}
		}
		class.SetDelay(&path.delays[i])
		res.Classes = append(res.Classes, class)
	}
	res.SentBps = r.bps(sent)
	return res
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
