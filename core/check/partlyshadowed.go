package check

import (
	"net/netip"

	"imbrel.example/imbrel/core/packetset"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

func partlyShadowed() Rule {
	return Rule{"partly-shadowed", Note, `Earlier entries take every packet of one condition of a class, or of one value in its lists, so it never comes to its entry. Or
they take at least half of a condition's packets, when all values of a key count equally. That is right when a
specific class comes before a general one. Otherwise look at the order.`,
		func(s *survey) {
			s.entries(func(p *plan.Plan, l *packetset.Region, where string) {
				if _, some := s.space.Search().In(l); !some {
					return // never-matches says so, or that it was not found out
				}
				for i := range l.Entry.Class.Match {
					m := &l.Entry.Class.Match[i]
					part := func(c policy.Condition) *packetset.Region {
						of, ok := s.space.Both(l.Around, s.space.Conditions(0, []policy.Condition{c}))
						return &packetset.Region{Entry: l.Entry, Of: of, Less: l.Less, TooMany: !ok}
					}
					say := func(what words.Fact, l *packetset.Region) bool {
						search := s.space.Search()
						if _, some := search.In(l); some || len(l.Of) == 0 || search.GaveUp() {
							return false
						}
						takers, example := s.takers(l)
						if len(takers) > 0 {
							s.say(m.At, where, words.ValueShadowed.With(what, l.Entry.Name, l.Entry.Spec.At, nameAll(takers), takeOrTakes(takers), example))
						}
						return true
					}
					whole := part(*m)
					if len(whole.Of) == 0 || len(l.Entry.Class.Match) > 1 && say(words.TheCondition.With(m.String()), whole) {
						continue
					}
					said := false
					for j := range m.Terms {
						for name, one := range values(&m.Terms[j]) {
							c := policy.Condition{Terms: append([]policy.Term(nil), m.Terms...)}
							c.Terms[j] = one
							said = say(words.TheValue.With(m.Terms[j].Key.String(), name), part(c)) || said
						}
					}
					if left := s.left(whole); !said && left <= 0.5 && left > 0 {
						takers, example := s.takers(whole)
						take := words.Takes.With()
						if len(takers) != 1 {
							take = words.Take.With()
						}
						s.say(m.At, where, words.PartlyShadowed.With(m.String(), l.Entry.Name, words.Part(left), l.Entry.Spec.At, nameAll(takers), take, example))
					}
				}
			})
		}}
}

// left returns how much of an entry's packets comes to it; NaN when that was given up.
func (s *survey) left(l *packetset.Region) float64 {
	least := 1.0
	for i := range l.Of {
		least = min(least, s.space.Search().Share(l.Of[i], l.Less))
	}
	return least
}

// maxValues is from how many on the values of a term are not looked at one by one.
const maxValues = 32

// values yields each value of a term that has several, and its name.
func values(t *policy.Term) func(yield func(name string, one policy.Term) bool) {
	return func(yield func(string, policy.Term) bool) {
		row := t.Key.Row()
		if n := len(t.Ranges); n > 1 && n <= maxValues && row.Print != nil {
			for _, r := range t.Ranges {
				if !yield(row.Print(r), t.Key.In(r)) {
					return
				}
			}
		}
		if t.Addresses != nil && !t.Addresses.Here && len(t.Addresses.Prefixes) > 1 && len(t.Addresses.Prefixes) <= maxValues {
			for _, p := range t.Addresses.Prefixes {
				name := p.String()
				if p.IsSingleIP() {
					name = p.Addr().String()
				}
				if !yield(name, t.Key.Within([]netip.Prefix{p}...)) {
					return
				}
			}
		}
		if n := len(t.Apps); n > 1 && n <= maxValues {
			for _, a := range t.Apps {
				if !yield(a.Name, policy.Term{Key: t.Key, Apps: []*policy.App{a}}) {
					return
				}
			}
		}
	}
}
