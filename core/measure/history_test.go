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

// TestPutKeepsThePeak: between two intervals the longest queue is kept, and the next interval begins without it.
func TestPutKeepsThePeak(t *testing.T) {
	h := NewHistory(8, time.Second, 0)
	offered, sent, drops := uint64(0), uint64(0), uint64(0)
	put := func(at time.Duration, queue int64) {
		h.Put(at, []Sample{{Node: "a", Interface: "wan", Direction: "out", Class: "voice", OfferedBytes: offered, SentBytes: sent, Drops: drops, QueueBytes: queue, Waits: &Distribution{}}})
	}
	offered, sent, drops = 1000, 500, 5
	put(time.Second, 10)
	put(1300*time.Millisecond, 900)
	put(1600*time.Millisecond, 20)
	put(2*time.Second, 30)
	put(3*time.Second, 40)
	c := &h.Series().Interfaces[0].Classes[0]
	if !slices.Equal(c.QueueBytes, []int64{10, 900, 40}) {
		t.Errorf("queues of %v", c.QueueBytes)
	}
	// Any counter that became less says that all began anew.
	for n, again := range [][3]uint64{{10, 600, 6}, {20, 100, 7}, {30, 200, 2}} {
		offered, sent, drops = again[0], again[1], again[2]
		put(time.Duration(4+n)*time.Second, 0)
		c := &h.Series().Interfaces[0].Classes[0]
		last := len(c.Drops) - 1
		if c.OfferedBps[last] != int64(8*offered) || c.SentBps[last] != int64(8*sent) || c.Drops[last] != int64(drops) {
			t.Errorf("counters that began anew at %v: %d and %d bit/s, %d drops", again, c.OfferedBps[last], c.SentBps[last], c.Drops[last])
		}
		offered = 100000 // not less the next time
		put(time.Duration(4+n)*time.Second+time.Millisecond, 0)
	}
}

// TestCumulative: each duration with the part of all that is at most as long, up to all.
func TestCumulative(t *testing.T) {
	var d Distribution
	for _, ms := range []int{1, 1, 2, 8} {
		d.Add(time.Duration(ms) * time.Millisecond)
	}
	ms, part := d.Summary().Cumulative()
	if !slices.Equal(part, []float64{0.5, 0.75, 1}) || len(ms) != 3 || !slices.IsSorted(ms) || ms[0] < 1 || ms[0] > 1.01 || ms[2] != 8 {
		t.Errorf("%v are at most %v ms", part, ms)
	}
}
