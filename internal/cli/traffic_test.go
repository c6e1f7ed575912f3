package cli_test

import (
	"encoding/json"
	"fmt"
	"math"
	"strings"
	"testing"

	"imbrel.example/imbrel/core/measure"
)

// hall is a network of one link for tests of traffic: the site's uplink is SENDS.
const hall = `imbrel: 1
classes:
  - {name: voice, match: [{dscp: ef}]}
network:
  nodes:
    - {name: west, interfaces: [{name: lan, rate: 10Gbit/s, subnets: [10.1.0.0/16]}, {name: wan, rate: SENDS}]}
    - {name: east, interfaces: [{name: wan, rate: 1Gbit/s}, {name: lan, rate: 10Gbit/s, subnets: [10.2.0.0/16]}]}
  links: [{ends: [{at: west/wan}, {at: east/wan}], delay: DELAY}]
`

// run rehearses a file and returns its result.
func run(t *testing.T, text string, args ...string) *measure.Result {
	t.Helper()
	r := imbrel(t, t.TempDir(), text, nil, append([]string{"rehearse", "-", "-o", "json"}, args...)...)
	var res measure.Result
	if err := json.Unmarshal([]byte(r.out), &res); err != nil || r.status > 1 {
		t.Fatalf("exit %d, %v: %s", r.status, err, r.err)
	}
	return &res
}

func inHall(sends, delay, rest string) string {
	return strings.NewReplacer("SENDS", sends, "DELAY", delay).Replace(hall) + rest
}

// rowOf returns the row of a traffic in a direction.
func rowOf(t *testing.T, r *measure.Result, name, direction string) *measure.Row {
	t.Helper()
	for i := range r.Traffic {
		if row := &r.Traffic[i]; row.Name == name && row.Direction == direction {
			return row
		}
	}
	t.Fatalf("no row of %s %s", name, direction)
	return nil
}

// TestTCPInARehearsal: a flow fills its link, two that are alike share it, what is lost is sent
// again, and everything of a transfer arrives.
func TestTCPInARehearsal(t *testing.T) {
	t.Parallel()
	const share = 1448.0 / 1538 // of the wire, that is data
	one := run(t, inHall("100Mbit/s", "25ms", `policies: [{name: p, shape: 98Mbit/s, treat: [{class: rest, queue: {limit: 625kB}}]}]
attach: [{policy: p, at: west/wan out}]
rehearsals: [{name: r, lasts: 30s, warm-up: 5s, traffic: [{name: up, tcp: 1, from: 10.1.0.1, to: 10.2.0.1}], expect: [up goodput >= 50Mbit/s, up retransmissions <= 1%, up rtt p50 <= 150ms]}]
`))
	if got := float64(rowOf(t, one, "up", "forward").TCP.GoodputBps); got < 0.95*98e6*share || got > 98e6*share {
		t.Errorf("one flow gets %.2f of %.2f Mbit/s", got/1e6, 98*share)
	}
	if one.Verdict != "pass" {
		t.Errorf("%s: %+v", one.Verdict, one.Expectations)
	}
	two := run(t, inHall("20Mbit/s", "10ms", `rehearsals: [{name: r, lasts: 60s, warm-up: 10s, traffic: [
  {name: up, tcp: 2, from: 10.1.0.1, to: 10.2.0.1}, {name: file, tcp: 1, bytes: 3MB, from: 10.2.0.1, to: 10.1.0.1, starts: 12s}, {name: ask, requests: 2, answer: 10kB, think: 200ms, from: 10.1.0.2, to: 10.2.0.2},
  {name: web, pages: 1, objects: 8, object: 10kB, think: 1s, from: 10.1.0.3, to: 10.2.0.3}]}]
`))
	up := rowOf(t, two, "up", "forward")
	if up.TCP.Flows != 2 || up.TCP.Opened != 2 || *up.TCP.Fairness < 0.9 || !up.OverTCP || up.TCP.Resent == 0 {
		t.Errorf("two flows: %+v", up.TCP)
	}
	if f := rowOf(t, two, "file", "forward").TCP; f.Begun != 1 || f.Completed != 1 || f.Completion == nil || f.Completion.Max < 24 || f.Completion.Max > 4000 {
		t.Errorf("a file of 3 MB: %+v", f)
	}
	// What is asked for goes forth, and its answers are the data.
	if a := rowOf(t, two, "ask", "reverse"); a.TCP == nil || a.TCP.Completed < 100 || rowOf(t, two, "ask", "forward").TCP != nil {
		t.Errorf("requests: %+v", a.TCP)
	}
	if w := rowOf(t, two, "web", "reverse"); w.TCP == nil || w.TCP.Completed < 5 || w.ReceivedPackets < 8*7*w.TCP.Completed/2 {
		t.Errorf("pages: %+v", w.TCP)
	}
	// CoDel holds the standing queue of a flow at its target.
	codel := run(t, inHall("100Mbit/s", "10ms", `policies: [{name: p, shape: 20Mbit/s, treat: [{class: rest, queue: {drop: codel, limit: 500kB}}]}]
attach: [{policy: p, at: west/wan out}]
rehearsals: [{name: r, lasts: 60s, warm-up: 10s, traffic: [{name: up, tcp: 1, from: 10.1.0.1, to: 10.2.0.1, control: newreno}]}]
`))
	for _, f := range codel.Interfaces {
		if f.PolicyAt == "p" && (f.Classes[0].QueueDelay.P50 > 10 || f.Classes[0].QueueDelay.Mean < 1 || f.Classes[0].Drops.Early == 0) {
			t.Errorf("CoDel with a target of 5 ms: %+v", f.Classes[0].QueueDelay)
		}
	}
	if got := float64(rowOf(t, codel, "up", "forward").TCP.GoodputBps); got < 0.85*20e6*share {
		t.Errorf("behind CoDel a flow gets %.1f Mbit/s", got/1e6)
	}
}

