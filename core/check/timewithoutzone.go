package check

import (
	"slices"

	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

func timeWithoutZone() Rule {
	return Rule{"time-without-zone", Note, `A named time without a ` + "`zone`" + ` is in UTC. Where local time differs from UTC, it begins and ends hours too early or too late, and shifts by an hour with
daylight saving.`,
		func(s *survey) {

			for i := range s.f.Times {
				if t := &s.f.Times[i]; !slices.ContainsFunc(t.Keys(), func(k policy.KeyPlace) bool { return k.Key == "zone" }) {
					s.say(t.At, "", words.TimeWithoutZone.With(t.Name))
				}
			}
		}}
}
