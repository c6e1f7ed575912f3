package check

import (
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/words"
)

func priorityAboveLink() Rule {
	return Rule{"priority-above-link", Warning, `The bounds of the entries with ` + "`priority`" + ` together reach or exceed the whole rate: they can take all that
is promised to the others. Limit them to what their traffic takes, and leave at least a third for the rest.`,
		func(s *survey) {
			for _, p := range s.plans {
				var first *plan.Entry
				for _, e := range p.Top {
					if first == nil && e.Priority > 0 && e.Bounded && !e.Block && e.When == nil {
						first = e
					}
				}
				if first != nil && (p.Direction == policy.Out || p.Shape > 0) && asWritten(p) >= p.Whole && len(p.Top) > 1 {
					s.say(first.Spec.PlaceOf("priority"), p.Where(), words.PriorityAboveLink.With(asWritten(p), p.Whole))
				}
			}
		}}
}

// asWritten returns the bounds of the entries with priority together, before they are cut to what there is.
func asWritten(p *plan.Plan) (sum unit.Rate) {
	for _, e := range p.Top {
		if e.Priority == 0 || e.Block || e.When != nil {
			continue
		}
		rate := unit.Rate(0)
		if m := e.Meter; m != nil {
			rate, _ = m.Bound()
		}
		if a := e.AtMost; a != nil && (rate == 0 || a.Rate < rate) {
			rate = a.Rate
		}
		sum += rate
	}
	return sum
}
