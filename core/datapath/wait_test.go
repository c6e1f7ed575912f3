package datapath

import (
	"flag"
	"math/rand/v2"
	"testing"
	"time"

	"imbrel.example/imbrel/core/allocation"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
)

var waits = flag.Int("waits", 150, "in how many random trees TestBelowItsPromise measures the waits of a class")

// No packet of a class that sends no more than its promise, each after the time of the last one at it, waits
// longer than the bound, whatever the others send; and the bound is no more than a quarter above what is seen.
func TestBelowItsPromise(t *testing.T) {
	worst := 0.0
	beyond, tried := 0, 0
	for trial := range *waits {
		r := rand.New(rand.NewPCG(51, uint64(trial)))
		g := &randomTree{r: r}
		shape := unit.Rate(1_000_000 + r.IntN(9_000_000))
		line := shape * unit.Rate(1+r.IntN(10))
		p := plan.New(&policy.Policy{Shape: unit.Share{Rate: shape}, Treat: g.level(1+r.IntN(4), shape, shape)}, line, packet.FramingIP())
		var of []*plan.Entry
		for _, e := range p.Entries {
			if _, ok := leafOf(e); ok {
				if _, ok := allocation.BelowPromise(p, e, 64, p.MaxPacket); ok && e.Promise > 20_000 {
					of = append(of, e)
				}
			}
		}
		if len(of) == 0 || len(p.Problems) > 0 {
			continue
		}
		tried++
		e := of[r.IntN(len(of))]
		own, _ := leafOf(e)
		const lasts = 3 * time.Second
		fs := make([]flood, 0, g.leaves)
		for i := 1; i <= g.leaves; i++ {
			if i == own || r.IntN(8) == 0 {
				continue
			}
			starts := time.Duration(0)
			if r.IntN(3) == 0 {
				starts = time.Duration(r.Int64N(int64(lasts / 2)))
			}
			length := 1500
			if r.IntN(3) == 0 {
				length = 64 + r.IntN(1437)
			}
			fs = append(fs, flood{i, length, line + line/10, starts, lasts})
		}
		rivals := floods(fs...)
		length := func() int { return 64 + r.IntN(1437) }
		if r.IntN(2) == 0 {
			same := length()
			length = func() int { return same }
		}
		gaps := r.IntN(3)
		at, size := time.Duration(r.Int64N(int64(lasts/4))), length()
		rival, more := rivals()
		next := func() (arrival, bool) {
			if at < lasts && (!more || at <= rival.at) {
				a := arrival{at, own, size}
				at += e.Promise.Time(unit.Size(size)) + 1
				if size = length(); gaps > 0 && r.IntN(3*gaps) == 0 {
					at += time.Duration(r.Int64N(int64(e.Promise.Time(10_000))))
				}
				return a, true
			}
			a, ok := rival, more
			if ok {
				rival, more = rivals()
			}
			return a, ok
		}
		serve(New(Config{Plan: p}), line, next, func(now time.Duration, pkt *packet.Packet) {
			if int(pkt.Flow.ToPort) != own {
				return
			}
			bound, _ := allocation.BelowPromise(p, e, unit.Size(pkt.Size), p.MaxPacket)
			waited := now + line.Time(unit.Size(pkt.Size)) - pkt.Arrived
			worst = max(worst, float64(waited)/float64(bound))
			if waited > bound {
				if beyond++; beyond <= 5 {
					t.Errorf("tree %d: a packet of %d B of %s, promised %s of %s, waits %v; the bound is %v", trial, pkt.Size, e.Name, e.Promise, shape, waited, bound)
				}
			}
		})
	}
	t.Logf("%d trees: the longest wait is %.3f of its bound; %d packets wait longer", tried, worst, beyond)
	if worst < 0.8 {
		t.Errorf("the longest wait is %.3f of its bound: the bound says little", worst)
	}
}

// A class gets its promise although more urgent bursts hold it back for longer than a few packets, again and again, and what the
// others leave goes to somebody else.
func TestPromiseBetweenBursts(t *testing.T) {
	const line, lasts = 10 * unit.MbitPerSecond, 10 * time.Second
	percent := func(n int) unit.Share { return unit.Share{Percent: unit.Percent(10_000 * n)} }
	burst := unit.Size(100_000)
	p := plan.New(&policy.Policy{Treat: []policy.Entry{
		treats(1, policy.Entry{Priority: 1, Police: &policy.Police{Rate: percent(30), Burst: burst, Red: policy.Action{Drop: true}}, Queue: policy.Queue{Bytes: 2 * burst}}),
		treats(2, policy.Entry{AtLeast: percent(50), Weight: 1, Queue: policy.Queue{Bytes: 10 * burst}}),
		treats(3, policy.Entry{AtLeast: percent(20), Weight: 99}),
	}}, line, packet.FramingIP())
	own := p.Entries[1]
	bound, ok := allocation.BelowPromise(p, own, 1500, p.MaxPacket)
	if !ok || len(p.Problems) > 0 {
		t.Fatal(p.Problems)
	}
	steady := floods(flood{2, 1500, own.Promise, 0, lasts}, flood{3, 1500, line, 0, lasts})
	cycle := (line * 3 / 10).Time(burst)
	at, left := time.Duration(0), 0
	rival, more := steady()
	longest := time.Duration(0)
	serve(New(Config{Plan: p}), line, func() (arrival, bool) {
		if left == 0 {
			at, left = at+cycle+time.Millisecond, int(burst)/1500
		}
		if at < lasts && (!more || at <= rival.at) {
			left--
			return arrival{at, 1, 1500}, true
		}
		a, ok := rival, more
		if ok {
			rival, more = steady()
		}
		return a, ok
	}, func(now time.Duration, pkt *packet.Packet) {
		if int(pkt.Flow.ToPort) == 2 {
			longest = max(longest, now+line.Time(unit.Size(pkt.Size))-pkt.Arrived)
		}
	})
	if longest > bound || longest < bound/2 {
		t.Errorf("a class at its promise waits %v; the bound is %v", longest, bound)
	}
}

// TestChargeTakesFromTheShape: after packets that went beside the path the next one leaves as late as after packets through it.
func TestChargeTakesFromTheShape(t *testing.T) {
	for _, charged := range []int{1, 3, 10} {
		var leaves [2]time.Duration
		for beside := range 2 {
			p := New(Config{Plan: plan.New(&policy.Policy{Shape: unit.Share{Rate: 1_000_000}, Treat: []policy.Entry{treats(1, policy.Entry{})}}, 10_000_000, packet.FramingIP())})
			var l pool
			now := time.Duration(0)
			next := func() {
				pkt, again := p.Dequeue(now)
				for pkt == nil {
					now = again
					pkt, again = p.Dequeue(now)
				}
			}
			for range charged {
				if pkt := l.get(1, 1000); beside == 1 {
					p.Charge(0, pkt)
				} else if p.Enqueue(now, pkt) == Passed {
					next()
				}
			}
			p.Enqueue(now, l.get(1, 1000))
			next()
			leaves[beside] = now
		}
		if leaves[0] != leaves[1] || charged == 10 && leaves[1] < 60*time.Millisecond {
			t.Errorf("after %d packets the next leaves at %v, after as many beside the path at %v", charged, leaves[0], leaves[1])
		}
	}
}
