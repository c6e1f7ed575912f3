package datapath

import (
	"fmt"
	"math"
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"
	"time"

	"imbrel.example/imbrel/core/fluid"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
)

// sources is an entry for ports 1 to last, each source on its own.
func sources(last int, e policy.Entry) policy.Entry {
	e = treats(1, e)
	e.Class.Match[0] = policy.All(policy.KeyToPort.In(policy.Range{First: 1, Last: uint32(last)}))
	e.ClassName.Text, e.Each = "clients", policy.BySource
	return e
}

// Every source has a tree of its own: a ceiling, a strict class, and classes
// whose promises are parts of what the source gets, be it all it may or less.
func TestEachHasATreeOfItsOwn(t *testing.T) {
	const seconds = 10
	entry := sources(3, policy.Entry{AtMost: &policy.Ceiling{Rate: unit.Share{Rate: 2 * unit.MbitPerSecond}}, Treat: []policy.Entry{
		treats(1, policy.Entry{Priority: 1, AtMost: &policy.Ceiling{Rate: unit.Share{Percent: 500_000}}}),
		treats(2, policy.Entry{AtLeast: unit.Share{Percent: 600_000}, Weight: 1}),
		treats(3, policy.Entry{AtLeast: unit.Share{Percent: 200_000}, Weight: 3}),
	}})
	for _, c := range []struct {
		name  string
		shape unit.Rate
		gets  [2]unit.Rate // what each source gets
		busy  [2][]int
	}{
		{"each gets all it may", 10 * unit.MbitPerSecond, [2]unit.Rate{2_000_000, 2_000_000}, [2][]int{{1, 2, 3}, {1, 2, 3}}},
		{"half of it", 2 * unit.MbitPerSecond, [2]unit.Rate{1_000_000, 1_000_000}, [2][]int{{1, 2, 3}, {1, 2, 3}}},
		{"one with one class", 2 * unit.MbitPerSecond, [2]unit.Rate{1_000_000, 1_000_000}, [2][]int{{1, 2, 3}, {3}}},
		{"one with little", 2 * unit.MbitPerSecond, [2]unit.Rate{1_800_000, 200_000}, [2][]int{{1, 2, 3}, {1}}},
	} {
		var fs []flood
		wants := func(n int) unit.Rate {
			if n == 1 {
				return 200_000
			}
			return 3 * unit.MbitPerSecond
		}
		for source, classes := range c.busy {
			for _, n := range classes {
				fs = append(fs, flood{from(source, n), []int{0, 200, 1500, 700}[n], wants(n), 0, seconds * time.Second})
			}
		}
		sent := make(map[[2]int]float64)
		p := New(Config{Plan: plan.New(&policy.Policy{Shape: unit.Share{Rate: c.shape}, Treat: []policy.Entry{entry}}, 100*unit.MbitPerSecond, packet.FramingIP())})
		serve(p, 100*unit.MbitPerSecond, floods(fs...), func(now time.Duration, pkt *packet.Packet) {
			if now < seconds*time.Second {
				sent[[2]int{int(pkt.Flow.From.As4()[3]) - 1, int(pkt.Flow.ToPort)}] += float64(pkt.Size)
			}
		})
		for source, classes := range c.busy {
			g := c.gets[source]
			ideal := &fluid.Entry{Children: []*fluid.Entry{{Priority: 1, Ceiling: 1_000_000}, {Guarantee: g * 6 / 10, Weight: 1}, {Guarantee: g * 2 / 10, Weight: 3}}}
			for _, n := range classes {
				ideal.Children[n-1].Demand = wants(n)
			}
			fluid.Allocate(ideal, g)
			for n := 1; n <= 3; n++ {
				got, want := sent[[2]int{source, n}]*8/seconds, float64(ideal.Children[n-1].Gets)
				if math.Abs(got-want) > 0.01*want+4*1500*8/seconds {
					t.Errorf("%s: source %d, class %d: %.0f bit/s; the ideal is %.0f", c.name, source, n, got, want)
				}
			}
		}
		if most, shared, list := p.Instances(0, 5); most != 2 || shared != 0 || len(list) != 2 {
			t.Errorf("%s: %d instances, %d packets shared one, %v", c.name, most, shared, list)
		}
	}
}

