package queue

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/packet"
)

// A twin is a slow queue discipline that follows its specification line by line.
type twin interface {
	push(now time.Duration, p *packet.Packet) Verdict
	pop(now time.Duration) *packet.Packet
	waiting() []*packet.Packet
}

// list is a queue of packets in the order of their arrival.
type list []*packet.Packet

func (l *list) take() (p *packet.Packet) {
	if len(*l) > 0 {
		p, *l = (*l)[0], (*l)[1:]
	}
	return p
}

func (l list) bytes() (sum int64) {
	for _, p := range l {
		sum += int64(p.Size)
	}
	return sum
}

func (l list) full(limits Limits, p *packet.Packet) bool {
	return len(l) > 0 && (limits.Packets > 0 && len(l)+1 > limits.Packets || limits.Bytes > 0 && l.bytes()+int64(p.Size) > limits.Bytes)
}

func mark(p *packet.Packet, ecn bool) bool {
	if !ecn || p.ECN() == 0 {
		return false
	}
	p.SetECN(3)
	return true
}

// codelTwin is the pseudocode of RFC 8289 §5, with marks in place of drops (§4.1 of RFC 8290).
type codelTwin struct {
	list
	target                time.Duration
	ecn                   bool
	least                 int64
	drop                  func(*packet.Packet)
	firstAbove, dropNext  time.Duration
	count, lastCount      int
	dropping, okToDropNow bool
}

func (c *codelTwin) controlLaw(t time.Duration) time.Duration {
	return t + time.Duration(1e8/math.Sqrt(float64(c.count)))
}

func (c *codelTwin) dodequeue(now time.Duration) *packet.Packet {
	p := c.take()
	c.okToDropNow = false
	switch {
	case p == nil:
		c.firstAbove = 0
	case now-p.Arrived < c.target || c.bytes() <= c.least:
		c.firstAbove = 0
	case c.firstAbove == 0:
		c.firstAbove = now + 100*ms
	case now >= c.firstAbove:
		c.okToDropNow = true
	}
	return p
}

func (c *codelTwin) pop(now time.Duration) *packet.Packet {
	p := c.dodequeue(now)
	if c.dropping {
		if !c.okToDropNow {
			c.dropping = false
		}
		for now >= c.dropNext && c.dropping {
			c.count++
			if mark(p, c.ecn) {
				c.dropNext = c.controlLaw(c.dropNext)
				break
			}
			c.drop(p)
			if p = c.dodequeue(now); !c.okToDropNow {
				c.dropping = false
			} else {
				c.dropNext = c.controlLaw(c.dropNext)
			}
		}
	} else if c.okToDropNow {
		dropped := !mark(p, c.ecn)
		if dropped {
			c.drop(p)
			p = c.dodequeue(now)
		}
		c.dropping = true
		delta := c.count - c.lastCount
		c.count = 1
		if delta > 1 && now-c.dropNext < 16*100*ms {
			c.count = delta
		}
		c.dropNext = c.controlLaw(now)
		c.lastCount = c.count
	}
	return p
}

type limitedCodel struct {
	codelTwin
	limits Limits
}

func (c *limitedCodel) push(_ time.Duration, p *packet.Packet) Verdict {
	if c.full(c.limits, p) {
		return Full
	}
	c.list = append(c.list, p)
	return Taken
}
func (c *limitedCodel) waiting() []*packet.Packet { return c.list }

// fqTwin is RFC 8290 §4: two lists of flows, a deficit for each.
type fqTwin struct {
	limits   Limits
	quantum  int64
	flows    []codelTwin
	deficit  []int64
	new, old []int
}

