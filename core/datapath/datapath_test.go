package datapath

import (
	"fmt"
	"math"
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/schedule"
	"imbrel.example/imbrel/core/traffic"
	"imbrel.example/imbrel/core/unit"
)

// classes are c1, c2, …: UDP to port 1, 2, ….
func class(n int) *policy.Class {
	return &policy.Class{Name: fmt.Sprint("c", n), Match: []policy.Condition{policy.All(policy.KeyToPort.In(policy.One(uint32(n))))}}
}

func treats(n int, e policy.Entry) policy.Entry {
	e.Class = class(n)
	e.ClassName.Text = e.Class.Name
	return e
}

// pool makes packets of class n, reusing those given back. n may have a source
// added by from; sources from 16 on have a VLAN, sixteen in one.
type pool struct{ spare []*packet.Packet }

func (l *pool) get(n, length int) *packet.Packet {
	if len(l.spare) == 0 {
		for range 64 {
			l.spare = append(l.spare, &packet.Packet{Bytes: make([]byte, packet.HeaderRoom)})
		}
	}
	p := l.spare[len(l.spare)-1]
	l.spare = l.spare[:len(l.spare)-1]
	p.Build(p.Bytes[:packet.HeaderRoom:packet.HeaderRoom], packet.Flow{From: netip.AddrFrom4([4]byte{10, 0, 0, byte(1 + n>>12)}), To: netip.AddrFrom4([4]byte{10, 0, 1, 0}),
		Protocol: packet.UDP, ToPort: uint16(n & 4095)}, codepoint.DF, length, packet.HeaderRoom)
	p.VLAN, p.Tagged = uint16(n>>16), n>>16 > 0
	return p
}

// from makes of a class's number that of packets of another source.
func from(source, n int) int { return source<<12 | n }

// An arrival is a packet of class n that comes at a time.
type arrival struct {
	at        time.Duration
	n, length int
}

// serve runs arrivals (a function that yields them in order) through the path
// and a server of the path's rate. seen is told of every packet that begins to
// be sent.
func serve(p *Path, rate unit.Rate, next func() (arrival, bool), seen func(now time.Duration, pkt *packet.Packet)) {
	var l pool
	var clock unit.Clock
	free, ask := time.Duration(0), schedule.Never
	a, more := next()
	for {
		now := min(ask, schedule.Never)
		if more {
			now = min(now, max(a.at, 0))
		}
		if now == schedule.Never {
			return
		}
		if more && a.at == now {
			pkt := l.get(a.n, a.length)
			if p.Enqueue(now, pkt) != Passed {
				l.spare = append(l.spare, pkt)
			}
			ask = min(ask, max(now, free))
			a, more = next()
			continue
		}
		ask = schedule.Never
		pkt, again := p.Dequeue(now)
		if pkt == nil {
			ask = again
			continue
		}
		seen(now, pkt)
		clock.NotBefore(now)
		clock.Advance(int(pkt.Size), rate)
		free = clock.Ready()
		ask = free
		l.spare = append(l.spare, pkt)
	}
}

const closedFormPackets = 1_000_000

// poisson yields packets of a class at a load of the server's capacity.
func poisson(r *rand.Rand, n int, mean time.Duration, count int, length func() int) func() (arrival, bool) {
	at := 0.0
	return func() (arrival, bool) {
		if count == 0 {
			return arrival{}, false
		}
		count--
		at += traffic.Exponential(r) * float64(mean)
		return arrival{time.Duration(at), n, length()}, true
	}
}

// within fails unless got is within 2 % of want.
func within(t *testing.T, what string, got, want float64) {
	t.Helper()
	t.Logf("%s: measured %.4f, closed form %.4f (%+.2f %%)", what, got, want, 100*(got/want-1))
	if math.Abs(got/want-1) > 0.02 {
		t.Errorf("%s: measured %.4f, the closed form is %.4f", what, got, want)
	}
}

