package measure

import (
	"testing"
	"time"
)

// A receiver of hellos gives its sender up when none comes for longer than it waits, from the one before to the next as they arrive.
func TestGivenUp(t *testing.T) {
	const ms = time.Millisecond
	for _, c := range []struct {
		sent, delay []time.Duration
		want        int64
	}{
		{[]time.Duration{0, 950 * ms, 1900 * ms}, []time.Duration{50 * ms, 50 * ms, 50 * ms}, 0},
		{[]time.Duration{0, 950 * ms, 1900 * ms}, []time.Duration{50 * ms, 150 * ms, 50 * ms}, 1},
		{[]time.Duration{950 * ms, 1900 * ms}, []time.Duration{100 * ms, 50 * ms}, 1},
		{[]time.Duration{0, 950 * ms}, []time.Duration{50 * ms, 50 * ms}, 1}, // and none until the end
	} {
		f := NewFlow(0, 2500*ms)
		f.Expects(1000 * ms)
		for i, at := range c.sent {
			f.Delivered(int64(i), at, c.delay[i], 2500*ms)
		}
		if got := f.GivenUp(); got != c.want {
			t.Errorf("hellos sent at %v that take %v: given up %d times; want %d", c.sent, c.delay, got, c.want)
		}
	}
}

// The jitter of RFC 3550 §6.4.1: a sixteenth of each difference beyond it.
func TestJitter(t *testing.T) {
	f := NewFlow(0, time.Second)
	want := 0.0
	for i, delay := range []time.Duration{10e6, 14e6, 10e6, 30e6} {
		f.Delivered(int64(i), time.Duration(i)*20e6, delay, time.Second)
		if i > 0 {
			d := map[int]float64{1: 4e6, 2: 4e6, 3: 20e6}[i]
			want += (d - want) / 16
		}
		if f.jitter != want {
			t.Errorf("after packet %d the jitter is %v; want %v", i, f.jitter, want)
		}
	}
}
