package check

import (
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

func shapeAbovePort() Rule {
	return Rule{"shape-above-port", Warning, `The policy shapes to more than the interface itself sends, so it never shapes. A digit too many, Gbit/s for Mbit/s, or the rate of
another port.`,
		func(s *survey) {
			for _, p := range s.plans {
				if shape := p.Policy.Shape.Rate; p.Direction == policy.Out && shape > p.Rate {
					s.say(p.Policy.PlaceOf("shape"), p.Where(), words.ShapeAbovePort.With(shape, p.Rate, p.Carries))
				}
			}
		}}
}
