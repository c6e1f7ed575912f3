package simulate

import (
	"cmp"
	"fmt"
	"math/bits"
	"math/rand/v2"
	"slices"
	"testing"
	"time"
)

// Events come out in the order of their times, those of one time by their kinds and places, and those of one kind and place in the order in
// which they were planned: the same as from a sorted list, however planning and taking alternate.
func TestEventsComeInOrder(t *testing.T) {
	r := rand.New(rand.NewPCG(80, 80))
	for _, spread := range []int64{1, 10, 1_000_000} { // many at one time, or few
		var q events
		var list []event
		var count uint32
		now := time.Duration(0)
		for step := range 50_000 {
			if len(list) > 0 && r.IntN(2) == 0 {
				e, _, ok := q.next()
				if want := list[0]; !ok || e != want {
					t.Fatalf("spread %d, step %d: %+v comes; %+v is next", spread, step, e, want)
				}
				now, list = e.at, list[1:]
				continue
			}
			e := happens(now+time.Duration(r.Int64N(spread)), sent+kind(r.IntN(6)), int32(r.IntN(3)), &flight{number: int64(step)})
			q.plan(e)
			i, _ := slices.BinarySearchFunc(list, e, func(a, b event) int {
				return cmp.Or(cmp.Compare(a.at, b.at), cmp.Compare(a.kind(), b.kind()), cmp.Compare(a.place(), b.place()), -1)
			})
			e.order |= uint64(count)
			count++
			list = slices.Insert(list, i, e)
		}
		for _, want := range list {
			if e, _, ok := q.next(); !ok || e != want {
				t.Fatalf("spread %d: %+v comes; %+v is next", spread, e, want)
			}
		}
		if _, _, ok := q.next(); ok || len(q.slots) > 50_000 {
			t.Errorf("spread %d: something is left, or %d slots were not used again", spread, len(q.slots))
		}
	}
}

func BenchmarkEvents(b *testing.B) {
	type queue interface {
		plan(event) uint32
		next() (event, waker, bool)
	}
	for _, n := range []int{200, 20_000} {
		for name, q := range map[string]queue{"calendar": &events{}, "heap": &eventHeap{}} {
			b.Run(fmt.Sprintf("%s of %d", name, n), func(b *testing.B) {
				r := rand.New(rand.NewPCG(81, 81))
				for range n {
					q.plan(event{at: time.Duration(r.IntN(1_000_000))})
				}
				b.ReportAllocs()
				for b.Loop() {
					e, _, _ := q.next()
					e.at += time.Duration(r.IntN(1_000_000))
					q.plan(e)
				}
			})
		}
	}
}

// An eventHeap is a queue of events as a heap of four children a node. What a bare event loop
// takes is measured with it.
type eventHeap struct {
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

func (q *eventHeap) plan(e event) uint32 {
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
	return slot
}

func (q *eventHeap) next() (event, waker, bool) {
	if len(q.heap) == 0 {
		return event{}, nil, false
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
	return first, nil, true
}

// down puts d in the place of the first, or further down.
func (q *eventHeap) down(d due) {
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
