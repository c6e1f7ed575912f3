package cli_test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"imbrel.example/imbrel/core/explain"
	"imbrel.example/imbrel/examples"
)

// example returns an example's text, with pieces of it replaced in turn.
func example(t testing.TB, name string, replace ...string) string {
	t.Helper()
	data, err := examples.FS.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	text := string(data)
	for i := 0; i < len(replace); i += 2 {
		if !strings.Contains(text, replace[i]) {
			t.Fatalf("%s has no %q", name, replace[i])
		}
		text = strings.Replace(text, replace[i], replace[i+1], 1)
	}
	return text
}

// ask explains one packet and reads the JSON.
func ask(t testing.TB, policy string, args ...string) explain.Answer {
	t.Helper()
	r := imbrel(t, t.TempDir(), policy, nil, append([]string{"explain", "-", "-o", "json"}, args...)...)
	if r.status != 0 {
		t.Fatalf("%v: exit %d: %s", args, r.status, r.err)
	}
	var a explain.Answer
	if err := json.Unmarshal([]byte(r.out), &a); err != nil {
		t.Fatal(err)
	}
	return a
}

func tc(m explain.Marks) string {
	if m.TC == nil {
		return "-"
	}
	return fmt.Sprint(*m.TC)
}

// The three models of RFC 3270 §2.6, with the label taken off at the last node
// or the one before it, after core2 has rewritten the label's traffic class.
func TestLabelSwitchedModels(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		model, pop string
		labels     string
		arrives    string
		lastClass  string // at the last node, which looks for EF
		stacks     string // when it leaves each node
	}{
		{"pipe", "ultimate", "1", "ef", "marked-voice", "[5] [5] [0] []"},
		{"short-pipe", "ultimate", "1", "ef", "marked-voice", "[5] [5] [0] []"},
		{"uniform", "ultimate", "1", "df", "rest", "[5] [5] [0] []"},
		{"pipe", "penultimate", "1", "ef", "marked-voice", "[5] [5] [] []"},
		{"uniform", "penultimate", "1", "df", "rest", "[5] [5] [] []"},
		{"pipe", "penultimate", "2", "ef", "marked-voice", "[5 5] [5 5] [5] []"},
		{"uniform", "penultimate", "2", "df", "rest", "[5 5] [5 5] [0] []"},
		{"uniform", "ultimate", "2", "df", "rest", "[5 5] [5 5] [0 5] []"},
	} {
		name := c.model + ", " + c.pop + ", " + c.labels
		policy := example(t, "coast-mpls.yaml", "model: pipe", "model: "+c.model, "pop: ultimate", "pop: "+c.pop, "labels: 1", "labels: "+c.labels)
		a := ask(t, policy, "--from", "10.80.1.5", "--to", "10.80.2.5", "--to-port", "16400")
		stacks := []string{}
		for i := range a.Hops {
			if s := &a.Hops[i]; s.Direction == "out" {
				stacks = append(stacks, fmt.Sprint(s.Labels))
			}
		}
		last := a.Hops[len(a.Hops)-1]
		for i := range a.Hops { // what is said of the marks is what is on the link
			if s := &a.Hops[i]; s.Direction == "out" && (s.MarksOut.TC != nil) != (len(s.Labels) > 0) {
				t.Errorf("%s: %s leaves with labels %v, but TC %s", name, s.Node, s.Labels, tc(s.MarksOut))
			}
		}
		if got := strings.Join(stacks, " "); got != c.stacks || a.Arrives.DSCP != c.arrives || last.Class != c.lastClass {
			t.Errorf("%s: label stacks %s, arrives as %s, %s at the last node; want %s, %s, %s", name, got, a.Arrives.DSCP, last.Class, c.stacks, c.arrives, c.lastClass)
		}
		if core2 := a.Hops[5]; core2.Node != "core2" || core2.Class != "rest" || tc(core2.MarksIn) != "5" {
			t.Errorf("%s: core2 classifies by DSCP where there is a label, but takes it as %q", name, core2.Class)
		}
		if core1 := a.Hops[3]; core1.Class != "labelled-voice" || core1.Priority != 1 || core1.MarksOut.PCP == nil || *core1.MarksOut.PCP != 0 {
			t.Errorf("%s: core1: %+v", name, core1)
		}
		if !strings.Contains(a.Summary.String(), "2 of 3 links on its route give it priority") || !strings.Contains(a.Summary.String(), "`core2` puts it in class rest") {
			t.Errorf("%s: %s", name, a.Summary)
		}
	}
	// A policy at the start marks the label that is pushed there.
	a := ask(t, example(t, "coast-mpls.yaml", "{class: voice, mark: ef,", "{class: voice, mark: {dscp: ef, tc: 3},"), "--from", "10.80.1.5", "--to", "10.80.2.5", "--to-port", "16400")
	if fmt.Sprint(a.Hops[1].Labels) != "[3]" || a.Hops[1].MarksOut.DSCP != "ef" {
		t.Errorf("mark: {dscp: ef, tc: 3} at the start leaves labels %v, %s", a.Hops[1].Labels, a.Hops[1].MarksOut.DSCP)
	}
	// The path is one way: back there is no label.
	back := ask(t, example(t, "coast-mpls.yaml"), "--from", "10.80.2.5", "--to", "10.80.1.5")
	for _, h := range back.Hops {
		if len(h.Labels) > 0 {
			t.Errorf("a label in the other direction: %+v", h)
		}
	}
}

