package queue

import (
	"fmt"
	"math"
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/packet"
)

const ms = time.Millisecond

// pkt makes a packet of a flow, counted as 1000 bytes, that arrived at a time.
func pkt(flow uint16, dscp codepoint.DSCP, arrived time.Duration) *packet.Packet {
	p := &packet.Packet{}
	p.Build(make([]byte, packet.HeaderRoom), packet.Flow{From: netip.AddrFrom4([4]byte{10, 0, 0, 1}), To: netip.AddrFrom4([4]byte{10, 0, 0, 2}),
		FromPort: flow, ToPort: 80, Protocol: packet.UDP}, dscp, 900, 0)
	p.Size, p.Arrived = 1000, arrived
	return p
}

func TestFIFO(t *testing.T) {
	var q FIFO
	q.Limits = Limits{Bytes: 3500}
	for n, want := range []Verdict{Taken, Taken, Taken, Full} {
		if got := q.Push(0, pkt(uint16(n), 0, 0)); got != want {
			t.Errorf("packet %d: %d, want %d", n, got, want)
		}
	}
	for n := range 3 {
		if p := q.Pop(0); p.Flow.FromPort != uint16(n) {
			t.Errorf("%d comes out as number %d", p.Flow.FromPort, n)
		}
	}
	if q.Pop(0) != nil || q.Level().Packets != 0 || q.Level().Bytes != 0 {
		t.Error("it is not empty")
	}
	tiny := FIFO{Limits: Limits{Bytes: 1}}
	if tiny.Push(0, pkt(1, 0, 0)) != Taken || tiny.Push(0, pkt(1, 0, 0)) != Full {
		t.Error("one packet may always wait, and no second")
	}
}

// The paper's drop probability, with the gentle part: 0 at min_th, max_p at
// max_th, 1 at twice that.
func TestREDProbability(t *testing.T) {
	f := Profile{Min: 5000, Max: 15000, MaxP: 0.1}
	for average, want := range map[float64]float64{0: 0, 4999: 0, 5000: 0, 10000: 0.05, 14999.9999: 0.1, 15000: 0.1, 22500: 0.55, 30000: 1, 1e9: 1} {
		if got := f.Probability(average); math.Abs(got-want) > 1e-6 {
			t.Errorf("at %.0f B: %.4f; want %.4f", average, got, want)
		}
	}
}

// Held at an average that gives p_b, the packets between drops are uniform on
// {1, …, 1/p_b} (Floyd & Jacobson 1993, §7): a mean of (1/p_b + 1)/2, and never
// more than 1/p_b. Higher drop precedences are dropped earlier.
func TestREDSpacesItsDrops(t *testing.T) {
	q := NewRED(Limits{Bytes: 1_000_000}, 100_000_000, 1000, false, rand.New(rand.NewPCG(1, 1)))
	q.Weight = 0 // hold the average
	q.average, q.idle = 300_000, false
	pb := q.Profiles[0].Probability(q.average)
	gaps, gap, longest := 0, 0, 0
	for dropped := 0; dropped < 20_000; {
		gap++
		if q.Push(0, pkt(1, 0, 0)) == Early {
			dropped++
			gaps += gap
			longest = max(longest, gap)
			gap = 0
		}
		q.Pop(0)
		q.idle = false
	}
	mean, want := float64(gaps)/20_000, (1/pb+1)/2
	if math.Abs(mean/want-1) > 0.02 || float64(longest) > 1/pb+1 {
		t.Errorf("p_b %.4f: %.2f packets between drops on average, at most %d; want %.2f and %.0f", pb, mean, longest, want, 1/pb)
	}
	var drops [3]int
	for which := range 3 {
		for range 10_000 {
			if q.Push(0, pkt(1, codepoint.AF(1, which+1), 0)) == Early {
				drops[which]++
			}
			q.Pop(0)
			q.idle = false
		}
	}
	if !(drops[0] < drops[1] && drops[1] < drops[2] && drops[2] == 10_000) {
		t.Errorf("AF11, AF12, AF13 lose %v", drops)
	}
}

func TestREDAverageFollowsThePaper(t *testing.T) {
	q := NewRED(Limits{Bytes: 1_000_000}, 8_000_000, 1000, false, rand.New(rand.NewPCG(1, 1))) // 1 ms a packet
	want := 0.0
	q.Push(0, pkt(1, 0, 0))
	for range 500 {
		want += 0.002 * (float64(q.Level().Bytes) - want)
		q.Push(0, pkt(1, 0, 0))
	}
	if math.Abs(q.average-want) > 1e-6 {
		t.Errorf("average %.3f; the filter gives %.3f", q.average, want)
	}
	for q.Pop(0) != nil {
	}
	q.Push(300*ms, pkt(1, 0, 0)) // idle for 300 packets
	if want *= math.Pow(0.998, 300); math.Abs(q.average-want) > 1e-6 {
		t.Errorf("after idling: average %.3f; want %.3f", q.average, want)
	}
}

