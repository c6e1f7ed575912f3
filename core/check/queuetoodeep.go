package check

import (
	"time"

	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

func queueTooDeep() Rule {
	return Rule{"queue-too-deep", Warning, `The queue of a class is so deep that its packets can wait longer than an expectation allows: they come late, and none is
lost. Make the limit shorter than the expected delay less what the way takes anyway.`,
		func(s *survey) {

			for i := range s.f.Rehearsals {
				h := &s.f.Rehearsals[i]
				for j := range h.Expect {
					x := &h.Expect[j]
					if x.Metric != policy.Delay || !x.AtMost() || x.Versus != "" {
						continue
					}
					for _, p := range s.plans {
						if p.Direction == policy.In && p.Shape == 0 {
							continue
						}
						for _, e := range p.Entries {
							named := e.Name == x.Subject || e.Class != nil && e.Class.Name == x.Subject
							if !named || !e.Leaf() || e.Block || e.Priority > 0 || e.Queue.Bytes == 0 || e.Promise == 0 || e.Queue.Drop != policy.TailDrop {
								continue
							}
							if x.Where != nil && (x.Where != p.Interface || x.Direction != p.Direction) {
								continue
							}
							full := e.Promise.Time(e.Queue.Bytes)
							if float64(full) <= x.Limit || s.offered(h, e) <= e.Promise {
								continue
							}
							s.say(e.Spec.At, p.Where(), words.QueueTooDeep.With(e.Name, full, words.Quote(x.Text), time.Duration(x.Limit)))
						}
					}
				}
			}
		}}
}
