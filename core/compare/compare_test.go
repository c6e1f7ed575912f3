package compare

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
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
		// A line that another one still asks for is not gone.
		{"voice delay p99 <= 20ms; voice delay p99 <= 20ms", "voice delay p99 <= 20ms", 8, 8, "", false, false},
		{"voice delay p99 <= 20ms; voice delay p99 <= 30ms", "voice delay p99 <= 20ms", 8, 8, "", false, false},
		{"voice delay p99 <= 20ms; voice delay p99 <= 30ms", "voice delay p99 <= 30ms", 8, 8, "gone", true, false},
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

// TestNotes: each difference between two runs before anything is measured, and no other.
func TestNotes(t *testing.T) {
	for name, c := range map[string]struct {
		change  func(r *measure.Result)
		repeats bool
		want    []*words.Row
	}{
		"the same":              {func(*measure.Result) {}, false, nil},
		"another rehearsal":     {func(r *measure.Result) { r.Rehearsal = "s" }, false, []*words.Row{words.TwoRehearsals}},
		"another duration":      {func(r *measure.Result) { r.DurationS = 2 }, false, []*words.Row{words.OtherDuration}},
		"another seed":          {func(r *measure.Result) { r.Seed = 7 }, false, []*words.Row{words.OtherSeeds}},
		"other seeds, repeated": {func(r *measure.Result) { r.Seed = 7 }, true, nil},
		"interrupted":           {func(r *measure.Result) { r.Incomplete = true }, false, []*words.Row{words.Interrupted}},
		"other traffic":         {func(r *measure.Result) { r.Traffic[0].Name = "shop" }, false, []*words.Row{words.OnlyIn, words.OnlyIn}},
		"more traffic":          {func(r *measure.Result) { r.Traffic = append(r.Traffic, measure.Row{Name: "shop"}) }, false, []*words.Row{words.OnlyIn}},
	} {
		before, after := []*measure.Result{one(0, 10, true)}, []*measure.Result{one(0, 10, true)}
		c.change(after[0])
		if c.repeats {
			before, after = append(before, one(0, 10, true)), append(after, one(0, 10, true))
		}
		for _, r := range []*Result{Repeats(before, after), Repeats(after, before)} {
			if !slices.EqualFunc(r.Notes, c.want, words.Fact.Is) {
				t.Errorf("%s: %v", name, r.Notes)
			}
		}
	}
}

// TestOrderOfTurns: what fails comes first, and a changed line has its old text.
func TestOrderOfTurns(t *testing.T) {
	a, b := one(0, 10, true), one(0, 10, true)
	v := 10.0
	outcome := func(text string, limit float64, holds bool) measure.Outcome {
		return measure.Outcome{Text: text, Measured: &v, Unit: "ms", Limit: limit, Holds: holds}
	}
	a.Expectations = []measure.Outcome{outcome("x delay p99 <= 20ms", 20, true), outcome("y delay p99 <= 20ms", 20, true), outcome("z delay p99 <= 20ms", 20, true)}
	b.Expectations = []measure.Outcome{outcome("x delay p99 <= 15ms", 15, true), outcome("y delay p99 <= 30ms", 30, true), outcome("w delay p99 <= 20ms", 20, true), a.Expectations[2]}
	b.Expectations[3].Holds = false
	var got []string
	for _, e := range Runs(a, b).Expectations {
		got = append(got, e.Title()+": "+e.Became())
	}
	want := []string{"z delay p99 <= 20ms: fails now", "y delay p99 <= 30ms (before: y delay p99 <= 20ms): asks for less", "x delay p99 <= 15ms (before: x delay p99 <= 20ms): asks for more", "w delay p99 <= 20ms: new"}
	if !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
	// In how many of several runs it holds.
	if e := Repeats([]*measure.Result{a, a}, []*measure.Result{b, b}).Expectations[0]; e.OldHolds != 2 || e.NewHolds != 0 {
		t.Errorf("it held in %d of 2 and holds in %d of 2", e.OldHolds, e.NewHolds)
	}
	if e := Runs(a, b).Expectations[1]; e.OldHolds != 0 || e.NewHolds != 0 {
		t.Errorf("one run is not counted: %+v", e)
	}
	above := outcome("x delay p99 <= 15ms", 15, false) // the true figure is higher than 10 ms
	above.Above = true
	b.Expectations = []measure.Outcome{above}
	if e := Runs(a, b).Expectations[0]; e.Turn != FailsNow {
		t.Errorf("what is above the figure is not met: %s", e.Turn)
	}
}

