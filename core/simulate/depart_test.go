package simulate

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/policyfile"
)

// randomRow returns a file of two to five nodes in a row, of which everything is drawn: what links carry, tunnels, tags, policies and traffic. Its
// rates are such that much happens at the same nanosecond.
func randomRow(t *testing.T, seed uint64) *policy.File {
	r := rand.New(rand.NewPCG(seed, 17))
	one := func(of ...string) string { return of[r.IntN(len(of))] }
	nodes := 2 + r.IntN(4)
	var b strings.Builder
	b.WriteString("imbrel: 1\nclasses:\n  - {name: a, match: [{to-port: 5000}]}\n  - {name: b, match: [{to-port: 80}]}\npolicies:\n")
	fmt.Fprintf(&b, "  - {name: p%s, treat: [{class: a, %s}, {class: b, %s}, {class: rest%s}]}\n", one("", ", shape: 90%", ", shape: {rate: 8Mbit/s, burst: 6kB}"),
		one("priority: 1, mark: ef", "at-least: 20%, mark: {dscp: af41, pcp: 5}", "priority: 1, police: {rate: 1Mbit/s, burst: 5kB}"),
		one("at-least: 30%", "at-most: 40%", "at-least: 20%, queue: {drop: codel}", "queue: {drop: red}", "each: flow"), one("", ", queue: {limit: 20kB}"))
	b.WriteString("attach: [{policy: p, at: n0/far out}")
	if r.IntN(2) == 0 && nodes > 2 {
		b.WriteString(", {policy: p, at: n1/far out}")
	}
	b.WriteString("]\nnetwork:\n  nodes:\n")
	framing, tag := "", ""
	if r.IntN(2) == 0 {
		framing, tag = ", framing: ethernet-vlan", ", pcp: 3"
	}
	for i := range nodes {
		fmt.Fprintf(&b, "    - {name: n%d, interfaces: [{name: near, rate: %s%s", i, one("1Gbit/s", "100Mbit/s"), framing)
		if i == 0 {
			b.WriteString(", subnets: [10.1.0.0/16]")
		}
		fmt.Fprintf(&b, "}, {name: far, rate: %s%s", one("100Mbit/s", "10Mbit/s", "8Mbit/s"), framing)
		if i == nodes-1 {
			b.WriteString(", subnets: [10.2.0.0/16]")
		}
		b.WriteString("}]}\n")
	}
	b.WriteString("  links:\n")
	for i := range nodes - 1 {
		fmt.Fprintf(&b, "    - {ends: [{at: n%d/far%s}, {at: n%d/near%s}]%s}\n", i, one("", ", sends: 4Mbit/s, buffer: 3ms", ", sends: 5Mbit/s, buffer: 9ms, framing: aal5-pppoe-llc"), i+1,
			one("", ", sends: 6Mbit/s"), one("", ", delay: 1ms", ", delay: 3ms, loss: 1%", ", delay: 2ms, jitter: 200us"))
	}
	if r.IntN(2) == 0 {
		var through []string
		for i := range nodes {
			through = append(through, fmt.Sprint("n", i))
		}
		fmt.Fprintf(&b, "  tunnels: [{name: t, kind: %s, through: [%s]}]\n", one("mpls, labels: 2", "gre, from: 192.0.2.1, to: 192.0.2.2", "ipsec, from: 192.0.2.1, to: 192.0.2.2, replay-window: 16"), strings.Join(through, ", "))
	}
	fmt.Fprintf(&b, "rehearsals:\n  - name: r\n    lasts: 1500ms\n    warm-up: %s\n    traffic:\n", one("1ns", "300ms", "500ms"))
	ways := [][2]string{{"10.1.0", "10.2.0"}, {"10.2.0", "10.1.0"}}
	for i := range 2 + r.IntN(5) {
		from := ways[r.IntN(2)]
		ends := fmt.Sprintf("from: %s.%d, to: %s.%d", from[0], i+1, from[1], i+1)
		switch r.IntN(5) {
		case 0:
			fmt.Fprintf(&b, "      - {name: t%d, calls: 3, codec: g711, between: [10.1.0.%d, 10.2.0.%d]}\n", i, i+1, i+1)
		case 1:
			fmt.Fprintf(&b, "      - {name: t%d, tcp: 2, %s, to-port: 80}\n", i, ends)
		case 2:
			fmt.Fprintf(&b, "      - {name: t%d, video: 1Mbit/s, frames: 25, key-frames: 1s, %s, to-port: 5000}\n", i, ends)
		default:
			fmt.Fprintf(&b, "      - {name: t%d, rate: %s, packet: %s, arrivals: %s, %s, to-port: %s%s}\n", i, one("1Mbit/s", "2Mbit/s", "3Mbit/s"), one("125B", "500B", "1500B"), one("constant", "exact", "poisson"), ends,
				one("5000", "80", "9"), tag)
		}
	}
	f, err := policyfile.Parse("row.yaml", []byte(b.String()), time.LoadLocation)
	if err != nil {
		t.Fatalf("seed %d: %v\n%s", seed, err, b.String())
	}
	return f
}

// Arrivals that are planned at once give the same bytes as an event for each step: in rows of nodes, and in random networks.
func TestDepartures(t *testing.T) {
	spared := 0
	for seed := range uint64(120 + *plans/2) {
		w := &world{r: rand.New(rand.NewPCG(31, seed)), more: seed%2 == 1}
		var f *policy.File
		if seed < 120 {
			f = randomRow(t, seed)
		} else if f = w.file(); f == nil {
			continue
		}
		var results [2][]byte
		var orders [2]uint32
		for i := range results {
			o := Options{Seed: seed, WithoutPolicy: seed%3 == 0, Hops: true, everyEvent: i == 1}
			if seed%4 == 0 {
				o.Every = 100 * time.Millisecond
			}
			r, err := prepare(f, &f.Rehearsals[0], o, nil)
			var res *measure.Result
			if err == nil {
				res, err = r.toTheEnd()
			}
			if err != nil {
				if results[i] = []byte(err.Error()); seed < 120 {
					t.Fatalf("seed %d: %v", seed, err)
				}
				continue
			}
			res.KeepDistributions()
			if results[i], err = json.Marshal(res); err != nil {
				t.Fatal(err)
			}
			orders[i] = r.events.order
			for _, at := range res.Interfaces {
				if seed >= 120 { // a packet may leave in parts
					break
				}
				for _, c := range at.Classes {
					marked := uint64(0)
					for _, n := range c.PCPs {
						marked += n
					}
					if marked > c.SentPackets+2 { // those that were being sent when the warm-up ended
						t.Errorf("seed %d: %s sent %d packets of %s, and %d with a priority code point", seed, at.Interface, c.SentPackets, c.Class, marked)
					}
				}
			}
		}
		if !bytes.Equal(results[0], results[1]) {
			at := 0
			for at < len(results[0]) && at < len(results[1]) && results[0][at] == results[1][at] {
				at++
			}
			t.Errorf("seed %d: …%.300s\nwith every event: …%.300s", seed, results[0][max(0, at-150):], results[1][max(0, at-150):])
		}
		spared += int(orders[1]) - int(orders[0])
	}
	if spared < 100_000 {
		t.Errorf("only %d events were spared", spared)
	}
}
