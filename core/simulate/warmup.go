package simulate

import (
	"slices"

	"imbrel/core/datapath"
	"imbrel/core/policy"
)

// warmed forgets what was measured until the end of the warm-up. What waits then counts as
// offered after it, so that what is offered is what is sent, dropped or waits, as always.
func (r *run) warmed() {
	if r.warm = true; r.plan.WarmUp == 0 {
		return
	}
	for _, at := range r.network.ports {
		for _, d := range []policy.Direction{policy.In, policy.Out} {
			p := at.path(d)
			if p.Path == nil {
				continue
			}
			slots := p.measured(r)
			p.before = p.Counters()
			for i := range p.before {
				c, s := &p.before[i], &slots[i]
				c.OfferedPackets = c.SentPackets
				for _, n := range c.Drops {
					c.OfferedPackets += n
				}
				c.OfferedBytes -= uint64(s.waiting)
				s.whole = figures{maxQueue: s.waiting}
				s.first, s.last = 0, 0
			}
			p.pcps, p.tcs = nil, nil
		}
	}
}

// counted returns what the path counted after the warm-up.
func (p *path) counted() []datapath.Counters {
	out := p.Counters()
	for i := range p.before {
		out[i].Subtract(&p.before[i])
	}
	return slices.Clip(out)
}
