package cli_test

import (
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"imbrel.example/imbrel/core/allocation"
	"imbrel.example/imbrel/core/explain"
	"imbrel.example/imbrel/core/measure"
)

// wan is the pair's network with traffic and a policy at west/wan.
func wan(sends, traffic, policy string) string {
	return strings.ReplaceAll(pair, "SENDS", sends) + "    traffic:\n" + traffic + "policies:\n" + policy + "attach: [{policy: p, at: west/wan out}]\n"
}

// at returns a class of the interface with a policy.
func at(t *testing.T, res measure.Result, class string) measure.Class {
	t.Helper()
	for _, f := range res.Interfaces {
		for _, c := range f.Classes {
			if f.PolicyAt != "" && c.Class == class {
				return c
			}
		}
	}
	t.Fatalf("no class %s with a policy", class)
	return measure.Class{}
}

// A limit in packets counts packets: RED drops early in a queue of small ones.
func TestREDCountsPackets(t *testing.T) {
	t.Parallel()
	res := result(t, wan("100Mbit/s", "      - {name: s, rate: 3Mbit/s, packet: 100B, arrivals: poisson, from: 10.1.0.1, to: 10.2.0.1}\n",
		"  - {name: p, shape: 2Mbit/s, treat: [{class: rest, queue: {limit: 100, drop: red}}]}\n"))
	c := at(t, res, "rest")
	if c.Drops.Early < 1000 || c.Drops.QueueFull > c.Drops.Early/100 || c.SentBps < 1_980_000 || c.MaxQueueBytes < 40*138 {
		t.Errorf("100 packets of 100 bytes: %d dropped early, %d because the queue was full; sent %d bit/s, at most %d bytes waited", c.Drops.Early, c.Drops.QueueFull, c.SentBps, c.MaxQueueBytes)
	}
}

// What arrives with a congestion mark is not counted as marked here; what says that it
// understands marks (ecn: true) is marked and not dropped.
func TestCongestionMarksOfOnesOwn(t *testing.T) {
	t.Parallel()
	const policy = "  - {name: p, shape: 4Mbit/s, treat: [{class: rest, queue: {drop: codel, ecn: true}}]}\n"
	for ecn, want := range map[string]bool{"": false, ", ecn: true": true} {
		res := result(t, wan("100Mbit/s", "      - {name: s, rate: 4.2Mbit/s, packet: 1000B, from: 10.1.0.1, to: 10.2.0.1"+ecn+"}\n", policy))
		if c := at(t, res, "rest"); (c.Congested > 0) != want || (c.Drops.Early > 0) == want {
			t.Errorf("ecn %t: %d marked, %d dropped early", want, c.Congested, c.Drops.Early)
		}
	}
	two := strings.Replace(wan("100Mbit/s", "      - {name: s, rate: 4.2Mbit/s, packet: 1000B, from: 10.1.0.1, to: 10.2.0.1, ecn: true}\n", policy),
		"attach: [", "  - {name: q, treat: [{class: rest, queue: {drop: codel, ecn: true}}]}\nattach: [{policy: q, at: east/lan out}, ", 1)
	var first, second uint64
	for _, f := range result(t, two).Interfaces {
		if f.Node == "west" && f.PolicyAt == "p" {
			first = f.Classes[0].Congested
		}
		if f.PolicyAt == "q" {
			second = f.Classes[0].Congested
		}
	}
	if first == 0 || second != 0 {
		t.Errorf("%d marked at the first, idle second says %d", first, second)
	}
}