// TestWarmUp: what is sent in the warm-up counts nowhere, what is counted is whole, and rates are
// over the time that is measured.
func TestWarmUp(t *testing.T) {
	t.Parallel()
	text := `policies: [{name: p, shape: 4Mbit/s, treat: [{class: voice, priority: 1, police: {calls: 2, codec: g711}}, {class: rest}]}]
attach: [{policy: p, at: west/wan out}]
rehearsals:
  - name: r
    lasts: 20s
    warm-up: WARM
    traffic:
      - {name: burst, rate: 30Mbit/s, packet: 1000B, from: 10.1.0.1, to: 10.2.0.1, lasts: 5s}
      - {name: steady, rate: 2Mbit/s, packet: 1000B, arrivals: exact, from: 10.1.0.2, to: 10.2.0.2}
      - {name: call, calls: 1, codec: g711, skew: 0, between: [10.1.0.3, 10.2.0.3], dscp: ef}
`
	res := run(t, inHall("100Mbit/s", "5ms", strings.Replace(text, "WARM", "6s", 1)))
	if res.DurationS != 14 || res.WarmUpS != 6 {
		t.Errorf("measured are %v s after %v s", res.DurationS, res.WarmUpS)
	}
	if b := rowOf(t, res, "burst", "forward"); b.SentPackets != 0 {
		t.Errorf("the burst of the warm-up counts: %+v", b.TrafficFigures)
	}
	if s := rowOf(t, res, "steady", "forward"); s.SentPackets != 3500 || s.Loss != 0 || math.Abs(float64(s.RateBps)/2e6-1) > 0.001 {
		t.Errorf("the stream after the warm-up: %+v", s.TrafficFigures)
	}
	if c := rowOf(t, res, "call", "forward"); c.SentPackets != 700 || *c.MOS < 4.3 {
		t.Errorf("the call after the warm-up: %+v", c.TrafficFigures)
	}
	for _, f := range res.Interfaces {
		for _, c := range f.Classes {
			if c.OfferedPackets != c.SentPackets+c.Drops.Total() {
				t.Errorf("%s %s: offered %d, sent %d, dropped %d", f.Interface, c.Class, c.OfferedPackets, c.SentPackets, c.Drops.Total())
			}
			if c.Class == "rest" && f.PolicyAt == "p" && (c.Drops.Total() > 0 || c.SentPackets < 3500 || c.SentPackets > 3600) {
				t.Errorf("rest after the warm-up: %+v", c)
			}
		}
	}
	whole := run(t, inHall("100Mbit/s", "5ms", strings.Replace(text, "    warm-up: WARM\n", "", 1)))
	if b := rowOf(t, whole, "burst", "forward"); b.SentPackets < 18749 || b.SentPackets > 18750 || b.Loss < 0.8 {
		t.Errorf("the burst without a warm-up: %+v", b.TrafficFigures)
	}
}

