package humanize

import "testing"

// A number that decides is printed with the digits that show on which side of its bound
// it is; others to three digits.
func TestDecided(t *testing.T) {
	for _, c := range []struct {
		v, limit   float64
		unit, want string
	}{
		{150_004_000, 150e6, "bit/s", "150.004 Mbit/s"},
		{149_400_000, 150e6, "bit/s", "149 Mbit/s"},
		{150e6, 150e6, "bit/s", "150 Mbit/s"},
		{25.004, 25, "ms", "25.004 ms"},
		{5.3, 25, "ms", "5.30 ms"},
		{0.1004, 0.1, "%", "0.1004 %"},
		{12.38, 0, "%", "12.4 %"},
		{4.1996, 4.2, "mos", "4.1996"},
		{4.4, 4.2, "mos", "4.40"},
		{20_010, 20_000, "bytes", "20,010 B"},
		{257, 0, "packets", "257 packets"},
		{3.2004, 3.2, "ratio", "3.2004"},
		{1500.0004, 1500, "ms", "1.5000004 s"},
	} {
		if got := Decided(c.v, c.limit, c.unit); got != c.want {
			t.Errorf("%v against %v %s is printed %q; want %q", c.v, c.limit, c.unit, got, c.want)
		}
	}
	for v, want := range map[float64]string{0: "0", 0.5: "0.50", 9.994: "9.99", 9.996: "10.0", 99.94: "99.9", 99.96: "100", 12345: "12345"} {
		if got := Digits(v); got != want {
			t.Errorf("%v is printed %q; want %q", v, got, want)
		}
	}
}
