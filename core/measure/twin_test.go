package measure_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"imbrel.example/imbrel/core/codec"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/policyfile"
	"imbrel.example/imbrel/core/simulate"
	"imbrel.example/imbrel/core/unit"
)

// A sighting is one packet, as a tap at the interfaces saw it.
type sighting struct {
	flow           packet.Flow
	number         int // in its flow
	length         int
	sent, arrived  time.Duration // arrived 0: lost
	queued, leaves time.Duration // where the line begins; leaves 0: dropped there
}

// A talk counts the packets of a call that are lost or late, and the runs of them.
type talk struct {
	missing, late, runs, all int
	delays                   float64
}

// hears plays the packets of one direction of a call, in order, and counts those sent between two times.
func hears(packets []sighting, playout, from, to time.Duration) (t talk, mos float64) {
	g, _ := codec.ByName("g711")
	gone := false
	came := 0
	for i, p := range packets {
		if p.sent < from || p.sent >= to {
			continue
		}
		t.all++
		lost := p.arrived == 0
		if !lost {
			came++
			least := time.Duration(math.MaxInt64)
			for _, o := range packets[:i+1] {
				if o.arrived > 0 && o.arrived >= p.arrived-10*time.Second {
					least = min(least, o.arrived-o.sent)
				}
			}
			t.delays += float64(least + playout)
			if p.arrived-p.sent > least+playout {
				t.late, lost = t.late+1, true
			}
		}
		if lost {
			t.missing++
			if !gone {
				t.runs++
			}
		}
		gone = lost
	}
	if came == 0 {
		return t, 1
	}
	loss, burst := 0.0, 1.0
	if t.missing > 0 {
		loss = float64(t.missing) / float64(t.all)
		burst = float64(t.missing) / float64(t.runs) * (1 - loss)
	}
	return t, codec.MOS(codec.R(g.Interval+g.LookAhead+time.Duration(t.delays/float64(came)), loss, burst, g.Ie, g.Bpl))
}

// A figure is a metric of an expectation, with a function that computes it from packets by flow.
type figure struct {
	name, op           string
	limit              func(*rand.Rand) string
	calls, sum, least  bool // least: the resolution is that of the delays
	within, resolution float64
	value              func(by map[packet.Flow][]sighting) (float64, bool)
}

type asks struct {
	what     figure
	subject  string
	text     string
	from, to time.Duration
}

// takes reports whether a subject has a flow in a direction.
func (a *asks) takes(f packet.Flow, back bool) bool {
	isCall := f.ToPort >= 16384 || f.FromPort >= 16384
	port := map[string]uint16{"s0": 9000, "c1": 9001, "s2": 9002}[a.subject]
	return (f.To.As4()[1] == 1) == back && isCall == (port == 0) && (isCall || f.ToPort == port)
}

// delaysOf returns the delays of the packets that arrived, in milliseconds, sorted.
func delaysOf(by map[packet.Flow][]sighting) (out []float64) {
	for _, packets := range by {
		for _, s := range packets {
			if s.arrived > 0 {
				out = append(out, float64(s.arrived-s.sent)/1e6)
			}
		}
	}
	slices.Sort(out)
	return out
}

// jittersOf returns the RFC 3550 jitter of each flow after each packet, in milliseconds.
func jittersOf(by map[packet.Flow][]sighting) (out [][]float64) {
	for _, packets := range by {
		var all []float64
		j, last := 0.0, -1
		for i := range packets {
			if packets[i].arrived == 0 {
				continue
			}
			if last >= 0 {
				d := math.Abs(float64(packets[i].arrived-packets[i].sent-packets[last].arrived+packets[last].sent)) / 1e6
				j += (d - j) / 16
				all = append(all, j)
			}
			last = i
		}
		out = append(out, all)
	}
	return out
}

// rankOf returns the nearest rank.
func rankOf(sorted []float64, part float64) float64 {
	return sorted[max(int(math.Ceil(part*float64(len(sorted)))), 1)-1]
}

func upTo(most float64, unit string) func(*rand.Rand) string {
	return func(r *rand.Rand) string { return fmt.Sprintf("%.2f%s", 0.01+most*r.Float64(), unit) }
}

