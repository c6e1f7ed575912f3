package cli_test

import (
	"encoding/json"
	"fmt"
	"math"
	"strings"
	"testing"

	"imbrel.example/imbrel/core/allocation"
	"imbrel.example/imbrel/core/measure"
)

// sites is a policy for many sites, each a line, and their hub.
func sites(n int, attach string) string {
	var b strings.Builder
	b.WriteString(`imbrel: 1
classes:
  - {name: voice, match: [{from: here, to-port: 16384-32767}, {to: here, from-port: 16384-32767}]}
  - {name: guests, match: [{from: 10.200.0.0/16}]}
policies:
  - name: branch
    shape: 95%
    treat:
      - {class: voice, mark: ef, priority: 1, police: {calls: 4, codec: g711}}
      - {class: guests, at-least: 10%}
`)
	b.WriteString(attach)
	b.WriteString("network:\n  nodes:\n    - {name: hub, interfaces: [{name: lan, rate: 10Gbit/s, subnets: [10.255.0.0/16]}]}\n")
	for i := range n {
		fmt.Fprintf(&b, "    - {name: s%d, interfaces: [{name: lan, rate: 1Gbit/s, subnets: [10.%d.%d.0/24]}, {name: wan, rate: 1Gbit/s, link: {to: hub, sends: %dMbit/s, receives: 50Mbit/s, delay: 5ms}}]}\n", i, i/200, i%200, 2+i%30)
	}
	return b.String()
}

// One policy for many sites: at each, `here` is its own subnets, and the shape follows
// its own link, in either direction.
func TestOnePolicyForManySites(t *testing.T) {
	t.Parallel()
	text := sites(3, "attach:\n  - {policy: branch, at: \"*/wan out\"}\n  - {policy: branch, at: hub/s1 out}\n  - {policy: branch, at: [s0/wan in, \"s2/w*n in\"]}\n")
	r := imbrel(t, t.TempDir(), text, nil, "shares", "-", "-o", "json")
	var res allocation.Result
	if err := json.Unmarshal([]byte(r.out), &res); err != nil {
		t.Fatal(err, r.err)
	}
	var got []string
	for _, f := range res.Interfaces {
		got = append(got, fmt.Sprintf("%s/%s %s %d", f.Node, f.Interface, f.Direction, f.Rate/1000))
	}
	want := "s0/wan out 1900, s1/wan out 2850, s2/wan out 3800, hub/s1 out 47500, s0/wan in 47500, s2/wan in 47500"
	if strings.Join(got, ", ") != want {
		t.Errorf("%s; want %s", strings.Join(got, ", "), want)
	}
	for site, class := range map[string]string{"0": "voice", "1": "rest"} {
		a := ask(t, text, "--from", "10.0."+site+".9", "--to", "10.255.0.1", "--to-port", "16400", "--enter", "s0/lan")
		if a.Hops[1].Class != class {
			t.Errorf("a call from 10.0.%s.9 entering at s0 is %s; want %s", site, a.Hops[1].Class, class)
		}
	}
}

func TestAttachments(t *testing.T) {
	t.Parallel()
	two := strings.Replace(sites(3, "ATTACH"), "policies:\n", "policies:\n  - {name: other, treat: [{class: guests, priority: 1}]}\n  - {name: greedy, treat: [{class: guests, at-least: 3Mbit/s}]}\n", 1)
	for name, c := range map[string]struct{ attach, want string }{
		"an exact name beats a pattern": {"attach: [{policy: branch, at: \"*/wan out\"}, {policy: other, at: s1/wan out}]\n", "s1/wan out, policy other"},
		"also when it comes first":      {"attach: [{policy: other, at: s1/wan out}, {policy: branch, at: \"*/wan out\"}]\n", "s1/wan out, policy other"},
		"no match":                      {"attach: [{policy: branch, at: \"*/wam out\"}]\n", "no interface matches `*/wam`"},
		"two patterns for one place":    {"attach: [{policy: branch, at: \"*/wan out\"}, {policy: other, at: \"s*/wan out\"}]\n", "two policies at s0/wan out"},
		"a place twice in a list":       {"attach: [{policy: branch, at: [s0/wan out, s0/wan out]}]\n", "two policies at s0/wan out"},
		"a star is within one part":     {"attach: [{policy: branch, at: \"* out\"}]\n", "no interface matches `*`"},
		"what repeats is said once":     {"attach: [{policy: greedy, at: \"*/wan out\"}]\n", "the promises come to 3Mbit/s, and there is 2Mbit/s at s0/wan out\n"},
		"here needs hosts":              {"attach: [{policy: branch, at: relay/a out}]\n", "the class `voice` uses `here`, and the node has no subnets at relay/a out"},
	} {
		text := strings.Replace(two, "ATTACH", c.attach, 1)
		if strings.Contains(name, "hosts") {
			text += "    - {name: relay, interfaces: [{name: a, rate: 1Gbit/s, link: {to: hub}}]}\n"
		}
		r := imbrel(t, t.TempDir(), text, nil, "shares", "-")
		if !strings.Contains(r.out+r.err, c.want) || strings.Count(r.err, "come to") > 1 {
			t.Errorf("%s: exit %d\n%s%s\nwant %q", name, r.status, r.out[:min(len(r.out), 400)], r.err, c.want)
		}
	}
	many := strings.Replace(strings.Replace(two, "ATTACH", "attach: [{policy: greedy, at: \"*/wan out\"}]\n", 1), "at-least: 3Mbit/s", "at-least: 30Mbit/s", 1)
	if r := imbrel(t, t.TempDir(), many, nil, "shares", "-"); !strings.Contains(r.err, "at s0/wan out, and so at 2 more") {
		t.Errorf("a problem at three places:\n%s", r.err)
	}
}

