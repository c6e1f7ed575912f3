package simulate_test

import (
	"strings"
	"testing"
	"time"

	"imbrel.example/imbrel/core/policyfile"
	"imbrel.example/imbrel/core/simulate"
)

// A packet with priority waits for a full ring: 64 full packets at 2 Mbit/s are 394 ms, and some of these are short. A shape below the interface's rate keeps the ring empty.
func TestRing(t *testing.T) {
	const file = `
imbrel: 1
classes: [{name: voice, match: [{dscp: ef}]}]
policies: [{name: wan, SHAPE treat: [{class: voice, priority: 1, at-most: 20%}, {class: rest, queue: {limit: 500ms}}]}]
attach: [{policy: wan, at: a/wan out}]
network:
  nodes:
    - {name: a, interfaces: [{name: lan, rate: 1Gbit/s, subnets: 10.1.0.0/16}, {name: wan, rate: 2Mbit/s, RING}]}
    - {name: b, interfaces: [{name: wan, rate: 2Mbit/s}, {name: lan, rate: 1Gbit/s, subnets: 10.2.0.0/16}]}
  links: [{ends: [{at: a/wan}, {at: b/wan}], delay: 1ms}]
rehearsals:
  - name: run
    lasts: 10s
    traffic:
      - {name: calls, calls: 1, codec: g729, between: [10.1.0.1, 10.2.0.1], dscp: ef}
      - {name: bulk, rate: 3Mbit/s, packet: 1500B, from: 10.1.0.2, to: 10.2.0.2, starts: 1s}
    expect: [calls delay max <= 25ms, calls variation p99.9 <= 20ms]
`
	for _, c := range []struct {
		ring, shape string
		most, least float64 // ms
	}{{"", "", 24, 5}, {"ring: 64", "", 400, 330}, {"ring: 64", "shape: 1.8Mbit/s,", 24, 5}, {"ring: 2", "", 24, 12}} {
		f, err := policyfile.Parse("ring.yaml", []byte(strings.NewReplacer("RING", c.ring, "SHAPE", c.shape).Replace(file)), time.LoadLocation)
		if err != nil {
			t.Fatal(err)
		}
		r, err := simulate.Run(f, &f.Rehearsals[0], simulate.Options{Seed: 1})
		if err != nil {
			t.Fatal(err)
		}
		got := r.Traffic[0].Delay.Max
		if got > c.most || got < c.least {
			t.Errorf("%q %q: a call waits up to %.1f ms, not from %.0f to %.0f", c.ring, c.shape, got, c.least, c.most)
		}
		holds := r.Expectations[0].Holds && r.Expectations[1].Holds
		if holds != (c.most < 30) {
			t.Errorf("%q %q: %+v", c.ring, c.shape, r.Expectations)
		}
		if v := *r.Expectations[1].Measured; v < got-8 || v > got {
			t.Errorf("%q %q: the variation is %.2f ms, and the longest delay %.2f", c.ring, c.shape, v, got)
		}
		if !holds && !strings.Contains(r.Expectations[0].Why.Text.String(), "its ring takes up to 64 packets out of the policy's queues") {
			t.Errorf("the reason is %s", r.Expectations[0].Why.Text)
		}
	}
}
