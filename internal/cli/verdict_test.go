package cli_test

import (
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strings"
	"testing"

	"imbrel.example/imbrel/core/measure"
)

// crossing is two sites and a link that is full both ways, with five calls between them.
// ATTACH, SHAPE and VOICE are what the tests make right or wrong.
const crossing = `imbrel: 1
classes:
  - {name: voice, match: [VOICE]}
policies:
  - name: wan
    shape: SHAPE
    treat:
      - {class: voice, priority: 1, police: {rate: 600kbit/s, burst: 3kB}}
      - {class: rest}
attach: [ATTACH]
network:
  nodes:
    - name: west
      interfaces: [{name: lan, rate: 1Gbit/s, subnets: [10.1.0.0/16]}, {name: wan, rate: 100Mbit/s}]
    - name: east
      interfaces: [{name: wan, rate: 100Mbit/s}, {name: lan, rate: 1Gbit/s, subnets: [10.2.0.0/16]}]
  links:
    - ends: [{at: west/wan, sends: 8Mbit/s}, {at: east/wan, sends: 8Mbit/s}]
      delay: 2ms
rehearsals:
  - name: full
    lasts: 4s
    traffic:
      - {name: calls, calls: 5, codec: g711, between: [10.1.0.5, 10.2.0.5]}
      - {name: up, rate: 12Mbit/s, packet: 1500B, from: 10.1.0.9, to: 10.2.0.9}
      - {name: down, rate: 12Mbit/s, packet: 1500B, from: 10.2.0.9, to: 10.1.0.9}
    expect: ["voice loss = 0", "voice delay p99 <= 20ms", "voice mos >= 4.3"]
`

const (
	bothEnds = "{policy: wan, at: west/wan out}, {policy: wan, at: east/wan out}"
	anyVoice = "{protocol: udp, to-port: 16384-32767}"
)

func crossingWith(attach, shape, voice string) string {
	return strings.NewReplacer("ATTACH", attach, "SHAPE", shape, "VOICE", voice).Replace(crossing)
}

// What a new user got wrong while the verdict said PASS: each fails or warns now, with
// the traffic that is ruined, the place where, and a warning that names the line.
func TestAVerdictCannotMislead(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		text, of, place, warning string
		line                     int
	}{
		"right":                        {text: crossingWith(bothEnds, "7.6Mbit/s", anyVoice)},
		"one end only":                 {crossingWith("{policy: wan, at: west/wan out}", "7.6Mbit/s", anyVoice), "calls, reverse", "east/wan carrier", "no-policy", 10},
		"in for out":                   {crossingWith("{policy: wan, at: west/wan in}, {policy: wan, at: east/wan in}", "7.6Mbit/s", anyVoice), "calls", "west/wan carrier", "no-policy", 10},
		"a direction no class matches": {crossingWith(bothEnds, "7.6Mbit/s", "{protocol: udp, to-port: 16384-32767, from: 10.1.0.0/16}"), "calls, reverse", "east/wan out", "unclassified", 3},
		"a shape above the link":       {crossingWith(bothEnds, "9Mbit/s", anyVoice), "calls", "west/wan carrier", "shape-above-link", 6},
		"lost before the hop that classifies": {crossingWith("{policy: wan, at: east/lan out}, {policy: wan, at: west/lan out}", "7.6Mbit/s", anyVoice),
			"calls", "west/wan carrier", "no-policy", 18},
	} {
		res := result(t, c.text)
		if c.of == "" {
			if res.Verdict != "pass" || len(res.Warnings) > 0 {
				t.Errorf("%s: %s, %+v", name, res.Verdict, res.Warnings)
			}
			continue
		}
		o := res.Expectations[1]
		if res.Verdict != "fail" || o.Holds || o.Why == nil {
			t.Errorf("%s: the verdict is %s, %+v", name, res.Verdict, o)
			continue
		}
		if got := o.Why.Node + "/" + o.Why.Interface + " " + o.Why.Direction; o.Of != c.of && name != "lost before the hop that classifies" || got != c.place {
			t.Errorf("%s: blamed on %s at %s; want %s at %s", name, o.Of, got, c.of, c.place)
		}
		if !slices.ContainsFunc(res.Warnings, func(w measure.Warning) bool { return w.Name == c.warning && w.Line == c.line }) {
			t.Errorf("%s: no warning %s of line %d: %+v", name, c.warning, c.line, res.Warnings)
		}
	}
}

