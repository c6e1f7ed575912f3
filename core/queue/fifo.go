// Package queue holds packets that wait, and decides which of them to drop.
package queue

import (
	"time"

	"imbrel/core/packet"
)

// A FIFO is a first-in, first-out queue with tail drop: a packet that would
// take it beyond its limit is refused. However small the limit, one packet may
// always wait. Bytes are as the interface counts. The zero FIFO has no limit.
type FIFO struct {
	Limits

	ring  []*packet.Packet // its length is a power of two, or zero
	head  int
	count int
	bytes int64
}

// full reports whether there is no room for a packet.
func (q *FIFO) full(p *packet.Packet) bool {
	return q.count > 0 && (q.Limits.Bytes > 0 && q.bytes+int64(p.Size) > q.Limits.Bytes || q.Packets > 0 && q.count >= q.Packets)
}

// Push puts p at the end, or refuses it.
func (q *FIFO) Push(_ time.Duration, p *packet.Packet) Verdict {
	if q.full(p) {
		return Full
	}
	q.put(p)
	return Taken
}

// put puts p at the end.
func (q *FIFO) put(p *packet.Packet) {
	if q.count == len(q.ring) {
		q.grow()
	}
	q.ring[(q.head+q.count)&(len(q.ring)-1)] = p
	q.count++
	q.bytes += int64(p.Size)
}

func (q *FIFO) grow() {
	ring := make([]*packet.Packet, max(16, 2*len(q.ring)))
	n := copy(ring, q.ring[q.head:])
	copy(ring[n:], q.ring[:q.head])
	q.ring, q.head = ring, 0
}

// Pop takes the first packet out, or returns nil.
func (q *FIFO) Pop(time.Duration) *packet.Packet {
	if q.count == 0 {
		return nil
	}
	p := q.ring[q.head]
	q.ring[q.head] = nil
	q.head = (q.head + 1) & (len(q.ring) - 1)
	q.count--
	q.bytes -= int64(p.Size)
	return p
}

// Len returns the number of packets that wait.
func (q *FIFO) Len() int { return q.count }

// Bytes returns how many bytes wait, as the interface counts.
func (q *FIFO) Bytes() int64 { return q.bytes }
