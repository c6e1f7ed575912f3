package check

import (
	"slices"

	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

func openTrust() Rule {
	return Rule{"open-trust", Warning, `A class takes packets by their marking alone, from anybody, at an interface with hosts. A marking is what the sender wrote:
a host that marks its downloads this way is in the class, too. Say who may send it (` + "`" + `from` + "`" + `), or recognise the application.`,
		func(s *survey) {

			for _, p := range s.plans {
				if p.Direction != policy.In || len(p.Interface.Subnets) == 0 {
					continue
				}
				for _, e := range p.Entries {
					if e.Class == nil || e.Block || e.Bounded || e.Priority == 0 && e.Spec.Mark == nil && e.Meter == nil { // a bound is deliberate
						continue
					}
					for i := range e.Class.Match {
						m := &e.Class.Match[i]
						if !slices.ContainsFunc(m.Terms, func(t policy.Term) bool {
							return t.Key.Row().Source == policy.ByIdentity
						}) && slices.ContainsFunc(m.Terms, func(t policy.Term) bool {
							return t.Key.Row().Source == policy.ByMark
						}) {
							s.say(m.At, p.Where(), words.OpenTrust.With(e.Class.Name))
						}
					}
				}
			}
		}}
}
