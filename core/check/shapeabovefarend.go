package check

import (
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

func shapeAboveFarEnd() Rule {
	return Rule{"shape-above-far-end", Warning, `The policy shapes to more than the far end's own shaper lets in. The excess waits at the far end, in queues that do not know the classes of
this policy. Shape to less at the sending end.`,
		func(s *survey) {
			for _, p := range s.plans {
				peer := p.Interface.Peer()
				if p.Direction != policy.Out || p.Shape == 0 || peer == nil || peer.Attached[policy.In] == nil {
					continue
				}
				if far := plan.Attached(peer.Attached[policy.In]); far.Shape > 0 && far.Shape < p.Shape {
					s.say(p.Policy.PlaceOf("shape"), p.Where(), words.ShapeAboveFarEnd.With(p.Shape, far.Shape, far.Policy.Name, peer.Path(), p.Shape-far.Shape))
					s.mend(&p.Policy.Source, "shape", far.Shape.String())
				}
			}
		}}
}
