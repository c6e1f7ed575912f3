package check

import (
	"imbrel.example/imbrel/core/meter"
	"imbrel.example/imbrel/core/words"
)

func promiseInsidePolicer() Rule {
	return Rule{"promise-inside-policer", Warning, `A policer around other entries drops whatever comes when its bucket is empty, of whichever entry the packet is. It knows nothing of
what its entries are promised: a flood in one of them takes the tokens of the others. So they are promised nothing. With ` + "`" + `at-most` + "`" + ` in its place
packets wait, each class in a queue of its own, and the promises are kept.`,
		func(s *survey) {
			for _, p := range s.plans {
				for _, e := range p.Entries {
					m := e.Meter
					if m == nil || e.Leaf() || !m.Actions[meter.Red].Drop && !m.Actions[meter.Yellow].Drop {
						continue
					}
					var asks []string
					for _, o := range p.Entries[e.Number+1:] {
						if !o.IsWithin(e) {
							break
						}
						if o.Priority > 0 || !o.Spec.AtLeast.IsZero() {
							asks = append(asks, "`"+o.Name+"`")
						}
					}
					if len(asks) == 0 {
						continue
					}
					s.say(e.Spec.PlaceOf("police"), p.Where(), words.PromiseInsidePolicer.With(e.Name, asks, m.Rate))
				}
			}
		}}
}
