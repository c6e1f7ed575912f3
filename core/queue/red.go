package queue

import (
	"math"
	"math/rand/v2"
	"time"

	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/unit"
)

// RED drops early, at random, the more the longer the queue has been on average
// (Floyd & Jacobson 1993), "gentle" above the upper threshold (RFC 7567 points
// to it), with a profile for each drop precedence of the assured forwarding
// classes (RFC 2597): what is to be dropped first is dropped earlier.
type RED struct {
	FIFO
	// Profiles are by drop precedence less one; packets without one go by the
	// first.
	Profiles [3]Profile
	// Weight is that of the newest sample in the average, w_q.
	Weight float64
	// Packet is how long a mean packet takes to send, by which the average
	// decays while the queue is empty.
	Packet time.Duration
	ECN    bool
	Random *rand.Rand

	average float64 // bytes, or packets where the limit is in packets
	count   [3]int  // packets since the last drop, before this one; -1: none
	empty   time.Duration
	idle    bool
}

// A Profile is at which average length, in the unit of the limit, dropping begins, where its
// probability reaches MaxP, from where it rises to 1 at twice that.
type Profile struct {
	Min, Max float64
	MaxP     float64
}

// NewRED returns a RED queue with the usual parameters: w_q 0.002, max_p 0.1;
// thresholds at 30 and 90 % of half the limit for the first drop precedence (the
// average may reach it before the queue is full, even with the gentle part above),
// lower for the others. A limit in packets counts packets, one in bytes bytes;
// without a limit nothing is dropped.
func NewRED(limits Limits, rate unit.Rate, maxPacket int, ecn bool, random *rand.Rand) *RED {
	half := float64(limits.Bytes) / 2
	switch {
	case limits == Limits{}:
		half = math.Inf(1)
	case limits.Bytes == 0:
		half = float64(limits.Packets) / 2
	}
	q := &RED{Weight: 0.002, ECN: ecn, Random: random, idle: true, Packet: max(rate, unit.MinRate).Time(unit.Size(maxPacket))}
	q.Limits = limits
	for i, part := range [3][2]float64{{0.3, 0.9}, {0.2, 0.6}, {0.1, 0.3}} {
		q.Profiles[i] = Profile{Min: part[0] * half, Max: part[1] * half, MaxP: 0.1}
		q.count[i] = -1
	}
	return q
}

// Set gives the queue other numbers than the usual ones; 0 leaves one as it is. Thresholds are in bytes, or packets where the limit is in packets: those of
// the first drop precedence. The second's are at two thirds of them, and the third's at one.
func (q *RED) Set(from, to, maxP, weight float64) {
	if weight > 0 {
		q.Weight = weight
	}
	for i := range q.Profiles {
		f, part := &q.Profiles[i], float64(3-i)/3
		if from > 0 {
			f.Min = from * part
		}
		if to > 0 {
			f.Max = to * part
		}
		if f.Max < f.Min {
			f.Max = f.Min
		}
		if maxP > 0 {
			f.MaxP = maxP
		}
	}
}

// Probability returns the probability p_b with which a packet is dropped at an
// average length, before drops are spread out evenly.
func (f *Profile) Probability(average float64) float64 {
	switch {
	case average < f.Min:
		return 0
	case average < f.Max:
		return f.MaxP * (average - f.Min) / (f.Max - f.Min)
	case average < 2*f.Max:
		return f.MaxP + (1-f.MaxP)*(average-f.Max)/f.Max
	}
	return 1
}

// Push takes a packet in, or drops it; with ECN an early drop is a mark where
// the packet allows it.
func (q *RED) Push(now time.Duration, p *packet.Packet) Verdict {
	q.measure(now)
	if q.full(p) {
		return Full
	}
	if a, f := q.average, &q.Profiles; a < f[2].Min && a < f[1].Min && a < f[0].Min {
		q.count = [3]int{-1, -1, -1}
		q.put(p)
		return Taken
	}
	which := max(p.DSCP().DropPrecedence(), 1) - 1
	f := &q.Profiles[which]
	pb := f.Probability(q.average)
	if pb == 0 {
		q.count[which] = -1
	} else {
		q.count[which]++
		pa := 1.0 // pb / (1 − count·pb): drops come at even intervals
		if d := 1 - float64(q.count[which])*pb; d > pb {
			pa = pb / d
		}
		if q.Random.Float64() < pa {
			q.count[which] = -1 // the next is the first since
			// Beyond the upper threshold even what can be marked is dropped (RFC 3168 §7).
			if !(q.ECN && q.average < f.Max && p.CongestionExperienced()) {
				return Early
			}
		}
	}
	q.put(p)
	return Taken
}

// measure brings the average up to date.
func (q *RED) measure(now time.Duration) {
	if q.idle {
		q.idle = false
		m := int64(now-q.empty) / int64(max(q.Packet, 1)) // packets that could have been sent
		q.average = float64(q.average * power(1-q.Weight, int(min(m, 1e6))))
		return
	}
	length := q.waiting.Bytes
	if q.Bytes == 0 {
		length = int64(q.waiting.Packets)
	}
	q.average += float64(q.Weight * (float64(length) - q.average))
}

// power returns x to the n, the same on every machine.
func power(x float64, n int) float64 {
	out := 1.0
	for ; n > 0; n >>= 1 {
		if n&1 == 1 {
			out = float64(out * x)
		}
		x = float64(x * x)
	}
	return out
}

// Pop takes the first packet out, or returns nil.
func (q *RED) Pop(now time.Duration) *packet.Packet {
	p := q.FIFO.Pop(now)
	if q.waiting.Packets == 0 && !q.idle {
		q.idle, q.empty = true, now
	}
	return p
}
