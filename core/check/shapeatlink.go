package check

import (
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/words"
)

func shapeAtLink() Rule {
	return Rule{"shape-at-link", Note, `The policy shapes to what the carrier's link carries, or a few thousandths below. What was measured on a good day is not there on
a bad one, and a byte that the carrier counts and the shaper does not is enough: the queue builds in the carrier's box. A few
per cent below is the usual margin; ` + "`shape: 95%`" + ` keeps it whatever the link.`,
		func(s *survey) {
			for _, p := range s.plans {
				if p.Direction != policy.Out || p.Shape == 0 || p.Interface.Link == nil || p.Shape > p.Carries || p.Shape <= unit.Rate(float64(p.Carries)*0.98) {
					continue
				}
				if _, _, slower := p.Interface.Link.Ends[p.Interface.End].Carrier(); !slower {
					continue
				}
				s.say(p.Policy.PlaceOf("shape"), p.Where(), words.ShapeAtLink.With(p.Shape, max(1000, p.Carries/50)))
			}
		}}
}
