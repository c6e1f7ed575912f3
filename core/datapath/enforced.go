package datapath

import (
	"fmt"

	"imbrel/core/policy"
)

// Unenforced returns what the attached policies of a file ask for that the data
// path does not do yet, and what the network and rehearsal ask for that cannot
// be rehearsed yet: the language has it, but a result without it would be wrong.
func Unenforced(f *policy.File, plan *policy.Rehearsal) policy.Problems {
	var out policy.Problems
	not := func(s *policy.Source, key, where string) {
		out = append(out, policy.Problem{Place: s.PlaceOf(key), Text: fmt.Sprintf("`%s` of %s cannot be rehearsed yet", key, where),
			Help: "`imbrel explain` knows it; to rehearse, remove it"})
	}
	seen := make(map[*policy.Policy]bool)
	var look func(entries []policy.Entry)
	look = func(entries []policy.Entry) {
		for j := range entries {
			e := &entries[j]
			where := "the entry for `" + e.ClassName.Text + "`"
			if e.When != nil && e.When.Time != nil && plan.StartAt.IsZero() {
				out = append(out, policy.Problem{Place: e.PlaceOf("when"), Text: fmt.Sprintf("%s depends on the time `%s`, and the rehearsal `%s` plays at none", where, e.When.Time.Name, plan.Name),
					Help: "give the rehearsal a `starts-at`, such as 2026-03-02T08:30"})
			}
			look(e.Treat)
			if e.Within != nil && !seen[e.Within] {
				seen[e.Within] = true
				look(e.Within.Treat)
			}
		}
	}
	for i := range f.Attach {
		if p := f.Attach[i].Policy; !seen[p] {
			seen[p] = true
			look(p.Treat)
		}
	}
	if f.Network.Has("tunnels") {
		not(&f.Network.Source, "tunnels", "the network")
	}
	for i := range plan.Traffic {
		if t := &plan.Traffic[i]; t.TCP > 0 {
			not(&t.Source, "tcp", "the traffic `"+t.Name+"`")
		}
	}
	return out
}