// The outer rest is the rest alone; one within another is named with it; a class with
// others within it shares what is offered to it.
func TestWhoIsOffered(t *testing.T) {
	t.Parallel()
	text := wan("100Mbit/s", "      - {name: s, rate: 1Mbit/s, packet: 100B, from: 10.1.0.1, to: 10.2.0.1}\n",
		"  - {name: p, shape: 10Mbit/s, treat: [{class: bulk, at-least: 50%, treat: [{class: voice, at-least: 20%}, {class: rest}]}, {class: rest}]}\n")
	for args, want := range map[string]string{
		"--offer rest=3Mbit/s":                   "bulk 0 bulk/voice 0 bulk/rest 0 rest 3000",
		"--offer bulk/rest=3Mbit/s":              "bulk 3000 bulk/voice 0 bulk/rest 3000 rest 0",
		"--offer bulk=3Mbit/s":                   "bulk 3000 bulk/voice 600 bulk/rest 2400 rest 0",
		"--busy rest --offer bulk/voice=0bit/s":  "bulk 0 bulk/voice 0 bulk/rest 0 rest 10000",
		"--busy bulk,rest":                       "bulk 5000 bulk/voice 1000 bulk/rest 4000 rest 5000",
		"--offer bulk/rest=20Mbit/s --busy rest": "bulk 5000 bulk/voice 0 bulk/rest 5000 rest 5000",
	} {
		r := imbrel(t, t.TempDir(), text, nil, append([]string{"shares", "-", "-o", "json"}, strings.Fields(args)...)...)
		var res allocation.Result
		if err := json.Unmarshal([]byte(r.out), &res); err != nil {
			t.Fatalf("%s: %v %s", args, err, r.err)
		}
		var got []string
		for _, c := range res.Interfaces[0].Classes {
			got = append(got, fmt.Sprintf("%s %.0f", c.Class, float64(c.Gets)/1000))
			if c.Extra != 0 && c.Extra < 1000 {
				t.Errorf("%s: %s is lent %d bit/s, which is rounding", args, c.Class, c.Extra)
			}
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%s: %s; want %s", args, strings.Join(got, " "), want)
		}
	}
	if r := imbrel(t, t.TempDir(), text, nil, "shares", "-", "--busy", "bulk/voize"); r.status != 2 || !strings.Contains(r.err, "did you mean `bulk/voice`? there are: bulk, bulk/rest, bulk/voice, rest") {
		t.Errorf("an unknown class: exit %d, %s", r.status, r.err)
	}
}

// No packet waits longer than `shares` says: random policies of priorities, promises
// and ceilings under floods and bursts.
func TestLongestWaitIsABound(t *testing.T) {
	t.Parallel()
	worst := 0.0
	for trial := range 40 {
		r := rand.New(rand.NewPCG(95, uint64(trial)))
		percent := func(low, more int) string { return fmt.Sprintf("%d%%", low+r.IntN(more)) }
		queue := func() string {
			return pick(r, "", ", queue: {limit: 20}", ", queue: {limit: 30kB}", ", queue: {limit: 50ms}")
		}
		var entries []string
		if r.IntN(3) > 0 {
			entries = append(entries, fmt.Sprintf("{class: voice, priority: 1, police: {rate: %s, burst: %dkB}}", percent(5, 15), 2+r.IntN(20)))
		}
		if r.IntN(2) == 0 {
			entries = append(entries, fmt.Sprintf("{class: b, priority: 2, at-most: %s%s}", percent(5, 15), queue()))
		}
		entries = append(entries, fmt.Sprintf("{class: c, at-least: %s%s}", percent(2, 25), queue()),
			fmt.Sprintf("{class: d, at-least: %s, at-most: 60%%%s, treat: [{class: bulk, at-least: 40%%%s}, {class: rest%s}]}", percent(5, 20), "", queue(), queue()),
			"{class: rest"+queue()+"}")
		text := strings.Replace(wan("100Mbit/s", "", "  - {name: p, shape: 5Mbit/s, treat: ["+strings.Join(entries, ", ")+"]}\n"), "classes:\n",
			"classes:\n  - {name: b, match: [{to-port: 2}]}\n  - {name: c, match: [{to-port: 3}]}\n  - {name: d, match: [{from: 10.1.4.0/24}]}\n", 1)
		traffic := ""
		for n, how := range []string{"to-port: 1, dscp: ef, from: 10.1.0.1", "to-port: 2, from: 10.1.0.2", "to-port: 3, from: 10.1.0.3", "to-port: 8000, from: 10.1.4.1", "to-port: 9, from: 10.1.4.2", "to-port: 9, from: 10.1.0.5"} {
			traffic += fmt.Sprintf("      - {name: t%d, rate: %dkbit/s, packet: %dB, arrivals: poisson, %s, to: 10.2.0.1}\n", n, 300+r.IntN(8000), 100+r.IntN(1400), how)
		}
		text = strings.Replace(text, "    traffic:\n", "    traffic:\n"+traffic, 1)
		bounds := make(map[string]float64)
		for _, c := range shares(t, text) {
			if c.LongestWait != nil {
				bounds[c.Class] = *c.LongestWait
			}
		}
		for _, f := range result(t, text).Interfaces {
			for _, c := range f.Classes {
				bound, has := bounds[c.Class]
				if f.PolicyAt == "" || c.QueueDelay == nil || !has {
					continue
				}
				worst = max(worst, c.QueueDelay.Max/bound)
				if c.QueueDelay.Max > bound {
					t.Errorf("trial %d: a packet of %s waited %.3f ms; the bound is %.3f\n%s", trial, c.Class, c.QueueDelay.Max, bound, strings.Join(entries, "\n"))
				}
			}
		}
	}
	t.Logf("the worst wait was %.2f of its bound", worst)
	if worst < 0.5 {
		t.Errorf("no wait came near its bound (%.2f at most): the search is too weak", worst)
	}
}

