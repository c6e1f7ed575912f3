package tcp

import "slices"

// ranges is a set of numbers as disjoint ranges in ascending order.
type ranges []Range

// find returns the index of the first range that ends at v or after it.
func (r ranges) find(v uint64) int {
	lo, hi := 0, len(r)
	for lo < hi {
		if m := (lo + hi) / 2; r[m].To < v {
			lo = m + 1
		} else {
			hi = m
		}
	}
	return lo
}

// add adds a range and returns the one that it is part of now.
func (r *ranges) add(n Range) Range {
	i := r.find(n.From)
	j := i
	for j < len(*r) && (*r)[j].From <= n.To {
		n.From, n.To = min(n.From, (*r)[j].From), max(n.To, (*r)[j].To)
		j++
	}
	if i == j {
		*r = slices.Insert(*r, i, n)
	} else {
		(*r)[i] = n
		*r = slices.Delete(*r, i+1, j)
	}
	return n
}

// gaps calls f with each part of n that is not in the set.
func (r ranges) gaps(n Range, f func(Range)) {
	for i := r.find(n.From); i < len(r) && r[i].From < n.To; i++ {
		if r[i].From > n.From {
			f(Range{n.From, r[i].From})
		}
		n.From = max(n.From, r[i].To)
	}
	if n.From < n.To {
		f(n)
	}
}

// below removes what is below v.
func (r *ranges) below(v uint64) {
	i := 0
	for i < len(*r) && (*r)[i].To <= v {
		i++
	}
	*r = slices.Delete(*r, 0, i)
	if len(*r) > 0 && (*r)[0].From < v {
		(*r)[0].From = v
	}
}

// has reports whether all of n is in the set.
func (r ranges) has(n Range) bool {
	i := r.find(n.From + 1)
	return i < len(r) && r[i].From <= n.From && r[i].To >= n.To
}
