package cli_test

import (
	"math"
	"strings"
	"testing"

	"imbrel.example/imbrel/core/bound"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/worst"
)

type boundsJSON struct {
	Rehearsals []bound.Result `json:"rehearsals"`
}

// The bounds of the demo are above its rehearsed delays. Both commands show the same bounds.
func TestBoundsOfTheDemo(t *testing.T) {
	t.Parallel()
	const file = "../../examples/ternrock.yaml"
	r := imbrel(t, ".", "", nil, "bound", file, "fog", "-o", "json")
	proven := parsed[boundsJSON](t, r.out).Rehearsals[0]
	run := imbrel(t, ".", "", nil, "rehearse", file, "fog", "-o", "json")
	seen := parsed[measure.Result](t, run.out)
	if r.status != 0 || len(proven.Paths) < 8 || seen.Bounds == nil || len(seen.Bounds.Paths) != len(proven.Paths) {
		t.Fatalf("exit %d: %d paths, with the rehearsal %v: %s", r.status, len(proven.Paths), seen.Bounds, r.err)
	}
	voice := proven.Worst("voice")
	if ms := float64(voice.Max) / 1e6; ms < 6 || ms > 7.5 || !voice.Kept || voice.Calls != 6 {
		t.Errorf("voice: %+v", voice)
	}
	for i := range proven.Paths {
		p := &proven.Paths[i]
		if d := seen.Longest().Seen(p); d == 0 || d > p.Max || p.Max < p.Min || seen.Bounds.Paths[i].Max != p.Max {
			t.Errorf("%s: %v seen, %v proven, at least %v", p.Name(), d, p.Max, p.Min)
		}
	}
	for _, w := range seen.Warnings {
		if w.Name == "bound-exceeded" {
			t.Error(w.Text)
		}
	}
	text := imbrel(t, ".", "", nil, "rehearse", file, "fog").out
	if !strings.Contains(text, "  calls in voice: at most 6.54 ms, proven; ") || !strings.Contains(text, " seen; no loss is possible\n") {
		t.Errorf("a rehearsal does not say what is proven:\n%s", text)
	}
	hops := imbrel(t, ".", "", nil, "bound", file, "fog", "--hops", "--class", "voice").out
	for _, want := range []string{"the carrier of ternrock/radio", "to lower the wait at ternrock/radio out: raise the rate", "impossible"} {
		if !strings.Contains(hops, want) {
			t.Errorf("no %q in\n%s", want, hops)
		}
	}
	if strings.Contains(hops, "chart-sync") {
		t.Errorf("--class voice shows others:\n%s", hops)
	}
}

const boundFile = `imbrel: 1
classes: [{name: voice, match: [{to-port: 16384-32767}]}, {name: bulk, match: [{to-port: 80}]}]
policies:
  - {name: p, treat: [{class: voice, priority: 1, police: {rate: 1Mbit/s, burst: 2kB}}, {class: bulk, at-least: 60%, queue: {drop: fq-codel}}, {class: rest}]}
attach: [{policy: p, at: a/far out}]
network:
  nodes:
    - {name: a, interfaces: [{name: lan, rate: 1Gbit/s, subnets: [10.1.0.0/16]}, {name: far, rate: 4Mbit/s}]}
    - {name: b, interfaces: [{name: near, rate: 4Mbit/s}, {name: lan, rate: 1Gbit/s, subnets: [10.2.0.0/16]}]}
  links: [{ends: [{at: a/far}, {at: b/near}], delay: 1ms}]
rehearsals:
  - name: r
    lasts: 1s
    traffic:
      - {name: calls, calls: 3, codec: g711, between: [10.1.0.1, 10.2.0.1]}
      - {name: copies, tcp: 1, from: 10.1.0.2, to: 10.2.0.2, to-port: 80}
    expect:
`

