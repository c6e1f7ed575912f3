package check

import (
	"fmt"

	"imbrel/core/policy"
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
						s.say(x.At, "", fmt.Sprintf("the packets of `%s` are of `%s`, and arrive as %s", w.name(), x.Subject, w.answer.Arrives.DSCP), fmt.Sprintf("%q cannot hold", x.Text), markedWhere(w))
					case x.Metric == policy.Marking && x.Where != nil:
						for k := range w.answer.Hops {
							p := &w.answer.Hops[k]
							if p.Node+"/"+p.Interface == x.Where.Path() && p.Direction == x.Direction.String() && takes(p.Class, x.Subject) && p.MarksOut.DSCP != x.DSCP.Name() {
								s.say(x.At, "", fmt.Sprintf("the packets of `%s` are of `%s`, and leave %s as %s", w.name(), x.Subject, x.Where.Path(), p.MarksOut.DSCP), fmt.Sprintf("%q cannot hold", x.Text), markedWhere(w))
							}
						}
					}
				}
			}
		}}
}

// markedWhere says where a packet's marking changes on its way.
func markedWhere(w *route) string {
	out := ""
	for i := range w.answer.Hops {
		if p := &w.answer.Hops[i]; p.Policy != "" && p.MarksIn.DSCP != p.MarksOut.DSCP {
			if out != "" {
				out += ", then "
			}
			out += fmt.Sprintf("%s in line %d makes %s of %s", p.Class, p.Line, p.MarksOut.DSCP, p.MarksIn.DSCP)
		}
	}
	if out == "" {
		return "nothing on its way marks it: give an entry a `mark`, or the class that it falls to"
	}
	return "mend the `mark`: " + out
}
