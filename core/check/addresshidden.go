package check

import (
	"net/netip"
	"slices"

	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

func addressHidden() Rule {
	return Rule{"address-hidden", Warning, `A class asks for an address that its policy cannot see, because the interface translates addresses (` + "`nat`" + `). With ` + "`nat: before-policy`" + ` the policies of the interface see its own address in
place of those of the hosts behind it; with ` + "`after-policy`" + ` they see the hosts' own. Mark the packets where they come in and ask for the mark, or translate on the other side of the policy.`,
		func(s *survey) {
			for _, p := range s.plans {
				if p.Interface == nil || p.Interface.NAT == policy.NoNAT {
					continue
				}
				for _, e := range p.Entries {
					if e.Class == nil {
						continue
					}
					for i := range e.Class.Match {
						if t := hidden(&e.Class.Match[i], p); t != nil {
							sees, when := words.PoliciesSeeAll.With(), "after the policy"
							if p.Interface.NAT == policy.BeforePolicy {
								var own []string
								for _, a := range p.Interface.Address {
									own = append(own, a.String())
								}
								sees, when = words.PoliciesSee.With(own), "before the policy"
							}
							s.say(e.Class.Match[i].At, p.Where(), words.AddressHidden.With(e.Class.Name, t.Key.String(), printPrefix(t.Addresses.Prefixes[0]), p.Interface.Path(), when, sees))
							break
						}
					}
				}
			}
		}}
}

// hidden returns a term of a condition that asks for addresses none of which the policy can see, or nil. Seen is what stands for the hosts behind the interface: the
// source of what it sends, and the destination of what comes in.
func hidden(m *policy.Condition, p *plan.Plan) *policy.Term {
	for i := range m.Terms {
		t := &m.Terms[i]
		hosts := "to"
		if p.Direction == policy.Out {
			hosts = "from"
		}
		if t.Addresses == nil || t.Key.String() != hosts || len(t.Addresses.Prefixes) == 0 {
			continue
		}
		own := func(q netip.Prefix) bool {
			return slices.ContainsFunc(p.Interface.Address, func(a netip.Addr) bool { return q.Contains(a) })
		}
		single := func(q netip.Prefix) bool { return q.IsSingleIP() && own(q) }
		if p.Interface.NAT == policy.BeforePolicy && !slices.ContainsFunc(t.Addresses.Prefixes, own) ||
			p.Interface.NAT == policy.AfterPolicy && !slices.ContainsFunc(t.Addresses.Prefixes, func(q netip.Prefix) bool { return !single(q) }) {
			return t
		}
	}
	return nil
}