// An instance's policer remembers its debt however long the instance idles; it goes
// when its bucket would be full anyway.
func TestAnInstanceRemembersItsDebt(t *testing.T) {
	t.Parallel()
	// 10 kB at 500 bit/s take 160 s to come back.
	text := strings.Replace(wan("100Mbit/s", "      - {name: a, rate: 800kbit/s, packet: 1000B, from: 10.1.0.1, to: 10.2.0.1, lasts: 1s}\n"+
		"      - {name: b, rate: 800kbit/s, packet: 1000B, from: 10.1.0.1, to: 10.2.0.1, starts: 80s, lasts: 1s}\n"+
		"      - {name: others, rate: 16kbit/s, packet: 1000B, from: 10.1.0.2, to: 10.2.0.1}\n"+
		"      - {name: late, rate: 800kbit/s, packet: 1000B, from: 10.1.0.1, to: 10.2.0.1, starts: 300s, lasts: 1s}\n",
		"  - {name: p, treat: [{class: rest, each: source, police: {rate: 500bit/s, burst: 10380B}}]}\n"), "lasts: 10s", "lasts: 310s", 1)
	res := result(t, text)
	got := make(map[string]int64)
	for _, row := range res.Traffic {
		got[row.Name] = row.ReceivedPackets
	}
	if got["a"] != 10 || got["b"] > 5 || got["b"] < 4 || got["late"] != 10 {
		t.Errorf("a full bucket lets 10 packets pass, after 79 s 4 or 5, after 219 s 10: %v", got)
	}
}

// A `when` may be on a limit alone: the class keeps its promise, the limit comes and
// goes, and while it is there it beats the promise.
func TestLimitsThatComeAndGo(t *testing.T) {
	t.Parallel()
	traffic := "      - {name: s, rate: 6Mbit/s, packet: 1000B, from: 10.1.0.1, to: 10.2.0.1, to-port: 8000}\n"
	for _, c := range []struct {
		entry    string
		startsAt string
		low, top float64 // Mbit/s
		held     float64
		limit    string
	}{
		{"at-most: {rate: 2Mbit/s, when: work}", "2026-03-02T08:30", 1.9, 2.1, 10, "at-most"},
		{"at-most: {rate: 2Mbit/s, when: work}", "2026-03-02T18:30", 5.9, 6.1, 0, "at-most"},
		{"police: {rate: 2Mbit/s, burst: 3kB, when: work}", "2026-03-02T08:30", 1.9, 2.1, 10, "police"},
		{"police: {rate: 2Mbit/s, burst: 3kB, when: work}", "2026-03-02T18:30", 5.9, 6.1, 0, "police"},
		{"block: {when: work}", "2026-03-02T08:30", 0, 0, 10, "block"},
		{"block: {when: work}", "2026-03-02T18:30", 5.9, 6.1, 0, "block"},
		{"at-most: {rate: 2Mbit/s, when: work}", "2026-03-02T16:59:55", 3.8, 4.2, 5, "at-most"},
		{"each: source, at-most: {rate: 2Mbit/s, when: work}", "2026-03-02T07:59:55", 3.8, 4.2, 5, "at-most"},
		{"at-most: {rate: 2Mbit/s, when: {starts: {load: 40%, for: 2s}, ends: {load: 1%, for: 9s}}}", "2026-03-02T18:30", 2.6, 3.0, 8, "at-most"},
	} {
		text := strings.Replace(wan("100Mbit/s", traffic, "  - {name: p, shape: 10Mbit/s, treat: [{class: bulk, at-least: 50%, "+c.entry+"}, {class: rest}]}\n"),
			"    lasts: 10s\n", "    lasts: 10s\n    starts-at: "+c.startsAt+"\n", 1) + "times: {work: {from: \"08:00\", to: \"17:00\"}}\n"
		k := at(t, result(t, text), "bulk")
		if got := float64(k.SentBps) / 1e6; got < c.low || got > c.top*1.04 || *k.PromisedBps != 5_000_000 {
			t.Errorf("%s at %s: sent %.2f Mbit/s, promised %d; want %.1f to %.1f", c.entry, c.startsAt, got, *k.PromisedBps, c.low, c.top)
		}
		if len(k.Limits) != 1 || k.Limits[0].Limit != c.limit || math.Abs(k.Limits[0].HeldS-c.held) > 0.3 {
			t.Errorf("%s at %s: held %+v; want %s for %.0f s", c.entry, c.startsAt, k.Limits, c.limit, c.held)
		}
	}
}

