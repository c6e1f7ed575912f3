package measure

import (
	"encoding/binary"
	"slices"
	"strings"
	"sync"

	"imbrel.example/imbrel/core/policy"
)

// A Set is a set of subjects, the classes that a packet is counted in: those of the
// file, and the nested entries that an expectation names by path. Equal sets are one
// number. The zero Set is empty: its packets are in the rest.
type Set int32

// Sets holds sets of subjects.
type Sets struct {
	lock   sync.RWMutex // of list, index and unions
	number map[string]int32
	named  int32 // the first so many are classes of the file
	list   [][]int32
	index  map[string]Set
	unions map[[2]Set]Set
}

// NewSets returns the sets of the subjects of a rehearsal.
func NewSets(f *policy.File, h *policy.Rehearsal) *Sets {
	s := &Sets{number: make(map[string]int32), index: make(map[string]Set), unions: make(map[[2]Set]Set)}
	for i := range f.Classes {
		s.number[f.Classes[i].Name] = int32(i)
	}
	s.named = int32(len(f.Classes))
	for i := range h.Expect {
		for _, name := range h.Expect[i].Subjects() {
			if _, known := s.number[name]; !known && strings.Contains(name, "/") {
				s.number[name] = int32(len(s.number))
			}
		}
	}
	s.intern(nil)
	return s
}

func (s *Sets) intern(members []int32) Set {
	var key []byte
	for _, m := range members {
		key = binary.LittleEndian.AppendUint32(key, uint32(m))
	}
	if known, ok := s.index[string(key)]; ok {
		return known
	}
	n := Set(len(s.list))
	s.list = append(s.list, members)
	s.index[string(key)] = n
	return n
}

// Of returns the set of an entry's name with those around it: "sales/voice" is in the
// classes sales and voice, and in itself where an expectation names it.
func (s *Sets) Of(path string) Set {
	var members []int32
	parts := strings.Split(path, "/")
	for i, p := range parts {
		for _, name := range []string{p, strings.Join(parts[:i+1], "/")} {
			if n, ok := s.number[name]; ok && !slices.Contains(members, n) {
				members = append(members, n)
			}
		}
	}
	slices.Sort(members)
	s.lock.Lock()
	defer s.lock.Unlock()
	return s.intern(members)
}

// Union returns the set of what is in one of two sets.
func (s *Sets) Union(a, b Set) Set {
	if a == b || b == 0 {
		return a
	}
	key := [2]Set{a, b}
	s.lock.RLock()
	known, ok := s.unions[key]
	s.lock.RUnlock()
	if ok {
		return known
	}
	s.lock.Lock()
	defer s.lock.Unlock()
	members := append(slices.Clone(s.list[a]), s.list[b]...)
	slices.Sort(members)
	u := s.intern(slices.Compact(members))
	s.unions[key] = u
	return u
}

// compare orders sets by what is in them.
func (s *Sets) compare(a, b Set) int { return slices.Compare(s.list[a], s.list[b]) }

// Has reports whether a set has a subject, by its name; "rest" is in those that have no
// class of the file.
func (s *Sets) Has(a Set, name string) bool {
	if name == policy.Rest {
		return !s.Named(a)
	}
	n, ok := s.number[name]
	return ok && slices.Contains(s.list[a], n)
}

// Named reports whether a set has a class of the file.
func (s *Sets) Named(a Set) bool {
	members := s.list[a]
	return len(members) > 0 && members[0] < s.named
}
