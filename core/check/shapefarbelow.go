package check

import (
	"fmt"

	"imbrel/core/figure"
	"imbrel/core/policy"
)

func shapeFarBelow() Rule {
	return Rule{"shape-far-below", Warning, `The ` + "`shape`" + ` of a policy is less than a third of what the link carries. Most of the link is never used: a digit is missing, or
bytes and bits were mixed up, or kbit/s and Mbit/s. A contract for less than a third says so in a comment that accepts this.`,
		func(s *survey) {
			for _, p := range s.plans {
				if p.Direction != policy.Out || p.Shape == 0 || p.Shape*3 >= p.Carries {
					continue
				}
				s.say(p.Policy.PlaceOf("shape"), p.Where(), fmt.Sprintf("the shape of %s leaves most of the %s that the link carries", figure.Rate(int64(p.Shape)), figure.Rate(int64(p.Carries))),
					fmt.Sprintf("%s of it is never used, and packets are dropped for want of it", figure.Ratio(1-float64(p.Shape)/float64(p.Carries))),
					fmt.Sprintf("is %s meant? `shape: 95%%` follows the link", figure.Rate(int64(p.Carries)*19/20)))
			}
		}}
}
