package bound

import (
	"math/big"
	"math/rand/v2"
	"testing"
	"time"
)

const mbit = int64(1_000_000)

// The closed forms of the books, by hand.
func TestClosedForms(t *testing.T) {
	check := func(what string, got, want any) {
		t.Helper()
		if got != want {
			t.Errorf("%s: %v, by hand %v", what, got, want)
		}
	}
	// One token bucket of 12,000 bits and 2 Mbit/s through a server of 5 Mbit/s and 3 ms: T + b/R, b + rT, and b + rT again
	// (Le Boudec & Thiran 2001, §1.4).
	one, server := Curve{{12_000, 2 * mbit}}, Service{5 * mbit, 3 * time.Millisecond}
	check("delay", one.Delay(server), 3*time.Millisecond+2400*time.Microsecond)
	check("backlog", one.Backlog(server), int64(12_000+6_000))
	check("output", one.Output(server)[0], Bucket{18_000, 2 * mbit})

	// Two priorities on 10 Mbit/s: the urgent one has 8,000 bits and 2 Mbit/s, a packet of 12,000 bits may have begun. The urgent
	// one waits for that packet, (12,000 + 8,000)/10M; the other for both at what is left: (8,000 + 12,000 + 16,000)/8M.
	line, urgent, other := Service{Rate: 10 * mbit}, Bucket{8_000, 2 * mbit}, Curve{{16_000, 3 * mbit}}
	check("urgent", Curve{urgent}.Delay(line.Leftover(Bucket{}, 12_000)), 2*time.Millisecond)
	check("less urgent", other.Delay(line.Leftover(urgent, 12_000)), 4500*time.Microsecond)

	// Three servers in a row, bursts paid once: the sum of the waits and one burst at the least rate, less than the sum of the
	// three delays.
	second, third := Service{4 * mbit, time.Millisecond}, Service{8 * mbit, 2 * time.Millisecond}
	all := server.Concat(second).Concat(third)
	check("three in a row", one.Delay(all), 6*time.Millisecond+3*time.Millisecond)
	sum, at := time.Duration(0), one
	for _, s := range []Service{server, second, third} {
		sum += at.Delay(s)
		at = at.Output(s)
	}
	if sum <= one.Delay(all) {
		t.Errorf("hop by hop %v, together %v", sum, one.Delay(all))
	}

	// A FIFO of two flows: both bursts at the rate of the line.
	both := Curve{{6_000, mbit}}.Add(Curve{{10_000, 2 * mbit}})
	check("FIFO", both.Delay(Service{Rate: 4 * mbit}), 4*time.Millisecond)
	// The same behind lines of 8 and 16 Mbit/s that bring packets of 2,000 bits: the excess is where the line's curve meets the
	// bucket's: at 4,000/7M s for the first, ...
	bound := Curve{{6_000, mbit}, {2_000, 8 * mbit}}
	check("behind a line", bound.envelope().Excess(4*mbit), int64(2_000+4*4_000/7+1))

	// Nothing is left, nothing ends, nothing is bounded.
	check("overload", Curve{{1, 6 * mbit}}.Delay(server), Never)
	check("no curve", Curve(nil).Delay(server), Never)
	check("nothing left", line.Leftover(Bucket{0, 10 * mbit}, 0).Rate, int64(0))
	check("one bit a second", Curve{{8, 0}}.Delay(Service{Rate: 1}), 8*time.Second)
	// A traffic that is faster than a policer by 1 kbit/s gets ahead by 20 kbit in 20 s.
	check("within a time", Curve{{12_000, mbit + 1000}}.ExcessWithin(mbit, 20*time.Second), int64(32_000))
	// A busy time: (b + RT)/(R - r).
	check("busy time", one.BusyPeriod(server), time.Duration((12_000+15_000)*1_000_000_000/(3*mbit)))
}

// Sums, minima and shifts bound what they say at any time, and are no larger than what they are made of: against rationals.
func TestCurvesAgainstRationals(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	curve := func() (c Curve) {
		for range 1 + r.IntN(4) {
			c = append(c, Bucket{r.Int64N(1 << 40), r.Int64N(1 << 36)})
		}
		return c
	}
	at := func(c Curve, ns int64) *big.Rat {
		var least *big.Rat
		for _, b := range c {
			v := new(big.Rat).SetFrac(big.NewInt(b.Rate), big.NewInt(1_000_000_000))
			v.Mul(v, new(big.Rat).SetInt64(ns)).Add(v, new(big.Rat).SetInt64(b.Burst))
			if least == nil || v.Cmp(least) < 0 {
				least = v
			}
		}
		return least
	}
	above := func(what string, got, want *big.Rat, slack int64) {
		t.Helper()
		if got.Cmp(want) < 0 || new(big.Rat).Sub(got, want).Cmp(new(big.Rat).SetInt64(slack)) > 0 {
			t.Fatalf("%s: %s, exactly %s", what, got.FloatString(3), want.FloatString(3))
		}
	}
	for range 20_000 {
		a, b, ns := curve(), curve(), r.Int64N(1<<36)
		exact := new(big.Rat).Add(at(a, ns), at(b, ns))
		if sum := append(Curve{}, a...).envelope().Add(append(Curve{}, b...).envelope()); len(a)*len(b) <= maxBuckets {
			above("sum", at(sum, ns), exact, 0)
		}
		least := at(a, ns)
		if other := at(b, ns); other.Cmp(least) < 0 {
			least = other
		}
		above("minimum", at(a.Min(b...), ns), least, 0)
		shift := r.Int64N(1 << 30)
		above("shift", at(append(Curve{}, a...).envelope().Shift(time.Duration(shift)), ns), at(a, ns+shift), 1)
		// The excess over a rate is no less than at any time, and reached somewhere: at a corner.
		rate := r.Int64N(1 << 36)
		if excess := append(Curve{}, a...).envelope().Excess(rate); excess != Endless {
			over := at(a, ns)
			over.Sub(over, new(big.Rat).Mul(new(big.Rat).SetFrac(big.NewInt(rate), big.NewInt(1_000_000_000)), new(big.Rat).SetInt64(ns)))
			if over.Cmp(new(big.Rat).SetInt64(excess)) > 0 {
				t.Fatalf("%v gets ahead of %d bit/s by %s after %d ns; the excess is %d", a, rate, over.FloatString(3), ns, excess)
			}
		}
	}
}
