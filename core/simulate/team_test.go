package simulate

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"runtime"
	"strings"
	"testing"
	"time"

	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/policyfile"
)

// star returns a file of a hub and some sites, with traffic of each kind that may go between parts, which meets in one policy.
func star(t *testing.T, seed uint64) *policy.File {
	r := rand.New(rand.NewPCG(seed, 23))
	one := func(of ...string) string { return of[r.IntN(len(of))] }
	sites := 2 + r.IntN(5)
	var b strings.Builder
	fmt.Fprintf(&b, "imbrel: 1\nclasses:\n  - {name: voice, match: [{dscp: ef}]}\n  - {name: web, match: [{to-port: 80}, {from-port: 80}]}\npolicies:\n"+
		"  - {name: p, shape: 4Mbit/s, treat: [{class: voice, priority: 1}, {class: web, at-least: 40%%, %s}, {class: rest, queue: {drop: codel}}]}\nattach: [", one("queue: {drop: red}", "police: {rate: 2Mbit/s, burst: 20kB}", "each: flow"))
	for i := range sites {
		fmt.Fprintf(&b, "{policy: p, at: s%d/wan out}, {policy: p, at: hub/s%d out}, ", i, i)
	}
	b.WriteString("]\nnetwork:\n  nodes:\n    - {name: hub, interfaces: [{name: lan, rate: 1Gbit/s, subnets: [10.0.0.0/16]}]}\n")
	for i := range sites {
		fmt.Fprintf(&b, "    - {name: s%d, interfaces: [{name: wan, rate: 10Mbit/s, link: {to: hub, delay: %s%s}}, {name: lan, rate: 1Gbit/s, subnets: [10.%d.0.0/16]}]}\n",
			i, one("2ms", "3ms", "5ms"), one("", ", sends: 5Mbit/s", ", loss: 1%", ", jitter: 1ms"), i+1)
	}
	fmt.Fprintf(&b, "rehearsals:\n  - name: r\n    lasts: 1500ms\n    warm-up: %s\n    traffic:\n", one("1ns", "500ms"))
	for i := range 3 * sites {
		at := i % sites
		near, far := fmt.Sprintf("10.%d.0.%d", at+1, i+1), fmt.Sprintf("10.0.0.%d", i+1)
		if r.IntN(3) == 0 {
			far = fmt.Sprintf("10.%d.1.%d", (at+1)%sites+1, i+1)
		}
		if r.IntN(2) == 0 {
			near, far = far, near
		}
		ends := fmt.Sprintf("from: %s, to: %s", near, far)
		fmt.Fprintf(&b, "      - {name: t%d, %s}\n", i, one(fmt.Sprintf("calls: 3, codec: g711, rtcp: true, dscp: ef, between: [%s, %s]", near, far),
			"tcp: 2, to-port: 80, "+ends, "tcp: 2, bytes: 200kB, from-port: 80, "+ends, "tcp: 1, app-rate: 500kbit/s, to-port: 80, "+ends,
			"requests: 3, request: 400B, answer: 20kB, think: 200ms, to-port: 80, "+ends, "pages: 2, object: 10kB, objects: 7, connections: 3, think: 300ms, to-port: 80, "+ends,
			"video: 1Mbit/s, frames: 25, key-frames: 1s, to-port: 5000, "+ends, "rate: 2Mbit/s, packet: 500B, arrivals: poisson, to-port: 9, "+ends))
	}
	b.WriteString("    expect:\n      - voice delay p99 < 20ms from 600ms to 1s\n")
	f, err := policyfile.Parse("star.yaml", []byte(b.String()), time.LoadLocation)
	if err != nil {
		t.Fatalf("seed %d: %v\n%s", seed, err, b.String())
	}
	return f
}

// A rehearsal gives the same bytes on any number of cores: of hubs with sites, of rows of nodes, and of random networks.
func TestParts(t *testing.T) {
	divided, given := 0, 0
	seeds := uint64(60 + *plans/5)
	for seed := range seeds {
		if testing.Short() && seed%10 != 7 { // for the race detector
			continue
		}
		w := &world{r: rand.New(rand.NewPCG(37, seed)), more: seed%2 == 1}
		var f *policy.File
		switch {
		case seed < 40:
			f = star(t, seed)
		case seed < 60:
			f = randomRow(t, seed)
		default:
			if f = w.file(); f == nil {
				continue
			}
		}
		var results [2][]byte
		for i := range results {
			o := Options{Seed: seed, WithoutPolicy: seed%3 == 0, Hops: true, Bounds: true}
			if i == 1 {
				o.Cores, o.alwaysDivide = 2+int(seed%5), true
				if r, err := prepare(f, &f.Rehearsals[0], o, nil); err == nil {
					if team := r.divide(); team != nil {
						divided++
						if _, ok, _ := team.toTheEnd(); !ok {
							given++
						}
					}
				}
			}
			res, err := Run(f, &f.Rehearsals[0], o)
			if err != nil {
				results[i] = []byte(err.Error())
				continue
			}
			res.KeepDistributions()
			if results[i], err = json.Marshal(res); err != nil {
				t.Fatal(err)
			}
		}
		if !bytes.Equal(results[0], results[1]) {
			t.Errorf("seed %d: %s", seed, difference(results[0], results[1]))
		}
	}
	if least := int(seeds) / 20; divided < least || given == 0 || 4*given > divided {
		t.Errorf("%d were divided, and %d of them run whole after all", divided, given)
	}
}

