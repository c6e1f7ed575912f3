package measure

import (
	"fmt"
	"slices"
	"testing"
)

func waits(max float64) *Milliseconds { return &Milliseconds{Max: max, P99: max / 2} }

// overviewed is a result with places that are blamed, full, dropping and idle.
func overviewed() *Result {
	class := func(name string, drops uint64, max float64) Class {
		return Class{Class: name, Drops: Drops{QueueFull: drops}, QueueDelay: waits(max)}
	}
	promise := func(c Class, sent, promised int64) Class {
		c.SentBps, c.PromisedBps = sent, &promised
		return c
	}
	return &Result{
		Interfaces: []Interface{
			{Node: "a", Interface: "calm", Direction: "out", PolicyAt: "up", SentBps: 10, RateBps: 100, Classes: []Class{promise(class("voice", 0, 0.1), 10, 100)}},
			{Node: "a", Interface: "busy", Direction: "out", PolicyAt: "up", SentBps: 90, RateBps: 100, Classes: []Class{promise(class("voice", 0, 5), 60, 100), promise(class("voice/inner", 0, 5), 30, 20)}},
			{Node: "a", Interface: "quick", Direction: "out", PolicyAt: "up", SentBps: 99, RateBps: 100, Classes: []Class{class("voice", 0, 0.9)}},
			{Node: "a", Interface: "half", Direction: "out", PolicyAt: "up", SentBps: 89, RateBps: 100, Classes: []Class{class("voice", 0, 50)}},
			{Node: "b", Interface: "drops", Direction: "in", SentBps: 50, RateBps: 100, Classes: []Class{class("voice", 2, 3), class("voice/inner", 2, 3), class("rest", 5, 9)}},
			{Node: "b", Interface: "blamed", Direction: "out", PolicyAt: "up", SentBps: 20, RateBps: 100, Classes: []Class{promise(class("voice", 0, 1), 20, 10)}},
			{Node: "b", Interface: "marks", Direction: "out", SentBps: 20, RateBps: 100, Classes: []Class{class("voice", 0, 7)}},
		},
		Links: []Link{{From: "c/wan", CarriedBps: 5, SendsBps: 10, Drops: 3, Lost: 4, QueueDelay: waits(4)}, {From: "d/wan", CarriedBps: 6, SendsBps: 10, Lost: 1}},
		Expectations: []Outcome{
			{Holds: true},
			{Of: "talk, reverse", Why: &Why{Node: "b", Interface: "blamed", Direction: "out"}},
			{Why: &Why{Node: "b", Interface: "marks", Direction: "out", Reason: byMark}},
			{Why: &Why{Node: "d", Interface: "wan", Direction: byLink}},
			{Why: &Why{}},
		},
		Traffic: []Row{
			{Name: "talk", Direction: "forward", Class: "voice", TrafficFigures: TrafficFigures{Delay: waits(10)}},
			{Name: "talk", Direction: "reverse", Class: "voice", TrafficFigures: TrafficFigures{}},
			{Name: "flood", Direction: "forward", Class: "rest", TrafficFigures: TrafficFigures{Loss: 0.9}},
			{Name: "loses", Direction: "forward", Class: "voice", TrafficFigures: TrafficFigures{Loss: 0.1}},
			{Name: "late", Direction: "forward", Class: "voice", TrafficFigures: TrafficFigures{Late: ptr(0.2)}},
			{Name: "copy", Direction: "forward", Class: "voice", TrafficFigures: TrafficFigures{Loss: 0.3, OverTCP: true, Delay: waits(30)}},
		},
	}
}

func ptr(v float64) *float64 { return &v }

// Places lists first those that failed expectations blame, then those that dropped packets, then the fullest. A place is full if it dropped packets, or
// if packets waited there and it was blamed or sent nearly its rate.
func TestPlaces(t *testing.T) {
	var got []string
	for _, u := range overviewed().Places() {
		got = append(got, fmt.Sprintf("%s %d %g %t %t", u.Where, u.Drops, u.LongestMs, u.Blamed, u.Full()))
	}
	want := []string{"carrier of d/wan 1 0 true true", "b/blamed out 0 1 true true", "b/drops in 7 9 false true", "carrier of c/wan 7 4 false true",
		"a/quick out 0 0.9 false false", "a/busy out 0 5 false true", "a/half out 0 50 false false", "b/marks out 0 7 false false", "a/calm out 0 0.1 false false"}
	if !slices.Equal(got, want) {
		t.Errorf("%q\nwant\n%q", got, want)
	}
	r := overviewed()
	r.Interfaces[0].UntilS = 3
	if u := r.Places(); u[len(u)-1].Policy != "up" || u[0].Policy != "" {
		t.Errorf("of one of several policies: %+v", u)
	}
}

