package schedule

import "math"

// A set holds the siblings that compete in one round, each with a start and a
// finish on a common time line. Of those whose start has come, the one with the
// least finish goes next (smallest eligible finish first); ties go to the one
// that stands first in the policy.
//
// Two heaps of member numbers: waiting by start, ready by finish. Few members
// are simply looked through, which is quicker than to keep heaps of them.
type set struct {
	members []member
	few     bool
	in      int // of few: how many are in
	waiting []int32
	ready   []int32
}

type member struct {
	start, finish uint64
	at            int32 // position in its heap, from 1; 0: in none
	isReady       bool
}

const fewMembers = 12

func newSet(n int) set {
	if n <= fewMembers {
		return set{members: make([]member, n), few: true}
	}
	return set{members: make([]member, n), waiting: make([]int32, 0, n), ready: make([]int32, 0, n)}
}

func (s *set) empty() bool { return s.in+len(s.waiting)+len(s.ready) == 0 }

// put adds member i, or moves it to a new start and finish.
func (s *set) put(i int32, start, finish uint64, line uint64) {
	m := &s.members[i]
	if s.few {
		m.start, m.finish = start, finish
		if m.at == 0 {
			m.at = 1
			s.in++
		}
		return
	}
	if m.at > 0 && m.isReady == (start <= line) {
		m.start, m.finish = start, finish
		if m.isReady {
			s.fix(s.ready, m.at-1, true)
		} else {
			s.fix(s.waiting, m.at-1, false)
		}
		return
	}
	s.remove(i)
	m.start, m.finish, m.isReady = start, finish, start <= line
	s.push(i)
}

func (s *set) push(i int32) {
	h := &s.waiting
	m := &s.members[i]
	if m.isReady {
		h = &s.ready
	}
	*h = append(*h, i)
	m.at = int32(len(*h))
	s.up(*h, m.at-1, m.isReady)
}

// remove takes member i out, if it is in.
func (s *set) remove(i int32) {
	m := &s.members[i]
	if m.at == 0 {
		return
	}
	if s.few {
		m.at = 0
		s.in--
		return
	}
	h := &s.waiting
	if m.isReady {
		h = &s.ready
	}
	at, last := m.at-1, int32(len(*h)-1)
	m.at = 0
	moved := (*h)[last]
	*h = (*h)[:last]
	if at != last {
		(*h)[at] = moved
		s.members[moved].at = at + 1
		s.fix(*h, at, m.isReady)
	}
}

// next returns the member to serve when the time line stands at line, or -1.
func (s *set) next(line uint64) int32 {
	if s.few {
		best, finish := int32(-1), uint64(math.MaxUint64)
		for i := range s.members {
			if m := &s.members[i]; m.at > 0 && m.start <= line && m.finish < finish {
				best, finish = int32(i), m.finish
			}
		}
		return best
	}
	for len(s.waiting) > 0 && s.members[s.waiting[0]].start <= line {
		i := s.waiting[0]
		s.remove(i)
		s.members[i].isReady = true
		s.push(i)
	}
	if len(s.ready) == 0 {
		return -1
	}
	return s.ready[0]
}

// leastStart returns the least start of the waiting members; there must be one.
func (s *set) leastStart() uint64 {
	if !s.few {
		return s.members[s.waiting[0]].start
	}
	least := uint64(math.MaxUint64)
	for i := range s.members {
		if m := &s.members[i]; m.at > 0 {
			least = min(least, m.start)
		}
	}
	return least
}

func (s *set) before(a, b int32, byFinish bool) bool {
	x, y := &s.members[a], &s.members[b]
	if byFinish {
		return x.finish < y.finish || x.finish == y.finish && a < b
	}
	return x.start < y.start || x.start == y.start && a < b
}

func (s *set) fix(h []int32, at int32, byFinish bool) {
	if !s.up(h, at, byFinish) {
		s.down(h, at, byFinish)
	}
}

func (s *set) up(h []int32, at int32, byFinish bool) bool {
	moved := false
	for at > 0 {
		parent := (at - 1) / 2
		if !s.before(h[at], h[parent], byFinish) {
			break
		}
		s.swap(h, at, parent)
		at, moved = parent, true
	}
	return moved
}

func (s *set) down(h []int32, at int32, byFinish bool) {
	for {
		child := 2*at + 1
		if child >= int32(len(h)) {
			return
		}
		if child+1 < int32(len(h)) && s.before(h[child+1], h[child], byFinish) {
			child++
		}
		if !s.before(h[child], h[at], byFinish) {
			return
		}
		s.swap(h, at, child)
		at = child
	}
}

func (s *set) swap(h []int32, a, b int32) {
	h[a], h[b] = h[b], h[a]
	s.members[h[a]].at, s.members[h[b]].at = a+1, b+1
}
