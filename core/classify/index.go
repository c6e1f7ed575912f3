package classify

import (
	"encoding/binary"
	"math"
	"net/netip"
	"slices"
	"sort"

	"github.com/gaissmai/bart"

	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
)

// nothing is the entry that comes after all others.
const nothing = math.MaxInt32

// A rule is one condition of one entry's class, with what is still to be asked
// of a packet. What fails most is in the rule itself, so that few conditions
// are looked at.
type rule struct {
	entry     int32
	keys      keys // of the condition that nothing has asked yet
	low, high uint16
	except    bool // the class has exceptions
	easy      bool // nothing but low and high is asked
	from, to  prefix4
	condition *policy.Condition
	class     *policy.Class
}

// A prefix4 is an IPv4 prefix as it is compared, when it is the only one of a
// condition's key; the zero prefix4 is none.
type prefix4 struct{ value, mask uint32 }

func newPrefix4(t *policy.Term) prefix4 {
	if t == nil || len(t.Addresses.Prefixes) != 1 || !t.Addresses.Prefixes[0].Addr().Is4() || t.Addresses.Prefixes[0].Bits() == 0 {
		return prefix4{}
	}
	p := t.Addresses.Prefixes[0].Masked()
	return prefix4{number(p.Addr()), ^uint32(0) << (32 - p.Bits())}
}

// number returns an IPv4 address as a number.
func number(a netip.Addr) uint32 {
	b := a.As4()
	return binary.BigEndian.Uint32(b[:])
}

func newRule(entry int, c *policy.Condition, class *policy.Class) rule {
	r := rule{entry: int32(entry), keys: given(c), high: math.MaxUint16, except: len(class.Except) > 0, condition: c, class: class,
		from: newPrefix4(c.Term(policy.KeyFrom)), to: newPrefix4(c.Term(policy.KeyTo))}
	if t := c.Term(policy.KeyToPort); t != nil {
		r.low, r.high = math.MaxUint16, 0
		for _, p := range t.Ranges {
			r.low, r.high = min(r.low, uint16(p.First)), max(r.high, uint16(p.Last))
		}
		if len(t.Ranges) == 1 && r.low > 0 { // a packet without ports has port 0
			r.keys &^= keyToPort
		}
	}
	r.ease()
	return r
}

func (r *rule) ease() { r.easy = r.keys == 0 && !r.except }

// A Subject is a packet to be matched, with what most rules ask at hand;
// several matchers can be asked about one.
type Subject struct {
	*packet.Packet
	ip     bool   // its header may be looked at
	toPort uint16 // 0: none

	addresses, v4 bool // from and to are set; and are of IPv4
	from, to      uint32
}

// NewSubject returns the subject of a packet, as it is now.
func NewSubject(p *packet.Packet) Subject {
	s := Subject{Packet: p, ip: p.IsIP() && !p.LabelSwitched}
	if s.ip {
		s.toPort = p.Flow.ToPort
	}
	return s
}

// isIPv4 reports whether the addresses are of IPv4, and sets them.
func (s *Subject) isIPv4() bool {
	if !s.addresses {
		s.addresses = true
		if f := &s.Flow; s.ip && f.From.Is4() {
			s.v4, s.from, s.to = true, number(f.From), number(f.To)
		}
	}
	return s.v4
}

// holds reports whether the rule takes the packet, whose port is one of its.
func (r *rule) holds(s *Subject) bool {
	k := r.keys
	if k&keyFrom != 0 && r.from.mask != 0 {
		if !s.isIPv4() || s.from&r.from.mask != r.from.value {
			return false
		}
		k &^= keyFrom
	}
	if k&keyTo != 0 && r.to.mask != 0 {
		if !s.isIPv4() || s.to&r.to.mask != r.to.value {
			return false
		}
		k &^= keyTo
	}
	return (k == 0 || holds(r.condition, s.Packet, k)) && !(r.except && policy.Any(r.class.Except, s.Packet))
}

// first returns the first entry of rules, less than best, that takes the packet.
func first(rules []rule, s *Subject, best int32) int32 {
	port := s.toPort
	for i := 0; i < len(rules); i++ {
		r := &rules[i]
		if r.low > port || port > r.high {
			continue
		}
		if r.entry >= best {
			break
		}
		if r.easy || r.holds(s) {
			return r.entry
		}
	}
	return best
}

// without returns the rules with one key less to ask.
func without(rules []rule, k keys) []rule {
	for i := range rules {
		rules[i].keys &^= k
		rules[i].ease()
	}
	return rules
}

