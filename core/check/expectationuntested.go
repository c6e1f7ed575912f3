package check

import (
	"slices"

	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

func expectationUntested() Rule {
	return Rule{"expectation-untested", Warning, `An expectation is about a class, and no traffic of its rehearsal is in that class anywhere. It fails, or proves nothing. Add such traffic,
or correct the class: ` + "`imbrel explain`" + ` says why a packet is not in it. The check does not know the classes of packets in a replayed capture.`,
		func(s *survey) {

			for i := range s.f.Rehearsals {
				h := &s.f.Rehearsals[i]
				if slices.ContainsFunc(h.Traffic, func(t policy.Traffic) bool { return t.Kind == policy.Replay }) {
					continue
				}
				for j := range h.Expect {
					x := &h.Expect[j]
					for _, subject := range x.Subjects() {
						if subject == policy.Rest || slices.ContainsFunc(s.routes, func(w *route) bool { return w.rehearsal == h && w.within(subject) }) {
							continue
						}
						s.say(x.At, "", words.ExpectationUntested.With(h.Name, subject))
					}
				}
			}
		}}
}
