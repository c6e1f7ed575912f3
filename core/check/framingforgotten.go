package check

import (
	"fmt"

	"imbrel/core/figure"
	"imbrel/core/policy"
	"imbrel/core/unit"
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
				on := func(length int) unit.Rate {
					return unit.Rate(float64(p.Shape) * float64(framing.Size(length, 0)) / float64(p.Framing.Size(length, 0)))
				}
				const call = 200 // an IP packet of G.711 at 20 ms
				if p.Shape > rate || on(call) <= rate {
					continue
				}
				s.say(p.Policy.PlaceOf("shape"), p.Where(), fmt.Sprintf("the shape counts bytes as `%s`, and the link as `%s`", p.Framing.Name, framing.Name),
					fmt.Sprintf("%s of call packets take %s on a link of %s, of full packets %s", figure.Rate(int64(p.Shape)), figure.Decided(float64(on(call)), float64(rate), "bit/s"), figure.Rate(int64(rate)), figure.Rate(int64(on(1500)))),
					fmt.Sprintf("give the interface `framing: %s`", framing.Name))
			}
		}}
}