// WorstRows puts the rows of failed expectations first, then those with losses except TCP, then the others by delay.
func TestWorst(t *testing.T) {
	r := overviewed()
	names := func(rows []*Row) (out []string) {
		for _, row := range rows {
			out = append(out, row.Title())
		}
		return out
	}
	all := func(string) bool { return true }
	if rows, left := r.WorstRows(all, 6); left != 0 || !slices.Equal(names(rows), []string{"talk", "talk, reverse", "flood", "loses", "late", "copy"}) {
		t.Errorf("all: %q, and %d", names(rows), left)
	}
	if rows, left := r.WorstRows(all, 5); left != 1 || !slices.Equal(names(rows), []string{"talk, reverse", "late", "loses", "flood", "copy"}) {
		t.Errorf("five of six: %q, and %d", names(rows), left)
	}
	if rows, left := r.WorstRows(func(c string) bool { return c == "rest" }, 1); left != 0 || len(rows) != 1 || rows[0].Name != "flood" {
		t.Errorf("of one class: %q, and %d", names(rows), left)
	}
	where := func(list []*Interface) (out []string) {
		for _, f := range list {
			out = append(out, f.Interface)
		}
		return out
	}
	shown, left, idle := r.WorstInterfaces(3)
	if !slices.Equal(where(shown), []string{"blamed", "drops", "half"}) || !slices.Equal(where(left), []string{"busy", "quick", "calm"}) || !slices.Equal(where(idle), []string{"marks"}) {
		t.Errorf("%q, %q, %q", where(shown), where(left), where(idle))
	}
	if shown, left, _ := r.WorstInterfaces(6); len(shown) != 6 || left != nil || shown[0].Interface != "calm" {
		t.Errorf("all six: %q, %q", where(shown), where(left))
	}
}

// PromiseUse finds the outgoing interface at which a class sent the largest part of its promise. Nested entries of the same name count.
func TestPromiseUse(t *testing.T) {
	r := overviewed()
	if u := r.PromiseUse("voice"); u == nil || u.Where != "b/blamed out" || u.SentBps != 20 || u.PromisedBps != 10 {
		t.Errorf("voice: %+v", u)
	}
	if u := r.PromiseUse("inner"); u == nil || u.Where != "a/busy out" || u.PromisedBps != 20 {
		t.Errorf("inner: %+v", u)
	}
	r.Interfaces[5].Classes[0].PerInstance = true
	if u := r.PromiseUse("voice"); u == nil || u.Where != "a/busy out" {
		t.Errorf("of each instance: %+v", u)
	}
	r.Interfaces[1].Direction = "in"
	if u := r.PromiseUse("voice"); u == nil || u.Where != "a/calm out" || r.PromiseUse("inner") != nil || r.PromiseUse("rest") != nil {
		t.Errorf("what comes in: %+v", u)
	}
}

// Only keeps the places and classes of a selection.
func TestOnly(t *testing.T) {
	r := overviewed()
	r.Hops = []HopRow{{Node: "a", Interface: "busy", At: "out", Class: "voice"}, {Node: "a", Interface: "busy", At: "out", Class: "rest"}, {Node: "b", Interface: "drops", At: "in", Class: "voice"}}
	r.Classes = []ClassResult{{Class: "voice"}, {Class: "rest"}}
	r.Series = &Series{Interfaces: []SeriesInterface{{Node: "a", Interface: "busy", Direction: "out", Classes: []SeriesClass{{Class: "voice"}, {Class: "rest"}}}, {Node: "b", Interface: "drops", Direction: "in"}}}
	if c := r.Class(&r.Series.Interfaces[0], "voice/inner"); c == nil || *c.PromisedBps != 20 || r.Class(&r.Series.Interfaces[0], "none") != nil || r.Class(&SeriesInterface{Node: "a", Interface: "busy", Direction: "in"}, "voice") != nil {
		t.Errorf("the class of a series: %+v", c)
	}
	r.Only(func(iface, direction string) bool { return iface == "a/busy" && direction == "out" || iface == "c/wan" }, func(class string) bool { return class == "voice" })
	if len(r.Interfaces) != 1 || len(r.Interfaces[0].Classes) != 1 || len(r.Links) != 1 || len(r.Traffic) != 5 || len(r.Classes) != 1 || len(r.Hops) != 1 || len(r.Series.Interfaces) != 1 || len(r.Series.Interfaces[0].Classes) != 1 {
		t.Errorf("%+v", r)
	}
}

// Turn returns the place with the fewest parts on the wrong side.
func TestTurn(t *testing.T) {
	for fails, want := range map[string]int{"": 0, "0": 1, "1": 0, "000": 3, "0011": 2, "01000111": 5, "0100": 4, "1011": 0, "10": 2, "0110": 1, "00101": 2, "111": 0} {
		var list []bool
		for _, c := range fails {
			list = append(list, c == '1')
		}
		if got := Turn(list); got != want {
			t.Errorf("%q turns at %d; want %d", fails, got, want)
		}
	}
}
