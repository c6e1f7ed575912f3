package check

import (
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/words"
)

func shapeBurstExceedsContract() Rule {
	return Rule{"shape-burst-exceeds-contract", Error, `The shape lets a burst leave at the rate of the interface that the ` + "`contract`" + ` of the link has no room for. A burst of B bytes at the rate L needs a contract
of the rate R to have a burst of B·(1 - R/L). The carrier drops the rest of each burst.`,
		func(s *survey) {
			for _, p := range s.plans {
				end := s.bought(p.Interface, p.Direction)
				if end == nil || !p.ExceedsRate().IsZero() {
					continue
				}
				if why := p.ExceedsBurst(); !why.IsZero() {
					room := end.Contract[len(end.Contract)-1].Police.Burst
					fits := unit.Size(float64(room) / (1 - float64(end.Bought())/float64(p.Rate)))
					s.say(p.Policy.PlaceOf("shape"), p.Where(), words.BurstExceedsContract.With(why, fits))
				}
			}
		}}
}
