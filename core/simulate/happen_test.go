package simulate_test

import (
	"math"
	"strings"
	"testing"
	"time"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/policyfile"
	"imbrel.example/imbrel/core/simulate"
)

// ringFile is two sites with a short and a longer way between them, and a stream of a packet every millisecond.
const ringFile = `
imbrel: 1
policies: [{name: wan, shape: 90%, FOLLOWS treat: [{class: rest, at-least: 50%}]}]
attach: [{policy: wan, at: a/wan out}]
network:
  nodes:
    - {name: a, interfaces: [{name: lan, rate: 1Gbit/s, subnets: 10.1.0.0/16}, {name: wan, rate: 100Mbit/s}, {name: spare, rate: 100Mbit/s}]}
    - {name: b, interfaces: [{name: wan, rate: 100Mbit/s}, {name: lan, rate: 1Gbit/s, subnets: 10.2.0.0/16}, {name: far, rate: 100Mbit/s}]}
    - {name: c, interfaces: [{name: a, rate: 100Mbit/s}, {name: b, rate: 100Mbit/s}]}
  links:
    - {ends: [{at: a/wan, sends: 20Mbit/s}, {at: b/wan}], delay: 7ms}
    - {ends: [{at: a/spare}, {at: c/a}], delay: 3ms}
    - {ends: [{at: c/b}, {at: b/far}], delay: 3ms}
rehearsals:
  - name: run
    lasts: 10s
    traffic: [{name: x, rate: RATE, packet: 1000B, arrivals: exact, from: 10.1.0.1, to: 10.2.0.1}]
    events: [EVENT]
    expect: [EXPECT]
`

func happened(t *testing.T, follows, rate, event, expect string, more ...string) (*policy.File, *measure.Result) {
	t.Helper()
	text := strings.NewReplacer(append(more, "FOLLOWS", follows, "RATE", rate, "EVENT", event, "EXPECT", expect)...).Replace(ringFile)
	f, err := policyfile.Parse("ring.yaml", []byte(text), time.LoadLocation)
	if err != nil {
		t.Fatal(err)
	}
	r, err := simulate.Run(f, &f.Rehearsals[0], simulate.Options{Seed: 3})
	if err != nil {
		t.Fatal(err)
	}
	return f, r
}

// While a failure is not detected, what is sent is lost, to one packet, and so is what was on the link; then packets take the other way. Both ways back.
func TestDown(t *testing.T) {
	for event, lost := range map[string]float64{
		"{at: 3s, link: a/wan, down: 4s, detected: 900ms}": 907, // and 7 of the link's delay; the other way has the same rate
		"{at: 3s, link: a/wan, down: 4s, detected: 1ms}":   8,
		"{at: 3s, link: b/wan, down: 4s}":                  4007,
		"{at: 3s, link: a/spare, down: 4s, detected: 1s}":  0,
		"{at: 3s, link: a/wan, down: 20s, detected: 50ms}": 57,
	} {
		_, r := happened(t, "", "8Mbit/s", event, "x loss <= 100%")
		row := r.Traffic[0]
		if got := float64(row.SentPackets - row.ReceivedPackets); math.Abs(got-lost) > 1 {
			t.Errorf("%s: %.0f packets are lost, not %.0f", event, got, lost)
		}
	}
	// The phases, and when it recovers: 900 of 4000 in the 4 s of the event.
	_, r := happened(t, "", "8Mbit/s", "{at: 3s, link: a/wan, down: 4s, detected: 900ms, name: cut}", "x loss <= 20%, x loss = 0 after cut, x loss <= 1% before cut")
	e := r.Events[0].Expectations[0]
	if r.Verdict != "fail" || e.Before.Measured == nil || !e.Before.Holds || e.During.Holds || math.Abs(*e.During.Measured-22.5) > 0.1 || !e.After.Holds || e.RecoversS == nil || *e.RecoversS < 0.9 || *e.RecoversS > 1.05 {
		t.Errorf("%s: %+v %+v %+v, recovers %v", r.Verdict, e.Before, e.During, e.After, e.RecoversS)
	}
	if o := r.Expectations[0]; o.Holds || o.Phase != "during cut" || !strings.Contains(o.Why.Text.String(), "the link was down from 3.00 s to 7.00 s, and the routes followed 900 ms later") || !r.Expectations[1].Holds || !r.Expectations[2].Holds {
		t.Errorf("%+v, %s", o, o.Why.Text)
	}
}

