package check

import (
	"fmt"

	"imbrel/core/policy"
)

func trafficUnclassified() Rule {
	return Rule{"traffic-unclassified", Note, `A traffic of a rehearsal passes policies, and all of them have it in the rest; or one direction of its calls. Perhaps it is
meant to be the flood. Else the class that should take it asks for something that its packets do not have:
` + "`" + `imbrel explain` + "`" + ` says what.`,
		func(s *survey) {

			type way struct {
				h       *policy.Rehearsal
				t       *policy.Traffic
				reverse bool
			}
			named, met := make(map[way]bool), make(map[way]*demand)
			var order []way
			for i := range s.demands {
				d := &s.demands[i]
				w := way{d.rehearsal, d.traffic, d.reverse}
				if met[w] == nil {
					met[w] = d
					order = append(order, w)
				}
				named[w] = named[w] || d.entry.Class != nil
			}
			for _, w := range order {
				if named[w] || w.t.Kind != policy.Calls {
					continue
				}
				name, from, to := w.t.Name, w.t.From, w.t.To
				if w.reverse {
					name, from, to = name+" back", to, from
				}
				s.say(w.t.At, "", fmt.Sprintf("the calls of `%s` are in no class but the rest", name), "they share the queue of downloads wherever it is full",
					fmt.Sprintf("see why: imbrel explain FILE --from %s --to %s --looks-like-rtp --why", from, to))
			}
		}}
}
