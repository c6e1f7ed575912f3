package simulate

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"runtime"
	"testing"
	"time"

	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/policyfile"
	"imbrel.example/imbrel/core/queue"
	"imbrel.example/imbrel/core/traffic"
	"imbrel.example/imbrel/core/unit"
)

// chain returns a file of so many nodes in a row, each of which sends by a policy of eight
// classes on two levels with meters and early drop, and Poisson flows through all of them
// that offer 95 % of the rate.
func chain(tb testing.TB, nodes, flows int, lasts time.Duration) *policy.File {
	ports := []string{"1000-1124", "1125-1249", "1250-1374", "1375-1499", "1500-1624", "1625-1749", "1750-1874"}
	var classes list
	for i, p := range ports {
		classes = append(classes, object{"name": fmt.Sprintf("c%d", i), "match": list{object{"to-port": p, "protocol": "udp"}}})
	}
	classes = append(classes, object{"name": "upper", "match": list{object{"to-port": "1250-1624"}}})
	rate := unit.Rate(100 * unit.MbitPerSecond)
	var in, attach, links list
	for n := range nodes {
		near, far := object{"name": "near", "rate": rate.String()}, object{"name": "far", "rate": rate.String()}
		if n == 0 {
			near["subnets"], near["rate"] = list{"10.1.0.0/16"}, "10Gbit/s"
		}
		if n == nodes-1 {
			far["subnets"] = list{"10.2.0.0/16"}
		} else {
			links = append(links, object{"ends": list{object{"at": fmt.Sprintf("n%d/far", n)}, object{"at": fmt.Sprintf("n%d/near", n+1)}}, "delay": "1ms"})
		}
		in = append(in, object{"name": fmt.Sprintf("n%d", n), "interfaces": list{near, far}})
		attach = append(attach, object{"policy": "p", "at": fmt.Sprintf("n%d/far out", n)})
	}
	var sends list
	each := unit.Rate(float64(rate) * 0.95 / float64(flows) * 700 / 738)
	for i := range flows {
		sends = append(sends, object{"name": fmt.Sprintf("f%d", i), "rate": fmt.Sprintf("%dbit/s", each), "packet": "700B", "arrivals": "poisson", "from": fmt.Sprintf("10.1.%d.%d", i/250, i%250+1), "to": fmt.Sprintf("10.2.%d.%d", i/250, i%250+1), "to-port": 1000 + i*37%1000})
	}
	network := object{"nodes": in}
	if nodes > 1 {
		network["links"] = links
	}
	doc, err := json.Marshal(object{"imbrel": 1, "classes": classes, "attach": attach, "network": network,
		"policies": list{object{"name": "p", "shape": "99%", "treat": list{
			object{"class": "c0", "priority": 1, "mark": "ef", "police": object{"rate": "20%", "burst": "50kB"}},
			object{"class": "c1", "at-least": "10%", "mark": "af41", "police": object{"rate": "15%", "burst": "20kB", "peak": "30%", "peak-burst": "40kB", "red": object{"mark": "af43"}}},
			object{"class": "upper", "at-least": "40%", "treat": list{
				object{"class": "c2", "at-least": "30%", "queue": object{"drop": "red"}},
				object{"class": "c3", "at-least": "30%", "mark": "af11"},
				object{"class": "c4", "at-most": "90%"},
				object{"class": "rest"}}},
			object{"class": "c5", "at-least": "10%", "queue": object{"drop": "red"}},
			object{"class": "c6", "at-least": "10%"},
			object{"class": "rest"}}}},
		"rehearsals": list{object{"name": "r", "lasts": unit.FormatDuration(lasts), "traffic": sends}}})
	if err != nil {
		tb.Fatal(err)
	}
	f, err := policyfile.Parse("chain.json", doc, time.LoadLocation)
	if err != nil {
		tb.Fatal(err)
	}
	return f
}

