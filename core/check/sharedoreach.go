package check

import (
	"slices"
	"strings"

	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/words"
)

func sharedOrEach() Rule {
	return Rule{"shared-or-each", Warning, `The name of a class says one person or device (guest, client, desk), its entry has a limit and no ` + "`each`" + `, and several hosts of a
rehearsal are in it: all of them share one limit. Or an entry with ` + "`each`" + ` allows every instance the whole rate, and
the limit has no effect.`,
		func(s *survey) {
			for _, p := range s.plans {
				for _, e := range p.Entries {
					if e.Class == nil || !e.Bounded || e.Block {
						continue
					}
					around := p.Whole
					if e.Parent != nil {
						around = e.Parent.Ceiling
					}
					if e.Each != 0 && e.AtMost != nil && e.AtMost.When == nil && e.AtMost.Rate >= around {
						s.say(e.Spec.At, p.Where(), words.EachTakesAll.With(e.Each, e.Name, e.AtMost.Rate, around))
					}
					if alone := e.Each == 0 && e.Instances() == nil; !alone || !saysOne(e.Spec.ClassName.Text) || e.Ceiling*3 > p.Whole || e.Spec.Police != nil && e.Spec.Police.Calls > 0 {
						continue
					}
					if n, by := s.most(p, e); n > 1 {
						s.say(e.Spec.At, p.Where(), words.LimitShared.With(n, e.Name, e.Ceiling, e.Ceiling/unit.Rate(n), by))
					}
				}
			}
		}}
}

// saysOne reports whether a name says that it is of one person or device.
func saysOne(name string) bool {
	words := []string{"per", "each", "guest", "client", "user", "desk", "household", "room", "visitor", "student", "tenant", "subscriber", "phone", "customer", "flat", "camera"}
	return slices.ContainsFunc(strings.FieldsFunc(strings.ToLower(name), func(r rune) bool { return r == '-' || r == '_' }), func(w string) bool { return slices.Contains(words, w) })
}

// most returns how many hosts a rehearsal has in an entry, at the end where there are more.
func (s *survey) most(p *plan.Plan, e *plan.Entry) (n int, by policy.Each) {
	for i := range s.f.Rehearsals {
		from, to := s.hosts(&s.f.Rehearsals[i], p, e)
		if len(from) > n {
			n, by = len(from), policy.BySource
		}
		if len(to) > n {
			n, by = len(to), policy.ByDestination
		}
	}
	return n, by
}
