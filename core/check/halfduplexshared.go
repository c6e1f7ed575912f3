package check

import (
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/words"
)

func halfDuplexShared() Rule {
	return Rule{"half-duplex-shared", Warning, `Both directions of a link share one rate, and the shapes at its two ends together let through more. When both are busy, packets queue on the medium, which ignores classes, and no promise holds. Divide the
rate: let the two shapes come to less than the link has.`,
		func(s *survey) {
			at := make(map[*policy.Link]*plan.Plan)
			for _, p := range s.plans {
				if p.Direction != policy.Out || p.Interface == nil || p.Interface.Link == nil || p.Interface.Link.HalfDuplex == 0 || !queues(p) {
					continue
				}
				l := p.Interface.Link
				first := at[l]
				if at[l] = p; first == nil {
					continue
				}
				if sum := first.Whole + p.Whole; sum > l.HalfDuplex {
					s.say(p.Policy.PlaceOf("shape"), "", words.HalfDuplexShared.With(first.Where(), p.Where(), sum, l.HalfDuplex, unit.Rate(float64(l.HalfDuplex)*0.95/2)))
				}
			}
		}}
}
