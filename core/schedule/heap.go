package schedule

import "math/bits"

// A heap holds members, which are numbers, by a key each; the least comes
// first, and of equal keys that of the least number. Four children to a parent, and the keys beside one another: few cache
// lines to touch.
type heap struct {
	entries []entry
	at      []int32 // of each member: its position, from 1; 0: it is not in
}

type entry struct {
	key    uint64
	member int32
}

// before reports whether an entry comes before another.
func (e entry) before(o entry) bool {
	return e.key < o.key || e.key == o.key && e.member < o.member
}

func newHeap(members int) heap {
	return heap{entries: make([]entry, 0, members), at: make([]int32, members)}
}

// put adds a member, or changes its key.
func (h *heap) put(member int32, key uint64) {
	e := entry{key, member}
	at := int(h.at[member]) - 1
	if at < 0 {
		h.entries = append(h.entries, e)
		h.up(len(h.entries)-1, e)
		return
	}
	h.place(at, e)
}

// remove takes a member out, if it is in.
func (h *heap) remove(member int32) {
	at := int(h.at[member]) - 1
	if at < 0 {
		return
	}
	h.at[member] = 0
	end := len(h.entries) - 1
	last := h.entries[end]
	h.entries = h.entries[:end]
	if at < end {
		h.place(at, last)
	}
}

// place puts e where at is, or further up or down.
func (h *heap) place(at int, e entry) {
	if at > 0 && e.before(h.entries[(at-1)/4]) {
		h.up(at, e)
	} else {
		h.down(at, e)
	}
}

func (h *heap) up(at int, e entry) {
	for at > 0 {
		parent := (at - 1) / 4
		if !e.before(h.entries[parent]) {
			break
		}
		h.set(at, h.entries[parent])
		at = parent
	}
	h.set(at, e)
}

func (h *heap) down(at int, e entry) {
	for {
		best := 4*at + 1
		if best+4 <= len(h.entries) {
			best += minimum((*[4]entry)(h.entries[best:]))
		} else {
			for i := best + 1; i < len(h.entries); i++ {
				if h.entries[i].before(h.entries[best]) {
					best = i
				}
			}
		}
		if best >= len(h.entries) || !h.entries[best].before(e) {
			break
		}
		h.set(at, h.entries[best])
		at = best
	}
	h.set(at, e)
}

// minimum returns which of four comes first, without branches, of which the processor would guess every other one wrong.
func minimum(c *[4]entry) int {
	one, two := first(c, 0, 1), first(c, 2, 3)
	return first(c, one, two)
}

// first returns which of the entries i and j comes first, by the borrow of their difference.
func first(c *[4]entry, i, j int) int {
	a, b := &c[i&3], &c[j&3]
	_, less := bits.Sub64(uint64(b.member), uint64(a.member), 0)
	_, less = bits.Sub64(b.key, a.key, less)
	return i + (j-i)*int(less)
}

// shift moves all keys back by base, as far as they go. Those that end at 0 may change places.
func (h *heap) shift(base uint64) {
	for i := range h.entries {
		h.entries[i].key -= min(h.entries[i].key, base)
	}
	for at := len(h.entries) - 1; at >= 0; at-- {
		h.down(at, h.entries[at])
	}
}

func (h *heap) set(at int, e entry) {
	h.entries[at] = e
	h.at[e.member] = int32(at + 1)
}