// Instances within instances: every VLAN has 10 Mbit/s, and every source in it at
// most 3 of these. They go when they have idled, the inner before the outer, and
// are used again.
func TestEachWithinEach(t *testing.T) {
	source := sources(1, policy.Entry{AtMost: &policy.Ceiling{Rate: unit.Share{Rate: 3 * unit.MbitPerSecond}}})
	vlan := sources(1, policy.Entry{AtMost: &policy.Ceiling{Rate: unit.Share{Rate: 10 * unit.MbitPerSecond}}, Treat: []policy.Entry{source}})
	vlan.ClassName.Text, vlan.Each = "sites", policy.ByVLAN
	const line = 100 * unit.MbitPerSecond
	p := New(Config{Plan: plan.New(&policy.Policy{Treat: []policy.Entry{vlan}}, line, packet.FramingIP())})
	nodes := 0
	for round := range 3 {
		// In VLAN 1 five sources, in VLAN 2 two, and one that wants little.
		begin := time.Duration(round) * 5 * time.Minute
		var fs []flood
		for _, s := range []int{16, 17, 18, 19, 20, 32, 33} {
			fs = append(fs, flood{from(s+4*round, 1), 1000, 8 * unit.MbitPerSecond, begin, begin + 5*time.Second})
		}
		fs = append(fs, flood{from(34+4*round, 1), 500, 200_000, begin, begin + 5*time.Second})
		sent := make(map[int]float64)
		serve(p, line, floods(fs...), func(now time.Duration, pkt *packet.Packet) {
			if now < begin+5*time.Second {
				sent[int(pkt.Flow.From.As4()[3])-1-4*round] += float64(pkt.Size) * 8 / 5
			}
		})
		for s, want := range map[int]float64{16: 2e6, 17: 2e6, 18: 2e6, 19: 2e6, 20: 2e6, 32: 3e6, 33: 3e6, 34: 2e5} {
			if off := sent[s]/want - 1; off > 0.01 || off < -0.01 {
				t.Errorf("round %d: source %d gets %.0f bit/s; %.0f is right", round, s, sent[s], want)
			}
		}
		if round == 1 {
			nodes = len(p.nodes)
		}
	}
	if got := len(p.nodes); got != nodes {
		t.Errorf("%d nodes after the third round, %d after the second: what idled is not used again", got, nodes)
	}
	most, _, list := p.Instances(1, 1)
	if outer, _, _ := p.Instances(0, 1); outer != 2 || most > 16 || len(list) != 1 || list[0].Value[:5] != "vlan " {
		t.Errorf("%d VLANs and %d sources at most; the first is %+v", outer, most, list)
	}
	_, _, list = p.Instances(0, 5)
	if c := p.Counters()[0]; len(list) != 2 || list[0].Offered+list[1].Offered != c.OfferedPackets || list[0].Dropped+list[1].Dropped != c.Drops[QueueFull] {
		t.Errorf("the VLANs, which idled twice: %+v; the entry was offered %d and dropped %d", list, c.OfferedPackets, c.Drops[QueueFull])
	}
	for i, c := range p.Counters() {
		if c.OfferedPackets != c.SentPackets+c.Drops[QueueFull] {
			t.Errorf("%s: %d offered, %d sent, %d dropped", p.Classes()[i], c.OfferedPackets, c.SentPackets, c.Drops[QueueFull])
		}
	}
}

