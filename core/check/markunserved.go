package check

import (
	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/explain"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

func markUnserved() Rule {
	return Rule{"mark-unserved", Warning, `A policy marks packets of a class, and further on their way, where a rehearsal fills the link, a later policy has them in its rest.
That policy does not serve the mark, or rewrites it, and the mark has no effect. Give the later policy a class that asks for the codepoint.`,
		func(s *survey) {
			for i := range s.routes {
				w := s.routes[i]
				set, where := "", ""
				var taken *explain.Step // that took the mark off again
				for j := range w.answer.Hops {
					h := &w.answer.Hops[j]
					if h.Policy == "" {
						continue
					}
					p, e := h.Plan, h.Entry
					rest := e.Class == nil && e.Parent == nil && p.Direction == policy.Out && (queues(p) || h.MarksOut.DSCP != set) && s.congested(p.Interface)
					switch {
					case set == "" || !rest:
					case taken != nil:
						s.say(taken.Entry.Spec.PlaceOf("mark"), taken.Plan.Where(), words.MarkTakenOff.With(w.name(), set, where, taken.Class, taken.MarksOut.DSCP, p.Where()))
					default:
						became := words.KeepsMark.With()
						if h.MarksOut.DSCP != set {
							became = words.RewritesMark.With(h.MarksOut.DSCP)
						}
						s.say(e.Spec.At, p.Where(), words.MarkUnserved.With(w.name(), set, where, became))
					}
					switch {
					case e.Class == nil || h.MarksOut.DSCP == h.MarksIn.DSCP:
					case h.MarksOut.DSCP != codepoint.DF.Name():
						set, where, taken = h.MarksOut.DSCP, p.Where(), nil
					case set != "" && taken == nil:
						taken = h
					}
				}
			}
		}}
}
