package cli_test

import (
	"strings"
	"testing"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/internal/render"
)

// What find says holds, holds when it is written into the file, and what it says fails,
// fails; with an expectation of the file and with one of its own.
func TestFind(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	put(t, dir, "p.yaml", checkable)
	with := func(old, now string) bool {
		t.Helper()
		text := strings.Replace(checkable, old, now, 1)
		text = strings.Replace(text, "expect: [", "expect: [flood loss <= 30%, ", 1)
		r := parsed[measure.Result](t, imbrel(t, dir, text, nil, "rehearse", "-", "-o", "json").out)
		for _, o := range r.Expectations {
			if o.Text == "voice loss = 0" && strings.HasPrefix(old, "rate: 600") || o.Text == "flood loss <= 30%" && old[0] == 's' {
				return o.Holds
			}
		}
		t.Fatal("no such expectation")
		return false
	}
	for _, c := range []struct{ path, old, from, to, until string }{
		{"policies.up.treat.voice.police.rate", "rate: 600kbit/s", "300kbit/s", "900kbit/s", "voice loss = 0"},
		{"policies.up.shape", "shape: 9Mbit/s", "6Mbit/s", "10Mbit/s", "flood loss <= 30%"},
	} {
		r := imbrel(t, dir, "", nil, "find", "p.yaml", "run", c.path, c.from+".."+c.to, c.until, "-o", "json")
		got := parsed[render.Found](t, r.out)
		if len(got.Runs) != 1 || got.Runs[0].Holds == "" || got.Runs[0].Turns != 1 || r.status != 0 {
			t.Fatalf("%s: exit %d: %s%s", c.path, r.status, r.out, r.err)
		}
		key, _, _ := strings.Cut(c.old, ":")
		if run := got.Runs[0]; !with(c.old, key+": "+run.Holds) || with(c.old, key+": "+run.Fails) {
			t.Errorf("%s: %s is said to hold and %s to fail, and rehearsed they do not", c.path, run.Holds, run.Fails)
		}
		if line := strings.Split(checkable, "\n")[got.Line-1]; !strings.Contains(line, got.Written) || !strings.Contains(c.old, got.Written) {
			t.Errorf("%s is at line %d, %q", c.path, got.Line, line)
		}
	}
	both := imbrel(t, dir, "", nil, "find", "p.yaml", "run", "rehearsals.run.traffic.flood.rate", "1Mbit/s..15Mbit/s", "calls delay p99 <= 20ms", "--both")
	for _, want := range []string{"Without policies it holds at ", "With the policies it holds everywhere from 1Mbit/s to 15Mbit/s.", "p.yaml:33 says 12Mbit/s now.", "▇"} {
		if both.status != 0 || !strings.Contains(both.out, want) {
			t.Errorf("exit %d, want %q:\n%s%s", both.status, want, both.out, both.err)
		}
	}
	if r := imbrel(t, dir, "", nil, "find", "p.yaml", "run", "policies.up.shape", "6Mbit/s..7Mbit/s", "flood loss <= 1%"); r.status != 1 || !strings.Contains(r.out, "It holds nowhere from 6Mbit/s to 7Mbit/s.") {
		t.Errorf("what holds nowhere: exit %d\n%s%s", r.status, r.out, r.err)
	}
	for args, want := range map[string]string{
		"policies.up.shape":                                            "3 were given",
		"policies.up.shape 1Mbit/s voice,loss,=,0":                     "is not a range: write FIRST..LAST",
		"policies.up.shap 1Mbit/s..2Mbit/s X":                          "is empty after `X`|is not a metric",
		"policies.up.shap 1Mbit/s..2Mbit/s voice_loss":                 "is not a metric",
		"policies.up.shap 1Mbit/s..2Mbit/s voice,loss,=,0":             "no number is written there",
		"policies.up.name 1Mbit/s..2Mbit/s voice,loss,=,0":             "is not a number",
		"policies.up.shape 1..2 voice,loss,=,0":                        "is a rate, and 1 is a count",
		"policies.up.shape 1Mbit/s..2ms voice,loss,=,0":                "not two values of one kind",
		"policies.up.shape 9Mbit/s..9.5Mbit/s vioce,loss,=,0":          "did you mean `voice`",
		"policies.up.shape 100bit/s..9Mbit/s voice,loss,=,0":           "the first value",
		"policies.up.shape 500bit/s..9Mbit/s voice,loss,=,0":           "with 500bit/s the file is not valid",
		"policies.up.shape 6Mbit/s..9Mbit/s voice,loss,=,0 --repeat 3": "--repeat",
	} {
		words := strings.Fields(args)
		for i := range words {
			words[i] = strings.ReplaceAll(words[i], ",", " ")
		}
		r := imbrel(t, dir, "", nil, append([]string{"find", "p.yaml", "run"}, words...)...)
		said := false
		for _, w := range strings.Split(want, "|") {
			said = said || strings.Contains(r.err, w)
		}
		if r.status != 2 || !said {
			t.Errorf("%s: exit %d: %s; want %q", args, r.status, r.err, want)
		}
	}
}

// TestFindTellsOfRuinedCalls: a value with which the expectation holds may ruin calls that it is not about.
func TestFindTellsOfRuinedCalls(t *testing.T) {
	t.Parallel()
	text := strings.ReplaceAll(pair, "SENDS", "10Mbit/s") + `    traffic: [{name: calls, calls: 2, codec: g711, between: [10.1.0.1, 10.2.0.1], dscp: ef}, {name: flood, rate: 12Mbit/s, packet: 1400B, from: 10.1.0.2, to: 10.2.0.2}]
policies: [{name: p, shape: 9Mbit/s, treat: [{class: voice, priority: 1, police: {rate: 100kbit/s, burst: 3kB}}, {class: rest}]}]
attach: [{policy: p, at: west/wan out}]
`
	r := imbrel(t, t.TempDir(), text, nil, "find", "-", "run", "policies.p.shape", "4Mbit/s..9Mbit/s", "flood rate >= 6Mbit/s")
	if flat := strings.Join(strings.Fields(r.out), " "); r.status != 0 || !strings.Contains(flat, "of 2 calls of `calls` are ruined") || !strings.Contains(flat, "But with ") {
		t.Errorf("exit %d: %s%s", r.status, r.out, r.err)
	}
}
