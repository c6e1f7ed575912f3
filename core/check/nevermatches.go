package check

import (
	"slices"

	"imbrel.example/imbrel/core/packetset"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

func neverMatches() Rule {
	return Rule{"never-matches", Error, `Entries are tried in order, and the first that matches takes the packet. The entries before this one take all its packets, or the entry
around it takes none of the class, so this entry never has a packet. This is exact: it is calculated for all packets over all keys together.
If a policy has more than 2,000 entries, or its packets fall into more than 100,000 pieces, the finding says that it does not know. An
earlier entry with a ` + "`when`" + ` does not count, because it is not always in force.`,
		func(s *survey) {
			s.entries(func(p *plan.Plan, l *packetset.Region, where string) {
				e := l.Entry
				own := s.space.Class(0, e.Class)
				search := s.space.Search()
				if _, some := search.First(own.Takes, []*packetset.Taking{{Takes: own.Spares}}); !some && !search.GaveUp() {
					return // a contradiction
				}
				search = s.space.Search()
				_, some := search.In(l)
				switch {
				case some:
					return
				case search.GaveUp():
					s.say(p.Policy.At, where, words.ReachUnknown.With(p.Policy.Name, packetset.MaxEntries, packetset.MaxPieces))
					s.found[s.last].Level = Note
					return
				}
				takers, example := s.takers(l)
				lost := words.DoneToNoPacket.With(example)
				if e.Promise > 0 {
					lost = words.PromiseKeptForNobody.With(e.Promise, example)
				}
				if len(takers) == 0 && e.Parent != nil {
					s.say(e.Spec.At, where, words.AroundTakesNone.With(e.Name, e.Parent.Name, lost, e.Parent.Spec.ClassName.Text))
					return
				}
				if len(takers) == 0 { // which of them was not found out
					s.say(e.Spec.At, where, words.TakenBefore.With(e.Name, lost))
					return
				}
				s.say(e.Spec.At, where, words.TakenBy.With(e.Name, nameAll(takers), takeOrTakes(takers), lost, takers[0].Spec.At))
			})
		}}
}

// entries calls visit with each entry of a class that is attached somewhere, and what may
// take its packets before it does. The same policy is visited once, and at each node whose
// subnets its classes name.
func (s *survey) entries(visit func(p *plan.Plan, l *packetset.Region, where string)) {
	type visited struct {
		policy *policy.Policy
		node   *policy.Node
	}
	done := make(map[visited]bool)
	for _, p := range s.plans {
		v, where := visited{policy: p.Policy}, ""
		if slices.ContainsFunc(p.Entries, func(e *plan.Entry) bool { return e.Spec.Class != nil && e.Spec.Class.UsesHere() }) {
			v.node, where = p.Interface.Node, p.Where()
		}
		if done[v] {
			continue
		}
		done[v] = true
		for _, l := range s.space.Entries(0, p, nil) {
			if l.Entry.Class == nil {
				continue
			}
			w := sometimes(l.Entry)
			l.Less = slices.DeleteFunc(slices.Clone(l.Less), func(t *packetset.Taking) bool { // that need not be there when this one is
				if t.By == nil {
					return false
				}
				other := sometimes(t.By)
				return other != nil && (w == nil || w.Time == nil || other.Time != w.Time)
			})
			visit(p, &l, where)
		}
	}
}

// sometimes returns the `when` of the entry, or of one around it; nil: it is always in force.
func sometimes(e *plan.Entry) *plan.When {
	for ; e != nil; e = e.Parent {
		if e.When != nil {
			return e.When
		}
	}
	return nil
}

// takers returns the entries that take all of an entry's packets, as few as one, and an example:
// one packet and where it goes.
func (s *survey) takers(l *packetset.Region) (out []*plan.Entry, example words.Fact) {
	for i, t := range l.Less {
		if t.By == nil {
			continue
		}
		box, some := s.space.Search().Takes(t, l.Of, l.Less[:i])
		if !some {
			continue
		}
		packet, _ := s.space.Example(box)
		one := words.PacketGoesTo.With(t.By.Name, packet)
		if out = append(out, t.By); example.IsZero() {
			example = one
		}
		alone := s.space.Search()
		if _, some := alone.First(l.Of, []*packetset.Taking{t}); !some && !alone.GaveUp() {
			return []*plan.Entry{t.By}, one
		}
	}
	return out, example
}

// nameAll names entries with their lines: "`voice` (line 12) and `web` (line 14)".
func nameAll(entries []*plan.Entry) words.Fact {
	var named []words.Fact
	more := 0
	if len(entries) > 4 {
		entries, more = entries[:3], len(entries)-3
	}
	for _, e := range entries {
		named = append(named, words.TakerAt.With(e.Name, e.Spec.At))
	}
	if more > 0 {
		return words.TakersAndMore.With(named, more)
	}
	return words.Takers.With(named)
}

func takeOrTakes(entries []*plan.Entry) words.Fact {
	if len(entries) == 1 {
		return words.Takes.With()
	}
	return words.TogetherTake.With()
}
