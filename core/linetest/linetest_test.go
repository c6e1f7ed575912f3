package linetest_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"imbrel.example/imbrel/core/linetest"
	"imbrel.example/imbrel/core/packet"
)

// line is a carrier of a known rate, framing, and queue or burst; clocks differ, and packets are sent and seen a little late.
type line struct {
	rate    float64 // bit/s, as the framing counts
	framing packet.Framing
	queue   time.Duration // 0: it polices
	burst   float64       // bytes
}

func (l *line) train(r *rand.Rand, length int, rate float64, over time.Duration) linetest.Train {
	t := linetest.Train{Length: length, RateBps: int64(rate)}
	size := float64(l.framing.Size(length, 0))
	free, tokens, last := 0.0, l.burst, 0.0
	for at := 0.0; at < over.Seconds(); at += float64(8*length) / rate {
		sent := at + 0.0002*r.Float64()
		arrives := sent + 0.01
		n := t.Packets
		t.Packets++
		if l.queue == 0 {
			tokens, last = min(l.burst, tokens+(sent-last)*l.rate/8), sent
			if tokens < size {
				continue
			}
			tokens -= size
		} else {
			begins := max(free, sent)
			if begins-sent > l.queue.Seconds()-8*size/l.rate {
				continue
			}
			free = begins + 8*size/l.rate
			arrives = free + 0.01
		}
		seen := arrives + 0.0001*r.Float64() + 1234.5 // by another clock
		t.Arrived = append(t.Arrived, linetest.Sample{Number: n, Sent: time.Duration(sent * 1e9), Came: time.Duration(seen * 1e9)})
	}
	return t
}

// The rate within a hundredth, the queue within a twentieth, the framing by its bytes, and a policer told from a queue, for lines of all kinds.
func TestLines(t *testing.T) {
	r := rand.New(rand.NewPCG(26, 1))
	right, of := 0, 0
	for n := range 40 {
		l := &line{rate: 1e6 * math.Pow(100, r.Float64()), framing: packet.Framings()[r.IntN(len(packet.Framings()))], queue: time.Duration(20+r.IntN(400)) * time.Millisecond, burst: 20_000 + 200_000*r.Float64()}
		if n%3 == 2 {
			l.queue = 0
		}
		what := fmt.Sprintf("%.3g Mbit/s of %s, queue %s, burst %.0f B", l.rate/1e6, l.framing.Name, l.queue, l.burst)
		var trains []linetest.Train
		for i, length := range []int{1400, 500, 160} {
			rate := l.rate * float64(length) / float64(l.framing.Size(length, 0)) * 1.4
			trains = append(trains, l.train(r, length, rate, []time.Duration{4, 3, 3}[i]*time.Second))
		}
		w := linetest.Of(trains)
		if !w.Full || w.Polices != (l.queue == 0) {
			t.Errorf("%s: full %v, polices %v", what, w.Full, w.Polices)
			continue
		}
		want := l.rate * 1400 / float64(l.framing.Size(1400, 0))
		if math.Abs(float64(w.IPBps)/want-1) > 0.01 {
			t.Errorf("%s: %d bit/s of IP, want %.0f", what, w.IPBps, want)
		}
		if full := time.Duration(8 * float64(l.framing.Size(1400, 0)) / l.rate * 1e9); l.queue > 0 && math.Abs(w.QueueMs/1000-l.queue.Seconds()) > 0.05*l.queue.Seconds()+2*full.Seconds() {
			t.Errorf("%s: a queue of %.1f ms", what, w.QueueMs)
		}
		if l.queue == 0 { // each rate is off by up to a packet: too much to tell a few bytes
			continue
		}
		of++
		if f, err := packet.ParseFraming(w.Framing); err == nil && math.Abs(float64(f.Size(1400, 0)-l.framing.Size(1400, 0))) <= 4 && math.Abs(float64(f.Size(160, 0)-l.framing.Size(160, 0))) <= 4 {
			right++
		} else {
			t.Logf("%s: %s", what, w.Framing)
		}
	}
	if right < of*9/10 {
		t.Errorf("%d framings of %d are right", right, of)
	}
}

// A carrier that stands still now and then, for a tenth of the time, is measured as if it did not.
func TestHeldUp(t *testing.T) {
	r := rand.New(rand.NewPCG(26, 2))
	l := &line{rate: 8e6, framing: packet.FramingEthernet(), queue: 100 * time.Millisecond}
	train := l.train(r, 1400, 11e6, 4*time.Second)
	shift := time.Duration(0)
	for i := range train.Arrived {
		if i%300 == 299 {
			shift += 60 * time.Millisecond
		}
		train.Arrived[i].Came += shift
	}
	want := 8e6 * 1400 / float64(l.framing.Size(1400, 0))
	if b := linetest.Judge(&train); !b.Full || math.Abs(float64(b.RateBps)/want-1) > 0.01 {
		t.Errorf("%+v, want %.0f", b, want)
	}
}

// A line that carries all is never full, and what is no train says nothing.
func TestNeverFull(t *testing.T) {
	l := &line{rate: 1e9, framing: packet.FramingEthernet(), queue: time.Second}
	b := linetest.Judge(ptr(l.train(rand.New(rand.NewPCG(1, 1)), 1400, 20e6, time.Second)))
	if b.Full || math.Abs(float64(b.RateBps)/20e6-1) > 0.02 || b.Loss != 0 {
		t.Errorf("%+v", b)
	}
	for _, none := range []linetest.Train{{}, {Packets: 100}, {Packets: 100, Length: 1400, Arrived: make([]linetest.Sample, 50)}} {
		if b := linetest.Judge(&none); b.Full || b.RateBps != 0 {
			t.Errorf("nothing: %+v", b)
		}
	}
	var none linetest.Line
	if _, n := none.Worst(true); n != -1 {
		t.Error("a line without runs has a worst one")
	}
}

func ptr[T any](v T) *T { return &v }
