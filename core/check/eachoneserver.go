package check

import (
	"fmt"

	"imbrel/core/policy"
)

func eachOneServer() Rule {
	return Rule{"each-one-server", Warning, `A limit is for each source, and all packets of the class come from one server; or for each destination, and all go to one. Then there
is one instance, and all share it. On the way to the clients they are told apart by ` + "`each: destination`" + `.`,
		func(s *survey) {
			for _, p := range s.plans {
				for _, e := range p.Entries {
					if e.Each != policy.BySource && e.Each != policy.ByDestination {
						continue
					}
					for i := range s.f.Rehearsals {
						own, other := make(map[string]bool), make(map[string]bool)
						for j := range s.demands {
							d := &s.demands[j]
							if d.rehearsal != &s.f.Rehearsals[i] || d.plan != p || d.entry != e && !d.entry.IsWithin(e) {
								continue
							}
							w := way{traffic: d.traffic, reverse: d.reverse}
							from, to := w.from().String(), w.to().String()
							if e.Each == policy.ByDestination {
								from, to = to, from
							}
							own[from], other[to] = true, true
						}
						if len(own) != 1 || len(other) < 2 {
							continue
						}
						better, where := policy.BySource, "go to"
						if e.Each == policy.BySource {
							better, where = policy.ByDestination, "come from"
						}
						for one := range own {
							s.say(e.Spec.At, p.Where(), fmt.Sprintf("`%s` has a limit for each %s, and all its packets in `%s` %s %s", e.Name, e.Each, s.f.Rehearsals[i].Name, where, one),
								fmt.Sprintf("the %d hosts at the other end share one limit", len(other)), fmt.Sprintf("write `each: %s`", better))
							s.mend(&e.Spec.Source, "each", better.String())
						}
						break
					}
				}
			}
		}}
}