// A policer's burst and a queue's limit that drop packets of a class which is offered
// less than it may send are warned of, with the size that would do: with it nothing is
// dropped, and with a tenth less something is.
func TestTooSmallBurstsAndLimits(t *testing.T) {
	t.Parallel()
	base := crossingWith(bothEnds, "7.6Mbit/s", anyVoice)
	for name, c := range map[string]struct{ with, warning, put string }{
		"burst": {"burst: 0.4kB", "burst-too-small", "burst: %s"},
		"each":  {"burst: 0.4kB, red: drop}, each: source, at-most: {rate: 2Mbit/s", "burst-too-small", "burst: %s, red: drop}, each: source, at-most: {rate: 2Mbit/s"},
		"limit": {"burst: 3kB}, queue: {limit: 500B", "limit-too-small", "burst: 3kB}, queue: {limit: %s"},
	} {
		poisson := strings.Replace(base, "{name: calls, calls: 5, codec: g711, between: [10.1.0.5, 10.2.0.5]}", "{name: calls, rate: 300kbit/s, packet: 200B, arrivals: poisson, from: 10.1.0.5, to: 10.2.0.5, to-port: 16384}", 1)
		poisson = strings.Replace(poisson, `"voice mos >= 4.3"`, "", 1)
		res := result(t, strings.Replace(poisson, "burst: 3kB}", c.with+"}", 1))
		i := slices.IndexFunc(res.Warnings, func(w measure.Warning) bool { return w.Name == c.warning })
		if i < 0 {
			t.Errorf("%s: no warning %s: %+v", name, c.warning, res.Warnings)
			continue
		}
		_, would, _ := strings.Cut(res.Warnings[i].Text.String(), "too small; ")
		would, _, _ = strings.Cut(would, " would do")
		res = result(t, strings.Replace(poisson, "burst: 3kB}", fmt.Sprintf(c.put, would)+"}", 1))
		if !res.Expectations[0].Holds || len(res.Warnings) > 0 {
			t.Errorf("%s: with %s: %+v, %+v", name, would, res.Expectations[0], res.Warnings)
		}
	}
}

// What no rehearsal of the file used is warned of when all of them run: a policy, an
// entry, a `when`; and --fail-on warning makes warnings count.
func TestIdlePartsAreWarnedOf(t *testing.T) {
	t.Parallel()
	text := crossingWith(bothEnds+", {policy: spare, at: east/lan in}", "7.6Mbit/s", anyVoice)
	text = strings.Replace(text, "attach:", `  - {name: spare, treat: [{class: voice, when: night}, {class: rest, at-most: {rate: 5Mbit/s, when: {starts: {load: 99%, for: 1s}, ends: {load: 10%, for: 1s}}}}]}
  - {name: forgotten, treat: [{class: rest}]}
times: {night: {from: "22:00", to: "06:00"}}
attach:`, 1)
	text = strings.Replace(text, "    lasts: 4s\n", "    lasts: 4s\n    starts-at: 2026-03-02T09:00\n", 1)
	text = strings.Replace(text, "      - {class: rest}\n", "      - {class: radar, at-least: 10%}\n      - {class: rest}\n", 1)
	text = strings.Replace(text, "policies:\n", "  - {name: radar, match: [{to-port: 7400}]}\npolicies:\n", 1)
	names := func(rs ...measure.Result) (out []string) {
		for _, r := range rs {
			for _, w := range r.Warnings {
				out = append(out, fmt.Sprint(w.Name, ":", w.Line))
			}
		}
		return out
	}
	want := []string{"policy-idle:13", "entry-idle:10", "when-idle:12", "when-idle:12"}
	if got := names(result(t, text)); !slices.Equal(got, want) {
		t.Errorf("warned of %v; want %v", got, want)
	}
	if r := imbrel(t, t.TempDir(), text, nil, "rehearse", "-", "--fail-on", "warning"); r.status != 1 || !strings.Contains(r.out, "PASS, with 4 warnings") {
		t.Errorf("exit %d: %s", r.status, r.out[max(0, len(r.out)-300):])
	}
	if r := imbrel(t, t.TempDir(), text, nil, "rehearse", "-"); r.status != 0 {
		t.Errorf("without --fail-on: exit %d", r.status)
	}
	// A second rehearsal that uses the entry: it is idle in none.
	both := text + "  - {name: other, lasts: 1s, starts-at: 2026-03-02T23:00, traffic: [{name: radar-feed, rate: 1Mbit/s, packet: 500B, from: 10.1.0.3, to: 10.2.0.3, to-port: 7400}]}\n"
	var many struct{ Runs []measure.Result }
	if err := json.Unmarshal([]byte(imbrel(t, t.TempDir(), both, nil, "rehearse", "-", "-o", "json").out), &many); err != nil {
		t.Fatal(err)
	}
	if got := names(many.Runs[1]); !slices.Equal(got, []string{"policy-idle:13", "when-idle:12"}) || many.Runs[1].Verdict != "none" {
		t.Errorf("of two rehearsals: %v, verdict %s", got, many.Runs[1].Verdict)
	}
}

// Traffic that meets no policy and loses packets is warned of, where no class lost any
// beside it.
func TestTrafficThatMeetsNoPolicy(t *testing.T) {
	t.Parallel()
	text := strings.Replace(crossingWith("{policy: wan, at: west/wan out}", "7.6Mbit/s", anyVoice), "      - {name: calls, calls: 5, codec: g711, between: [10.1.0.5, 10.2.0.5]}\n", "", 1)
	text = strings.Replace(text, `"voice loss = 0", "voice delay p99 <= 20ms", "voice mos >= 4.3"`, `"up loss <= 60%"`, 1)
	res := result(t, text)
	if !slices.ContainsFunc(res.Warnings, func(w measure.Warning) bool { return w.Name == "unclassified" && w.Line == 25 }) || res.Verdict != "pass" {
		t.Errorf("%s, %+v", res.Verdict, res.Warnings)
	}
}

