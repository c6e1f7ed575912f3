package compare

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
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

// TestTurns: each turn, for one expectation and for several.
func TestTurns(t *testing.T) {
	run := func(p99 float64, lines ...string) *measure.Result {
		r := &measure.Result{Imbrel: 1, Rehearsal: "r", DurationS: 1}
		for _, text := range lines {
			e, err := policy.ParseExpectation(text)
			if err == nil && e.Versus == "" {
				e.Limit /= e.Metric.Row().Per
			}
			r.Expectations = append(r.Expectations, measure.Outcome{Text: text, Measured: &p99, Limit: e.Limit, Holds: err == nil && e.Holds(p99)})
		}
		return r
	}
	for _, c := range []struct {
		before, after   string // lines
		was, is         float64
		want            string
		worse, backward bool // backward: the other way round is for the worse
	}{
		{"voice delay p99 <= 20ms", "voice delay p99 <= 20ms", 10, 15, "", false, false},
		{"voice delay p99 <= 20ms", "voice delay p99 <= 20ms", 10, 25, "fails now", true, false},
		{"voice delay p99 <= 20ms", "voice delay p99 <= 0.02s", 10, 25, "fails now", true, false},
		{"voice delay p99 <= 0.02s", "voice delay p99 <= 20ms", 25, 10, "holds now", false, true},
		{"voice delay p99 <= 20ms", "voice delay p99 <= 10ms", 8, 9, "asks for more", false, true},
		{"voice delay p99 <= 20ms", "voice delay p99 < 20ms", 8, 9, "asks for more", false, true},
		{"voice delay p99 <= 20ms", "voice delay p99 = 20ms", 20, 20, "asks for more", false, true},
		{"voice delay p99 <= 20ms", "voice delay p99 <= 10ms", 8, 15, "asks for more, fails", false, true},
		{"voice delay p99 <= 20ms", "voice delay p99 <= 10ms", 8, 25, "fails now", true, true},
		{"voice delay p99 <= 20ms", "voice delay p99 <= 10ms", 25, 25, "asks for more, fails", false, true},
		{"voice delay p99 <= 10ms", "voice delay p99 <= 20ms", 8, 25, "fails now", true, false},
		{"voice delay p99 <= 10ms", "voice delay p99 <= 20ms", 12, 25, "asks for less, fails", true, false},
		{"voice delay p99 <= 20ms", "voice delay p99 >= 1ms", 8, 9, "asks for less", true, true},
		{"voice delay p99 <= 20ms", "voice delay p99 >= 10ms", 8, 9, "asks for less, fails", true, true},
		{"voice delay p99 <= 20ms", "voice delay p95 <= 20ms", 8, 9, "new; gone", true, true},
		{"voice mark = ef at a/b out", "voice mark = af41 at a/b out", 100, 100, "new; gone", true, true},
		{"a : b rate ratio 1..3", "a : b rate ratio 1.5..2", 2, 2, "asks for more", false, true},
		{"a : b rate ratio 1..3", "a : b rate ratio 2..4", 2, 2, "asks for less", true, true},
		{"a : b rate ratio 1..3", "a : c rate ratio 1..3", 2, 2, "new; gone", true, true},
		{"not a line", "not a line", 2, 2, "", false, false},
		{"not a line", "no line either", 2, 2, "new, fails; gone", true, true},
		// Of two bounds of one figure each goes with its like, wherever it stands.
		{"voice delay p99 <= 20ms; voice delay p99 >= 1ms", "voice delay p99 >= 1ms; voice delay p99 <= 15ms", 8, 9, "asks for more", false, true},
		{"voice delay p99 <= 20ms; voice delay p99 <= 9ms", "voice delay p99 <= 9.5ms; voice delay p99 <= 9ms", 8, 8, "asks for more", false, true},
		{"voice delay p99 <= 20ms", "voice delay p99 <= 20ms; voice loss = 0", 0, 0, "new", false, true},
	} {
		before, after := run(c.was, strings.Split(c.before, "; ")...), run(c.is, strings.Split(c.after, "; ")...)
		r := Runs(before, after)
		var got []string
		for i := range r.Expectations {
			got = append(got, r.Expectations[i].Became())
		}
		if strings.Join(got, "; ") != c.want || r.Worse() != c.worse || Runs(after, before).Worse() != c.backward {
			t.Errorf("%s, %v; then %s, %v: %q, worse %v, the other way round %v; want %q, %v, %v", c.before, c.was, c.after, c.is, got, r.Worse(), Runs(after, before).Worse(), c.want, c.worse, c.backward)
		}
	}
}
