package traffic

import (
	"errors"
	"math"
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"imbrel.example/imbrel/core/codec"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
)

var flow = packet.Flow{From: netip.MustParseAddr("10.1.0.8"), To: netip.MustParseAddr("10.2.0.8"), Protocol: packet.UDP, FromPort: 9, ToPort: 5000}

// A sending is one packet of a source.
type sending struct {
	at     time.Duration
	length int
}

// all takes everything from a source, and holds it to the order of time.
func all(t *testing.T, s Source) (out []sending) {
	t.Helper()
	var p packet.Packet
	room := make([]byte, packet.HeaderRoom)
	for {
		at, ok, err := s.Next(&p, room)
		if err != nil {
			t.Fatal(err)
		}
		if !ok {
			return out
		}
		if n := len(out); n > 0 && at < out[n-1].at {
			t.Fatalf("packet %d is sent at %v, after one at %v", n, at, out[n-1].at)
		}
		out = append(out, sending{at, p.Length})
	}
}

func near(t *testing.T, what string, got, want, part float64) {
	t.Helper()
	if math.Abs(got-want) > part*math.Abs(want) {
		t.Errorf("%s is %.6g; %.6g is right, to %.2g", what, got, want, part)
	}
}

// TestExponential: the draws are -ln of their uniform numbers to the last bits, with the
// moments of the distribution.
func TestExponential(t *testing.T) {
	const n = 400_000
	sum, squares := 0.0, 0.0
	for seed := range uint64(1000) {
		u := rand.New(rand.NewPCG(seed, 1)).Uint64()>>11 + 1
		got := Exponential(rand.New(rand.NewPCG(seed, 1)))
		if want := -math.Log(float64(u) / (1 << 53)); math.Abs(got-want) > 1e-14*max(1, want) {
			t.Fatalf("of %d: %.17g, and the logarithm says %.17g", u, got, want)
		}
	}
	r := rand.New(rand.NewPCG(1, 2))
	for range n {
		v := Exponential(r)
		sum, squares = sum+v, squares+v*v
	}
	near(t, "the mean", sum/n, 1, 0.01)
	near(t, "the mean square", squares/n, 2, 0.02)
}

// TestHeavyTail: the mean is the one that was asked for, and a few are much of the whole.
func TestHeavyTail(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 3))
	const n = 300_000
	sum, large, share := 0.0, 0, 0.0
	for range n {
		v := float64(HeavyTail(r, 10_000))
		sum += v
		if v > 50_000 {
			large++
			share += v
		}
	}
	near(t, "the mean", sum/n, 10_000, 0.03)
	if large > n/30 || share < sum/5 {
		t.Errorf("%.1f %% are above five times the mean, with %.0f %% of the whole: the tail is not heavy", 100*float64(large)/n, 100*share/sum)
	}
}

// TestRamp holds what a ramp has sent until a time against the integral of its rate.
func TestRamp(t *testing.T) {
	for _, c := range []struct{ from, to unit.Rate }{{1 * unit.MbitPerSecond, 40 * unit.MbitPerSecond}, {500, 8 * unit.MbitPerSecond}, {10 * unit.MbitPerSecond, 1 * unit.MbitPerSecond}, {4 * unit.MbitPerSecond, 4 * unit.MbitPerSecond}} {
		for _, arrivals := range []policy.Arrivals{policy.Constant, policy.Poisson} {
			s := &Stream{From: c.from, Rate: c.to, Over: 10 * time.Second, Length: 1000, Flow: flow, Start: time.Second, End: 14 * time.Second, Arrivals: arrivals, Random: rand.New(rand.NewPCG(1, 4))}
			sent := all(t, s)
			for _, at := range []float64{1, 3, 5, 9.5, 12} {
				n := 0.0
				for _, p := range sent {
					if p.at < time.Duration((1+at)*1e9) {
						n++
					}
				}
				f, r, x := float64(c.from), float64(c.to), min(at, 10)
				bits := f*x + (r-f)*x*x/20 + r*(at-x)
				slack := 1.0
				if arrivals == policy.Poisson {
					slack = 4 * math.Sqrt(bits/8000)
				}
				if math.Abs(n-bits/8000) > slack+1 {
					t.Errorf("%v to %v, %v: %.0f packets in %v s; the integral says %.1f", c.from, c.to, arrivals, n, at, bits/8000)
				}
			}
		}
	}
	if RampAt(1000, 3000, 10*time.Second, 5*time.Second) != 2000 || RampAt(1000, 3000, 10*time.Second, time.Minute) != 3000 || RampAt(3000, 1000, 10*time.Second, -1) != 3000 {
		t.Error("RampAt is not the straight line between its ends")
	}
}

// TestOnOff: a burst is sent at the rate, and over a long time the part of the time that
// follows from the two means.
func TestOnOff(t *testing.T) {
	s := &Stream{Rate: 8 * unit.MbitPerSecond, Length: 1000, Flow: flow, End: 4000 * time.Second, Arrivals: policy.OnOff, On: 200 * time.Millisecond, Off: 600 * time.Millisecond, Random: rand.New(rand.NewPCG(1, 5))}
	sent := all(t, s)
	near(t, "the mean rate", float64(len(sent))*8000/4000, 2e6, 0.1)
	for i := 1; i < len(sent); i++ {
		if gap := sent[i].at - sent[i-1].at; gap < time.Millisecond {
			t.Fatalf("two packets of a burst are %v apart; at its rate they are 1ms", gap)
		}
	}
}