// A link that fades carries its new rate, to a packet; over a time, the mean of both. A shape that follows keeps the carrier's queue empty.
func TestFade(t *testing.T) {
	for event, mean := range map[string]float64{
		"{at: 2s, link: a/wan, sends: 5Mbit/s, lasts: 4s}":                       5,
		"{at: 2s, link: a/wan, sends: 5Mbit/s, over: 4s}":                        (18 + 5) / 2.0, // from the shape's 18 Mbit/s, which is below the link's 20
		"{at: 2s, link: b/wan, receives: 5Mbit/s, lasts: 4s}":                    5,
		"{at: 2s, link: b/wan, sends: 5Mbit/s, lasts: 4s}":                       18,
		"{at: 2s, link: a/wan, sends: 5Mbit/s, delay: 9ms, loss: 1%, lasts: 4s}": 5 * 0.99,
	} {
		_, r := happened(t, "", "30Mbit/s", event, "x rate >= 1Mbit/s from 2.2s to 6s, x rate >= 1Mbit/s from 7s to 9s")
		carried := 0.0
		for _, row := range r.Links {
			if row.From == "a/wan" {
				carried = float64(row.CarriedBps) / 1e6
			}
		}
		// The whole time has 10 s: 6 s at the shape's 18, and 4 s at the mean. Then the carrier's full queue, of 250 kB, goes out besides.
		want := (6*18 + 4*mean) / 10
		if mean != 18 && !strings.Contains(event, "over") {
			want += 0.2
		}
		if strings.Contains(event, "over") {
			want = (2*18 + 4*(20+5)/2.0 + 4*5) / 10
			want -= 4 * 2 * (2 / 15.0) / 2 / 10 // while the link carries more than the shape lets through
		}
		if strings.Contains(event, "loss") {
			want = (6*18+4*5)/10.0 + 0.2 // what comes to the link
		}
		if math.Abs(carried-want) > 0.12 {
			t.Errorf("%s: %.2f Mbit/s are carried, not %.2f", event, carried, want)
		}
	}
	for follows, most := range map[string]float64{"follows-after: 0s,": 3, "follows-after: 20ms,": 60, "": 410} {
		_, r := happened(t, follows, "30Mbit/s", "{at: 2s, link: a/wan, sends: 5Mbit/s, lasts: 4s}", "x loss <= 100%")
		wait := 0.0
		for _, l := range r.Links {
			if l.From == "a/wan" && l.QueueDelay != nil {
				wait = l.QueueDelay.Max
			}
		}
		if wait > most || follows == "" && wait < 390 {
			t.Errorf("%q: packets wait up to %.1f ms at the carrier, of at most %.0f", follows, wait, most)
		}
	}
}

// No packet waits at a carrier that only meters, also after an event that changes no rate.
func TestEventMakesNoQueueAtContract(t *testing.T) {
	_, r := happened(t, "", "8Mbit/s", "{at: 9s, link: a/wan, delay: 7ms}", "x loss <= 100%", "{at: a/wan, sends: 20Mbit/s}", "{at: a/wan, framing: ethernet-vlan-vlan, contract: {rate: 20Mbit/s, burst: 9kB}}")
	if d := r.Traffic[0].Delay; d.Max-d.P50 > 0.01 {
		t.Errorf("packets take %.3f ms, and %.3f at most", d.P50, d.Max)
	}
}

// Events that cannot be are refused, with the reason.
func TestNoSuchEvent(t *testing.T) {
	for event, want := range map[string]string{
		"{at: 3s, link: a/wan}":                                                              "the event changes nothing",
		"{at: 3s, link: a/lan, down: 1s}":                                                    "no link ends at a/lan",
		"{at: 3s, link: a/wam, down: 1s}":                                                    "did you mean `a/wan`",
		"{at: 3s, link: a/wan, down: 1s, sends: 1Mbit/s}":                                    "changes in no other way",
		"{at: 12s, link: a/wan, down: 1s}":                                                   "is over after 10s",
		"{at: 3s, link: a/wan, sends: 1Mbit/s, over: 3s, lasts: 2s}":                         "takes 3s, and the event lasts 2s",
		"{at: 3s, link: a/wan, sends: 1Mbit/s}, {at: 4s, link: b/wan, down: 1s}":             "at the same time",
		"{at: 3s, link: a/wan, down: 1s, name: x}, {at: 5s, link: a/wan, down: 1s, name: x}": "two events of the rehearsal `run` are named `x`",
	} {
		text := strings.NewReplacer("FOLLOWS", "", "RATE", "1Mbit/s", "EVENT", event, "EXPECT", "").Replace(ringFile)
		if _, err := policyfile.Parse("ring.yaml", []byte(text), time.LoadLocation); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", event, err, want)
		}
	}
	text := strings.NewReplacer("FOLLOWS", "", "RATE", "1Mbit/s", "EVENT", "{at: 3s, link: a/wan, down: 1s, name: cut}", "EXPECT", "x loss = 0 during cat").Replace(ringFile)
	if _, err := policyfile.Parse("ring.yaml", []byte(text), time.LoadLocation); err == nil || !strings.Contains(err.Error(), "did you mean `cut`") {
		t.Errorf("an event that is not there: %v", err)
	}
}
