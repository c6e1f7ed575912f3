package check

import (
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

func noRest() Rule {
	return Rule{"nothing-for-rest", Warning, `Nothing, or nearly nothing, is promised to the rest. Routing protocols, management and everything nobody thought of are in
it: when the others are busy, the router loses its neighbours. Leave a few per cent, or give such traffic a class of its own.
` + "`" + `at-least: 0%` + "`" + ` says that it is meant.`,
		func(s *survey) {

			for _, p := range s.plans {
				if !queues(p) || p.Direction == policy.In && p.Shape == 0 {
					continue
				}
				for _, e := range p.Top {
					if e.Class != nil || e.Block || e.Spec.AtLeast.Nothing || e.When != nil || e.Promise*100 >= p.Whole {
						continue
					}
					at := e.Spec.At
					if at == (policy.Place{}) {
						at = p.Policy.At
					}
					s.say(at, p.Where(), words.NoRest.With(e.Promise, p.Whole))
				}
			}
		}}
}
