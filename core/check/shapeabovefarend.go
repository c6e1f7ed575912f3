package check

import (
	"fmt"

	"imbrel/core/figure"
	"imbrel/core/plan"
	"imbrel/core/policy"
)

func shapeAboveFarEnd() Rule {
	return Rule{"shape-above-far-end", Warning, `The policy shapes to more than the far end's own shaper lets in. What is too much waits there, in queues that do not know this
policy's classes. Shape at the sending end to less.`,
		func(s *survey) {
			for _, p := range s.plans {
				peer := p.Interface.Peer()
				if p.Direction != policy.Out || p.Shape == 0 || peer == nil || peer.Attached[policy.In] == nil {
					continue
				}
				if far := plan.Attached(peer.Attached[policy.In]); far.Shape > 0 && far.Shape < p.Shape {
					s.say(p.Policy.PlaceOf("shape"), p.Where(), fmt.Sprintf("the shape of %s is above the %s that `%s` lets in at %s", figure.Rate(int64(p.Shape)), figure.Rate(int64(far.Shape)), far.Policy.Name, peer.Path()),
						fmt.Sprintf("up to %s waits in the queues there", figure.Rate(int64(p.Shape-far.Shape))), fmt.Sprintf("shape below %s here", figure.Rate(int64(far.Shape))))
					s.mend(&p.Policy.Source, "shape", far.Shape.String())
				}
			}
		}}
}
