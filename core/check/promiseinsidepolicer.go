package check

import (
	"imbrel.example/imbrel/core/meter"
	"imbrel.example/imbrel/core/words"
)

func promiseInsidePolicer() Rule {
	return Rule{"promise-inside-policer", Warning, `A policer around other entries drops any packet that arrives while its bucket is empty, whichever entry the packet is in. It does not know
the promises of these entries: a flood in one of them takes the tokens of the others. So nothing is promised to them. With ` + "`at-most`" + ` in
place of ` + "`police`" + `, packets wait, each class in its own queue, and the promises are kept.`,
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
