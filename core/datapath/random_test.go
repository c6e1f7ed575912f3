package datapath

import (
	"math/rand/v2"
	"net/netip"
	"reflect"
	"testing"
	"time"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/schedule"
	"imbrel.example/imbrel/core/unit"
)

// anything is a random policy of everything an entry may have, at any depth.
func anything(r *rand.Rand, depth int) []policy.Entry {
	var entries []policy.Entry
	share := func(most int) unit.Share { return unit.Share{Percent: unit.Percent(10_000 * (1 + r.IntN(most)))} }
	for n := range 1 + r.IntN(4) {
		first := 1 + r.IntN(8)
		e := treats(n+1, policy.Entry{})
		e.Class.Match[0] = policy.All(policy.KeyToPort.In(policy.Range{First: uint32(first), Last: uint32(first + r.IntN(8))}))
		switch r.IntN(5) {
		case 0:
			e.Priority = 1 + r.IntN(2)
		case 1, 2:
			e.AtLeast = share(24)
		default:
			e.Weight = 1 + r.IntN(9)
		}
		if r.IntN(3) == 0 {
			e.AtMost = &policy.Ceiling{Rate: share(90)}
			if r.IntN(2) == 0 {
				e.AtMost.Burst = &policy.Burst{To: unit.Share{Percent: unit.Whole}, For: time.Duration(r.IntN(100)) * time.Millisecond}
			}
		}
		if r.IntN(3) == 0 {
			mark := policy.Mark{DSCP: new(codepoint.DSCP)}
			e.Police = &policy.Police{Rate: share(50), Burst: unit.Size(1500 + r.IntN(10_000)), Red: policy.Action{Drop: r.IntN(2) == 0, Mark: &mark}}
			if r.IntN(2) == 0 {
				e.Police.Excess, e.Police.Aware = unit.Size(1+r.IntN(5000)), r.IntN(2) == 0
			}
		}
		if r.IntN(4) == 0 {
			e.Each = policy.Each(r.IntN(32) & r.IntN(32))
		}
		when := func() *policy.When {
			return &policy.When{Starts: policy.Pressure{Load: share(80), For: time.Duration(r.IntN(200)) * time.Millisecond}, Ends: policy.Pressure{Load: share(20)}}
		}
		if r.IntN(6) == 0 {
			e.When = when()
		}
		if e.AtMost != nil && r.IntN(3) == 0 {
			e.AtMost.When = when()
		}
		if e.Police != nil && r.IntN(3) == 0 {
			e.Police.When = when()
		}
		if r.IntN(8) == 0 {
			e.Block, e.BlockWhen = true, when()
		}
		e.Block = e.Block || r.IntN(12) == 0
		e.Queue.Drop = policy.Dropper(r.IntN(4))
		e.Queue.ECN = r.IntN(2) == 0
		switch r.IntN(4) {
		case 0:
			e.Queue.Packets = 1 + r.IntN(30)
		case 1:
			e.Queue.Bytes = unit.Size(1 + r.IntN(30_000))
		case 2:
			e.Queue.Time = time.Duration(1+r.IntN(100)) * time.Millisecond
		}
		if depth > 1 && r.IntN(2) == 0 {
			e.Treat = anything(r, depth-1)
		}
		entries = append(entries, e)
	}
	return entries
}

