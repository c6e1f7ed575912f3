package cli_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"imbrel.example/imbrel/core/allocation"
	"imbrel.example/imbrel/core/explain"
	"imbrel.example/imbrel/core/measure"
)

// What once broke the program, each in a file of testdata/broken.
const broken = "testdata/broken"

// rehearsed returns the result of a broken file's rehearsal.
func rehearsed(t *testing.T, file string) measure.Result {
	t.Helper()
	r := imbrel(t, broken, "", nil, "rehearse", file, "-o", "json")
	if r.status > 1 {
		t.Fatalf("%s: exit %d: %s", file, r.status, r.err)
	}
	return parsed[measure.Result](t, r.out)
}

// drops sums those of a class at an interface.
func classOf(t *testing.T, r *measure.Result, at, class string) *measure.Class {
	t.Helper()
	for i := range r.Interfaces {
		for j := range r.Interfaces[i].Classes {
			if f := &r.Interfaces[i]; f.Node+"/"+f.Interface+" "+f.Direction == at && f.Classes[j].Class == class {
				return &f.Classes[j]
			}
		}
	}
	t.Fatalf("no class %s at %s", class, at)
	return nil
}

// A nested `rest` is not counted beside that of the top level.
func TestBrokenNestedRest(t *testing.T) {
	t.Parallel()
	r := rehearsed(t, "expect-nested-double-count.yaml")
	top := classOf(t, &r, "west/wan out", "rest")
	for _, o := range r.Expectations {
		if strings.HasPrefix(o.Text, "rest drops at west/wan out") && (o.Measured == nil || *o.Measured != float64(top.Drops.Total()) || *o.Measured > float64(top.OfferedPackets)) {
			t.Errorf("%s: measured %v of %d offered; the row says %d", o.Text, o.Measured, top.OfferedPackets, top.Drops.Total())
		}
	}
	if len(r.Expectations) == 0 {
		t.Error("nothing is expected")
	}
}

// A replay puts the packets of a capture into the classes that explain puts them into, and
// sends all that it can.
func TestBrokenCaptures(t *testing.T) {
	t.Parallel()
	for file, want := range map[string]struct {
		capture, enter, class  string
		packets, wild, skipped int64
	}{
		"d.yaml":            {"dns.pcap", "a/l", "weather", 10, 0, 0},
		"sv.yaml":           {"srv.pcap", "z/l", "weather", 20, 0, 0},
		"gzng.yaml":         {"gzng.pcap", "a/l", "rest", 50, 0, 0},
		"ng-mixedlink.yaml": {"ng-mixedlink.pcap", "a/l", "rest", 50, 0, 0},
		"jump2106.yaml":     {"jump2106.pcap", "a/l", "rest", 3, 2, 0},
		"reuse.yaml":        {"reuse.pcap", "a/l", "weather", 21, 0, 0},
		"snap1000.yaml":     {"snap1000.pcap", "a/l", "weather", 50, 0, 0},
		"snap1100.yaml":     {"snap1100.pcap", "a/l", "weather", 50, 0, 0},
		"pending.yaml":      {"pending.pcap", "a/l", "weather", 100, 0, 0},
		"ng-len0.yaml":      {"ng-len0.pcap", "a/l", "rest", 0, 0, 1},
	} {
		dir := t.TempDir()
		for _, name := range []string{file, want.capture} {
			text, err := os.ReadFile(filepath.Join(broken, name))
			if err != nil { // p.yaml is of several captures
				text = []byte(strings.NewReplacer("capture: ok.pcap", "capture: "+want.capture, "lasts: 5s", "lasts: 1h").Replace(readFile(t, broken, "p.yaml")))
			}
			put(t, dir, name, string(text))
		}
		reply := imbrel(t, dir, "", nil, "rehearse", file, "-o", "json")
		if reply.status != 0 {
			t.Errorf("%s: exit %d: %s", file, reply.status, reply.err)
			continue
		}
		r := parsed[measure.Result](t, reply.out)
		e := parsed[explain.CaptureResult](t, imbrel(t, dir, "", nil, "explain", file, "--capture", want.capture, "--enter", want.enter, "-o", "json").out)
		out := want.enter[:2] + "w"
		total := int64(0)
		for _, c := range e.Classes {
			if c.Interface == out {
				total += c.Packets
				if got := classOf(t, &r, out+" out", c.Class); int64(got.OfferedPackets) != c.Packets {
					t.Errorf("%s: %d packets of %s rehearsed, %d explained", file, got.OfferedPackets, c.Class, c.Packets)
				}
			}
		}
		c := r.Captures[0]
		skipped := int64(0)
		for _, s := range c.Skipped {
			skipped += s.Count
		}
		offered := int64(0)
		if total > 0 {
			offered = int64(classOf(t, &r, out+" out", want.class).OfferedPackets)
		}
		if offered != want.packets || c.Replayed != total || c.Wild != want.wild || skipped != want.skipped || c.NotRead != 0 {
			t.Errorf("%s: %d packets of %s, %d explained in all, %+v; want %+v", file, offered, want.class, total, c, want)
		}
	}
	said := imbrel(t, broken, "", nil, "explain", "p.yaml", "--capture", "pending.pcap")
	if !strings.Contains(said.out, "77 conversations forgotten before it said a server name") {
		t.Errorf("what was forgotten is not said:\n%s", said.out)
	}
}

