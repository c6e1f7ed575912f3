package measure_test

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policyfile"
	"imbrel.example/imbrel/core/simulate"
)

// reasonsOf rehearses a case and returns the sentences of its result.
func reasonsOf(t *testing.T, c *reasoned) string {
	t.Helper()
	link := "{ends: [{at: west/wan}, {at: east/wan}], delay: 5ms}"
	if c.link != "" {
		link = c.link
	}
	text := `imbrel: 1
times: {work: {from: "08:00", to: "17:00"}}
classes:
  - {name: voice, match: [{to-port: 16384-32767}]}
  - {name: web, match: [{to-port: 80}]}
  - {name: sync, match: [{to-port: 873}]}
  - {name: odd, match: [{to-port: 9}]}
policies: [{name: up, ` + c.shape + `treat: [` + c.entries + `]}` + c.also + `]
attach: [{policy: up, at: west/wan out}` + c.attach + `]
network:
  nodes:
    - {name: west, interfaces: [{name: lan, rate: 1Gbit/s, subnets: [10.1.0.0/16]}, {name: wan, rate: 10Mbit/s` + c.wan + `}]}
    - {name: east, interfaces: [{name: wan, rate: 10Mbit/s}, {name: lan, rate: 1Gbit/s, subnets: [10.2.0.0/16]}]}
  links: [` + link + `]
rehearsals:
  - {name: run, lasts: 4s, starts-at: "2026-03-02T16:59:58", traffic: [` + c.traffic + `], ` + c.events + `expect: [` + c.expect + `]}
`
	f, err := policyfile.Parse("line.yaml", []byte(text), time.LoadLocation)
	if err != nil {
		t.Fatal(err, text)
	}
	r, err := simulate.Run(f, &f.Rehearsals[0], simulate.Options{Seed: 1, Hops: true})
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, o := range r.Expectations {
		switch {
		case o.Holds:
			out = append(out, o.Text+": holds")
		case o.Why == nil:
			out = append(out, o.Text+": "+o.Reason.String())
		default:
			w := o.Why
			line := fmt.Sprintf("%s: %s/%s by %s: %s [%s/%s %s %s line %d, lost %d", o.Text, w.Reason, w.Cause, w.By, w.Text.String(), w.Node, w.Interface, w.Direction, w.Class, w.Line, w.LostPackets)
			if w.OfferedBps != nil {
				line += fmt.Sprintf(", offered %d", *w.OfferedBps)
			}
			if w.PromisedBps != nil {
				line += fmt.Sprintf(" of %d", *w.PromisedBps)
			}
			for _, b := range w.Also {
				line += fmt.Sprintf("; also %s %s %v", b.Cause, b.By, b.Against)
			}
			out = append(out, fmt.Sprintf("%s; against %v]", line, w.Against))
		}
	}
	for _, w := range r.Warnings {
		out = append(out, w.Name+": "+w.Text.String())
	}
	for _, n := range r.NotJudged {
		out = append(out, fmt.Sprintf("not judged: %s: %s", n.Subject, n.Words()))
	}
	for _, b := range r.Breaks {
		holds := "nothing"
		if b.Holds != nil {
			holds = fmt.Sprint(*b.Holds)
		}
		out = append(out, fmt.Sprintf("ramp of %s, %s: breaks %t at %g s, at %d, holds to %s %s, of %d to %d; %d parts", b.Ramp, b.Text, b.Breaks, b.AtS, b.Value, holds, b.Unit, b.From, b.To, b.Judged))
	}
	for _, e := range r.Events {
		for _, o := range e.Expectations {
			line := fmt.Sprintf("event %s, %g to %g s, %s (%s):", e.Name, e.AtS, e.UntilS, o.Text, o.Unit())
			for i, p := range []*measure.PhaseOutcome{o.Before, o.During, o.After} {
				switch name := []string{"before", "during", "after"}[i]; {
				case p == nil:
					line += " not " + name
				case p.Measured == nil:
					line += fmt.Sprintf(" %s nothing, holds %t", name, p.Holds)
				default:
					line += fmt.Sprintf(" %s %.4g of %.4g, holds %t", name, *p.Measured, p.Limit, p.Holds)
				}
			}
			if o.RecoversS != nil {
				line += fmt.Sprintf(", recovers after %g s", *o.RecoversS)
			}
			out = append(out, fmt.Sprintf("%s, stays %t; all hold %t", line, o.Stays, e.Holds()))
		}
	}
	for _, h := range r.Hops {
		if h.Drops.Total() > 0 || h.MeanMs > 1 {
			out = append(out, fmt.Sprintf("hop: %s %s at %s/%s %s in %s: %d packets, drops %v, waits %.2f and at most %.2f ms", h.Traffic, h.Direction, h.Node, h.Interface, h.At, h.Class, h.Packets, h.Drops, h.MeanMs, h.MaxMs))
		}
	}
	bare, err := simulate.Run(f, &f.Rehearsals[0], simulate.Options{Seed: 1, WithoutPolicy: true})
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range measure.WhoPays(bare, r) {
		out = append(out, "pays: "+p.Text.String())
	}
	return strings.Join(out, "\n")
}