// Whatever the policy and the traffic, every packet that was offered is sent or
// counted as dropped, once; the path never sleeps while it may send; and what is
// counted of classes and instances adds up.
func TestRandomPathsLoseNothing(t *testing.T) {
	instances := 0
	for trial := range 400 {
		r := rand.New(rand.NewPCG(90, uint64(trial)))
		rate := unit.Rate(1_000_000 + r.Int64N(50_000_000))
		p := &policy.Policy{Treat: anything(r, 4)}
		if r.IntN(2) == 0 {
			p.Shape.Rate = rate - rate/10
		}
		lost := 0
		var l pool
		path := New(Config{Plan: plan.New(p, rate, packet.FramingEthernet()), Random: r, Drop: func(pkt *packet.Packet, _ Reason) {
			lost++
			l.spare = append(l.spare, pkt)
		}})
		offered, refused, sent := 0, 0, 0
		now, free := time.Duration(0), time.Duration(0)
		serve := func(until time.Duration) {
			for free <= until {
				pkt, again := path.Dequeue(max(free, now))
				if pkt == nil {
					if again <= max(free, now) {
						t.Fatalf("trial %d: nothing to send at %v, and to be asked again at %v", trial, max(free, now), again)
					}
					if again > until {
						return
					}
					free = again
					continue
				}
				sent++
				free = max(free, now) + rate.Time(unit.Size(pkt.Size))
				l.spare = append(l.spare, pkt)
			}
		}
		for range 4000 {
			gap := time.Duration(r.Int64N(2 * int64(rate.Time(1000))))
			if r.IntN(500) == 0 {
				gap += time.Duration(r.IntN(90)) * time.Second // so that instances idle
			}
			serve(now + gap)
			now += gap
			pkt := l.get(from(r.IntN(40), 1+r.IntN(16)), 40+r.IntN(1461))
			pkt.In = int32(r.IntN(3))
			if r.IntN(20) == 0 {
				pkt.Flow.To = netip.AddrFrom4([4]byte{10, 9, byte(r.IntN(200)), 1})
			}
			pkt.SetDSCP(codepoint.AF(1+r.IntN(4), 1+r.IntN(3)))
			offered++
			if path.Enqueue(now, pkt) != Passed {
				refused++
				l.spare = append(l.spare, pkt)
			}
		}
		serve(schedule.Never - 1)
		if offered != sent+refused+lost {
			t.Fatalf("trial %d: %d offered; %d sent, %d refused, %d dropped later", trial, offered, sent, refused, lost)
		}
		counters := path.Counters()
		var top uint64
		for i, c := range counters {
			drops := c.Drops[Policed] + c.Drops[QueueFull] + c.Drops[Early] + c.Drops[Blocked]
			if c.OfferedPackets != c.SentPackets+drops {
				t.Errorf("trial %d, %s: %d offered, %d sent, %d dropped", trial, path.Classes()[i], c.OfferedPackets, c.SentPackets, drops)
			}
			if path.Parent(i) < 0 {
				top += c.OfferedPackets
			}
			if most, _, list := path.Instances(i, 1<<20); most > 0 {
				instances += most
				offered, dropped := path.elements[i].instances.forgotten, uint64(0)
				for _, k := range list {
					offered, dropped = offered+k.Offered, dropped+k.Dropped
				}
				if offered != c.OfferedPackets || dropped != drops && path.elements[i].instances.forgotten == 0 {
					t.Errorf("trial %d, %s: its %d instances were offered %d and dropped %d; it %d and %d", trial, path.Classes()[i], len(list), offered, dropped, c.OfferedPackets, drops)
				}
			}
		}
		if top != uint64(offered) {
			t.Errorf("trial %d: the classes at the top were offered %d of %d", trial, top, offered)
		}
	}
	if instances < 1000 {
		t.Errorf("only %d instances were made", instances)
	}
}

// TestPassIsEnqueueAndDequeue: where nothing waits, a packet that passes is counted, metered, marked
// and dropped as one that goes through its queue and comes out at once.
func TestPassIsEnqueueAndDequeue(t *testing.T) {
	straight, passed := 0, 0
	for trial := range 300 {
		r := rand.New(rand.NewPCG(91, uint64(trial)))
		treat := anything(r, 3)
		var plainly func(all []policy.Entry)
		plainly = func(all []policy.Entry) {
			for i := range all {
				if all[i].AtMost = nil; trial%4 > 0 {
					all[i].Queue = policy.Queue{}
				}
				plainly(all[i].Treat)
			}
		}
		plainly(treat)
		made := plan.New(&policy.Policy{Treat: treat}, 10_000_000, packet.FramingEthernet())
		a, b := New(Config{Plan: made, Incoming: true}), New(Config{Plan: made})
		if b.Straight() {
			t.Fatal("a path that an interface sends from is straight")
		}
		if !a.Straight() {
			continue
		}
		straight++
		var l, m pool
		now := time.Duration(0)
		for range 500 {
			now += time.Duration(r.IntN(2_000_000))
			n, length := from(r.IntN(40), 1+r.IntN(16)), 60+r.IntN(1400)
			p, q := l.get(n, length), m.get(n, length)
			dscp := codepoint.DSCP(r.IntN(64))
			p.SetDSCP(dscp)
			q.SetDSCP(dscp)
			one, other := a.Pass(now, p), b.Enqueue(now, q)
			if other == Passed {
				if got, _ := b.Dequeue(now); got != q {
					t.Fatalf("trial %d: a packet waits", trial)
				}
				passed++
			}
			if one != other || p.DSCP() != q.DSCP() || p.Slot != q.Slot || p.Size != q.Size {
				t.Fatalf("trial %d: passed %v as %v, queued %v as %v", trial, one, p.DSCP(), other, q.DSCP())
			}
			l.spare, m.spare = append(l.spare, p), append(m.spare, q)
		}
		if x, y := a.Counters(), b.Counters(); !reflect.DeepEqual(x, y) {
			t.Fatalf("trial %d: passed counts %+v, queued %+v", trial, x, y)
		}
		for i := range made.Entries {
			most1, shared1, list1 := a.Instances(i, 100)
			most2, shared2, list2 := b.Instances(i, 100)
			if most1 != most2 || shared1 != shared2 || !reflect.DeepEqual(list1, list2) || !reflect.DeepEqual(a.Presences(i, now), b.Presences(i, now)) {
				t.Fatalf("trial %d: the instances of %s: passed %v, queued %v", trial, made.Entries[i].Name, list1, list2)
			}
		}
	}
	if straight < 150 || passed < 10_000 {
		t.Errorf("only %d policies of 300 are straight, and %d packets pass", straight, passed)
	}
}