// TestDropsByPlace: drops are compared by class and place, also where one side has none, and not between runs of other durations.
func TestDropsByPlace(t *testing.T) {
	with := func(drops, carrier uint64) *measure.Result {
		r := one(0, 10, true)
		if drops > 0 {
			r.Interfaces = []measure.Interface{{Node: "west", Interface: "wan", Direction: "out", Classes: []measure.Class{{Class: "voice", Drops: measure.Drops{QueueFull: drops}}}}}
		}
		r.Links = []measure.Link{{From: "west/wan", Drops: carrier}}
		return r
	}
	for _, c := range []struct {
		old, new [2]uint64
		want     []string
	}{
		{[2]uint64{0, 0}, [2]uint64{50, 0}, []string{"voice at west/wan out worse"}},
		{[2]uint64{50, 0}, [2]uint64{0, 0}, []string{"voice at west/wan out better"}},
		{[2]uint64{50, 10}, [2]uint64{60, 21}, []string{"the carrier of west/wan worse"}},
		{[2]uint64{50, 10}, [2]uint64{61, 20}, []string{"voice at west/wan out worse"}},
		{[2]uint64{1000, 0}, [2]uint64{1050, 0}, nil},
	} {
		var got []string
		before, after := with(c.old[0], c.old[1]), with(c.new[0], c.new[1])
		for _, m := range Runs(before, after).Moved {
			got = append(got, m.Name+" "+m.Turn)
		}
		if !slices.Equal(got, c.want) {
			t.Errorf("%v, then %v: %q", c.old, c.new, got)
		}
		after.DurationS = 2
		if r := Runs(before, after); len(r.Moved) > 0 {
			t.Errorf("drops of runs of other durations are compared: %+v", r.Moved)
		}
	}
}

// TestNoise: means that differ by no more than chance allows did not move; where one does, the noise is that of Welch's test.
func TestNoise(t *testing.T) {
	runs := func(p99s ...float64) (out []*measure.Result) {
		for _, v := range p99s {
			out = append(out, one(0, v, true))
		}
		return out
	}
	find := func(r *Result) *Move {
		for i := range r.Moved {
			if r.Moved[i].Metric == "delay p99" && r.Moved[i].Of == "traffic" {
				return &r.Moved[i]
			}
		}
		return nil
	}
	if m := find(Repeats(runs(10, 20), runs(30, 40))); m != nil { // 12.706 · √(50/2 + 50/2) is 90
		t.Errorf("within the noise: %+v", m)
	}
	// t of 2 degrees is 4.303; the variances are 1 and 4, of three runs each.
	m := find(Repeats(runs(9, 10, 11), runs(38, 40, 42)))
	if m == nil || m.Turn != "worse" || *m.Old != 10 || *m.New != 40 || math.Abs(*m.Noise-4.303*math.Sqrt(1.0/3+4.0/3)) > 1e-9 {
		t.Errorf("beyond the noise: %+v", m)
	}
	if m := find(Repeats(runs(10), runs(40))); m == nil || m.Noise != nil {
		t.Errorf("of one run there is no noise: %+v", m)
	}
}

// TestRateFollowsWhatIsOffered: where less was sent, less that arrives is neither worse nor better.
func TestRateFollowsWhatIsOffered(t *testing.T) {
	for _, c := range []struct {
		offered int64
		want    string
	}{{1e6, "worse"}, {0.5e6, "differs"}} {
		a, b := one(0, 10, true), one(0, 10, true)
		b.Traffic[0].OfferedBps, b.Traffic[0].RateBps = c.offered, 0.5e6
		if r := Runs(a, b); len(r.Moved) == 0 || r.Moved[0].Metric != "rate" || r.Moved[0].Turn != c.want {
			t.Errorf("offered %d: %+v", c.offered, r.Moved)
		}
	}
}