// TestWhereItBreaks: the ramp breaks the call where the sum of both is the link's rate, and with
// the policy nowhere.
func TestWhereItBreaks(t *testing.T) {
	t.Parallel()
	text := example(t, "cookbook/where-it-breaks.yaml")
	without, with := run(t, text, "--without-policy"), run(t, text)
	found := 0
	for _, b := range without.Breaks {
		if b.Ramp != "flood" || !b.Breaks || b.Holds == nil || *b.Holds >= b.Value {
			t.Errorf("%+v", b)
		}
		// 4 Mbit/s less a call of 95.2 kbit/s on the wire, in IP bytes of packets of 1,400.
		full := (4e6 - 95.2e3) * 1400 / 1438
		if strings.Contains(b.Text, "delay") {
			found++
			if v := float64(b.Value); v < full-0.9e6 || v > full+0.9e6 {
				t.Errorf("%s breaks at %.2f Mbit/s; the link is full at %.2f, and a part of the ramp is 0.8", b.Text, v/1e6, full/1e6)
			}
		}
	}
	for _, b := range with.Breaks {
		if b.Breaks {
			t.Errorf("with the policy: %+v", b)
		}
	}
	if found != 1 || len(with.Breaks) == 0 {
		t.Errorf("without %+v, with %+v", without.Breaks, with.Breaks)
	}
	out := imbrel(t, t.TempDir(), text, nil, "rehearse", "-", "--both").out
	if !strings.Contains(out, "without, and holds up to 40.0 Mbit/s with the policies") {
		t.Errorf("the text does not say it:\n%s", out)
	}
	// Calls that are one too many.
	calls := run(t, inHall("1Mbit/s", "5ms", `rehearsals: [{name: r, lasts: 40s, traffic: [{name: more, calls: {from: 1, to: 20, over: 38s}, codec: g711, between: [10.1.0.1, 10.2.0.1]}], expect: [more loss <= 1%]}]
`))
	if b := calls.Breaks[0]; !b.Breaks || b.Unit != "calls" || b.Value < 10 || b.Value > 12 { // ten of 95.2 kbit/s fit
		t.Errorf("calls: %+v", b)
	}
}

// TestLossyLinks: what a link loses is counted there, and is nobody's to mend.
func TestLossyLinks(t *testing.T) {
	t.Parallel()
	text := strings.Replace(inHall("100Mbit/s", "5ms", `rehearsals: [{name: r, lasts: 60s, traffic: [{name: s, rate: 2Mbit/s, packet: 500B, from: 10.1.0.1, to: 10.2.0.1}, {name: call, calls: 1, codec: g711, playout: 200ms, between: [10.1.0.3, 10.2.0.3], dscp: ef}],
  expect: [s loss <= 1%, s delay p99 <= 6ms]}]
`), "delay: 5ms", "delay: 5ms, loss: {part: 2%, burst: 3}, jitter: {mean: 4ms, kind: exponential}", 1)
	res := run(t, text)
	s := rowOf(t, res, "s", "forward")
	if math.Abs(s.Loss-0.02) > 0.004 || s.Delay.P50 < 5+4*math.Ln2 {
		t.Errorf("2 %% are lost, and the delay is 5 ms and more than the median of the jitter: %+v", s.TrafficFigures)
	}
	lost := uint64(0)
	for _, l := range res.Links {
		lost += l.Lost
	}
	sum := int64(0)
	for _, r := range res.Traffic {
		sum += r.SentPackets - r.ReceivedPackets
	}
	if lost == 0 || int64(lost) != sum {
		t.Errorf("links lost %d, the traffic %d", lost, sum)
	}
	for i, want := range []string{"the link itself loses 2 %", "the jitter of the link is 4ms on average"} {
		if w := res.Expectations[i].Why; w == nil || w.Reason != "link" || !strings.Contains(w.Text.String(), want) {
			t.Errorf("%s: %+v", res.Expectations[i].Text, w)
		}
	}
	if r := imbrel(t, t.TempDir(), text, nil, "rehearse", "-", "--hops"); !strings.Contains(r.out, "lost on it") || !strings.Contains(r.out, "west/wan, its link") {
		t.Errorf("the text does not say what the link lost:\n%s", r.out)
	}
}

// TestClosedLoop: a capture's conversations carry as many bytes as they did, and slow down where
// the replay loses.
func TestClosedLoop(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	imbrel(t, dir, "", nil, "demo", "--write", ".")
	var open, closed measure.Result
	for name, r := range map[string]*measure.Result{"open": &open, "closed": &closed} {
		args := []string{"rehearse", "ternrock.yaml", "fog", "-o", "json"}
		if name == "closed" {
			args = append(args, "--closed-loop")
		}
		if err := json.Unmarshal([]byte(imbrel(t, dir, "", nil, args...).out), r); err != nil {
			t.Fatal(err)
		}
	}
	c, o := closed.Captures[0], open.Captures[0]
	if o.ClosedLoop != 0 || o.TCPLost == 0 || c.TCPLost != 0 || c.ClosedLoop+c.Replayed != o.Replayed {
		t.Errorf("open %+v, closed %+v", o, c)
	}
	row := rowOf(t, &closed, "office-tcp", "forward")
	if row.TCP.Begun < 200 || row.TCP.Completed < 150 || row.TCP.Resent == 0 {
		t.Errorf("the conversations: %+v", row.TCP)
	}
	// The bytes of one that nothing slows down are those of the capture.
	quiet := strings.Replace(example(t, "ternrock.yaml"), "    traffic:\n", "    traffic:\n      - {name: alone, capture: ternrock-office.pcap, enters: ternrock/lan}\n", 1)
	lines := strings.Split(quiet, "\n")
	var kept []string
	for _, l := range lines {
		if strings.HasPrefix(l, "      - {name: ") && !strings.Contains(l, "alone") && strings.Contains(quiet, "traffic:") && !strings.Contains(l, "lan") && !strings.Contains(l, "radio,") {
			continue
		}
		if strings.HasPrefix(l, "      - ") && (strings.Contains(l, "<=") || strings.Contains(l, ">=") || strings.Contains(l, "= 0")) {
			continue
		}
		if strings.Contains(l, "name: office") {
			continue
		}
		kept = append(kept, l)
	}
	put(t, dir, "quiet.yaml", strings.Replace(strings.Join(kept, "\n"), "    expect:\n", "", 1))
	r := imbrel(t, dir, "", nil, "rehearse", "quiet.yaml", "fog", "-o", "json", "--closed-loop", "--without-policy")
	var alone measure.Result
	if err := json.Unmarshal([]byte(r.out), &alone); err != nil {
		t.Fatalf("%v: %s", err, r.err)
	}
	tcp := rowOf(t, &alone, "alone-tcp", "forward").TCP
	if tcp.Completed < tcp.Begun-3 {
		t.Errorf("alone %d of %d conversations end", tcp.Completed, tcp.Begun)
	}
}

