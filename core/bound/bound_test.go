package bound_test

import (
	"fmt"
	"maps"
	"strings"
	"testing"
	"time"

	"imbrel.example/imbrel/core/bound"
	"imbrel.example/imbrel/core/policyfile"
)

const site = `imbrel: 1
classes: [{name: voice, match: [{to-port: 16384-32767}]}, {name: bulk, match: [{to-port: 80}]}]
policies: [{name: p, shape: 4Mbit/s, treat: [{class: voice, priority: 1, police: {rate: 1Mbit/s, burst: 2kB}}, {class: bulk, at-least: 40%%, queue: {drop: fq-codel}}, {class: rest, at-least: 10%%}]}]
attach: [{policy: p, at: a/far out}]
network:
  nodes:
    - {name: a, interfaces: [{name: lan, rate: 1Gbit/s, subnets: [10.1.0.0/16]}, {name: far, rate: 10Mbit/s}]}
    - {name: b, interfaces: [{name: near, rate: 10Mbit/s}, {name: lan, rate: 1Gbit/s, subnets: [10.2.0.0/16]}]}
  links: [{ends: [{at: a/far}, {at: b/near}], delay: 1ms}]
rehearsals:
  - name: r
    lasts: 1s
    traffic: [%s]
`

func compute(t *testing.T, text string) *bound.Result {
	t.Helper()
	f, err := policyfile.Parse("file", []byte(text), time.LoadLocation)
	if err != nil {
		t.Fatal(err)
	}
	return bound.Compute(f, &f.Rehearsals[0], nil)
}

const calls = "{name: calls, calls: 3, codec: g711, between: [10.1.0.1, 10.2.0.1]}"

// Where there is no bound, the reason names the place and the entry; nothing is made up.
func TestNoBoundHasAReason(t *testing.T) {
	for what, c := range map[string]struct{ old, new, traffic, says string }{
		"nothing bounds TCP":        {"", "", "{name: x, tcp: 1, from: 10.1.0.2, to: 10.2.0.2, to-port: 80}", "nothing bounds what comes to \"bulk\" at a/far out: `x` is TCP, which sends as fast as it can"},
		"nothing bounds Poisson":    {"", "", "{name: x, rate: 10kbit/s, packet: 100B, arrivals: poisson, from: 10.1.0.2, to: 10.2.0.2, to-port: 80}", "`x` sends at random times"},
		"more than there is":        {"", "", "{name: x, rate: 9Mbit/s, packet: 1400B, from: 10.1.0.2, to: 10.2.0.2, to-port: 80}", "9.24 Mbit/s may come to \"bulk\" at a/far out for good, and "},
		"a capture may be anything": {"police: {rate: 1Mbit/s, burst: 2kB}", "queue: {drop: fq-codel}", "{name: office, capture: x.pcap, enters: a/lan}, " + calls, "nothing bounds what comes to \"voice\" at a/far out: `office` is a capture"},
		"calls that come at random": {"police: {rate: 1Mbit/s, burst: 2kB}", "queue: {drop: fq-codel}", "{name: x, erlangs: 2, holding: 1min, codec: g711, between: [10.1.0.1, 10.2.0.1]}", "the calls of `x` come at random"},
		"limits for each source":    {"at-least: 40%", "at-least: 40%, each: source, at-most: 2Mbit/s", "{name: x, rate: 1Mbit/s, packet: 1400B, from: 10.1.0.2, to: 10.2.0.2, to-port: 80}", "\"bulk\" at a/far out has upper limits for each source"},
		"jitter without an end":     {"delay: 1ms", "delay: 1ms, jitter: {mean: 1ms, kind: exponential}", calls, "the jitter of the link at a/far has no largest value"},
		"entries that come and go":  {"{class: rest, at-least: 10%}", "{class: rest, at-least: 10%, when: {starts: {load: 80%, for: 1s}, ends: {load: 20%, for: 1s}}}", calls, "`p` has entries with `when`"},
	} {
		text := fmt.Sprintf(site, c.traffic)
		if c.old != "" {
			if !strings.Contains(text, c.old) {
				t.Fatalf("%s: no %q", what, c.old)
			}
			text = strings.Replace(text, c.old, c.new, 1)
		}
		r := compute(t, text)
		p := r.Paths[len(r.Paths)-1]
		for i := range r.Paths {
			if r.Paths[i].Max == bound.Never {
				p = r.Paths[i]
				break
			}
		}
		if p.Max != bound.Never || !strings.Contains(p.Why.String(), c.says) {
			t.Errorf("%s: %v, %q", what, p.Max, p.Why)
		}
	}
}