func (f *fqTwin) push(_ time.Duration, p *packet.Packet) Verdict {
	i := 0
	if p.IsIP() {
		i = int(hash(&p.Flow) % uint32(len(f.flows)))
	}
	f.flows[i].list = append(f.flows[i].list, p)
	if !slices.Contains(f.new, i) && !slices.Contains(f.old, i) {
		f.new, f.deficit[i] = append(f.new, i), f.quantum
	}
	for {
		all := list(f.waiting())
		if len(all) == 1 || (f.limits.Packets == 0 || len(all) <= f.limits.Packets) && (f.limits.Bytes == 0 || all.bytes() <= f.limits.Bytes) {
			return Taken
		}
		most := 0
		for i := range f.flows {
			if f.flows[i].bytes() > f.flows[most].bytes() {
				most = i
			}
		}
		if gone := f.flows[most].take(); gone == p {
			return Full
		} else {
			f.flows[most].drop(gone)
		}
	}
}

func (f *fqTwin) pop(now time.Duration) *packet.Packet {
	for len(f.new)+len(f.old) > 0 {
		from := &f.old
		if len(f.new) > 0 {
			from = &f.new
		}
		i := (*from)[0]
		if f.deficit[i] <= 0 {
			f.deficit[i] += f.quantum
			*from = (*from)[1:]
			f.old = append(f.old, i)
			continue
		}
		p := f.flows[i].pop(now)
		if p == nil {
			*from = (*from)[1:]
			if from == &f.new {
				f.old = append(f.old, i)
			}
			continue
		}
		f.deficit[i] -= int64(p.Size)
		return p
	}
	return nil
}

func (f *fqTwin) waiting() (all []*packet.Packet) {
	for i := range f.flows {
		all = append(all, f.flows[i].list...)
	}
	return all
}

// redTwin is the algorithm of Floyd & Jacobson 1993, figure 2, with the gentle part and a profile for each drop precedence.
type redTwin struct {
	list
	limits   Limits
	profiles [3]Profile
	packet   time.Duration // that a mean packet takes
	ecn      bool
	random   *rand.Rand
	average  float64
	count    [3]int
	empty    bool
	since    time.Duration
}

func (r *redTwin) push(now time.Duration, p *packet.Packet) Verdict {
	if r.empty {
		for range (now - r.since) / r.packet {
			r.average *= 1 - 0.002
		}
	} else if r.limits.Bytes > 0 {
		r.average = (1-0.002)*r.average + 0.002*float64(r.bytes())
	} else {
		r.average = (1-0.002)*r.average + 0.002*float64(len(r.list))
	}
	r.empty = false
	if r.full(r.limits, p) {
		return Full
	}
	which := map[codepoint.DSCP]int{codepoint.AF(1, 2): 1, codepoint.AF(1, 3): 2}[p.DSCP()]
	f := r.profiles[which]
	pb := 0.0
	switch a := r.average; {
	case a >= 2*f.Max:
		pb = 1
	case a >= f.Max:
		pb = 0.1 + 0.9*(a-f.Max)/f.Max
	case a >= f.Min:
		pb = 0.1 * (a - f.Min) / (f.Max - f.Min)
	}
	if r.average < min(r.profiles[0].Min, r.profiles[1].Min, r.profiles[2].Min) {
		r.count = [3]int{-1, -1, -1}
	} else if pb == 0 {
		r.count[which] = -1
	} else {
		r.count[which]++
		pa := pb / (1 - float64(r.count[which])*pb)
		if pa < 0 || pa > 1 {
			pa = 1
		}
		if r.random.Float64() < pa {
			r.count[which] = -1
			if r.average >= f.Max || !mark(p, r.ecn) {
				return Early
			}
		}
	}
	r.list = append(r.list, p)
	return Taken
}

func (r *redTwin) pop(now time.Duration) *packet.Packet {
	p := r.take()
	if len(r.list) == 0 && !r.empty {
		r.empty, r.since = true, now
	}
	return p
}
func (r *redTwin) waiting() []*packet.Packet { return r.list }

