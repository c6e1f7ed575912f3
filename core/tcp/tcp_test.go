package tcp

import (
	"container/heap"
	"flag"
	"fmt"
	"math"
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"imbrel.example/imbrel/core/packet"
)

// A wire is two ends and what is between them: a bottleneck with a buffer for what the
// first sends, and a fixed delay each way. Segments cross it as packets.
type wire struct {
	t       *testing.T
	ends    []*End // two of each connection: the one that sends data, and the other
	flows   []packet.Flow
	rate    float64 // bytes a second; 0: none
	buffer  int     // bytes
	delay   time.Duration
	random  *rand.Rand
	loss    float64
	double  float64
	jitter  time.Duration // of some packets, that are overtaken
	lossy   func(now time.Duration, s *Segment) bool
	marks   func(queue time.Duration) bool // the bottleneck marks a packet
	hold    time.Duration                  // acknowledgements come in clumps
	arrived func(conn int, s *Segment)

	sent map[int]int64 // of each end, the end of the data that was sent

	now   time.Duration
	queue arrivalQueue
	order int
	free  time.Duration // when the bottleneck is
	waits time.Duration // longest
}

type arrival struct {
	at    time.Duration
	order int
	end   int // -1: a timer
	of    int
	p     *packet.Packet
}

type arrivalQueue []arrival

func (q arrivalQueue) Len() int { return len(q) }
func (q arrivalQueue) Less(i, j int) bool {
	return q[i].at < q[j].at || q[i].at == q[j].at && q[i].order < q[j].order
}
func (q arrivalQueue) Swap(i, j int) { q[i], q[j] = q[j], q[i] }
func (q *arrivalQueue) Push(v any)   { *q = append(*q, v.(arrival)) }
func (q *arrivalQueue) Pop() any     { n := len(*q) - 1; v := (*q)[n]; *q = (*q)[:n]; return v }

func (w *wire) plan(a arrival) {
	w.order++
	a.order = w.order
	heap.Push(&w.queue, a)
}

// connect adds a connection that is opened at a time by the end that sends data.
func (w *wire) connect(c Config, at time.Duration) *End {
	n := len(w.flows)
	c.MSS, c.ReceiveWindow = 1460, max(c.ReceiveWindow, 16<<20)
	if c.InitialWindow == 0 {
		c.InitialWindow = 10
	}
	c.Initial = 0xfffff000 // wraps at once
	other := c
	other.Initial = w.random.Uint32()
	w.ends = append(w.ends, NewEnd(c), NewEnd(other))
	w.flows = append(w.flows, packet.Flow{From: netip.MustParseAddr("10.0.0.1"), To: netip.MustParseAddr("10.0.0.2"), Protocol: packet.TCP, FromPort: uint16(1000 + n), ToPort: 80})
	w.ends[2*n].Open()
	w.plan(arrival{at: at, end: -1, of: 2 * n})
	return w.ends[2*n]
}

// pump sends what an end has to send.
func (w *wire) pump(n int) {
	e := w.ends[n]
	for {
		s, ok := e.Next(w.now)
		if !ok {
			break
		}
		if w.sent == nil {
			w.sent = make(map[int]int64)
		}
		if s.Data > 0 && s.Again != (int64(s.Seq) < w.sent[n]) {
			w.t.Errorf("at %v end %d sends %d bytes from %d, again: %t; it has sent up to %d", w.now, n, s.Data, s.Seq, s.Again, w.sent[n])
		}
		if s.Data > 0 {
			w.sent[n] = max(w.sent[n], int64(s.Seq)+int64(s.Data))
		}
		w.send(n, &s)
	}
	if at := e.Due(); at < Never {
		w.plan(arrival{at: max(at, w.now), end: -1, of: n})
	}
}

