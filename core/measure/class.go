package measure

import (
	"time"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/datapath"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/unit"
)

// NewClass returns what a data path has counted of a class, without rates and delays, which the
// caller measures.
func NewClass(name string, c *datapath.Counters) Class {
	out := Class{Class: name, OfferedPackets: c.OfferedPackets, SentPackets: c.SentPackets, OfferedBytes: c.OfferedBytes, SentBytes: c.SentBytes,
		Drops: Drops{Policed: c.Drops[datapath.Policed], QueueFull: c.Drops[datapath.QueueFull], Early: c.Drops[datapath.Early], Blocked: c.Drops[datapath.Blocked]},
		Marks: make(map[string]uint64), Congested: c.Congested, TooLarge: c.TooLarge}
	for dscp, n := range c.Marks {
		if n > 0 {
			out.Marks[codepoint.DSCP(dscp).Name()] = n
		}
	}
	if c.Colors != [3]uint64{} {
		out.Colors = &Colors{Green: c.Colors[0], Yellow: c.Colors[1], Red: c.Colors[2]}
	}
	return out
}

// MarksOf returns the packets that were counted by DSCP, nil where none was.
func MarksOf(counts *[64]uint64) map[codepoint.DSCP]uint64 {
	out := make(map[codepoint.DSCP]uint64)
	for dscp, n := range counts {
		if n > 0 {
			out[codepoint.DSCP(dscp)] = n
		}
	}
	return out
}

// MaxTop is how many instances are told of.
const MaxTop = 10

// Instanced adds what a path has counted of the instances of the class, over a time: how many there
// were at most, how many packets shared one, and those that were offered most.
func (c *Class) Instanced(most int, shared uint64, list []datapath.Instance, over time.Duration) {
	if most == 0 {
		return
	}
	c.Instances = &Instances{Max: most, Shared: shared, Top: []Instance{}}
	rate := func(bytes uint64) int64 { return int64(float64(bytes)*8/over.Seconds() + 0.5) }
	for _, k := range list[:min(MaxTop, len(list))] {
		i := Instance{Value: k.Value, Offered: k.Offered, Dropped: k.Dropped, Bytes: k.OfferedBytes,
			OfferedBps: rate(k.OfferedBytes), SentBps: rate(k.SentBytes), MaxMs: float64(k.MaxWait) / 1e6, BusiestBps: 8 * k.Busiest.Max}
		if k.Sent > 0 {
			i.MeanMs = float64(int64(k.Wait/float64(k.Sent))) / 1e6
		}
		c.Instances.Top = append(c.Instances.Top, i)
	}
}

// Held adds for how long what has a `when` was in force.
func (c *Class) Held(all []datapath.Presence) {
	for _, o := range all {
		held := Presence{HeldS: o.Held.Seconds(), Times: o.Times}
		if o.Limit == datapath.EntryLimit {
			c.When = &held
		} else {
			c.Limits = append(c.Limits, LimitPresence{Limit: o.Limit.String(), Presence: held})
		}
	}
}

// Full adds how full the limits of the class's entry were in their fullest second, with instances that of the fullest. sent is the
// most bytes that it sent in a second.
func (c *Class) Full(e *plan.Entry, counted *datapath.Counters, sent int64, instances []datapath.Instance) {
	add := func(limit string, rate unit.Rate, most int64, of func(*datapath.Instance) int64) {
		f := Fullness{Limit: limit, RateBps: int64(rate)}
		if e.Each != 0 {
			most = 0
			for i := range instances {
				if k := &instances[i]; of(k) > most {
					most, f.Of = of(k), k.Value
				}
			}
		}
		f.BusiestBps = 8 * most
		f.Ratio = float64(f.BusiestBps*1000/max(f.RateBps, 1)) / 1000
		c.Fullness = append(c.Fullness, f)
	}
	if e.Instances() != nil {
		return // of each instance around it, which is not kept
	}
	if m := e.Meter; m != nil && counted.Colors != [3]uint64{} {
		add("police", m.Rate, counted.Conforming.Max, func(k *datapath.Instance) int64 { return k.Conforming.Max })
	}
	if m := e.AtMost; m != nil && sent > 0 {
		add("at-most", m.Rate, sent, func(k *datapath.Instance) int64 { return k.Busiest.Max })
	}
}
