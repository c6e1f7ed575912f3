package measure

import (
	"fmt"
	"math"
	"testing"
	"time"

	"imbrel/core/codec"
)

const ms = time.Millisecond

// Values that follow from ITU-T G.107 and G.113 by hand.
func TestEModel(t *testing.T) {
	for _, c := range []struct {
		name    string
		ta      time.Duration
		loss    float64
		burst   float64
		ie, bpl float64
		r, mos  float64
	}{
		{"nothing wrong, G.711", 64 * ms, 0, 1, 0, 25.1, 93.2, 4.41},
		{"nothing wrong, G.729", 64 * ms, 0, 1, 11, 19.0, 82.2, 4.10},
		{"1 % loss, G.711", 64 * ms, 0.01, 1, 0, 25.1, 93.2 - 95.0/26.1, 4.33},
		{"1 % loss in runs of twice the length", 64 * ms, 0.01, 2, 0, 25.1, 93.2 - 95*1/(0.5+25.1), 4.33},
		{"100 ms is still free", 100 * ms, 0, 1, 0, 25.1, 93.2, 4.41},
		// X = log2(4) = 2: 25·{65^(1/6) − 3·(1+(2/3)^6)^(1/6) + 2}
		{"400 ms", 400 * ms, 0, 1, 0, 25.1, 93.2 - 25*(math.Pow(65, 1.0/6)-3*math.Pow(1+64.0/729, 1.0/6)+2), 3.56},
		{"everything lost", 64 * ms, 1, 1, 0, 25.1, 93.2 - 95*100/125.1, 1.18},
	} {
		r := R(c.ta, c.loss, c.burst, c.ie, c.bpl)
		if math.Abs(r-c.r) > 1e-9 {
			t.Errorf("%s: R = %.4f; want %.4f", c.name, r, c.r)
		}
		if got := MOS(r); math.Abs(got-c.mos) > 0.05 {
			t.Errorf("%s: MOS of R %.2f = %.3f; want %.2f", c.name, r, got, c.mos)
		}
	}
	if MOS(-5) != 1 || MOS(120) != 4.5 || MOS(3) < 1 {
		t.Error("a MOS is from 1 to 4.5")
	}
}

// Packets later than the playout buffer are lost to the listener.
func TestLatePacketsCountAsLost(t *testing.T) {
	f := NewCall(g711(), 40*ms, 2*time.Second, 100)
	for n := range int64(100) {
		delay := 5 * ms
		if n%10 == 9 {
			delay = 46 * ms // 41 ms after the quickest
		}
		f.Delivered(n, time.Duration(n)*20*ms, delay, time.Minute)
	}
	want := MOS(R(65*ms, 0.10, 1, 0, 25.1))
	if got := f.MOS(); math.Abs(got-want) > 1e-9 {
		t.Errorf("10 %% late: MOS %.4f; want %.4f", got, want)
	}
	g := NewCall(g711(), 42*ms, 2*time.Second, 100)
	for n := range int64(100) {
		g.Delivered(n, 0, 5*ms+time.Duration(n%2)*41*ms, time.Minute)
	}
	if got := g.MOS(); math.Abs(got-MOS(93.2)) > 1e-9 {
		t.Errorf("all within the playout buffer: MOS %.4f; want %.4f", got, MOS(93.2))
	}
	silent := NewCall(g711(), 40*ms, time.Second, 1)
	silent.Dropped(0)
	if silent.MOS() != 1 {
		t.Errorf("a call of which nothing arrives has MOS %.2f; want 1", silent.MOS())
	}
}

// RFC 3550 §6.4.1 by hand: transit differences of 16, 0 and 8 ms.
func TestInterarrivalJitter(t *testing.T) {
	f := NewFlow(time.Second)
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
		if got := a.Statistic(name) / 1e6; math.Abs(got-want) > want/1000 {
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

func g711() codec.Codec {
	c, _ := codec.ByName("g711")
	return c
}

func ExampleMOS() {
	fmt.Printf("G.711 %.2f, with 2 %% loss %.2f\n", MOS(R(64*ms, 0, 1, 0, 25.1)), MOS(R(64*ms, 0.02, 1, 0, 25.1)))
	// Output: G.711 4.41, with 2 % loss 4.23
}