func (w *wire) send(n int, s *Segment) {
	flow := w.flows[n/2]
	if n%2 == 1 {
		flow = flow.Reverse()
	}
	p := &packet.Packet{}
	w.ends[n].Build(p, make([]byte, packet.HeaderRoom), flow, s)
	lost := w.random.Float64() < w.loss && (s.Data > 0 || w.double > 0)
	if w.lossy != nil {
		lost = w.lossy(w.now, s)
	}
	if lost {
		return
	}
	at := w.now
	if n%2 == 0 && w.rate > 0 {
		begins := max(w.now, w.free)
		wait := begins - w.now
		if wait.Seconds()*w.rate+float64(p.Length) > float64(w.buffer) {
			return
		}
		w.waits = max(w.waits, wait)
		if w.marks != nil && p.ECN() != 0 && w.marks(wait) {
			p.SetECN(3)
		}
		w.free = begins + time.Duration(float64(p.Length)/w.rate*1e9)
		at = w.free
	}
	at += w.delay
	if w.hold > 0 && n%2 == 1 {
		at = (at/w.hold + 1) * w.hold
	}
	if w.jitter > 0 && w.random.IntN(4) == 0 {
		at += time.Duration(w.random.Int64N(int64(w.jitter)))
	}
	w.plan(arrival{at: at, end: n ^ 1, p: p})
	if w.random.Float64() < w.double {
		w.plan(arrival{at: at + time.Duration(w.random.Int64N(int64(w.delay+1))), end: n ^ 1, p: p})
	}
}

// run lets time pass.
func (w *wire) run(until time.Duration) {
	for w.queue.Len() > 0 && w.queue[0].at <= until {
		a := heap.Pop(&w.queue).(arrival)
		w.now = a.at
		if a.end < 0 {
			if w.ends[a.of].Due() <= w.now || a.at == 0 || w.ends[a.of].out.sent == 0 {
				w.pump(a.of)
			}
			continue
		}
		e := w.ends[a.end]
		s, ok := e.Parse(a.p)
		if !ok {
			w.t.Fatal("a segment cannot be read")
		}
		if w.arrived != nil {
			w.arrived(a.end, &s)
		}
		e.Receive(w.now, &s)
		w.pump(a.end)
	}
	w.now = until
}

func newWire(t *testing.T, seed uint64) *wire {
	return &wire{t: t, random: rand.New(rand.NewPCG(seed, 1))}
}

var transfer = flag.Int64("transfer", 1_000_000, "bytes to transfer under loss, duplication and reordering, for each of the seeds")

// TestEverythingArrivesOnce: under loss, duplication and reordering both ways the receiver
// gets every byte once and in order, and both ends come to an end. The segments cross as
// headers, whose sequence numbers wrap.
func TestEverythingArrivesOnce(t *testing.T) {
	for seed := range uint64(40) {
		w := newWire(t, seed)
		w.loss, w.double, w.delay = float64(seed%5)*0.03, float64(seed%3)*0.02, 10*time.Millisecond
		w.jitter = time.Duration(seed%4) * 8 * time.Millisecond
		c := Config{Control: Algorithm(seed % 2), Paced: seed%7 == 0, ECN: seed%3 == 0, ReceiveWindow: 64 << 10}
		e := w.connect(c, 0)
		bytes := *transfer
		e.Write(bytes)
		e.Close()
		far := w.ends[1]
		far.Close()
		last, seen := int64(0), ranges{}
		w.arrived = func(n int, s *Segment) {
			if n == 1 && s.Data > 0 {
				seen.add(Range{s.Seq, s.Seq + uint64(s.Data)})
			}
			if got := far.Received(); got < last {
				t.Fatalf("seed %d: less arrived than before", seed)
			} else if last = got; got > 0 && !seen.has(Range{1, 1 + uint64(got)}) {
				t.Fatalf("seed %d: %d bytes in order, and only %v came", seed, got, seen)
			}
		}
		w.run(20 * time.Minute * time.Duration(1+bytes/1_000_000))
		if far.Received() != bytes || !e.Finished() || !far.Finished() {
			t.Errorf("seed %d: %d of %d bytes arrived; finished: %v and %v", seed, far.Received(), bytes, e.Finished(), far.Finished())
		}
	}
}

// goodput runs one connection for some time and returns its bytes a second after a start.
func goodput(w *wire, lasts, leave time.Duration) float64 {
	w.run(leave)
	was := w.ends[1].Received()
	w.run(lasts)
	return float64(w.ends[1].Received()-was) / (lasts - leave).Seconds()
}