// RFC 2983: the outer header takes the DSCP; what comes back down is the model's.
func TestIPTunnels(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ kind, model, arrives string }{
		{"gre", "uniform", "cs1"}, {"gre", "pipe", "ef"}, {"ipsec", "uniform", "cs1"}, {"ipsec", "short-pipe", "ef"},
	} {
		policy := example(t, "coast-mpls.yaml", "kind: mpls", "kind: "+c.kind, "labels: 1, model: pipe, pop: ultimate", "model: "+c.model+", from: 192.0.2.1, to: 192.0.2.2",
			"{class: rest, mark: {tc: 0}}", "{class: rest, mark: cs1}", "match: [{dscp: ef}]", "match: [{dscp: ef, to: 10.80.2.0/24}]")
		a := ask(t, policy, "--from", "10.80.1.5", "--to", "10.80.2.5", "--to-port", "16400")
		// core2 sees the outer header: EF, but to another address, so it marks it CS1.
		core2 := a.Hops[5]
		if core2.Class != "rest" || core2.MarksIn.DSCP != "ef" || core2.MarksOut.DSCP != "cs1" || a.Arrives.DSCP != c.arrives {
			t.Errorf("%s, %s: core2 %s, %s to %s; arrives as %s, want %s", c.kind, c.model, core2.Class, core2.MarksIn.DSCP, core2.MarksOut.DSCP, a.Arrives.DSCP, c.arrives)
		}
		// Both ways.
		back := ask(t, policy, "--from", "10.80.2.5", "--to", "10.80.1.5", "--dscp", "ef")
		if back.Hops[1].Tunnel != "coast" {
			t.Errorf("%s: not taken in the other direction: %+v", c.kind, back.Hops[1])
		}
	}
}

