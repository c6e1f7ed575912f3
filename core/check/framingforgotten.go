package check

import (
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/words"
)

func framingForgotten() Rule {
	return Rule{"framing-forgotten", Warning, `The carrier counts more bytes to a packet than the interface does, and the ` + "`shape`" + ` counts as the interface. With small packets, such
as those of calls, what the shape lets out is more than the link carries: the queue builds in the carrier's box just when
there are many calls. Give the interface the ` + "`framing`" + ` of the link's end, or shape lower.`,
		func(s *survey) {
			for _, p := range s.plans {
				l := p.Interface.Link
				if p.Direction != policy.Out || p.Shape == 0 || l == nil {
					continue
				}
				rate, framing, _ := l.Ends[p.Interface.End].Carrier()
				if bought := l.Ends[p.Interface.End].Bought(); bought > 0 {
					rate = min(rate, bought)
				}
				on := func(length int) unit.Rate {
					return unit.Rate(float64(p.Shape) * float64(framing.Size(length, 0)) / float64(p.Framing.Size(length, 0)))
				}
				const call = 200 // an IP packet of G.711 at 20 ms
				if p.Shape > rate || on(call) <= rate {
					continue
				}
				s.say(p.Policy.PlaceOf("shape"), p.Where(), words.FramingForgotten.With(p.Framing.Name, framing.Name, p.Shape, words.Decided{Value: float64(on(call)), Limit: float64(rate), Unit: "bit/s"}, rate, on(1500)))
			}
		}}
}
