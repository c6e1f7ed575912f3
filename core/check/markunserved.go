package check

import (
	"fmt"

	"imbrel/core/codepoint"
	"imbrel/core/policy"
)

func markUnserved() Rule {
	return Rule{"mark-unserved", Warning, `A policy marks packets of a class, and further on their way, where a rehearsal fills the link, a policy has them in its rest: it
neither keeps the mark nor serves it, so it was set for nothing. Give the later policy a class that asks for the codepoint.`,
		func(s *survey) {
			for i := range s.ways {
				w := &s.ways[i]
				set, where := "", ""
				for j := range w.answer.Hops {
					h := &w.answer.Hops[j]
					if h.Policy == "" {
						continue
					}
					p, e := s.taken(h)
					if e == nil {
						break
					}
					if rest := e.Class == nil && e.Parent == nil; set != "" && rest && p.Direction == policy.Out && (queues(p) || h.MarksOut.DSCP != set) && s.congested(p.Interface) {
						became := "keeps the mark and does not serve it"
						if h.MarksOut.DSCP != set {
							became = "makes " + h.MarksOut.DSCP + " of it"
						}
						s.say(e.Spec.At, p.Where(), fmt.Sprintf("`%s` is marked %s at %s, and here it is in the rest, which %s", w.name(), set, where, became),
							"it waits among what nobody named, wherever the link is full", fmt.Sprintf("add an entry for a class with `match: [{dscp: %s}]`", set))
					}
					if e.Class != nil && h.MarksOut.DSCP != h.MarksIn.DSCP && h.MarksOut.DSCP != codepoint.DF.Name() {
						set, where = h.MarksOut.DSCP, p.Where()
					}
				}
			}
		}}
}