// What each key of a packet leads to, at the first policy of the example that
// uses every key of the language.
func TestEveryKeyClassifies(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	for _, name := range []string{"every-key.yaml", "parts/shore-apps.yaml"} {
		put(t, dir, name, example(t, name))
	}
	base := []string{"explain", "every-key.yaml", "-o", "json", "--from", "10.70.1.5", "--to", "10.70.2.5"}
	for args, want := range map[string]string{
		"--looks-like-rtp":                "voice df→ef",
		"--dscp ef":                       "voice ef→ef",
		"--dscp 44":                       "voice voice-admit→ef",
		"--to-port 7001":                  "controls df→cs6",
		"--protocol tcp --from-port 7001": "controls df→cs6",
		"--protocol icmp --dscp cs6":      "controls cs6→cs6",
		"--protocol tcp --server-name x.tides.example":                       "tides df→df",
		"--protocol tcp --server-name charts.example --dscp af41":            "tides af41→af42",
		"--protocol tcp --server-name tides.example":                         "rest/rest/rest df→df",
		"--protocol tcp --server-name wiki.shore.example --dscp cs3":         "tides cs3→le",
		"--protocol tcp --length 100":                                        "small df→df",
		"--to-port 27015":                                                    "games blocked",
		"--to-port 27015 --time 2026-03-02T06:30":                            "games df→df",
		"--protocol tcp --to-port 873 --time 2026-03-02T08:30 --length 1500": "bulk df→df",
		"--protocol tcp --to-port 873 --time 2026-03-02T06:30 --length 1500": "bulk df→df", // its limit alone has a when
		"--protocol tcp --length 100 --time 2026-03-07T23:30":                "small df→df",
		"--protocol tcp --length 100 --time 2026-03-04T23:30":                "rest/rest/small df→df",
		"--protocol tcp --to-port 9000 --length 1500":                        "rest/rest/rest df→df",
	} {
		r := imbrel(t, dir, "", nil, append(base, strings.Fields(args)...)...)
		var a explain.Answer
		if err := json.Unmarshal([]byte(r.out), &a); err != nil {
			t.Errorf("%s: %v %s", args, err, r.err)
			continue
		}
		s := a.Hops[1]
		got := s.Class + " " + s.MarksIn.DSCP + "→" + s.MarksOut.DSCP
		if s.Blocked {
			got = s.Class + " blocked"
		}
		if got != want {
			t.Errorf("%s: %s; want %s", args, got, want)
		}
	}
	six := imbrel(t, dir, "", nil, "explain", "every-key.yaml", "--from", "2001:db8:70:1::5", "--to", "2001:db8:70:2::5", "--protocol", "tcp", "--why")
	if !strings.Contains(six.out, "class local") || !strings.Contains(six.out, "until it is below 60% for 30s") {
		t.Errorf("IPv6 from the local interface:\n%s%s", six.out, six.err)
	}
	var tagged explain.Answer
	r := imbrel(t, dir, "", nil, append(base, "--protocol", "tcp", "--to-port", "7001")...)
	if err := json.Unmarshal([]byte(r.out), &tagged); err != nil {
		t.Fatal(err, r.err)
	}
	if m := tagged.Hops[1].MarksOut; m.PCP == nil || *m.PCP != 6 || m.TC == nil || *m.TC != 6 || m.DSCP != "cs6" {
		t.Errorf("mark: {dscp: cs6, pcp: 6, tc: 6} leaves %+v", m)
	}
	pcp := ask(t, example(t, "site-wan.yaml", "{class: rest, mark: df}", "{class: tagged, mark: af33}\n      - {class: rest, mark: df}",
		"  - {name: shell,", "  - {name: tagged, match: [{pcp: [4, 5], vlan: 30-39}]}\n  - {name: shell,", "at: a/wan out", "at: a/lan in"),
		"--from", "10.61.8.2", "--to", "10.61.64.2", "--pcp", "5", "--vlan", "30")
	if s := pcp.Hops[0]; s.Class != "tagged" || s.MarksOut.DSCP != "af33" {
		t.Errorf("a packet with PCP 5 in VLAN 30 is %s, leaves as %s", s.Class, s.MarksOut.DSCP)
	}
}