// A standing queue: the first drop comes an interval after the target is first
// exceeded, the next ones at interval/√count (RFC 8289 §5.3).
func TestCoDelControlLaw(t *testing.T) {
	var drops []time.Duration
	var now time.Duration
	q := NewCoDel(Limits{}, 0, 1000, false, func(*packet.Packet, Verdict) { drops = append(drops, now) })
	push := func() { q.Push(now, pkt(1, 0, now-20*ms)) } // always 20 ms late
	for range 50 {
		push()
	}
	for ; now < 800*ms; now += ms / 4 {
		push()
		if q.Pop(now) == nil {
			t.Fatal("the queue ran empty")
		}
		push() // in place of what may be dropped
	}
	if len(drops) < 8 || drops[0] != 100*ms {
		t.Fatalf("drops at %v; the first belongs at 100ms", drops[:min(len(drops), 9)])
	}
	next := drops[0]
	for i := 1; i < 8; i++ {
		next += time.Duration(float64(100*ms) / math.Sqrt(float64(i)))
		if late := drops[i] - next; late < 0 || late > ms/4 {
			t.Errorf("drop %d at %v; interval/√%d after the last is %v", i+1, drops[i], i, next)
		}
	}
}

// Below the target nothing is dropped, however long it lasts and however much waits;
// just above it, something is.
func TestCoDelTarget(t *testing.T) {
	for _, c := range []struct {
		sojourn time.Duration
		drops   bool
	}{{4900 * time.Microsecond, false}, {5100 * time.Microsecond, true}} {
		dropped := 0
		q := NewCoDel(Limits{}, 0, 1000, false, func(*packet.Packet, Verdict) { dropped++ })
		for now := time.Duration(0); now < 2*time.Second; now += ms {
			for q.Level().Packets < 50 {
				q.Push(now, pkt(1, 0, 0))
			}
			for p := q.head; p != nil; p = p.Next {
				p.Arrived = now - c.sojourn
			}
			q.Pop(now)
		}
		if (dropped > 0) != c.drops {
			t.Errorf("packets that wait %v: %d dropped; want some: %t", c.sojourn, dropped, c.drops)
		}
	}
}

// It stops dropping with the first packet that did not wait too long, and drops none of those that follow.
func TestCoDelStops(t *testing.T) {
	dropped := 0
	q := NewCoDel(Limits{}, 0, 1000, false, func(*packet.Packet, Verdict) { dropped++ })
	run := func(from, until, sojourn time.Duration) int {
		dropped = 0
		for now := from; now < until; now += ms {
			for q.Level().Packets < 50 {
				q.Push(now, pkt(1, 0, 0))
			}
			for p := q.head; p != nil; p = p.Next {
				p.Arrived = now - sojourn
			}
			q.Pop(now)
		}
		return dropped
	}
	if late, calm := run(0, time.Second, 20*ms), run(time.Second, 2*time.Second, 4*ms); late < 5 || calm > 0 {
		t.Errorf("%d packets that wait 20 ms are dropped, and then %d that wait 4 ms", late, calm)
	}
}

// Dropping that begins again within 16 intervals begins near the rate that held the
// queue before; later it begins anew (RFC 8289 §5.4).
func TestCoDelRemembersItsRate(t *testing.T) {
	second := func(pause time.Duration) int {
		var now time.Duration
		drops := 0
		q := NewCoDel(Limits{}, 0, 1000, false, func(*packet.Packet, Verdict) { drops++ })
		late := func(until time.Duration) {
			for ; now < until; now += ms {
				for q.Level().Packets < 50 {
					q.Push(now, pkt(1, 0, 0))
				}
				for p := q.head; p != nil; p = p.Next {
					p.Arrived = now - 20*ms
				}
				q.Pop(now)
			}
		}
		late(3 * time.Second)
		for q.Pop(now) != nil { // it runs empty
		}
		now += pause
		drops = 0
		late(now + 400*ms)
		return drops
	}
	soon, later := second(500*ms), second(1700*ms)
	if soon < 2*later || later < 3 {
		t.Errorf("%d drops in 400 ms after a pause of 0.5 s, %d after 1.7 s; want many more after the short one", soon, later)
	}
}

