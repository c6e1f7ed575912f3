package measure

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"imbrel.example/imbrel/core/codec"
	"imbrel.example/imbrel/core/policy"
)

const ms = time.Millisecond

// A rate counts what arrives while the source sends, moved by the first packet's delay:
// what drains afterwards does not make it larger.
func TestMeasuredTime(t *testing.T) {
	f := NewFlow(0, time.Second)
	counted := 0
	for n := range 10 {
		sent := time.Duration(n) * 100 * ms
		if counts, _, _ := f.Delivered(int64(n), sent, 50*ms+time.Duration(n)*30*ms, time.Second); counts {
			counted++
		}
	}
	// Packet n arrives at 50 + 130 n ms; the window ends at 1,050 ms.
	if counted != 8 {
		t.Errorf("%d packets count towards the rate; 8 arrive before 1,050 ms", counted)
	}
}

// Packets later than the playout buffer are lost to the listener.
func TestLatePacketsCountAsLost(t *testing.T) {
	f, _ := NewCall(g711(), 40*ms, 0, 2*time.Second)
	for n := range int64(100) {
		delay := 5 * ms
		if n%10 == 9 {
			delay = 46 * ms // 41 ms after the quickest
		}
		f.Delivered(n, time.Duration(n)*20*ms, delay, time.Minute)
	}
	want := codec.MOS(codec.R(65*ms, 0.10, 1, 0, 25.1))
	if got := f.MOS(); math.Abs(got-want) > 1e-9 {
		t.Errorf("10 %% late: MOS %.4f; want %.4f", got, want)
	}
	g, _ := NewCall(g711(), 42*ms, 0, 2*time.Second)
	for n := range int64(100) {
		g.Delivered(n, 0, 5*ms+time.Duration(n%2)*41*ms, time.Minute)
	}
	if got := g.MOS(); math.Abs(got-codec.MOS(93.2)) > 1e-9 {
		t.Errorf("all within the playout buffer: MOS %.4f; want %.4f", got, codec.MOS(93.2))
	}
	silent, _ := NewCall(g711(), 40*ms, 0, time.Second)
	silent.Dropped(0)
	if silent.MOS() != 1 {
		t.Errorf("a call of which nothing arrives has MOS %.2f; want 1", silent.MOS())
	}
}

// The playout point is that of the last ten seconds: a call whose path becomes 50 ms
// longer for good misses packets for ten seconds, not for ever; and its memory stays
// as it is.
func TestThePlayoutPointFollows(t *testing.T) {
	f, _ := NewCall(g711(), 40*ms, 0, time.Hour)
	lost := int64(0)
	for n := range int64(180_000) {
		delay := 5 * ms
		if n >= 1000 {
			delay = 55 * ms
		}
		f.Delivered(n, time.Duration(n)*20*ms, delay, 2*time.Hour)
		if n == 2000 {
			lost = f.call.missing
		}
	}
	if lost < 495 || lost > 505 || f.call.missing != lost {
		t.Errorf("%d packets missed in the first 20 s after the change, %d in all; ten seconds of 50 a second are right", lost, f.call.missing)
	}
	if len(f.call.outcomes) > 1 || len(f.call.minima) > 1 || cap(f.call.outcomes) > 64 {
		t.Errorf("after an hour %d outcomes and %d minima are kept", len(f.call.outcomes), len(f.call.minima))
	}
}

// RFC 3550 §6.4.1 by hand: transit differences of 16, 0 and 8 ms.
func TestInterarrivalJitter(t *testing.T) {
	f := NewFlow(0, time.Second)
	for n, d := range []time.Duration{10 * ms, 26 * ms, 26 * ms, 18 * ms} {
		f.Delivered(int64(n), 0, d, time.Minute)
	}
	j1 := 16e6 / 16.0
	j2 := j1 - j1/16
	j3 := j2 + (8e6-j2)/16
	if want := (j1 + j2 + j3) / 3; math.Abs(f.MeanJitter()-want) > 1 {
		t.Errorf("mean jitter %.0f ns; want %.0f", f.MeanJitter(), want)
	}
	if math.Abs(float64(f.Jitter())-j3) > 1 {
		t.Errorf("jitter %v; want %.0f ns", f.Jitter(), j3)
	}
}

