package datapath

import (
	"math/rand/v2"
	"testing"
	"time"

	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
)

// Voice waits at most one maximum packet and its own burst, whatever else is
// sent: a search for the worst case over random loads and arrival times.
func TestVoiceWaitsAtMostOnePacketAndItsBurst(t *testing.T) {
	const rate, burst = 10 * unit.MbitPerSecond, 2000
	bound := rate.Time(1500 + burst)
	worst := time.Duration(0)
	for trial := range 400 {
		r := rand.New(rand.NewPCG(60, uint64(trial)))
		treat := []policy.Entry{treats(1, policy.Entry{Priority: 1, Police: &policy.Police{Rate: unit.Share{Percent: 300_000}, Burst: burst, Red: policy.Action{Drop: true}}})}
		var fs []flood
		for n := 2; n < 2+r.IntN(6); n++ {
			e := policy.Entry{}
			switch r.IntN(4) {
			case 0:
				e.AtLeast.Percent = 100_000
			case 1:
				e.Priority = 2
			case 2:
				e.AtMost = &policy.Ceiling{Rate: unit.Share{Percent: 300_000}}
			}
			treat = append(treat, treats(n, e))
			fs = append(fs, flood{n, 64 + r.IntN(1437), unit.Rate(1_000_000 + r.IntN(20_000_000)), 0, time.Second})
		}
		others := floods(append(fs, flood{9, 1500, 12 * unit.MbitPerSecond, 0, time.Second})...)
		// Voice in bursts of every size, at every moment.
		var voice []arrival
		for at := time.Duration(0); at < time.Second; at += time.Duration(r.IntN(8_000_000)) {
			for range 1 + r.IntN(12) {
				voice = append(voice, arrival{at, 1, 60 + r.IntN(300)})
			}
		}
		next, more := others()
		p := New(Config{Plan: plan.New(&policy.Policy{Treat: treat}, rate, packet.FramingIP())})
		serve(p, rate, func() (arrival, bool) {
			if len(voice) > 0 && (!more || voice[0].at <= next.at) {
				a := voice[0]
				voice = voice[1:]
				return a, true
			}
			a, ok := next, more
			next, more = others()
			return a, ok
		}, func(now time.Duration, pkt *packet.Packet) {
			if pkt.Slot == 0 {
				worst = max(worst, now-pkt.Arrived)
			}
		})
	}
	t.Logf("the worst wait in 400 searches is %v; the bound is %v", worst, bound)
	if worst > bound || worst < bound/2 {
		t.Errorf("the worst wait is %v; the bound %v (far below it, the search is too weak)", worst, bound)
	}
}

// A full tree: 8 classes in 2 levels, meters and RED.
func BenchmarkFullTree(b *testing.B) {
	var groups []policy.Entry
	for g := range 2 {
		var inner []policy.Entry
		for n := range 4 {
			e := policy.Entry{AtLeast: unit.Share{Percent: 200_000}, Queue: policy.Queue{Bytes: 1_000_000, Drop: policy.RED},
				Police: &policy.Police{Rate: unit.Share{Rate: 4 * unit.GbitPerSecond}, Burst: 1_000_000, Excess: 1_000_000}}
			inner = append(inner, treats(1+4*g+n, e))
		}
		e := treats(1, policy.Entry{AtLeast: unit.Share{Percent: 400_000}, Treat: inner})
		e.Class = &policy.Class{Match: []policy.Condition{policy.All(policy.KeyToPort.In(policy.Range{First: uint32(1 + 4*g), Last: uint32(4 + 4*g)}))}}
		e.ClassName.Text = []string{"a", "b"}[g]
		groups = append(groups, e)
	}
	p := New(Config{Plan: plan.New(&policy.Policy{Treat: groups}, 10*unit.GbitPerSecond, packet.FramingEthernet()), Random: rand.New(rand.NewPCG(1, 1))})
	churn(b, p, 8)
}