// TestDistributions: what a file has of a distribution gives the percentiles that stand beside it.
func TestDistributions(t *testing.T) {
	t.Parallel()
	text := inHall("2Mbit/s", "5ms", `rehearsals: [{name: r, lasts: 5s, traffic: [{name: s, rate: 1.7Mbit/s, packet: 500B, arrivals: poisson, from: 10.1.0.1, to: 10.2.0.1}]}]
`)
	res := run(t, text, "--distributions")
	d := rowOf(t, res, "s", "forward").Delay
	if d.Distribution == nil || d.Distribution.Count() != rowOf(t, res, "s", "forward").ReceivedPackets {
		t.Fatalf("%+v", d)
	}
	s := d.Distribution.Summary()
	if s.P99 != d.P99 || s.Mean != d.Mean || s.Max != d.Max {
		t.Errorf("from the distribution %+v, beside it %+v", s, d)
	}
	if r := imbrel(t, t.TempDir(), text, nil, "rehearse", "-", "--distributions"); r.status != 2 || !strings.Contains(r.err, "no effect without -o json") {
		t.Errorf("exit %d: %s", r.status, r.err)
	}
	dir := t.TempDir()
	put(t, dir, "p.yaml", text)
	whole := imbrel(t, dir, "", nil, "rehearse", "p.yaml", "--repeat", "4", "--distributions", "-o", "json")
	for part := 1; part <= 2; part++ {
		put(t, dir, fmt.Sprintf("%d.json", part), imbrel(t, dir, "", nil, "rehearse", "p.yaml", "--repeat", "4", "--shard", fmt.Sprintf("%d/2", part), "--distributions", "-o", "json").out)
	}
	if joined := imbrel(t, dir, "", nil, "compare", "--merge", "1.json", "2.json"); joined.out != whole.out || !strings.Contains(joined.out, `"pooled"`) {
		t.Errorf("shards with distributions do not join to the bytes of one run:\n%.300s\n%s", joined.out, joined.err)
	}
	put(t, dir, "bad.json", strings.Replace(whole.out, `"resolution":`, `"resolution":1`, 1))
	if r := imbrel(t, dir, "", nil, "compare", "--merge", "bad.json"); r.status != 2 || !strings.Contains(r.err, "is not a saved result") {
		t.Errorf("a distribution that contradicts itself: exit %d, %s", r.status, r.err)
	}
}

// TestSourcesAreIndependent: a traffic more leaves the others as they were.
func TestSourcesAreIndependent(t *testing.T) {
	t.Parallel()
	text := inHall("1Gbit/s", "5ms", `rehearsals: [{name: r, lasts: 5s, traffic: [{name: s, rate: 1Mbit/s, packet: 500B, arrivals: poisson, from: 10.1.0.1, to: 10.2.0.1}, {name: c, erlangs: 3, holding: 2s, codec: g711, speech: 50%, rtcp: true, between: [10.1.0.3, 10.2.0.3]}MORE]}]
`)
	one := run(t, strings.Replace(text, "MORE", "", 1))
	two := run(t, strings.Replace(text, "MORE", ", {name: d, calls: 3, codec: g729, speech: 30%, between: [10.1.0.4, 10.2.0.4]}", 1))
	for _, name := range []string{"s", "c"} {
		if a, b := rowOf(t, one, name, "forward").SentPackets, rowOf(t, two, name, "forward").SentPackets; a != b || a == 0 {
			t.Errorf("%s sent %d packets, and %d beside another traffic", name, a, b)
		}
	}
}