func TestDistribution(t *testing.T) {
	var a, b Distribution
	for i := range 1000 {
		d := &a
		if i%2 == 0 {
			d = &b
		}
		d.Add(time.Duration(i+1) * ms)
	}
	a.Merge(&b)
	for name, want := range map[string]float64{"mean": 500.5, "p50": 500, "p95": 950, "p99": 990, "max": 1000} {
		if got := a.Statistic(name) / 1e6; math.Abs(got-want) > want/120 {
			t.Errorf("%s of 1 to 1000 ms = %.3f; want %.1f", name, got, want)
		}
	}
	var one Distribution
	one.Add(4_177_707)
	for _, s := range []string{"mean", "p50", "p99", "max"} {
		if one.Statistic(s) != 4_177_707 {
			t.Errorf("%s of one value = %.0f; want it exactly", s, one.Statistic(s))
		}
	}
}

// Percentiles are within 0.8 % of the sorted durations' nearest rank, or half a
// microsecond, over nine decades; merged in any order they are the same to the bit.
func TestSketchAgainstSorted(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 2))
	for trial := range 300 {
		var whole Distribution
		parts := make([]Distribution, 1+r.IntN(5))
		var all []time.Duration
		low, high := r.Float64()*20, 20+r.Float64()*10
		for range 1 + r.IntN(3000) {
			v := time.Duration(math.Exp2(low + r.Float64()*(high-low)))
			if r.IntN(50) == 0 {
				v = time.Duration(r.IntN(3))
			}
			all = append(all, v)
			whole.Add(v)
			parts[r.IntN(len(parts))].Add(v)
		}
		slices.Sort(all)
		var merged Distribution
		for _, i := range r.Perm(len(parts)) {
			merged.Merge(&parts[i])
		}
		for _, name := range []string{"mean", "p50", "p95", "p99", "max"} {
			want := float64(all[max(0, int(math.Ceil(percentiles[name]*float64(len(all))))-1)])
			switch name {
			case "max":
				want = float64(all[len(all)-1])
			case "mean":
				want = whole.sum / float64(len(all))
			}
			got := whole.Statistic(name)
			if math.Abs(got-want) > max(0.008*want, 520) || (name == "max" && got != want) {
				t.Fatalf("trial %d: %s of %d durations is %.0f ns; want %.0f", trial, name, len(all), got, want)
			}
			if m := merged.Statistic(name); m != got && math.Abs(m-got) > got*1e-12 {
				t.Fatalf("trial %d: %s is %.0f ns, of parts merged %.0f", trial, name, got, m)
			}
		}
	}
}

// A set has the classes of an entry's path at every level; the rest is what has none of
// the file's; a path counts where an expectation names it.
func TestSets(t *testing.T) {
	f := &policy.File{Classes: []policy.Class{{Name: "sales"}, {Name: "voice"}, {Name: "bulk"}}}
	h := &policy.Rehearsal{Expect: []policy.Expectation{{Subject: "sales/rest"}, {Subject: "voice", Versus: "rest/rest"}}}
	s := NewSets(f, h)
	nested, rest, deep := s.Of("sales/voice"), s.Of("rest/rest"), s.Of("sales/rest")
	for _, c := range []struct {
		set  Set
		name string
		want bool
	}{{nested, "sales", true}, {nested, "voice", true}, {nested, "bulk", false}, {nested, "rest", false}, {nested, "sales/voice", false},
		{rest, "rest", true}, {rest, "rest/rest", true}, {rest, "sales", false}, {deep, "sales/rest", true}, {deep, "rest", false}, {0, "rest", true},
		{s.Union(rest, s.Of("bulk")), "rest", false}, {s.Union(rest, s.Of("bulk")), "rest/rest", true}, {s.Union(nested, deep), "sales/rest", true}} {
		if got := s.Has(c.set, c.name); got != c.want {
			t.Errorf("the set %v has %s: %t; want %t", s.list[c.set], c.name, got, c.want)
		}
	}
	if s.Union(nested, deep) != s.Union(deep, nested) || s.Of("voice/sales") != nested {
		t.Error("equal sets are not one number")
	}
}

func g711() *codec.Codec {
	c, _ := codec.ByName("g711")
	return &c
}
