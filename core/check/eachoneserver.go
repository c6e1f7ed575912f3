package check

import (
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

func eachOneServer() Rule {
	return Rule{"each-one-server", Warning, `A limit with ` + "`each: source`" + ` applies to a class in which all packets come from one server, or one with ` + "`each: destination`" + ` to a class in
which all go to one server. There is only one instance then, and all hosts share its limit. For packets on their way to clients write ` + "`each: destination`" + `: each client is an instance.`,
		func(s *survey) {
			for _, p := range s.plans {
				for _, e := range p.Entries {
					if e.Each != policy.BySource && e.Each != policy.ByDestination {
						continue
					}
					for i := range s.f.Rehearsals {
						own, other := s.hosts(&s.f.Rehearsals[i], p, e)
						if e.Each == policy.ByDestination {
							own, other = other, own
						}
						if len(own) != 1 || len(other) < 2 {
							continue
						}
						better, where := policy.BySource, words.GoTo.With()
						if e.Each == policy.BySource {
							better, where = policy.ByDestination, words.ComeFrom.With()
						}
						for one := range own {
							s.say(e.Spec.At, p.Where(), words.EachOneServer.With(e.Name, e.Each, s.f.Rehearsals[i].Name, where, one, len(other), better))
							s.mend(&e.Spec.Source, "each", better.String())
						}
						break
					}
				}
			}
		}}
}
