package check

import (
	"slices"
	"strings"

	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

func serverNameAlone() Rule {
	return Rule{"server-name-alone", Note, `A server name without ` + "`" + `*.` + "`" + ` is that name alone. Most services use names below it, such as www.weather.example.
` + "`" + `*.weather.example` + "`" + ` is every name below, and not the name itself: write both where both are meant.`,
		func(s *survey) {

			for i := range s.f.Apps {
				a := &s.f.Apps[i]
				for _, n := range a.ServerNames {
					if a.At == (policy.Place{}) || strings.Count(n, ".") != 1 || strings.HasPrefix(n, "*") || slices.Contains(a.ServerNames, "*."+n) {
						continue
					}
					s.say(a.PlaceOf("server-name"), "", words.ServerNameAlone.With(n, a.Name))
				}
			}
		}}
}