// pieTwin is the pseudocode of RFC 8033 §5, with timestamps (§5.2) and a timer that rings each 15 ms.
type pieTwin struct {
	list
	limits               Limits
	ecn                  bool
	random               *rand.Rand
	prob, accu           float64
	old, allowance, next time.Duration
}

func (q *pieTwin) ring(now time.Duration) {
	for ; q.next <= now; q.next += 15 * ms {
		delay := time.Duration(0)
		if len(q.list) > 0 {
			delay = q.next - q.list[0].Arrived
		}
		p := 0.125*(delay-15*ms).Seconds() + 1.25*(delay-q.old).Seconds()
		switch {
		case q.prob < 0.000001:
			p /= 2048
		case q.prob < 0.00001:
			p /= 512
		case q.prob < 0.0001:
			p /= 128
		case q.prob < 0.001:
			p /= 32
		case q.prob < 0.01:
			p /= 8
		case q.prob < 0.1:
			p /= 2
		}
		if q.prob >= 0.1 && p > 0.02 {
			p = 0.02
		}
		q.prob = max(0, min(1, q.prob+p))
		if delay == 0 && q.old == 0 {
			q.prob *= 0.98
		}
		if q.prob < 1e-9 { // it is as good as none
			q.prob = 0
		}
		if q.prob == 0 && delay < 7500*time.Microsecond && q.old < 7500*time.Microsecond {
			q.allowance = 150 * ms
		} else {
			q.allowance = max(0, q.allowance-15*ms)
		}
		q.old = delay
	}
}

func (q *pieTwin) push(now time.Duration, p *packet.Packet) Verdict {
	q.ring(now)
	if q.full(q.limits, p) {
		return Full
	}
	if q.allowance == 0 && q.early() && (q.prob >= 0.1 || !mark(p, q.ecn)) {
		return Early
	}
	q.list = append(q.list, p)
	return Taken
}

func (q *pieTwin) early() bool {
	if q.old < 7500*time.Microsecond && q.prob < 0.2 || q.bytes() <= 2*1500 {
		return false
	}
	if q.prob == 0 {
		q.accu = 0
	}
	q.accu += q.prob
	if q.accu < 0.85 {
		return false
	}
	if q.accu >= 8.5 || q.random.Float64() < q.prob {
		q.accu = 0
		return true
	}
	return false
}

func (q *pieTwin) pop(now time.Duration) *packet.Packet {
	q.ring(now)
	return q.take()
}
func (q *pieTwin) waiting() []*packet.Packet { return q.list }

