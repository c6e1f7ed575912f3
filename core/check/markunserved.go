package check

import (
	"imbrel/core/codepoint"
	"imbrel/core/policy"
	"imbrel/core/words"
)

func markUnserved() Rule {
	return Rule{"mark-unserved", Warning, `A policy marks packets of a class, and further on their way, where a rehearsal fills the link, a later policy has them in its rest.
That policy does not serve the mark, or rewrites it, and the mark has no effect. Give the later policy a class that asks for the codepoint.`,
		func(s *survey) {
			for i := range s.routes {
				w := s.routes[i]
				set, where := "", ""
				for j := range w.answer.Hops {
					h := &w.answer.Hops[j]
					if h.Policy == "" {
						continue
					}
					p, e := h.Plan, h.Entry
					if rest := e.Class == nil && e.Parent == nil; set != "" && rest && p.Direction == policy.Out && (queues(p) || h.MarksOut.DSCP != set) && s.congested(p.Interface) {
						became := words.KeepsMark.With()
						if h.MarksOut.DSCP != set {
							became = words.RewritesMark.With(h.MarksOut.DSCP)
						}
						s.say(e.Spec.At, p.Where(), words.MarkUnserved.With(w.name(), set, where, became))
					}
					if e.Class != nil && h.MarksOut.DSCP != h.MarksIn.DSCP && h.MarksOut.DSCP != codepoint.DF.Name() {
						set, where = h.MarksOut.DSCP, p.Where()
					}
				}
			}
		}}
}
