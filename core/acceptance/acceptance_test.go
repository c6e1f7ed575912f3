package acceptance_test

import (
	"testing"
	"time"

	"imbrel.example/imbrel/core/acceptance"
	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
)

// line returns a contract of two lines on a port of 100 Mbit/s.
func line() *policy.LinkEnd {
	ef := policy.ContractLine{DSCPs: []codepoint.DSCP{codepoint.EF}}
	ef.Rate.Rate, ef.Police.Burst, ef.Red.Drop = 1*unit.MbitPerSecond, 4000, true
	others := policy.ContractLine{}
	others.Rate.Rate, others.Police.Burst, others.Peak.Rate, others.Excess, others.Red.Drop = 8*unit.MbitPerSecond, 8000, 10*unit.MbitPerSecond, 8000, true
	return &policy.LinkEnd{Contract: []policy.ContractLine{ef, others}, Interface: &policy.Interface{Rate: 100 * unit.MbitPerSecond, Framing: packet.FramingEthernet()}}
}

// Each step has its part of the rate that was bought. A packet of 1,000 bytes of IP takes 1,038 of Ethernet.
func TestSteps(t *testing.T) {
	ip := func(mbits float64) unit.Rate { return unit.Rate(mbits * 1e6 * 1000 / 1038) }
	near := func(a, b unit.Rate) bool { return a >= b-8 && a <= b+8 }
	steps := acceptance.Steps(line(), 1000)
	want := []struct {
		name  string
		kind  acceptance.Kind
		rate  float64 // Mbit/s on the line
		burst int
	}{
		{"ef at 25 %", acceptance.Below, 0.25, 0}, {"ef at 50 %", acceptance.Below, 0.5, 0}, {"ef at 75 %", acceptance.Below, 0.75, 0}, {"ef at 100 %", acceptance.Below, 1, 0},
		{"ef at 125 %", acceptance.Beyond, 1.25, 0}, {"ef, bursts of 3 packets", acceptance.InBurst, 100, 3},
		{"df at 25 %", acceptance.Below, 2, 0}, {"df at 50 %", acceptance.Below, 4, 0}, {"df at 75 %", acceptance.Below, 6, 0}, {"df at 100 %", acceptance.Below, 8, 0},
		{"df at 125 %", acceptance.Beyond, 12.5, 0}, {"df, bursts of 7 packets", acceptance.InBurst, 100, 7}, {"all at their rates", acceptance.Below, 1, 0},
	}
	if len(steps) != len(want) {
		t.Fatalf("%d steps: %+v", len(steps), steps)
	}
	for i, w := range want {
		if s := &steps[i]; s.Name != w.name || s.Kind != w.kind || !near(s.Loads[0].Rate, ip(w.rate)) || s.Loads[0].Burst != w.burst {
			t.Errorf("step %d: %+v, want %+v", i, s, w)
		}
	}
	if all := steps[12].Loads; len(all) != 2 || all[1].DSCP != 0 || !near(all[1].Rate, ip(8)) || !near(all[1].Passes, ip(10)) {
		t.Errorf("%+v", all)
	}
}

// What is within a contract must arrive, and what is beyond it must not.
func TestJudged(t *testing.T) {
	steps := acceptance.Steps(line(), 1000)
	below, beyond := &steps[3], &steps[4]
	of := func(mbits float64) int64 { return int64(mbits * 1e6 / 8 / 1038 * 10) } // packets in 10 s
	for _, c := range []struct {
		step          *acceptance.Step
		sent, arrived int64
		lossless      float64
		holds         bool
	}{
		{below, of(1), of(1), 0, true},
		{below, of(1), of(1) - 1, 0, false},
		{below, of(1), of(1) - 1, 0.001, true},
		{below, 0, 0, 0, false},
		{beyond, of(1.25), of(1), 0, true},
		{beyond, of(1.25), of(1) + 3, 0, true}, // its burst
		{beyond, of(1.25), of(1.25), 0, false}, // nobody meters
		{beyond, of(1.25), of(0.9), 0, false},
		{beyond, of(1), of(1), 0, false}, // too little was sent
	} {
		var r acceptance.Result
		o := r.Add(c.step, &c.step.Loads[0], acceptance.Met{Sent: c.sent, Arrived: c.arrived, Over: 10 * time.Second}, 1000, c.lossless)
		if o.Holds != c.holds || r.Holds != c.holds || c.holds != o.Why.IsZero() {
			t.Errorf("%s: %d of %d: %+v", c.step.Name, c.arrived, c.sent, o)
		}
	}
	var r acceptance.Result
	r.Add(below, &below.Loads[0], acceptance.Met{Sent: 10, Arrived: 9, Over: time.Second}, 1000, 0)
	if r.Add(below, &below.Loads[0], acceptance.Met{Sent: 10, Arrived: 10, Over: time.Second}, 1000, 0); r.Holds {
		t.Error("a test that failed is forgotten")
	}
}