// M/D/1: mean wait ρ·s / (2(1 − ρ)).
func TestMD1(t *testing.T) {
	const rate, length = 12_000_000, 1500 // s = 1 ms
	for i, load := range []float64{0.5, 0.8} {
		p := New(Config{Plan: plan.New(&policy.Policy{Treat: []policy.Entry{treats(1, policy.Entry{Queue: policy.Queue{Packets: 1e6}})}}, rate, packet.FramingIP())})
		r := rand.New(rand.NewPCG(20, uint64(i)))
		var sum float64
		serve(p, rate, poisson(r, 1, time.Duration(1e6/load), closedFormPackets, func() int { return length }),
			func(now time.Duration, pkt *packet.Packet) { sum += float64(now - pkt.Arrived) })
		within(t, fmt.Sprintf("M/D/1 at load %.1f, wait in ms", load), sum/closedFormPackets/1e6, load/(2*(1-load)))
	}
}

// M/M/1: mean wait ρ·s / (1 − ρ).
func TestMM1(t *testing.T) {
	const rate, mean = 120_000_000, 1500 // s = 0.1 ms
	for i, load := range []float64{0.5, 0.7} {
		p := New(Config{Plan: plan.New(&policy.Policy{Treat: []policy.Entry{treats(1, policy.Entry{Queue: policy.Queue{Packets: 1e6}})}}, rate, packet.FramingIP())})
		r := rand.New(rand.NewPCG(21, uint64(i)))
		var sum float64
		serve(p, rate, poisson(r, 1, time.Duration(1e5/load), closedFormPackets, func() int { return max(28, int(traffic.Exponential(r)*mean)) }),
			func(now time.Duration, pkt *packet.Packet) { sum += float64(now - pkt.Arrived) })
		within(t, fmt.Sprintf("M/M/1 at load %.1f, wait in ms", load), sum/closedFormPackets/1e6, 0.1*load/(1-load))
	}
}

// Non-preemptive priority M/G/1 (Cobham 1954), three classes of different
// packet sizes: W_k = W0 / ((1 − σ_{k−1})(1 − σ_k)).
func TestCobham(t *testing.T) {
	const rate = 12_000_000
	lengths := []int{300, 900, 1500}
	loads := []float64{0.2, 0.25, 0.3}
	var treat []policy.Entry
	var streams []func() (arrival, bool)
	w0 := 0.0
	for i := range lengths {
		e := policy.Entry{Queue: policy.Queue{Packets: 1e6}}
		if i < 2 {
			e.Priority = i + 1
		}
		treat = append(treat, treats(i+1, e))
		s := float64(lengths[i]) * 8 / rate
		w0 += loads[i] / s * s * s / 2
		gap := time.Duration(s / loads[i] * 1e9)
		streams = append(streams, poisson(rand.New(rand.NewPCG(22, uint64(i))), i+1, gap, int(closedFormPackets*0.001/gap.Seconds()), func() int { return lengths[i] }))
	}
	heads := make([]arrival, 3)
	ok := make([]bool, 3)
	for i := range streams {
		heads[i], ok[i] = streams[i]()
	}
	next := func() (arrival, bool) {
		best := -1
		for i := range heads {
			if ok[i] && (best < 0 || heads[i].at < heads[best].at) {
				best = i
			}
		}
		if best < 0 {
			return arrival{}, false
		}
		a := heads[best]
		heads[best], ok[best] = streams[best]()
		return a, true
	}
	var sum [3]float64
	var count [3]int
	serve(New(Config{Plan: plan.New(&policy.Policy{Treat: treat}, rate, packet.FramingIP())}), rate, next, func(now time.Duration, pkt *packet.Packet) {
		sum[pkt.Slot] += float64(now - pkt.Arrived)
		count[pkt.Slot]++
	})
	before, packets := 0.0, 0
	for k := range sum {
		upTo := before + loads[k]
		within(t, fmt.Sprintf("Cobham, priority %d, wait in ms", k+1), sum[k]/float64(count[k])/1e6, 1e3*w0/((1-before)*(1-upTo)))
		before = upTo
		packets += count[k]
	}
	if packets < closedFormPackets {
		t.Errorf("only %d packets were served", packets)
	}
}

// flood yields packets of every class, each at its own constant rate from start
// to end.
type flood struct {
	n, length  int
	rate       unit.Rate
	start, end time.Duration
}

