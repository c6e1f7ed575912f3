package check

import (
	"slices"

	"imbrel.example/imbrel/core/meter"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/words"
)

func policerFarBelow() Rule {
	return Rule{"policer-far-below", Warning, `A rehearsal offers a class far more than its policer lets pass, the policer drops the excess, and expectations are about the class. If the
excess should still be sent, with less precedence, mark it down: ` + "`red: {map: NAME}`" + ` or ` + "`red: {mark: CODEPOINT}`" + `.`,
		func(s *survey) {
			for i := range s.f.Rehearsals {
				h := &s.f.Rehearsals[i]
				for _, p := range s.plans {
					for _, e := range p.Entries {
						if e.Meter == nil || e.Meter.When != nil || e.When != nil || e.Each != 0 || e.Instances() != nil || !e.Meter.Actions[meter.Red].Drop || s.onlyCalls(h, e) || s.meteredBefore(h, e) {
							continue
						}
						rate, ok := e.Meter.Bound()
						if offered := s.steady(h, e); ok && float64(offered) > 1.5*float64(rate) {
							if x := s.asksFor(h, e, rate); x != nil && !s.bound[x] {
								s.say(e.Spec.PlaceOf("police"), p.Where(), words.PolicerFarBelow.With(h.Name, offered, e.Name, rate, words.Part(1-float64(rate)/float64(offered)), words.Quote(x.Text)))
							}
						}
					}
				}
			}
		}}
}

// meteredBefore reports whether a policer on the way to an entry decides what comes to it.
func (s *survey) meteredBefore(h *policy.Rehearsal, e *plan.Entry) bool {
	return slices.ContainsFunc(s.demands, func(d demand) bool {
		if d.rehearsal != h || d.entry != e && !d.entry.IsWithin(e) {
			return false
		}
		for i := range d.answer.Hops {
			switch o := d.answer.Hops[i].Entry; {
			case o == nil:
			case d.answer.Hops[i].Plan == d.plan:
				return false
			case slices.ContainsFunc(o.Chain(), func(c *plan.Entry) bool { return c.Meter != nil }):
				return true
			}
		}
		return false
	})
}

// asksFor returns an expectation that needs more packets of an entry than a bound passes, or nil. A minimum rate within the bound needs no more;
// nor does a maximum rate.
func (s *survey) asksFor(h *policy.Rehearsal, e *plan.Entry, bound unit.Rate) *policy.Expectation {
	for i := range h.Expect {
		x := &h.Expect[i]
		wants := x.Metric.Row().Better > 0 && x.AtLeast() || x.Metric.Row().Better < 0 && (x.AtMost() || x.Operator == "=") && x.Metric != policy.QueueSize
		if !wants || x.Versus != "" || x.Metric.Row().Kind == policy.Rates && x.Limit <= float64(bound) {
			continue
		}
		for j := range s.demands {
			d := &s.demands[j]
			if d.rehearsal == h && (d.entry == e || d.entry.IsWithin(e)) && d.within(x.Subject) {
				return x
			}
		}
	}
	return nil
}
