package measure

import (
	"math/rand/v2"
	"slices"
	"testing"
	"time"
)

// A history says of each interval what its own packets did, whatever came before, and keeps so many intervals.
func TestHistory(t *testing.T) {
	const most, intervals = 8, 20
	random := rand.New(rand.NewPCG(1, 2))
	h := NewHistory(most, time.Second, 0)
	var all Distribution
	var offered, sent, drops uint64
	type step struct {
		bps, drops int64
		p99        float64
	}
	var want []step
	for i := range intervals {
		var own Distribution
		for range 1 + random.IntN(500) {
			v := time.Duration(random.ExpFloat64() * float64(i+1) * float64(time.Millisecond))
			own.Add(v)
			all.Add(v)
		}
		bytes, lost := uint64(random.IntN(1e6)), uint64(random.IntN(50))
		offered, sent, drops = offered+bytes+100*lost, sent+bytes, drops+lost
		want = append(want, step{int64(8 * bytes), int64(lost), inMilliseconds(own.Statistic("p99"))})
		now := time.Duration(i+1) * time.Second
		if !h.Due(now) || h.Due(now-time.Millisecond) {
			t.Fatalf("a sample is due at %v", now)
		}
		samples := []Sample{{Node: "a", Interface: "wan", Direction: "out", RateBps: 1e6, Class: "voice", OfferedBytes: offered, SentBytes: sent, Drops: drops, QueueBytes: int64(i), Waits: &all}}
		if i > 10 { // a class that comes with another file
			samples = append(samples, Sample{Node: "a", Interface: "wan", Direction: "out", Class: "new", SentBytes: uint64(1000 * i), OfferedBytes: uint64(1000 * i), Waits: &Distribution{}})
		}
		h.Add(now, samples)
	}
	s := h.Series()
	if s.FromS != intervals-most || len(s.Interfaces) != 1 || len(s.Interfaces[0].Classes) != 2 {
		t.Fatalf("from %g s, %+v", s.FromS, s.Interfaces)
	}
	c := &s.Interfaces[0].Classes[0]
	for i, w := range want[intervals-most:] {
		if c.SentBps[i] != w.bps || c.Drops[i] != w.drops || c.QueueBytes[i] != int64(intervals-most+i) {
			t.Errorf("interval %d: %d bit/s, %d drops; want %+v", i, c.SentBps[i], c.Drops[i], w)
		}
		if d := c.Waits.P99[i] - w.p99; d > w.p99*0.02 || d < -w.p99*0.02 {
			t.Errorf("interval %d: p99 %g, want %g", i, c.Waits.P99[i], w.p99)
		}
	}
	if p99, longest := c.Recent(3); p99 != slices.Max(c.Waits.P99[most-3:]) || longest < p99 {
		t.Errorf("of the last three: %g, %g", p99, longest)
	}
	// Counters that begin anew are no time travel, and a class that is gone goes when all of it has passed.
	for i := range most + 1 {
		h.Add(time.Duration(intervals+1+i)*time.Second, []Sample{{Node: "a", Interface: "wan", Direction: "out", Class: "voice", SentBytes: 10, OfferedBytes: 10, Waits: &Distribution{}}})
	}
	s = h.Series()
	if len(s.Interfaces[0].Classes) != 1 || slices.Min(s.Interfaces[0].Classes[0].SentBps) < 0 {
		t.Errorf("after a new beginning: %+v", s.Interfaces[0].Classes)
	}
}