// With fq-codel in every instance a flood drops its own packets, which its
// instance counts; the thin flow beside it and the other source lose none.
func TestEachWithFQCoDel(t *testing.T) {
	p := New(Config{Plan: plan.New(&policy.Policy{Treat: []policy.Entry{
		sources(2, policy.Entry{AtMost: &policy.Ceiling{Rate: unit.Share{Rate: unit.MbitPerSecond}}, Queue: policy.Queue{Drop: policy.FQCoDel}}),
	}}, 100*unit.MbitPerSecond, packet.FramingIP())})
	const thin, flooding = 2, 1
	worst := make(map[string]time.Duration)
	sent := make(map[string]int)
	key := func(pkt *packet.Packet) string { return fmt.Sprint(pkt.Flow.From, " ", pkt.Flow.ToPort) }
	serve(p, 100*unit.MbitPerSecond, floods(
		flood{from(0, flooding), 1500, 4 * unit.MbitPerSecond, 0, 5 * time.Second},
		flood{from(0, thin), 125, 50_000, 0, 5 * time.Second},
		flood{from(1, flooding), 1500, 900_000, 0, 5 * time.Second},
	), func(now time.Duration, pkt *packet.Packet) {
		worst[key(pkt)] = max(worst[key(pkt)], now-pkt.Arrived)
		sent[key(pkt)]++
	})
	if n := sent["10.0.0.1 2"]; n != 250 || worst["10.0.0.1 2"] > 2*unit.Rate(unit.MbitPerSecond).Time(1500) {
		t.Errorf("the thin flow beside a flood: %d of 250 sent, the worst waits %v", n, worst["10.0.0.1 2"])
	}
	if n := sent["10.0.0.2 1"]; n != 375 {
		t.Errorf("the other source: %d of 375 sent", n)
	}
	_, _, list := p.Instances(0, 5)
	c := p.Counters()[0]
	dropped := c.OfferedPackets - c.SentPackets
	if len(list) != 2 || list[0].Dropped != dropped || dropped == 0 || list[1].Dropped != 0 {
		t.Errorf("the instances say %+v; %d packets were dropped", list, dropped)
	}
}

// A phone's allotment cannot be eaten by a PC plugged into it, or at
// another port: each VLAN, and each arriving interface, has its own.
func TestEachVLANAndPort(t *testing.T) {
	police := &policy.Police{Rate: unit.Share{Rate: 100_000}, Burst: 2000, Red: policy.Action{Drop: true}}
	for _, by := range []policy.Each{policy.ByVLAN, policy.ByInterface} {
		p := New(Config{Plan: plan.New(&policy.Policy{Treat: []policy.Entry{treats(1, policy.Entry{Each: by, Police: police})}}, unit.GbitPerSecond, packet.FramingIP())})
		var l pool
		lost := [3]int{}
		for at := time.Duration(0); at < 2*time.Second; at += time.Millisecond {
			for k, every := range []time.Duration{20, 1, 1} { // a call of 80 kbit/s; floods of 1.6 Mbit/s
				if at/time.Millisecond%every != 0 {
					continue
				}
				pkt := l.get(1, 200)
				switch {
				case by == policy.ByVLAN && k < 2: // the last is not tagged
					pkt.Tagged, pkt.VLAN = true, uint16(40+k)
				case by == policy.ByInterface:
					pkt.In = int32(1 + k)
				}
				if p.Enqueue(at, pkt) == Policed {
					lost[k]++
				}
				p.Dequeue(at)
			}
		}
		if lost[0] != 0 || lost[1] < 1800 || lost[1] != lost[2] {
			t.Errorf("by %s: the call loses %d of 100, the floods %d and %d of 2000", by, lost[0], lost[1], lost[2])
		}
		_, _, list := p.Instances(0, 5)
		want := map[string]string{"vlan": "[{no vlan 2000} {vlan 41 2000} {vlan 40 100}]", "interface": "[{interface 2 2000} {interface 3 2000} {interface 1 100}]"}[by.String()]
		var got []struct {
			Value   string
			Offered uint64
		}
		for _, i := range list {
			got = append(got, struct {
				Value   string
				Offered uint64
			}{i.Value, i.Offered})
		}
		if fmt.Sprint(got) != want {
			t.Errorf("by %s: counted %v; want %s", by, got, want)
		}
	}
}

