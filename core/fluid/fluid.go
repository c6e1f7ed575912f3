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

	"imbrel/core/unit"
)

// A Node is an entry of the tree. Rates are in bit/s.
type Node struct {
	Priority  int       // 0: none; 1 is the most urgent
	Guarantee unit.Rate // of an entry without priority
	Ceiling   unit.Rate // 0: none
	Weight    int64     // of what is left over; at least 1
	Children  []*Node   // an entry without children is a leaf

	Demand unit.Rate // what a leaf wants
	Gets   unit.Rate // the result
}

// Greedy is a demand that no interface can satisfy.
const Greedy = 2 * unit.MaxRate

// Allocate divides capacity among the tree's leaves and sets Gets in every
// node. Shares are rounded down to whole bit/s, so up to a few bit/s a level
// stay with nobody.
func Allocate(root *Node, capacity unit.Rate) {
	root.Gets = min(capacity, root.Wants())
	root.divide()
}

// Wants returns what a node and all below it can use.
func (n *Node) Wants() unit.Rate {
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

func (n *Node) divide() {
	if len(n.Children) == 0 {
		return
	}
	left := n.Gets
	sharing := make([]*share, 0, len(n.Children))
	urgent := make([]*Node, 0)
	for _, c := range n.Children {
		c.Gets = 0
		if c.Priority > 0 {
			urgent = append(urgent, c)
			continue
		}
		sharing = append(sharing, &share{node: c, wants: c.Wants()})
	}
	slices.SortStableFunc(urgent, func(a, b *Node) int { return a.Priority - b.Priority })
	for len(urgent) > 0 {
		same := 1
		for same < len(urgent) && urgent[same].Priority == urgent[0].Priority {
			same++
		}
		level := make([]*share, 0, same)
		for _, c := range urgent[:same] {
			level = append(level, &share{node: c, wants: c.Wants(), weight: 1})
		}
		left = fill(level, left)
		urgent = urgent[same:]
	}
	for _, s := range sharing { // each its guarantee, or a like part of it
		s.weight, s.limit = int64(s.node.Guarantee), min(s.wants, s.node.Guarantee)
	}
	left = fillTo(sharing, left)
	for _, s := range sharing {
		s.weight, s.limit = max(s.node.Weight, 1), s.wants-s.node.Gets
	}
	fillTo(sharing, left)
	for _, c := range n.Children {
		c.divide()
	}
}

// A share is a node's part in one round of filling.
type share struct {
	node   *Node
	wants  unit.Rate
	weight int64
	limit  unit.Rate // how much more it takes in this round
}

func fill(shares []*share, left unit.Rate) unit.Rate {
	for _, s := range shares {
		s.limit = s.wants
	}
	return fillTo(shares, left)
}

// fillTo gives every share up to its limit, in proportion to the weights, and
// returns what is left. Those who need least for their weight are satisfied
// first, so that each round knows what the others leave.
func fillTo(shares []*share, left unit.Rate) unit.Rate {
	order := make([]*share, 0, len(shares))
	var weights uint64
	for _, s := range shares {
		if s.weight > 0 && s.limit > 0 {
			order = append(order, s)
			weights += uint64(s.weight)
		}
	}
	slices.SortStableFunc(order, func(a, b *share) int { // a.limit/a.weight < b.limit/b.weight
		ah, al := bits.Mul64(uint64(a.limit), uint64(b.weight))
		bh, bl := bits.Mul64(uint64(b.limit), uint64(a.weight))
		switch {
		case ah < bh || ah == bh && al < bl:
			return -1
		case ah == bh && al == bl:
			return 0
		}
		return 1
	})
	for _, s := range order {
		hi, lo := bits.Mul64(uint64(left), uint64(s.weight))
		q, _ := bits.Div64(hi, lo, weights)
		give := min(s.limit, unit.Rate(q))
		s.node.Gets += give
		left -= give
		weights -= uint64(s.weight)
	}
	return left
}
