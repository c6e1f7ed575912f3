package check

import (
	"fmt"
	"slices"
	"strings"

	"imbrel/core/figure"
	"imbrel/core/plan"
	"imbrel/core/policy"
)

func sharedOrEach() Rule {
	return Rule{"shared-or-each", Warning, `A limit stands on a class whose name says one (guest, client, desk), it has no ` + "`each`" + `, and a rehearsal sends from several hosts in it:
all share one limit. Or the other way round: with an ` + "`each`" + `, every one may have all that there is, and the limit limits nobody.`,
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
						s.say(e.Spec.At, p.Where(), fmt.Sprintf("each %s in `%s` may have %s, and there is %s", e.Each, e.Name, figure.Rate(int64(e.AtMost.Rate)), figure.Rate(int64(around))),
							"one of them can take all of it", "lower it, or leave it out")
					}
					if alone := e.Each == 0 && e.Instances() == nil; !alone || !saysOne(e.Spec.ClassName.Text) || e.Ceiling*3 > p.Whole || e.Spec.Police != nil && e.Spec.Police.Calls > 0 {
						continue
					}
					if n, by := s.hosts(p, e); n > 1 {
						s.say(e.Spec.At, p.Where(), fmt.Sprintf("the %d hosts in `%s` share one limit of %s", n, e.Name, figure.Rate(int64(e.Ceiling))),
							fmt.Sprintf("when all are busy each has %s", figure.Rate(int64(e.Ceiling)/int64(n))), fmt.Sprintf("write `each: %s` if each may have it, or accept this", by))
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

// hosts returns how many hosts a rehearsal has in an entry, at the end where there are more.
func (s *survey) hosts(p *plan.Plan, e *plan.Entry) (n int, by string) {
	for i := range s.f.Rehearsals {
		ends := [2]map[string]bool{make(map[string]bool), make(map[string]bool)}
		for j := range s.demands {
			d := &s.demands[j]
			if d.rehearsal != &s.f.Rehearsals[i] || d.plan != p || d.entry != e && !d.entry.IsWithin(e) {
				continue
			}
			w := way{traffic: d.traffic, reverse: d.reverse}
			ends[0][w.from().String()], ends[1][w.to().String()] = true, true
		}
		for end, word := range []string{policy.BySource.String(), policy.ByDestination.String()} {
			if len(ends[end]) > n {
				n, by = len(ends[end]), word
			}
		}
	}
	return n, by
}
