package unit

import (
	"fmt"
	"math/big"
	"math/rand/v2"
	"strings"
	"testing"
	"time"
)

func TestParseRate(t *testing.T) {
	for _, c := range []struct {
		in    string
		want  Rate
		error string
	}{
		{"11.4Mbit/s", 11_400_000, ""},
		{"90.5kbit/s", 90_500, ""},
		{"500bit/s", 500, ""},
		{"400Gbit/s", 400_000_000_000, ""},
		{"12 Mbit/s", 12_000_000, ""},
		{"12", 0, "no unit"},
		{"12MB", 0, `"MB" is not a unit of a rate`},
		{"12Mbps", 0, "written Mbit/s"},
		{"12mbit/s", 0, "written Mbit/s"},
		{"0Mbit/s", 0, "the least is 500bit/s"},
		{"1" + strings.Repeat("0", 30) + "bit/s", 0, "the most is 400Gbit/s"},
		{"1000000.5bit/s", 0, "smallest step is 1bit/s"},
		{"-1Mbit/s", 0, "negative"},
		{"fast", 0, "write a number and its unit"},
		{"", 0, "write a number"},
		{"1.2.3Mbit/s", 0, "write a number"},
		{strings.Repeat("9", 100), 0, "too long"},
	} {
		got, err := ParseRate(c.in)
		if c.error == "" && (err != nil || got != c.want) {
			t.Errorf("ParseRate(%q) = %d, %v; want %d", c.in, got, err, c.want)
		}
		if c.error != "" && (err == nil || !strings.Contains(err.Error(), c.error)) {
			t.Errorf("ParseRate(%q) error %v; want one with %q", c.in, err, c.error)
		}
	}
}

func TestPrintedQuantitiesReadBack(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	for range 10_000 {
		r := Rate(rng.Int64N(int64(MaxRate>>rng.IntN(28)))) + MinRate
		if r > MaxRate {
			continue
		}
		if back, err := ParseRate(r.String()); err != nil || back != r {
			t.Fatalf("%d prints as %s and reads back as %d, %v", r, r, back, err)
		}
		s := Size(rng.Int64N(int64(MaxSize>>rng.IntN(28))) + 1)
		if back, err := ParseSize(s.String()); err != nil || back != s {
			t.Fatalf("%d bytes print as %s and read back as %d, %v", s, s, back, err)
		}
		d := time.Duration(rng.Int64N(int64(MaxDuration >> rng.IntN(40))))
		if back, err := ParseDuration(FormatDuration(d)); err != nil || back != d {
			t.Fatalf("%d ns print as %s and read back as %d, %v", d, FormatDuration(d), back, err)
		}
		p := Percent(rng.Int64N(int64(Whole) + 1))
		if back, err := ParsePercent(p.String()); err != nil || back != p {
			t.Fatalf("%d millionths print as %s and read back as %d, %v", p, p, back, err)
		}
	}
}

func TestShare(t *testing.T) {
	for in, want := range map[string]Rate{"30%": 3_420_000, "0.5%": 57_000, "900kbit/s": 900_000} {
		s, err := ParseShare(in)
		if err != nil || s.Of(11_400_000) != want {
			t.Errorf("%s of 11.4Mbit/s = %d, %v; want %d", in, s.Of(11_400_000), err, want)
		}
	}
	for _, in := range []string{"0%", "101%", "30", "%"} {
		if s, err := ParseShare(in); err == nil {
			t.Errorf("ParseShare(%q) = %v; want an error", in, s)
		}
	}
}

// The clock must agree with exact rational arithmetic after any number of
// packets: its slow twin is a sum of big rationals.
func TestClockDoesNotDrift(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 4))
	for _, r := range []Rate{500, 90_500, 11_400_000, 999_999_937, MaxRate} {
		var c, paced Clock
		pace := NewPace(r)
		bits := new(big.Int)
		for range 100_000 {
			s := 1 + rng.IntN(9000)
			c.Advance(s, r)
			if pace.Advance(&paced, s); paced != c {
				t.Fatalf("at %s: %d B bring the paced clock to %v, the other to %v", r, s, paced, c)
			}
			bits.Add(bits, big.NewInt(int64(s)*8))
		}
		// ceil(bits · 1e9 / r)
		want := new(big.Int).Mul(bits, big.NewInt(1e9))
		want.Add(want, big.NewInt(int64(r)-1)).Div(want, big.NewInt(int64(r)))
		if int64(c.Ready()) != want.Int64() {
			t.Errorf("at %s the clock is at %d ns; exact is %s", r, c.Ready(), want)
		}
	}
}

func TestTimeAndBytes(t *testing.T) {
	if got := Rate(100 * MbitPerSecond).Time(238); got != 19040 {
		t.Errorf("238 B at 100 Mbit/s take %d ns; want 19040", got)
	}
	if got := Rate(12 * MbitPerSecond).Time(238); got != 158667 {
		t.Errorf("238 B at 12 Mbit/s take %d ns; want 158667 (rounded up)", got)
	}
	if got := Rate(12 * MbitPerSecond).Bytes(100 * time.Millisecond); got != 150_000 {
		t.Errorf("100 ms at 12 Mbit/s hold %d B; want 150000", got)
	}
}

func ExampleParseRate() {
	r, _ := ParseRate("11.4Mbit/s")
	fmt.Println(int64(r), r, r.Time(1538*Byte))
	_, err := ParseRate("11.4MB")
	fmt.Println(err)
	// Output:
	// 11400000 11.4Mbit/s 1.079299ms
	// "11.4MB": "MB" is not a unit of a rate; it needs one of bit/s, kbit/s, Mbit/s or Gbit/s
}

// Bounds are said in the units people write.
func TestBoundsAreSaidInUnitsPeopleWrite(t *testing.T) {
	for _, c := range []struct {
		err  error
		want string
	}{
		{second(ParseSize("2000MB")), "the most is 1000MB"}, {second(ParseSize("0B")), "the least is 1B"}, {second(ParseSize("0.5B")), "the least is 1B"},
		{second(ParseRate("1000Gbit/s")), "the most is 400Gbit/s"}, {second(ParseRate("1bit/s")), "the least is 500bit/s"},
		{second(ParseDuration("25h")), "the most is 24h"}, {second(ParseDuration("0.5ns")), "the smallest step is 1ns"}, {second(ParseDuration("3")), "one of ns, us, ms, s, min or h"},
		{second(ParsePercent("101%")), "the most is 100%"}, {second(ParsePercent("0.00001%")), "the smallest step is 0.0001%"},
	} {
		if c.err == nil || !strings.Contains(c.err.Error(), c.want) {
			t.Errorf("says %v; want %q", c.err, c.want)
		}
	}
}

func second[T any](_ T, err error) error { return err }
