package check

import (
	"time"

	"imbrel.example/imbrel/core/bound"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

func expectationPossible() Rule {
	return Rule{"expectation-exceedable", Note, `An expectation asks for a largest delay below the proven bound of its traffic. A rehearsal may pass, and another one with other
moments at which the senders begin may fail. ` + "`imbrel bound`" + ` shows what the bound consists of. Lower it, or expect more; ` + "`voice delay bound <= 20ms`" + ` judges the bound itself.`,
		func(s *survey) {
			for i := range s.f.Rehearsals {
				h := &s.f.Rehearsals[i]
				var proven *bound.Result
				for j := range h.Expect {
					x := &h.Expect[j]
					if x.Metric != policy.Delay || x.Statistic != "max" || x.Versus != "" || !x.AtMost() {
						continue
					}
					if proven == nil {
						proven = bound.Compute(s.f, h, nil)
					}
					most, worst := time.Duration(0), (*bound.Path)(nil)
					for _, p := range proven.Of(x.Subject) {
						if d, ok := p.MaxAt(x); ok && d != bound.Never && d > most && p.FullAt() == nil {
							most, worst = d, p
						}
					}
					if worst != nil && float64(most) > x.Limit {
						s.say(x.At, "", words.ExpectationExceedable.With(worst.Name(), most, words.Quote(x.Text)))
					}
				}
			}
		}}
}