// The network may be spread over included files, and traffic be named once.
func TestNetworkAndLoadsOverFiles(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	put(t, dir, "main.yaml", `imbrel: 1
include: [sites/oak.yaml, loads.yaml]
network: {nodes: [{name: hub, interfaces: [{name: lan, rate: 1Gbit/s, subnets: [10.255.0.0/16]}]}]}
rehearsals:
  - {name: one, lasts: 2s, traffic: [{load: evening}, {name: own, rate: 1Mbit/s, packet: 500B, from: 10.1.0.1, to: 10.255.0.1}], expect: [calls mos >= 4, film rate <= 5.1Mbit/s, own loss = 0]}
  - {name: two, lasts: 1s, traffic: [{load: evening}]}
`)
	put(t, dir, "sites/oak.yaml", "imbrel: 1\nnetwork: {nodes: [{name: oak, interfaces: [{name: lan, rate: 1Gbit/s, subnets: [10.1.0.0/16]}, {name: wan, rate: 1Gbit/s, link: {to: hub, sends: 10Mbit/s, receives: 20Mbit/s, delay: 2ms, buffer: 20ms}}]}]}\n")
	put(t, dir, "loads.yaml", "imbrel: 1\nloads:\n  evening:\n    - {name: calls, calls: 2, codec: g729, interval: 40ms, between: [10.1.0.2, 10.255.0.2], from-port: 20000, to-port: 30000}\n    - {name: film, rate: 5Mbit/s, packet: 1400B, from: 10.255.0.9, to: 10.1.0.9}\n")
	r := imbrel(t, dir, "", nil, "rehearse", "main.yaml", "-o", "json")
	var runs struct{ Runs []measure.Result }
	if err := json.Unmarshal([]byte(r.out), &runs); err != nil || r.status != 0 || len(runs.Runs) != 2 {
		t.Fatalf("exit %d, %v: %s", r.status, err, r.err)
	}
	one := runs.Runs[0]
	if one.Verdict != "pass" || len(one.Traffic) != 4 || len(one.Links) != 2 || one.Links[1].From != "hub/oak" && one.Links[0].From != "hub/oak" {
		t.Errorf("%s, %d traffics, links %+v", one.Verdict, len(one.Traffic), one.Links)
	}
	for _, row := range one.Traffic {
		// 40 ms of G.729 are 40 bytes of payload, 80 of IP, 25 a second.
		if row.Name == "calls" && (row.OfferedBps != 2*80*8*25 || row.SentPackets != 100) {
			t.Errorf("two calls of G.729 every 40 ms: %+v", row)
		}
	}
	for name, c := range map[string]struct{ old, new, want string }{
		"an unknown load":         {"{load: evening}, ", "{load: evenin}, ", "there is no load `evenin`"},
		"a key beside it":         {"{load: evening}, ", "{load: evening, dscp: ef}, ", "`load` has no other key beside it"},
		"a name of both":          {"name: own", "name: film", "two traffics of the rehearsal `one` are named `film`"},
		"a hub that is not there": {"name: hub", "name: hut", "there is no node `hub`"},
	} {
		put(t, dir, "bad.yaml", strings.Replace(readFile(t, dir, "main.yaml"), c.old, c.new, 1))
		if r := imbrel(t, dir, "", nil, "rehearse", "bad.yaml"); r.status != 2 || !strings.Contains(r.err, c.want) {
			t.Errorf("%s: exit %d: %s\nwant %q", name, r.status, r.err, c.want)
		}
	}
}

// Calls of one rehearsal never share a port pair; more than there are ports for are
// refused.
func TestCallsHavePortsOfTheirOwn(t *testing.T) {
	t.Parallel()
	text := wan("100Mbit/s", "      - {name: a, calls: 3, codec: g711, between: [10.1.0.1, 10.2.0.1]}\n      - {name: b, calls: 3, codec: g711, between: [10.1.0.1, 10.2.0.1]}\n",
		"  - {name: p, treat: [{class: rest, each: flow}]}\n")
	if c := at(t, result(t, text), "rest"); c.Instances == nil || c.Instances.Max != 6 {
		t.Errorf("six calls are %+v", c.Instances)
	}
	r := imbrel(t, t.TempDir(), strings.Replace(strings.Replace(text, "calls: 3", "calls: 30000", 1), "lasts: 10s", "lasts: 1s", 1), nil, "rehearse", "-")
	if r.status != 2 || !strings.Contains(r.err, "30000 calls between two addresses do not have a port each") {
		t.Errorf("30,000 calls: exit %d, %s", r.status, r.err)
	}
}

