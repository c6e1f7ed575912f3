package check

import (
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/words"
)

func shapeAtLink() Rule {
	return Rule{"shape-at-link", Note, `The policy shapes to the rate of the carrier's link, or a few thousandths below. A line that is a little slower than it was measured, or a
byte that only the carrier counts, is enough: the queue builds in the carrier's equipment. A few per cent below is the usual margin; ` + "`shape: 95%`" + ` keeps it at any rate of the link.`,
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
