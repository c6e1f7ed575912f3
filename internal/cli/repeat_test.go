package cli_test

import (
	"strings"
	"testing"

	"imbrel.example/imbrel/core/compare"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/repeat"
)

// chancy is a file whose verdict is chance: Poisson arrivals at nine tenths of the link.
const chancy = `imbrel: 1
classes: [{name: work, match: [{to-port: 80}]}]
policies: [{name: up, shape: 4Mbit/s, treat: [{class: work, at-least: 50%}, {class: rest}]}]
attach: [{policy: up, at: west/wan out}]
network:
  nodes:
    - {name: west, interfaces: [{name: lan, rate: 1Gbit/s, subnets: [10.1.0.0/16]}, {name: wan, rate: 100Mbit/s}]}
    - {name: east, interfaces: [{name: wan, rate: 100Mbit/s}, {name: lan, rate: 1Gbit/s, subnets: [10.2.0.0/16]}]}
  links: [{ends: [{at: west/wan, sends: 5Mbit/s}, {at: east/wan, sends: 5Mbit/s}], delay: 2ms}]
rehearsals:
  - name: run
    lasts: 2s
    traffic:
      - {name: orders, rate: 1.8Mbit/s, packet: 500B, arrivals: poisson, from: 10.1.0.1, to: 10.2.0.1, to-port: 80}
      - {name: others, rate: 1.6Mbit/s, packet: 500B, arrivals: poisson, from: 10.1.0.2, to: 10.2.0.2}
    expect: [orders delay p99 <= 22ms, orders loss = 0]
`

