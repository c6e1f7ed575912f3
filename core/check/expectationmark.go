package check

import (
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

func expectationMark() Rule {
	return Rule{"expectation-mark", Error, `An expectation says with which DSCP packets leave an interface, or arrive, and the policies on their way mark them otherwise.
` + "`" + `imbrel explain` + "`" + ` shows the marks hop by hop. Where a policer marks only some of the packets, a file cannot tell.`,
		func(s *survey) {

			for i := range s.routes {
				w := s.routes[i]
				for j := range w.rehearsal.Expect {
					x := &w.rehearsal.Expect[j]
					if x.Versus != "" || !w.certain() {
						continue
					}
					switch {
					case x.Metric == policy.Arrival && w.answer.Arrives != nil && w.within(x.Subject) && w.answer.Arrives.DSCP != x.DSCP.Name():
						s.say(x.At, "", words.ArrivesMarkedOtherwise.With(w.name(), x.Subject, w.answer.Arrives.DSCP, words.Quote(x.Text), markedWhere(w)))
					case x.Metric == policy.Marking && x.Where != nil:
						for k := range w.answer.Hops {
							p := &w.answer.Hops[k]
							if p.Node+"/"+p.Interface == x.Where.Path() && p.Direction == x.Direction.String() && policy.IsWithin(p.Class, x.Subject) && p.MarksOut.DSCP != x.DSCP.Name() {
								s.say(x.At, "", words.LeavesMarkedOtherwise.With(w.name(), x.Subject, x.Where.Path(), p.MarksOut.DSCP, words.Quote(x.Text), markedWhere(w)))
							}
						}
					}
				}
			}
		}}
}

// markedWhere says where a packet's marking changes on its way.
func markedWhere(w *route) words.Fact {
	out := words.Fact{}
	for i := range w.answer.Hops {
		if p := &w.answer.Hops[i]; p.Policy != "" && p.MarksIn.DSCP != p.MarksOut.DSCP {
			out = words.MarkChanges.With(out, p.Class, policy.Place{File: p.File, Line: p.Line}, p.MarksOut.DSCP, p.MarksIn.DSCP)
		}
	}
	if out.IsZero() {
		for i := range w.answer.Hops { // an entry may set the mark that the packet has already
			h := &w.answer.Hops[i]
			for e := h.Entry; e != nil; e = e.Parent {
				if m := e.Spec.Mark; m != nil && m.DSCP != nil {
					out = words.MarkedBy.With(e.Name, e.Spec.PlaceOf("mark"), m.DSCP.Name())
				}
			}
		}
	}
	if out.IsZero() {
		return words.NothingMarks.With()
	}
	return words.MarksChange.With(out)
}
