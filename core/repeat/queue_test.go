package repeat_test

import (
	"flag"
	"math"
	"testing"
	"time"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policyfile"
	"imbrel.example/imbrel/core/repeat"
	"imbrel.example/imbrel/core/simulate"
)

var seeds = flag.Int("seeds", 20, "how many reports TestIntervalHoldsTheory makes")

// TestIntervalHoldsTheory: a queue with random arrivals and random lengths (M/M/1) has a
// sojourn time whose p99 is ln(100)/(μ-λ). The interval that repeats report holds it about 95
// times in a hundred.
func TestIntervalHoldsTheory(t *testing.T) {
	f, err := policyfile.Parse("queue.json", []byte(`{"imbrel": 1,
		"network": {"nodes": [{"name": "n", "interfaces": [
			{"name": "near", "rate": "100Gbit/s", "framing": "ip", "mtu": "64kB", "subnets": ["10.1.0.0/16"]},
			{"name": "far", "rate": "100Mbit/s", "framing": "ip", "mtu": "64kB", "subnets": ["10.2.0.0/16"]}]}]},
		"rehearsals": [{"name": "r", "lasts": "21s", "warm-up": "1s", "traffic": [
			{"name": "flow", "rate": "70Mbit/s", "packet": "8000B", "lengths": "exponential", "arrivals": "poisson", "from": "10.1.0.1", "to": "10.2.0.1"}]}]}`), time.LoadLocation)
	if err != nil {
		t.Fatal(err)
	}
	const mu, lambda, repeats = 100e6 / 64000, 70e6 / 64000, 12
	theory := math.Log(100) / (mu - lambda) * 1000 // ms
	inside, sum := 0, 0.0
	for report := range *seeds {
		var runs []*measure.Result
		for n := range repeats {
			r, err := simulate.Run(f, &f.Rehearsals[0], simulate.Options{Seed: uint64(1000*report + n)})
			if err != nil {
				t.Fatal(err)
			}
			r.KeepDistributions()
			runs = append(runs, r)
		}
		s := repeat.Of(runs)
		for _, g := range s.Figures {
			if g.Of == "traffic" && g.Metric == "delay p99" {
				sum += g.Mean
				if g.Low <= theory && theory <= g.High {
					inside++
				}
			}
		}
		if p := s.Pooled[0]; p.Metric != "delay" || math.Abs(p.Ms.P99/theory-1) > 0.15 || p.Packets < 200_000 {
			t.Errorf("all runs together: %+v, and theory says %.2f ms", p.Ms, theory)
		}
	}
	t.Logf("theory says %.3f ms, the mean of all reports is %.3f ms; %d of %d intervals hold it", theory, sum/float64(*seeds), inside, *seeds)
	if inside*100 < 80**seeds {
		t.Errorf("only %d of %d intervals hold %.3f ms", inside, *seeds, theory)
	}
}
