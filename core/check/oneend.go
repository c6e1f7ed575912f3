package check

import (
	"fmt"

	"imbrel/core/figure"
	"imbrel/core/plan"
	"imbrel/core/policy"
)

func oneEnd() Rule {
	return Rule{"one-end", Warning, `A policy shares out one end of a link, and at the other end nobody does, although the carrier is slower than the port there
too. Calls go both ways: what comes back waits in the carrier's queue, which knows no classes.`,
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
					s.say(near.Attached[policy.Out].At, near.Path()+" out", "only this end of the link has a policy that shares it out",
						fmt.Sprintf("what %s sends waits in the carrier's queue of %s, calls behind downloads", far.Path(), figure.Rate(int64(far.Carries(policy.Out)))),
						fmt.Sprintf("attach a policy with a `shape` below %s at %s out", figure.Rate(int64(far.Carries(policy.Out))), far.Path()))
				}
			}
		}}
}

// shapedIn reports whether what comes in is held back below what the link delivers.
func shapedIn(iface *policy.Interface) bool {
	a := iface.Attached[policy.In]
	return a != nil && plan.Attached(a).Shape > 0
}
