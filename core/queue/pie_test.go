package queue

import (
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"imbrel.example/imbrel/core/packet"
)

// pieRun offers packets of 1,000 bytes at a rate to a link of 10 Mbit/s, by PIE, and returns the part that was dropped, and the mean wait, after a time to settle.
func pieRun(t *testing.T, offered float64, ecn bool, lasts time.Duration) (dropped, marked, wait float64) {
	t.Helper()
	q := NewPIE(Limits{Bytes: 2_000_000}, 1000, ecn, rand.New(rand.NewPCG(1, 2)))
	each, service := time.Duration(8000/offered*1e9), 800*time.Microsecond
	settle := lasts / 3
	var free time.Duration
	n, lost, marks, sent, sum := 0.0, 0.0, 0.0, 0.0, 0.0
	for now := time.Duration(0); now < lasts; now += each {
		for free <= now {
			p := q.Pop(free)
			if p == nil {
				free = now + 1
				break
			}
			if free > settle {
				sent++
				sum += (free - p.Arrived).Seconds()
				if p.ECN() == 3 {
					marks++
				}
			}
			free += service
		}
		p := &packet.Packet{Arrived: now, Size: 1000}
		p.Build(make([]byte, packet.HeaderRoom), packet.Flow{From: netip.MustParseAddr("192.0.2.1"), To: netip.MustParseAddr("192.0.2.2"), Protocol: packet.UDP}, 0, 962, 0)
		p.Arrived, p.Size = now, 1000
		if ecn {
			p.SetECN(2)
		}
		v := q.Push(now, p)
		if now > settle {
			if n++; v != Taken {
				lost++
			}
		}
	}
	return lost / n, marks / max(sent, 1), sum / max(sent, 1)
}

// Below its rate PIE drops nothing. Above it, it drops what is too much, and the delay is the target; with marks it marks instead, as long as a tenth suffices.
func TestPIE(t *testing.T) {
	if lost, _, wait := pieRun(t, 9e6, false, 20*time.Second); lost > 0 || wait > 1e-3 {
		t.Errorf("at nine tenths of the rate it drops %.3f, and packets wait %.1f ms", lost, 1e3*wait)
	}
	for offered, want := range map[float64]float64{11e6: 1.0 / 11, 15e6: 5.0 / 15} {
		lost, _, wait := pieRun(t, offered, false, 60*time.Second)
		if lost < 0.95*want || lost > 1.05*want || wait < 0.012 || wait > 0.018 {
			t.Errorf("offered %.0f Mbit/s, it drops %.3f of %.3f, and packets wait %.1f ms", offered/1e6, lost, want, 1e3*wait)
		}
	}
	if lost, marked, _ := pieRun(t, 10.3e6, true, 60*time.Second); marked == 0 || lost > 0.03 {
		t.Errorf("with marks it drops %.3f and marks %.3f", lost, marked)
	}
	// A burst of a tenth of a second passes whole.
	q := NewPIE(Limits{Bytes: 1_000_000}, 1000, false, rand.New(rand.NewPCG(1, 2)))
	for i := range 100 {
		p := &packet.Packet{Size: 1000, Arrived: time.Duration(i) * time.Millisecond}
		if q.Push(p.Arrived, p) != Taken {
			t.Fatalf("packet %d of a burst is dropped", i)
		}
	}
}

// RED's numbers may be set: below `from` nothing goes, at `to` the probability, from twice that all.
func TestREDNumbers(t *testing.T) {
	q := NewRED(Limits{Bytes: 100_000}, 10_000_000, 1500, false, rand.New(rand.NewPCG(1, 1)))
	q.Set(20_000, 60_000, 0.2, 0.5)
	for at, want := range map[float64]float64{19_999: 0, 40_000: 0.1, 60_000: 0.2, 90_000: 0.6, 120_000: 1} {
		if got := q.Profiles[0].Probability(at); got < want-1e-9 || got > want+1e-9 {
			t.Errorf("at an average of %.0f bytes the probability is %.3f, not %.3f", at, got, want)
		}
	}
	if q.Weight != 0.5 || int(q.Profiles[2].Min) != 6666 || q.Profiles[1].Max != 40_000 {
		t.Errorf("%+v", q.Profiles)
	}
	was := q.Profiles
	q.Set(0, 0, 0, 0)
	if q.Profiles != was || q.Weight != 0.5 {
		t.Error("numbers that are not given change")
	}
	q.Set(50_000, 40_000, 0, 0)
	if f := q.Profiles[0]; f.Min != 50_000 || f.Max != 50_000 || f.Probability(49_999) != 0 || f.Probability(50_000) != 0.2 {
		t.Errorf("an upper threshold below the lower one is %+v", f)
	}
	// Without numbers: 30 and 90 %, 20 and 60 %, 10 and 30 % of half the limit, in its unit.
	for limits, half := range map[Limits]float64{{Bytes: 200_000}: 100_000, {Packets: 80}: 40, {Packets: 80, Bytes: 200_000}: 100_000} {
		q := NewRED(limits, 12_000_000, 1500, false, rand.New(rand.NewPCG(1, 1)))
		for i, want := range [3]Profile{{0.3 * half, 0.9 * half, 0.1}, {0.2 * half, 0.6 * half, 0.1}, {0.1 * half, 0.3 * half, 0.1}} {
			if got := q.Profiles[i]; got != want {
				t.Errorf("%+v: drop precedence %d has %+v; want %+v", limits, i+1, got, want)
			}
		}
		if q.Packet != time.Millisecond || q.Weight != 0.002 {
			t.Errorf("a packet takes %v, the weight is %v", q.Packet, q.Weight)
		}
	}
}