// A policy that sees only the answers of calls, because it is attached the other way, is
// warned of; where what they answer has a policy of its own it is not.
func TestPoliciesThatSeeOnlyAnswers(t *testing.T) {
	t.Parallel()
	const down = "      - {name: down, rate: 12Mbit/s, packet: 1500B, from: 10.2.0.9, to: 10.1.0.9}\n"
	for attach, want := range map[string]bool{
		"{policy: wan, at: west/wan in}": true,
		bothEnds:                         false,
		"{policy: wan, at: west/wan in}, {policy: wan, at: west/wan out}": false,
		"{policy: wan, at: east/wan out}":                                 true,
	} {
		res := result(t, strings.Replace(crossingWith(attach, "7.6Mbit/s", anyVoice), down, "", 1))
		if got := slices.ContainsFunc(res.Warnings, func(w measure.Warning) bool { return w.Name == "policy-idle" && w.Line == 10 }); got != want {
			t.Errorf("%s: warned %t; %+v", attach, got, res.Warnings)
		}
	}
}

// The metrics and forms of an expectation, against what is known of the traffic.
func TestWhatCanBeExpected(t *testing.T) {
	t.Parallel()
	base := crossingWith(bothEnds, "7.6Mbit/s", anyVoice)
	base = strings.Replace(base, "priority: 1,", "mark: ef, priority: 1,", 1)
	for expect, holds := range map[string]bool{
		"calls arrive as ef":                                   true,
		"voice arrives as ef":                                  true,
		"up arrive as ef":                                      false,
		"voice mark at west/wan out = ef":                      true,
		"rest mark at west/wan out = ef":                       false,
		"voice late = 0":                                       true,
		"voice late <= 0.5%":                                   true,
		"voice queue max at west/wan out <= 2kB":               true,
		"rest queue max at west/wan out <= 2kB":                false,
		"rest : voice rate ratio 6..20":                        true,
		"rest : voice rate ratio 1..2":                         false,
		"up : down rate ratio 0.95..1.05":                      true,
		"rest rate >= 95% of promise at west/wan out":          true,
		"voice rate >= 95% of promise at west/wan out":         false, // it is offered less
		"voice loss = 0 from 1s to 2s":                         true,
		"up loss >= 30% from 1s to 2s":                         true,
		"rest delay p99 at west/wan out <= 1ms from 1s to 3s":  false,
		"rest rate at west/wan out >= 6.9Mbit/s from 2s to 4s": true,
		"rest drops at west/wan out from 0s to 1s >= 1":        true,
		"calls mos >= 4.3 from 2s to 4s":                       true,
	} {
		res := result(t, strings.Replace(base, `expect: ["voice loss = 0", "voice delay p99 <= 20ms", "voice mos >= 4.3"]`, "expect: ["+expect+"]", 1))
		if o := res.Expectations[0]; o.Holds != holds || o.Measured == nil || !holds && (o.Why == nil || o.Why.Text.IsZero()) {
			t.Errorf("%s: %+v", expect, o)
		}
	}
}

// A window is the packets sent in it, as if the rest of the time had not been: two halves
// add up to the whole.
func TestWindowsAddUp(t *testing.T) {
	t.Parallel()
	base := crossingWith(bothEnds, "7.6Mbit/s", anyVoice)
	res := result(t, strings.Replace(base, `"voice mos >= 4.3"`, `"up drops >= 0", "up drops >= 0 from 0s to 1500ms", "up drops >= 0 from 1500ms to 4s", "rest drops at west/wan out >= 0", "rest drops at west/wan out >= 0 from 0s to 3s", "rest drops at west/wan out >= 0 from 3s to 60s"`, 1))
	value := func(i int) float64 { return *res.Expectations[i].Measured }
	if value(2) != value(3)+value(4) || value(3) == 0 || value(4) == 0 {
		t.Errorf("of the traffic %v were lost, %v in the first part and %v in the second", value(2), value(3), value(4))
	}
	if value(5) != value(6)+value(7) || value(6) == 0 {
		t.Errorf("at the interface %v were lost, %v in the first part and %v in the second", value(5), value(6), value(7))
	}
}

