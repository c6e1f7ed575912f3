package check

import (
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

func answersInRest() Rule {
	return Rule{"answers-in-rest", Warning, `A class takes only one direction of a conversation. The other direction carries the data, crosses a link that a rehearsal fills, and is in
the rest of every policy on its way. Requests go by ` + "`to-port`" + `, answers by ` + "`from-port`" + `: the key ` + "`port`" + ` takes both. The class promises something to the requests alone.`,
		func(s *survey) {
			for i := range s.routes {
				w := s.routes[i]
				if !w.traffic.Kind.OverTCP() || w.traffic.Back() != w.reverse {
					continue // of requests the answers carry the data, of flows what goes forward
				}
				for _, o := range s.routes {
					if o.rehearsal != w.rehearsal || o.traffic != w.traffic || o.reverse == w.reverse {
						continue
					}
					class, _ := o.classed()
					own, full := w.classed()
					if class != "" && own == "" && full != nil && s.congested(full) {
						s.say(w.traffic.At, "", words.AnswersInRest.With(o.name(), class, w.name(), full.Path()))
					}
				}
			}
		}}
}

// classed returns the first class that takes the packets somewhere; where none does, the first interface at which they are in
// the rest of a policy that divides its rate.
func (w *route) classed() (class string, rest *policy.Interface) {
	for i := range w.answer.Hops {
		h := &w.answer.Hops[i]
		switch {
		case h.Plan == nil:
		case h.Entry.Class != nil:
			return h.Entry.Name, nil
		case rest == nil && h.Direction == policy.Out.String() && queues(h.Plan):
			rest = h.Plan.Interface
		}
	}
	return "", rest
}
