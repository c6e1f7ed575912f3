package meter

import (
	"math/rand/v2"
	"testing"
	"time"

	"imbrel.example/imbrel/core/unit"
)

// With a burst of what was needed a token bucket lets everything pass, and with a few
// bytes less it does not.
func TestNeed(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 1))
	for trial := range 500 {
		rate := unit.Rate(10_000 + r.IntN(10_000_000))
		n := NewNeed(rate)
		type packet struct {
			at   time.Duration
			size int
		}
		var all []packet
		at := time.Duration(0)
		for range 1 + r.IntN(400) {
			size := 40 + r.IntN(1500)
			at += time.Duration(r.Float64() * 2.2 * float64(rate.Time(unit.Size(size))))
			all = append(all, packet{at, size})
			n.Add(at, size)
		}
		red := func(burst unit.Size) (count int) {
			m := New(rate, burst, false)
			for _, p := range all {
				if m.Measure(p.at, p.size, Green) == Red {
					count++
				}
			}
			return count
		}
		if got := red(n.Burst()); got > 0 {
			t.Fatalf("trial %d: %d red with a burst of %d bytes", trial, got, n.Burst())
		}
		if less := n.Burst() - 3; red(less) == 0 {
			t.Fatalf("trial %d: none red with %d bytes, and %d are said to be needed", trial, less, n.Burst())
		}
	}
}
