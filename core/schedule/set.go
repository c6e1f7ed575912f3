package schedule

import (
	"math"
	"math/bits"
)

// A set holds the siblings that compete in one round, each with a start and a
// finish on a common time line. Of those whose start has come, the one with the
// least finish goes next (smallest eligible finish first); ties go to the one
// that is first in the policy.
//
// Two heaps: waiting by start, ready by finish. Few members are simply looked
// through, which is quicker than to keep heaps of them.
type set struct {
	members []member
	in      uint32 // of few: a bit for each that is in
	soonest uint64 // of few: none starts before
	heaps   *heaps // nil: there are few
}

type heaps struct{ waiting, ready heap }

type member struct{ start, finish uint64 }

// out is a member that is not in the set: it never starts.
var out = member{math.MaxUint64, math.MaxUint64}

const fewMembers = 12

func newSet(n int) set {
	s := set{members: make([]member, n)}
	for i := range s.members {
		s.members[i] = out
	}
	if n > fewMembers {
		s.heaps = &heaps{newHeap(n), newHeap(n)}
	}
	return s
}

// grow makes room for one more member of a set that is to have heaps, however few there are.
func (s *set) grow() {
	if s.heaps == nil {
		s.heaps = &heaps{}
	}
	s.members = append(s.members, out)
	s.heaps.waiting.at = append(s.heaps.waiting.at, 0)
	s.heaps.ready.at = append(s.heaps.ready.at, 0)
}

// put adds member i, or moves it to a new start and finish.
func (s *set) put(i int32, start, finish uint64, line uint64) {
	switch h := s.heaps; {
	case h == nil:
		s.soonest = min(s.soonest, start)
		s.in |= 1 << i
	case start <= line:
		h.waiting.remove(i)
		h.ready.put(i, finish)
	default:
		h.ready.remove(i)
		h.waiting.put(i, start)
	}
	s.members[i] = member{start, finish}
}

// remove takes member i out, if it is in.
func (s *set) remove(i int32) {
	s.members[i] = out
	if h := s.heaps; h != nil {
		h.waiting.remove(i)
		h.ready.remove(i)
	}
	s.in &^= 1 << i
}

// next returns the member to serve when the time line is at line, or -1.
func (s *set) next(line uint64) int32 {
	h := s.heaps
	if h == nil {
		if line < s.soonest {
			return -1
		}
		return s.look(line)
	}
	for len(h.waiting.entries) > 0 && h.waiting.entries[0].key <= line {
		i := h.waiting.entries[0].member
		h.waiting.remove(i)
		h.ready.put(i, s.members[i].finish)
	}
	if len(h.ready.entries) == 0 {
		return -1
	}
	return h.ready.entries[0].member
}

// look returns the member of few to serve.
func (s *set) look(line uint64) int32 {
	best, finish := -1, uint64(math.MaxUint64)
	for in := s.in; in != 0; in &= in - 1 {
		i := bits.TrailingZeros32(in)
		if m := &s.members[i]; m.start <= line && m.finish < finish {
			best, finish = i, m.finish
		}
	}
	if best < 0 {
		s.soonest = s.minStart()
	}
	return int32(best)
}

// minStart returns the least start of the members that wait.
func (s *set) minStart() uint64 {
	least := uint64(math.MaxUint64)
	if h := s.heaps; h == nil {
		for in := s.in; in != 0; in &= in - 1 {
			least = min(least, s.members[bits.TrailingZeros32(in)].start)
		}
	} else if len(h.waiting.entries) > 0 {
		least = h.waiting.entries[0].key
	}
	return least
}

// shift moves the time line back by base, as far as it goes.
func (s *set) shift(base uint64) {
	back := func(at *uint64) { *at -= min(*at, base) }
	back(&s.soonest)
	for i := range s.members {
		if m := &s.members[i]; *m != out {
			back(&m.start)
			back(&m.finish)
		}
	}
	if h := s.heaps; h != nil {
		h.waiting.shift(base)
		h.ready.shift(base)
	}
}
