package repeat

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"imbrel.example/imbrel/core/measure"
)

// The mean that samples are drawn around is in the interval in 95 of 100.
func TestIntervalsHoldTheMean(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 2))
	for _, n := range []int{2, 5, 20, 40} {
		const draws = 4000
		in := 0
		for range draws {
			values := make([]float64, n)
			for i := range values {
				values[i] = 7 + 3*r.NormFloat64()
			}
			if v := IntervalOf(values); v.Low <= 7 && 7 <= v.High {
				in++
			}
		}
		if share := float64(in) / draws; math.Abs(share-0.95) > 0.015 {
			t.Errorf("of %d values: %.3f of the intervals hold the mean", n, share)
		}
	}
	for n, want := range map[int]float64{1: 12.706, 30: 2.042, 40: 2.021, 60: 2.000, 120: 1.980} {
		if got := T95(n); math.Abs(got-want) > 0.0006 {
			t.Errorf("t of %d degrees is %v, in tables %v", n, got, want)
		}
	}
}

// What several runs come to.
func Example() {
	run := func(seed uint64, delay float64, holds bool) *measure.Result {
		verdict := "pass"
		if !holds {
			verdict = "fail"
		}
		return &measure.Result{Rehearsal: "noon", Policy: true, Seed: seed, Verdict: verdict,
			Expectations: []measure.Outcome{{Text: "voice delay p99 <= 20ms", Measured: &delay, Unit: "ms", Holds: holds}}}
	}
	s := Of([]*measure.Result{run(1, 18, true), run(2, 19, true), run(3, 21, false)})
	h := s.Expectations[0]
	fmt.Printf("%s: %q in %d of %d, not with seed %d; %.1f ms, between %.1f and %.1f\n", s.Verdict, h.Text, h.Holds, h.Runs, *h.Fails, h.Measured.Mean, h.Measured.Low, h.Measured.High)
	// Output: fail: "voice delay p99 <= 20ms" in 2 of 3, not with seed 3; 19.3 ms, between 15.5 and 23.1
}

// Measured is of the whole time, also in runs that fail in a phase of an event.
func TestFailuresInAPhase(t *testing.T) {
	of := func(phase string, measured, whole float64) *measure.Result {
		o := measure.Outcome{Text: "voice loss <= 5%", Unit: "%", Phase: phase, Measured: &measured}
		if phase != "" {
			o.Whole = &whole
		}
		return &measure.Result{Rehearsal: "run", Verdict: "fail", Expectations: []measure.Outcome{o}}
	}
	h := Of([]*measure.Result{of("", 6, 0), of("during cut", 100, 4), of("during cut", 90, 5)}).Expectations[0]
	if h.Measured.Mean != 5 || h.Measured.Min != 4 || h.Measured.Max != 6 || h.Holds != 0 || !slices.Equal(h.FailsIn, []string{"during cut"}) {
		t.Errorf("%+v of %+v", h, h.Measured)
	}
}

// TestASubjectOfLaterRuns: a class that only some runs have is not left out, and its figures count these runs.
func TestASubjectOfLaterRuns(t *testing.T) {
	run := func(classes ...string) *measure.Result {
		r := &measure.Result{Rehearsal: "run"}
		for _, c := range classes {
			r.Traffic = append(r.Traffic, measure.Row{Name: "desk", Direction: "forward", Class: c, TrafficFigures: measure.TrafficFigures{SentPackets: 100, RateBps: 8000}})
			r.Classes = append(r.Classes, measure.ClassResult{Class: c, TrafficFigures: measure.TrafficFigures{SentPackets: 100, RateBps: 8000}})
		}
		return r
	}
	runs := map[Subject]int{}
	for _, f := range Of([]*measure.Result{run("voice"), run("voice", "films"), run("films")}).Figures {
		if f.Metric == "rate" {
			runs[f.Subject] = f.Runs
		}
	}
	for _, class := range []string{"voice", "films"} {
		if n, m := runs[Subject{"traffic", "desk", "forward", class}], runs[Subject{Of: "class", Name: class}]; n != 2 || m != 2 {
			t.Errorf("%s is in 2 of 3 runs; figures of its traffic are of %d, of the class of %d", class, n, m)
		}
	}
}
