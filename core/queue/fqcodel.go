package queue

import (
	"encoding/binary"
	"time"

	"imbrel.example/imbrel/core/packet"
)

// FQCoDel shares a queue among flows by deficit round robin, new flows first,
// each flow with a CoDel of its own (RFC 8290). When there is no room it drops
// from the flow that holds most.
type FQCoDel struct {
	Limits
	Quantum int64
	Drop    DropFunc

	flows    []flowQueue
	most     []int64 // of each group of flows: no flow of it has more bytes
	newFlows flowList
	oldFlows flowList
	waiting  Waiting
}

// group is how many flows share a bound on their bytes, so that the largest is
// found without looking at all of them.
const group = 32

// Flows is the usual number of queues (RFC 8290 §4.1.2).
const Flows = 1024

type flowQueue struct {
	FIFO
	control
	deficit int64
	next    int32 // in its list; -1: none
	listed  uint8
}

// flowList is a list of flow queues by number.
type flowList struct{ head, tail int32 }

const (
	unlisted = iota
	inNew
	inOld
)

// NewFQCoDel returns a queue of so many bytes or packets, which tells so many
// flows apart; slowest is as in NewCoDel. The quantum is one full packet.
func NewFQCoDel(limits Limits, flows int, slowest time.Duration, maxPacket int, ecn bool, drop DropFunc) *FQCoDel {
	q := &FQCoDel{Limits: limits, Quantum: int64(maxPacket), Drop: drop, flows: make([]flowQueue, flows), newFlows: flowList{-1, -1}, oldFlows: flowList{-1, -1}}
	q.most = make([]int64, (flows+group-1)/group)
	for i := range q.flows {
		q.flows[i].control = newControl(slowest, maxPacket, ecn)
		q.flows[i].next = -1
	}
	return q
}

// hash returns a number of a flow. It needs no secret: whoever makes
// flows collide here only hurts his own.
func hash(f *packet.Flow) uint32 {
	h := uint64(f.FromPort)<<32 | uint64(f.ToPort)<<16 | uint64(f.Protocol)
	for _, a := range [2][16]byte{f.From.As16(), f.To.As16()} {
		for i := 0; i < 16; i += 8 {
			h = (h ^ binary.LittleEndian.Uint64(a[i:])) * 0x9e3779b97f4a7c15
			h ^= h >> 29
		}
	}
	return uint32(h >> 32)
}

func (q *FQCoDel) add(l *flowList, i int32, where uint8) {
	f := &q.flows[i]
	f.next, f.listed = -1, where
	if l.tail < 0 {
		l.head = i
	} else {
		q.flows[l.tail].next = i
	}
	l.tail = i
}

func (q *FQCoDel) removeHead(l *flowList) int32 {
	i := l.head
	f := &q.flows[i]
	l.head = f.next
	if l.head < 0 {
		l.tail = -1
	}
	f.next, f.listed = -1, unlisted
	return i
}

// Push takes a packet in. While the queue is above its limit, packets of the largest
// flow go; if that is the packet itself, it is refused.
func (q *FQCoDel) Push(_ time.Duration, p *packet.Packet) Verdict {
	i := int32(0)
	if p.IsIP() {
		i = int32(hash(&p.Flow) % uint32(len(q.flows)))
	}
	f := &q.flows[i]
	f.put(p)
	q.waiting.add(p)
	q.most[i/group] = max(q.most[i/group], f.waiting.Bytes)
	if f.listed == unlisted {
		f.deficit = q.Quantum
		q.add(&q.newFlows, i, inNew)
	}
	defer q.look()
	for w := &q.waiting; w.Packets > 1 && (q.Bytes > 0 && w.Bytes > q.Bytes || q.Packets > 0 && w.Packets > q.Packets); {
		if q.dropFromLargest(p) {
			return Full
		}
	}
	return Taken
}

// look finds the packet that goes next: that of the first flow which may still send in its turn, or else of the
// first whose turn begins, new flows before old ones.
func (q *FQCoDel) look() {
	next := int32(-1)
	for _, l := range [...]flowList{q.newFlows, q.oldFlows} {
		for i := l.head; i >= 0; i = q.flows[i].next {
			f := &q.flows[i]
			switch {
			case f.waiting.Packets == 0:
			case f.deficit > 0:
				q.waiting.Head = f.waiting.Head
				return
			case next < 0:
				next = i
			}
		}
	}
	if q.waiting.Head = 0; next >= 0 {
		q.waiting.Head = q.flows[next].waiting.Head
	}
}

// dropFromLargest drops the head of the flow with most bytes and tells Drop,
// unless it is the packet just put there: then it reports true.
func (q *FQCoDel) dropFromLargest(just *packet.Packet) bool {
	p := q.largest().FIFO.Pop(0)
	q.waiting.take(p)
	if p == just {
		return true
	}
	q.Drop(p, Full)
	return false
}

// largest returns the flow with most bytes: the largest of the group that has the
// highest bound, once the bound is what that flow has.
func (q *FQCoDel) largest() *flowQueue {
	for {
		g := 0
		for i := range q.most {
			if q.most[i] > q.most[g] {
				g = i
			}
		}
		flows := q.flows[g*group : min((g+1)*group, len(q.flows))]
		f := &flows[0]
		for i := range flows {
			if flows[i].waiting.Bytes > f.waiting.Bytes {
				f = &flows[i]
			}
		}
		if f.waiting.Bytes == q.most[g] {
			return f
		}
		q.most[g] = f.waiting.Bytes
	}
}

// Pop takes the next packet out, or returns nil.
func (q *FQCoDel) Pop(now time.Duration) *packet.Packet {
	for {
		l := &q.newFlows
		if l.head < 0 {
			l = &q.oldFlows
		}
		i := l.head
		if i < 0 {
			q.waiting.Head = 0
			return nil
		}
		f := &q.flows[i]
		if f.deficit <= 0 {
			f.deficit += q.Quantum
			q.removeHead(l)
			q.add(&q.oldFlows, i, inOld)
			continue
		}
		before := f.waiting
		p := f.dequeue(now, &f.FIFO, q.Drop)
		q.waiting.Packets -= before.Packets - f.waiting.Packets
		q.waiting.Bytes -= before.Bytes - f.waiting.Bytes
		if p == nil {
			q.removeHead(l)
			if l == &q.newFlows { // so that it cannot stay new for ever
				q.add(&q.oldFlows, i, inOld)
			}
			continue
		}
		f.deficit -= int64(p.Size)
		q.look()
		return p
	}
}

// Level returns a pointer to the queue's current length.
func (q *FQCoDel) Level() *Waiting { return &q.waiting }