// Delay, loss and MOS are judged by the worst traffic and direction of a class, not by all
// its packets: one ruined call of many does not hide.
func TestTheWorstIsJudged(t *testing.T) {
	t.Parallel()
	var calls strings.Builder
	for i := range 40 {
		fmt.Fprintf(&calls, "      - {name: call-%d, calls: 1, codec: g711, between: [10.1.0.%d, 10.2.0.5]}\n", i, 10+i)
	}
	text := crossingWith(bothEnds, "7.6Mbit/s", anyVoice)
	text = strings.Replace(text, "      - {name: calls, calls: 5, codec: g711, between: [10.1.0.5, 10.2.0.5]}\n", calls.String(), 1)
	text = strings.Replace(text, "{class: voice, priority: 1, police: {rate: 600kbit/s, burst: 3kB}}", "{class: poor, at-most: 40kbit/s}, {class: voice, priority: 1, police: {rate: 5Mbit/s, burst: 30kB}}", 1)
	text = strings.Replace(text, "      - {class: poor", "      - {class: poor", 1)
	text = strings.Replace(text, "      - {class: poor, at-most: 40kbit/s}, {class", "      - {class: poor, at-most: 40kbit/s}\n      - {class", 1)
	text = strings.Replace(text, "policies:\n", "  - {name: poor, match: [{from: 10.1.0.30, to-port: 16384-32767}]}\npolicies:\n", 1)
	text = strings.Replace(text, `"voice loss = 0"`, `"voice loss = 0", "poor mos >= 2"`, 1)
	text = strings.Replace(text, "      - {name: up,", "      - {name: trunk, calls: 40, codec: g711, between: [10.1.0.6, 10.2.0.6]}\n      - {name: up,", 1)
	res := result(t, text)
	for i, want := range map[int]string{0: "", 1: "call-20"} {
		if o := res.Expectations[i]; !strings.HasPrefix(o.Of, want) || o.Holds {
			t.Errorf("%s: judged by %q, %v; want %q", o.Text, o.Of, o.Holds, want)
		}
	}
	for _, row := range res.Traffic { // the mean is of all calls of a row
		if single := strings.HasPrefix(row.Name, "call-"); row.MOS != nil && (*row.MOSMean < *row.MOS || single && *row.MOSMean != *row.MOS) {
			t.Errorf("%s: the lowest MOS is %v, the mean %v", row.Name, *row.MOS, *row.MOSMean)
		}
	}
	for _, c := range res.Classes {
		if c.Class == "voice" && *c.MOSMean < *c.MOS+0.1 {
			t.Errorf("one ruined call of eighty: the lowest MOS is %v, the mean %v", *c.MOS, *c.MOSMean)
		}
	}
	// The call counts whole, for the class of each direction.
	for _, c := range res.Classes {
		if c.Class == "poor" && c.SentPackets != 400 {
			t.Errorf("the call of one direction in `poor` counts %d packets for it; both directions have 400", c.SentPackets)
		}
	}
}

// The packets of a traffic at each place: what one place passes comes to the next, and the
// drops of all places are what was lost.
func TestHopsAddUp(t *testing.T) {
	t.Parallel()
	res := result(t, crossingWith("{policy: wan, at: west/wan out}", "7.6Mbit/s", anyVoice), "--hops")
	for _, row := range res.Traffic {
		var lost, before uint64
		for _, h := range res.Hops {
			if h.Traffic != row.Name || h.Direction != row.Direction {
				continue
			}
			lost += h.Drops.Total()
			if before != 0 && uint64(h.Packets) != before {
				t.Errorf("%s %s: %d packets come to %s/%s %s; %d left the place before", row.Name, row.Direction, h.Packets, h.Node, h.Interface, h.At, before)
			}
			before = uint64(h.Packets) - h.Drops.Total()
		}
		if int64(lost) != row.SentPackets-row.ReceivedPackets || before == 0 {
			t.Errorf("%s %s: %d packets lost, and %d dropped on the way", row.Name, row.Direction, row.SentPackets-row.ReceivedPackets, lost)
		}
	}
}

