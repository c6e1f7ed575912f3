package queue

import (
	"math/rand/v2"
	"time"

	"imbrel.example/imbrel/core/packet"
)

// The numbers of PIE (RFC 8033 §4.2 and §5.1).
const (
	PIETarget    = 15 * time.Millisecond
	pieUpdate    = 15 * time.Millisecond
	pieMaxBurst  = 150 * time.Millisecond
	pieAlpha     = 0.125 // per second of delay beyond the target
	pieBeta      = 1.25  // per second that the delay has risen
	pieMarkBelow = 0.1   // from this probability on, what could be marked is dropped
)

// PIE drops at random as packets come in, by a probability that follows the delay and how it changes, so that packets wait about 15 ms (RFC 8033). The
// delay is that of the first packet, by its time of arrival (§5.2), and is looked at every 15 ms; short bursts pass.
type PIE struct {
	FIFO
	ECN        bool
	Random     *rand.Rand
	MeanPacket int64 // with no more than two of these waiting nothing is dropped

	chance  float64 // drop_prob_
	spread  float64 // accu_prob_
	before  time.Duration
	burst   time.Duration // burst_allowance_
	updated time.Duration
}

// NewPIE returns a PIE queue for packets of a size.
func NewPIE(limits Limits, packetSize int, ecn bool, random *rand.Rand) *PIE {
	q := &PIE{ECN: ecn, Random: random, MeanPacket: int64(packetSize), burst: pieMaxBurst}
	q.Limits = limits
	return q
}

// pieScales make changes smaller while the probability is small.
var pieScales = [...]struct{ below, part float64 }{{1e-6, 2048}, {1e-5, 512}, {1e-4, 128}, {1e-3, 32}, {1e-2, 8}, {0.1, 2}}

// delay returns how long the first packet waits at a time.
func (q *PIE) delay(now time.Duration) time.Duration {
	if q.head != nil {
		return now - q.head.Arrived
	}
	return 0
}

// update brings the probability up to date: what waits has not changed since the packet before.
func (q *PIE) update(now time.Duration) {
	for ; q.updated+pieUpdate <= now; q.updated += pieUpdate {
		if q.waiting.Packets == 0 && q.chance == 0 && q.before == 0 && q.burst == pieMaxBurst { // nothing would change
			q.updated += (now - q.updated) / pieUpdate * pieUpdate
			return
		}
		delay := q.delay(q.updated + pieUpdate)
		change := float64(pieAlpha*(delay-PIETarget).Seconds()) + float64(pieBeta*(delay-q.before).Seconds())
		for _, s := range pieScales {
			if q.chance < s.below {
				change /= s.part
				break
			}
		}
		if q.chance >= 0.1 {
			change = min(change, 0.02)
		}
		if q.chance = min(max(q.chance+change, 0), 1); delay == 0 && q.before == 0 {
			q.chance = float64(q.chance * 0.98)
		}
		if q.chance < 1e-9 {
			q.chance = 0
		}
		if q.chance == 0 && delay < PIETarget/2 && q.before < PIETarget/2 {
			q.burst = pieMaxBurst
		} else {
			q.burst = max(0, q.burst-pieUpdate)
		}
		q.before = delay
	}
}

// Push takes a packet in, or drops it; with ECN an early drop is a mark where the packet allows it.
func (q *PIE) Push(now time.Duration, p *packet.Packet) Verdict {
	q.update(now)
	if q.full(p) {
		return Full
	}
	if q.burst == 0 && q.early() && !(q.ECN && q.chance < pieMarkBelow && p.CongestionExperienced()) {
		return Early
	}
	q.put(p)
	return Taken
}

// early draws whether the next packet is dropped (drop_early).
func (q *PIE) early() bool {
	if q.before < PIETarget/2 && q.chance < 0.2 || q.waiting.Bytes <= 2*q.MeanPacket {
		return false
	}
	if q.chance == 0 {
		q.spread = 0
	}
	if q.spread += q.chance; q.spread < 0.85 {
		return false
	}
	if q.spread < 8.5 && q.Random.Float64() >= q.chance {
		return false
	}
	q.spread = 0
	return true
}

// Pop takes the next packet out, or returns nil.
func (q *PIE) Pop(now time.Duration) *packet.Packet {
	q.update(now)
	return q.FIFO.Pop(now)
}
