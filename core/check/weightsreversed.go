package check

import (
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

func weightsReversed() Rule {
	return Rule{"weights-reversed", Warning, `Two entries share by ` + "`weight`" + `. One of them is expected to get more, but has the smaller weight. When both are busy, the other gets more.
Swap the weights, or the expectations.`,
		func(s *survey) {
			for i := range s.f.Rehearsals {
				h := &s.f.Rehearsals[i]
				for _, p := range s.plans {
					for a, one := range p.Entries {
						for _, other := range p.Entries[:a] {
							if one.Parent != other.Parent || one.Priority+other.Priority > 0 || one.Spec.Weight == 0 || other.Spec.Weight == 0 || !one.Spec.AtLeast.IsZero() || !other.Spec.AtLeast.IsZero() {
								continue
							}
							x, y := expectedRate(h, p, one), expectedRate(h, p, other)
							low, high, more, less := one, other, x, y
							if y != nil && (x == nil || y.Limit > x.Limit) {
								low, high, more, less = other, one, y, x
							}
							if more == nil || less == nil || more.Limit <= less.Limit || low.Spec.Weight >= high.Spec.Weight {
								continue
							}
							s.say(low.Spec.PlaceOf("weight"), p.Where(), words.WeightsReversed.With(low.Name, high.Name, low.Spec.Weight, high.Spec.Weight, words.Quote(more.Text), words.Quote(less.Text)))
						}
					}
				}
			}
		}}
}

// expectedRate returns the expectation that an entry gets at least a rate, or nil.
func expectedRate(h *policy.Rehearsal, p *plan.Plan, e *plan.Entry) *policy.Expectation {
	for i := range h.Expect {
		x := &h.Expect[i]
		if x.Metric.Row().Kind == policy.Rates && x.AtLeast() && !x.OfPromise && x.Versus == "" && policy.IsOf(e.Name, x.Subject) && (x.Where == nil || x.Where == p.Interface && x.Direction == p.Direction) {
			return x
		}
	}
	return nil
}
