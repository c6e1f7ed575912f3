package classify

import (
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"

	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
)

// spread returns how many rules the parts of an index hold together, and the longest list of them.
func (x *index) spread() (all, longest int) {
	list := func(rules []rule) { all, longest = all+len(rules), max(longest, len(rules)) }
	inner := func(y *index) {
		n, most := y.spread()
		all, longest = all+n, max(longest, most)
	}
	if x == nil {
		return 0, 0
	}
	list(x.rules)
	inner(x.siblings)
	if x.prefixes != nil {
		for _, n := range x.prefixes.All() {
			list(n.rules)
			inner(n.split)
		}
	}
	if t := x.slots; t != nil {
		all += len(t.rules)
		for n, at := range t.at {
			if at.from <= at.to {
				longest = max(longest, int(at.to-at.from))
			} else if inner(t.split[uint32(n)]); t.split[uint32(n)] == nil {
				panic("a part of the table is missing")
			}
		}
	}
	if x.numbers != nil {
		for _, part := range x.numbers.parts {
			inner(part)
		}
	}
	return all, longest
}

// An index keeps short lists wherever a key separates the rules, and copies each rule a bounded number of times. Here rules overlap in
// every dimension, too.
func TestListsOfAnIndex(t *testing.T) {
	r := rand.New(rand.NewPCG(41, 41))
	prefix := func(a, b, c byte, bits int) policy.Term {
		return policy.Term{Key: policy.KeyFrom, Addresses: &policy.Addresses{Prefixes: []netip.Prefix{netip.PrefixFrom(netip.AddrFrom4([4]byte{a, b, c, 0}), bits).Masked()}}}
	}
	port := func(first, last int) policy.Term {
		return policy.Term{Key: policy.KeyToPort, Ranges: []policy.Range{{First: uint32(first), Last: uint32(last)}}}
	}
	for _, c := range []struct {
		name    string
		rules   int
		terms   func(i int) []policy.Term
		longest int
		beside  int // more than the rules themselves
	}{
		{"few rules are one list", leafRules, func(i int) []policy.Term { return []policy.Term{port(i+1, i+1)} }, leafRules, 0},
		{"one more with ports of their own", leafRules + 1, func(i int) []policy.Term { return []policy.Term{port(i+1, i+1)} }, 1, 0},
		{"ports", 2000, func(i int) []policy.Term { return []policy.Term{port(i+1, i+1)} }, 1, 0},
		{"prefixes below the table's size", manyPrefixes - 1, func(i int) []policy.Term { return []policy.Term{prefix(10, byte(i>>8), byte(i), 24)} }, 1, 0},
		{"prefixes in a table of 16 bits", 4000, func(i int) []policy.Term { return []policy.Term{prefix(byte(i%200), byte(i/200), byte(i), 24)} }, 1, 0},
		{"two ports for each of many prefixes", 4000, func(i int) []policy.Term {
			return []policy.Term{prefix(10, byte(i>>9), byte(i>>1), 24), port(100+i%2, 100+i%2)}
		}, 2, 0},
		{"all equal", 500, func(int) []policy.Term { return []policy.Term{port(80, 80)} }, 500, 0},
		{"overlaps everywhere", 2000, func(int) []policy.Term {
			first := r.IntN(60_000)
			return []policy.Term{prefix(10, byte(r.Uint32()), byte(r.Uint32()), r.IntN(25)), port(first, first+r.IntN(5000))}
		}, 2000, 16*2000 + 1000},
	} {
		var classes []*policy.Class
		for i := range c.rules {
			classes = append(classes, &policy.Class{Match: []policy.Condition{policy.All(c.terms(i)...)}})
		}
		all, longest := Compile(classes).index.spread()
		if longest > c.longest || all < c.rules || all > c.rules+c.beside {
			t.Errorf("%s: %d rules are in lists of at most %d, %d together; want at most %d, and at most %d copies", c.name, c.rules, longest, all, c.longest, c.beside)
		}
	}
}

// Thousands of prefixes within a few networks of 16 bits, of any length, some with ports or a destination, some several to a rule: the index
// and a linear scan choose the same entry.
func TestTableAgainstALinearScan(t *testing.T) {
	address := func(r *rand.Rand) netip.Addr {
		return netip.AddrFrom4([4]byte{10, byte(r.IntN(3)), byte(r.Uint32()), byte(r.Uint32())})
	}
	for trial := range 3 {
		r := rand.New(rand.NewPCG(42, uint64(trial)))
		prefixes := func(key policy.Key, most int) policy.Term {
			var list []netip.Prefix
			for range 1 + r.IntN(most) {
				list = append(list, netip.PrefixFrom(address(r), 8+r.IntN(25)).Masked())
			}
			return policy.Term{Key: key, Addresses: &policy.Addresses{Prefixes: list}}
		}
		var classes []*policy.Class
		for range 3000 {
			terms := []policy.Term{prefixes(policy.KeyFrom, 1+r.IntN(10)/9*4)}
			switch r.IntN(4) {
			case 0:
				terms = append(terms, prefixes(policy.KeyTo, 1))
			case 1:
				port := uint32(1 + r.IntN(60_000))
				terms = append(terms, policy.Term{Key: policy.KeyToPort, Ranges: []policy.Range{{First: port, Last: port + 5000}}})
			}
			classes = append(classes, &policy.Class{Match: []policy.Condition{policy.All(terms...)}})
		}
		slices.SortStableFunc(classes, func(a, b *policy.Class) int { // the narrow first, or the wide would take all
			widest := func(c *policy.Class) int {
				return slices.MinFunc(c.Match[0].Term(policy.KeyFrom).Addresses.Prefixes, func(p, q netip.Prefix) int { return p.Bits() - q.Bits() }).Bits()
			}
			return widest(b) - widest(a)
		})
		m := Compile(classes)
		taken := make(map[int]bool)
		for range 1000 {
			p := &packet.Packet{}
			p.Build(make([]byte, packet.HeaderRoom), packet.Flow{From: address(r), To: address(r), Protocol: 17, FromPort: 9, ToPort: uint16(r.Uint32())}, 0, 200, 0)
			got := m.Match(p)
			if want := slowly(classes, p); got != want {
				t.Fatalf("trial %d: Match gives %d, the scan %d, for %+v", trial, got, want, p)
			}
			taken[got] = true
		}
		if len(taken) < 200 {
			t.Errorf("trial %d: only %d entries took a packet", trial, len(taken))
		}
	}
}
