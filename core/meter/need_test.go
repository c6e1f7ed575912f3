package meter

import (
	"math/rand/v2"
	"testing"
	"time"

	"imbrel.example/imbrel/core/unit"
)

// What no bucket of a day holds is not counted, and nothing after it.
func TestNeedOfADay(t *testing.T) {
	n := NewNeed(8000)
	for range 100_000 {
		n.Add(0, 1000)
	}
	if got := n.Burst(); got != 0 {
		t.Errorf("%d bytes are needed", got)
	}
	n.Add(0, 1000)
	if got := n.Burst(); got != 0 {
		t.Errorf("and then %d bytes", got)
	}
	n = NewNeed(8000)
	n.Add(time.Hour, 1000)
	n.Add(time.Hour, 500)
	if got := n.Burst(); got != 1501 {
		t.Errorf("two packets at once need %d bytes", got)
	}
}

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