// The series over time adds up to the counters, a `when` is in it from when it came, and a
// class that wakes is said to.
func TestSeries(t *testing.T) {
	t.Parallel()
	text := crossingWith(bothEnds, "7.6Mbit/s", anyVoice)
	text = strings.Replace(text, "      - {class: rest}\n", "      - {class: rest, at-most: {rate: 2Mbit/s, when: {starts: {load: 90%, for: 1s}, ends: {load: 1%, for: 1s}}}}\n", 1)
	text = strings.Replace(text, "between: [10.1.0.5, 10.2.0.5]}", "between: [10.1.0.5, 10.2.0.5], starts: 2s}", 1)
	res := result(t, text, "--every", "300ms")
	s := res.Series
	if s == nil || s.IntervalS != 0.3 {
		t.Fatal("there is no series")
	}
	for _, f := range s.Interfaces {
		for _, c := range f.Classes {
			if len(c.SentBps) != 14 {
				t.Fatalf("%d steps of 0.3 s in 4 s", len(c.SentBps))
			}
			bytes := 0.0
			for i, bps := range c.SentBps {
				bytes += float64(bps) / 8 * min(0.3, 4-0.3*float64(i))
			}
			for _, g := range res.Interfaces {
				for _, k := range g.Classes {
					if g.Node == f.Node && g.Interface == f.Interface && g.Direction == f.Direction && k.Class == c.Class && math.Abs(bytes*8/4-float64(k.SentBps)) > 100 {
						t.Errorf("%s/%s %s: the series sent %.0f bit/s, the interface %d", f.Node, f.Interface, c.Class, bytes*8/4, k.SentBps)
					}
				}
			}
			if f.Interface == "wan" && f.Direction != "carrier" && c.Class == "voice" && (len(c.Wakes) != 1 || math.Abs(c.Wakes[0].AtS-1.8) > 0.01 || c.Wakes[0].PromiseAfter == nil) {
				t.Errorf("voice woke %+v; it starts at 2 s", c.Wakes)
			}
		}
	}
	// From end to end: what was lost adds up to the traffic's losses, and no interval has a longer delay than the whole.
	for _, w := range s.Traffic {
		lost, longest := int64(0), slices.Max(w.Delay.Max)
		for _, n := range w.Lost {
			lost += n
		}
		var sent, received int64
		most := 0.0
		for _, row := range res.Traffic {
			if row.Name == w.Name && row.Direction == w.Direction {
				sent, received = sent+row.SentPackets, received+row.ReceivedPackets
				most = max(most, row.Delay.Max)
			}
		}
		if lost > sent-received || longest > most || lost == 0 && sent-received > 20 || longest < 0.9*most {
			t.Errorf("%s %s: the series lost %d, and %g ms were the longest; the row lost %d, %g ms", w.Name, w.Direction, lost, longest, sent-received, most)
		}
	}
	if calls := s.Calls; len(calls) != 2 || len(calls[0].MOS) == 0 || slices.Min(calls[0].MOS) != *res.Traffic[0].MOS {
		t.Errorf("calls %+v; the worst has %v", calls, *res.Traffic[0].MOS)
	}
	if len(s.Whens) != 2 || math.Abs(s.Whens[0].FromS-1) > 0.25 || s.Whens[0].ToS != 4 || s.Whens[0].Limit != "at-most" {
		t.Errorf("in force: %+v", s.Whens)
	}
}

// A series is of the measured time alone, and of all of it: whatever the step, it adds up to the interface's rate.
func TestSeriesAfterAWarmUp(t *testing.T) {
	t.Parallel()
	text := strings.Replace(crossingWith(bothEnds, "7.6Mbit/s", anyVoice), "lasts: 4s", "lasts: 4s\n    warm-up: 1100ms", 1)
	for _, step := range []string{"300ms", "1s", "7s"} {
		res := result(t, text, "--every", step)
		s, every := res.Series, 0.0
		if every = s.IntervalS; s.FromS > res.WarmUpS || s.FromS+every <= res.WarmUpS || res.WarmUpS != 1.1 {
			t.Fatalf("%s: the series begins at %g s, after a warm-up of %g s", step, s.FromS, res.WarmUpS)
		}
		for _, f := range s.Interfaces {
			for _, c := range f.Classes {
				if n := len(c.SentBps); len(c.OfferedBps) != n || len(c.Drops) != n || len(c.QueueBytes) != n || len(c.Waits.P50) != n || len(c.Waits.P99) != n || len(c.Waits.Max) != n {
					t.Fatalf("%s: %d steps of rates, %d of drops, %d of queues, %d of waits", step, n, len(c.Drops), len(c.QueueBytes), len(c.Waits.Max))
				}
				bytes, until := 0.0, res.WarmUpS+res.DurationS
				for i, bps := range c.SentBps {
					from := s.FromS + float64(i)*every
					bytes += float64(bps) / 8 * (min(from+every, until) - max(from, res.WarmUpS))
				}
				for _, g := range res.Interfaces {
					for _, k := range g.Classes {
						if g.Node == f.Node && g.Interface == f.Interface && g.Direction == f.Direction && k.Class == c.Class && math.Abs(bytes*8/res.DurationS-float64(k.SentBps)) > 100 {
							t.Errorf("%s: %s/%s %s: the series sent %.0f bit/s, the interface %d", step, f.Node, f.Interface, c.Class, bytes*8/res.DurationS, k.SentBps)
						}
					}
				}
			}
		}
	}
}

