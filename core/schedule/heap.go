package schedule

// A heap holds members, which are numbers, by a key each; the least comes
// first. Four children to a parent, and the keys beside one another: few cache
// lines to touch.
type heap struct {
	entries []entry
	at      []int32 // of each member: its position, from 1; 0: it is not in
}

type entry struct {
	key    uint64
	member int32
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
	if at > 0 && e.key < h.entries[(at-1)/4].key {
		h.up(at, e)
	} else {
		h.down(at, e)
	}
}

func (h *heap) up(at int, e entry) {
	for at > 0 {
		parent := (at - 1) / 4
		if h.entries[parent].key <= e.key {
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
				if h.entries[i].key < h.entries[best].key {
					best = i
				}
			}
		}
		if best >= len(h.entries) || h.entries[best].key >= e.key {
			break
		}
		h.set(at, h.entries[best])
		at = best
	}
	h.set(at, e)
}

// minimum returns which of four has the least key, without branches, of which
// the processor would guess every other one wrong.
func minimum(c *[4]entry) int {
	one, two := 0, 2
	if c[1].key < c[0].key {
		one = 1
	}
	if c[3].key < c[2].key {
		two = 3
	}
	if min(c[2].key, c[3].key) < min(c[0].key, c[1].key) {
		one = two
	}
	return one
}

func (h *heap) set(at int, e entry) {
	h.entries[at] = e
	h.at[e.member] = int32(at + 1)
}
