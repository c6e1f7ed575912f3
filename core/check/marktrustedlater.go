package check

import (
	"slices"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/explain"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

func markTrustedLater() Rule {
	return Rule{"mark-trusted-later", Note, `An entry with ` + "`priority`" + ` takes packets by their marking alone, and hosts reach it through no policy that removes the marking. A download
with that marking takes bandwidth from the calls. Mark packets where they come in (a policy at ` + "`NODE/INTERFACE in`" + `), or ask for ` + "`from`" + ` as
well.`,
		func(s *survey) {
			for _, p := range s.plans {
				if p.Direction != policy.Out {
					continue
				}
				for _, e := range p.Top {
					if e.Class == nil || e.Priority == 0 || e.Block {
						continue
					}
					if at := s.untrusted(p, e); at != nil {
						s.say(e.Class.PlaceOf("match"), p.Where(), words.MarkTrustedLater.With(e.Class.Name, at.Path()))
					}
				}
			}
		}}
}

// untrusted returns an interface with hosts whose packets keep their marking up to a plan's entry that takes them by it alone, or nil.
func (s *survey) untrusted(p *plan.Plan, e *plan.Entry) *policy.Interface {
	alone := func(of *policy.Class) (dscp policy.Range, is bool) {
		for i := range of.Match {
			terms := of.Match[i].Terms
			if len(terms) == 1 && terms[0].Key == policy.KeyDSCP && len(terms[0].Ranges) > 0 {
				return terms[0].Ranges[0], true
			}
		}
		return policy.Range{}, false
	}
	asked, is := alone(e.Class)
	if !is {
		return nil
	}
	for _, w := range s.through[p] {
		if w.answer.Hops[0].Plan != nil { // a policy where they come in sees to it
			continue
		}
		at := slices.IndexFunc(w.answer.Hops, func(h explain.Step) bool { return h.Plan == p })
		first := s.interfaces[w.answer.Hops[0].Node+"/"+w.answer.Hops[0].Interface]
		if first == nil || len(first.Subnets) == 0 || w.traffic.DSCP == codepoint.DSCP(asked.First) && w.traffic.Kind == policy.Calls {
			continue
		}
		if !slices.ContainsFunc(w.answer.Hops[:at], func(h explain.Step) bool { return h.Plan != nil }) {
			return first
		}
	}
	return nil
}