// A flood of random sources: memory is bounded, the rest of the traffic does not
// suffer, and instances that idle go.
func TestAFloodOfSources(t *testing.T) {
	e := treats(1, policy.Entry{Each: policy.BySource, AtMost: &policy.Ceiling{Rate: unit.Share{Rate: unit.MbitPerSecond}}, Queue: policy.Queue{Packets: 2}})
	p := New(Config{Plan: plan.New(&policy.Policy{Treat: []policy.Entry{e}}, unit.GbitPerSecond, packet.FramingIP())})
	var l pool
	now := time.Duration(0)
	send := func(n uint32) Reason {
		pkt := l.get(1, 100)
		pkt.Flow.From = netip.AddrFrom4([4]byte{10, byte(n >> 16), byte(n >> 8), byte(n)})
		reason := p.Enqueue(now, pkt)
		if reason != Passed {
			l.spare = append(l.spare, pkt)
		}
		for {
			pkt, _ := p.Dequeue(now)
			if pkt == nil {
				return reason
			}
			l.spare = append(l.spare, pkt)
		}
	}
	for n := range uint32(MaxInstances + 3000) {
		send(n)
		now += time.Microsecond
	}
	most, shared, _ := p.Instances(0, 5)
	if most > MaxInstances+1 || shared != 3000 {
		t.Errorf("%d instances, %d packets shared one; %d and 3000 are right", most, shared, MaxInstances)
	}
	now += 2 * minIdle
	before := len(p.nodes)
	for n := range uint32(10_000) {
		if send(n+1<<22) != Passed {
			t.Fatal("a new source is refused after the others idled")
		}
	}
	if got := len(p.elements[0].instances.instances); got != 10_000 || len(p.nodes) != before {
		t.Errorf("%d instances after all idled and 10,000 came; %d nodes, %d before", got, len(p.nodes), before)
	}
}

// A flood of random sources, each of which makes an instance, takes nothing from
// what was promised to others, nor from the instance that was there before.
func TestAFloodOfSourcesStarvesNobody(t *testing.T) {
	const rate, seconds = 10 * unit.MbitPerSecond, 5
	p := New(Config{Plan: plan.New(&policy.Policy{Treat: []policy.Entry{
		treats(2, policy.Entry{AtLeast: unit.Share{Percent: 400_000}}),
		sources(1, policy.Entry{AtLeast: unit.Share{Percent: 400_000}, Queue: policy.Queue{Packets: 3}}),
		treats(3, policy.Entry{Priority: 1, AtMost: &policy.Ceiling{Rate: unit.Share{Percent: 100_000}}}),
	}}, rate, packet.FramingIP())})
	var sent, worst [4]float64
	r := rand.New(rand.NewPCG(70, 70))
	others := floods(flood{2, 1500, 2 * rate, 0, seconds * time.Second}, flood{3, 200, 900_000, 0, seconds * time.Second})
	next, more := others()
	at := time.Duration(0)
	serve(p, rate, func() (arrival, bool) {
		if more && next.at <= at || at >= seconds*time.Second {
			a, ok := next, more
			next, more = others()
			return a, ok
		}
		a := arrival{at, from(r.IntN(255), 1), 100}
		at += time.Duration(r.IntN(20_000)) // 80 Mbit/s
		return a, true
	}, func(now time.Duration, pkt *packet.Packet) {
		if now < seconds*time.Second {
			n := pkt.Flow.ToPort
			sent[n] += float64(pkt.Size) * 8 / seconds
			worst[n] = max(worst[n], float64(now-pkt.Arrived))
		}
	})
	t.Logf("promised 4 Mbit/s: %.0f bit/s; strict: %.0f bit/s, at most %v; the flood: %.0f bit/s", sent[2], sent[3], time.Duration(worst[3]), sent[1])
	if min(sent[1], sent[2]) < 0.99*0.45*float64(rate) || math.Abs(sent[3]/900_000-1) > 0.01 || time.Duration(worst[3]) > 2*unit.Rate(rate).Time(1500) {
		t.Errorf("promised 4 of 10 Mbit/s and half of what is left: %.0f bit/s; the flood %.0f; strict: %.0f of 900,000, waits %v", sent[2], sent[1], sent[3], time.Duration(worst[3]))
	}
}