func floods(fs ...flood) func() (arrival, bool) {
	clocks := make([]unit.Clock, len(fs))
	for i := range fs {
		clocks[i].NotBefore(fs[i].start)
	}
	return func() (arrival, bool) {
		best := -1
		for i, f := range fs {
			if clocks[i].Ready() < f.end && (best < 0 || clocks[i].Ready() < clocks[best].Ready()) {
				best = i
			}
		}
		if best < 0 {
			return arrival{}, false
		}
		a := arrival{clocks[best].Ready(), fs[best].n, fs[best].length}
		clocks[best].Advance(fs[best].length, fs[best].rate)
		return a, true
	}
}

// A strict class offered twice its policer's rate gets that rate, and the rest
// is counted as policed.
func TestStrictClassIsHeldToItsPolicer(t *testing.T) {
	const seconds = 20
	p := New(Config{Plan: plan.New(&policy.Policy{Treat: []policy.Entry{
		treats(1, policy.Entry{Priority: 1, Police: &policy.Police{Rate: unit.Share{Rate: unit.MbitPerSecond}, Burst: 3000, Red: policy.Action{Drop: true}}}),
	}}, 10*unit.MbitPerSecond, packet.FramingIP())})
	serve(p, 10*unit.MbitPerSecond, floods(flood{1, 200, 2 * unit.MbitPerSecond, 0, seconds * time.Second}, flood{9, 1500, 20 * unit.MbitPerSecond, 0, seconds * time.Second}),
		func(time.Duration, *packet.Packet) {})
	c := p.Counters()[0]
	got := float64(c.SentBytes*8) / seconds
	t.Logf("offered 2 Mbit/s, policed to 1 Mbit/s: sent %.0f bit/s, policed %d of %d", got, c.Drops[Policed], c.OfferedPackets)
	if math.Abs(got/1e6-1) > 0.01 || c.Drops[Policed] != c.OfferedPackets-c.SentPackets || c.Drops[QueueFull] != 0 {
		t.Errorf("sent %.0f bit/s; counters %+v", got, c)
	}
}

// A bucket smaller than a packet lets none through, and that is counted apart from
// what comes too fast.
func TestABurstBelowOnePacket(t *testing.T) {
	drop := policy.Action{Drop: true}
	for _, c := range []struct {
		name     string
		police   policy.Police
		too, red uint64
	}{
		{"smaller than all", policy.Police{Burst: 100, Red: drop}, 50, 50},
		{"smaller than some", policy.Police{Burst: 500, Red: drop}, 25, 25},
		{"the second bucket holds them", policy.Police{Burst: 100, Excess: 1000, Red: drop}, 0, 0},
		{"one packet", policy.Police{Burst: 1000, Red: drop}, 0, 0},
	} {
		c.police.Rate.Rate = 100 * unit.MbitPerSecond
		p := New(Config{Plan: plan.New(&policy.Policy{Treat: []policy.Entry{treats(1, policy.Entry{Police: &c.police})}}, unit.GbitPerSecond, packet.FramingIP())})
		var l pool
		for n := range 50 {
			p.Enqueue(time.Duration(n)*time.Millisecond, l.get(1, 200+n%2*800))
		}
		if got := p.Counters()[0]; got.TooLarge != c.too || got.Colors[2] != c.red || got.Drops[Policed] != c.red {
			t.Errorf("%s: %d too large, %v by colour, %d policed; want %d and %d red", c.name, got.TooLarge, got.Colors, got.Drops[Policed], c.too, c.red)
		}
	}
}

