package policy

import (
	"net/netip"
	"slices"
	"strings"

	"github.com/gaissmai/bart"

	"imbrel.example/imbrel/core/packet"
)

// A Condition holds for a packet when each of its terms does.
type Condition struct {
	Source
	Terms []Term // each key once, in the order of Keys
}

// A Term is one key of a condition and the values of which one must hold.
type Term struct {
	Key       Key
	Ranges    []Range    // of a key whose values are numbers
	Addresses *Addresses // of `from` and `to`
	Apps      []*App     // of `app`
	Given     []Ref      // the names as written, of `app` and `in`
}

// A Range is the numbers from First to Last, both included.
type Range struct{ First, Last uint32 }

// One returns the range of a single number.
func One(n uint32) Range { return Range{n, n} }

// Addresses are addresses, prefixes and groups as written, and the prefixes
// they come to.
type Addresses struct {
	Given    []Ref
	Prefixes []netip.Prefix
	Here     bool // and the subnets of the node at which the policy is attached

	set *bart.Lite // of many prefixes
}

// manyPrefixes is from how many on a set of prefixes is looked up, not scanned.
const manyPrefixes = 16

// Index prepares a set of many prefixes for Contains. Readers call it once the
// prefixes are known.
func (a *Addresses) Index() {
	if len(a.Prefixes) < manyPrefixes {
		return
	}
	a.set = &bart.Lite{}
	for _, p := range a.Prefixes {
		a.set.Insert(p)
	}
}

// Contains reports whether an address is in one of the prefixes.
func (a *Addresses) Contains(addr netip.Addr) bool {
	if a.set != nil {
		return a.set.Contains(addr)
	}
	for _, p := range a.Prefixes {
		if p.Contains(addr) {
			return true
		}
	}
	return false
}

// At returns the addresses as they are at a node with the given subnets.
func (a *Addresses) At(subnets []netip.Prefix) *Addresses {
	b := &Addresses{Given: a.Given, Prefixes: append(append([]netip.Prefix(nil), a.Prefixes...), subnets...)}
	b.Index()
	return b
}

// Term returns the condition's term of a key, or nil.
func (c *Condition) Term(k Key) *Term {
	for i := range c.Terms {
		if c.Terms[i].Key == k {
			return &c.Terms[i]
		}
	}
	return nil
}

// Holds reports whether the condition holds for a packet.
func (c *Condition) Holds(p *packet.Packet) bool { return c.Failing(p) == nil }

// Failing returns the first of the condition's terms that does not hold for a
// packet, or nil.
func (c *Condition) Failing(p *packet.Packet) *Term {
	for i := range c.Terms {
		if t := &c.Terms[i]; !t.Holds(p) {
			return t
		}
	}
	return nil
}

// String returns the condition as it is written: "from phones and dscp ef".
func (c *Condition) String() string {
	words := make([]string, len(c.Terms))
	for i := range c.Terms {
		words[i] = c.Terms[i].String()
	}
	return strings.Join(words, " and ")
}

// UsesHere reports whether the class depends on the node at which it is used.
func (c *Class) UsesHere() bool {
	for _, list := range [][]Condition{c.Match, c.Except} {
		for i := range list {
			for j := range list[i].Terms {
				if a := list[i].Terms[j].Addresses; a != nil && a.Here {
					return true
				}
			}
		}
	}
	return false
}

// At returns the class as it is at a node with the given subnets.
func (c *Class) At(subnets []netip.Prefix) *Class {
	resolve := func(list []Condition) []Condition {
		out := make([]Condition, len(list))
		for i := range list {
			out[i] = list[i]
			out[i].Terms = append([]Term(nil), list[i].Terms...)
			for j := range out[i].Terms {
				if a := out[i].Terms[j].Addresses; a != nil && a.Here {
					out[i].Terms[j].Addresses = a.At(subnets)
				}
			}
		}
		return out
	}
	return &Class{Source: c.Source, Name: c.Name, Match: resolve(c.Match), Except: resolve(c.Except)}
}

// Holds reports whether a class takes the packet: one of its conditions holds
// and none of its exceptions.
func (c *Class) Holds(p *packet.Packet) bool {
	return Any(c.Match, p) && !Any(c.Except, p)
}

// Any reports whether one of the conditions holds for a packet.
func Any(conditions []Condition, p *packet.Packet) bool {
	for i := range conditions {
		if conditions[i].Holds(p) {
			return true
		}
	}
	return false
}

// All returns the condition that holds when all terms do. It sorts them.
func All(terms ...Term) Condition {
	slices.SortStableFunc(terms, func(a, b Term) int { return int(a.Key) - int(b.Key) })
	return Condition{Terms: terms}
}

// In returns the term that a packet's number of the key is in one of the ranges.
func (k Key) In(ranges ...Range) Term { return Term{Key: k, Ranges: ranges} }

// Within returns the term that a packet's address of the key is in one of the
// prefixes.
func (k Key) Within(prefixes ...netip.Prefix) Term {
	a := &Addresses{Prefixes: prefixes}
	a.Index()
	return Term{Key: k, Addresses: a}
}
