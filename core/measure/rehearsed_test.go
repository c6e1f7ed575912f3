package measure_test

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policyfile"
	"imbrel.example/imbrel/core/simulate"
)

// rehearse runs a line of 10 Mbit/s with a policy's entries, a traffic and expectations.
func rehearse(t *testing.T, entries, traffic, expect string) *measure.Result {
	t.Helper()
	f, err := policyfile.Parse("line", []byte(`imbrel: 1
times: {work: {from: "08:00", to: "17:00"}, night: {from: "17:00", to: "08:00"}}
classes:
  - {name: voice, match: [{to-port: 16384-32767}]}
  - {name: files, match: [{protocol: tcp}]}
policies: [{name: up, treat: [`+entries+`]}]
attach: [{policy: up, at: west/wan out}, {policy: up, at: east/wan out}]
network:
  nodes:
    - {name: west, interfaces: [{name: lan, rate: 1Gbit/s, subnets: [10.1.0.0/16]}, {name: wan, rate: 10Mbit/s}]}
    - {name: east, interfaces: [{name: wan, rate: 10Mbit/s}, {name: lan, rate: 1Gbit/s, subnets: [10.2.0.0/16]}]}
  links: [{ends: [{at: west/wan}, {at: east/wan}], delay: 5ms}]
rehearsals:
  - {name: run, lasts: 5s, starts-at: "2026-03-02T16:59:58", traffic: [`+traffic+`], expect: [`+expect+`]}
`), time.LoadLocation)
	if err != nil {
		t.Fatal(err)
	}
	r, err := simulate.Run(f, &f.Rehearsals[0], simulate.Options{Seed: 1})
	if err != nil {
		t.Fatal(err)
	}
	return r
}

const copies = "{name: copy, tcp: 2, from: 10.1.0.8, to: 10.2.0.8}"

// An entry to which no packet came in any rehearsal has a warning in each; one to which some came in one of them has none.
func TestIdle(t *testing.T) {
	const entries, flood = "{class: voice, priority: 1, at-most: 1Mbit/s}, {class: files, at-least: 10%}, {class: rest}", "{name: flood, rate: 1Mbit/s, packet: 700B, from: 10.1.0.9, to: 10.2.0.9, to-port: 9}"
	warned := func(results ...*measure.Result) string {
		measure.Idle(results)
		var out []string
		for _, r := range results {
			for _, w := range r.Warnings {
				if w.Name == "entry-idle" {
					out = append(out, w.Text.String())
				}
			}
		}
		return strings.Join(out, "\n")
	}
	one := warned(rehearse(t, entries, flood, ""))
	two := warned(rehearse(t, entries, flood, ""), rehearse(t, entries, flood+", "+copies, ""))
	if strings.Count(one, "`voice`") != 1 || strings.Count(one, "`files`") != 1 || strings.Count(two, "`voice`") != 2 || strings.Contains(two, "`files`") {
		t.Errorf("after one:\n%s\nafter two:\n%s", one, two)
	}
}

// Each direction of each traffic has a row, once, in the order of the file: one that sent nothing too.
func TestRowsOfTheTraffic(t *testing.T) {
	stream := func(name, more string) string {
		return "{name: " + name + ", rate: 1Mbit/s, packet: 700B, from: 10.1.0.9, to: 10.2.0.9, to-port: 9" + more + "}"
	}
	r := rehearse(t, "{class: voice, priority: 1, at-most: 1Mbit/s}, {class: rest}",
		strings.Join([]string{stream("one", ""), stream("none", ", starts: 4999ms, lasts: 1us"), "{name: talk, calls: 1, codec: g711, between: [10.1.0.7, 10.2.0.7]}", stream("last", "")}, ", "), "")
	var rows []string
	for _, row := range r.Traffic {
		rows = append(rows, row.Name+" "+row.Direction)
	}
	if want := []string{"one forward", "none forward", "talk forward", "talk reverse", "last forward"}; !slices.Equal(rows, want) {
		t.Errorf("the rows are of %q; want %q", rows, want)
	}
}

// The rate of a class with both directions of TCP is that of the data; acknowledgements are none of it.
func TestAcknowledgementsAreNoRate(t *testing.T) {
	r := rehearse(t, "{class: files, at-least: 50%}", copies, "files rate >= 9Mbit/s, copy rate >= 9Mbit/s")
	class, traffic := *r.Expectations[0].Measured, *r.Expectations[1].Measured
	if class != traffic || math.Abs(class-float64(r.Traffic[0].RateBps)) > 1 || !r.Expectations[0].Holds {
		t.Errorf("the class has %.0f bit/s, the traffic %.0f, and its data %d", class, traffic, r.Traffic[0].RateBps)
	}
}

// Entries of one class that differ in `when` have one promise.
func TestAlternativesArePromisedOnce(t *testing.T) {
	r := rehearse(t, "{class: files, at-least: 40%, when: work}, {class: files, at-least: 40%, when: night}, {class: voice, at-least: 10%}, {class: rest, at-least: 10%}", copies,
		"files rate at west/wan out >= 100% of promise")
	if o := r.Expectations[0]; !o.Holds || o.Limit < 6.6e6 || o.Limit > 6.7e6 {
		t.Errorf("%+v", o)
	}
}

// Each statistic of a delay is that of its name, and a ratio of two subjects is a ratio.
func TestStatistics(t *testing.T) {
	var expect []string
	names := []string{"mean", "p50", "p95", "p99", "max"}
	for _, s := range names {
		expect = append(expect, "noise delay "+s+" <= 1s")
	}
	r := rehearse(t, "{class: rest}", "{name: noise, rate: 7Mbit/s, packet: 1000B, arrivals: poisson, from: 10.1.0.9, to: 10.2.0.9}, {name: half, rate: 1Mbit/s, packet: 1000B, from: 10.1.0.9, to: 10.2.0.9}",
		strings.Join(append(expect, "noise : half rate ratio 6..8"), ", "))
	d := r.Traffic[0].Delay
	for i, want := range []float64{d.Mean, d.P50, d.P95, d.P99, d.Max} {
		if got := *r.Expectations[i].Measured; math.Abs(got-want) > 1e-3 || want <= 5 {
			t.Errorf("%s: %f ms, and the row says %f", names[i], got, want)
		}
	}
	if o := r.Expectations[5]; !o.Holds || o.Unit != "ratio" || math.Abs(*o.Measured-7) > 0.3 {
		t.Errorf("%+v", o)
	}
	if fmt.Sprint(d.P50 <= d.P95, d.P95 <= d.P99, d.P99 <= d.Max, d.P50 < d.Max) != "true true true true" {
		t.Errorf("%+v", d)
	}
}

// The goodput of flows that end is over the time they took, not over the rest of the rehearsal.
func TestGoodputUntilTheEndOfAFlow(t *testing.T) {
	r := rehearse(t, "{class: files, at-least: 50%}", "{name: copy, tcp: 2, bytes: 500kB, from: 10.1.0.8, to: 10.2.0.8}", "copy goodput >= 1Mbit/s")
	if f := r.Traffic[0].TCP; f == nil || f.GoodputBps < 5e6 || f.LowestBps < 2e6 {
		t.Errorf("two flows of 500 kB at 10 Mbit/s: %+v", f)
	}
}