// Expectations of bounds hold, fail, or are not proven, each with its reason. A wrong expectation is an error.
func TestExpectedBounds(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	put(t, dir, "b.yaml", boundFile+"      - voice delay bound <= 6ms\n      - voice loss bound = 0\n      - voice delay bound <= 3ms\n      - bulk delay bound <= 1s\n      - copies loss bound = 0\n      - voice delay bound at a/far out <= 5ms\n")
	r := imbrel(t, dir, "", nil, "rehearse", "b.yaml", "-o", "json")
	result := parsed[measure.Result](t, r.out)
	want := []struct {
		holds  bool
		reason string
		why    string
	}{{true, "", ""}, {true, "", ""}, {false, "", "To lower this: "}, {false, "not proven", "nothing bounds what comes to \"bulk\" at a/far out: `copies` is TCP"}, {false, "not proven", "the queue of `bulk` at a/far out may drop some before it is full"}, {true, "", ""}}
	if r.status != 1 || len(result.Expectations) != len(want) {
		t.Fatalf("exit %d: %s%s", r.status, r.out, r.err)
	}
	for i, w := range want {
		o := &result.Expectations[i]
		if o.Holds != w.holds || o.Reason.String() != w.reason || (w.why != "") != (o.Why != nil) || o.Why != nil && !strings.Contains(o.Why.Text.String(), w.why) {
			t.Errorf("%s: holds %v, reason %q, why %+v", o.Text, o.Holds, o.Reason, o.Why)
		}
	}
	for line, says := range map[string]string{
		"voice jitter bound <= 5ms":               "jitter has no bound that can be proven: there is one of delay or loss",
		"voice delay bound >= 5ms":                "a bound is compared with <=, < or =",
		"voice delay bound <= 5ms from 0s to 1s":  "a bound holds at all times",
		"voice delay <= 5ms":                      "needs one of mean, p50, p95, p99, p99.9, max or bound after it",
		"voice : bulk delay bound ratio 0.5..2.0": "needs one of mean",
	} {
		put(t, dir, "wrong.yaml", boundFile+"      - "+`"`+line+`"`+"\n")
		if r := imbrel(t, dir, "", nil, "rehearse", "wrong.yaml"); r.status == 0 || !strings.Contains(strings.Join(strings.Fields(r.err), " "), says) {
			t.Errorf("%s: exit %d: %s", line, r.status, r.err)
		}
	}
}

// What the search finds is a rehearsal that shows the same delay.
func TestWorstIsARehearsal(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	put(t, dir, "b.yaml", boundFile+"      - voice delay max <= 6ms\n")
	r := imbrel(t, dir, "", nil, "rehearse", "b.yaml", "r", "--worst", "voice", "--worst-to", "worst.yaml", "-o", "json")
	found := parsed[worst.Result](t, r.out)
	if r.status != 0 || found.Bound == nil || found.Found > *found.Bound || found.Found < found.Drawn || len(found.Senders) == 0 {
		t.Fatalf("exit %d: %+v: %s", r.status, found, r.err)
	}
	again := parsed[measure.Result](t, imbrel(t, dir, "", nil, "rehearse", "worst.yaml", "r-worst", "-o", "json").out)
	if len(again.Traffic) == 0 || math.Abs(again.Traffic[0].Delay.Max-found.Found) > 1e-9 {
		t.Errorf("found %v ms, and again %+v", found.Found, again.Traffic)
	}

	// Traffic without a bound sends other packets: in both directions, with its marks, and from a load.
	// Of the expectations those of the class stay.
	more := strings.NewReplacer("rehearsals:", "loads: {more: [{name: maps, requests: 1, answer: 9kB, think: 1s, from: 10.2.0.3, to: 10.1.0.3, from-port: 80}, {name: echoes, rate: 100kbit/s, packet: 900B, arrivals: poisson, dscp: af21, ecn: true, df: false, from: 10.1.0.4, to: 10.2.0.4, to-port: 80, starts: 200ms}]}\nrehearsals:",
		"    expect:", "      - {load: more}\n    expect:", "lasts: 1s", "lasts: 1s\n    warm-up: 300ms").Replace(boundFile) + "      - voice delay max <= 6ms\n      - copies goodput >= 1kbit/s\n"
	put(t, dir, "more.yaml", more)
	found = parsed[worst.Result](t, imbrel(t, dir, "", nil, "rehearse", "more.yaml", "r", "--worst", "voice", "--worst-to", "more-worst.yaml", "-o", "json").out)
	if *found.Part < 0.99 || found.Found > *found.Bound {
		t.Errorf("found %v ms of %v", found.Found, *found.Bound)
	}
	again = parsed[measure.Result](t, imbrel(t, dir, "", nil, "rehearse", "more-worst.yaml", "r-worst", "-o", "json").out)
	if len(again.Traffic) == 0 || math.Abs(again.Traffic[0].Delay.Max-found.Found) > 1e-9 {
		t.Errorf("found %v ms, and again %+v", found.Found, again.Traffic)
	}
	if len(again.Expectations) != 1 || again.Expectations[0].Text != "voice delay max <= 6ms" {
		t.Errorf("expectations %+v", again.Expectations)
	}
	streams := 0
	for _, c := range found.Senders {
		if c.Stream != nil {
			streams++
		}
	}
	if streams == 0 {
		t.Errorf("no stream is in the place of others: %+v", found.Senders)
	}
	for _, c := range [][]string{
		{"--worst", "voice", "--worst-to", "worst.yaml", "there is such a file"},
		{"--worst-to", "other.yaml", "say of which class"},
		{"--worst", "bulks", "no traffic of `r` is in `bulks`"},
		{"--worst", "voice", "--hops", "it is about many runs"},
	} {
		args := append([]string{"rehearse", "b.yaml", "r"}, c[:len(c)-1]...)
		if r := imbrel(t, dir, "", nil, args...); r.status == 0 || !strings.Contains(r.err, c[len(c)-1]) {
			t.Errorf("%v: exit %d: %s", args, r.status, r.err)
		}
	}
	if r := imbrel(t, dir, "", nil, "bound", "b.yaml", "none"); r.status == 0 || !strings.Contains(r.err, "there is no rehearsal `none`") {
		t.Errorf("exit %d: %s", r.status, r.err)
	}
}

