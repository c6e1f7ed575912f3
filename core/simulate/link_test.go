package simulate

import (
	"math"
	"testing"
	"time"

	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/traffic"
)

// TestLoss holds the losses of a link against the closed form of two states: the part that is
// lost, and a mean burst of 1/r.
func TestLoss(t *testing.T) {
	for _, l := range []policy.LinkLoss{{Part: 0.01}, {Part: 0.2}, {Part: 0.01, Burst: 1}, {Part: 0.02, Burst: 4}, {Part: 0.6, Burst: 3}} {
		m := &medium{loss: l, random: traffic.Random(1, "loss", 0)}
		const n = 2_000_000
		lost, bursts, before := 0.0, 0.0, false
		for range n {
			gone := m.loses()
			if gone {
				lost++
				if !before {
					bursts++
				}
			}
			before = gone
		}
		burst := l.Burst
		if burst == 0 { // each for itself: a run of losses goes on with their part
			burst = 1 / (1 - l.Part)
		}
		if math.Abs(lost/n/l.Part-1) > 0.05 || math.Abs(lost/bursts/burst-1) > 0.03 {
			t.Errorf("%+v: %.3f %% are lost in bursts of %.3f; the means are to be %.3f %% and %.3f", l, 100*lost/n, lost/bursts, 100*l.Part, burst)
		}
	}
}

func TestJitter(t *testing.T) {
	for kind := policy.Even; kind <= policy.HeavyTailed; kind++ {
		m := &medium{jitter: policy.LinkJitter{Mean: 2 * time.Millisecond, Kind: kind}, random: traffic.Random(1, "jitter", 0)}
		const n = 400_000
		sum, least := 0.0, time.Hour
		for range n {
			w := m.wait()
			sum += float64(w)
			least = min(least, w)
		}
		if math.Abs(sum/n/2e6-1) > 0.03 || least < 0 {
			t.Errorf("%v: the mean is %.4f ms, the least %v", kind, sum/n/1e6, least)
		}
	}
}

// TestErlangs: the calls that are held at a time are as many on average as were asked for
// (Little's law), from the first moment on, and each lasts as long.
func TestErlangs(t *testing.T) {
	tr := &policy.Traffic{Name: "calls", Erlangs: 8, Holding: 90 * time.Second, Starts: 10 * time.Second}
	const until = 300_000 * time.Second
	held, spans := 0.0, erlangs(tr, until, traffic.Random(1, "calls", 0))
	for _, s := range spans {
		if s.from < tr.Starts || s.to > until || s.to < s.from {
			t.Fatalf("a call from %v to %v", s.from, s.to)
		}
		held += float64(s.to - s.from)
	}
	if mean := held / float64(until-tr.Starts); math.Abs(mean/8-1) > 0.08 {
		t.Errorf("%.2f calls are held on average; 8 were asked for", mean)
	}
	if mean := held / float64(len(spans)); math.Abs(mean/90e9-1) > 0.05 {
		t.Errorf("a call lasts %.1f s on average; 90 were asked for", mean/1e9)
	}
	atFirst := 0.0
	for seed := range uint64(60) {
		for _, s := range erlangs(tr, until, traffic.Random(seed, "calls", 0)) {
			if s.from == tr.Starts {
				atFirst++
			}
		}
	}
	if mean := atFirst / 60; math.Abs(mean-8) > 1.5 {
		t.Errorf("%.2f calls are held at the start; 8 are there on average", mean)
	}
}

// TestRampOfCalls: each call has its turn.
func TestRampOfCalls(t *testing.T) {
	r := &run{}
	spans := r.spans(&policy.Traffic{Calls: 12, Starts: 5 * time.Second, Ramp: &policy.Ramp{FromCalls: 2, Over: 20 * time.Second}}, time.Minute)
	for n, s := range spans {
		want := 5 * time.Second
		if n >= 2 {
			want += time.Duration(n-1) * 2 * time.Second
		}
		if s.from != want || s.to != time.Minute {
			t.Errorf("call %d is held from %v to %v; it begins at %v", n+1, s.from, s.to, want)
		}
	}
}
