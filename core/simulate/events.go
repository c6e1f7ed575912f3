package simulate

import (
	"math/bits"
	"time"
)

// An event is something due at a time. Events of one time happen in the order
// in which they were planned.
type event struct {
	at     time.Duration
	kind   kind
	port   *port
	flight *flight
	source *source
	waker  waker
}

type kind uint8

const (
	emit    kind = iota // a source sends its next packet
	arrive              // a packet reaches an interface from the link
	sent                // an interface has sent a packet
	askOut              // an interface asks its outgoing data path again
	askIn               // the same, incoming
	carried             // the carrier has sent a packet
	wake                // a timer rings
)

// A queue of events: a heap of four children a node, which keeps the least
// first. The events themselves stay where they are; what moves has no pointers.
type events struct {
	heap  []due
	order uint64
	slots []event
	spare []uint32 // slots without an event
}

// due is when an event is, and in which slot it is.
type due struct {
	at, order uint64
	slot      uint32
}

// before returns 1 if d comes before o, else 0, without a branch: the processor
// would guess every other one wrong.
func (d *due) before(o *due) uint64 {
	_, less := bits.Sub64(d.order, o.order, 0)
	_, less = bits.Sub64(d.at, o.at, less)
	return less
}

func (q *events) plan(e event) {
	var slot uint32
	if n := len(q.spare); n > 0 {
		slot = q.spare[n-1]
		q.spare = q.spare[:n-1]
	} else {
		slot = uint32(len(q.slots))
		q.slots = append(q.slots, event{})
	}
	q.slots[slot] = e
	d := due{uint64(e.at), q.order, slot}
	q.order++
	q.heap = append(q.heap, d)
	i := len(q.heap) - 1
	for i > 0 {
		p := (i - 1) / 4
		if d.before(&q.heap[p]) == 0 {
			break
		}
		q.heap[i] = q.heap[p]
		i = p
	}
	q.heap[i] = d
}

func (q *events) next() (event, bool) {
	if len(q.heap) == 0 {
		return event{}, false
	}
	slot := q.heap[0].slot
	first := q.slots[slot]
	q.slots[slot] = event{}
	q.spare = append(q.spare, slot)
	n := len(q.heap) - 1
	last := q.heap[n]
	q.heap = q.heap[:n]
	if n > 0 {
		q.down(last)
	}
	return first, true
}

// down puts d in the place of the first, or further down.
func (q *events) down(d due) {
	i := 0
	for {
		c := 4*i + 1
		if c+4 <= len(q.heap) {
			four := (*[4]due)(q.heap[c:])
			a, b := four[1].before(&four[0]), 2+four[3].before(&four[2])
			if four[b&3].before(&four[a&3]) == 1 {
				a = b
			}
			c += int(a)
		} else {
			for k := c + 1; k < len(q.heap); k++ {
				if q.heap[k].before(&q.heap[c]) == 1 {
					c = k
				}
			}
		}
		if c >= len(q.heap) || q.heap[c].before(&d) == 0 {
			break
		}
		q.heap[i] = q.heap[c]
		i = c
	}
	q.heap[i] = d
}
