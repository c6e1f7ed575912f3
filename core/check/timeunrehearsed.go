package check

import (
	"imbrel.example/imbrel/core/words"
)

func timeUnrehearsed() Rule {
	return Rule{"time-unrehearsed", Note, `An attached policy uses a named time. Rehearsals say when they take place, and either none of them takes place during that time, or all of them do.
The other case is never judged. Perhaps an hour, a day or the zone is wrong.`,
		func(s *survey) {
			for i := range s.f.Times {
				t := &s.f.Times[i]
				used, within, without := false, 0, 0
				for _, p := range s.plans {
					for _, e := range p.Entries {
						for _, w := range e.Whens() {
							used = used || w.Time == t
						}
					}
				}
				for j := range s.f.Rehearsals {
					switch h := &s.f.Rehearsals[j]; {
					case h.StartAt.IsZero():
					case t.Holds(h.StartAt):
						within++
					default:
						without++
					}
				}
				if !used || within+without < 2 || within > 0 && without > 0 {
					continue
				}
				which, never := words.NoneIsWithin.With(), words.ThenNotJudged.With()
				if within > 0 {
					which, never = words.AllAreWithin.With(), words.OtherwiseNotJudged.With()
				}
				s.say(t.At, "", words.TimeUnrehearsed.With(which, t.Name, t.String(), never))
			}
		}}
}
