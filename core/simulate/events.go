package simulate

import (
	"math/bits"
	"slices"
	"time"
)

// An event is something due at a time. What happens at one time has an order that does not depend on how it was planned: by its kind, then by
// its place, and what is of one kind at one place in the order in which it was planned.
type event struct {
	at     time.Duration
	order  uint64  // the kind above the place above a count
	flight *flight // nil: none
}

type kind uint8

// Events of one time happen in this order. A port becomes free before packets arrive.
const (
	wake    kind = iota // a timer rings, or the network changes
	sent                // an interface has sent a packet, or is free
	carried             // the carrier has sent a packet
	arrive              // a packet reaches an interface from the link
	askIn               // an interface asks its incoming data path again
	askOut              // the same, outgoing
	emit                // a source sends its next packet
)

// The widths of the count, and of the count and the place together.
const (
	countBits = 32
	placeBits = 60
)

// happens returns an event at a place, which is the number of a port or a source.
func happens(at time.Duration, k kind, place int32, f *flight) event {
	return event{at, uint64(k)<<placeBits | uint64(place)<<countBits, f}
}

func (e *event) kind() kind { return kind(e.order >> placeBits) }

func (e *event) place() int { return int(e.order << (64 - placeBits) >> (64 - placeBits + countBits)) }

// before reports whether an event comes before another. Of one kind and place there are never 2^31 events at a time.
func (e *event) before(o *event) bool {
	if e.at != o.at {
		return e.at < o.at
	}
	if a, b := e.order>>countBits, o.order>>countBits; a != b {
		return a < b
	}
	return int32(uint32(e.order)-uint32(o.order)) < 0
}

// A queue of events is a calendar (Brown 1988): days of one length, each with the events that
// are due in it, or in it a whole number of years later, in their order. The next event is
// then the first of the day it is, or of a day soon after. How long a day is follows from how
// many days were empty, and how many events were passed to find a place. Days of a power of
// two of nanoseconds make the day of a time a shift. The zero queue is empty.
type events struct {
	slots  []planned
	wakers []waker // by slot, of those that wake something
	free   uint32  // a list of slots without an event
	days   []day
	today  uint64 // counted from time 0
	shift  uint   // a day is 1<<shift ns
	count  int
	order  uint32
	// Since the length of a day was looked at last: events taken, days that were empty, and
	// events that were passed.
	taken, empty, passed int
}

// A planned event is in a slot; next is the slot of the one after it in its day.
type planned struct {
	event
	next uint32
}

// A day is the first and the last of its events, and when these are; nothing: none.
type day struct {
	first, last    uint32
	begins, endsAt time.Duration
}

// nothing is no slot: slots are counted from 1.
const nothing = 0

// The least and the most days of a year, and for how many events the length of a day stays.
const (
	minDays      = 64
	maxDays      = 1 << 22
	reviewPeriod = 4096
)

// wake plans to wake something.
func (q *events) wake(at time.Duration, w waker) {
	n := q.plan(happens(at, wake, 0, nil))
	for int(n) >= len(q.wakers) {
		q.wakers = append(q.wakers, nil)
	}
	q.wakers[n] = w
}

// plan puts an event into the queue, and returns its slot.
func (q *events) plan(e event) uint32 {
	n := q.free
	if n != nothing {
		q.free = q.slots[n].next
	} else {
		if len(q.slots) == 0 {
			q.slots = append(q.slots, planned{})
			q.days, q.shift = make([]day, minDays), 14
		}
		n = uint32(len(q.slots))
		q.slots = append(q.slots, planned{})
	}
	s := &q.slots[n]
	s.event = e
	s.order |= uint64(q.order)
	q.order++
	q.insert(n)
	if q.count++; q.count > 2*len(q.days) && len(q.days) < maxDays {
		q.rebuild(2*len(q.days), q.shift)
	}
	return n
}

