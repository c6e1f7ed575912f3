package check

import (
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

func policyUnattached() Rule {
	return Rule{"policy-unattached", Warning, `A policy is attached nowhere and used inside no other policy: it does nothing. Perhaps the line under ` + "`" + `attach` + "`" + ` was lost when it was
renamed.`,
		func(s *survey) {

			used := make(map[*policy.Policy]bool)
			for i := range s.f.Attach {
				used[s.f.Attach[i].Policy] = true
			}
			for i := range s.f.Rehearsals {
				for _, e := range s.f.Rehearsals[i].Events {
					if e.Attach != nil {
						used[e.Attach.Policy] = true
					}
				}
			}
			var within func(entries []policy.Entry)
			within = func(entries []policy.Entry) {
				for i := range entries {
					if e := &entries[i]; e.Within != nil && !used[e.Within] {
						used[e.Within] = true
					}
					within(entries[i].Treat)
				}
			}
			for i := range s.f.Policies {
				within(s.f.Policies[i].Treat)
			}
			for i := range s.f.Policies {
				if p := &s.f.Policies[i]; !used[p] {
					s.say(p.At, "", words.PolicyUnattached.With(p.Name))
				}
			}
		}}
}
