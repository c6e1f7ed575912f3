package codec

import (
	"fmt"
	"math"
	"testing"
	"time"
)

const ms = time.Millisecond

// The published values: ITU-T G.107 table B.1 for the opinion of a rating, the rating
// of the defaults; ITU-T G.113 appendix I (1999) for the impairment of G.729A under
// random loss.
func TestEModel(t *testing.T) {
	for r, mos := range map[float64]float64{90: 4.34, 80: 4.03, 70: 3.60, 60: 3.10, 50: 2.58, 93.2: 4.41} {
		if got := MOS(r); math.Abs(got-mos) > 0.011 {
			t.Errorf("MOS of R %.1f = %.3f; the table says %.2f", r, got, mos)
		}
	}
	if r := R(64*ms, 0, 1, 0, 25.1); r != 93.2 {
		t.Errorf("R of the defaults is %.2f; want 93.2", r)
	}
	for percent, ie := range map[float64]float64{0: 11, 0.5: 13, 1: 15, 1.5: 17, 2: 19, 3: 23, 4: 26} {
		if got := 93.2 - R(64*ms, percent/100, 1, 11, 19); math.Abs(got-ie) > 0.6 {
			t.Errorf("G.729A at %.1f %% loss is impaired by %.1f; the table says %.0f", percent, got, ie)
		}
	}
	// A delay costs nothing up to 100 ms and more and more from there; losses in runs cost
	// more than single ones.
	last := 93.2
	for ta := 100 * ms; ta <= 800*ms; ta += 50 * ms {
		r := R(ta, 0, 1, 0, 25.1)
		if ta == 100*ms && r != 93.2 || ta > 100*ms && r >= last {
			t.Errorf("R at %v is %.2f, after %.2f", ta, r, last)
		}
		last = r
	}
	if single, runs := R(64*ms, 0.05, 1, 0, 25.1), R(64*ms, 0.05, 3, 0, 25.1); runs >= single {
		t.Errorf("5 %% lost in runs of three has R %.1f, single ones %.1f", runs, single)
	}
	if MOS(-5) != 1 || MOS(120) != 4.5 || MOS(3) < 1 {
		t.Error("a MOS is from 1 to 4.5")
	}
}

func ExampleMOS() {
	fmt.Printf("G.711 %.2f, with 2 %% loss %.2f\n", MOS(R(64*ms, 0, 1, 0, 25.1)), MOS(R(64*ms, 0.02, 1, 0, 25.1)))
	// Output: G.711 4.41, with 2 % loss 4.23
}
