package budget

import (
	"fmt"
	"math"
	"testing"
	"time"

	"imbrel.example/imbrel/core/codec"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/unit"
)

// Twelve calls over PPPoE: 160 bytes of voice, 40 of headers, 46 of the link, 50 times a
// second.
func Example() {
	g711, _ := codec.ByName("g711")
	framing, _ := packet.ParseFraming("ethernet-pppoe")
	r, _ := Reckon(&Question{Calls: 12, Codec: g711, Framing: framing, Link: 12 * unit.MbitPerSecond})
	fmt.Println(unit.Rate(r.PerCall.WireBps), unit.Rate(r.Total.WireBps), unit.Rate(r.Link.LeftBps))
	// Output: 98.4kbit/s 1.1808Mbit/s 10.8192Mbit/s
}

// The calls that fit take at most the rate, and one more takes more.
func TestFitting(t *testing.T) {
	for _, name := range codec.Names() {
		c, _ := codec.ByName(name)
		for _, framing := range packet.Framings() {
			wire := framing.Size(c.Length(false), 0)
			for _, rate := range []unit.Rate{unit.MinRate, 39_199, 39_200, 95_200, 95_201, unit.MbitPerSecond, 7_654_321, unit.GbitPerSecond} {
				n := Fitting(c, wire, rate)
				if c.Rate(n*wire) > rate || c.Rate((n+1)*wire) <= rate {
					t.Errorf("%s over %s: %d calls fit %s, they take %s, one more %s", name, framing.Name, n, rate, c.Rate(n*wire), c.Rate((n+1)*wire))
				}
			}
		}
	}
}

// Erlang B by its recursion is what it is by its definition, a^n/n! of the sum of all such
// up to n; and the two figures that are in every table.
func TestErlangB(t *testing.T) {
	for _, c := range []struct {
		erlangs, blocking float64
		calls             int
	}{{8, 0.01, 15}, {20, 0.01, 30}, {1, 0.5, 1}, {0.01, 0.001, 2}} {
		if e, err := Plan(c.erlangs, c.blocking); err != nil || e.Calls != c.calls {
			t.Errorf("%v erlangs at %v: %+v, %v; want %d", c.erlangs, c.blocking, e, err, c.calls)
		}
	}
	for _, a := range []float64{0.3, 2, 8, 37.5, 120} {
		e, err := Plan(a, 0.02)
		if err != nil {
			t.Fatal(err)
		}
		for n, got := range map[int]float64{e.Calls: e.Blocking, e.Calls - 1: e.OneLess} {
			term, sum := 1.0, 1.0
			for i := 1; i <= n; i++ {
				term *= a / float64(i)
				sum += term
			}
			if want := term / sum; math.Abs(got-want) > 1e-12 {
				t.Errorf("%v erlangs, %d calls: %v; by the definition %v", a, n, got, want)
			}
		}
		if e.Blocking > 0.02 || e.OneLess <= 0.02 {
			t.Errorf("%v erlangs: %+v", a, e)
		}
	}
	for _, bad := range [][2]float64{{0, 0.01}, {-1, 0.01}, {math.NaN(), 0.01}, {1e6, 0.01}, {1, 0}, {1, 1}, {1, math.NaN()}} {
		if e, err := Plan(bad[0], bad[1]); err == nil {
			t.Errorf("%v: %+v", bad, e)
		}
	}
	began := time.Now()
	if e, err := Plan(MaxErlangs, 0.0001); err != nil || e.Calls < MaxErlangs*9/10 {
		t.Errorf("%+v, %v in %v", e, err, time.Since(began))
	}
}