// day returns the number of the day of a time.
func (q *events) day(at time.Duration) uint64 { return uint64(at) >> (q.shift & 63) }

// insert puts a slot into its day.
func (q *events) insert(n uint32) {
	s := &q.slots[n]
	number := q.day(s.at)
	d := &q.days[number&uint64(len(q.days)-1)]
	q.today = min(q.today, number)
	switch {
	case d.first == nothing:
		*d = day{n, n, s.at, s.at}
		s.next = nothing
	case s.at > d.endsAt || s.at == d.endsAt && !s.before(&q.slots[d.last].event):
		q.slots[d.last].next, d.last, d.endsAt, s.next = n, n, s.at, nothing
	case s.at < d.begins || s.at == d.begins && s.before(&q.slots[d.first].event):
		s.next, d.first, d.begins = d.first, n, s.at
	default:
		at := d.first
		for {
			q.passed++
			next := q.slots[at].next
			if s.before(&q.slots[next].event) {
				q.slots[at].next, s.next = n, next
				return
			}
			at = next
		}
	}
}

// next takes the first event out, with what it wakes.
func (q *events) next() (e event, w waker, ok bool) {
	if q.count == 0 {
		return event{}, nil, false
	}
	if q.taken++; q.taken >= reviewPeriod {
		q.look()
	}
	d := q.first()
	n := d.first
	s := &q.slots[n]
	if d.first = s.next; d.first != nothing {
		d.begins = q.slots[d.first].at
	}
	s.next, q.free = q.free, n
	q.count--
	if s.kind() == wake {
		w, q.wakers[n] = q.wakers[n], nil
	}
	return s.event, w, true
}

// due returns when the first event is; false: there is none.
func (q *events) due() (time.Duration, bool) {
	if q.count == 0 {
		return 0, false
	}
	return q.first().begins, true
}

// first returns the day of the first event, of which there is one, and makes that today.
func (q *events) first() *day {
	mask := uint64(len(q.days) - 1)
	for tries := 0; ; tries++ {
		d := &q.days[q.today&mask]
		if d.first != nothing && q.day(d.begins) == q.today {
			return d
		}
		q.today++
		if q.empty++; tries > int(mask) { // a year without an event
			q.today = q.soonest()
		}
	}
}

// soonest returns the day of the first event of all.
func (q *events) soonest() uint64 {
	best := uint32(nothing)
	for i := range q.days {
		if n := q.days[i].first; n != nothing && (best == nothing || q.slots[n].before(&q.slots[best].event)) {
			best = n
		}
	}
	return q.day(q.slots[best].at)
}

// look makes the days longer where many were empty, and shorter where many events share one.
func (q *events) look() {
	shift := q.shift
	switch {
	case q.empty > q.taken && shift < 40:
		shift += min(max(1, uint(bits.Len(uint(q.empty/q.taken)))-1), 40-shift)
	case q.passed > 2*q.taken && 4*q.empty < q.taken && shift > 4:
		shift--
	}
	days := len(q.days)
	if q.count < days/8 && days > minDays {
		days /= 2
	}
	q.taken, q.empty, q.passed = 0, 0, 0
	if shift != q.shift || days != len(q.days) {
		q.rebuild(days, shift)
	}
}

// rebuild puts all events into days of another number and length.
func (q *events) rebuild(days int, shift uint) {
	all := make([]uint32, 0, q.count)
	for i := range q.days {
		for n := q.days[i].first; n != nothing; n = q.slots[n].next {
			all = append(all, n)
		}
	}
	slices.SortFunc(all, func(a, b uint32) int {
		if q.slots[a].before(&q.slots[b].event) {
			return -1
		}
		return 1
	})
	q.today = q.today << q.shift >> shift
	q.shift = shift
	if days != len(q.days) {
		q.days = make([]day, days)
	} else {
		clear(q.days)
	}
	for _, n := range all {
		q.insert(n)
	}
}