// What explain says in words.
func TestExplainInWords(t *testing.T) {
	t.Parallel()
	const times = "times: {opening: {from: \"08:00\", to: \"18:00\"}, always: {from: \"00:00\", to: \"00:00\"}}\napps: {desk: {server-name: desk.example}, media: {looks-like: rtp}}\n"
	text := strings.Replace(wan("100Mbit/s", "      - {name: s, rate: 1Mbit/s, packet: 100B, from: 10.1.0.1, to: 10.2.0.1}\n",
		"  - name: p\n    treat:\n      - {class: voice, when: opening, mark: {dscp: ef, pcp: 5}}\n      - {class: bulk, when: always, police: {rate: 1Mbit/s, burst: 4kB, peak: 2Mbit/s, excess-burst: 8kB, yellow: {mark: le}}}\n      - {class: web, police: {rate: 1Mbit/s, burst: 500B, red: {mark: le}}}\n      - {class: tagged}\n"),
		"classes:\n", times+"classes:\n  - {name: web, match: [{app: desk}]}\n  - {name: tagged, match: [{vlan: 30, dscp: af41}]}\n", 1)
	for args, wants := range map[string][]string{
		"--dscp ef --time 2026-03-02T18:30":         {"not in force: it is 18:30 Monday in UTC; `opening` is 08:00 to 18:00 in UTC"},
		"--dscp ef":                                 {"in force while the time is `opening`; that is assumed here", "frames have no tag on this link, so PCP 5 is not sent"},
		"--to-port 8000 --time 2026-03-02T03:00":    {"class bulk,", "1Mbit/s, burst 4kB, peak 2Mbit/s, excess burst 8kB; marks yellow LE, drops red"},
		"--dscp af11":                               {"bulk (line 27): not to-port 8000: it has 0", "tagged (line 29): not dscp af41: it has af11"},
		"--dscp af41":                               {"tagged (line 29): not vlan 30: it has no VLAN tag"},
		"--server-name desk.example --protocol tcp": {"app desk (line 5); desk by its server name"},
		"--server-name desk.example --protocol tcp --length 600": {"→ LE"},
	} {
		r := imbrel(t, t.TempDir(), text, nil, append([]string{"explain", "-", "--from", "10.1.0.1", "--to", "10.2.0.1"}, strings.Fields(args)...)...)
		for _, want := range wants {
			if !strings.Contains(strings.Join(strings.Fields(r.out), " "), want) {
				t.Errorf("%s: does not say %q:\n%s%s", args, want, r.out, r.err)
			}
		}
	}
	// A packet that no policer ever lets pass is dropped, as it would be rehearsed.
	dropped := ask(t, strings.Replace(text, "red: {mark: le}", "red: drop", 1), "--from", "10.1.0.1", "--to", "10.2.0.1", "--server-name", "desk.example", "--protocol", "tcp", "--length", "600")
	if dropped.Arrives != nil || !strings.Contains(dropped.Summary.String(), "larger than the burst of the policer in line 28") {
		t.Errorf("larger than its burst: %+v, %s", dropped.Arrives, dropped.Summary)
	}
	// Labels are numbers.
	r := imbrel(t, t.TempDir(), example(t, "coast-mpls.yaml"), nil, "explain", "-", "--from", "10.80.1.5", "--to", "10.80.2.5", "--to-port", "16400", "-o", "json")
	if !strings.Contains(r.out, `"labels":[5]`) {
		t.Errorf("labels are not numbers:\n%.600s", r.out)
	}
}