func TestExplainSaysWhy(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	imbrel(t, dir, "", nil, "demo", "--write", ".")
	r := imbrel(t, dir, "", nil, "explain", "ternrock.yaml", "--from", "10.44.10.40", "--to", "10.44.64.99", "--protocol", "tcp", "--to-port", "8730", "--dscp", "ef", "--why")
	for _, want := range []string{
		"EF 46 0x2e (ToS 0xb8) → DF 0 0x00 (ToS 0x00)", "charts (line", "except to 10.44.64.99", "ternrock/radio out: class rest",
		"gets at least 2.41 Mbit/s of 11.4 Mbit/s", "The packet arrives marked DF. No link on its route gives it priority: `ternrock` puts it in class rest.",
	} {
		if !strings.Contains(strings.Join(strings.Fields(r.out), " "), want) {
			t.Errorf("does not say %q:\n%s%s", want, r.out, r.err)
		}
	}
}

func TestExplainBadQuestions(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	imbrel(t, dir, "", nil, "demo", "--write", ".")
	put(t, dir, "coast.yaml", example(t, "coast-mpls.yaml"))
	put(t, dir, "island.yaml", strings.Replace(example(t, "coast-mpls.yaml"), "    - {ends: [{at: core1/east}, {at: core2/west}], delay: 3ms}\n", "", 1))
	for name, c := range map[string]struct{ args, want string }{
		"no addresses":      {"ternrock.yaml", "needs --from and --to"},
		"half":              {"ternrock.yaml --from 10.44.8.1", "needs --from and --to"},
		"junk":              {"ternrock.yaml --from x --to 10.44.64.1", "not an address"},
		"a stranger":        {"ternrock.yaml --from 192.0.2.1 --to 10.44.64.1", "the sender 192.0.2.1 is in no subnet"},
		"to a stranger":     {"ternrock.yaml --from 10.44.8.1 --to 192.0.2.1", "the receiver 192.0.2.1 is in no subnet"},
		"neighbours":        {"ternrock.yaml --from 10.44.8.1 --to 10.44.8.2", "both addresses are at ternrock/lan"},
		"mixed":             {"ternrock.yaml --from 10.44.8.1 --to 2001:db8:44:64::1", "different IP versions"},
		"a bad DSCP":        {"ternrock.yaml --from 10.44.8.1 --to 10.44.64.1 --dscp 64", "0 to 63"},
		"a bad PCP":         {"ternrock.yaml --from 10.44.8.1 --to 10.44.64.1 --pcp 8", "from 0 to 7"},
		"a bad time":        {"ternrock.yaml --from 10.44.8.1 --to 10.44.64.1 --time noon", "2026-03-02T08:30"},
		"a bad length":      {"ternrock.yaml --from 10.44.8.1 --to 10.44.64.1 --length 27", "28 to 65535"},
		"enters nowhere":    {"ternrock.yaml --from 10.44.8.1 --to 10.44.64.1 --enter x/y", "there are: ternrock/lan"},
		"a flag too many":   {"ternrock.yaml --capture ternrock-office.pcap --dscp ef", "--dscp has no effect with --capture"},
		"no such capture":   {"ternrock.yaml --capture none.pcap", "none.pcap does not exist"},
		"a policy, capture": {"ternrock.yaml --capture ternrock.yaml", "is not a pcap or pcapng capture"},
		"no link":           {"island.yaml --from 10.80.1.5 --to 10.80.2.5", "no link joins `core1` and `core2`"},
	} {
		r := imbrel(t, dir, "", nil, append([]string{"explain"}, strings.Fields(c.args)...)...)
		if r.status != 2 || !strings.Contains(r.err, c.want) || strings.Contains(r.err, "our own fault") {
			t.Errorf("%s: exit %d, %q; want 2 and %q", name, r.status, r.err, c.want)
		}
	}
}