// Two classes at 30 and 60 % of a full link get 1:2; when one falls silent the
// other takes all.
func TestSharesAndLending(t *testing.T) {
	const rate = 10 * unit.MbitPerSecond
	p := New(Config{Plan: plan.New(&policy.Policy{Treat: []policy.Entry{
		treats(1, policy.Entry{AtLeast: unit.Share{Percent: 300_000}}),
		treats(2, policy.Entry{AtLeast: unit.Share{Percent: 600_000}}),
	}}, rate, packet.FramingIP())})
	var full, alone [3]float64
	serve(p, rate, floods(flood{1, 1500, rate, 0, 20 * time.Second}, flood{2, 700, rate, 0, 10 * time.Second}), func(now time.Duration, pkt *packet.Packet) {
		switch s := now.Seconds(); {
		case s >= 1 && s < 9:
			full[pkt.Slot] += float64(pkt.Size)
		case s >= 11 && s < 19:
			alone[pkt.Slot] += float64(pkt.Size)
		}
	})
	t.Logf("both busy: %.0f and %.0f bit/s, 1:%.4f; alone: %.0f bit/s", full[0], full[1], full[1]/full[0], alone[0])
	if r := full[1] / full[0]; math.Abs(r/2-1) > 0.01 || math.Abs((full[0]+full[1])/float64(rate)-1) > 0.01 {
		t.Errorf("both busy: 1:%.4f of %.0f bit/s", r, full[0]+full[1])
	}
	if math.Abs(alone[0]/float64(rate)-1) > 0.01 || alone[1] != 0 {
		t.Errorf("one silent: the other gets %.0f bit/s of %s", alone[0], rate)
	}
}

func TestAtMost(t *testing.T) {
	const rate = 10 * unit.MbitPerSecond
	p := New(Config{Plan: plan.New(&policy.Policy{Shape: unit.Share{Rate: 8 * unit.MbitPerSecond}, Treat: []policy.Entry{
		treats(1, policy.Entry{AtMost: &policy.Ceiling{Rate: unit.Share{Percent: 250_000}}}),
		treats(2, policy.Entry{}),
	}}, rate, packet.FramingIP())})
	serve(p, rate, floods(flood{1, 1500, rate, 0, 10 * time.Second}, flood{2, 300, unit.MbitPerSecond, 0, 10 * time.Second}), func(time.Duration, *packet.Packet) {})
	c := p.Counters()
	// What waits at the end, and the credit of two packets, come on top.
	extra := float64(50_000+2*1500) * 8 / 10
	if got := float64(c[0].SentBytes*8) / 10; got < 2e6*0.999 || got > 2e6+extra {
		t.Errorf("at most 25%% of 8 Mbit/s: sent %.0f bit/s", got)
	}
	if c[1].Drops != [Reasons]uint64{} {
		t.Errorf("the neighbour below its share lost packets: %+v", c[1].Drops)
	}
}

// A path is idle when nothing waits in it, with a policy and without.
func TestIdle(t *testing.T) {
	const rate = 10 * unit.MbitPerSecond
	entries := []policy.Entry{treats(1, policy.Entry{AtMost: &policy.Ceiling{Rate: unit.Share{Rate: unit.MbitPerSecond}}})}
	for name, config := range map[string]Config{
		"a plain FIFO": {Rate: rate, Framing: packet.FramingIP(), Classes: 1, ClassOf: func(*packet.Packet) int { return 0 }},
		"a policy":     {Plan: plan.New(&policy.Policy{Treat: entries}, rate, packet.FramingIP())},
	} {
		p, packets := New(config), pool{}
		idle := p.Idle()
		p.Enqueue(0, packets.get(1, 1000))
		p.Enqueue(0, packets.get(1, 1000))
		one := p.Idle()
		p.Dequeue(0)
		two := p.Idle()
		for now := time.Duration(0); now < time.Second; now += time.Millisecond {
			p.Dequeue(now)
		}
		if !idle || one || two || !p.Idle() {
			t.Errorf("%s: idle %t at first, %t with two packets, %t with one, %t at the end", name, idle, one, two, p.Idle())
		}
	}
}

