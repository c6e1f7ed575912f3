// Package fluid computes the ideal allocation of a rate among those who want
// it: what each gets when traffic is a fluid and not packets (generalised
// processor sharing with priorities, guarantees and ceilings, at any depth).
//
// At every level: first the priority entries, most urgent first, up to their
// ceiling; then to each other entry its guarantee; then what is left in
// proportion to the weights, never beyond a ceiling. What one does not want
// goes to those who still want it.
package fluid

import (
	"math/bits"
	"slices"

	"imbrel.example/imbrel/core/unit"
)

// An Entry is one entry of the tree. Rates are in bit/s.
type Entry struct {
	Priority  int       // 0: none; 1 is the most urgent
	Guarantee unit.Rate // of an entry without priority
	Ceiling   unit.Rate // 0: none
	Weight    int64     // of what is left over; at least 1
	Children  []*Entry  // an entry without children is a leaf

	Demand unit.Rate // what a leaf wants
	Gets   unit.Rate // the result
}

// Greedy is a demand that no interface can satisfy.
const Greedy = 2 * unit.MaxRate

// Allocate divides capacity among the tree's leaves and sets Gets in every
// entry. Rates are rounded down to whole bit/s, so up to a few bit/s a level
// stay with nobody.
func Allocate(root *Entry, capacity unit.Rate) {
	root.Gets = min(capacity, root.Wants())
	root.divide()
}

// Wants returns what an entry and all below it can use.
func (n *Entry) Wants() unit.Rate {
	d := n.Demand
	if len(n.Children) > 0 {
		d = 0
		for _, c := range n.Children {
			d = min(d+c.Wants(), Greedy)
		}
	}
	if n.Ceiling > 0 {
		d = min(d, n.Ceiling)
	}
	return d
}

func (n *Entry) divide() {
	if len(n.Children) == 0 {
		return
	}
	left := n.Gets
	others := make([]*Entry, 0, len(n.Children))
	urgent := make([]*Entry, 0)
	for _, c := range n.Children {
		c.Gets = 0
		if c.Priority > 0 {
			urgent = append(urgent, c)
		} else {
			others = append(others, c)
		}
	}
	slices.SortStableFunc(urgent, func(a, b *Entry) int { return a.Priority - b.Priority })
	for len(urgent) > 0 {
		same := 1
		for same < len(urgent) && urgent[same].Priority == urgent[0].Priority {
			same++
		}
		left = pour(urgent[:same], left, func(c *Entry) (int64, unit.Rate) { return 1, c.Wants() })
		urgent = urgent[same:]
	}
	// Each its guarantee, or the same part of each guarantee; then what is left.
	left = pour(others, left, func(c *Entry) (int64, unit.Rate) { return int64(c.Guarantee), min(c.Wants(), c.Guarantee) })
	pour(others, left, func(c *Entry) (int64, unit.Rate) { return max(c.Weight, 1), c.Wants() - c.Gets })
	for _, c := range n.Children {
		c.divide()
	}
}

// pour gives each entry more, by the weight and up to the limit that part says,
// and returns what is left.
func pour(entries []*Entry, left unit.Rate, part func(*Entry) (weight int64, limit unit.Rate)) unit.Rate {
	portions := make([]Portion, len(entries))
	for i, c := range entries {
		portions[i].Weight, portions[i].Limit = part(c)
	}
	left = Divide(portions, left)
	for i, c := range entries {
		c.Gets += portions[i].Gets
	}
	return left
}

// A Portion is one part of an amount that is divided.
type Portion struct {
	Weight int64
	Limit  unit.Rate
	Gets   unit.Rate // the result
}

// Divide gives every portion up to its limit, in proportion to the weights, and
// returns what is left. Those that need least for their weight are satisfied
// first, so that each round knows what the others leave.
func Divide(portions []Portion, left unit.Rate) unit.Rate {
	order := make([]*Portion, 0, len(portions))
	var weights uint64
	for i := range portions {
		p := &portions[i]
		p.Gets = 0
		if p.Weight > 0 && p.Limit > 0 {
			order = append(order, p)
			weights += uint64(p.Weight)
		}
	}
	slices.SortStableFunc(order, func(a, b *Portion) int { // a.Limit/a.Weight < b.Limit/b.Weight
		ah, al := bits.Mul64(uint64(a.Limit), uint64(b.Weight))
		bh, bl := bits.Mul64(uint64(b.Limit), uint64(a.Weight))
		switch {
		case ah < bh || ah == bh && al < bl:
			return -1
		case ah == bh && al == bl:
			return 0
		}
		return 1
	})
	for _, p := range order {
		hi, lo := bits.Mul64(uint64(left), uint64(p.Weight))
		q, _ := bits.Div64(hi, lo, weights)
		p.Gets = min(p.Limit, unit.Rate(q))
		left -= p.Gets
		weights -= uint64(p.Weight)
	}
	return left
}