// An index is a tree over rules. Each inner part splits them by one dimension
// of a packet: a prefix trie for addresses, a table for ports, protocols and
// codepoints. Rules without the dimension, or with too many ranges, are kept beside
// it. Leaves are short lists, tried one by one. Every part knows the first of
// its entries, so that a part which cannot win is never looked at.
type index struct {
	first    int32 // the least entry in it
	rules    []rule
	siblings *index

	prefixes *bart.Table[prefixNode]
	slots    *slots // in place of prefixes, for IPv4
	to       bool   // prefixes are of the destination
	numbers  *numberTable
}

// A prefixNode is the rules of one prefix, and the next shorter prefix that
// holds it. It is in the trie by value, and its rules are in a slab with those
// of other prefixes: a match touches little memory.
type prefixNode struct {
	rules   []rule      // to be tried one by one, or
	split   *index      // split further
	shorter *prefixNode // nil when its rules are among these
}

// find returns the first entry, less than best, that has a rule which holds.
func (n *prefixNode) find(s *Subject, best int32) int32 {
	for ; n != nil; n = n.shorter {
		best = n.split.find(s, first(n.rules, s, best))
	}
	return best
}

// merge joins two lists of rules in the order of their entries.
func merge(a, b []rule) []rule {
	all := append(slices.Clone(a), b...)
	slices.SortStableFunc(all, func(x, y rule) int { return int(x.entry - y.entry) })
	return all
}

// A numberTable finds the part of a number's interval.
type numberTable struct {
	of     func(p *packet.Packet) (int, bool)
	bounds []int // each the first number of an interval
	parts  []*index
}

const (
	leafRules    = 24   // at most so many are tried one by one, unless nothing splits them
	mergedRules  = 64   // a prefix has the rules of all that hold it, up to so many
	manyPrefixes = 512  // from so many on, IPv4 goes by a table of the first 16 bits
	minBits      = 10   // a prefix shorter than that is kept beside the table
	maxIntervals = 64   // a rule over more intervals than that is kept beside
	minGain      = 0.25 // a split that leaves more than three quarters beside is none
)

const (
	keyFrom   = keys(1) << policy.KeyFrom
	keyTo     = keys(1) << policy.KeyTo
	keyToPort = keys(1) << policy.KeyToPort
)

// A dimension is a key of which a packet has one number, by which rules are split.
type dimension struct {
	key policy.Key
	of  func(p *packet.Packet) (int, bool)
}

// ranges returns the ranges of numbers for which a condition holds, or nil.
func (d *dimension) ranges(c *policy.Condition) [][2]int {
	t := c.Term(d.key)
	if t == nil {
		return nil
	}
	out := make([][2]int, len(t.Ranges))
	for i, r := range t.Ranges {
		out[i] = [2]int{int(r.First), int(r.Last)}
	}
	return out
}

// dimensions lists the keys that split rules, as the table of keys says.
func dimensions() []dimension {
	var out []dimension
	for _, k := range policy.Keys() {
		row := k.Row()
		if !row.Splits {
			continue
		}
		out = append(out, dimension{k, func(p *packet.Packet) (int, bool) {
			n, _, ok := row.Of(p)
			return int(n), ok
		}})
	}
	return out
}

// A builder builds an index and bounds how often rules are copied in it.
type builder struct {
	copies     int
	dimensions []dimension
	slab       []rule
}

func build(rules []rule) *index {
	b := builder{copies: 16*len(rules) + 1000}
	if len(rules) > leafRules {
		b.dimensions = dimensions()
	}
	return b.build(rules, 0)
}

// inTable says that the rules are of one place in a table of the first 16 bits, so that a trie may split them by the others.
const inTable uint = 1 << 31

// build returns the index of rules, which are in the order of their entries.
// used has a bit for each dimension that has split them already, and inTable.
func (b *builder) build(rules []rule, used uint) *index {
	if len(rules) == 0 {
		return nil
	}
	x := &index{first: rules[0].entry, rules: rules}
	if len(rules) <= leafRules {
		return x
	}
	var best split
	bestDimension, least := -1, float64(len(rules))*(1-minGain)
	for d := range 2 + len(b.dimensions) {
		if used&(1<<d) != 0 {
			continue
		}
		s := splitByPrefix(rules, d == 1)
		if d >= 2 {
			s = splitByNumber(rules, &b.dimensions[d-2])
		}
		if c := s.cost(); c < least && s.copies <= b.copies {
			best, bestDimension, least = s, d, c
		}
	}
	if bestDimension < 0 {
		return x
	}
	b.copies -= best.copies
	used |= 1 << bestDimension
	x.rules = nil
	if bestDimension < 2 {
		x.to = bestDimension == 1
		if len(best.prefixes) >= manyPrefixes && used&inTable == 0 && b.slots(x, &best, used) {
			return x
		}
		x.prefixes = b.trie(&best, x.to, used)
	} else {
		x.numbers = &numberTable{of: b.dimensions[bestDimension-2].of, bounds: best.bounds}
		for _, part := range best.parts {
			x.numbers.parts = append(x.numbers.parts, b.build(without(part, bit(b.dimensions[bestDimension-2].key)), used))
		}
	}
	x.siblings = b.build(best.siblings, used)
	return x
}

