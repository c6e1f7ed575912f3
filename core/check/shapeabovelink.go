package check

import (
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

func shapeAboveLink() Rule {
	return Rule{"shape-above-link", Error, `The policy divides more than the link carries, or has no ` + "`" + `shape` + "`" + ` where the carrier is slower than the port. The queue
builds in the carrier's equipment, which ignores classes: no promise holds. ` + "`" + `shape: 95%` + "`" + ` follows the link.`,
		func(s *survey) {

			for _, p := range s.plans {
				if why := p.NotKept(); p.Direction == policy.Out && !why.IsZero() && queues(p) && s.bought(p.Interface, p.Direction) == nil {
					s.say(p.Policy.PlaceOf("shape"), p.Where(), words.ShapeAboveLink.With(p.Policy.Name, why, p.Carries))
					s.mend(&p.Policy.Source, "shape", "95%")
				}
			}
		}}
}