var figures = func() []figure {
	mean := func(v []float64) float64 {
		sum := 0.0
		for _, x := range v {
			sum += x
		}
		return sum / float64(len(v))
	}
	percentiles := map[string]float64{"p50": 0.5, "p95": 0.95, "p99": 0.99, "p99.9": 0.999, "max": 1}
	out := []figure{
		{name: "delay mean", op: "<=", limit: upTo(60, "ms"), within: 1e-6, value: func(by map[packet.Flow][]sighting) (float64, bool) {
			d := delaysOf(by)
			return mean(d), len(d) > 0
		}},
		{name: "loss", op: "<=", limit: upTo(20, "%"), within: 1e-6, value: func(by map[packet.Flow][]sighting) (float64, bool) {
			n := 0
			for _, packets := range by {
				n += len(packets)
			}
			return 100 * float64(n-len(delaysOf(by))) / float64(n), true
		}},
		{name: "drops", op: "<=", limit: func(r *rand.Rand) string { return fmt.Sprint(r.IntN(40)) }, sum: true, value: func(map[packet.Flow][]sighting) (float64, bool) { return 0, true }},
		{name: "jitter", op: "<=", limit: upTo(10, "ms"), within: 1e-6, value: func(by map[packet.Flow][]sighting) (float64, bool) {
			most := 0.0
			for _, all := range jittersOf(by) {
				if len(all) > 0 {
					most = max(most, mean(all))
				}
			}
			return most, len(delaysOf(by)) > 0
		}},
		{name: "late", op: "<=", limit: upTo(3, "%"), calls: true, within: 1e-6},
		{name: "mos", op: ">=", limit: func(r *rand.Rand) string { return fmt.Sprintf("%.2f", 1+3.4*r.Float64()) }, calls: true, within: 1e-6},
	}
	for name, part := range percentiles {
		out = append(out, figure{name: "delay " + name, op: "<=", limit: upTo(60, "ms"), within: 0.0006, resolution: measure.Resolution, value: func(by map[packet.Flow][]sighting) (float64, bool) {
			d := delaysOf(by)
			if len(d) == 0 {
				return 0, false
			}
			return rankOf(d, part), true
		}}, figure{name: "variation " + name, op: "<=", limit: upTo(40, "ms"), within: 0.0006, least: true, resolution: measure.Resolution, value: func(by map[packet.Flow][]sighting) (float64, bool) {
			d := delaysOf(by)
			if len(d) == 0 {
				return 0, false
			}
			return rankOf(d, part) - d[0], true
		}}, figure{name: "jitter " + name, op: "<=", limit: upTo(10, "ms"), within: 0.0006, resolution: measure.Resolution, value: func(by map[packet.Flow][]sighting) (float64, bool) {
			var all []float64
			for _, j := range jittersOf(by) {
				all = append(all, j...)
			}
			slices.Sort(all)
			if len(all) == 0 {
				all = []float64{0}
			}
			return rankOf(all, part), len(delaysOf(by)) > 0
		}})
	}
	return out
}()