// trie puts the parts of a split by prefix into a trie.
func (b *builder) trie(s *split, to bool, used uint) *bart.Table[prefixNode] {
	k := keyFrom
	if to {
		k = keyTo
	}
	nodes := make([]prefixNode, len(s.prefixes))
	known := &bart.Table[*prefixNode]{}
	for i, p := range s.prefixes { // the shorter first, so that each finds what holds it
		n := &nodes[i]
		n.rules = without(s.parts[i], k)
		if _, shorter, ok := known.LookupPrefixLPM(p); ok {
			n.shorter = shorter
			if shorter.shorter == nil && len(n.rules)+len(shorter.rules) <= mergedRules && b.copies > len(shorter.rules) {
				b.copies -= len(shorter.rules)
				n.rules, n.shorter = merge(n.rules, shorter.rules), nil
			}
		}
		known.Insert(p, n)
	}
	table := &bart.Table[prefixNode]{}
	for i, p := range s.prefixes {
		n := &nodes[i]
		if part := b.build(n.rules, used); part.prefixes == nil && part.numbers == nil {
			n.rules = b.place(part.rules)
		} else {
			n.rules, n.split = nil, part
		}
		table.Insert(p, *n)
	}
	return table
}

// slots is a table by the first 16 bits of an IPv4 address: the rules of every
// prefix that holds such addresses or lies among them. It takes one look where
// a trie takes several.
type slots struct {
	at    [1 << 16]slot
	rules []rule
	split map[uint32]*index // of those with many rules
}

type slot struct{ from, to uint32 }

func (t *slots) find(n uint32, s *Subject, best int32) int32 {
	at := t.at[n]
	if at.from > at.to {
		return t.split[n].find(s, best)
	}
	return first(t.rules[at.from:at.to], s, best)
}

// slots splits by the first 16 bits instead of a trie, IPv6 by a trie of its
// own. It reports false when that would take too many copies.
func (b *builder) slots(x *index, s *split, used uint) bool {
	var wide, six split
	at := make(map[uint32][]rule)
	copies := 0
	for i, p := range s.prefixes {
		switch {
		case p.Addr().Is6():
			six.prefixes, six.parts = append(six.prefixes, p), append(six.parts, s.parts[i])
		case p.Bits() < minBits:
			wide.siblings = append(wide.siblings, s.parts[i]...)
		default:
			first := number(p.Addr()) >> 16
			last := first
			if p.Bits() < 16 {
				last |= 1<<(16-p.Bits()) - 1
			}
			if copies += int(last-first+1) * len(s.parts[i]); copies > b.copies {
				return false
			}
			for n := first; n <= last; n++ {
				at[n] = append(at[n], s.parts[i]...)
			}
		}
	}
	b.copies -= copies
	dimension := 0
	if x.to {
		dimension = 1
	}
	t := &slots{split: make(map[uint32]*index)}
	for n := range uint32(1 << 16) {
		rules := once(at[n])
		if len(rules) > mergedRules {
			t.at[n], t.split[n] = slot{1, 0}, b.build(rules, used&^(1<<dimension)|inTable)
			continue
		}
		t.at[n].from = uint32(len(t.rules))
		t.rules = append(t.rules, rules...)
		t.at[n].to = uint32(len(t.rules))
	}
	x.slots = t
	x.prefixes = b.trie(&six, x.to, used)
	x.siblings = b.build(once(append(wide.siblings, s.siblings...)), used)
	return true
}

// once sorts rules by their entries and takes duplicates out.
func once(rules []rule) []rule {
	slices.SortStableFunc(rules, func(a, b rule) int { return int(a.entry - b.entry) })
	return slices.CompactFunc(rules, func(a, b rule) bool { return a.condition == b.condition })
}

// place copies rules into the slab, after those placed before.
func (b *builder) place(rules []rule) []rule {
	if len(rules) > cap(b.slab)-len(b.slab) {
		b.slab = make([]rule, 0, max(1<<12, len(rules)))
	}
	at := len(b.slab)
	b.slab = append(b.slab, rules...)
	return b.slab[at:len(b.slab):len(b.slab)]
}

