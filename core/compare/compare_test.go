package compare

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"imbrel.example/imbrel/core/measure"
)

// A run with one traffic and one expectation.
func one(loss, p99 float64, holds bool) *measure.Result {
	met := measure.TrafficFigures{SentPackets: 1000, Loss: loss, OfferedBps: 1e6, RateBps: int64(1e6*(1-loss) + 0.5), Delay: &measure.Milliseconds{P50: p99 / 2, P99: p99}}
	value := p99
	return &measure.Result{Imbrel: 1, Rehearsal: "r", DurationS: 1, Traffic: []measure.Row{{Name: "desk", Direction: "forward", Class: "voice", TrafficFigures: met}},
		Expectations: []measure.Outcome{{Text: "voice delay p99 <= 25ms", Measured: &value, Unit: "ms", Limit: 25, Holds: holds}}}
}

// A desk that lost more than before.
func ExampleRuns() {
	r := Runs(one(0.066, 10, true), one(0.332, 10, false))
	for _, m := range r.Moved {
		fmt.Printf("%s %s %.1f → %.1f %s, %s\n", m.Name, m.Metric, *m.Old, *m.New, m.Unit, m.Turn)
	}
	fmt.Println(r.Expectations[0].Turn, r.Worse())
	// Output:
	// desk loss 6.6 → 33.2 %, worse
	// desk rate 934000.0 → 668000.0 bit/s, worse
	// fails now true
}

// The other way round, what got worse got better, and the same figures moved.
func TestBothWays(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 1))
	moved := 0
	for range 5000 {
		a, b := one(r.Float64()*r.Float64(), r.ExpFloat64()*20, r.IntN(2) == 0), one(r.Float64()*r.Float64(), r.ExpFloat64()*20, r.IntN(2) == 0)
		if r.IntN(4) == 0 {
			b.Traffic[0].Delay = nil
		}
		forth, back := Runs(a, b), Runs(b, a)
		if len(forth.Moved) != len(back.Moved) || forth.Same != back.Same {
			t.Fatalf("%d and %d moved, %d and %d did not", len(forth.Moved), len(back.Moved), forth.Same, back.Same)
		}
		for _, m := range forth.Moved {
			moved++
			i := slices.IndexFunc(back.Moved, func(o Move) bool { return o.Name == m.Name && o.Metric == m.Metric })
			if want := map[string]string{"worse": "better", "better": "worse", "differs": "differs"}[m.Turn]; i < 0 || back.Moved[i].Turn != want {
				t.Fatalf("%+v one way, the other %+v", m, back.Moved)
			}
		}
		if !slices.IsSortedFunc(forth.Moved, func(x, y Move) int {
			order := []string{"worse", "differs", "better"}
			return slices.Index(order, x.Turn) - slices.Index(order, y.Turn)
		}) {
			t.Fatalf("what got worse does not come first: %+v", forth.Moved)
		}
		if same := Runs(a, a); len(same.Moved)+len(same.Expectations)+len(same.Notes) > 0 {
			t.Fatalf("a run differs from itself: %+v", same)
		}
	}
	if moved < 5000 {
		t.Errorf("the test tests little: %d moved", moved)
	}
}