// Each discipline refuses, drops, marks and sends the same packets as its twin, in the same order. Random flows exceed the rate at times, and pause at
// others.
func TestDisciplinesAgainstTheirSpecifications(t *testing.T) {
	const rate = 10_000_000
	slowest := time.Duration(1500) * 8 * time.Second / rate
	seen := make(map[string]int)
	for trial := range 24 {
		limits := []Limits{{Packets: 150}, {Bytes: 120_000}, {Packets: 20, Bytes: 90_000}, {Bytes: 12_000}}[trial%4]
		ecn := trial%3 == 0
		var gone [2]list // what left without being sent
		drop := func(which int) func(*packet.Packet, Verdict) {
			return func(p *packet.Packet, _ Verdict) { gone[which] = append(gone[which], p) }
		}
		twinDrop := func(p *packet.Packet) { drop(1)(p, Early) }
		source := func() *rand.Rand { return rand.New(rand.NewPCG(5, uint64(trial))) }
		red := NewRED(limits, rate, 1500, ecn, source())
		fq := &fqTwin{limits: limits, quantum: 1500, flows: make([]codelTwin, 40), deficit: make([]int64, 40)}
		for i := range fq.flows {
			fq.flows[i] = codelTwin{target: 5 * ms, ecn: ecn, least: 1500, drop: twinDrop}
		}
		for _, c := range []struct {
			name string
			real Discipline
			twin twin
		}{
			{"codel", NewCoDel(limits, slowest, 1500, ecn, drop(0)), &limitedCodel{codelTwin{target: 5 * ms, ecn: ecn, least: 1500, drop: twinDrop}, limits}},
			{"codel, slow", NewCoDel(limits, 12*ms, 1500, ecn, drop(0)), &limitedCodel{codelTwin{target: 12 * ms, ecn: ecn, least: 1500, drop: twinDrop}, limits}},
			{"fq-codel", NewFQCoDel(limits, 40, slowest, 1500, ecn, drop(0)), fq},
			{"red", red, &redTwin{limits: limits, profiles: red.Profiles, packet: slowest, ecn: ecn, random: source(), empty: true, count: [3]int{-1, -1, -1}}},
			{"pie", NewPIE(limits, 1500, ecn, source()), &pieTwin{limits: limits, ecn: ecn, random: source(), allowance: 150 * ms, next: 15 * ms}},
		} {
			r := rand.New(rand.NewPCG(22, uint64(trial)))
			now, free, load, turn := time.Duration(0), time.Duration(0), 1.0, time.Duration(0)
			for step := range 6000 {
				if now >= turn {
					load, turn = 2*r.Float64(), now+time.Duration(r.Int64N(int64(time.Second)))
					if r.IntN(6) == 0 { // a pause
						now += time.Duration(r.Int64N(int64(3 * time.Second)))
					}
				}
				now += time.Duration(r.ExpFloat64() / load * 0.6 * float64(slowest))
				where := fmt.Sprintf("trial %d, %s, packet %d at %v", trial, c.name, step, now)
				gone = [2]list{}
				for ; free <= now; free += 100_000 {
					p, q := c.real.Pop(free), c.twin.pop(free)
					if (p == nil) != (q == nil) || p != nil && (p.Slot != q.Slot || p.ECN() != q.ECN()) {
						t.Fatalf("%s: it sends %v; by its specification %v", where, p, q)
					}
					if p == nil {
						free = now + 1
						break
					}
					free += time.Duration(p.Size) * 8 * time.Second / rate
					if p.ECN() == 3 {
						seen[c.name+" marks"]++
					}
				}
				p := pkt(uint16(r.IntN(60)), []codepoint.DSCP{0, codepoint.AF(1, 1), codepoint.AF(1, 2), codepoint.AF(1, 3)}[r.IntN(4)], now)
				p.Size, p.Slot = int32(64+r.IntN(1437)), int32(step)
				if r.IntN(4) > 0 {
					p.SetECN(2)
				}
				copied := *p
				copied.Bytes = slices.Clone(p.Bytes)
				v, w := c.real.Push(now, p), c.twin.push(now, &copied)
				if v != w || p.ECN() != copied.ECN() {
					t.Fatalf("%s: it is %d, marked %d; by its specification %d, marked %d", where, v, p.ECN(), w, copied.ECN())
				}
				seen[fmt.Sprint(c.name, v)]++
				if !slices.EqualFunc(gone[0], gone[1], func(p, q *packet.Packet) bool { return p.Slot == q.Slot }) {
					t.Fatalf("%s: %d packets are dropped; by its specification %d, or others", where, len(gone[0]), len(gone[1]))
				}
				seen[c.name+" drops"] += len(gone[0])
				if all, level := list(c.twin.waiting()), c.real.Level(); level.Packets != len(all) || level.Bytes != all.bytes() {
					t.Fatalf("%s: %d packets of %d bytes wait; by its specification %d of %d", where, level.Packets, level.Bytes, len(all), all.bytes())
				}
			}
		}
	}
	for _, what := range []string{"codel1", "codel drops", "codel marks", "codel, slow drops", "fq-codel1", "fq-codel drops", "fq-codel marks", "red1", "red2", "red marks", "pie1", "pie2", "pie marks"} {
		if seen[what] < 20 {
			t.Errorf("%s: %d times of %v", what, seen[what], seen)
		}
	}
}