// A flood of sources, some of which come back, with trees of their own: what is
// reused begins as new, and nothing is lost from what was counted.
func TestInstancesAreReused(t *testing.T) {
	p := New(Config{Plan: plan.New(&policy.Policy{Treat: []policy.Entry{
		sources(2, policy.Entry{AtMost: &policy.Ceiling{Rate: unit.Share{Rate: unit.MbitPerSecond}}, Treat: []policy.Entry{
			treats(1, policy.Entry{Priority: 1, AtMost: &policy.Ceiling{Rate: unit.Share{Percent: 500_000}}}),
			treats(2, policy.Entry{AtLeast: unit.Share{Percent: 500_000}, Police: &policy.Police{Rate: unit.Share{Rate: 10_000}, Burst: 1500, Red: policy.Action{Drop: true}}}),
		}}),
	}}, unit.GbitPerSecond, packet.FramingIP())})
	var l pool
	offered, got := uint64(0), uint64(0)
	for round := range 6 {
		now := time.Duration(round) * 3 * minIdle
		for n := range 200 {
			for _, k := range []int{1, 2, 2} { // the second of 2 exceeds its bucket
				pkt := l.get(k, 1000)
				pkt.Flow.From = netip.AddrFrom4([4]byte{10, byte(round), 0, byte(n)})
				offered++
				if reason := p.Enqueue(now, pkt); (reason == Policed) != (k == 2 && p.Counters()[2].OfferedPackets%2 == 0) {
					t.Fatalf("round %d, source %d, class %d: %v", round, n, k, reason)
				}
			}
		}
		for at := now; ; {
			pkt, again := p.Dequeue(at)
			if pkt != nil {
				got++
			} else if at = again; again > now+minIdle {
				break
			}
		}
	}
	c := p.Counters()[0]
	if c.OfferedPackets != offered || c.SentPackets != got || got != offered*2/3 || c.Drops[Policed] != offered/3 {
		t.Errorf("%d offered, %d came out; counted %d, %d and %d policed", offered, got, c.OfferedPackets, c.SentPackets, c.Drops[Policed])
	}
	if most, _, _ := p.Instances(0, 1); most > 400 || len(p.nodes) > 1+1+400*4 {
		t.Errorf("%d instances at most, %d nodes: those that idled are not used again", most, len(p.nodes))
	}
}

// Instances cost little more than a handful of classes. The packets are 512, as
// in the ring of a network card, in the order of a random permutation of their
// sources.
func BenchmarkInstances(b *testing.B) {
	for _, n := range []int{8, 1000, 100_000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			e := treats(1, policy.Entry{Each: policy.BySource, AtMost: &policy.Ceiling{Rate: unit.Share{Rate: unit.GbitPerSecond}}})
			p := New(Config{Plan: plan.New(&policy.Policy{Treat: []policy.Entry{e}}, 10*unit.GbitPerSecond, packet.FramingIP())})
			var l pool
			ring := make([]*packet.Packet, 512)
			for i := range ring {
				ring[i] = l.get(1, 100)
			}
			order := rand.New(rand.NewPCG(1, 1)).Perm(n)
			now := time.Duration(0)
			pass := func(i int) {
				now += 10 * time.Microsecond
				pkt, source := ring[i&511], order[i%n]
				pkt.Flow.From = netip.AddrFrom4([4]byte{10, byte(source >> 16), byte(source >> 8), byte(source)})
				p.Enqueue(now, pkt)
				p.Dequeue(now)
			}
			for i := range n {
				pass(i)
			}
			b.ReportAllocs()
			for i := 0; b.Loop(); i++ {
				pass(i)
			}
		})
	}
}

