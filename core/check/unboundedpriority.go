package check

import (
	"fmt"

	"imbrel/core/figure"
	"imbrel/core/policy"
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
					s.say(e.Spec.PlaceOf("priority"), p.Where(), fmt.Sprintf("the priority of `%s` has no bound", e.Name),
						fmt.Sprintf("it can take all of %s, and what is promised to the others is worth nothing then", figure.Rate(int64(p.Whole))),
						"give it `police` or `at-most`; `imbrel budget` reckons how much its calls take")
				}
			}
		}}
}
