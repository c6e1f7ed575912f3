package simulate

import (
	"time"

	"imbrel.example/imbrel/core/datapath"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/plan"
)

// A rehearsal notes what each entry did in each of a hundred steps (fewer where there are many entries). The reasons of a verdict
// quote the steps in which packets were dropped or waited.
const (
	maxStepsOfRun   = 100
	minStepsOfRun   = 10
	maxStepsOfSlots = 4_000_000
)

// A turn is a limit or an entry with a `when` that became active or inactive.
type turn struct {
	entry  *plan.Entry
	limit  datapath.Limit
	at     time.Duration
	active bool
}

// steps chooses the length of the steps.
func (r *run) steps() {
	slots := 0
	for _, p := range r.network.ports {
		for _, path := range []*path{&p.in, &p.out} {
			if path.attached != nil {
				slots += len(path.attached.Entries)
			}
		}
	}
	n := min(maxStepsOfRun, max(minStepsOfRun, maxStepsOfSlots/max(slots, 1)))
	r.stepLength = (r.plan.Lasts + time.Duration(n) - 1) / time.Duration(n)
	r.stepEnds = r.stepLength
}

// stepped notes what each entry did in the steps that have ended.
func (r *run) stepped() {
	for ; r.now >= r.stepEnds; r.stepEnds += r.stepLength {
		if r.stepEnds > r.plan.Lasts+r.stepLength {
			r.stepEnds = 1 << 62
			return
		}
		left := r.touched[:0]
		for _, s := range r.touched {
			if s.step(int(r.stepEnds/r.stepLength) - 1); s.waiting > 0 {
				left = append(left, s)
			} else {
				s.touched = false
			}
		}
		r.touched = left
	}
}

// touch notes that something happens in a slot.
func (r *run) touch(s *slot) {
	if !s.touched {
		s.touched = true
		r.touched = append(r.touched, s)
	}
}

// step notes what the slot did since the step before. A slot without packets notes nothing.
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

// noted is the bytes that the steps of a slot hold already.
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