// What each flow of the real captures is, by its server port and protocol, and
// the class that takes most of its packets.
func TestRealCapturesAreRecognised(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	put(t, dir, "site.yaml", example(t, "site-wan.yaml"))
	want := map[string]string{
		"tcp 8730": "chart-sync charts", "tcp 80": "weather weather", "tcp 443 feeds.weather.example": "weather weather", "tcp 443 mail.weather.example": "weather weather",
		"tcp 22": "ssh shell", "udp 53": "dns dns", "udp 5060": "sip signalling", "udp 23456": "rtp-media voice", "udp 23457": "rtp-media voice",
		"udp 23476": "rtp-media media", "udp 23477": "rtp-media media", "udp 7400": " radar", "icmp 0": "icmp rest", "icmpv6 0": "icmp rest",
	}
	for _, full := range siteCaptures(t) {
		path := filepath.Base(full)
		r := imbrel(t, dir, "", nil, "explain", "site.yaml", "--capture", full, "-o", "json")
		var res explain.CaptureResult
		if err := json.Unmarshal([]byte(r.out), &res); err != nil || r.status != 0 {
			t.Fatalf("%s: exit %d, %v, %s", path, r.status, err, r.err)
		}
		found := make(map[string]bool)
		var packets, inClasses int64
		for _, f := range res.Flows {
			packets += f.Packets
			if len(f.At) == 0 {
				continue // between link-local addresses
			}
			inClasses += f.Packets
			port := f.ToPort
			for _, known := range []uint16{8730, 80, 443, 22, 53, 5060} {
				if f.FromPort == known {
					port = known
				}
			}
			key := fmt.Sprintf("%s %d", f.Protocol, port)
			if port == 443 {
				key += " " + f.ServerName
			}
			expected, known := want[key]
			if strings.Contains(path, "snap96") { // 96 bytes hold no server name
				switch key {
				case "tcp 80":
					expected = "http rest"
				case "tcp 443 ":
					expected, known = "https rest", true
				}
			}
			if got := f.App + " " + f.At[0].Class; !known || got != expected && f.Packets > 6 || f.App != strings.Fields(expected + " -")[0] && strings.Fields(expected)[0] != "radar" {
				t.Errorf("%s: %s is %q; want %q", path, key, got, expected)
			}
			found[key] = true
		}
		if !strings.Contains(path, "snap96") && len(found) != len(want) {
			t.Errorf("%s: found %d of %d kinds of flows: %v", path, len(found), len(want), found)
		}
		var total int64
		for _, c := range res.Classes {
			total += c.Packets
		}
		if total != inClasses {
			t.Errorf("%s: the classes hold %d packets, the flows %d", path, total, inClasses)
		}
		t.Logf("%s: %d packets, %d flows", path, packets, len(res.Flows))
	}
}

func TestExplainBrokenCaptures(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	put(t, dir, "site.yaml", example(t, "site-wan.yaml"))
	whole, err := os.ReadFile(filepath.Join("testdata", "site.pcap"))
	if err != nil {
		t.Fatal(err)
	}
	put(t, dir, "cut.pcap", string(whole[:len(whole)/2]))
	r := imbrel(t, dir, "", nil, "explain", "site.yaml", "--capture", "cut.pcap")
	if r.status != 0 || !strings.Contains(r.out, "the file is cut short after packet") {
		t.Errorf("a capture cut in the middle: exit %d\n%s%s", r.status, r.out, r.err)
	}
	// Every packet cut to 64 bytes, and times running backwards.
	snap, at, n := append([]byte{}, whole[:24]...), 24, 0
	for at < len(whole) {
		size := int(whole[at+8]) | int(whole[at+9])<<8
		record := append([]byte{}, whole[at:at+16+min(size, 64)]...)
		record[8], record[9] = byte(min(size, 64)), 0
		record[0] -= byte(n % 3)
		snap = append(snap, record...)
		at += 16 + size
		n++
	}
	put(t, dir, "snap.pcap", string(snap))
	r = imbrel(t, dir, "", nil, "explain", "site.yaml", "--capture", "snap.pcap")
	if r.status != 0 || !strings.Contains(r.out, "earlier than the one before") || !strings.Contains(r.out, "chart-sync") {
		t.Errorf("64 bytes a packet, times backwards: exit %d\n%s%s", r.status, r.out, r.err)
	}
}

