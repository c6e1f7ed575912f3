package roundtrip

import (
	"math"
	"testing"
	"time"

	"imbrel.example/imbrel/core/codec"
)

const ahead = 37 * time.Minute // the far end's clock

// called makes the packets of a call whose ways take so long; lost says for each what became of it:
// 0: it returned, 1: lost on the way there, 2: on the way back.
func called(n int, there, back func(int) time.Duration, lost func(int) int) []Packet {
	out := make([]Packet, n)
	number := int64(0)
	for i := range out {
		p := &out[i]
		p.Sent = time.Second + time.Duration(i)*20*time.Millisecond
		if lost(i) == 1 {
			continue
		}
		p.Came = p.Sent + there(i) + ahead
		p.Left = p.Came + 100*time.Microsecond
		p.Back = p.Left - ahead + back(i)
		p.Number = number
		number++
		p.Returned = lost(i) == 0
	}
	return out
}

func always(d time.Duration) func(int) time.Duration { return func(int) time.Duration { return d } }

// TestWays: what is lost is told of the way that lost it, round trips are exact whatever the clocks
// say, and the MOS is the E-model's of that delay and loss.
func TestWays(t *testing.T) {
	g711, _ := codec.ByName("g711")
	const playout = 40 * time.Millisecond
	mos := func(delay time.Duration, loss float64) float64 {
		return codec.MOS(codec.R(g711.Interval+g711.LookAhead+delay+playout, loss, max(1, 1-loss), g711.Ie, g711.Bpl))
	}
	for name, c := range map[string]struct {
		lost        func(int) int
		there, back float64
	}{
		"nothing is lost":           {func(int) int { return 0 }, 0, 0},
		"each tenth there":          {func(i int) int { return b2i(i%10 == 4) }, 0.1, 0},
		"each tenth back":           {func(i int) int { return 2 * b2i(i%10 == 4) }, 0, 0.1},
		"each tenth, and each 20th": {func(i int) int { return b2i(i%10 == 4) + 2*b2i(i%20 == 7) }, 0.1, 0.05 / 0.9},
	} {
		packets := called(2000, always(20*time.Millisecond), always(20*time.Millisecond), c.lost)
		got := Judge(g711, playout, packets, Offset(packets, false), 0)
		if math.Abs(got.There.Loss-c.there) > 1e-9 || math.Abs(got.Back.Loss-c.back) > 1e-9 {
			t.Errorf("%s: lost there %.4f and back %.4f; want %.4f and %.4f", name, got.There.Loss, got.Back.Loss, c.there, c.back)
		}
		if got.RoundTrip.Max != 40 || got.There.Delay.Max != 20 || got.There.JitterMs != 0 || got.There.Late+got.Back.Late != 0 {
			t.Errorf("%s: %+v, %+v", name, got.There, *got.RoundTrip)
		}
		for _, w := range []Way{got.There, got.Back} {
			if want := mos(20*time.Millisecond, w.Loss); math.Abs(*w.MOS-want) > 0.01 {
				t.Errorf("%s: MOS %.4f; the E-model's is %.4f", name, *w.MOS, want)
			}
		}
	}
}

func b2i(b bool) int {
	if b {
		return 1
	}
	return 0
}

// TestClocks: where they are said to agree each way has its own delay; where not, half of the least
// round trip each.
func TestClocks(t *testing.T) {
	g711, _ := codec.ByName("g711")
	packets := called(500, always(30*time.Millisecond), always(10*time.Millisecond), func(int) int { return 0 })
	if o := Offset(packets, false); o != ahead+10*time.Millisecond {
		t.Errorf("the offset is %v", o)
	}
	got := Judge(g711, 40*time.Millisecond, packets, Offset(packets, false), 0)
	if got.There.Delay.Max != 20 || got.Back.Delay.Max != 20 {
		t.Errorf("%+v %+v", *got.There.Delay, *got.Back.Delay)
	}
	got = Judge(g711, 40*time.Millisecond, packets, ahead, 0)
	if got.There.Delay.Max != 30 || got.Back.Delay.Max != 10 {
		t.Errorf("%+v %+v", *got.There.Delay, *got.Back.Delay)
	}
}