// A flow whose queue runs empty in the new flows goes to the end of the old ones, so
// that one with a packet now and then cannot stay before the others for ever (RFC 8290
// §4.2).
func TestFQCoDelNewFlowsBecomeOld(t *testing.T) {
	q := NewFQCoDel(Limits{Packets: 1000}, Flows, 0, 1000, false, func(*packet.Packet, Verdict) {})
	q.Quantum = 10_000 // ten packets a turn
	first := 0         // how often it is served at once when it was empty before
	for range 400 {
		q.Push(0, pkt(1, 0, 0))
	}
	for range 20 {
		q.Push(0, pkt(2, 0, 0))
		if q.Pop(0).Flow.FromPort == 2 {
			first++
			q.Pop(0)
		} else {
			for q.Pop(0).Flow.FromPort != 2 {
			}
		}
	}
	// New, then old, then new again: every third time it waits for a turn of the other.
	if first > 14 {
		t.Errorf("a flow that empties its queue each time is served before the others %d times of 20; want two of three", first)
	}
}

// Of many flows with a packet each, all packets come out.
func TestFQCoDelServesEveryFlow(t *testing.T) {
	q := NewFQCoDel(Limits{Packets: 10_000}, 16, 0, 1000, false, func(*packet.Packet, Verdict) {})
	for n := range uint16(300) {
		q.Push(0, pkt(n, 0, 0))
	}
	seen := make(map[uint16]bool)
	for p := q.Pop(0); p != nil; p = q.Pop(0) {
		seen[p.Flow.FromPort] = true
	}
	if len(seen) != 300 || q.Level().Packets != 0 {
		t.Errorf("packets of %d flows of 300 come out, and %d are left", len(seen), q.Level().Packets)
	}
}

func TestECNMarksInsteadOfDropping(t *testing.T) {
	dropped := 0
	q := NewCoDel(Limits{}, 0, 1000, true, func(*packet.Packet, Verdict) { dropped++ })
	capable := func(now time.Duration, able bool) *packet.Packet {
		p := pkt(1, 0, now-20*ms)
		if able {
			p.Network()[1] |= 2 // ECT(0); the checksum is not asked for here
		}
		return p
	}
	marked := 0
	for now := time.Duration(0); now < time.Second; now += ms {
		q.Push(now, capable(now, true))
		q.Push(now, capable(now, true))
		if p := q.Pop(now); p.ECN() == 3 {
			marked++
		}
	}
	if dropped > 0 || marked < 5 {
		t.Errorf("%d dropped, %d marked", dropped, marked)
	}
	red := NewRED(Limits{Bytes: 100_000}, 8_000_000, 1000, true, rand.New(rand.NewPCG(1, 1)))
	red.Weight, red.average, red.idle = 0, 40_000, false
	early := 0
	for range 2000 {
		p := capable(0, true)
		if red.Push(0, p) == Early {
			early++
		}
		if p.ECN() == 3 {
			marked++
		}
		red.Pop(0)
		red.idle = false
	}
	if early > 0 || marked < 50 {
		t.Errorf("RED: %d dropped early, %d marked", early, marked)
	}
	red.average = 90_000 // at twice the upper threshold
	if red.Push(0, capable(0, true)) != Early {
		t.Error("beyond the upper threshold what could be marked is not dropped")
	}
}

// Ten flows of which one floods: each of the others gets what it asks for, with
// next to no delay; the flood pays.
func TestFQCoDelIsolatesFlows(t *testing.T) {
	lost := make(map[uint16]int)
	q := NewFQCoDel(Limits{Packets: 1000}, Flows, 0, 1000, false, func(p *packet.Packet, _ Verdict) { lost[p.Flow.FromPort]++ })
	sent, offered, worst := make(map[uint16]int), make(map[uint16]int), make(map[uint16]time.Duration)
	offer := func(now time.Duration, flow uint16) {
		offered[flow]++
		if q.Push(now, pkt(flow, 0, now)) != Taken {
			lost[flow]++
		}
	}
	for now := time.Duration(0); now < 5*time.Second; now += ms { // one packet a millisecond is the rate
		for range 3 {
			offer(now, 99)
		}
		if now%(20*ms) == 0 { // nine flows of a twentieth each
			for flow := range uint16(9) {
				offer(now, flow)
			}
		}
		if p := q.Pop(now); p != nil {
			f := p.Flow.FromPort
			sent[f]++
			worst[f] = max(worst[f], now-p.Arrived)
		}
	}
	for flow := range uint16(9) {
		if lost[flow] > 0 || sent[flow] < offered[flow]-1 || worst[flow] > 20*ms {
			t.Errorf("flow %d: %d of %d sent, %d lost, waited up to %v", flow, sent[flow], offered[flow], lost[flow], worst[flow])
		}
	}
	if share := float64(sent[99]) / 5000; share < 0.54 || share > 0.56 {
		t.Errorf("the flood gets %.3f of the rate; 0.55 is left over", share)
	}
	if q.Level().Packets != offered[99]-sent[99]-lost[99] || q.Level().Bytes != int64(q.Level().Packets)*1000 {
		t.Errorf("it holds %d packets and %d bytes; %d are unaccounted for", q.Level().Packets, q.Level().Bytes, offered[99]-sent[99]-lost[99])
	}
}