// Two call traffics between the same addresses are two conversations.
func TestBrokenCallsOfOneFlow(t *testing.T) {
	t.Parallel()
	for _, file := range []string{"two-calls-one-flow.yaml", "two-calls-same-ports.yaml"} {
		r := rehearsed(t, file)
		rows := make(map[string][]int64) // by traffic, those of each class
		for _, row := range r.Traffic {
			if row.Direction == "forward" {
				rows[row.Name] = append(rows[row.Name], row.SentPackets)
			}
		}
		if len(rows["c"]) == 0 || !slices.Equal(rows["c"], rows["d"]) {
			t.Errorf("%s: the packets of c and d by class: %v", file, rows)
		}
	}
}

// The promise is one figure, whatever says it.
func TestBrokenPromises(t *testing.T) {
	t.Parallel()
	s := parsed[allocation.Result](t, imbrel(t, broken, "", nil, "shares", "explain-implied-rest.yaml", "-o", "json").out)
	a := parsed[explain.Answer](t, imbrel(t, broken, "", nil, "explain", "explain-implied-rest.yaml", "--from", "10.1.0.1", "--to", "10.2.0.1", "-o", "json").out)
	for _, h := range a.Hops {
		if h.Policy == "" {
			continue
		}
		for _, c := range s.Interfaces[0].Classes {
			if c.Class == h.Class && c.Promised != h.Promise {
				t.Errorf("%s is promised %d by shares, %d by explain", h.Class, c.Promised, h.Promise)
			}
		}
	}
	r := imbrel(t, broken, "", nil, "shares", "shares-overflow-crash.yaml")
	if r.status != 0 || !strings.Contains(r.out, "rest") {
		t.Errorf("exit %d: %s", r.status, r.err)
	}
	r = imbrel(t, broken, "", nil, "shares", "reserved-more-than-rate.yaml")
	if r.status != 0 || !strings.Contains(r.out, "its priority has no bound") {
		t.Errorf("exit %d: %s\n%s", r.status, r.err, r.out)
	}
}

// A `when` is counted from the beginning of the rehearsal.
func TestBrokenWhenHeld(t *testing.T) {
	t.Parallel()
	r := rehearsed(t, "when-held.yaml")
	if c := classOf(t, &r, "west/wan out", "bulk"); c.When == nil || c.When.HeldS != 60 {
		t.Errorf("held %+v of 60 s", c.When)
	}
}