// A nested class is named by its path; its own name is that class at every level, and
// rest is what is in no class of the file, or at an interface the rest of the top level.
func TestNestedClassesByPath(t *testing.T) {
	t.Parallel()
	res := result(t, `imbrel: 1
classes: [{name: stage, match: [{from: 10.1.0.0/24}]}, {name: voice, match: [{dscp: ef}]}]
policies:
  - name: p
    shape: 5Mbit/s
    treat:
      - {class: stage, at-least: 40%, treat: [{class: voice, priority: 1, at-most: 500kbit/s}]}
      - {class: rest, treat: [{class: voice, at-most: 1Mbit/s}]}
attach: [{policy: p, at: a/x out}]
network:
  nodes: [{name: a, interfaces: [{name: lan, rate: 1Gbit/s, subnets: [10.1.0.0/16]}, {name: x, rate: 10Mbit/s}]}, {name: b, interfaces: [{name: x, rate: 10Mbit/s}, {name: lan, rate: 1Gbit/s, subnets: [10.2.0.0/16]}]}]
  links: [{ends: [{at: a/x}, {at: b/x}]}]
rehearsals:
  - name: r
    lasts: 2s
    traffic:
      - {name: one, rate: 300kbit/s, packet: 500B, from: 10.1.0.1, to: 10.2.0.1, dscp: ef}
      - {name: two, rate: 4Mbit/s, packet: 500B, from: 10.1.0.1, to: 10.2.0.1}
      - {name: three, rate: 300kbit/s, packet: 500B, from: 10.1.1.1, to: 10.2.0.1, dscp: ef}
      - {name: four, rate: 4Mbit/s, packet: 500B, from: 10.1.1.1, to: 10.2.0.1}
    expect:
      - stage/voice rate >= 500bit/s
      - voice rate >= 500bit/s
      - rest rate >= 500bit/s
      - rest/rest rate >= 500bit/s
      - rest/voice rate at a/x out >= 500bit/s
      - voice rate at a/x out >= 500bit/s
      - rest rate at a/x out >= 500bit/s
      - stage loss <= 70%
`)
	rate := func(names ...string) (sum float64) {
		for _, r := range res.Traffic {
			if slices.Contains(names, r.Name) {
				sum += float64(r.RateBps)
			}
		}
		return sum
	}
	at := func(names ...string) (sum float64) {
		for _, c := range res.Interfaces[0].Classes {
			if slices.Contains(names, c.Class) {
				sum += float64(c.SentBps)
			}
		}
		return sum
	}
	for i, want := range []float64{rate("one"), rate("one", "three"), rate("four"), rate("four"), at("rest/voice"), at("stage/voice", "rest/voice"), at("rest")} {
		if got := *res.Expectations[i].Measured; math.Abs(got-want) > 2 || want == 0 {
			t.Errorf("%s: measured %.0f; want %.0f", res.Expectations[i].Text, got, want)
		}
	}
	if o := res.Expectations[7]; o.Of != "two" || !o.Holds {
		t.Errorf("the worst of `stage` is %+v", o)
	}
}

// Under a failed expectation stands where most of it happened and for what reason, in
// figures that are those of the results.
func TestWhyItFailed(t *testing.T) {
	t.Parallel()
	base := crossingWith(bothEnds, "7.6Mbit/s", anyVoice)
	plain := strings.ReplaceAll(base, "sends: 8Mbit/s}", "sends: 8Mbit/s, buffer: 3s}")
	const voiceEntry = "{class: voice, priority: 1, police: {rate: 600kbit/s, burst: 3kB}}"
	for name, c := range map[string]struct {
		text, expect, reason, place, class string
		line                               int
		flags                              []string
	}{
		"policed":   {strings.Replace(base, "600kbit/s", "200kbit/s", 1), "voice loss = 0", "policed", "east/wan out", "voice", 8, nil},
		"full":      {base, "up loss = 0", "queue_full", "west/wan out", "rest", 9, nil},
		"early":     {strings.Replace(base, "{class: rest}", "{class: rest, queue: {drop: red}}", 1), "up loss = 0", "early", "west/wan out", "rest", 9, nil},
		"blocked":   {strings.Replace(base, voiceEntry, "{class: voice, block: true}", 1), "voice loss <= 10%", "blocked", "west/wan out", "voice", 8, nil},
		"carrier":   {base, "voice loss = 0", "carrier", "west/wan carrier", "", 18, []string{"--without-policy"}},
		"late":      {plain, "voice mos >= 4", "late", "west/wan carrier", "", 18, []string{"--without-policy"}},
		"waiting":   {base, "up delay p99 <= 20ms", "waiting", "west/wan out", "rest", 9, nil},
		"there":     {base, "rest delay p99 at west/wan out <= 20ms", "waiting", "west/wan out", "rest", 9, nil},
		"the way":   {base, "voice delay p99 <= 1ms", "path", "/ ", "", 0, nil},
		"offered":   {base, "voice rate >= 2Mbit/s", "offered", "/ ", "", 0, nil},
		"not kept":  {base, "rest rate <= 1Mbit/s", "offered", "/wan out", "rest", 9, nil},
		"the marks": {strings.Replace(base, "priority: 1,", "mark: cs5, priority: 1,", 1), "voice arrive as ef", "mark", "west/wan out", "voice", 8, nil},
	} {
		text := strings.Replace(c.text, `"voice loss = 0", "voice delay p99 <= 20ms", "voice mos >= 4.3"`, c.expect, 1)
		res := result(t, text, c.flags...)
		o := res.Expectations[0]
		if o.Holds || o.Why == nil {
			t.Errorf("%s: %+v", name, o)
			continue
		}
		w := o.Why
		if place := w.Node + "/" + w.Interface + " " + w.Direction; w.Reason != c.reason || !strings.HasSuffix(place, c.place) || w.Class != c.class || w.Line != c.line {
			t.Errorf("%s: because of %s at %s, class %q, line %d; want %s at %s, %q, %d\n%s", name, w.Reason, place, w.Class, w.Line, c.reason, c.place, c.class, c.line, w.Text)
		}
		for _, row := range res.Traffic {
			if o.Of == row.Name && row.Direction == "forward" && c.reason != "mark" && w.LostPackets != row.SentPackets-row.ReceivedPackets {
				t.Errorf("%s: %d packets lost, and the row says %d", name, w.LostPackets, row.SentPackets-row.ReceivedPackets)
			}
		}
		if line := fmt.Sprintf("(stdin:%d)", c.line); c.line > 0 && c.line != 18 && !strings.Contains(w.Text.String(), line) {
			t.Errorf("%s: the text does not name %s: %s", name, line, w.Text)
		}
	}
}

