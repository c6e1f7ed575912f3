package queue

import (
	"math"
	"time"

	"imbrel.example/imbrel/core/packet"
)

// CoDel drops from the head while packets have waited longer than the target
// for an interval, at a rate that rises with the square root of the drops
// (RFC 8289 §5). Names are those of its pseudocode.
type CoDel struct {
	FIFO
	control
	Drop DropFunc
}

// control is CoDel's control law, apart from the queue.
type control struct {
	Target, Interval time.Duration
	ECN              bool
	MaxPacket        int64 // below so many bytes nothing is dropped

	firstAboveTime time.Duration
	dropNext       time.Duration
	count          int
	lastCount      int
	dropping       bool
}

// The target and interval that RFC 8289 §4.2 and §4.3 recommend.
const (
	CoDelTarget   = 5 * time.Millisecond
	CoDelInterval = 100 * time.Millisecond
)

// NewCoDel returns a CoDel queue. Where a packet of maxPacket bytes takes longer
// than the target, the target is that time (RFC 8289 §4.4), given as slowest.
func NewCoDel(limits Limits, slowest time.Duration, maxPacket int, ecn bool, drop DropFunc) *CoDel {
	q := &CoDel{Drop: drop, control: newControl(slowest, maxPacket, ecn)}
	q.Limits = limits
	return q
}

func newControl(slowest time.Duration, maxPacket int, ecn bool) control {
	return control{Target: max(CoDelTarget, slowest), Interval: CoDelInterval, MaxPacket: int64(maxPacket), ECN: ecn}
}

// next returns the time of the next drop: interval / sqrt(count) after t.
func (c *control) next(t time.Duration) time.Duration {
	return t + time.Duration(float64(c.Interval)/math.Sqrt(float64(c.count)))
}

// do takes a packet and tells whether it may be dropped (dodequeue).
func (c *control) do(now time.Duration, q *FIFO) (p *packet.Packet, ok bool) {
	p = q.Pop(now)
	if p == nil {
		c.firstAboveTime = 0
		return nil, false
	}
	if sojourn := now - p.Arrived; sojourn < c.Target || q.waiting.Bytes <= c.MaxPacket {
		c.firstAboveTime = 0
		return p, false
	}
	if c.firstAboveTime == 0 {
		c.firstAboveTime = now + c.Interval
		return p, false
	}
	return p, now >= c.firstAboveTime
}

// dequeue takes the next packet to send, dropping as the law says.
func (c *control) dequeue(now time.Duration, q *FIFO, drop DropFunc) *packet.Packet {
	p, ok := c.do(now, q)
	if c.dropping {
		if !ok {
			c.dropping = false
		}
		for c.dropping && now >= c.dropNext {
			c.count++
			if c.ECN && p.CongestionExperienced() {
				c.dropNext = c.next(c.dropNext)
				return p
			}
			drop(p, Early)
			if p, ok = c.do(now, q); !ok {
				c.dropping = false
			} else {
				c.dropNext = c.next(c.dropNext)
			}
		}
		return p
	}
	if !ok {
		return p
	}
	c.dropping = true
	// If it was dropping lately, begin near the rate that held the queue.
	delta := c.count - c.lastCount
	c.count = 1
	if delta > 1 && now-c.dropNext < 16*c.Interval {
		c.count = delta
	}
	c.dropNext = c.next(now)
	c.lastCount = c.count
	if c.ECN && p.CongestionExperienced() {
		return p
	}
	drop(p, Early)
	p, _ = c.do(now, q)
	return p
}

// Pop takes the next packet out, or returns nil.
func (q *CoDel) Pop(now time.Duration) *packet.Packet { return q.dequeue(now, &q.FIFO, q.Drop) }
