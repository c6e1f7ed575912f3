package simulate_test

import (
	"math"
	"strings"
	"testing"
	"time"

	"imbrel.example/imbrel/core/policyfile"
	"imbrel.example/imbrel/core/simulate"
)

// Both directions together have the rate of the link, whoever sends how much; a turn takes its time.
func TestHalfDuplex(t *testing.T) {
	const file = `
imbrel: 1
network:
  nodes:
    - {name: a, interfaces: [{name: lan, rate: 1Gbit/s, subnets: 10.1.0.0/16}, {name: air, rate: 100Mbit/s}]}
    - {name: b, interfaces: [{name: air, rate: 100Mbit/s}, {name: lan, rate: 1Gbit/s, subnets: 10.2.0.0/16}]}
  links: [{ends: [{at: a/air}, {at: b/air}], delay: 1ms, half-duplex: MEDIUM}]
rehearsals:
  - name: run
    lasts: 10s
    warm-up: 1s
    traffic:
      - {name: out, rate: FORTH, packet: 1462B, from: 10.1.0.1, to: 10.2.0.1}
      - {name: back, rate: BACK, packet: 1462B, from: 10.2.0.1, to: 10.1.0.1}
`
	for _, c := range []struct {
		medium, forth, back string
		sum, most           float64 // Mbit/s as the link counts; of the first, where it is known
	}{
		{"30Mbit/s", "40Mbit/s", "40Mbit/s", 30, 15},
		{"30Mbit/s", "40Mbit/s", "5Mbit/s", 30, 0},
		{"30Mbit/s", "40Mbit/s", "600bit/s", 30, 30},
		{"30Mbit/s", "10Mbit/s", "9Mbit/s", 19 * 1500 / 1462.0, 10 * 1500 / 1462.0},
		// A packet takes 400 us at 30 Mbit/s. With a turn of 200 us between any two, two thirds remain where each waits for the other; a packet of a
		// direction that sends alone waits for nothing.
		{"{rate: 30Mbit/s, turn-around: 200us}", "9.7Mbit/s", "9.7Mbit/s", 19.4 * 1500 / 1462.0, 0},
		{"{rate: 30Mbit/s, turn-around: 200us}", "40Mbit/s", "600bit/s", 30, 30},
	} {
		f, err := policyfile.Parse("air.yaml", []byte(strings.NewReplacer("MEDIUM", c.medium, "FORTH", c.forth, "BACK", c.back).Replace(file)), time.LoadLocation)
		if err != nil {
			t.Fatal(err)
		}
		r, err := simulate.Run(f, &f.Rehearsals[0], simulate.Options{Seed: 1})
		if err != nil {
			t.Fatal(err)
		}
		sum := float64(r.Links[0].CarriedBps+r.Links[1].CarriedBps) / 1e6
		if math.Abs(sum-c.sum) > 0.005*c.sum {
			t.Errorf("%s, %s and %s: together %.3f Mbit/s, not %.3f", c.medium, c.forth, c.back, sum, c.sum)
		}
		if got := float64(r.Links[0].CarriedBps) / 1e6; c.most > 0 && math.Abs(got-c.most) > 0.01*c.most {
			t.Errorf("%s, %s and %s: forth %.3f Mbit/s, not %.3f", c.medium, c.forth, c.back, got, c.most)
		}
	}
}