// difference returns where two texts begin to differ.
func difference(a, b []byte) string {
	at := 0
	for at < len(a) && at < len(b) && a[at] == b[at] {
		at++
	}
	from := max(0, at-150)
	return fmt.Sprintf("…%.300s\nand …%.300s", a[from:], b[from:])
}

// BenchmarkCores rehearses two seconds of 300 sites, with two calls each to a hub, on one core and on all.
func BenchmarkCores(b *testing.B) {
	var text strings.Builder
	text.WriteString("imbrel: 1\nnetwork:\n  nodes:\n    - {name: hub, interfaces: [{name: lan, rate: 10Gbit/s, subnets: [10.0.0.0/16]}]}\n")
	for i := range 300 {
		fmt.Fprintf(&text, "    - {name: s%d, interfaces: [{name: wan, rate: 20Mbit/s, link: {to: hub, delay: 5ms}}, {name: lan, rate: 1Gbit/s, subnets: [10.%d.%d.0/24]}]}\n", i, 1+i/250, i%250)
	}
	text.WriteString("rehearsals:\n  - name: r\n    lasts: 2s\n    traffic:\n")
	for i := range 300 {
		fmt.Fprintf(&text, "      - {name: c%d, calls: 2, codec: g711, between: [10.%d.%d.1, 10.0.0.1]}\n", i, 1+i/250, i%250)
	}
	f, err := policyfile.Parse("cores.yaml", []byte(text.String()), time.LoadLocation)
	if err != nil {
		b.Fatal(err)
	}
	for _, cores := range []int{1, runtime.GOMAXPROCS(0)} {
		b.Run(fmt.Sprint(cores), func(b *testing.B) {
			for b.Loop() {
				if _, err := Run(f, &f.Rehearsals[0], Options{Cores: cores}); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}

// What concerns all parts at once keeps a rehearsal whole.
func TestWhole(t *testing.T) {
	const two = `
imbrel: 1
classes: [{name: web, match: [{to-port: 80}]}]
policies: [{name: p, treat: [{class: web, at-least: 40%}, {class: rest}]}]
attach: [{policy: p, at: a/wan out}]
network:
  nodes: [{name: a, interfaces: [{name: lan, rate: 1Gbit/s, subnets: [10.1.0.0/16]}, {name: wan, rate: 10Mbit/s}]}, {name: b, interfaces: [{name: lan, rate: 1Gbit/s, subnets: [10.2.0.0/16]}, {name: wan, rate: 10Mbit/s}]}]
  links: [{ends: [{at: a/wan}, {at: b/wan}], delay: 5ms}]
rehearsals:
  - {name: r, lasts: 1s, traffic: [{name: x, requests: 1, answer: 20kB, think: 1s, from: 10.1.0.1, to: 10.2.0.1, from-port: 5000, to-port: 5000}]}
`
	for _, c := range []struct {
		change [2]string
		whole  bool
		o      Options
	}{
		{[2]string{"", ""}, false, Options{}},
		{[2]string{"from-port: 5000, to-port: 5000}", "from-port: 5000, to-port: 5000}, {name: y, requests: 1, answer: 20kB, think: 1s, from: 10.2.0.1, to: 10.1.0.1, from-port: 5000, to-port: 5000}"}, true, Options{}},
		{[2]string{"lasts: 1s,", "lasts: 1s, events: [{at: 500ms, link: a/wan, down: 100ms}],"}, true, Options{}},
		{[2]string{"", ""}, true, Options{Every: 100 * time.Millisecond}},
		{[2]string{"", ""}, true, Options{Classified: func(*policy.Interface, policy.Direction, string, *packet.Packet) {}}},
	} {
		f, err := policyfile.Parse("two.yaml", []byte(strings.Replace(two, c.change[0], c.change[1], 1)), time.LoadLocation)
		if err != nil {
			t.Fatal(err)
		}
		c.o.Cores, c.o.alwaysDivide = 2, true
		r, err := prepare(f, &f.Rehearsals[0], c.o, nil)
		if err != nil {
			t.Fatal(err)
		}
		if whole := r.divide() == nil; whole != c.whole {
			t.Errorf("with %q: whole %v", c.change[1], whole)
		}
	}
}
