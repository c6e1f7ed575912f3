package check

import (
	"time"

	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

func timesOverlap() Rule {
	return Rule{"times-overlap", Warning, `Two entries of one class at one level are for different times, and the times overlap. During both, the first entry takes every packet of the
class and the second takes none. Let one time end when the other begins: a time no longer holds in the minute at which it ends.`,
		func(s *survey) {
			for _, p := range s.plans {
				for i, e := range p.Entries {
					for _, o := range p.Entries[:i] {
						if e.Class == nil || e.Class != o.Class || e.Parent != o.Parent || e.When == nil || o.When == nil || e.When.Time == nil || o.When.Time == nil || e.When.Time == o.When.Time {
							continue
						}
						if at, minutes := overlap(o.When.Time, e.When.Time); minutes > 0 {
							s.say(e.Spec.At, p.Where(), words.TimesOverlap.With(o.When.Time.Name, e.When.Time.Name, e.Name, minutes, at.Format("Mon 15:04 MST"), o.Spec.At))
						}
					}
				}
			}
		}}
}

// overlap returns the first minute of a week at which both times hold, and how many there
// are.
func overlap(a, b *policy.Span) (first time.Time, minutes int) {
	for m := range 7 * 24 * 60 {
		at := time.Date(2026, 1, 5, 0, m, 0, 0, time.UTC)
		if a.Holds(at) && b.Holds(at) {
			if minutes++; minutes == 1 {
				first = at.In(a.Zone)
			}
		}
	}
	return first, minutes
}
