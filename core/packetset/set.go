package packetset

import (
	"slices"

	"imbrel.example/imbrel/core/policy"
)

// A set is numbers, as ranges in rising order that do not touch; nil is all numbers there are.
type set []policy.Range

// setOf returns the set of ranges in any order.
func setOf(ranges ...policy.Range) set {
	sorted := slices.SortedFunc(slices.Values(ranges), func(a, b policy.Range) int { return int(int64(a.First) - int64(b.First)) })
	out := set{}
	for _, r := range sorted {
		if n := len(out); n > 0 && uint64(r.First) <= uint64(out[n-1].Last)+1 {
			out[n-1].Last = max(out[n-1].Last, r.Last)
			continue
		}
		out = append(out, r)
	}
	return out
}

// and returns what is in both sets.
func (s set) and(o set) set {
	switch {
	case s == nil:
		return o
	case o == nil:
		return s
	}
	out := set{}
	for i, j := 0, 0; i < len(s) && j < len(o); {
		first, last := max(s[i].First, o[j].First), min(s[i].Last, o[j].Last)
		if first <= last {
			out = append(out, policy.Range{First: first, Last: last})
		}
		if s[i].Last < o[j].Last {
			i++
		} else {
			j++
		}
	}
	return out
}

// meets reports whether the sets have a number in common.
func (s set) meets(o set) bool {
	switch {
	case s == nil:
		return o == nil || len(o) > 0
	case o == nil:
		return len(s) > 0
	}
	for i, j := 0, 0; i < len(s) && j < len(o); {
		switch {
		case s[i].Last < o[j].First:
			i++
		case o[j].Last < s[i].First:
			j++
		default:
			return true
		}
	}
	return false
}

// without returns what of the set, of numbers up to most, is not in the other.
func (s set) without(o set, most uint32) set {
	if o == nil {
		return set{}
	}
	if s == nil {
		s = set{{First: 0, Last: most}}
	}
	out := set{}
	j := 0
	for _, r := range s {
		for j < len(o) && o[j].Last < r.First {
			j++
		}
		first, open := r.First, true
		for k := j; k < len(o) && o[k].First <= r.Last; k++ {
			if first < o[k].First {
				out = append(out, policy.Range{First: first, Last: o[k].First - 1})
			}
			if o[k].Last >= r.Last {
				open = false
				break
			}
			first = o[k].Last + 1
		}
		if open && first <= r.Last {
			out = append(out, policy.Range{First: first, Last: r.Last})
		}
	}
	return out
}

// within reports whether all of the set, of numbers up to most, is in the other.
func (s set) within(o set, most uint32) bool {
	if o == nil {
		return true
	}
	if s == nil {
		s = set{{First: 0, Last: most}}
	}
	j := 0
	for _, r := range s {
		for j < len(o) && o[j].Last < r.First {
			j++
		}
		if j == len(o) || r.First < o[j].First || r.Last > o[j].Last {
			return false
		}
	}
	return true
}

func (s set) has(n uint32) bool {
	return s == nil || slices.ContainsFunc(s, func(r policy.Range) bool { return r.First <= n && n <= r.Last })
}