// TestRateUnderRandomLoss holds NewReno's rate against √(3/2p) segments a round trip, and
// for more loss against the formula with timeouts of Padhye, Firoiu, Towsley and Kurose
// (1998).
func TestRateUnderRandomLoss(t *testing.T) {
	for _, c := range []struct {
		rtt time.Duration
		p   float64
	}{{100, 0.0005}, {50, 0.001}, {100, 0.001}, {200, 0.001}, {100, 0.003}, {100, 0.005}, {50, 0.01}, {100, 0.01}, {200, 0.01}, {100, 0.02}} {
		p, rtt := c.p, (c.rtt * time.Millisecond).Seconds()
		sum := 0.0
		const runs = 3
		for seed := range uint64(runs) {
			w := newWire(t, seed)
			w.loss, w.delay = p, c.rtt*time.Millisecond/2
			w.connect(Config{Control: NewReno, EveryACK: true, ReceiveWindow: 1 << 28}, 0).Write(1 << 40)
			sum += goodput(w, 320*time.Second, 20*time.Second) / 1460
		}
		got := sum / runs
		simple := math.Sqrt(3/(2*p)) / rtt
		rto := rtt + 0.2
		full := 1 / (rtt*math.Sqrt(2*p/3) + rto*min(1, 3*math.Sqrt(3*p/8))*p*(1+32*p*p))
		t.Logf("RTT %d ms, p %.4f: %.0f segments a second, √(3/2p)/RTT %.0f (%+.1f %%), with timeouts %.0f (%+.1f %%)", c.rtt, p, got, simple, 100*(got/simple-1), full, 100*(got/full-1))
		if p <= 0.01 && math.Abs(got/simple-1) > 0.15 {
			t.Errorf("RTT %d ms, p %.4f: NewReno sends %.0f segments a second, √(3/2p)/RTT is %.0f", c.rtt, p, got, simple)
		}
		if math.Abs(got/full-1) > 0.20 {
			t.Errorf("RTT %d ms, p %.4f: NewReno sends %.0f segments a second, the formula with timeouts says %.0f", c.rtt, p, got, full)
		}
	}
}

// TestTwoFlowsAreEqual: two NewReno flows over 20 Mbit/s and 20 ms, with a buffer of one product of both.
func TestTwoFlowsAreEqual(t *testing.T) {
	w := newWire(t, 5)
	w.rate, w.delay = 20e6/8, 10*time.Millisecond
	w.buffer = int(w.rate * 0.02)
	for n := range 2 {
		w.connect(Config{Control: NewReno}, time.Duration(n)*83*time.Millisecond).Write(1 << 40)
	}
	w.run(120 * time.Second)
	a, b := float64(w.ends[1].Received()), float64(w.ends[3].Received())
	t.Logf("%.2f and %.2f MB: %+.1f %% from the mean", a/1e6, b/1e6, 100*(a/(a+b)*2-1))
	if r := a / b; r < 0.95 || r > 1.05 {
		t.Errorf("two equal flows get %.1f and %.1f MB in 120 s", a/1e6, b/1e6)
	}
}

// TestOneFlowFillsTheLink: 100 Mbit/s and 50 ms with a buffer of one product of both.
func TestOneFlowFillsTheLink(t *testing.T) {
	for _, c := range []Config{{Control: NewReno}, {Control: CUBIC}, {Control: CUBIC, Paced: true}, {Control: NewReno, NoHyStart: true}} {
		w := newWire(t, 1)
		w.rate, w.delay = 100e6/8, 25*time.Millisecond
		w.buffer = int(w.rate * 0.05)
		e := w.connect(c, 0)
		e.Write(1 << 40)
		got := goodput(w, 60*time.Second, 5*time.Second) / (w.rate * 1460 / 1512)
		t.Logf("%+v: %.1f %% of the link, resent %d of %d, longest wait %v", c, 100*got, e.Resent, e.Segments, w.waits)
		if got < 0.95 || got > 1.0001 {
			t.Errorf("%+v takes %.1f %% of the link", c, 100*got)
		}
	}
}

// TestFlowsShare: ten flows at a bottleneck with tail drop, and two that should be equal.
func TestFlowsShare(t *testing.T) {
	for _, control := range []Algorithm{NewReno, CUBIC} {
		w := newWire(t, 3)
		w.rate, w.delay = 50e6/8, 20*time.Millisecond
		w.buffer = int(w.rate * 0.04)
		for n := range 10 {
			w.connect(Config{Control: control}, time.Duration(n)*137*time.Millisecond).Write(1 << 40)
		}
		w.run(60 * time.Second)
		var sum, squares float64
		for n := range 10 {
			x := float64(w.ends[2*n+1].Received())
			sum, squares = sum+x, squares+x*x
		}
		jain := sum * sum / 10 / squares
		t.Logf("%v: Jain's index of ten flows %.3f, together %.1f %% of the link", control, jain, 100*sum/60/(w.rate*1460/1512))
		if jain < 0.9 {
			t.Errorf("%v: Jain's index is %.3f", control, jain)
		}
		if sum/60 < 0.9*w.rate*1460/1512 {
			t.Errorf("%v: together they take %.1f %% of the link", control, 100*sum/60/w.rate)
		}
	}
}

