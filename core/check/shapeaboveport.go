package check

import (
	"fmt"

	"imbrel/core/figure"
	"imbrel/core/policy"
)

func shapeAbovePort() Rule {
	return Rule{"shape-above-port", Warning, `The policy shapes to more than the interface itself sends, so it never shapes. A digit too many, Gbit/s for Mbit/s, or the rate of
another port.`,
		func(s *survey) {
			for _, p := range s.plans {
				if shape := p.Policy.Shape.Rate; p.Direction == policy.Out && shape > p.Rate {
					s.say(p.Policy.PlaceOf("shape"), p.Where(), fmt.Sprintf("the shape of %s is above the %s that the interface sends", figure.Rate(int64(shape)), figure.Rate(int64(p.Rate))),
						"it never shapes", fmt.Sprintf("is less than %s meant? `shape: 95%%` follows the link", figure.Rate(int64(p.Carries))))
				}
			}
		}}
}
