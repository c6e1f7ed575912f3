package check

import (
	"imbrel.example/imbrel/core/fluid"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/words"
)

func pressureFlaps() Rule {
	return Rule{"pressure-flaps", Warning, `A limit starts when the load is high, and reduces the load so much that it ends again. Then the load comes back. The limit goes on and off
as long as the traffic lasts. Or the load never reaches the value at which the limit starts. Let the limit end at a load below the one that
is left while it is in force.`,
		func(s *survey) {
			for _, p := range s.plans {
				if p.Direction != policy.Out {
					continue
				}
				for _, e := range p.Entries {
					m := e.AtMost
					if m == nil || m.When == nil || m.When.Time != nil {
						continue
					}
					if m.When.Starts.Load > p.Whole {
						s.say(e.Spec.PlaceOf("at-most"), p.Where(), words.PressureNeverComes.With(e.Name, m.When.Starts.Load, p.Whole))
						continue
					}
					for i := range s.f.Rehearsals {
						h := &s.f.Rehearsals[i]
						own := s.offered(h, e)
						all := unit.Rate(0)
						for _, top := range p.Top {
							all = min(all+s.offered(h, top), fluid.Greedy)
						}
						free, limited := min(all, p.Whole), min(all-own+min(own, m.Rate), p.Whole)
						if own == 0 || free < m.When.Starts.Load || limited >= m.When.Ends.Load {
							continue
						}
						s.say(e.Spec.PlaceOf("at-most"), p.Where(), words.PressureFlaps.With(h.Name, free, e.Name, limited, m.When.Ends.Load, m.When.Starts.For+m.When.Ends.For))
						s.mend(&m.When.Spec.Ends.Source, "load", (limited * 9 / 10).String())
						break
					}
				}
			}
		}}
}
