package tcp

import (
	"testing"
	"time"
)

// TestCautionLastsFiveRounds: slow start goes on while the round trip stays; when it grows, five rounds more; and a false alarm ends caution (RFC 9406 §4.2).
func TestCautionLastsFiveRounds(t *testing.T) {
	var h hystart
	sent := uint64(0)
	round := func(rtt time.Duration) bool {
		over := h.round(sent, sent+1)
		sent++
		for range rttSamples {
			h.sample(rtt)
		}
		return over
	}
	for n := range 20 {
		if round(10*time.Millisecond) || h.cautious {
			t.Fatalf("round %d of steady round trips ends slow start, or is cautious", n)
		}
	}
	// 10 ms and 1/8 of it is less than the least threshold of 4 ms.
	if round(14*time.Millisecond - 1); h.cautious {
		t.Fatal("cautious below the threshold")
	}
	round(10 * time.Millisecond)
	if round(14 * time.Millisecond); !h.cautious {
		t.Fatal("not cautious at the threshold")
	}
	if round(13 * time.Millisecond); h.cautious {
		t.Fatal("cautious although the round trip fell below that of the alarm")
	}
	round(10 * time.Millisecond)
	round(14 * time.Millisecond)
	for n := 1; n <= 5; n++ {
		if over := round(14 * time.Millisecond); over != (n == 5) {
			t.Fatalf("after %d cautious rounds slow start is over: %v", n, over)
		}
	}
	if got := h.growth(100, 1000, false); got != 25 {
		t.Errorf("a cautious window grows by %d of 100 bytes", got)
	}
}
