package simulate

import (
	"math/rand/v2"
	"slices"
	"testing"
	"time"
)

// Events come out in the order of their times, those of one time in the order in
// which they were planned: the same as from a sorted list, however planning and
// taking alternate.
func TestEventsComeInOrder(t *testing.T) {
	r := rand.New(rand.NewPCG(80, 80))
	for _, spread := range []int64{1, 10, 1_000_000} { // many at one time, or few
		var q events
		var list []event
		now := time.Duration(0)
		for step := range 50_000 {
			if len(list) > 0 && r.IntN(2) == 0 {
				e, ok := q.next()
				if want := list[0]; !ok || e != want {
					t.Fatalf("spread %d, step %d: %+v comes; %+v is next", spread, step, e, want)
				}
				now, list = e.at, list[1:]
				continue
			}
			e := event{at: now + time.Duration(r.Int64N(spread)), kind: kind(r.IntN(6)), source: &source{index: step}}
			q.plan(e)
			i, _ := slices.BinarySearchFunc(list, e, func(a, b event) int {
				if a.at <= b.at {
					return -1
				}
				return 1
			})
			list = slices.Insert(list, i, e)
		}
		for _, want := range list {
			if e, ok := q.next(); !ok || e != want {
				t.Fatalf("spread %d: %+v comes; %+v is next", spread, e, want)
			}
		}
		if _, ok := q.next(); ok || len(q.slots) > 50_000 {
			t.Errorf("spread %d: something is left, or %d slots were not used again", spread, len(q.slots))
		}
	}
}

func BenchmarkEvents(b *testing.B) {
	var q events
	r := rand.New(rand.NewPCG(81, 81))
	for range 200 {
		q.plan(event{at: time.Duration(r.IntN(1_000_000))})
	}
	b.ReportAllocs()
	for b.Loop() {
		e, _ := q.next()
		e.at += time.Duration(r.IntN(1_000_000))
		q.plan(e)
	}
}