// TestCubicWindow compares the window after a loss with RFC 9438's figure 1, and with
// the Reno-friendly region where that is above.
func TestCubicWindow(t *testing.T) {
	for _, test := range []struct {
		most  float64 // segments
		rtt   time.Duration
		loss  bool
		until float64
	}{{2000, 100 * time.Millisecond, true, 25}, {400, 100 * time.Millisecond, true, 14}, {3000, 40 * time.Millisecond, true, 20}} {
		const mss = 1460
		c := &cubic{}
		w := &Window{Size: int64(test.most * mss), MSS: mss}
		now := time.Second
		w.Size = c.reduced(w, w.Size)
		begin := float64(w.Size) / mss
		k := math.Cbrt((test.most - begin) / 0.4)
		estimate := begin
		from := now
		for (now - from).Seconds() < test.until {
			segments := float64(w.Size) / mss
			acks := int(segments)
			for range acks {
				c.grow(w, now, mss, test.rtt)
				now += test.rtt / time.Duration(acks)
			}
			alpha := 3 * 0.3 / 1.7
			if estimate >= test.most {
				alpha = 1
			}
			estimate += alpha
			at := (now - from).Seconds()
			want := max(0.4*math.Pow(at-k, 3)+test.most, estimate)
			if got := float64(w.Size) / mss; math.Abs(got/want-1) > 0.02 {
				t.Fatalf("most %.0f, rtt %v: %.1f s after the loss the window is %.1f segments, and RFC 9438 says %.1f", test.most, test.rtt, at, got, want)
			}
		}
	}
}

// TestReorderingAndClumps: neither what overtakes nor acknowledgements that come in clumps
// cost much of the rate, for nothing is lost.
func TestReorderingAndClumps(t *testing.T) {
	plain := func(change func(*wire)) float64 {
		w := newWire(t, 5)
		w.rate, w.delay = 20e6/8, 20*time.Millisecond
		w.buffer = int(w.rate * 0.2)
		change(w)
		w.connect(Config{Control: CUBIC}, 0).Write(1 << 40)
		return goodput(w, 30*time.Second, 5*time.Second) / (w.rate * 1460 / 1512)
	}
	for name, change := range map[string]func(*wire){
		"nothing": func(*wire) {}, "reordering": func(w *wire) { w.jitter = 6 * time.Millisecond },
		"clumps of 20 ms": func(w *wire) { w.hold = 20 * time.Millisecond },
	} {
		got := plain(change)
		t.Logf("%s: %.1f %%", name, 100*got)
		if got < 0.9 {
			t.Errorf("with %s a flow takes %.1f %% of the link", name, 100*got)
		}
	}
}

// TestMarksInsteadOfLoss: a flow with ECN fills a link that marks, and nothing is sent
// again.
func TestMarksInsteadOfLoss(t *testing.T) {
	w := newWire(t, 1)
	w.rate, w.delay = 20e6/8, 10*time.Millisecond
	w.buffer = int(w.rate * 0.5)
	w.marks = func(wait time.Duration) bool { return wait > 15*time.Millisecond }
	e := w.connect(Config{Control: CUBIC, ECN: true}, 0)
	e.Write(1 << 40)
	got := goodput(w, 20*time.Second, 2*time.Second) / (w.rate * 1460 / 1512)
	if got < 0.95 || e.Resent > 0 || w.waits > 60*time.Millisecond {
		t.Errorf("%.1f %% of the link, %d sent again, longest wait %v", 100*got, e.Resent, w.waits)
	}
}