// A circle of queues that wait for each other is named; at slow rates times are long, and nothing overflows.
func TestCirclesAndSlowLines(t *testing.T) {
	var nodes, links, attach, traffic []string
	for n := range 5 {
		nodes = append(nodes, fmt.Sprintf("{name: n%d, interfaces: [{name: lan, rate: 1Gbit/s, subnets: [10.%d.0.0/16]}, {name: to, rate: 10Mbit/s}, {name: from, rate: 10Mbit/s}]}", n, n))
		links = append(links, fmt.Sprintf("{ends: [{at: n%d/to}, {at: n%d/from}], delay: 1ms}", n, (n+1)%5))
		attach = append(attach, fmt.Sprintf("{policy: p, at: n%d/to out}", n))
		traffic = append(traffic, fmt.Sprintf("{name: t%d, rate: 4700kbit/s, packet: 1400B, from: 10.%d.0.1, to: 10.%d.0.1, to-port: 80}", n, n, (n+2)%5))
	}
	text := fmt.Sprintf(`imbrel: 1
classes: [{name: bulk, match: [{to-port: 80}]}]
policies: [{name: p, treat: [{class: bulk, queue: {drop: fq-codel}}]}]
attach: [%s]
network: {nodes: [%s], links: [%s]}
rehearsals: [{name: r, lasts: 1s, traffic: [%s]}]
`, strings.Join(attach, ", "), strings.Join(nodes, ", "), strings.Join(links, ", "), strings.Join(traffic, ", "))
	r := compute(t, text)
	named := 0
	for i := range r.Paths {
		if p := &r.Paths[i]; p.Max == bound.Never && strings.Contains(p.Why.String(), "circle of queues") && strings.Contains(p.Why.String(), "n1/to out") {
			named++
		}
	}
	if named == 0 {
		t.Errorf("no circle is named: %v, %s", r.Paths[0].Max, r.Paths[0].Why)
	}

	slow := strings.NewReplacer("at-least: 40%", "at-least: 5%", "at-least: 10%", "at-least: 5%", "4Mbit/s", "600bit/s", "1Mbit/s, burst", "500bit/s, burst", "rate: 10Mbit/s", "rate: 1kbit/s").Replace(fmt.Sprintf(site, calls+", {name: x, rate: 500bit/s, packet: 1400B, from: 10.1.0.2, to: 10.2.0.2, to-port: 80}"))
	for _, p := range compute(t, slow).Paths {
		if p.Max < p.Min || p.Max != bound.Never && p.Max < 100*time.Millisecond {
			t.Errorf("%s: %v to %v", p.Name(), p.Min, p.Max)
		}
	}
}

// Calls have the ports that they have in a rehearsal: those of others between the same addresses are passed over, and calls that come at
// random may have any of many.
func TestPortsOfCalls(t *testing.T) {
	text := strings.Replace(fmt.Sprintf(site, `{name: first, calls: 2, codec: g711, between: [10.1.0.1, 10.2.0.1]}, {name: second, calls: 2, codec: g711, between: [10.2.0.1, 10.1.0.1]},
      {name: given, calls: 3, codec: g711, from-port: 16382, to-port: 16382, between: [10.1.0.1, 10.2.0.2]}, {name: random, erlangs: 1, holding: 10s, codec: g711, between: [10.1.0.3, 10.2.0.3]}`), "16384-32767", "16384-16387", 1)
	got := make(map[string]int)
	for _, p := range compute(t, text).Paths {
		if name := p.Name() + " " + p.Class; name != "second rest" { // its other direction leaves b, which has no policy
			got[name] += p.Calls
		}
	}
	want := map[string]int{"first voice": 2, "first, reverse rest": 2, "second, reverse rest": 2, "given rest": 1, "given voice": 2, "given, reverse rest": 3, "random voice": 1, "random rest": 1, "random, reverse rest": 1}
	if !maps.Equal(got, want) {
		t.Errorf("calls by way and class: %v, not %v", got, want)
	}
}

// What others can overtake in a tunnel by more than its replay window may be lost; with a sequence for each class, it is not.
func TestReplayWindow(t *testing.T) {
	for key, lost := range map[string]bool{"replay-window: 16": true, "replay-window: 0": false, "replay-window: 16, sa-per: class": false} {
		text := strings.Replace(fmt.Sprintf(site, calls+", {name: x, rate: 1Mbit/s, packet: 300B, from: 10.1.0.2, to: 10.2.0.2, to-port: 80}"), "rehearsals:", "  tunnels: [{name: private, kind: ipsec, through: [a, b], from: 192.0.2.1, to: 192.0.2.2, "+key+"}]\nrehearsals:", 1)
		text = strings.NewReplacer("at-least: 40%, queue: {drop: fq-codel}", "at-least: 40%", "rate: 1Mbit/s, burst: 2kB", "rate: 1900kbit/s, burst: 20kB", "calls: 3", "calls: 18").Replace(text)
		for _, p := range compute(t, text).Paths {
			if p.Traffic == "x" && (p.Kept == lost || lost && !strings.Contains(p.Lost.String(), "overtake a packet in the tunnel `private`")) {
				t.Errorf("%s: %s: kept %v, %s", key, p.Name(), p.Kept, p.Lost)
			}
		}
	}
}

// After an event the full queue of a carrier empties as fast as its link carries, which may be faster than the interface sends: packets
// then wait at the next place.
func TestFullCarrierEmptiesFast(t *testing.T) {
	const text = `imbrel: 1
network:
  nodes:
    - {name: a, interfaces: [{name: lan, rate: 1Gbit/s, subnets: [10.1.0.0/16]}, {name: far, rate: 3Mbit/s}]}
    - {name: b, interfaces: [{name: near, rate: 3Mbit/s}, {name: far, rate: 4Mbit/s}]}
    - {name: c, interfaces: [{name: near, rate: 4Mbit/s}, {name: lan, rate: 1Gbit/s, subnets: [10.3.0.0/16]}]}
  links: [{ends: [{at: a/far, sends: 20Mbit/s}, {at: b/near}], delay: 1ms}, {ends: [{at: b/far}, {at: c/near}], delay: 1ms}]
rehearsals:
  - name: r
    lasts: 2s
    traffic: [{name: x, rate: 2Mbit/s, packet: 1000B, from: 10.1.0.1, to: 10.3.0.1}]
    events: [{at: 500ms, link: a/far, sends: 1Mbit/s, lasts: 500ms}]
`
	for sends, least := range map[string]time.Duration{"20Mbit/s": 50 * time.Millisecond, "3Mbit/s": 0} {
		p := compute(t, strings.Replace(text, "sends: 20Mbit/s", "sends: "+sends, 1)).Paths[0]
		if d := p.At("b/far out").Max; d < least || least == 0 && d > 10*time.Millisecond {
			t.Errorf("a link of %s: packets wait up to %v at the next place", sends, d)
		}
	}
}
