package check

import (
	"fmt"
	"slices"

	"imbrel/core/packet"
	"imbrel/core/policy"
)

func contradiction() Rule {
	return Rule{"contradiction", Error, `A condition holds when all its keys do, and these never do together: a DSCP whose upper three bits are another precedence, a
port of a protocol that has none, addresses of both versions of IP. Two conditions in the list are joined by
*or*; keys of one condition by *and*.`,
		func(s *survey) {
			for i := range s.f.Classes {
				c := &s.f.Classes[i]
				for _, list := range [][]policy.Condition{c.Match, c.Except} {
					for j := range list {
						if a, b := never(&list[j]); a != "" {
							s.say(list[j].At, "", fmt.Sprintf("a condition of `%s` asks for %s and %s, and no packet has both", c.Name, a, b),
								"it never holds", "write them as two conditions if either is meant, or mend one of them")
						}
					}
				}
			}
		}}
}

// never returns two keys of a condition that no packet has together; "" when there are none.
func never(m *policy.Condition) (a, b string) {
	dscp, precedence := m.Term(policy.KeyDSCP), m.Term(policy.KeyPrecedence)
	if dscp != nil && precedence != nil && !slices.ContainsFunc(dscp.Ranges, func(d policy.Range) bool {
		return slices.ContainsFunc(precedence.Ranges, func(p policy.Range) bool { return d.First>>3 <= p.Last && d.Last>>3 >= p.First })
	}) {
		return "its `dscp`", "its `precedence`"
	}
	if p := m.Term(policy.KeyProtocol); p != nil && !slices.ContainsFunc([]uint32{packet.TCP, packet.UDP, packet.SCTP}, func(n uint32) bool {
		return slices.ContainsFunc(p.Ranges, func(r policy.Range) bool { return r.First <= n && n <= r.Last })
	}) {
		for _, key := range []policy.Key{policy.KeyPort, policy.KeyFromPort, policy.KeyToPort} {
			if m.Term(key) != nil {
				return "its `protocol`", "a port"
			}
		}
	}
	var versions [2]map[bool]bool
	for i, key := range []policy.Key{policy.KeyFrom, policy.KeyTo} {
		t := m.Term(key)
		if t == nil || t.Addresses == nil || t.Addresses.Here {
			continue
		}
		versions[i] = make(map[bool]bool)
		for _, p := range t.Addresses.Prefixes {
			versions[i][p.Addr().Is4()] = true
		}
	}
	if x, y := versions[0], versions[1]; x != nil && y != nil && !(x[true] && y[true]) && !(x[false] && y[false]) {
		return "`from` addresses", "`to` addresses of the other version of IP"
	}
	return "", ""
}