// A split is what one dimension makes of rules.
type split struct {
	prefixes []netip.Prefix // of each part, or
	bounds   []int
	parts    [][]rule
	siblings []rule
	copies   int
}

// cost estimates how many rules are left to look at: those beside and the mean
// part, as the packets that hit it most see it.
func (s *split) cost() float64 {
	square, sum := 0.0, 0.0
	for _, p := range s.parts {
		square += float64(len(p)) * float64(len(p))
		sum += float64(len(p))
	}
	if sum == 0 {
		return math.Inf(1)
	}
	return float64(len(s.siblings)) + square/sum
}

func prefixesOf(c *policy.Condition, to bool) []netip.Prefix {
	k := policy.KeyFrom
	if to {
		k = policy.KeyTo
	}
	if t := c.Term(k); t != nil {
		return t.Addresses.Prefixes
	}
	return nil
}

func splitByPrefix(rules []rule, to bool) split {
	var s split
	number := make(map[netip.Prefix]int)
	for _, r := range rules {
		ps := prefixesOf(r.condition, to)
		if len(ps) == 0 {
			s.siblings = append(s.siblings, r)
		}
		for _, p := range ps {
			i, known := number[p]
			if !known {
				i = len(s.parts)
				number[p] = i
				s.prefixes, s.parts = append(s.prefixes, p), append(s.parts, nil)
			}
			if n := len(s.parts[i]); n == 0 || s.parts[i][n-1].condition != r.condition {
				s.parts[i] = append(s.parts[i], r)
				s.copies++
			}
		}
	}
	sort.Sort(byLength(s))
	return s
}

// byLength sorts the parts of a split by the length of their prefixes.
type byLength split

func (s byLength) Len() int           { return len(s.parts) }
func (s byLength) Less(a, b int) bool { return s.prefixes[a].Bits() < s.prefixes[b].Bits() }
func (s byLength) Swap(a, b int) {
	s.prefixes[a], s.prefixes[b] = s.prefixes[b], s.prefixes[a]
	s.parts[a], s.parts[b] = s.parts[b], s.parts[a]
}

func splitByNumber(rules []rule, d *dimension) split {
	var s split
	edges := map[int]bool{0: true}
	for _, r := range rules {
		for _, v := range d.ranges(r.condition) {
			edges[v[0]], edges[v[1]+1] = true, true
		}
	}
	for e := range edges {
		s.bounds = append(s.bounds, e)
	}
	sort.Ints(s.bounds)
	s.parts = make([][]rule, len(s.bounds))
	for _, r := range rules {
		spans := d.ranges(r.condition)
		wide := len(spans) == 0
		for i, v := range spans {
			from, _ := slices.BinarySearch(s.bounds, v[0])
			end, _ := slices.BinarySearch(s.bounds, v[1]+1)
			wide = wide || end-from > maxIntervals
			spans[i] = [2]int{from, end}
		}
		if wide {
			s.siblings = append(s.siblings, r)
			continue
		}
		for _, v := range spans {
			for i := v[0]; i < v[1]; i++ {
				if n := len(s.parts[i]); n == 0 || s.parts[i][n-1].condition != r.condition {
					s.parts[i] = append(s.parts[i], r)
					s.copies++
				}
			}
		}
	}
	return s
}

// find returns the first entry, less than best, that has a rule which holds.
func (x *index) find(s *Subject, best int32) int32 {
	for ; x != nil && x.first < best; x = x.siblings {
		if x.rules != nil { // nothing splits them
			return first(x.rules, s, best)
		}
		if x.numbers != nil {
			if n, ok := x.numbers.of(s.Packet); ok {
				best = x.numbers.part(n).find(s, best)
			}
		}
		if !s.ip {
			continue
		}
		if x.slots != nil && s.isIPv4() {
			n := s.from
			if x.to {
				n = s.to
			}
			best = x.slots.find(n>>16, s, best)
		} else if x.prefixes != nil {
			a := s.Flow.From
			if x.to {
				a = s.Flow.To
			}
			if node, ok := x.prefixes.Lookup(a); ok {
				best = node.find(s, best)
			}
		}
	}
	return best
}

// part returns the part of a number's interval.
func (t *numberTable) part(n int) *index {
	low, high := 0, len(t.bounds)
	for high-low > 1 {
		if mid := (low + high) / 2; t.bounds[mid] <= n {
			low = mid
		} else {
			high = mid
		}
	}
	return t.parts[low]
}