// TestVaried: lengths have their mean and hold their headers.
func TestVaried(t *testing.T) {
	s := &Stream{Rate: 8 * unit.MbitPerSecond, Length: 1000, Varied: true, Flow: flow, End: 100 * time.Second, Random: rand.New(rand.NewPCG(1, 6))}
	sum, sent := 0.0, all(t, s)
	for _, p := range sent {
		sum += float64(p.length)
		if p.length < 28 {
			t.Fatalf("a packet of %d bytes does not hold its headers", p.length)
		}
	}
	near(t, "the mean length", sum/float64(len(sent)), 1000, 0.02)
	near(t, "the rate", sum*8/100, 8e6, 0.02)
}

// TestSpeech: each end talks the part of the time it was said to, in talkspurts of a second.
func TestSpeech(t *testing.T) {
	g711, _ := codec.ByName("g711")
	for _, part := range []float64{0.1, 0.4, 0.8} {
		c := &Call{Codec: &g711, Flow: flow, End: 4000 * time.Second, Speech: &Speech{Active: part, Random: rand.New(rand.NewPCG(1, 7))}}
		sent := all(t, c)
		near(t, "the part of the packets", float64(len(sent))/(4000/0.02), part, 0.08)
		spurts := 1.0
		for i := 1; i < len(sent); i++ {
			if gap := sent[i].at - sent[i-1].at; gap%(20*time.Millisecond) != 0 {
				t.Fatalf("%v between two packets is no whole number of intervals", gap)
			} else if gap > 20*time.Millisecond {
				spurts++
			}
		}
		near(t, "a talkspurt in seconds", float64(len(sent))*0.02/spurts, 1, 0.12)
	}
}

// TestReports: the first control packet comes after half of RFC 3550's interval, and then one
// every 5/1.21828 s on average.
func TestReports(t *testing.T) {
	r := &Reports{Flow: flow, End: 10_000 * time.Second, Random: rand.New(rand.NewPCG(1, 8))}
	sent := all(t, r)
	near(t, "the mean interval", 10_000/float64(len(sent)), 5/1.21828, 0.03)
	least, most := 2052*time.Millisecond, 6157*time.Millisecond // 5 s·(0.5 to 1.5)/1.21828
	for i := 1; i < len(sent); i++ {
		if gap := sent[i].at - sent[i-1].at; gap < least || gap > most {
			t.Fatalf("a report comes %v after the one before; RFC 3550 §6.3.1 allows %v to %v", gap, least, most)
		}
	}
	if sent[0].at > most/2 || sent[0].length != 20+8+76 {
		t.Errorf("the first report is sent at %v with %d bytes", sent[0].at, sent[0].length)
	}
}

// TestVideo: the mean is the rate, a key frame is six others, and no packet is too long.
func TestVideo(t *testing.T) {
	v := &Video{Rate: 4 * unit.MbitPerSecond, Frames: 25, KeyFrames: 2 * time.Second, Packet: 1200, Line: unit.GbitPerSecond, Flow: flow, End: 400 * time.Second, Random: rand.New(rand.NewPCG(1, 9))}
	sum, key, other := 0.0, 0.0, 0.0
	for _, p := range all(t, v) {
		if p.length > 1200 || p.length < 41 {
			t.Fatalf("a packet has %d bytes", p.length)
		}
		sum += float64(p.length)
		if frame := int64(p.at / (40 * time.Millisecond)); frame%50 == 0 {
			key += float64(p.length) / 200
		} else {
			other += float64(p.length) / (200 * 49)
		}
	}
	near(t, "the rate", sum*8/400, 4e6, 0.02)
	near(t, "a key frame in others", key/other, KeyWeight, 0.05)
}

// frames is a capture of a packet every ten milliseconds.
type frames struct{ sent, of int }

func (f *frames) ReadFrame() ([]byte, int, time.Duration, bool, error) {
	if f.sent == f.of {
		return nil, 0, 0, false, nil
	}
	var p packet.Packet
	p.Build(make([]byte, packet.HeaderRoom), flow, 0, 100, 0)
	f.sent++
	return p.Bytes, p.WireLength(), time.Hour + time.Duration(f.sent)*10*time.Millisecond, true, nil
}

// TestReplayAgain: a capture at another speed keeps its proportions, and one that is looped
// begins again after a mean gap.
func TestReplayAgain(t *testing.T) {
	admit := func(time.Duration, *packet.Packet, error) bool { return true }
	r := &Replay{Reader: &frames{of: 5}, Start: time.Second, End: 1220 * time.Millisecond, Admit: admit, Speed: 0.5, Again: func() (Reader, error) { return &frames{of: 5}, nil }}
	sent := all(t, r)
	if len(sent) != 11 {
		t.Fatalf("%d packets are sent", len(sent))
	}
	for i, p := range sent {
		if want := time.Second + time.Duration(i)*20*time.Millisecond; p.at != want {
			t.Errorf("packet %d is sent at %v; %v is right", i, p.at, want)
		}
	}
	// One in which nothing can be sent ends all the same.
	none := &Replay{Reader: &frames{of: 5}, End: time.Hour, Admit: func(time.Duration, *packet.Packet, error) bool { return false }, Again: func() (Reader, error) { return &frames{of: 5}, nil }}
	if n := len(all(t, none)); n != 0 {
		t.Errorf("%d packets of it are sent", n)
	}
	broken := errors.New("gone")
	lost := &Replay{Reader: &frames{of: 1}, End: time.Hour, Admit: admit, Again: func() (Reader, error) { return nil, broken }}
	var p packet.Packet
	room := make([]byte, packet.HeaderRoom)
	if _, ok, err := lost.Next(&p, room); !ok || err != nil {
		t.Fatal(ok, err)
	}
	if _, ok, err := lost.Next(&p, room); ok || !errors.Is(err, broken) {
		t.Errorf("a capture that cannot be opened again: %v, %v", ok, err)
	}
}
