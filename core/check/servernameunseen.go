package check

import (
	"slices"

	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/recognise"
	"imbrel.example/imbrel/core/words"
)

func serverNameUnseen() Rule {
	return Rule{"server-name-unseen", Note, `A class recognises its packets by server names, and no rehearsal of the file replays a capture or has traffic with such a name, so the
class stays empty. Give TCP of a rehearsal the key ` + "`app`" + ` or ` + "`server-name`" + `, or replay a capture.`,
		func(s *survey) {
			if len(s.f.Rehearsals) == 0 {
				return
			}
			var names []string
			for i := range s.f.Rehearsals {
				for _, t := range s.f.Rehearsals[i].Traffic {
					if t.Kind == policy.Replay {
						return
					}
					names = append(names, t.ServerName)
				}
			}
			asked := func(m policy.Condition) bool {
				return slices.ContainsFunc(m.Terms, func(t policy.Term) bool {
					return slices.ContainsFunc(t.Apps, func(a *policy.App) bool {
						return slices.ContainsFunc(names, func(name string) bool { return recognise.NameMatches(a.ServerNames, name) })
					})
				})
			}
			used := usedNames(s.f)
			for i := range s.f.Classes {
				c := &s.f.Classes[i]
				if used.classes[c] && len(c.Match) > 0 && !slices.ContainsFunc(c.Match, func(m policy.Condition) bool { return !byServerName(&m) || asked(m) }) {
					s.say(c.PlaceOf("match"), "", words.ServerNameUnseen.With(c.Name))
				}
			}
		}}
}

// byServerName reports whether a condition asks for applications that are recognised by server names alone.
func byServerName(m *policy.Condition) bool {
	return slices.ContainsFunc(m.Terms, func(t policy.Term) bool {
		return t.Key == policy.KeyApp && !slices.ContainsFunc(t.Apps, func(a *policy.App) bool {
			return len(a.ServerNames) == 0 || len(a.TCP)+len(a.UDP)+len(a.Protocols) > 0 || a.LooksLike != policy.NoLook
		})
	})
}
