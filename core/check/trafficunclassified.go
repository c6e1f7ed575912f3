package check

import (
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

func trafficUnclassified() Rule {
	return Rule{"traffic-unclassified", Note, `In one direction at least, every policy that the calls of a rehearsal pass treats them as the rest. The class that should
take them asks for something that their packets do not have:
` + "`" + `imbrel explain` + "`" + ` says what.`,
		func(s *survey) {

			for i := range s.routes {
				w := s.routes[i]
				met, named := false, false
				for _, h := range w.answer.Hops {
					met = met || h.Policy != ""
					named = named || h.Policy != "" && h.Class != policy.Rest
				}
				if !met || named || w.traffic.Kind != policy.Calls {
					continue
				}
				from, to := w.traffic.From, w.traffic.To
				if w.reverse {
					from, to = to, from
				}
				s.say(w.traffic.At, "", words.TrafficUnclassified.With(w.name(), from, to))
			}
		}}
}