// bare is what a simulator cannot do without: the events of Poisson flows, one FIFO and one
// clock. It returns the packets.
func bare(flows int, lasts time.Duration) (packets int) {
	rate := unit.Rate(100 * unit.MbitPerSecond)
	each := unit.Rate(float64(rate) * 0.95 / float64(flows) * 700 / 738)
	gap := float64(each.Time(700))
	var q eventHeap
	fifo := queue.FIFO{Limits: queue.Limits{Bytes: 1 << 20}}
	var clock unit.Clock
	var spare []*packet.Packet
	sending := false
	random := make([]*rand.Rand, flows)
	for i := range random {
		random[i] = traffic.Random(1, "bare", i)
		q.plan(happens(time.Duration(traffic.Exponential(random[i])*gap), emit, int32(i), nil))
	}
	send := func(now time.Duration) {
		p := fifo.Pop(now)
		if p == nil {
			return
		}
		sending = true
		clock.NotBefore(now)
		clock.Advance(int(p.Size), rate)
		spare = append(spare, p)
		q.plan(happens(clock.Ready(), sent, 0, nil))
	}
	for {
		e, _, ok := q.next()
		if !ok {
			return packets
		}
		if e.kind() == sent {
			sending = false
			send(e.at)
			continue
		}
		var p *packet.Packet
		if n := len(spare); n > 0 {
			p, spare = spare[n-1], spare[:n-1]
		} else {
			p = &packet.Packet{}
		}
		p.Size, p.Arrived = 738, e.at
		fifo.Push(e.at, p)
		packets++
		if !sending {
			send(e.at)
		}
		if at := e.at + time.Duration(traffic.Exponential(random[e.place()])*gap); at < lasts {
			q.plan(happens(at, emit, int32(e.place()), nil))
		}
	}
}

// BenchmarkHops reports packet-hops a second, and what part that is of the packets a second of
// a bare event loop in the same run.
func BenchmarkHops(b *testing.B) {
	for _, c := range []struct{ nodes, flows int }{{1, 100}, {5, 100}, {5, 10_000}} {
		b.Run(fmt.Sprintf("%d hops, %d flows", c.nodes, c.flows), func(b *testing.B) {
			lasts := 20 * time.Second * time.Duration(max(1, c.flows/5000))
			f := chain(b, c.nodes, c.flows, lasts)
			hops, packets := 0, 0
			var here, there time.Duration
			b.ReportAllocs()
			for b.Loop() {
				begun := time.Now()
				res, err := Run(f, &f.Rehearsals[0], Options{Seed: 1})
				if err != nil {
					b.Fatal(err)
				}
				here += time.Since(begun)
				for i := range res.Interfaces {
					for j := range res.Interfaces[i].Classes {
						if k := &res.Interfaces[i].Classes[j]; k.Class != "upper" {
							hops += int(k.OfferedPackets)
						}
					}
				}
				begun = time.Now()
				packets += bare(100, lasts)
				there += time.Since(begun)
			}
			full, least := float64(hops)/here.Seconds(), float64(packets)/there.Seconds()
			b.ReportMetric(full/1e6, "Mhops/s")
			b.ReportMetric(least/1e6, "Mbare/s")
			b.ReportMetric(full/least, "of-bare")
		})
	}
}

// TestNoAllocationPerPacket: what a run allocates does not grow with its packets.
func TestNoAllocationPerPacket(t *testing.T) {
	allocations := func(lasts time.Duration) (mallocs, packets uint64) {
		f := chain(t, 3, 50, lasts)
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		res, err := Run(f, &f.Rehearsals[0], Options{Seed: 1})
		runtime.ReadMemStats(&after)
		if err != nil {
			t.Fatal(err)
		}
		for i := range res.Traffic {
			packets += uint64(res.Traffic[i].SentPackets)
		}
		return after.Mallocs - before.Mallocs, packets
	}
	short, few := allocations(time.Second)
	long, many := allocations(6 * time.Second)
	if more := float64(long) - float64(short); more > 0.01*float64(many-few) {
		t.Errorf("%d packets take %d allocations, and %d packets %d: %.3f for each more", few, short, many, long, more/float64(many-few))
	}
}
