package check

import (
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

func shapeFarBelow() Rule {
	return Rule{"shape-far-below", Warning, `The ` + "`shape`" + ` of a policy is less than a third of what the link carries by its ` + "`sends`" + `. Most of the link is never used: a digit is missing, or
bytes and bits were mixed up, or kbit/s and Mbit/s. If the contract really is for less than a third, accept the finding with that reason.`,
		func(s *survey) {
			for _, p := range s.plans {
				written := p.Interface != nil && p.Interface.Link != nil && p.Interface.Link.Ends[p.Interface.End].Sends > 0
				if p.Direction != policy.Out || p.Shape == 0 || p.Shape*3 >= p.Carries || !written { // a contract is far below the rate of its port
					continue
				}
				s.say(p.Policy.PlaceOf("shape"), p.Where(), words.ShapeFarBelow.With(p.Shape, p.Carries, words.Part(1-float64(p.Shape)/float64(p.Carries)), p.Carries*19/20))
			}
		}}
}