// The few instances that were offered most are known at any time, those that idled and came again among them: as all together say.
func TestTheMostOfferedAreKnown(t *testing.T) {
	r := rand.New(rand.NewPCG(27, 2))
	e := treats(1, policy.Entry{Each: policy.BySource, AtMost: &policy.Ceiling{Rate: unit.Share{Rate: unit.GbitPerSecond}}})
	p := New(Config{Plan: plan.New(&policy.Policy{Treat: []policy.Entry{e}}, 10*unit.GbitPerSecond, packet.FramingIP())})
	var l pool
	now, offered := time.Duration(0), make(map[string]uint64)
	for round := range 40 {
		for range 2000 {
			n := r.IntN(400)
			pkt := l.get(1, 100+r.IntN(1000)+3*n)
			pkt.Flow.From = netip.AddrFrom4([4]byte{10, 0, byte(n >> 8), byte(n)})
			if p.Enqueue(now, pkt) == Passed {
				offered["source "+pkt.Flow.From.String()] += uint64(pkt.Size)
			}
			for {
				out, _ := p.Dequeue(now)
				if out == nil {
					break
				}
				l.spare = append(l.spare, out)
			}
			now += 10 * time.Microsecond
		}
		if round%10 == 9 {
			now += 3 * minIdle // all go, and come again
		}
		_, _, few := p.Instances(0, 10)
		var all []uint64
		for _, bytes := range offered {
			all = append(all, bytes)
		}
		slices.Sort(all)
		for i, k := range few {
			if k.OfferedBytes != offered[k.Value] && round < 10 { // what idled among the rest begins anew
				t.Fatalf("round %d: %s is said to have been offered %d bytes, and was offered %d", round, k.Value, k.OfferedBytes, offered[k.Value])
			}
			if round < 10 && k.OfferedBytes != all[len(all)-1-i] {
				t.Fatalf("round %d: the %dth has %d bytes of %d", round, i+1, k.OfferedBytes, all[len(all)-1-i])
			}
			if i > 0 && k.OfferedBytes > few[i-1].OfferedBytes {
				t.Fatalf("round %d: they are in no order", round)
			}
		}
	}
}

// TestForgetCountsAnew: after Forget each instance has counted its waiting packets, and no other.
func TestForgetCountsAnew(t *testing.T) {
	e := treats(1, policy.Entry{Each: policy.BySource, AtMost: &policy.Ceiling{Rate: unit.Share{Rate: unit.MbitPerSecond}}})
	p := New(Config{Plan: plan.New(&policy.Policy{Treat: []policy.Entry{e}}, 10*unit.MbitPerSecond, packet.FramingIP())})
	var l pool
	for n := range 30 { // of source 0 many, of source 1 few, of source 2 one that is sent at once
		source := []int{0, 0, 1}[n%3]
		if n == 29 {
			source = 2
		}
		p.Enqueue(0, l.get(from(source, 1), 1000))
	}
	sent := map[string]uint64{}
	for pkt, _ := p.Dequeue(0); pkt != nil; pkt, _ = p.Dequeue(0) {
		sent["source "+pkt.Flow.From.String()]++
	}
	_, _, before := p.Instances(0, 10)
	p.Forget(time.Second, func(int) int64 { return 0 })
	_, _, after := p.Instances(0, 10)
	if len(before) != 3 {
		t.Fatalf("%d instances", len(before))
	}
	waiting := uint64(0)
	for _, b := range before {
		want := b.Offered - b.Dropped - sent[b.Value]
		waiting += want
		i := slices.IndexFunc(after, func(a Instance) bool { return a.Value == b.Value })
		if i < 0 {
			if want > 0 {
				t.Errorf("%s is gone, and has %d waiting packets", b.Value, want)
			}
			continue
		}
		if a := &after[i]; a.Offered != want || a.OfferedBytes != 1000*want || a.Dropped != 0 || a.SentBytes != 0 {
			t.Errorf("%s: %+v; %d packets wait", b.Value, a, want)
		}
	}
	if waiting == 0 || len(sent) == 0 {
		t.Errorf("the test tests little: %v, %d wait", sent, waiting)
	}
}
