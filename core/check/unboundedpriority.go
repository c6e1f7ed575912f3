package check

import (
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

func unboundedPriority() Rule {
	return Rule{"unbounded-priority", Warning, `An entry with ` + "`" + `priority` + "`" + ` goes before every promise. Without a bound of its own it can take everything: one misconfigured phone,
or one user who marks his downloads, and nobody else sends a packet. Bound it with ` + "`" + `police` + "`" + ` or ` + "`" + `at-most` + "`" + `.`,
		func(s *survey) {

			for _, p := range s.plans {
				if p.Direction == policy.In && p.Shape == 0 {
					continue
				}
				for _, e := range p.Entries {
					if e.Priority == 0 || e.Bounded || e.Block {
						continue
					}
					s.say(e.Spec.PlaceOf("priority"), p.Where(), words.UnboundedPriority.With(e.Name, p.Whole))
				}
			}
		}}
}
