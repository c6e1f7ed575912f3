package check

import (
	"slices"

	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

func serverNameUnseen() Rule {
	return Rule{"server-name-unseen", Note, `A class recognises its packets by server names, and no rehearsal of the file replays a capture: streams, calls and TCP of a rehearsal show
no server name, so the class stays empty. Replay a capture, or give the application ports or addresses as well.`,
		func(s *survey) {
			if len(s.f.Rehearsals) == 0 {
				return
			}
			for i := range s.f.Rehearsals {
				for _, t := range s.f.Rehearsals[i].Traffic {
					if t.Kind == policy.Replay {
						return
					}
				}
			}
			used := usedNames(s.f)
			for i := range s.f.Classes {
				c := &s.f.Classes[i]
				if used.classes[c] && len(c.Match) > 0 && !slices.ContainsFunc(c.Match, func(m policy.Condition) bool { return !byServerName(&m) }) {
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