// A reasoned case changes parts of a file: two nodes and a link of 10 Mbit/s.
type reasoned struct {
	name, shape, entries, attach, wan, link, traffic, events, expect, also string
}

func to(name string, kbit string, port string) string {
	return "{name: " + name + ", rate: " + kbit + ", packet: 1000B, arrivals: exact, from: 10.1.0.9, to: 10.2.0.9, to-port: " + port + "}"
}

func from(host, rate string) string {
	return strings.Replace(to("w"+host, rate, "80"), "10.1.0.9", "10.1.0."+host, 1)
}

// testdata/reasons.txt has the reasons and warnings of each case. 1,000 bytes of IP are 1,038 on the wire, so 4 Mbit/s are 4.15 there.
// WRITE_REASONS=1 writes it anew. Read the sentences that change.
func TestReasons(t *testing.T) {
	var got strings.Builder
	const rest = ", {class: rest}"
	const talk = "{name: talk, calls: 4, codec: g711, between: [10.1.0.7, 10.2.0.7]}"
	const back = "{name: back, rate: 12Mbit/s, packet: 1000B, arrivals: exact, from: 10.2.0.9, to: 10.1.0.9, to-port: 873}"
	for _, c := range []reasoned{
		{name: "policed", entries: "{class: web, police: {rate: 2Mbit/s, burst: 20kB}}" + rest, traffic: to("w", "4Mbit/s", "80"), expect: "web loss <= 1%, web drops at west/wan out = 0, web rate >= 3Mbit/s, web rate at west/wan out >= 3Mbit/s"},
		{name: "policed by one around", entries: "{class: web, police: {rate: 2Mbit/s, burst: 20kB}, treat: [{class: odd}, {class: rest}]}" + rest, traffic: to("w", "4Mbit/s", "80"), expect: "web loss <= 1%, web drops at west/wan out = 0"},
		{name: "policed to a peak", entries: "{class: web, police: {rate: 1Mbit/s, burst: 20kB, peak: 2Mbit/s, peak-burst: 20kB}}" + rest, traffic: to("w", "4Mbit/s", "80"), expect: "web loss <= 1%"},
		{name: "bursts into a policer", entries: "{class: web, police: {rate: 2Mbit/s, burst: 3kB}}" + rest, traffic: "{name: w, rate: 8Mbit/s, packet: 1000B, arrivals: on-off, on: 20ms, off: 180ms, from: 10.1.0.9, to: 10.2.0.9, to-port: 80}", expect: "web loss <= 1%"},
		{name: "blocked", entries: "{class: web, block: true}" + rest, traffic: to("w", "4Mbit/s", "80"), expect: "web loss <= 1%, web delay p99 <= 10ms"},
		{name: "blocked at work", entries: "{class: web, block: {when: work}}" + rest, traffic: to("w", "4Mbit/s", "80"), expect: "web loss <= 1%"},
		{name: "nothing to measure", entries: "{class: web}" + rest, traffic: to("w", "4Mbit/s", "80"), expect: "web mos >= 4, web dead = 0, web goodput >= 1Mbit/s, web rtt p99 <= 1ms, voice loss = 0, sync rate >= 1Mbit/s at west/wan out, web : sync rate ratio 1..2"},
		{name: "at-most", entries: "{class: web, at-most: 2Mbit/s, queue: {limit: 50ms}}" + rest, traffic: to("w", "4Mbit/s", "80"), expect: "web loss <= 1%, web delay p99 <= 10ms, web rate >= 3Mbit/s, web delay p99 at west/wan out <= 5ms"},
		{name: "share", entries: "{class: web, at-least: 20%}, {class: sync, at-least: 70%}" + rest, traffic: to("w", "4Mbit/s", "80") + ", " + to("s", "9Mbit/s", "873"), expect: "web loss <= 1%, web delay max <= 10ms, web jitter <= 1us, web rate at west/wan out >= 3.9Mbit/s"},
		{name: "priority", entries: "{class: voice, priority: 1}, {class: web, at-least: 40%}" + rest, traffic: to("w", "4Mbit/s", "80") + ", " + to("v", "9Mbit/s", "20000"), expect: "web loss <= 1%, web delay max <= 10ms"},
		{name: "early", entries: "{class: web, at-least: 20%, queue: {drop: red, limit: 100ms}}, {class: sync, at-least: 70%}" + rest, traffic: to("w", "4Mbit/s", "80") + ", " + to("s", "9Mbit/s", "873"), expect: "web loss <= 1%"},
		{name: "bursts into a queue", entries: "{class: web, at-least: 20%, queue: {limit: 3kB}}, {class: sync, at-least: 70%}" + rest, traffic: "{name: w, rate: 8Mbit/s, packet: 1000B, arrivals: on-off, on: 20ms, off: 180ms, from: 10.1.0.9, to: 10.2.0.9, to-port: 80}, " + to("s", "9Mbit/s", "873"), expect: "web loss <= 1%"},
		{name: "too fast", entries: "{class: web, at-most: 3Mbit/s}" + rest, traffic: to("w", "4Mbit/s", "80") + ", " + to("o", "1Mbit/s", "9"), expect: "web rate <= 1Mbit/s, odd rate <= 500kbit/s, w rate <= 2Mbit/s, web rate at west/wan out <= 1Mbit/s, rest rate at west/wan out <= 500kbit/s"},
		{name: "too fast where a limit sleeps", entries: "{class: web, at-most: {rate: 1Mbit/s, when: work}}" + rest, traffic: to("w", "4Mbit/s", "80"), expect: "web rate <= 2Mbit/s, web rate at west/wan out <= 2Mbit/s, web rate at west/wan out >= 9Mbit/s"},
		{name: "carrier", entries: "{class: web}" + rest, link: "{ends: [{at: west/wan, sends: 5Mbit/s}, {at: east/wan}], delay: 5ms}", traffic: to("w", "4Mbit/s", "80") + ", " + to("o", "3Mbit/s", "9"), expect: "web loss <= 1%, web delay p99 <= 10ms"},
		{name: "shape above the carrier", shape: "shape: 6Mbit/s, ", entries: "{class: web}" + rest, link: "{ends: [{at: west/wan, sends: 5Mbit/s}, {at: east/wan}], delay: 5ms}", traffic: to("w", "4Mbit/s", "80") + ", " + to("o", "3Mbit/s", "9"), expect: "web loss <= 1%"},
		{name: "framing", shape: "shape: 5Mbit/s, ", entries: "{class: web}" + rest, link: "{ends: [{at: west/wan, sends: 5Mbit/s, framing: ethernet-pppoe}, {at: east/wan}], delay: 5ms}", traffic: to("w", "4Mbit/s", "80") + ", " + to("o", "3Mbit/s", "9"), expect: "web loss <= 1%"},
		{name: "no policy there", entries: "{class: web}" + rest, traffic: "{name: w, rate: 12Mbit/s, packet: 1000B, arrivals: exact, from: 10.2.0.9, to: 10.1.0.9, to-port: 80}", expect: "web loss <= 1%, w loss <= 1%, web rate at east/wan out >= 11Mbit/s"},
		{name: "link", entries: "{class: web}" + rest, link: "{ends: [{at: west/wan}, {at: east/wan}], delay: 5ms, loss: 5%}", traffic: to("w", "4Mbit/s", "80"), expect: "web loss <= 1%"},
		{name: "jitter of the link", entries: "{class: web}" + rest, link: "{ends: [{at: west/wan}, {at: east/wan}], delay: 5ms, jitter: 4ms}", traffic: to("w", "1Mbit/s", "80"), expect: "web delay max <= 10ms, web jitter <= 1ms"},
		{name: "path", entries: "{class: web}" + rest, traffic: to("w", "1Mbit/s", "80"), expect: "web delay max <= 4ms"},
		{name: "ratio", entries: "{class: web, at-least: 20%}, {class: sync, at-least: 70%}" + rest, traffic: to("w", "4Mbit/s", "80") + ", " + to("s", "9Mbit/s", "873"), expect: "web : sync rate ratio 1..2"},
		{name: "only came", entries: "{class: web}" + rest, traffic: to("w", "1Mbit/s", "80"), expect: "web rate at west/wan out >= 2Mbit/s, web rate >= 2Mbit/s, odd rate >= 1Mbit/s, odd drops at west/wan out = 0"},
		{name: "marks", entries: "{class: web, mark: af21}, {class: odd, mark: le}, {class: rest}", traffic: to("w", "1Mbit/s", "80") + ", " + to("o", "500kbit/s", "9") + ", " + to("s", "500kbit/s", "873"), expect: "web arrive as ef, sync arrive as ef, web mark at west/wan out = ef"},
		{name: "late calls", entries: "{class: voice, at-least: 10%}, {class: sync, at-least: 70%, queue: {limit: 200ms}}" + rest, traffic: "{name: talk, calls: 12, codec: g711, playout: 2ms, between: [10.1.0.7, 10.2.0.7]}, " + to("s", "11Mbit/s", "873"), expect: "voice late <= 0%, voice mos >= 4.4, talk loss <= 0.1%"},
		{name: "no priority", entries: "{class: voice, at-least: 20%}, {class: sync, at-least: 60%}" + rest, traffic: talk + ", " + to("s", "12Mbit/s", "873"), expect: "voice delay p99 <= 5.5ms, voice delay max at west/wan out <= 1ms"},
		{name: "bursts above an upper limit", entries: "{class: web, at-least: 10%, at-most: 1Mbit/s, queue: {limit: 1s}}, {class: sync, at-least: 40%}" + rest, traffic: "{name: cam, video: 600kbit/s, frames: 5, from: 10.1.0.8, to: 10.2.0.8, to-port: 80}, " + to("s", "2Mbit/s", "873"), expect: "web delay p99 <= 10ms"},
		{name: "lost before", entries: "{class: web, police: {rate: 2Mbit/s, burst: 20kB}}" + rest, attach: ", {policy: up, at: west/lan in}", traffic: to("w", "4Mbit/s", "80"), expect: "web rate at west/wan out >= 3Mbit/s, web queue max at west/wan out >= 1MB"},
		{name: "lines of a contract", entries: "{class: web, mark: ef}" + rest, link: "{ends: [{at: west/wan, contract: [{dscp: ef, rate: 1Mbit/s, burst: 8kB}, {rate: 3Mbit/s, burst: 16kB}]}, {at: east/wan}], delay: 5ms}", traffic: to("w", "2Mbit/s", "80") + ", " + to("s", "4Mbit/s", "873"), expect: "w loss <= 1%, s loss <= 1%"},
		{name: "in the rest further on", entries: "{class: voice, mark: ef, priority: 1, at-most: 2Mbit/s}" + rest, also: ", {name: late, shape: 4Mbit/s, treat: [{class: web, at-least: 10%}, {class: rest}]}", attach: ", {policy: late, at: east/lan out}", traffic: talk + ", " + to("s", "6Mbit/s", "873"), expect: "voice delay p99 <= 8ms, talk loss = 0, s loss = 0"},
		{name: "far there and back", entries: "{class: web}" + rest, link: "{ends: [{at: west/wan}, {at: east/wan}], delay: 100ms}", traffic: "{name: shop, requests: 3, answer: 40kB, think: 100ms, from: 10.1.0.7, to: 10.2.0.7, to-port: 80}", expect: "shop completion p95 <= 150ms, shop rtt p50 <= 190ms, shop completion p95 <= 210ms"},
		{name: "a rate that the second place lowers", shape: "shape: 9Mbit/s, ", entries: "{class: web, at-most: 5Mbit/s}" + rest, link: "{ends: [{at: west/wan, sends: 4Mbit/s}, {at: east/wan}], delay: 5ms}", traffic: to("w", "12Mbit/s", "80"), expect: "w rate >= 4.5Mbit/s, w rate >= 5Mbit/s"},
		{name: "another policy from then on", entries: "{class: web, at-most: 1Mbit/s}" + rest, also: ", {name: more, treat: [{class: odd}, {class: sync}, {class: voice}, {class: web, at-most: 1Mbit/s}, {class: rest}]}", traffic: to("w", "2Mbit/s", "80"), events: "events: [{at: 2s, policy: more, place: west/wan out}], ", expect: "web rate at west/wan out >= 3Mbit/s, web delay p99 at west/wan out <= 1ms"},
		{name: "a codec", entries: "{class: voice}" + rest, traffic: "{name: talk, calls: 2, codec: g729, between: [10.1.0.7, 10.2.0.7]}", expect: "voice mos >= 4.3, voice mos <= 3"},
		{name: "a codec and loss", entries: "{class: voice}" + rest, link: "{ends: [{at: west/wan}, {at: east/wan}], delay: 5ms, loss: 5%}", traffic: "{name: talk, calls: 2, codec: g729, between: [10.1.0.7, 10.2.0.7]}", expect: "voice mos >= 4.3, voice mos >= 4"},
		{name: "far ends", entries: "{class: voice}" + rest, link: "{ends: [{at: west/wan}, {at: east/wan}], delay: 300ms}", traffic: talk, expect: "voice mos >= 4"},
		{name: "a queue that is always full", entries: "{class: rest, queue: {limit: 400ms}}", traffic: "{name: talk, calls: 4, codec: g711, between: [10.1.0.7, 10.2.0.7], starts: 2s}, " + to("s", "9Mbit/s", "873") + ", {name: v, rate: 6Mbit/s, packet: 1000B, from: 10.1.0.8, to: 10.2.0.8, to-port: 873, lasts: 1s}", expect: "talk mos >= 4"},
		{name: "far ends and a queue", entries: "{class: rest, queue: {limit: 400ms}}", link: "{ends: [{at: west/wan}, {at: east/wan}], delay: 300ms}", traffic: "{name: talk, calls: 4, codec: g711, between: [10.1.0.7, 10.2.0.7], starts: 3s}, " + to("s", "14Mbit/s", "873"), expect: "talk mos >= 4"},
		{name: "two lengths", entries: "{class: web}" + rest, traffic: "{name: cam, video: 40kbit/s, frames: 10, from: 10.1.0.8, to: 10.2.0.8, to-port: 80}", expect: "web jitter <= 1us"},
		{name: "too large", entries: "{class: web}" + rest, wan: ", mtu: 900B", traffic: to("w", "1Mbit/s", "80"), expect: "web loss <= 1%"},
		{name: "ring", entries: "{class: web}, {class: sync, priority: 1}" + rest, wan: ", ring: 20", traffic: to("w", "9.5Mbit/s", "80") + ", {name: s, rate: 300kbit/s, packet: 100B, arrivals: poisson, from: 10.1.0.9, to: 10.2.0.9, to-port: 873}", expect: "sync delay max <= 6ms"},
		{name: "contract", entries: "{class: web}" + rest, link: "{ends: [{at: west/wan, contract: {rate: 3Mbit/s, burst: 8kB}}, {at: east/wan}], delay: 5ms}", traffic: to("w", "4Mbit/s", "80"), expect: "web loss <= 1%"},
		{name: "windows", entries: "{class: web, police: {rate: 2Mbit/s, burst: 20kB}}" + rest, traffic: "{name: w, rate: 4Mbit/s, packet: 1000B, arrivals: exact, from: 10.1.0.9, to: 10.2.0.9, to-port: 80, starts: 1s, lasts: 1s}, " + to("v", "1Mbit/s", "80"), expect: "w loss <= 1% from 1s to 2s, w loss <= 1% from 3s to 4s, v loss <= 1% from 3s to 4s, web drops at west/wan out <= 10 from 1s to 2s"},
		{name: "each", entries: "{class: web, each: source, at-most: 1Mbit/s, treat: [{class: odd}, {class: rest}]}" + rest, traffic: to("w", "4Mbit/s", "80"), expect: "web loss <= 1%"},
		{name: "two limits", entries: "{class: web, at-most: 3Mbit/s, treat: [{class: odd}, {class: rest, police: {rate: 2Mbit/s, burst: 20kB}}]}" + rest, traffic: to("w", "4Mbit/s", "80"), expect: "web loss <= 1%"},
		{name: "limit and share", entries: "{class: web, at-least: 10%, at-most: 3Mbit/s}, {class: sync, at-least: 80%}" + rest, traffic: to("w", "4Mbit/s", "80") + ", " + to("s", "9Mbit/s", "873"), expect: "web loss <= 1%"},
		{name: "each of three sources", entries: "{class: web, each: source, at-most: 1Mbit/s}" + rest, traffic: from("1", "2Mbit/s") + ", " + from("2", "2Mbit/s") + ", " + from("3", "500kbit/s"), expect: "web loss <= 1%, web delay p99 <= 20ms"},
		{name: "a policer for each of two", entries: "{class: web, each: source, police: {rate: 1Mbit/s, burst: 10kB}}" + rest, traffic: to("w", "2Mbit/s", "80") + ", " + from("8", "1500kbit/s"), expect: "web loss <= 1%"},
		{name: "four rivals", entries: "{class: web, at-least: 20%}, {class: sync, at-least: 30%}, {class: voice, at-least: 20%}, {class: odd, at-least: 10%}" + rest, traffic: strings.Join([]string{to("w", "4Mbit/s", "80"), to("s", "4Mbit/s", "873"), to("v", "3Mbit/s", "20000"), to("o", "2Mbit/s", "9"), to("q", "2Mbit/s", "10")}, ", "), expect: "web loss <= 1%"},
		{name: "priority and share", entries: "{class: voice, priority: 1, at-most: 8Mbit/s}, {class: web, at-least: 10%}, {class: sync, at-least: 5%}" + rest, traffic: strings.Join([]string{to("w", "4Mbit/s", "80"), to("s", "4Mbit/s", "873"), to("v", "9Mbit/s", "20000")}, ", "), expect: "web loss <= 1%, sync loss <= 1%, voice loss <= 1%"},
		{name: "priorities", entries: "{class: voice, priority: 1, at-most: 8Mbit/s}, {class: web, priority: 2, at-most: 2Mbit/s}" + rest, traffic: to("w", "4Mbit/s", "80") + ", " + to("v", "9Mbit/s", "20000"), expect: "web loss <= 1%"},
		{name: "copies", entries: "{class: sync, at-least: 20%}, {class: web, at-least: 70%}" + rest, traffic: "{name: copy, tcp: 2, from: 10.1.0.8, to: 10.2.0.8, to-port: 873}, " + to("w", "9Mbit/s", "80"), expect: "sync goodput >= 4Mbit/s, sync rtt p99 <= 12ms, sync retransmissions <= 0.01%, sync rate <= 1Mbit/s, sync rate >= 5Mbit/s"},
		{name: "copies alone", entries: "{class: sync}" + rest, traffic: "{name: copy, tcp: 1, from: 10.1.0.8, to: 10.2.0.8, to-port: 873}", expect: "sync goodput >= 20Mbit/s, sync rate <= 1Mbit/s"},
		{name: "requests", entries: "{class: web, police: {rate: 1Mbit/s, burst: 8kB}}" + rest, attach: ", {policy: up, at: east/wan out}", traffic: "{name: shop, requests: 3, answer: 40kB, think: 100ms, from: 10.1.0.7, to: 10.2.0.7, to-port: 80}", expect: "shop completion p95 <= 50ms, shop retransmissions <= 0.1%"},
		{name: "a cut", entries: "{class: web}" + rest, traffic: to("w", "1Mbit/s", "80"), events: "events: [{name: cut, at: 1s, link: west/wan, down: 1s}], ", expect: "web loss <= 1%, web loss <= 1% during cut, web loss <= 1% after cut"},
		{name: "a slower link", shape: "shape: 9Mbit/s, ", entries: "{class: web}" + rest, link: "{ends: [{at: west/wan}, {at: east/wan}], delay: 5ms}", traffic: to("w", "6Mbit/s", "80"), events: "events: [{name: rain, at: 1s, lasts: 1s, link: west/wan, sends: 4Mbit/s}], ", expect: "web loss <= 1%, web delay max <= 20ms"},
		{name: "ruined calls both ways", entries: "{class: voice, at-least: 2%}, {class: sync, at-least: 90%}" + rest, attach: ", {policy: up, at: east/wan out}", traffic: talk + ", " + to("s", "12Mbit/s", "873") + ", " + back, expect: "sync rate at west/wan out >= 8Mbit/s"},
		{name: "ruined calls one way", entries: "{class: voice, at-least: 2%}, {class: sync, at-least: 90%}" + rest, attach: ", {policy: up, at: east/wan out}", traffic: talk + ", " + to("s", "12Mbit/s", "873"), expect: "sync rate at west/wan out >= 8Mbit/s, voice mos >= 4"},
		{name: "calls in no class", entries: "{class: sync, at-least: 90%}" + rest, traffic: talk + ", " + to("s", "12Mbit/s", "873"), expect: ""},
		{name: "requests that do not end", entries: "{class: web, at-most: 100kbit/s}" + rest, attach: ", {policy: up, at: east/wan out}", traffic: "{name: shop, requests: 3, answer: 400kB, think: 100ms, from: 10.1.0.7, to: 10.2.0.7, to-port: 80}", expect: "web retransmissions <= 90%"},
		{name: "a policy in one direction", entries: "{class: sync, at-least: 40%}" + rest, traffic: to("s", "4Mbit/s", "873") + ", " + back, expect: ""},
		{name: "an entry that takes nothing", entries: "{class: sync, at-least: 40%}, {class: odd, when: work}" + rest, traffic: to("s", "4Mbit/s", "873"), expect: "sync loss = 0%"},
		{name: "a ramp of calls", entries: "{class: voice, priority: 1, police: {calls: 7, codec: g711}}, {class: sync, at-least: 40%}" + rest, attach: ", {policy: up, at: east/wan out}", traffic: "{name: talk, calls: {from: 1, to: 16, over: 4s}, codec: g711, between: [10.1.0.7, 10.2.0.7]}, " + to("s", "12Mbit/s", "873"), expect: "voice loss <= 1%, voice mos >= 4, sync delay p99 <= 1ms, sync rate >= 1Mbit/s"},
		{name: "a ramp of a stream", entries: "{class: web, at-most: 4Mbit/s, queue: {limit: 20ms}}" + rest, traffic: "{name: w, rate: {from: 1Mbit/s, to: 9Mbit/s, over: 4s}, packet: 1000B, arrivals: exact, from: 10.1.0.9, to: 10.2.0.9, to-port: 80}", expect: "web loss <= 1%, web delay max <= 1s"},
		{name: "rain and after", shape: "shape: 9Mbit/s, follows-after: 300ms, ", entries: "{class: web, at-least: 50%, queue: {limit: 20ms}}, {class: voice, priority: 1, at-most: 1Mbit/s}" + rest, traffic: talk + ", " + to("w", "6Mbit/s", "80"), events: "events: [{name: rain, at: 1s, lasts: 1s, link: west/wan, sends: 4Mbit/s}, {name: cut, at: 3s, link: west/wan, down: 200ms, detected: 100ms}], ", expect: "web loss <= 1%, voice loss <= 5%, voice mos >= 3"},
	} {
		fmt.Fprintf(&got, "# %s\n%s\n\n", c.name, reasonsOf(t, &c))
	}
	if os.Getenv("WRITE_REASONS") != "" {
		if err := os.WriteFile("testdata/reasons.txt", []byte(got.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	want, err := os.ReadFile("testdata/reasons.txt")
	if err != nil {
		t.Fatal(err)
	}
	lines, wanted := strings.Split(got.String(), "\n"), strings.Split(string(want), "\n")
	for i := range max(len(lines), len(wanted)) {
		switch {
		case i >= len(lines) || i >= len(wanted):
			t.Fatalf("%d lines; want %d", len(lines), len(wanted))
		case lines[i] != wanted[i]:
			t.Errorf("line %d:\n%s\nwant\n%s", i+1, lines[i], wanted[i])
		}
	}
}