// What holds an entry back is the least limit on it and around it that is in force; one with a `when` that nobody watches is not.
func TestSlowest(t *testing.T) {
	limit := func(mbit unit.Rate) *policy.Ceiling {
		return &policy.Ceiling{Rate: unit.Share{Rate: mbit * unit.MbitPerSecond}}
	}
	sometimes := limit(1)
	sometimes.When = &policy.When{Starts: policy.Pressure{Load: unit.Share{Percent: 800_000}}, Ends: policy.Pressure{Load: unit.Share{Percent: 600_000}}}
	pl := plan.New(&policy.Policy{Treat: []policy.Entry{
		treats(1, policy.Entry{AtMost: limit(5), Treat: []policy.Entry{treats(2, policy.Entry{AtMost: limit(3)}), treats(3, policy.Entry{AtMost: sometimes})}}),
		treats(4, policy.Entry{}),
	}}, 10*unit.MbitPerSecond, packet.FramingIP())
	f := NewPredictor(pl, time.Time{}, nil)
	want := map[string]unit.Rate{"c1/c2": 3, "c1/c3": 5, "c4": 9}
	for _, e := range pl.Entries {
		if mbit, ok := want[e.Name]; ok {
			delete(want, e.Name)
			if got := f.Slowest(0, e, 9*unit.MbitPerSecond); got != mbit*unit.MbitPerSecond {
				t.Errorf("%s: %v; want %d Mbit/s", e.Name, got, mbit)
			}
		}
	}
	if len(want) > 0 {
		t.Errorf("no entries %v", want)
	}
}

// An entry with a time takes packets while the time lasts, and not before or after it.
func TestPredictorByTheTime(t *testing.T) {
	noon := time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)
	lunch := policy.Span{Name: "lunch", Days: [7]bool{true, true, true, true, true, true, true}, From: 12*60 + 1, To: 12*60 + 2, Zone: time.UTC}
	pl := plan.New(&policy.Policy{Treat: []policy.Entry{
		treats(2, policy.Entry{}),
		treats(1, policy.Entry{When: &policy.When{Time: &lunch}}),
		treats(1, policy.Entry{When: &policy.When{Starts: policy.Pressure{Load: unit.Share{Percent: 800_000}}, Ends: policy.Pressure{Load: unit.Share{Percent: 600_000}}}}),
	}}, 10*unit.MbitPerSecond, packet.FramingIP())
	f := NewPredictor(pl, noon, nil)
	var l pool
	for _, c := range []struct {
		at   time.Duration
		rest bool
	}{{0, true}, {59 * time.Second, true}, {time.Minute, false}, {119 * time.Second, false}, {2 * time.Minute, true}, {24*time.Hour + time.Minute, false}} {
		if e := pl.Entries[f.Take(c.at, l.get(1, 100))]; (e.Name == "rest") != c.rest || !c.rest && e.Spec.When.Time != &lunch {
			t.Errorf("after %v `%s` takes the packet", c.at, e.Name)
		}
		if e := pl.Entries[f.Take(c.at, l.get(2, 100))]; e.Name != "c2" {
			t.Errorf("after %v `%s` takes a packet of `c2`", c.at, e.Name)
		}
	}
}

// The upper limit that holds a queue back is the entry's own, or that of one around it.
func TestHeldBy(t *testing.T) {
	limit := func(mbit unit.Rate) *policy.Ceiling {
		return &policy.Ceiling{Rate: unit.Share{Rate: mbit * unit.MbitPerSecond}}
	}
	for n, want := range map[int]string{2: "outer/c2", 3: "outer", 4: ""} {
		outer := policy.Entry{Class: &policy.Class{Name: "outer", Match: append(class(2).Match, class(3).Match...)}, AtMost: limit(5),
			Treat: []policy.Entry{treats(2, policy.Entry{AtMost: limit(1)}), treats(3, policy.Entry{})}}
		outer.ClassName.Text = outer.Class.Name
		p, packets := New(Config{Plan: plan.New(&policy.Policy{Treat: []policy.Entry{outer, treats(4, policy.Entry{})}}, 10*unit.MbitPerSecond, packet.FramingIP())}), pool{}
		var last *packet.Packet
		for range 20 {
			last = packets.get(n, 1500)
			p.Enqueue(0, last)
		}
		for sent, _ := p.Dequeue(0); sent != nil; {
			sent, _ = p.Dequeue(0)
		}
		got := ""
		if i := p.HeldBy(0, last); i >= 0 {
			got = p.Classes()[i]
		}
		if got != want {
			t.Errorf("class %d is held back by %q; want %q", n, got, want)
		}
	}
}