// A traffic that sends nothing keeps its row; one named like a class cannot be meant in an
// expectation; and of several rehearsals none runs before all can.
func TestSilentTrafficAndNames(t *testing.T) {
	t.Parallel()
	base := crossingWith(bothEnds, "7.6Mbit/s", anyVoice)
	silent := strings.Replace(base, "      - {name: up,", "      - {name: quiet, rate: 500bit/s, packet: 1500B, arrivals: poisson, from: 10.1.0.9, to: 10.2.0.9, starts: 3990ms}\n      - {name: up,", 1)
	res := result(t, silent)
	if i := slices.IndexFunc(res.Traffic, func(r measure.Row) bool { return r.Name == "quiet" }); i != 2 || res.Traffic[i].SentPackets != 0 || len(res.Traffic) != 5 {
		t.Errorf("the rows are %+v", res.Traffic)
	}
	named := strings.Replace(base, "{name: up,", "{name: voice,", 1)
	if r := imbrel(t, t.TempDir(), named, nil, "rehearse", "-"); r.status != 2 || !strings.Contains(r.err, "is a class and a traffic") {
		t.Errorf("a traffic named like a class: exit %d: %s", r.status, r.err)
	}
	second := base + "  - {name: second, lasts: 1s, traffic: [{name: c, capture: none.pcap, enters: west/lan}]}\n"
	if r := imbrel(t, t.TempDir(), second, nil, "rehearse", "-"); r.status != 2 || r.out != "" || !strings.Contains(r.err, "none.pcap does not exist") {
		t.Errorf("a second rehearsal that cannot run: exit %d, %d bytes of output: %s", r.status, len(r.out), r.err)
	}
}

// Damage that no expectation covers is a warning, and the line under the verdict names it.
func TestPassHidesNothing(t *testing.T) {
	t.Parallel()
	for file, want := range map[string]struct{ name, says string }{
		"pass-over-lossy-calls":  {"call-ruined", "Nothing was expected of loss or MOS of voice ("},
		"pass-e12-traffic":       {"call-ruined", "Nothing was expected of loss or MOS of voice (83.3 % lost, MOS 1.00)"},
		"pass-s06-arrive":        {"call-ruined", "loss or MOS of voice (79.9 % lost, MOS 1.00)"},
		"pass-s15-rest-pressure": {"call-ruined", "loss or MOS of voice ("},
		"pass-s16-remark":        {"call-ruined", "loss or MOS of voice ("},
		"pass-s17-late":          {"call-ruined", "late packets or MOS of voice (99.8 % late"},
		"pass-g03-video":         {"class-loses", "of loss of cam ("},
		"pass-e11-v6frag":        {"class-loses", "of loss of voice (100.0 % lost)"},
	} {
		text := readFile(t, broken, file+".yaml")
		r := imbrel(t, t.TempDir(), text, nil, "rehearse", "-")
		if said := strings.Join(strings.Fields(r.out), " "); r.status != 0 || !strings.Contains(said, "PASS, with") || !strings.Contains(said, want.says) {
			t.Errorf("%s: exit %d, no %q in %s", file, r.status, want.says, r.out)
		}
		if strict := imbrel(t, t.TempDir(), text, nil, "rehearse", "-", "--fail-on", "warning"); strict.status != 1 {
			t.Errorf("%s: exit %d with --fail-on warning", file, strict.status)
		}
		res := result(t, text)
		if !slices.ContainsFunc(res.Warnings, func(w measure.Warning) bool { return w.Name == want.name }) || len(res.NotJudged) == 0 {
			t.Errorf("%s: no warning %s: %+v", file, want.name, res.Warnings)
		}
	}
	// Unfinished requests fail an expectation about their completion. Without one, a warning counts them.
	text := readFile(t, broken, "pass-c02.yaml")
	if r := result(t, text); r.Verdict != "fail" {
		t.Errorf("completion of requests that did not end: %+v", r.Expectations)
	}
	silent := text[:strings.Index(text, "    expect:")] + "    expect: [voice mos >= 4]\n"
	if r := result(t, silent); !slices.ContainsFunc(r.Warnings, func(w measure.Warning) bool { return w.Name == "unfinished" }) {
		t.Errorf("requests that did not end: %+v", r.Warnings)
	}
	// An error of the file is a warning of its rehearsal.
	wrong := strings.ReplaceAll(pair, "SENDS", "10Mbit/s") + `    traffic: [{name: calls, calls: 1, codec: g711, between: [10.1.0.1, 10.2.0.1], dscp: ef}]
    expect: [calls delay p99 <= 1s]
policies: [{name: p, shape: 9Mbit/s, treat: [{class: voice, priority: 1, police: {rate: 60kbit/s, burst: 3kB}}, {class: rest}]}]
attach: [{policy: p, at: west/wan out}]
`
	if r := result(t, wrong); !slices.ContainsFunc(r.Warnings, func(w measure.Warning) bool { return w.Name == "bound-below-call" && w.Level == "warning" }) {
		t.Errorf("an error of the file: %+v", r.Warnings)
	}
}

