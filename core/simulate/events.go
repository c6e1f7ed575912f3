package simulate

import "time"

// An event is something due at a time. Events of one time happen in the order
// in which they were planned.
type event struct {
	at     time.Duration
	order  uint64
	kind   kind
	port   *port
	parcel *parcel
	source *source
}

type kind uint8

const (
	emit    kind = iota // a source sends its next packet
	arrive              // a packet reaches an interface from the link
	sent                // an interface has sent a packet
	askOut              // an interface asks its outgoing data path again
	askIn               // the same, incoming
	carried             // the carrier has sent a packet
)

// A queue of events: a heap of four children a node, which keeps the least
// first.
type events struct {
	heap  []event
	order uint64
}

func (q *events) plan(e event) {
	e.order = q.order
	q.order++
	q.heap = append(q.heap, e)
	i := len(q.heap) - 1
	for i > 0 {
		p := (i - 1) / 4
		if !e.before(&q.heap[p]) {
			break
		}
		q.heap[i] = q.heap[p]
		i = p
	}
	q.heap[i] = e
}

func (e *event) before(o *event) bool {
	return e.at < o.at || e.at == o.at && e.order < o.order
}

func (q *events) next() (event, bool) {
	if len(q.heap) == 0 {
		return event{}, false
	}
	first := q.heap[0]
	n := len(q.heap) - 1
	last := q.heap[n]
	q.heap[n] = event{}
	q.heap = q.heap[:n]
	if n == 0 {
		return first, true
	}
	i := 0
	for {
		c := 4*i + 1
		if c >= n {
			break
		}
		for k := c + 1; k < min(c+4, n); k++ {
			if q.heap[k].before(&q.heap[c]) {
				c = k
			}
		}
		if !q.heap[c].before(&last) {
			break
		}
		q.heap[i] = q.heap[c]
		i = c
	}
	q.heap[i] = last
	return first, true
}
