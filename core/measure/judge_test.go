package measure

import (
	"testing"

	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

// The worst of several is the one that keeps the expectation least; what has no value is worse than any value, and what is not
// asked for is no candidate.
func TestWorse(t *testing.T) {
	none, other := finding{absent: words.NoneArrived.With()}, finding{other: true}
	v := func(v float64) finding { return finding{value: v} }
	for _, c := range []struct {
		expect string
		a, b   finding
		worse  bool
	}{
		{"x loss <= 1%", v(0.02), v(0.01), true}, {"x loss <= 1%", v(0.01), v(0.02), false}, {"x loss <= 1%", v(0.01), v(0.01), false},
		{"x mos >= 4", v(3), v(4), true}, {"x mos >= 4", v(4), v(3), false}, {"x loss < 1%", v(0.02), v(0.01), true}, {"x mos > 4", v(3), v(4), true},
		{"x loss = 0", v(0.2), v(0.1), true}, {"x loss = 0", v(0.1), v(0.2), false}, {"x loss = 5%", v(0.01), v(0.06), true},
		{"x delay p99 <= 1ms", none, v(0), true}, {"x delay p99 <= 1ms", v(0), none, false}, {"x delay p99 <= 1ms", none, none, false},
		{"x mos >= 4", other, v(5), false}, {"x mos >= 4", v(5), other, true}, {"x mos >= 4", other, other, false},
	} {
		e, err := policy.ParseExpectation(c.expect)
		if err != nil {
			t.Fatal(err)
		}
		if got := worse(&e, &c.a, &c.b); got != c.worse {
			t.Errorf("%s: %+v is worse than %+v: %t", c.expect, c.a, c.b, got)
		}
	}
}

// A class within itself counts once, at its outermost.
func TestClassesAt(t *testing.T) {
	f := &Interface{Classes: []Class{{Class: "office"}, {Class: "office/voice"}, {Class: "office/office"}, {Class: "guests/office"}, {Class: "rest"}, {Class: "office2"}}}
	for subject, want := range map[string][]string{"office": {"office", "guests/office"}, "voice": {"office/voice"}, "rest": {"rest"}, "office/office": {"office/office"}, "none": {}} {
		got := classesAt(f, subject)
		same := len(got) == len(want)
		for i := range got {
			same = same && got[i].Class == want[i]
		}
		if !same {
			t.Errorf("%s: %d classes, want %v", subject, len(got), want)
		}
	}
}

// TestSameCause: two reasons are one when they name one line, place and class of one file.
func TestSameCause(t *testing.T) {
	one := Why{File: "a.yaml", Line: 7, Node: "west", Interface: "wan", Direction: "out", Class: "voice"}
	for n, change := range []func(*Why){
		func(w *Why) {}, func(w *Why) { w.Text = words.NoneArrived.With() },
		func(w *Why) { w.File = "b.yaml" }, func(w *Why) { w.Line = 8 }, func(w *Why) { w.Line = 0 }, func(w *Why) { w.Node = "east" },
		func(w *Why) { w.Interface = "lan" }, func(w *Why) { w.Direction = "in" }, func(w *Why) { w.Class = "rest" },
	} {
		other := one
		change(&other)
		if same := n < 2; one.SameCause(&other) != same || other.SameCause(&one) != same {
			t.Errorf("%+v and %+v are one cause: %v", one, other, !same)
		}
	}
	if nowhere := (Why{}); nowhere.SameCause(&nowhere) {
		t.Error("a reason without a line is the same as another")
	}
}