// A call counts whole: the bound of the class with calls is that of both directions, also where no policy takes one of them. A class with other
// traffic, which may be lost, is not said to lose nothing.
func TestBoundsOfCallsCountBothDirections(t *testing.T) {
	t.Parallel()
	text := `imbrel: 1
classes: [{name: voice, match: [{protocol: udp, to-port: 16384-32767}]}]
policies: [{name: up, shape: 9Mbit/s, treat: [{class: voice, priority: 1, at-most: 1Mbit/s}, {class: rest}]}]
attach: [{policy: up, at: a/wan out}]
network:
  nodes:
    - {name: a, interfaces: [{name: lan, rate: 1Gbit/s, subnets: [10.1.0.0/16]}, {name: wan, rate: 100Mbit/s}]}
    - {name: b, interfaces: [{name: wan, rate: 100Mbit/s}, {name: lan, rate: 1Gbit/s, subnets: [10.2.0.0/16]}]}
  links: [{ends: [{at: a/wan, sends: 10Mbit/s}, {at: b/wan, sends: 10Mbit/s}], delay: 2ms}]
rehearsals:
  - name: run
    lasts: 3s
    traffic:
      - {name: talk, calls: 3, codec: g711, between: [10.1.0.1, 10.2.0.1]}
      - {name: back, rate: 12Mbit/s, packet: 1200B, from: 10.2.0.2, to: 10.1.0.2, to-port: 80}
`
	r := imbrel(t, t.TempDir(), text, nil, "rehearse", "-")
	if !strings.Contains(r.out, "  calls in voice: at most ") || !strings.Contains(r.out, "with a full queue at the carrier of b/wan, proven") || strings.Contains(r.out, "calls in rest") || strings.Contains(r.out, "no loss is possible") {
		t.Errorf("one policy:\n%s", r.out)
	}
	both := strings.Replace(text, "at: a/wan out}", "at: [a/wan out, b/wan out]}", 1)
	r = imbrel(t, t.TempDir(), both, nil, "rehearse", "-")
	if !strings.Contains(r.out, "  calls in voice: at most ") || !strings.Contains(r.out, "no loss is possible") {
		t.Errorf("both policies:\n%s", r.out)
	}
	if r = imbrel(t, t.TempDir(), both, nil, "rehearse", "-", "--detail"); !strings.Contains(r.out, "  calls in voice: at most ") || !strings.Contains(r.out, "  rest: at most ") {
		t.Errorf("in detail:\n%s", r.out)
	}
}
