package simulate

import (
	"time"

	"imbrel/core/datapath"
	"imbrel/core/measure"
	"imbrel/core/plan"
)

// A rehearsal notes what each entry did in a hundred steps, or fewer where there are many entries: the reasons of a verdict
// are about the time in which something happened.
const (
	mostStepsOfRun   = 100
	leastStepsOfRun  = 10
	mostStepsOfSlots = 4_000_000
)

// A turn is a limit or an entry with a `when` that became active or inactive.
type turn struct {
	entry  *plan.Entry
	limit  datapath.Limit
	at     time.Duration
	active bool
}

// steps plans the steps of the run.
func (r *run) steps() {
	slots := 0
	for _, p := range r.network.ports {
		for _, path := range []*path{&p.in, &p.out} {
			if path.attached != nil {
				slots += len(path.attached.Entries)
			}
		}
	}
	n := min(mostStepsOfRun, max(leastStepsOfRun, mostStepsOfSlots/max(slots, 1)))
	r.stepLength = (r.plan.Lasts + time.Duration(n) - 1) / time.Duration(n)
	r.stepEnds = r.stepLength
}

// stepped notes what each entry did in the steps that are over.
func (r *run) stepped() {
	for ; r.now >= r.stepEnds; r.stepEnds += r.stepLength {
		if r.stepEnds > r.plan.Lasts+r.stepLength {
			r.stepEnds = 1 << 62
			return
		}
		for _, p := range r.network.ports {
			for _, path := range []*path{&p.in, &p.out} {
				for i := range path.slots {
					path.slots[i].step(int(r.stepEnds/r.stepLength) - 1)
				}
			}
		}
	}
}

// step notes what the slot did since the step before. Nothing is noted of steps before its first packet.
func (s *slot) step(n int) {
	if s.whole.offered == s.noted.Offered && s.whole.sent == s.noted.Sent && s.drops == s.dropsNoted && s.waiting == 0 {
		return
	}
	for len(s.steps) < n {
		s.steps = append(s.steps, measure.StepFigures{})
	}
	s.steps = append(s.steps, measure.StepFigures{Offered: float32(s.whole.offered - s.noted.Offered), Sent: float32(s.whole.sent - s.noted.Sent),
		Drops: uint32(s.drops - s.dropsNoted), Waiting: float32(s.waiting)})
	s.noted, s.dropsNoted = noted{s.whole.offered, s.whole.sent}, s.drops
}

// noted is what of a slot's bytes is in its steps.
type noted struct{ Offered, Sent uint64 }

// activity returns when a limit or an entry with a `when` was active.
func (p *path) activity(e *plan.Entry, until time.Duration) []measure.Active {
	var out []measure.Active
	for _, t := range p.turns {
		switch {
		case t.entry != e:
		case t.active:
			out = append(out, measure.Active{Limit: t.limit, From: t.at, To: until})
		default:
			for i := len(out) - 1; i >= 0; i-- {
				if out[i].Limit == t.limit {
					out[i].To = t.at
					break
				}
			}
		}
	}
	return out
}