// The figures of a result agree with those computed from a list of all packets, which a tap at the interfaces makes.
func TestFiguresOfAListOfPackets(t *testing.T) {
	for trial := range 10 {
		r := rand.New(rand.NewPCG(91, uint64(trial)))
		warm := time.Duration(r.IntN(2)) * 700 * time.Millisecond
		warmUp := ""
		if warm > 0 {
			warmUp = "warm-up: " + warm.String() + ", "
		}
		calls, playout := 1+r.IntN(4), time.Duration(20+r.IntN(30))*time.Millisecond
		var traffic []string
		var spans [][2]time.Duration
		for i := range 3 {
			arrivals := []string{"poisson", "constant"}[r.IntN(2)]
			from, for_ := r.IntN(1200), 1000+r.IntN(1500)
			spans = append(spans, [2]time.Duration{time.Duration(from) * time.Millisecond, time.Duration(from+for_) * time.Millisecond})
			traffic = append(traffic, fmt.Sprintf("{name: s%d, rate: %dkbit/s, packet: %dB, arrivals: %s, from: 10.1.0.%d, to: 10.2.0.9, to-port: %d, starts: %dms, lasts: %dms}",
				i, 300+r.IntN(1500), 100+r.IntN(1400), arrivals, 10+i, 9000+i, from, for_))
		}
		// One expectation for each metric and statistic, of traffic and of classes; every third has a window.
		var expect []string
		var asked []asks
		for i, subject := range []string{"s0", "c1", "s2", "talk", "voice"} {
			for _, what := range figures {
				if part := r.IntN(3) == 0; !what.calls || i >= 3 {
					a := asks{what: what, subject: subject, to: math.MaxInt64}
					a.text = fmt.Sprintf("%s %s %s %s", subject, what.name, what.op, what.limit(r))
					if part {
						a.from, a.to = 1200*time.Millisecond, 2300*time.Millisecond
						a.text += " from 1200ms to 2300ms"
					}
					expect, asked = append(expect, a.text), append(asked, a)
				}
			}
		}
		text := `imbrel: 1
classes:
  - {name: voice, match: [{to-port: 16384-32767}]}
  - {name: c0, match: [{to-port: 9000}]}
  - {name: c1, match: [{to-port: 9001}]}
  - {name: both, match: [{to-port: 9000}, {to-port: 9001}]}
policies: [{name: up, treat: [{class: voice, ` + []string{"priority: 1, at-most: 1Mbit/s", "at-least: 5%, queue: {limit: 30ms}", "priority: 1, police: {rate: 200kbit/s, burst: 2kB}"}[r.IntN(3)] + `}, {class: c0, at-least: 20%, queue: {limit: 9000B}}, {class: c1, at-most: 400kbit/s, queue: {limit: 20ms}}, {class: rest}]}]
attach: [{policy: up, at: west/wan out}]
network:
  nodes:
    - {name: west, interfaces: [{name: lan, rate: 1Gbit/s, subnets: [10.1.0.0/16]}, {name: wan, rate: 2Mbit/s, framing: ethernet-vlan}]}
    - {name: east, interfaces: [{name: wan, rate: 2Mbit/s, framing: ethernet-vlan}, {name: lan, rate: 1Gbit/s, subnets: [10.2.0.0/16]}]}
  links: [{ends: [{at: west/wan}, {at: east/wan}], delay: 5ms}]
rehearsals:
  - {name: run, lasts: 3s, ` + warmUp + `traffic: [{name: talk, calls: ` + fmt.Sprint(calls) + `, codec: g711, playout: ` + playout.String() + `, between: [10.1.0.7, 10.2.0.7]}, ` + strings.Join(traffic, ", ") + `], expect: [` + strings.Join(expect, ", ") + `]}
`
		f, err := policyfile.Parse("line", []byte(text), time.LoadLocation)
		if err != nil {
			t.Fatal(err)
		}
		under := make(map[*packet.Packet]*sighting)
		var all []*sighting
		flows := make(map[packet.Flow]int)
		result, err := simulate.Run(f, &f.Rehearsals[0], simulate.Options{Seed: uint64(trial), Tap: func(at *policy.Interface, d policy.Direction, now time.Duration, p *packet.Packet) error {
			begins := d == policy.In && at.Name == "lan"
			s := under[p]
			switch {
			case begins:
				s = &sighting{flow: p.Flow, number: flows[p.Flow], length: p.Length, sent: now, queued: now}
				flows[p.Flow]++
				under[p] = s
				all = append(all, s)
			case d == policy.Out && at.Name == "wan":
				s.leaves = now
			case d == policy.Out && at.Name == "lan":
				s.arrived = now
				delete(under, p)
			}
			return nil
		}})
		if err != nil {
			t.Fatal(err)
		}
		near := func(what string, got, want, within float64) {
			t.Helper()
			if math.Abs(got-want) > within {
				t.Errorf("trial %d: %s is %v; the list has %v", trial, what, got, want)
			}
		}
		near("the number of rows", float64(len(result.Traffic)), 5, 0)
		for _, row := range result.Traffic {
			back := row.Direction == "reverse"
			port := map[string]uint16{"s0": 9000, "s1": 9001, "s2": 9002}[row.Name]
			by := make(map[packet.Flow][]sighting)
			var delays []time.Duration
			sent, received := 0, 0
			for _, s := range all {
				isCall := s.flow.ToPort >= 16384 || s.flow.FromPort >= 16384
				toWest := s.flow.To.As4()[1] == 1
				if s.sent < warm || toWest != back || port != 0 && s.flow.ToPort != port || (port == 0) != isCall {
					continue
				}
				sent++
				if by[s.flow] = append(by[s.flow], *s); s.arrived > 0 {
					received++
					delays = append(delays, s.arrived-s.sent)
				}
			}
			name := row.Name + " " + row.Direction
			near(name+": sent", float64(row.SentPackets), float64(sent), 0)
			near(name+": received", float64(row.ReceivedPackets), float64(received), 0)
			near(name+": loss", row.Loss, float64(sent-received)/float64(max(sent, 1)), 1e-9)
			slices.Sort(delays)
			if d := row.Delay; d != nil {
				sum := 0.0
				for _, v := range delays {
					sum += float64(v) / 1e6
				}
				rank := func(part float64) float64 {
					return float64(delays[int(math.Ceil(part*float64(len(delays))))-1]) / 1e6
				}
				near(name+": mean delay", d.Mean, sum/float64(len(delays)), 1e-6)
				near(name+": longest delay", d.Max, rank(1), 1e-9)
				for part, got := range map[float64]float64{0.5: d.P50, 0.95: d.P95, 0.99: d.P99} {
					near(fmt.Sprintf("%s: delay of %v", name, part), got, rank(part), rank(part)*measure.Resolution+0.0006)
				}
			} else if received > 0 {
				t.Errorf("trial %d: %s has no delay", trial, name)
			}
			// Rates are over the time in which the source sends after the warm-up. The first delay shifts that time for arrivals.
			from, until := warm, 3*time.Second
			if port > 0 {
				from, until = spans[port-9000][0], min(3*time.Second, spans[port-9000][1])
			}
			seconds, wanted, got := (until - max(from, warm)).Seconds(), 0, 0
			for _, packets := range by {
				first := slices.IndexFunc(packets, func(s sighting) bool { return s.arrived > 0 })
				for _, s := range packets {
					if wanted += s.length; s.arrived > 0 && s.arrived < until+packets[first].arrived-packets[first].sent {
						got += s.length
					}
				}
			}
			near(name+": offered", float64(row.OfferedBps), 8*float64(wanted)/seconds, 0.501)
			near(name+": rate", float64(row.RateBps), 8*float64(got)/seconds, 0.501)
			near(name+": packets offered a second", row.OfferedPps, float64(sent)/seconds, 6e-4)
			near(name+": packets a second", row.RatePps, float64(received)/seconds, 6e-4)
			jitter, worst, sum, late := 0.0, math.Inf(1), 0.0, 0
			for _, packets := range by {
				j, total, n := 0.0, 0.0, 0
				for i, last := 0, -1; i < len(packets); i++ {
					if packets[i].arrived == 0 {
						continue
					}
					if last >= 0 {
						d := math.Abs(float64(packets[i].arrived - packets[i].sent - packets[last].arrived + packets[last].sent))
						j += (d - j) / 16
						total, n = total+j, n+1
					}
					last = i
				}
				jitter = max(jitter, total/float64(max(n, 1)))
				heard, mos := hears(packets, playout, 0, math.MaxInt64)
				late += heard.late
				worst, sum = min(worst, mos), sum+mos
			}
			near(name+": jitter", row.JitterMs, jitter/1e6, 1e-6)
			if port == 0 {
				near(name+": the worst MOS", *row.MOS, worst, 5e-5)
				near(name+": the mean MOS", *row.MOSMean, sum/float64(len(by)), 5e-5)
				near(name+": late", *row.Late, float64(late)/float64(max(received, 1)), 1e-9)
				near(name+": directions", float64(len(by)), float64(calls), 0)
			} else if row.MOS != nil || row.Late != nil {
				t.Errorf("trial %d: %s is no call", trial, name)
			}
		}
		holding := true
		whole := make(map[packet.Flow][]sighting)
		for _, s := range all {
			if s.sent >= warm {
				whole[s.flow] = append(whole[s.flow], *s)
			}
		}
		for i, a := range asked {
			o := result.Expectations[i]
			worst, base, any := 0.0, 0.0, false
			for back := range 2 {
				by := make(map[packet.Flow][]sighting)
				for _, s := range all {
					if s.sent >= max(warm, a.from) && s.sent < a.to && a.takes(s.flow, back == 1) {
						by[s.flow] = append(by[s.flow], *s)
					}
				}
				if len(by) == 0 {
					continue
				}
				var v float64
				ok := true
				switch {
				case a.what.name == "late":
					late, came := 0, len(delaysOf(by))
					for flow := range by {
						heard, _ := hears(whole[flow], playout, a.from, a.to)
						late += heard.late
					}
					v = 100 * float64(late) / float64(max(came, 1))
				case a.what.name == "mos":
					v = 5
					for flow := range by {
						_, mos := hears(whole[flow], playout, a.from, a.to)
						v = min(v, mos)
					}
				default:
					v, ok = a.what.value(by)
				}
				if !ok {
					continue
				}
				if a.what.least {
					base = max(base, delaysOf(by)[0])
				}
				if !any || (a.what.op == ">=") == (v < worst) {
					worst, any = v, true
				}
			}
			if a.what.sum {
				worst = 0
				for _, s := range all {
					if s.sent >= max(warm, a.from) && s.sent < a.to && (a.takes(s.flow, false) || a.takes(s.flow, true)) && s.arrived == 0 {
						worst++
					}
				}
			}
			if !any {
				if o.Measured != nil || o.Reason.IsZero() || o.Holds {
					t.Errorf("trial %d: %q measures %v; the list has nothing to measure", trial, a.text, o.Measured)
				}
				holding = false
				continue
			}
			if o.Measured == nil {
				t.Errorf("trial %d: %q measures nothing: %s", trial, a.text, o.Reason)
				continue
			}
			near(fmt.Sprintf("%q", a.text), *o.Measured, worst, a.what.within+(worst+base)*a.what.resolution)
			holds := *o.Measured <= o.Limit
			if a.what.op == ">=" {
				holds = *o.Measured >= o.Limit
			}
			if holding = holding && o.Holds; o.Holds != holds || (o.Why == nil) != holds {
				t.Errorf("trial %d: %q: measured %v of %v, and holds %t, with a reason %t", trial, a.text, *o.Measured, o.Limit, o.Holds, o.Why != nil)
			}
		}
		if (result.Verdict == "pass") != holding {
			t.Errorf("trial %d: the verdict is %s, and all holding is %t", trial, result.Verdict, holding)
		}
		if warm > 0 {
			continue // what waits when it ends counts as offered then
		}
		framing := f.Network.Nodes[0].Interfaces[1].Framing
		at := result.Interfaces[slices.IndexFunc(result.Interfaces, func(i measure.Interface) bool { return i.Interface == "wan" && i.Node == "west" })]
		rate := 0.0
		for i, name := range []string{"voice", "c0", "c1", "rest"} {
			c := at.Classes[i]
			var offered, sent, bytes, sentBytes, inTime int
			var waits []time.Duration
			for _, s := range all {
				if s.flow.To.As4()[1] == 1 || (s.flow.ToPort >= 16384) != (i == 0) || i > 0 && int(s.flow.ToPort) != 9000+i-1 {
					continue
				}
				size := int(framing.Size(s.length, 0))
				offered++
				if bytes += size; s.leaves > 0 {
					sent++
					sentBytes += size
					begins := s.leaves - unit.Rate(2_000_000).Time(unit.Size(size))
					waits = append(waits, begins-s.queued)
					if begins < 3*time.Second {
						inTime += size
					}
				}
			}
			if c.Class != name || c.OfferedPackets != uint64(offered) || c.OfferedBytes != uint64(bytes) || c.SentPackets != uint64(sent) || c.SentBytes != uint64(sentBytes) || c.Drops.Total() != uint64(offered-sent) {
				t.Errorf("trial %d: %+v; the list has %d packets of %d bytes, and %d of %d left", trial, c, offered, bytes, sent, sentBytes)
			}
			near(name+": offered", float64(c.OfferedBps), float64(bytes)*8/3, 0.501)
			near(name+": sent", float64(c.SentBps), float64(inTime)*8/3, 0.501)
			rate += float64(inTime) * 8 / 3
			if sum := 0.0; len(waits) > 0 {
				slices.Sort(waits)
				for _, w := range waits {
					sum += float64(w) / 1e6
				}
				near(name+": mean wait", c.QueueDelay.Mean, sum/float64(len(waits)), 3e-6)
				near(name+": longest wait", c.QueueDelay.Max, float64(waits[len(waits)-1])/1e6, 3e-6)
			}
		}
		near("what west/wan sends", float64(at.SentBps), rate, 1)
	}
}
