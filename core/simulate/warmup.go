package simulate

import (
	"time"

	"imbrel.example/imbrel/core/datapath"
	"imbrel.example/imbrel/core/policy"
)

// warmed forgets what was measured until the end of the warm-up. What waits then counts as
// offered after it, so that what is offered is what is sent, dropped or waits, as always.
func (r *run) warmed() {
	if r.warm = true; r.plan.WarmUp == 0 {
		return
	}
	for _, at := range r.ports {
		for _, d := range []policy.Direction{policy.In, policy.Out} {
			p := at.path(d)
			if p.Path == nil {
				continue
			}
			p.Forget(r.plan.WarmUp, func(class int) int64 { return p.slot(r, int32(class)).waiting })
			for _, s := range p.slots {
				if s == nil {
					continue
				}
				s.whole, s.noted = figures{maxQueue: s.waiting}, noted{}
				s.first, s.last, s.sent = 0, 0, datapath.Busiest{}
			}
		}
	}
}

// closed ends the time over which rates are taken. Packets that wait are still sent or dropped, and counted.
func (r *run) closed() {
	r.over = true
	for _, at := range r.ports {
		for _, p := range []*path{&at.in, &at.out} {
			if p.Path != nil {
				p.Close(r.plan.Lasts)
			}
		}
	}
}

// timeIs brings up to date what follows from the time.
func (r *run) timeIs(now time.Duration) {
	if r.now = now; now >= r.alarm {
		r.rings()
	}
}

// rings does what is due when the warm-up, a step, a window or the measured time ends, and sets the alarm for the next of these times.
func (r *run) rings() {
	if !r.warm && r.now >= r.plan.WarmUp {
		r.warmed()
	}
	if r.now >= r.stepEnds {
		r.stepped()
	}
	if !r.over && r.now >= r.plan.Lasts {
		r.closed()
	}
	r.look()
	if r.alarm = min(r.stepEnds, r.nextWindow); !r.over {
		r.alarm = min(r.alarm, r.plan.Lasts)
	}
	if !r.warm {
		r.alarm = min(r.alarm, r.plan.WarmUp)
	}
}