func TestCodepointCommand(t *testing.T) {
	t.Parallel()
	var got struct {
		Codepoints []struct {
			Name, Binary, Hex, Reading string
			DSCP, ToS, PCP, TC         int
			ServiceClass               string `json:"service_class"`
		}
	}
	r := imbrel(t, t.TempDir(), "", nil, "codepoint", "ef", "0xb8", "101110", "-o", "json")
	if err := json.Unmarshal([]byte(r.out), &got); err != nil || len(got.Codepoints) != 3 {
		t.Fatalf("%v in %s", err, r.out)
	}
	for _, c := range got.Codepoints {
		if c.Name != "ef" || c.DSCP != 46 || c.Binary != "101110" || c.Hex != "0x2e" || c.ToS != 184 || c.PCP != 5 || c.TC != 5 || c.ServiceClass != "telephony" {
			t.Errorf("%+v", c)
		}
	}
	if all := imbrel(t, t.TempDir(), "", nil, "codepoint"); strings.Count(all.out, "\n") != 25 {
		t.Errorf("the whole table has %d lines; 23 names and 2 of heading are 25", strings.Count(all.out, "\n"))
	}
	if both := imbrel(t, t.TempDir(), "", nil, "codepoint", "40"); !strings.Contains(both.out, "40 as DSCP") || !strings.Contains(both.out, "40 as ToS byte") {
		t.Errorf("40 has two readings:\n%s", both.out)
	}
	if bad := imbrel(t, t.TempDir(), "", nil, "codepoint", "efg"); bad.status != 2 {
		t.Errorf("efg: exit %d", bad.status)
	}
}

func TestAppsListed(t *testing.T) {
	t.Parallel()
	r := imbrel(t, t.TempDir(), "", nil, "explain", "--apps")
	if n := strings.Count(r.out, "\n") - 2; n < 60 {
		t.Errorf("%d applications are built in; some sixty are wished", n)
	}
	dir := t.TempDir()
	put(t, dir, "site.yaml", example(t, "site-wan.yaml"))
	if r := imbrel(t, dir, "", nil, "explain", "--apps", "site.yaml"); !strings.Contains(r.out, "*.weather.example") || !strings.Contains(r.out, "looks like rtp") {
		t.Errorf("the file's own are not listed:\n%s", r.out)
	}
}

// What an entry with instances gets is separate from what one of them gets, at
// any depth, and every policer is named.
func TestExplainSaysWhatIsEachOnes(t *testing.T) {
	t.Parallel()
	const outer, inner = "        each: interface\n", "each: source, at-most: 3Mbit/s"
	for name, c := range map[string]struct {
		replace []string
		want    string
	}{
		"within each": {nil, "queue together they get at least 5.00 Mbit/s of the 10.0 Mbit/s of each interface when all within it send, each source never more than 3.00 Mbit/s; each queue holds 37.5 kB "},
		"once":        {[]string{outer, ""}, "queue together they get at least 5.00 Mbit/s of 30.0 Mbit/s, each source never more than 3.00 Mbit/s; each queue holds 37.5 kB "},
		// Of the 2 Mbit/s left over it gets 80 parts of 81.
		"its own": {[]string{inner, "at-least: 80%"}, "queue gets at least 8.00 Mbit/s of the 10.0 Mbit/s of each interface when all within it send; each queue holds 100 kB "},
		"policers": {[]string{outer, outer + "        police: {rate: 9Mbit/s, burst: 20kB}\n", inner, "police: {rate: 2Mbit/s, burst: 5kB}"},
			"meter 9Mbit/s, burst 20kB; drops what exceeds it; then 2Mbit/s, burst 5kB; drops what exceeds it "},
	} {
		r := imbrel(t, t.TempDir(), example(t, "cookbook/floors.yaml", c.replace...), nil, "explain", "-", "--from", "10.92.2.1", "--to", "10.93.0.1")
		if r.status != 0 || !strings.Contains(strings.Join(strings.Fields(r.out), " ")+" ", c.want) {
			t.Errorf("%s: exit %d\n%s%s\nwant %q", name, r.status, r.out, r.err, c.want)
		}
	}
}