// TestWhoPays: a run with the policies next to one without names what got worse, the worst first, or nobody.
func TestWhoPays(t *testing.T) {
	t.Parallel()
	var both struct{ Runs []measure.Result }
	r := imbrel(t, ".", "", nil, "rehearse", "../../examples/ternrock.yaml", "fog", "--both", "-o", "json")
	if err := json.Unmarshal([]byte(r.out), &both); err != nil || len(both.Runs) != 2 || both.Runs[0].WhoPays != nil || len(both.Runs[1].WhoPays) == 0 {
		t.Fatalf("exit %d, %v", r.status, err)
	}
	find := func(r *measure.Result, name string) *measure.TrafficFigures {
		for i := range r.Traffic {
			if r.Traffic[i].Name == name && r.Traffic[i].Direction == "forward" {
				return &r.Traffic[i].TrafficFigures
			}
		}
		return nil
	}
	p := both.Runs[1].WhoPays[0]
	if a, b := find(&both.Runs[0], "office"), find(&both.Runs[1], "office"); p.Name != "office" || p.Metric != "loss" || math.Abs(p.With-100*b.Loss) > 1e-3 || math.Abs(p.Without-100*a.Loss) > 1e-3 {
		t.Errorf("%+v; %v and %v lost", p, a.Loss, b.Loss)
	}
	if text := strings.Join(strings.Fields(imbrel(t, ".", "", nil, "demo").out), " "); !strings.Contains(text, "Who pays: `office` loses 31.3 % (6.0 % without the policies); `mast-camera` has a p99 delay of 181 ms (118 ms).") {
		t.Errorf("the demo does not say who pays: %s", text)
	}
	idle := strings.ReplaceAll(pair, "SENDS", "10Mbit/s") + `    traffic: [{name: calls, calls: 1, codec: g711, between: [10.1.0.1, 10.2.0.1], dscp: ef}]
`
	if r := imbrel(t, t.TempDir(), idle, nil, "rehearse", "-", "--both"); !strings.Contains(r.out, "Who pays: nobody.") {
		t.Errorf("exit %d: %s%s", r.status, r.out, r.err)
	}
}

// One lost packet of a call of half a second is not a ruined call.
func TestShortCallsAreNotRuined(t *testing.T) {
	t.Parallel()
	text := strings.Replace(strings.ReplaceAll(pair, "SENDS", "100Mbit/s"), "delay: 10ms", "delay: 10ms\n      loss: 10%", 1) +
		"    traffic: [{name: calls, calls: 3, codec: g711, between: [10.1.0.1, 10.2.0.1], lasts: LASTS}]\n    expect: [calls delay p99 <= 1s]\n"
	for lasts, want := range map[string]bool{"1s": false, "8s": true} {
		res := result(t, strings.Replace(text, "LASTS", lasts, 1))
		if got := slices.ContainsFunc(res.Warnings, func(w measure.Warning) bool { return w.Name == "call-ruined" }); got != want {
			t.Errorf("calls of %s: %+v", lasts, res.Warnings)
		}
	}
}

// --at and --class leave out all others, in the JSON as well, and change no figure of what they leave.
func TestOnlyWhatWasAsked(t *testing.T) {
	t.Parallel()
	text := crossingWith(bothEnds, "7.6Mbit/s", anyVoice)
	all, some := result(t, text, "--hops", "--every", "1s"), result(t, text, "--hops", "--every", "1s", "--at", "west/wan out", "--class", "voice")
	if len(some.Interfaces) != 1 || len(some.Interfaces[0].Classes) != 1 || len(some.Series.Interfaces) != 1 || len(some.Series.Interfaces[0].Classes) != 1 || len(some.Classes) != 1 || len(some.Traffic) == 0 || len(some.Hops) == 0 {
		t.Fatalf("%d interfaces, %d classes, %d rows, %d hops", len(some.Interfaces), len(some.Classes), len(some.Traffic), len(some.Hops))
	}
	for i := range all.Interfaces {
		if f := &all.Interfaces[i]; f.Node == "west" && f.Interface == "wan" && f.Direction == "out" {
			for j := range f.Classes {
				if f.Classes[j].Class == "voice" && f.Classes[j].SentBps != some.Interfaces[0].Classes[0].SentBps {
					t.Errorf("sent %d, and %d when it is asked for", f.Classes[j].SentBps, some.Interfaces[0].Classes[0].SentBps)
				}
			}
		}
	}
	if some.Verdict != all.Verdict || len(some.Expectations) != len(all.Expectations) {
		t.Errorf("the verdict %s of %d expectations became %s of %d", all.Verdict, len(all.Expectations), some.Verdict, len(some.Expectations))
	}
}