func BenchmarkDisciplines(b *testing.B) {
	drop := func(*packet.Packet, Verdict) {}
	for name, q := range map[string]Discipline{
		"tail":     &FIFO{Limits: Limits{Packets: 1000}},
		"red":      NewRED(Limits{Bytes: 1_000_000}, 1_000_000_000, 1000, false, rand.New(rand.NewPCG(1, 1))),
		"codel":    NewCoDel(Limits{Packets: 1000}, 0, 1000, false, drop),
		"fq-codel": NewFQCoDel(Limits{Packets: 1000}, Flows, 0, 1000, false, drop),
	} {
		b.Run(name, func(b *testing.B) {
			packets := make([]*packet.Packet, 64)
			for i := range packets {
				packets[i] = pkt(uint16(i), 0, 0)
			}
			b.ReportAllocs()
			for i := 0; b.Loop(); i++ {
				p := packets[i&63]
				p.Arrived = time.Duration(i) * 1000
				q.Push(p.Arrived, p)
				q.Pop(p.Arrived)
			}
		})
	}
}

func ExampleFIFO() {
	q := FIFO{Limits: Limits{Packets: 1}}
	fmt.Println(q.Push(0, pkt(1, 0, 0)) == Taken, q.Push(0, pkt(2, 0, 0)) == Full)
	// Output: true true
}

// What finds no room makes the head of the flow with most bytes go: the same as
// looking at every flow, whatever came and went before.
func TestFQCoDelDropsFromTheLargest(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 9))
	type flow struct{ queue []*packet.Packet }
	for _, flows := range []int{Flows, 64, 5} {
		held := make([]flow, flows)
		bytes := func(f *flow) (sum int64) {
			for _, p := range f.queue {
				sum += int64(p.Size)
			}
			return sum
		}
		var dropped []*packet.Packet
		q := NewFQCoDel(Limits{Bytes: 100_000}, flows, 0, 1000, false, func(p *packet.Packet, _ Verdict) { dropped = append(dropped, p) })
		overflows := 0
		for step := range 20_000 {
			if r.IntN(5) < 2 {
				if p := q.Pop(0); p != nil {
					f := &held[hash(&p.Flow)%uint32(flows)]
					f.queue = f.queue[1:]
				}
				continue
			}
			p := pkt(uint16(r.IntN(3*flows)), 0, 0)
			p.Size = int32(64 + r.IntN(1437))
			f := &held[hash(&p.Flow)%uint32(flows)]
			f.queue = append(f.queue, p)
			before := int64(0)
			for i := range held {
				before = max(before, bytes(&held[i]))
			}
			dropped = dropped[:0]
			if q.Push(0, p) != Taken {
				dropped = append(dropped, p)
			}
			for _, p := range dropped {
				f := &held[hash(&p.Flow)%uint32(flows)]
				if size := bytes(f); f.queue[0] != p || size < before {
					t.Fatalf("%d flows, step %d: dropped from a flow of %d B, not its head or not the largest, of %d B", flows, step, size, before)
				}
				f.queue = f.queue[1:]
				overflows++
				before = 0
				for i := range held {
					before = max(before, bytes(&held[i]))
				}
			}
		}
		if overflows < 1000 {
			t.Errorf("%d flows: only %d packets found no room", flows, overflows)
		}
	}
}

// A flood of random flows into a full queue: every packet that comes makes one
// of the largest flow go.
func BenchmarkFQCoDelOverflow(b *testing.B) {
	for _, flows := range []int{4, 5000} {
		b.Run(fmt.Sprint(flows), func(b *testing.B) {
			var spare []*packet.Packet
			q := NewFQCoDel(Limits{Packets: 2000}, Flows, 0, 1000, false, func(p *packet.Packet, _ Verdict) { spare = append(spare, p) })
			for i := range 2100 {
				spare = append(spare, pkt(uint16(i), 0, 0))
			}
			r := rand.New(rand.NewPCG(1, 1))
			b.ReportAllocs()
			for b.Loop() {
				p := spare[len(spare)-1]
				spare = spare[:len(spare)-1]
				p.Flow.FromPort = uint16(r.IntN(flows))
				if q.Push(0, p) != Taken {
					spare = append(spare, p)
				}
			}
		})
	}
}
