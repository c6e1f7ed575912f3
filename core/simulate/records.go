package simulate

import (
	"cmp"
	"time"

	"imbrel.example/imbrel/core/measure"
)

// maxKept is how many records and notes are kept until they are entered.
const maxKept = 1 << 12

// keeper is what a part needs to keep what others enter, and to enter what others keep.
type keeper struct {
	books    []books          // for each part
	first    [][]firstBooking // of each collector
	kept     int              // records and notes that are not entered
	event    uint64           // kind and place of what happens now
	happened uint32           // moments of the event
}

// A moment is the place of something in the order of a whole run.
type moment struct {
	at     time.Duration
	order  uint64 // of the event
	number uint32 // within the event
}

// compare orders moments.
func (m *moment) compare(o *moment) int {
	return cmp.Or(cmp.Compare(m.at, o.at), cmp.Compare(m.order, o.order), cmp.Compare(m.number, o.number))
}

// moment returns the moment of what happens now.
func (r *run) moment() moment {
	r.happened++
	return moment{r.now, r.event, r.happened}
}

// Books are the records and notes that one part keeps for another, which enters them.
type books struct {
	records []record
	steps   []measure.Step
	notes   []note
}

// A firstBooking is the moment in which the first packet of a flow was booked.
type firstBooking struct {
	moment
	flow *measure.Flow
}

// keepRecord keeps a record for the part that enters it. One part enters all records of a call, and all of other traffic.
func (r *run) keepRecord(k *record, steps []measure.Step) {
	by := int(k.source.index)
	if k.flow.IsCall() {
		by = int(k.source.number)
	}
	b := &r.books[by%len(r.books)]
	k.moment, k.steps = r.moment(), int32(len(steps))
	b.records, b.steps = append(b.records, *k), append(b.steps, steps...)
	r.kept++
}

// enterKept enters the records and notes that all parts have kept for this one.
func (r *run) enterKept() {
	parts := r.team.parts
	records, notes, steps := make([][]record, len(parts)), make([][]note, len(parts)), make([][]measure.Step, len(parts))
	for i, q := range parts {
		b := &q.books[r.part]
		records[i], notes[i], steps[i] = b.records, b.notes, b.steps
		b.records, b.notes, b.steps = b.records[:0], b.notes[:0], b.steps[:0]
	}
	inOrder(records, func(k *record) *moment { return &k.moment }, func(list int, k *record) {
		s := steps[list][:k.steps]
		steps[list] = steps[list][k.steps:]
		r.enterRecord(k, s)
	})
	inOrder(notes, func(n *note) *moment { return &n.moment }, func(_ int, n *note) { facts[n.what](n.flows, int(n.flow), n.value) })
	r.kept = 0
}

// inOrder calls do with the elements of several sorted lists, in the order of all.
func inOrder[T any](lists [][]T, when func(*T) *moment, do func(list int, v *T)) {
	for {
		first := -1
		for i := range lists {
			if len(lists[i]) > 0 && (first < 0 || when(&lists[i][0]).compare(when(&lists[first][0])) < 0) {
				first = i
			}
		}
		if first < 0 {
			return
		}
		do(first, &lists[first][0])
		lists[first] = lists[first][1:]
	}
}
