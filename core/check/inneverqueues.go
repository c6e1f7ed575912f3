package check

import (
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

func inNeverQueues() Rule {
	return Rule{"in-never-queues", Note, `An incoming policy without a ` + "`" + `shape` + "`" + ` classifies, marks and polices. Nothing ever waits there, so priorities, shares and
queues do nothing. Shape below what the link delivers, or share out at the far end, before the link.`,
		func(s *survey) {

			for _, p := range s.plans {
				if p.Direction == policy.In && p.Shape == 0 && queues(p) {
					s.say(p.Policy.At, p.Where(), words.InNeverQueues.With(p.Policy.Name))
				}
			}
		}}
}