// Repeats are the runs of each seed; an expectation holds in as many as it does one by one;
// shards come to the same bytes, and so does any number of processors.
func TestRepeat(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	put(t, dir, "p.yaml", chancy)
	all := imbrel(t, dir, "", nil, "rehearse", "p.yaml", "--repeat", "9", "--seed", "5", "-o", "json")
	got := parsed[struct {
		Runs    []measure.Result
		Repeats []repeat.Summary
	}](t, all.out)
	if len(got.Runs) != 9 || len(got.Repeats) != 1 {
		t.Fatalf("%d runs, %d summaries: %s", len(got.Runs), len(got.Repeats), all.err)
	}
	s := got.Repeats[0]
	holds, sum := 0, 0.0
	for i := range got.Runs {
		if one := parsed[measure.Result](t, imbrel(t, dir, "", nil, "rehearse", "p.yaml", "--seed", []string{"5", "6", "7", "8", "9", "10", "11", "12", "13"}[i], "-o", "json").out); one.Seed != got.Runs[i].Seed || *one.Expectations[0].Measured != *got.Runs[i].Expectations[0].Measured {
			t.Errorf("seed %d alone: %v, among the repeats %v", one.Seed, *one.Expectations[0].Measured, *got.Runs[i].Expectations[0].Measured)
		} else if one.Expectations[0].Holds {
			holds++
		}
		sum += *got.Runs[i].Expectations[0].Measured / 9
	}
	h := s.Expectations[0]
	if holds == 0 || holds == 9 || h.Holds != holds || h.Runs != 9 || s.Verdict != "fail" || all.status != 1 {
		t.Errorf("it holds in %d runs one by one, and in %d of %d; verdict %s, exit %d", holds, h.Holds, h.Runs, s.Verdict, all.status)
	}
	if v := h.Measured; v.Mean < sum*0.999999 || v.Mean > sum*1.000001 || v.Low >= v.Mean || v.High <= v.Mean || v.Min > v.Low || v.Max < v.Mean {
		t.Errorf("the mean is %v, and the interval %+v", sum, v)
	}
	text := imbrel(t, dir, "", nil, "rehearse", "p.yaml", "--repeat", "9", "--seed", "5").out
	for _, want := range []string{"9 runs, seeds 5 to 13", " of 9 ", "FAIL: 1 of 2 expectations does not hold in every run", " ± ", "see one run with --seed"} {
		if !strings.Contains(text, want) {
			t.Errorf("%q is missing:\n%s", want, text)
		}
	}
	var names []string
	for _, part := range []string{"3/3", "1/3", "2/3"} {
		names = append(names, part[:1]+".json")
		put(t, dir, part[:1]+".json", imbrel(t, dir, "", nil, "rehearse", "p.yaml", "--repeat", "9", "--seed", "5", "--shard", part, "-o", "json").out)
	}
	if r := imbrel(t, dir, "", nil, append([]string{"compare", "--merge"}, names...)...); r.out != all.out || r.status != 1 {
		t.Errorf("the shards joined are not the run of all: exit %d, %s", r.status, r.err)
	}
	if r := imbrel(t, dir, "", []string{"GOMAXPROCS=1"}, "rehearse", "p.yaml", "--repeat", "9", "--seed", "5", "-o", "json"); r.out != all.out {
		t.Error("one processor makes another result")
	}

	// Shards that do not belong together, or are not all there, are not joined.
	put(t, dir, "q.yaml", strings.Replace(chancy, "shape: 4Mbit/s", "shape: 4.2Mbit/s", 1))
	put(t, dir, "q.json", imbrel(t, dir, "", nil, "rehearse", "q.yaml", "--repeat", "9", "--seed", "5", "--shard", "2/3", "-o", "json").out)
	for args, want := range map[string]string{"1.json 3.json": "shards are missing: 2/3", "1.json q.json 3.json": "do not belong together: their policy files differ"} {
		if r := imbrel(t, dir, "", nil, append([]string{"compare", "--merge"}, strings.Fields(args)...)...); r.status != 2 || !strings.Contains(r.err, want) {
			t.Errorf("--merge %s: exit %d, %s%s", args, r.status, r.out, r.err)
		}
	}

	// What differs by chance alone has not moved; what a change moves has.
	put(t, dir, "a.json", all.out)
	put(t, dir, "b.json", imbrel(t, dir, "", nil, "rehearse", "p.yaml", "--repeat", "9", "--seed", "50", "-o", "json").out)
	put(t, dir, "wide.yaml", strings.Replace(chancy, "shape: 4Mbit/s", "shape: 5Mbit/s", 1))
	put(t, dir, "c.json", imbrel(t, dir, "", nil, "rehearse", "wide.yaml", "--repeat", "9", "--seed", "50", "-o", "json").out)
	type compared struct{ Compared []compare.Result }
	alone := parsed[compared](t, imbrel(t, dir, "", nil, "compare", "a.json", "b.json", "-o", "json").out).Compared[0]
	if len(alone.Moved) > 1 { // of twenty figures one may
		t.Errorf("other seeds alone moved %+v", alone.Moved)
	}
	changed := parsed[compared](t, imbrel(t, dir, "", nil, "compare", "b.json", "c.json", "-o", "json").out).Compared[0]
	moved := false
	for _, m := range changed.Moved {
		moved = moved || m.Name == "orders" && m.Metric == "delay p99" && m.Turn == "better" && m.Noise != nil && *m.Old-*m.New > *m.Noise
	}
	if !moved || changed.Old.Repeats != 9 {
		t.Errorf("a wider link moved nothing: %+v", changed)
	}
	for args, want := range map[string]string{
		"rehearse p.yaml --shard 1/2":                "--shard is a part of --repeat",
		"rehearse p.yaml --repeat 3 --shard 4/3":     "such as 3/16",
		"rehearse p.yaml --repeat 2 --shard 3/3":     "this part is empty",
		"rehearse p.yaml --repeat 3 --suggest":       "it is about many runs",
		"rehearse p.yaml --repeat 0":                 "from 1 to 10000",
		"compare --merge":                            "wants the saved results",
		"compare --merge a.json a.json":              "with seed 5: name each once",
		"rehearse p.yaml --repeat 3 --capture-out x": "it is about many runs",
	} {
		if r := imbrel(t, dir, "", nil, strings.Fields(args)...); r.status != 2 || !strings.Contains(r.err, want) {
			t.Errorf("%s: exit %d: %s; want %q", args, r.status, r.err, want)
		}
	}
}
