package check

import (
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

func slowerFurtherOn() Rule {
	return Rule{"slower-further-on", Warning, `A policy divides a link, and a rehearsal's packets then fill a slower link that has no policy. They queue there, in one
queue for all classes: no promise of the policy holds. Attach a policy at the slower link, or shape to its rate.`,
		func(s *survey) {
			for i := range s.routes {
				w := s.routes[i]
				var p *plan.Plan // the last policy with queues
				for j := range w.answer.Hops {
					h := &w.answer.Hops[j]
					iface := s.interfaces[h.Node+"/"+h.Interface]
					switch {
					case h.Direction != policy.Out.String() || iface == nil || iface.Link == nil:
					case h.Plan != nil && queues(h.Plan):
						p = h.Plan
					case h.Plan == nil && p != nil && iface.Carries(policy.Out) < p.Whole && s.loads[load{w.rehearsal, iface.Path()}] > iface.Carries(policy.Out):
						s.say(p.Policy.At, p.Where(), words.SlowerFurtherOn.With(p.Policy.Name, p.Whole, w.name(), iface.Path()+" out", iface.Carries(policy.Out)))
						p = nil
					}
				}
			}
		}}
}
