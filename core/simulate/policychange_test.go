package simulate_test

import (
	"math"
	"strings"
	"testing"
	"time"

	"imbrel.example/imbrel/core/policyfile"
	"imbrel.example/imbrel/core/simulate"
)

const turnsFile = `
imbrel: 1
classes: [{name: x, match: [{to-port: 7001}]}, {name: y, match: [{to-port: 7002}]}]
policies:
  - {name: day, shape: 4Mbit/s, treat: [{class: x, mark: af11, at-least: 75%}, {class: y, at-least: 25%}, {class: rest}]}
  - {name: night, shape: 2Mbit/s, treat: [{class: y, at-least: 75%}, {class: x, mark: af21, at-least: 25%}, {class: rest}]}
ATTACH
network:
  nodes:
    - {name: a, interfaces: [{name: lan, rate: 1Gbit/s, subnets: 10.1.0.0/16}, {name: wan, rate: 10Mbit/s}]}
    - {name: b, interfaces: [{name: wan, rate: 10Mbit/s}, {name: lan, rate: 1Gbit/s, subnets: 10.2.0.0/16}]}
  links: [{ends: [{at: a/wan}, {at: b/wan}], delay: 5ms}]
rehearsals:
  - name: run
    lasts: 30s
    traffic:
      - {name: xs, rate: RATE, packet: 962B, from: 10.1.0.1, to: 10.2.0.1, to-port: 7001}
      - {name: ys, rate: RATE, packet: 962B, from: 10.1.0.2, to: 10.2.0.2, to-port: 7002}
    events: [{at: 10s, policy: night, place: a/wan out, lasts: 10s, name: dark}]
    expect: [EXPECT]
`

// From the event on the other policy divides the line, by its shape and its promises, and at its end the first does again.
func TestPolicyChanges(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		attach   string
		x, y     [3]float64 // Mbit/s before, during and after, as the line counts
		policies int
	}{
		{"attach: [{policy: day, at: a/wan out}]", [3]float64{3, 0.5, 3}, [3]float64{1, 1.5, 1}, 3},
		{"", [3]float64{0, 0.5, 0}, [3]float64{0, 1.5, 0}, 1}, // without a policy nothing is of a class
	} {
		text := strings.NewReplacer("ATTACH", c.attach, "RATE", "8Mbit/s", "EXPECT", "x rate at a/wan out >= 1kbit/s before dark, x rate at a/wan out >= 1kbit/s during dark, x rate at a/wan out >= 1kbit/s after dark, y rate at a/wan out >= 1kbit/s before dark, y rate at a/wan out >= 1kbit/s during dark, y rate at a/wan out >= 1kbit/s after dark, x drops <= 1000000000").Replace(turnsFile)
		f, err := policyfile.Parse("turns.yaml", []byte(text), time.LoadLocation)
		if err != nil {
			t.Fatal(err)
		}
		r, err := simulate.Run(f, &f.Rehearsals[0], simulate.Options{Seed: 1, Every: time.Second, Hops: true})
		if err != nil {
			t.Fatal(err)
		}
		for i, want := range append(c.x[:], c.y[:]...) {
			o := &r.Expectations[i]
			if want == 0 {
				continue
			}
			if o.Measured == nil || math.Abs(*o.Measured/1e6-want) > 0.06*want+0.05 {
				t.Errorf("%q: %s: %v, want %.1f Mbit/s", c.attach, o.Title(), o.Measured, want)
			}
		}
		policies := 0
		for i := range r.Interfaces {
			if k := &r.Interfaces[i]; k.Node == "a" && k.Interface == "wan" && k.PolicyAt != "" {
				policies++
				if k.PolicyAt == "night" && (k.FromS != 10 || k.UntilS != 20) {
					t.Errorf("night is in force from %g to %g s", k.FromS, k.UntilS)
				}
			}
		}
		if policies != c.policies {
			t.Errorf("%q: %d policies were in force at a/wan out, one after the other", c.attach, policies)
		}
	}
}

// What waits when the policy changes is lost neither, nor overtaken: the packets of a flow below every shape all arrive, in their order.
func TestPolicyChangesLoseNothing(t *testing.T) {
	t.Parallel()
	text := strings.NewReplacer("ATTACH", "attach: [{policy: day, at: a/wan out}]", "RATE", "940kbit/s", "EXPECT", "x loss = 0, y loss = 0, x reordered = 0, y reordered = 0, x delay max <= 60ms").Replace(turnsFile)
	f, err := policyfile.Parse("turns.yaml", []byte(text), time.LoadLocation)
	if err != nil {
		t.Fatal(err)
	}
	quiet := *f
	quiet.Rehearsals[0].Events[0].Attach.Interface = f.Network.Nodes[1].Interfaces[0] // where nothing waits, and no policy is before and after
	if r, err := simulate.Run(&quiet, &quiet.Rehearsals[0], simulate.Options{Seed: 1}); err != nil || r.Traffic[0].ReceivedPackets != r.Traffic[0].SentPackets {
		t.Errorf("%v: %+v", err, r)
	}
	quiet.Rehearsals[0].Events[0].Attach.Interface = f.Network.Nodes[0].Interfaces[1]
	tagged := strings.Replace(strings.Replace(text, "{name: wan, rate: 10Mbit/s}]}\n    - {name: b", "{name: wan, rate: 10Mbit/s, framing: ethernet-vlan, vlan: 7}]}\n    - {name: b", 1), "attach: [{policy: day, at: a/wan out}]", "", 1)
	if f, err := policyfile.Parse("turns.yaml", []byte(strings.Replace(tagged, "RATE", "9Mbit/s", -1)), time.LoadLocation); err != nil {
		t.Fatal(err)
	} else if r, err := simulate.Run(f, &f.Rehearsals[0], simulate.Options{Seed: 1}); err != nil || r.Traffic[0].SentPackets == 0 { // to a policy, and to none again, while a packet is being sent
		t.Errorf("%v: %+v", err, r)
	}
	for seed := range uint64(5) {
		r, err := simulate.Run(f, &f.Rehearsals[0], simulate.Options{Seed: seed})
		if err != nil {
			t.Fatal(err)
		}
		if r.Verdict != "pass" {
			t.Errorf("seed %d: %+v", seed, r.Expectations)
		}
	}
}