// The worst of the names learned: what a capture's packets said, not only their ports.
func TestHowApplicationsWereLearned(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	put(t, dir, "site.yaml", example(t, "site-wan.yaml"))
	r := imbrel(t, dir, "", nil, "explain", "site.yaml", "--capture", siteCaptures(t)[2], "-o", "json")
	var res explain.CaptureResult
	if err := json.Unmarshal([]byte(r.out), &res); err != nil {
		t.Fatal(err, r.err)
	}
	by := make(map[string]bool)
	for _, f := range res.Flows {
		by[f.App+" "+f.AppBy] = true
	}
	for _, want := range []string{"weather tls", "weather http", "rtp-media looks", "ssh port", "dns port"} {
		if !by[want] {
			t.Errorf("no flow is %q: %v", want, by)
		}
	}
}

// No two calls of a rehearsal share their ports, whichever end is named first: each has
// packets, and a policer of its own where there is one for each flow. Ports that are given
// twice are refused.
func TestNoTwoCallsShareTheirPorts(t *testing.T) {
	t.Parallel()
	base := strings.Replace(crossingWith(bothEnds, "7.6Mbit/s", anyVoice), "{class: voice, priority: 1, police: {rate: 600kbit/s, burst: 3kB}}", "{class: voice, each: flow, priority: 1, police: {rate: 100kbit/s, burst: 1kB}}", 1)
	first := "      - {name: calls, calls: 5, codec: g711, between: [10.1.0.5, 10.2.0.5]}\n"
	for name, c := range map[string]struct {
		more   string
		status int
	}{
		"the same ends":     {"between: [10.1.0.5, 10.2.0.5]", 0},
		"the other way":     {"between: [10.2.0.5, 10.1.0.5]", 0},
		"ports given":       {"between: [10.1.0.5, 10.2.0.5], from-port: 17000, to-port: 17000", 0},
		"ports given twice": {"between: [10.1.0.5, 10.2.0.5], from-port: 16386, to-port: 16386", 2},
		"and reversed":      {"between: [10.2.0.5, 10.1.0.5], from-port: 16388, to-port: 16388", 2},
	} {
		text := strings.Replace(base, first, first+"      - {name: more, calls: 3, codec: g711, "+c.more+"}\n", 1)
		r := imbrel(t, t.TempDir(), text, nil, "rehearse", "-", "-o", "json")
		if c.status == 2 {
			if r.status != 2 || !strings.Contains(r.err, "are those of another call") {
				t.Errorf("%s: exit %d: %s", name, r.status, r.err)
			}
			continue
		}
		var res measure.Result
		if err := json.Unmarshal([]byte(r.out), &res); err != nil {
			t.Fatalf("%s: %v %s", name, err, r.err)
		}
		if v := at(t, res, "voice"); v.Instances == nil || v.Instances.Max != 8 || v.Drops.Total() != 0 {
			t.Errorf("%s: eight calls have %+v instances, %d drops", name, v.Instances, v.Drops.Total())
		}
	}
}

// Times and sizes stay numbers: a cell of nonsense is refused, and a rehearsal whose queues
// would drain for a month ends with a word.
func TestTimesStayNumbers(t *testing.T) {
	t.Parallel()
	slow := strings.ReplaceAll(crossingWith(bothEnds, "500bit/s", anyVoice), "police: {rate: 600kbit/s, burst: 3kB}", "at-most: 100bit/s")
	for cell, want := range map[string]string{"1/9000": "a cell is at most 100 times its payload", "48/4800": "takes more than 30 days to be sent"} {
		text := strings.Replace(slow, "{name: wan, rate: 100Mbit/s}", "{name: wan, rate: 100Mbit/s, framing: {bytes: 0, cell: "+cell+"}}", 1)
		text = strings.Replace(text, "{class: rest}", "{class: rest, queue: {limit: 1000000}}", 1)
		text = strings.Replace(text, "at-most: 100bit/s", "police: {rate: 500bit/s, burst: 3kB}", 1)
		if r := imbrel(t, t.TempDir(), text, nil, "rehearse", "-"); r.status != 2 || !strings.Contains(r.err, want) {
			t.Errorf("%s: exit %d: %.600s", cell, r.status, r.err)
		}
	}
}
