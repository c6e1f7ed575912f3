package check

import (
	"fmt"

	"imbrel/core/policy"
)

func trafficUnclassified() Rule {
	return Rule{"traffic-unclassified", Note, `The calls of a rehearsal pass policies, in one direction or both, and all of these have them in the rest. The class that should
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
				s.say(w.traffic.At, "", fmt.Sprintf("the calls of `%s` are in no class but the rest", w.name()), "they share the queue of downloads wherever it is full",
					fmt.Sprintf("see why: imbrel explain FILE --from %s --to %s --looks-like-rtp --why", from, to))
			}
		}}
}
