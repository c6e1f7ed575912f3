package check

import (
	"fmt"

	"imbrel/core/figure"
	"imbrel/core/policy"
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
							s.say(e.Spec.At, p.Where(), fmt.Sprintf("a full queue of `%s` holds a packet for %s, and %q is expected", e.Name, figure.Milliseconds(float64(full)/1e6), x.Text),
								"it is offered more than it is promised, so its packets come late before any is lost",
								fmt.Sprintf("give its `queue` a `limit` below %s", figure.Milliseconds(x.Limit/1e6)))
						}
					}
				}
			}
		}}
}