// What cannot be is one message and exit status 2.
func TestBrokenFilesAreRefused(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	for name, c := range map[string]struct{ text, want string }{
		"between-empty-crash":       {readFile(t, broken, "between-empty-crash.yaml"), "calls are between two addresses, not 0"},
		"time-overflow":             {readFile(t, broken, "time-overflow.yaml"), "a cell is at most 100 times its payload"},
		"explain-longer-than-burst": {readFile(t, broken, "explain-longer-than-burst.yaml"), "the promises within `k4/rest` come to"},
		"include-fifo":              {"imbrel: 1\ninclude: [fifo]\n", "fifo is a pipe or a device"},
		"bad-name":                  {strings.ReplaceAll(strings.ReplaceAll(pair, "name: voice", "name: "+strings.Repeat("v", 100_000)), "SENDS", "1Mbit/s") + "    traffic: []\n    expect: [voice loss = 0]\n", "expected a name for the class"},
		"a control character":       {"imbrel: 1\ngroups: {a: [10.0.0.0/8]}\ntitle: a\x01b\n", "p.yaml:3:9: the control character U+0001 is not allowed"},
	} {
		put(t, dir, "p.yaml", c.text)
		if name == "include-fifo" {
			if err := exec.Command("mkfifo", filepath.Join(dir, "fifo")).Run(); err != nil {
				continue // this system has none
			}
		}
		for _, args := range [][]string{{"rehearse", "p.yaml"}, {"shares", "p.yaml"}, {"explain", "p.yaml", "--from", "10.1.0.1", "--to", "10.2.0.1", "--length", "9000"}} {
			r := imbrel(t, dir, "", nil, args...)
			if r.status != 2 || !strings.Contains(r.err, c.want) || strings.Contains(r.err, "there is no class") {
				t.Errorf("%s, %v: exit %d: %.2000s; want %q", name, args, r.status, r.err, c.want)
			}
		}
	}
	// A packet longer than the burst of every policer: explained as rehearsed.
	text := strings.Replace(readFile(t, broken, "explain-longer-than-burst.yaml"), "{class: rest, at-least: 57%}", "{class: rest, at-least: 7%}", 1)
	text = strings.NewReplacer("framing: ethernet}", "framing: ethernet, mtu: 9000B}", "      subnets: [", "      mtu: 9000B\n      subnets: [").Replace(text[:strings.Index(text, "rehearsals:")]) + "rehearsals: [{name: r, lasts: 1s, starts-at: 2026-03-02T12:00, traffic: [{name: s, rate: 720kbit/s, packet: 9000B, from: 10.1.0.1, to: 10.2.0.1, to-port: 4000}]}]\n"
	put(t, dir, "p.yaml", text)
	reply := imbrel(t, dir, "", nil, "rehearse", "p.yaml", "-o", "json")
	if reply.status != 0 {
		t.Fatalf("exit %d: %s", reply.status, reply.err)
	}
	r := parsed[measure.Result](t, reply.out)
	a := parsed[explain.Answer](t, imbrel(t, dir, "", nil, "explain", "p.yaml", "--from", "10.1.0.1", "--to", "10.2.0.1", "--to-port", "4000", "--length", "9000", "--time", "2026-03-02T12:00", "-o", "json").out)
	if got := classOf(t, &r, "b/w1 in", "k1"); got.Marks["le"] != got.SentPackets || got.TooLarge == 0 || a.Hops[2].MarksOut.DSCP != "le" {
		t.Errorf("rehearsed %+v; explained %+v", got.Marks, a.Hops[2])
	}
}

// Nothing of a title or of a DNS answer is acted on by a terminal.
func TestBrokenEscapes(t *testing.T) {
	t.Parallel()
	for _, args := range [][]string{{"rehearse", "title-escapes.yaml"}, {"explain", "p.yaml", "--capture", "dnsesc.pcap"}} {
		r := imbrel(t, broken, "", nil, args...)
		if r.status > 1 || !strings.Contains(r.out, `\x1b`) || hiddenIn(r.out) != "" {
			t.Errorf("%v: exit %d, %s: %s", args, r.status, r.err, hiddenIn(r.out))
		}
	}
}
