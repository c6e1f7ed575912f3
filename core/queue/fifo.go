// Package queue holds packets that wait, and decides which of them to drop.
package queue

import (
	"time"

	"imbrel.example/imbrel/core/packet"
)

// A FIFO is a first-in, first-out queue with tail drop: a packet that would
// take it beyond its limit is refused. However small the limit, one packet may
// always wait. Bytes are as the interface counts. The zero FIFO has no limit.
//
// It is a list through the packets' own Next, so that it takes no memory: a
// packet waits in one queue at a time.
type FIFO struct {
	Limits

	head, tail *packet.Packet
	waiting    Waiting
}

// full reports whether there is no room for a packet.
func (q *FIFO) full(p *packet.Packet) bool {
	w := &q.waiting
	return w.Packets > 0 && (q.Bytes > 0 && w.Bytes+int64(p.Size) > q.Bytes || q.Packets > 0 && w.Packets >= q.Packets)
}

// Push puts p at the end, or refuses it.
func (q *FIFO) Push(_ time.Duration, p *packet.Packet) Verdict {
	if q.full(p) {
		return Full
	}
	q.put(p)
	return Taken
}

// First returns the packet that Pop would take, or nil.
func (q *FIFO) First() *packet.Packet { return q.head }

// put puts p at the end.
func (q *FIFO) put(p *packet.Packet) {
	p.Next = nil
	if q.waiting.Packets == 0 {
		q.head, q.waiting.Head = p, p.Size
	} else {
		q.tail.Next = p
	}
	q.tail = p
	q.waiting.add(p)
}

// Pop takes the first packet out, or returns nil.
func (q *FIFO) Pop(time.Duration) *packet.Packet {
	p := q.head
	if p == nil {
		return nil
	}
	q.head, p.Next = p.Next, nil
	if q.waiting.Head = 0; q.head != nil {
		q.waiting.Head = q.head.Size
	}
	q.waiting.take(p)
	return p
}

// Level returns a pointer to the queue's current length.
func (q *FIFO) Level() *Waiting { return &q.waiting }
