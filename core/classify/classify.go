// Package classify compiles the classes a policy treats into a matcher: which
// entry takes a packet. The entries are tried in order, the first match wins,
// and what none matches is the rest.
package classify

import (
	"net/netip"
	"slices"

	"imbrel/core/packet"
	"imbrel/core/policy"
)

// A Matcher finds the entry that takes a packet. It is only read once
// compiled; the zero Matcher gives everything to the rest.
type Matcher struct {
	entries []*policy.Class // nil is the rest
}

// Compile returns the matcher of a policy's entries.
func Compile(p *policy.Policy) *Matcher {
	m := &Matcher{}
	for i := range p.Treat {
		m.entries = append(m.entries, p.Treat[i].Class)
	}
	return m
}

// Match returns the index of the entry that takes the packet, or -1 when no
// entry does and the policy has none for the rest.
func (m *Matcher) Match(p *packet.Packet) int {
	for i, c := range m.entries {
		if c == nil || Holds(c, p) {
			return i
		}
	}
	return -1
}

// Holds reports whether a class takes the packet: one of its conditions holds
// and none of its exceptions.
func Holds(c *policy.Class, p *packet.Packet) bool {
	return anyHolds(c.Match, p) && !anyHolds(c.Except, p)
}

func anyHolds(conditions []policy.Condition, p *packet.Packet) bool {
	for i := range conditions {
		if conditionHolds(&conditions[i], p) {
			return true
		}
	}
	return false
}

func conditionHolds(c *policy.Condition, p *packet.Packet) bool {
	f := &p.Flow
	return (c.From == nil || inside(c.From.Prefixes, f.From)) &&
		(c.To == nil || inside(c.To.Prefixes, f.To)) &&
		(c.Protocol == nil || p.IsIP() && slices.Contains(c.Protocol, f.Protocol)) &&
		(c.Port == nil || p.HasPorts && (within(c.Port, f.FromPort) || within(c.Port, f.ToPort))) &&
		(c.FromPort == nil || p.HasPorts && within(c.FromPort, f.FromPort)) &&
		(c.ToPort == nil || p.HasPorts && within(c.ToPort, f.ToPort)) &&
		(c.DSCP == nil || p.IsIP() && slices.Contains(c.DSCP, p.DSCP())) &&
		(c.Apps == nil || p.HasPorts && anyApp(c.Apps, f))
}

func inside(prefixes []netip.Prefix, a netip.Addr) bool {
	for _, p := range prefixes {
		if p.Contains(a) {
			return true
		}
	}
	return false
}

func within(ranges []policy.PortRange, port uint16) bool {
	for _, r := range ranges {
		if r.First <= port && port <= r.Last {
			return true
		}
	}
	return false
}

// anyApp reports whether either port is one of an application's.
func anyApp(apps []*policy.App, f *packet.Flow) bool {
	for _, a := range apps {
		ranges := a.TCP
		if f.Protocol == packet.UDP {
			ranges = a.UDP
		} else if f.Protocol != packet.TCP {
			continue
		}
		if within(ranges, f.FromPort) || within(ranges, f.ToPort) {
			return true
		}
	}
	return false
}