// TestTimers: what is lost when nothing follows is found by the probe after two round
// trips, or else by the timeout, which doubles.
func TestTimers(t *testing.T) {
	w := newWire(t, 1)
	w.delay = 25 * time.Millisecond
	var sent []time.Duration
	from := time.Duration(0)
	lose := 0
	w.lossy = func(now time.Duration, s *Segment) bool {
		if s.Data == 0 || now < from || lose == 0 {
			return false
		}
		sent = append(sent, now-from)
		lose--
		return true
	}
	e := w.connect(Config{}, 0)
	e.Write(20 * 1460)
	w.run(2 * time.Second)
	from = 3 * time.Second
	w.run(from)
	lose = 6
	e.Write(100)
	w.pump(0)
	w.run(60 * time.Second)
	if got := w.ends[1].Received(); got != 20*1460+100 {
		t.Fatalf("%d bytes arrived", got)
	}
	if len(sent) != 6 {
		t.Fatalf("sent at %v", sent)
	}
	// At once; the probe after two round trips and the time that an acknowledgement may be
	// held; then the timeout, each twice as long as the one before.
	if probe := sent[1]; probe < 200*time.Millisecond || probe > 350*time.Millisecond {
		t.Errorf("the probe is sent after %v", probe)
	}
	for i := 3; i < len(sent); i++ {
		if before, now := sent[i-1]-sent[i-2], sent[i]-sent[i-1]; math.Abs(float64(now)/float64(before)-2) > 0.01 {
			t.Errorf("after a timeout of %v comes one of %v", before, now)
		}
	}
}

// TestRTO follows RFC 6298's equations.
func TestRTO(t *testing.T) {
	var r roundTrip
	if r.timeout() != time.Second {
		t.Errorf("before a measurement: %v", r.timeout())
	}
	r.sample(400 * time.Millisecond)
	if got := r.timeout(); got != 1200*time.Millisecond {
		t.Errorf("after 400 ms: %v, and SRTT + 4·RTTVAR is 1.2 s", got)
	}
	r.sample(800 * time.Millisecond) // RTTVAR 250, SRTT 450
	if got := r.timeout(); got != 1450*time.Millisecond {
		t.Errorf("after 800 ms: %v, not 1.45 s", got)
	}
	r.backoff = 2
	if got := r.timeout(); got != 4*1450*time.Millisecond {
		t.Errorf("twice backed off: %v", got)
	}
}

// TestHandshakeIsRepeated: a lost SYN is sent again after a second, two, four.
func TestHandshakeIsRepeated(t *testing.T) {
	w := newWire(t, 1)
	w.delay = time.Millisecond
	var at []time.Duration
	w.lossy = func(now time.Duration, s *Segment) bool {
		if s.Flags&SYN != 0 && len(at) < 3 {
			at = append(at, now)
			return true
		}
		return false
	}
	e := w.connect(Config{}, 0)
	e.Write(1)
	e.Close()
	w.run(time.Minute)
	if want := fmt.Sprint([]time.Duration{0, time.Second, 3 * time.Second}); fmt.Sprint(at) != want {
		t.Errorf("SYNs at %v, not %s", at, want)
	}
	if !e.Opened() || w.ends[1].Received() != 1 {
		t.Error("the connection does not come about")
	}
	w = newWire(t, 1)
	w.lossy = func(time.Duration, *Segment) bool { return true }
	e = w.connect(Config{}, 0)
	w.run(time.Hour)
	if !e.Failed() || e.Due() != Never {
		t.Error("an end that nobody answers never gives up")
	}
}

// TestParseAnything: no header makes an end panic.
func TestParseAnything(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	flow := packet.Flow{From: netip.MustParseAddr("10.0.0.1"), To: netip.MustParseAddr("10.0.0.2"), Protocol: packet.TCP, FromPort: 1, ToPort: 2}
	for range 200 {
		e := NewEnd(Config{MSS: 1460, ReceiveWindow: 1 << 20, InitialWindow: 10, ECN: true})
		e.Open()
		e.Write(50_000)
		now := time.Duration(0)
		for range 200 {
			p := &packet.Packet{}
			p.Build(make([]byte, packet.HeaderRoom), flow, 0, 20+60+r.IntN(1400), 40)
			b := p.Transport()
			for i := 4; i < len(b); i++ {
				if r.IntN(3) > 0 {
					b[i] = byte(r.Uint32())
				}
			}
			if r.IntN(2) == 0 { // near what it expects
				copy(b[4:], []byte{0, 0, byte(r.IntN(3)), byte(r.Uint32())})
				copy(b[8:], []byte{0, 0, byte(r.IntN(200)), byte(r.Uint32())})
			}
			if s, ok := e.Parse(p); ok {
				e.Receive(now, &s)
			}
			for range 100 {
				if _, ok := e.Next(now); !ok {
					break
				}
			}
			now += time.Duration(r.IntN(1e8))
		}
	}
}

