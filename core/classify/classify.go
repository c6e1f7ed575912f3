// Package classify compiles the classes a policy treats into a matcher: which
// entry takes a packet. The entries are tried in order, the first match wins,
// and what none matches is the rest.
package classify

import (
	"math/bits"
	"net/netip"
	"slices"

	"imbrel/core/packet"
	"imbrel/core/policy"
)

// A Matcher finds the entry that takes a packet. It is only read once
// compiled, so that any number of goroutines may use it.
type Matcher struct {
	classes []*policy.Class // of each entry; nil is the rest
	rest    int             // the first entry for the rest, or -1
	index   *index
	few     []rule // in place of the index, when nothing splits them
}

// Compile returns the matcher of the classes of a policy's entries, in order;
// nil stands for the rest.
func Compile(classes []*policy.Class) *Matcher {
	m := &Matcher{classes: classes, rest: slices.Index(classes, nil)}
	var rules []rule
	for i, c := range classes {
		if c == nil {
			break // nothing behind the rest is ever reached
		}
		for j := range c.Match {
			rules = append(rules, newRule(i, &c.Match[j], c))
		}
	}
	if m.index = build(rules); m.index != nil {
		m.few = m.index.rules
	}
	return m
}

// Of returns the classes of entries, for Compile.
func Of(entries []policy.Entry) []*policy.Class {
	classes := make([]*policy.Class, len(entries))
	for i := range entries {
		classes[i] = entries[i].Class
	}
	return classes
}

// Match returns the index of the entry that takes the packet, or -1 when no
// entry does and there is none for the rest.
func (m *Matcher) Match(p *packet.Packet) int {
	s := NewSubject(p)
	return m.MatchSubject(&s)
}

// MatchSubject does what Match does.
func (m *Matcher) MatchSubject(s *Subject) int {
	var i int32
	if m.few != nil {
		i = first(m.few, s, nothing)
	} else {
		i = m.index.find(s, nothing)
	}
	if i != nothing {
		return int(i)
	}
	return m.rest
}

// Scan does what Match does, by trying one entry after the other.
func (m *Matcher) Scan(p *packet.Packet) int {
	for i, c := range m.classes {
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
	return failing(c, p, given(c)) == 0
}

// keys is a set of the keys of a condition.
type keys uint32

const (
	keyFrom keys = 1 << iota
	keyTo
	keyProtocol
	keyPort
	keyFromPort
	keyToPort
	keyDSCP
	keyApp
	keyPrecedence
	keyLength
	keyVLAN
	keyIn
	keyEtherType
	keyPCP
	keyTC
)

// keyNames are the words of the language, in the order of the bits.
var keyNames = []string{"from", "to", "protocol", "port", "from-port", "to-port", "dscp", "app", "precedence", "length", "vlan", "in", "ethertype", "pcp", "tc"}

// given returns the keys that a condition has.
func given(c *policy.Condition) keys {
	var k keys
	for i, has := range []bool{c.From != nil, c.To != nil, c.Protocol != nil, c.Port != nil, c.FromPort != nil, c.ToPort != nil, c.DSCP != nil,
		c.Apps != nil, c.Precedence != nil, c.Length != nil, c.VLAN != nil, c.In != nil, c.EtherType != nil, c.PCP != nil, c.TC != nil} {
		if has {
			k |= 1 << i
		}
	}
	return k
}

// failing returns the first of the keys that does not hold for the packet, or
// none. Only the keys asked for are looked at.
func failing(c *policy.Condition, p *packet.Packet, k keys) keys {
	f := &p.Flow
	ip := visible(p)
	ports := ip && p.HasPorts
	switch {
	case k&keyFrom != 0 && !(ip && inside(c.From.Prefixes, f.From)):
		return keyFrom
	case k&keyTo != 0 && !(ip && inside(c.To.Prefixes, f.To)):
		return keyTo
	case k&keyProtocol != 0 && !(ip && slices.Contains(c.Protocol, f.Protocol)):
		return keyProtocol
	case k&keyPort != 0 && !(ports && (within(c.Port, f.FromPort) || within(c.Port, f.ToPort))):
		return keyPort
	case k&keyFromPort != 0 && !(ports && within(c.FromPort, f.FromPort)):
		return keyFromPort
	case k&keyToPort != 0 && !(ports && within(c.ToPort, f.ToPort)):
		return keyToPort
	case k&keyDSCP != 0 && !(ip && slices.Contains(c.DSCP, p.DSCP())):
		return keyDSCP
	case k&keyApp != 0 && !(ip && anyApp(c.Apps, p)):
		return keyApp
	case k&keyPrecedence != 0 && !(ip && slices.Contains(c.Precedence, p.Precedence())):
		return keyPrecedence
	case k&keyLength != 0 && !(ip && within(c.Length, uint16(min(p.Length, 65535)))):
		return keyLength
	case k&keyVLAN != 0 && !(p.Tagged && within(c.VLAN, p.VLAN)):
		return keyVLAN
	case k&keyIn != 0 && !slices.ContainsFunc(c.In, func(i *policy.Interface) bool { return int32(i.Number) == p.In }):
		return keyIn
	case k&keyEtherType != 0 && !slices.Contains(c.EtherType, p.EtherType):
		return keyEtherType
	}
	if k&keyPCP != 0 {
		if v, ok := p.PCP(); !ok || !slices.Contains(c.PCP, v) {
			return keyPCP
		}
	}
	if k&keyTC != 0 {
		if v, ok := p.TC(); !ok || !slices.Contains(c.TC, v) {
			return keyTC
		}
	}
	return 0
}

// Failure returns the first key of a condition that does not hold for the
// packet, as a word of the language, or "" when the condition holds.
func Failure(c *policy.Condition, p *packet.Packet) string {
	k := failing(c, p, given(c))
	if k == 0 {
		return ""
	}
	return keyNames[bits.TrailingZeros32(uint32(k))]
}

// Keys returns the keys of a condition, as words of the language.
func Keys(c *policy.Condition) []string {
	var words []string
	for i, k := 0, given(c); i < len(keyNames); i++ {
		if k&(1<<i) != 0 {
			words = append(words, keyNames[i])
		}
	}
	return words
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

// anyApp reports whether the packet is of one of the applications: by what was
// recognised of its flow, by either port, or by its protocol.
func anyApp(apps []*policy.App, p *packet.Packet) bool {
	for _, a := range apps {
		if IsApp(a, p) {
			return true
		}
	}
	return false
}

// IsApp reports whether the packet is of the application.
func IsApp(a *policy.App, p *packet.Packet) bool {
	if w := a.Number / 64; w < len(p.Apps) && p.Apps[w]&(1<<(a.Number%64)) != 0 {
		return true
	}
	f := &p.Flow
	if len(a.Protocols) > 0 && slices.Contains(a.Protocols, f.Protocol) {
		return true
	}
	if !p.HasPorts {
		return false
	}
	switch f.Protocol {
	case packet.TCP:
		return within(a.TCP, f.FromPort) || within(a.TCP, f.ToPort)
	case packet.UDP:
		return within(a.UDP, f.FromPort) || within(a.UDP, f.ToPort)
	}
	return false
}