// TestLate: what comes later than the playout buffer holds is late, on the way where it waited.
func TestLate(t *testing.T) {
	g711, _ := codec.ByName("g711")
	packets := called(1000, func(i int) time.Duration {
		if i%5 == 2 {
			return 100 * time.Millisecond
		}
		return 20 * time.Millisecond
	}, always(20*time.Millisecond), func(int) int { return 0 })
	got := Judge(g711, 40*time.Millisecond, packets, Offset(packets, false), 0)
	if math.Abs(got.There.Late-0.2) > 1e-9 || got.Back.Late != 0 || *got.There.MOS > *got.Back.MOS-1 {
		t.Errorf("%+v %+v", got.There, got.Back)
	}
}

// TestTail: what does not return at the end, and what nothing returned of, is lost, but for what the
// far end counted.
func TestTail(t *testing.T) {
	g711, _ := codec.ByName("g711")
	packets := called(100, always(time.Millisecond), always(time.Millisecond), func(i int) int { return 2 * b2i(i >= 50) })
	for arrived, want := range map[int64]float64{0: 0.5, 80: 0.2, 100: 0, 1000: 0} {
		if got := Judge(g711, 40*time.Millisecond, packets, Offset(packets, false), arrived); math.Abs(got.There.Loss-want) > 1e-9 {
			t.Errorf("the far end counts %d: %.2f are lost on the way there; want %.2f", arrived, got.There.Loss, want)
		}
	}
	none := called(10, always(0), always(0), func(int) int { return 1 })
	if got := Judge(g711, 0, none, Offset(none, false), 0); got.There.Loss != 1 || *got.There.MOS != 1 || got.RoundTrip != nil {
		t.Errorf("%+v", got)
	}
	if got := Judge(g711, 0, nil, 0, 0); got.There.Sent != 0 || got.There.MOS != nil {
		t.Errorf("%+v", got)
	}
}

// TestPartsAreJudgedAsTheCall: a part in which every packet is late counts as late, though all its packets have one delay. The
// packets of the parts add up to those of the call.
func TestPartsAreJudgedAsTheCall(t *testing.T) {
	g711, _ := codec.ByName("g711")
	const playout = 40 * time.Millisecond
	there := func(i int) time.Duration { // from 3 s on a queue is full
		if i >= 150 {
			return 120 * time.Millisecond
		}
		return 20 * time.Millisecond
	}
	packets := called(300, there, always(20*time.Millisecond), func(i int) int { return b2i(i%50 == 7) })
	offset := Offset(packets, false)
	whole := Judge(g711, playout, packets, offset, 0)
	var sent, arrived int64
	for from := 0; from < len(packets); from += 50 {
		part := Part(g711, playout, packets, from, from+50, offset)
		sent, arrived = sent+part.There.Sent, arrived+part.There.Arrived
		if late := part.There.Late; from < 150 && late != 0 || from >= 150 && late != 1 {
			t.Errorf("from packet %d on %.2f of them are late", from, late)
		}
		if mos := *part.There.MOS; from >= 150 && mos > 1.3 || from < 150 && mos < 4 {
			t.Errorf("from packet %d on the MOS is %.2f", from, mos)
		}
		if part.Back.Late != 0 {
			t.Errorf("from packet %d on %.2f are late on the way back", from, part.Back.Late)
		}
	}
	if sent != whole.There.Sent || arrived != whole.There.Arrived || whole.There.Late < 0.45 || whole.There.Late > 0.55 {
		t.Errorf("the parts have %d and %d packets, the whole %+v", sent, arrived, whole.There)
	}
}
