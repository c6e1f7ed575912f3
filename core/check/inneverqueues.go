package check

import (
	"fmt"

	"imbrel/core/policy"
)

func inNeverQueues() Rule {
	return Rule{"in-never-queues", Note, `An incoming policy without a ` + "`" + `shape` + "`" + ` classifies, marks and polices. Nothing ever waits there, so priorities, shares and
queues do nothing. Shape below what the link delivers, or share out at the far end, before the link.`,
		func(s *survey) {

			for _, p := range s.plans {
				if p.Direction == policy.In && p.Shape == 0 && queues(p) {
					s.say(p.Policy.At, p.Where(), fmt.Sprintf("nothing ever waits in `%s`", p.Policy.Name),
						"its priorities, shares and queues do nothing: what comes in has already waited, before the link",
						"give the policy a `shape` below what the link delivers, or attach it outgoing at the far end")
				}
			}
		}}
}
