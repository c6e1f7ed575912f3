package threshold

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/unit"
)

func number(text string) unit.Number {
	n, err := unit.ParseNumber(text)
	if err != nil {
		panic(err)
	}
	return n
}

// Where something holds up to a threshold, or from it on, the threshold is found to a
// hundredth; where it does so in the middle alone, one end of the stretch is.
func TestBetween(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 9))
	for n := range 2000 {
		from, to := number("2Mbit/s"), number("10Mbit/s")
		if n%3 == 0 {
			from, to = number("1"), number("40")
		}
		way := to.Value - from.Value
		threshold := from.Value + r.Int64N(way+1)
		below := r.IntN(2) == 0
		tries := 0
		got, err := Between(from, to, func(value string) (*measure.Result, *measure.Outcome, error) {
			tries++
			v := number(value).Value
			return &measure.Result{}, &measure.Outcome{Holds: (v <= threshold) == below}, nil
		})
		if err != nil || tries > maxTries || tries != len(got.Points) {
			t.Fatalf("%v after %d tries of %d points", err, tries, len(got.Points))
		}
		if threshold == to.Value {
			if got.Holds != "" || got.Everywhere() != below {
				t.Fatalf("the outcome is the same for all values, and the result says that it holds at %q", got.Holds)
			}
			continue
		}
		holds, fails := number(got.Holds).Value, number(got.Fails).Value
		if gap := max(holds, fails) - min(holds, fails); gap > max(1, way/100) || (holds <= threshold) != below || (fails <= threshold) == below || got.Turns != 1 {
			t.Fatalf("the threshold is %d, and it is said to hold at %d and to fail at %d (%d turns)", threshold, holds, fails, got.Turns)
		}
	}
}

// Where a queue is just long enough.
func Example() {
	got, _ := Between(number("1kB"), number("64kB"), func(value string) (*measure.Result, *measure.Outcome, error) {
		lost := max(0, 1-float64(number(value).Value)/20_000)
		return &measure.Result{}, &measure.Outcome{Holds: lost == 0, Measured: &lost}, nil
	})
	fmt.Printf("it holds at %s, and not at %s; %d values tried\n", got.Holds, got.Fails, len(got.Points))
	// Output: it holds at 20kB, and not at 19.5kB; 10 values tried
}
