package check

import (
	"fmt"

	"imbrel/core/policy"
	"imbrel/core/space"
)

func contradiction() Rule {
	return Rule{"contradiction", Error, `A condition holds when all its keys do, and these never do together: a DSCP whose upper three bits are another precedence, a
port of a protocol that has none, addresses of both versions of IP. Or all that a class asks for is in its own
` + "`" + `except` + "`" + `. Two conditions in the list are joined by *or*; keys of one condition by *and*.`,
		func(s *survey) {
			for i := range s.f.Classes {
				c := &s.f.Classes[i]
				for _, list := range [][]policy.Condition{c.Match, c.Except} {
					for j := range list {
						if what := s.never(&list[j]); what != "" {
							s.say(list[j].At, "", fmt.Sprintf("a condition of `%s` asks for %s", c.Name, what),
								"it never holds", "write them as two conditions if either is meant, or mend one of them")
						}
					}
				}
				takes, spares := s.space.Conditions(0, c.Match), s.space.Conditions(0, c.Except)
				search := s.space.Search()
				if _, some := search.First(takes, []*space.Taking{{Takes: spares}}); !some && len(takes) > 0 && !c.UsesHere() && !search.GaveUp() {
					s.say(c.PlaceOf("except"), "", fmt.Sprintf("all that `%s` asks for is in its `except`", c.Name), "the class takes no packet", "narrow the `except`, or remove the class")
				}
			}
		}}
}

// never says what of a condition no packet has; "" when one may have all.
func (s *survey) never(m *policy.Condition) string {
	holds := func(terms ...policy.Term) bool {
		for _, t := range terms {
			if t.Addresses != nil && t.Addresses.Here {
				return true
			}
		}
		return len(s.space.Conditions(0, []policy.Condition{{Terms: terms}})) > 0
	}
	if holds(m.Terms...) {
		return ""
	}
	for i := range m.Terms {
		if !holds(m.Terms[i]) {
			return fmt.Sprintf("its `%s`, and no packet has that", m.Terms[i].Key)
		}
		for j := range i {
			a, b := m.Terms[j].Key, m.Terms[i].Key
			if holds(m.Terms[j], m.Terms[i]) {
				continue
			}
			if a == policy.KeyFrom && b == policy.KeyTo {
				return "`from` addresses and `to` addresses of the other version of IP, and no packet has both"
			}
			return fmt.Sprintf("its `%s` and its `%s`, and no packet has both", a, b)
		}
	}
	return "what no packet has all of"
}
