package schedule

import (
	"math"
	"math/bits"
)

// A set holds the siblings that compete in one round, each with a start and a
// finish on a common time line. Of those whose start has come, the one with the
// least finish goes next (smallest eligible finish first); ties go to the one
// that stands first in the policy.
//
// Two heaps: waiting by start, ready by finish. Few members are simply looked
// through, which is quicker than to keep heaps of them.
type set struct {
	members        []member
	few            bool
	in             uint32 // of few: a bit for each that is in
	waiting, ready heap
}

type member struct{ start, finish uint64 }

const fewMembers = 16

func newSet(n int) set {
	s := set{members: make([]member, n), few: n <= fewMembers}
	if !s.few {
		s.waiting, s.ready = newHeap(n), newHeap(n)
	}
	return s
}

// grow makes room for one more member.
func (s *set) grow() {
	s.members = append(s.members, member{})
	s.waiting.at = append(s.waiting.at, 0)
	s.ready.at = append(s.ready.at, 0)
}

func (s *set) empty() bool {
	return s.in == 0 && len(s.waiting.entries)+len(s.ready.entries) == 0
}

// put adds member i, or moves it to a new start and finish.
func (s *set) put(i int32, start, finish uint64, line uint64) {
	s.members[i] = member{start, finish}
	switch {
	case s.few:
		s.in |= 1 << i
	case start <= line:
		s.waiting.remove(i)
		s.ready.put(i, finish)
	default:
		s.ready.remove(i)
		s.waiting.put(i, start)
	}
}

// remove takes member i out, if it is in.
func (s *set) remove(i int32) {
	if s.few {
		s.in &^= 1 << i
		return
	}
	s.waiting.remove(i)
	s.ready.remove(i)
}

// next returns the member to serve when the time line stands at line, or -1.
func (s *set) next(line uint64) int32 {
	if s.few {
		best, finish := int32(-1), uint64(math.MaxUint64)
		for in := s.in; in != 0; in &= in - 1 {
			i := bits.TrailingZeros32(in)
			if m := &s.members[i]; m.finish < finish && m.start <= line {
				best, finish = int32(i), m.finish
			}
		}
		return best
	}
	for len(s.waiting.entries) > 0 && s.waiting.entries[0].key <= line {
		i := s.waiting.entries[0].member
		s.waiting.remove(i)
		s.ready.put(i, s.members[i].finish)
	}
	if len(s.ready.entries) == 0 {
		return -1
	}
	return s.ready.entries[0].member
}

// leastStart returns the least start of the waiting members; there must be one.
func (s *set) leastStart() uint64 {
	if !s.few {
		return s.waiting.entries[0].key
	}
	least := uint64(math.MaxUint64)
	for in := s.in; in != 0; in &= in - 1 {
		least = min(least, s.members[bits.TrailingZeros32(in)].start)
	}
	return least
}

// shift moves the time line back by base, as far as it goes.
func (s *set) shift(base uint64) {
	for i := range s.members {
		m := &s.members[i]
		m.start -= min(m.start, base)
		m.finish -= min(m.finish, base)
	}
	for i := range s.waiting.entries {
		e := &s.waiting.entries[i]
		e.key -= min(e.key, base)
	}
	for i := range s.ready.entries {
		e := &s.ready.entries[i]
		e.key -= min(e.key, base)
	}
}