// A zero Config has every default.
func TestZeroConfig(t *testing.T) {
	a, b := NewEnd(Config{}), NewEnd(Config{})
	a.Open()
	a.Write(100_000)
	now := time.Duration(0)
	for range 10_000 {
		now += 10 * time.Millisecond
		for _, ends := range [2][2]*End{{a, b}, {b, a}} {
			for s, ok := ends[0].Next(now); ok; s, ok = ends[0].Next(now) {
				ends[1].Receive(now, &s)
			}
		}
	}
	if b.Received() != 100_000 {
		t.Errorf("%d of 100000 bytes arrive", b.Received())
	}
}

// A segment that is lost where nothing is ever reordered is sent again as soon as three after it have arrived, not a quarter of a
// round trip later (RFC 8985 §6.2).
func TestLossIsSeenAtOnce(t *testing.T) {
	w := newWire(t, 4)
	w.rate, w.delay = 50e6/8, 50*time.Millisecond
	w.buffer = 1 << 20
	var lost uint64
	var when []time.Duration
	n := 0
	w.lossy = func(now time.Duration, s *Segment) bool {
		if s.Data == 0 {
			return false
		}
		if n++; n == 5 { // of the first window of ten
			lost = s.Seq
		}
		if n >= 5 && s.Seq == lost {
			when = append(when, now)
		}
		return n == 5
	}
	w.connect(Config{}, 0).Write(40 * 1460)
	w.run(5 * time.Second)
	if len(when) != 2 || w.ends[1].Received() != 40*1460 {
		t.Fatalf("sent at %v, %d bytes arrived", when, w.ends[1].Received())
	}
	if took := when[1] - when[0]; took < 100*time.Millisecond || took > 106*time.Millisecond {
		t.Errorf("sent again after %v on a round trip of 100 ms", took)
	}
}

// The first sixteen segments after a pause are acknowledged each by itself, then every other one.
func TestQuickAcknowledgements(t *testing.T) {
	w := newWire(t, 4)
	w.rate, w.delay = 50e6/8, 10*time.Millisecond
	w.buffer = 1 << 20
	data, acks := 0, 0
	w.lossy = func(now time.Duration, s *Segment) bool {
		switch {
		case s.Data > 0:
			data++
		case s.Flags&(SYN|FIN) == 0 && data > 0:
			acks++
		}
		return false
	}
	w.connect(Config{}, 0).Write(16 * 1460)
	w.run(time.Second)
	if data != 16 || acks != 16 {
		t.Errorf("%d acknowledgements of %d segments", acks, data)
	}
	w.ends[0].Write(80 * 1460)
	w.pump(0)
	w.run(1500 * time.Millisecond)
	if more := acks - 16; data != 96 || more < 40 || more > 16+34 {
		t.Errorf("%d acknowledgements of %d segments after the first sixteen", more, data-16)
	}
}

// A sender that was idle halves its window for each timeout, down to its initial one, and its slow start leads back to near where it was (RFC 7661 §4.4).
func TestIdleHalvesTheWindow(t *testing.T) {
	const mss = 1000
	for _, c := range []struct {
		timeouts        float64
		size, threshold int64
		sizeWas         int64
	}{
		{1, 80 * mss, infinite, 80 * mss},
		{1.5, 40 * mss, 60 * mss, 80 * mss},
		{2, 40 * mss, 60 * mss, 80 * mss},
		{2.5, 20 * mss, 60 * mss, 80 * mss},
		{9, 10 * mss, 60 * mss, 80 * mss},
		{9, 4 * mss, 3 * mss, 4 * mss}, // below the initial window it stays
	} {
		o := &sender{}
		o.begin(&Config{MSS: mss, InitialWindow: 10})
		o.rtt.sample(100 * time.Millisecond) // a timeout of 300 ms
		o.Size, o.lastSent = c.sizeWas, time.Second
		if c.timeouts > 1 {
			o.Threshold = 0
		}
		o.idles(time.Second + time.Duration(c.timeouts*float64(o.rtt.timeout())))
		if o.Size != c.size || o.Threshold != c.threshold {
			t.Errorf("after %g timeouts the window is %d, the threshold %d; want %d and %d", c.timeouts, o.Size, o.Threshold, c.size, c.threshold)
		}
	}
}