func TestMarksAndCounters(t *testing.T) {
	ef := codepoint.EF
	p := New(Config{Plan: plan.New(&policy.Policy{Treat: []policy.Entry{
		treats(1, policy.Entry{Mark: &policy.Mark{DSCP: &ef}, Queue: policy.Queue{Packets: 2}}),
	}}, unit.MbitPerSecond, packet.FramingEthernet())})
	var l pool
	for n, want := range []Reason{Passed, Passed, QueueFull} {
		if got := p.Enqueue(0, l.get(1, 200)); got != want {
			t.Errorf("packet %d: %v; want %v", n+1, got, want)
		}
	}
	p.Enqueue(0, l.get(7, 30))
	for _, want := range []struct {
		dscp codepoint.DSCP
		size int32
	}{{codepoint.DF, 84}, {codepoint.EF, 238}, {codepoint.EF, 238}} {
		pkt, _ := p.Dequeue(0)
		if pkt == nil || pkt.DSCP() != want.dscp || pkt.Size != want.size || packet.Checksum(pkt.Network()[:20]) != 0 {
			t.Fatalf("got %+v; want %s of %d bytes with a right checksum", pkt, want.dscp.Name(), want.size)
		}
	}
	c := p.Counters()
	if c[0].OfferedPackets != 3 || c[0].SentPackets != 2 || c[0].SentBytes != 476 || c[0].Drops[QueueFull] != 1 || c[0].Marks[codepoint.EF] != 2 || c[0].MaxQueueBytes != 476 {
		t.Errorf("counters %+v", c[0])
	}
	if c[1].SentPackets != 1 || p.Classes()[1] != policy.Rest {
		t.Errorf("the rest: %+v, %v", c[1], p.Classes())
	}
}

func BenchmarkDatapath(b *testing.B) {
	af := codepoint.AF(4, 1)
	var treat []policy.Entry
	for n := 1; n <= 8; n++ {
		e := policy.Entry{Mark: &policy.Mark{DSCP: &af}, AtLeast: unit.Share{Percent: 100_000}}
		if n == 1 {
			e = policy.Entry{Mark: &policy.Mark{DSCP: &af}, Priority: 1, Police: &policy.Police{Rate: unit.Share{Rate: unit.GbitPerSecond}, Burst: 100_000, Red: policy.Action{Drop: true}}}
		}
		treat = append(treat, treats(n, e))
	}
	p := New(Config{Plan: plan.New(&policy.Policy{Treat: treat}, 10*unit.GbitPerSecond, packet.FramingEthernet())})
	churn(b, p, 8)
}

// churn keeps packets of so many classes waiting in a path while one goes in and
// one comes out; what comes out goes in again after 256 others, so that all
// classes stay busy.
func churn(b *testing.B, p *Path, classes int) {
	var l pool
	ring := make([]*packet.Packet, 256)
	now := time.Duration(0)
	for i := range max(256, 2*classes) {
		p.Enqueue(now, l.get(1+i%classes, 1000))
	}
	for i := range ring {
		ring[i] = l.get(1+i%classes, 1000)
	}
	b.ReportAllocs()
	for i := 0; b.Loop(); i++ {
		now += 830
		if p.Enqueue(now, ring[i&255]) == Passed {
			ring[i&255], _ = p.Dequeue(now)
		}
	}
	b.ReportMetric(float64(b.N)/b.Elapsed().Seconds()/1e6, "Mpackets/s")
}

// Many classes cost little more than a few, though all of them have something
// to send.
func BenchmarkLeaves(b *testing.B) {
	for _, n := range []int{8, 100, 1000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			var treat []policy.Entry
			for i := range n {
				treat = append(treat, treats(1+i, policy.Entry{AtLeast: unit.Share{Rate: 8 * unit.GbitPerSecond / unit.Rate(n)}}))
			}
			p := New(Config{Plan: plan.New(&policy.Policy{Treat: treat}, 10*unit.GbitPerSecond, packet.FramingEthernet())})
			churn(b, p, n)
		})
	}
}