// A carrier counts bytes by its own framing: a shaper that forgets overhead fails in a
// rehearsal as it does in life.
func TestTheCarriersFraming(t *testing.T) {
	t.Parallel()
	text := wan("10Mbit/s", "      - {name: calls, calls: 60, codec: g729, between: [10.1.0.1, 10.2.0.1], dscp: ef}\n      - {name: bulk, rate: 15Mbit/s, packet: 300B, from: 10.1.0.9, to: 10.2.0.9, to-port: 8000}\n",
		"  - {name: p, shape: 95%, treat: [{class: voice, priority: 1, police: {calls: 60, codec: g729}}, {class: rest}]}\n")
	plain := result(t, text)
	cells := result(t, strings.Replace(text, "{at: west/wan, sends: 10Mbit/s}", "{at: west/wan, sends: 10Mbit/s, framing: aal5-pppoe-llc}", 1))
	if plain.Links[0].Drops != 0 || cells.Links[0].Drops == 0 {
		t.Errorf("as the interface counts the carrier drops %d, in cells %d; want 0 and more", plain.Links[0].Drops, cells.Links[0].Drops)
	}
	// 300 bytes of IP in PPPoE over AAL5 (LLC) are 340, 8 cells, 424 on the line: 10 Mbit/s
	// carry 2,948 packets a second; with G.729 (60 bytes: 3 cells, 159) among them fewer.
	if carried := float64(cells.Links[0].CarriedBps); math.Abs(carried/10e6-1) > 0.01 {
		t.Errorf("the carrier carried %.0f bit/s of 10 Mbit/s", carried)
	}
}

// A thousand sites from one policy, within a second; and the file stays a line a site.
func BenchmarkThousandSites(b *testing.B) {
	dir := b.TempDir()
	text := sites(1000, "attach: [{policy: branch, at: \"*/wan out\"}]\n")
	if lines := strings.Count(text, "\n"); lines > 1100 {
		b.Fatalf("%d lines", lines)
	}
	put(b, dir, "sites.yaml", text)
	for b.Loop() {
		if r := imbrel(b, dir, "", nil, "shares", "sites.yaml"); r.status != 0 {
			b.Fatal(r.err)
		}
	}
}

// A rehearsal of thirty sites fits a few screens of text, the worst first; --all has all.
func TestManySitesFitAFewScreens(t *testing.T) {
	t.Parallel()
	text := example(t, "cookbook/branches.yaml")
	var traffic strings.Builder
	for i := 1; i <= 30; i++ {
		fmt.Fprintf(&traffic, "    - {name: calls-%d, calls: 5, codec: g711, between: [10.96.%d.5, 10.96.200.%d]}\n", i, i, i)
		fmt.Fprintf(&traffic, "    - {name: backup-%d, rate: 12Mbit/s, packet: 1500B, from: 10.96.%d.9, to: 10.96.200.%d}\n", i, i, i)
	}
	text = text[:strings.Index(text, "    - {name: first-calls")] + traffic.String() + text[strings.Index(text, "\nnetwork:"):]
	text = text[:strings.Index(text, "    expect:")] + "    expect: [voice loss = 0]\n"
	text = strings.Replace(text, "{name: calls-6, calls: 5,", "{name: calls-6, calls: 9,", 1) // more than the policer's five
	r := imbrel(t, t.TempDir(), text, nil, "rehearse", "-")
	if n := strings.Count(r.out, "\n"); n > 40 || !strings.Contains(r.out, "FAILS  calls-6") || !strings.HasPrefix(strings.Split(r.out, "\n")[2], "FAIL, with") {
		t.Errorf("%d lines for thirty sites:\n%s", n, r.out)
	}
	detail := imbrel(t, t.TempDir(), text, nil, "rehearse", "-", "--detail")
	if n := strings.Count(detail.out, "\n"); n > 180 || !strings.Contains(detail.out, "less harmed") || strings.Count(detail.out, "FAIL, with") != 2 {
		t.Errorf("%d lines in detail for thirty sites, the verdict at both ends:\n%.600s", n, detail.out)
	}
	rows := strings.Index(detail.out, "What the traffic met")
	if first := strings.Fields(detail.out[rows+strings.Index(detail.out[rows:], "──"):])[1]; first != "calls-6" {
		t.Errorf("the first row is %s; the calls of the sixth site are ruined\n%s", first, detail.out[rows:rows+800])
	}
	if all := imbrel(t, t.TempDir(), text, nil, "rehearse", "-", "--all"); strings.Count(all.out, "calls-") < 60 {
		t.Error("--all does not have every row")
	}
	one := imbrel(t, t.TempDir(), text, nil, "rehearse", "-", "--at", "hub/cherry", "--class", "phones", "--packets")
	if strings.Contains(one.out, "osier/wan out: policy") || !strings.Contains(one.out, "hub/cherry out: policy") || !strings.Contains(one.out, "/s") || strings.Contains(one.out, "backup-") {
		t.Errorf("--at and --class:\n%s", one.out)
	}
}
