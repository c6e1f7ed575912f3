package simulate

import (
	"slices"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/datapath"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/meter"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
)

// A contract meters what comes from a port over its link, where the carrier takes it.
type contract struct {
	framing packet.Framing
	lines   []contractLine
	of      [codepoint.MaxDSCP + 1]uint8 // the line of each code point
}

type contractLine struct {
	spec  *policy.ContractLine
	meter meter.Meter
	use   measure.ContractUse
}

// newContract returns the contract of a port's end of its link, or nil.
func newContract(p *port) *contract {
	end := &p.iface.Link.Ends[p.iface.End]
	if end.Contract == nil {
		return nil
	}
	c := &contract{framing: end.Counts(), lines: make([]contractLine, len(end.Contract))}
	for i := range c.of {
		c.of[i] = uint8(len(c.lines) - 1)
	}
	for i := range end.Contract {
		spec := &end.Contract[i]
		c.lines[i] = contractLine{spec: spec, meter: plan.MeterOf(spec).New(), use: measure.ContractUse{At: p.iface.Path(), DSCPs: spec.Marks(), RateBps: int64(spec.Rate.Rate), BurstBytes: int64(spec.Police.Burst)}}
		for _, d := range spec.DSCPs {
			c.of[d] = uint8(i)
		}
	}
	return c
}

// takes meters a packet, marks it or drops it, and reports whether it goes on.
func (r *run) takes(p *port, c *contract, f *flight) bool {
	l := &c.lines[c.of[f.DSCP()]]
	arrives := datapath.ColorOf(&f.Packet)
	if l.spec.ByDEI {
		if arrives = meter.Green; f.DEI() {
			arrives = meter.Yellow
		}
	}
	size := c.framing.Size(f.Length, f.Labels())
	color := l.meter.Measure(r.now, size, arrives)
	counted := r.counts(f)
	if counted {
		l.use.Count(color)
	}
	if r.measured() {
		l.use.OfferedBps += int64(size) // bytes, until the end
	}
	action := [...]*policy.Action{meter.Green: &l.spec.Green, meter.Yellow: &l.spec.Yellow, meter.Red: &l.spec.Red}[color]
	if action.Drop {
		if counted {
			l.use.Dropped++
		}
		f.steps = append(f.steps, measure.Step{Place: p.linkPlace, Slot: f.prediction.first, Reason: datapath.Exceeds})
		r.gone(f)
		return false
	}
	if action.Mark == nil {
		return true
	}
	before := marks(&f.Packet)
	if datapath.Mark(action.Mark, &f.Packet); marks(&f.Packet) != before && f.at+1 < len(f.route) { // what follows takes it by its new mark
		ahead := *r.predictFrom(f, 2*f.at+2, r.epochNow())
		ahead.in, ahead.first = f.prediction.in, f.prediction.first
		f.prediction = &ahead
	}
	return true
}

// results returns what the contract metered.
func (c *contract) results(r *run, p *port) []measure.ContractUse {
	var out []measure.ContractUse
	for i := range c.lines {
		u := c.lines[i].use
		u.OfferedBps = r.bps(uint64(u.OfferedBps))
		u.Of(c.lines[i].spec, measure.Place{Interface: p.iface, Direction: policy.Out, Carrier: true, Link: true, Plan: p.out.config.Plan})
		out = append(out, u)
	}
	return slices.Clip(out)
}
