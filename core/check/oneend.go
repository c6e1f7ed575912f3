package check

import (
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

func oneEnd() Rule {
	return Rule{"one-end", Warning, `A policy divides one end of a link, and the other end has none, although the carrier is slower than the port there
too. Calls go both ways: what comes back waits in the carrier's queue, which ignores classes.`,
		func(s *survey) {

			for _, l := range s.f.Network.Links {
				for i := range l.Ends {
					near, far := l.Ends[i].Interface, l.Ends[1-i].Interface
					if near == nil || far == nil {
						continue
					}
					_, _, slower := l.Ends[1-i].Carrier()
					if a := near.Attached[policy.Out]; a == nil || !queues(plan.Attached(a)) || !slower || far.Attached[policy.Out] != nil || shapedIn(near) || !s.congested(far) {
						continue
					}
					s.say(near.Attached[policy.Out].At, near.Path()+" out", words.OneEnd.With(far.Path(), far.Carries(policy.Out)))
				}
			}
		}}
}

// shapedIn reports whether what comes in is held back below what the link delivers.
func shapedIn(iface *policy.Interface) bool {
	a := iface.Attached[policy.In]
	return a != nil && plan.Attached(a).Shape > 0
}
