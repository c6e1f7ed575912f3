package check

import (
	"imbrel.example/imbrel/core/packetset"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
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
						if what := s.never(&list[j]); !what.IsZero() {
							s.say(list[j].At, "", words.ConditionNeverHolds.With(c.Name, what))
						}
					}
				}
				takes, spares := s.space.Conditions(0, c.Match), s.space.Conditions(0, c.Except)
				search := s.space.Search()
				if _, some := search.First(takes, []*packetset.Taking{{Takes: spares}}); !some && len(takes) > 0 && !c.UsesHere() && !search.GaveUp() {
					s.say(c.PlaceOf("except"), "", words.AllExcepted.With(c.Name))
				}
			}
		}}
}

// never returns the part of a condition that no packet has; nothing when a packet may have all.
func (s *survey) never(m *policy.Condition) words.Fact {
	holds := func(terms ...policy.Term) bool {
		for _, t := range terms {
			if t.Addresses != nil && t.Addresses.Here {
				return true
			}
		}
		return len(s.space.Conditions(0, []policy.Condition{{Terms: terms}})) > 0
	}
	if holds(m.Terms...) {
		return words.Fact{}
	}
	for i := range m.Terms {
		if !holds(m.Terms[i]) {
			return words.NoPacketHas.With(m.Terms[i].Key)
		}
		for j := range i {
			a, b := m.Terms[j].Key, m.Terms[i].Key
			if holds(m.Terms[j], m.Terms[i]) {
				continue
			}
			if a == policy.KeyFrom && b == policy.KeyTo {
				return words.OtherVersion.With()
			}
			return words.NoPacketHasBoth.With(a, b)
		}
	}
	return words.NoPacketHasAll.With()
}
