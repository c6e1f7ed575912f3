package cli_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"testing"

	"imbrel.example/imbrel/core/check"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/simulate"
	"imbrel.example/imbrel/examples"
	"imbrel.example/imbrel/internal/files"
)

var raced = flag.Bool("raced", false, "drive a program that the race detector watches")

// program is the built program, which the tests drive as a user would.
var program string

func TestMain(m *testing.M) {
	flag.Parse()
	if testing.Short() { // for the race detector, which takes ten times as long
		*networks, *failing, *houses, *mutants = *networks/20, *failing/10, *houses/10, *mutants/10
	}
	dir, err := os.MkdirTemp("", "imbrel")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	program = filepath.Join(dir, "imbrel")
	before, all := stolen()
	build := exec.Command("go", "build", "-pgo=off", "-o", program, "imbrel.example/imbrel/cmd/imbrel")
	if flag.Lookup("test.bench").Value.String() != "" { // the profile changes no result, and takes half a minute
		build.Args[2] = "-pgo=auto"
	}
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if *raced {
		build.Args = slices.Insert(build.Args, 2, "-race")
		build.Env = append(os.Environ(), "CGO_ENABLED=1")
	}
	if out, err := build.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "%s%v\n", out, err)
		os.Exit(1)
	}
	// Where others took much of the machine while the program was built, the random cases are fewer: the rest takes long enough.
	if taken, whole := stolen(); whole > all && 10*(taken-before) > 3*(whole-all) && !testing.Short() {
		*networks, *failing, *houses, *mutants, *reasons, *pairs = *networks/4, *failing/4, *houses/4, *mutants/4, *reasons/4, *pairs/4
	}
	// One test at a time waits for the real clock more than it computes.
	given := false
	flag.Visit(func(f *flag.Flag) { given = given || f.Name == "test.parallel" })
	if !given {
		_ = flag.Set("test.parallel", strconv.Itoa(runtime.NumCPU()+1))
	}
	status := m.Run()
	os.RemoveAll(dir)
	os.Exit(status)
}

// stolen returns for how long the host of a virtual machine gave its processors to others, and all of the time, in ticks; 0 where the
// system does not say.
func stolen() (taken, all int64) {
	text, _ := os.ReadFile("/proc/stat")
	line, _, _ := strings.Cut(string(text), "\n")
	for i, f := range strings.Fields(line) {
		n, _ := strconv.ParseInt(f, 10, 64)
		if i == 8 {
			taken = n
		}
		if i <= 8 { // those of guests are among the others
			all += n
		}
	}
	return taken, all
}

// A found is a finding of a check in JSON.
type found struct {
	Name, Level, File, Text, Consequence, Fix string
	Line                                      int
	Edit                                      *check.Edit
}

// A reply is what the program said.
type reply struct {
	out, err string
	status   int
}

// gently gives a command a low priority where the system can, so that the measurements with the real clock go first.
func gently(c *exec.Cmd) *exec.Cmd {
	nice, err := exec.LookPath("nice")
	if err != nil {
		return c
	}
	return exec.Command(nice, slices.Concat([]string{"-n", "5"}, c.Args)...)
}

// imbrel runs the program in a folder.
func imbrel(t testing.TB, dir, stdin string, env []string, args ...string) reply {
	t.Helper()
	c := exec.Command(program, args...)
	if _, measures := t.(*attempt); !measures {
		c = gently(c)
	}
	c.Dir = dir
	c.Env = append(os.Environ(), env...)
	c.Stdin = strings.NewReader(stdin)
	var out, errs bytes.Buffer
	c.Stdout, c.Stderr = &out, &errs
	err := c.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		t.Fatal(err)
	}
	return reply{out.String(), errs.String(), c.ProcessState.ExitCode()}
}

// copyProgram copies the program. Another process writes the file: while this one has it open for writing, a test beside this one
// may start a program, which has it open as well until it runs; and the system does not run a file that is open for writing.
func copyProgram(t testing.TB, to string) {
	t.Helper()
	if out, err := exec.Command("cp", program, to).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
}

// put writes a file into a folder.
func put(t testing.TB, dir, name, text string) string {
	t.Helper()
	path := filepath.Join(dir, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o777); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(text), 0o666); err != nil {
		t.Fatal(err)
	}
	return path
}

// readFile returns the text of a file in a folder.
func readFile(t testing.TB, dir, name string) string {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(dir, name))
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

// result runs a rehearsal of a policy text and reads its JSON.
func result(t testing.TB, policy string, args ...string) measure.Result {
	t.Helper()
	r := imbrel(t, t.TempDir(), policy, nil, append([]string{"rehearse", "-", "-o", "json"}, args...)...)
	if r.status > 1 {
		t.Fatalf("exit %d: %s", r.status, r.err)
	}
	var res measure.Result
	if err := json.Unmarshal([]byte(r.out), &res); err != nil {
		t.Fatalf("%v in %.200s", err, r.out)
	}
	return res
}

// pair is a network of two nodes and a link, with a place for rates, policies
// and traffic.
const pair = `imbrel: 1
classes:
  - {name: voice, match: [{dscp: ef}]}
  - {name: bulk, match: [{to-port: 8000}]}
network:
  nodes:
    - name: west
      interfaces: [{name: lan, rate: 1Gbit/s, subnets: [10.1.0.0/16]}, {name: wan, rate: 100Mbit/s}]
    - name: east
      interfaces: [{name: wan, rate: 100Mbit/s}, {name: lan, rate: 1Gbit/s, subnets: [10.2.0.0/16]}]
  links:
    - ends: [{at: west/wan, sends: SENDS}, {at: east/wan, sends: SENDS}]
      delay: 10ms
rehearsals:
  - name: run
    lasts: 10s
`

func TestDemo(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	r := imbrel(t, dir, "", nil, "demo")
	if r.status != 0 || r.err != "" {
		t.Fatalf("exit %d, stderr %q", r.status, r.err)
	}
	for _, want := range []string{"PASS: all 10 expectations hold with the policies; without them 7 of 10 expectations fail", "voice mos >= 4.2", "FAILS", "Next:"} {
		if !strings.Contains(r.out, want) {
			t.Errorf("the demo does not say %q", want)
		}
	}
	for _, line := range strings.Split(r.out, "\n") {
		if n := len([]rune(line)); n > 110 {
			t.Errorf("%d columns: %s", n, line)
		}
		if strings.Contains(line, "\x1b") {
			t.Errorf("colour in a pipe: %q", line)
		}
	}
	if r := imbrel(t, dir, "", []string{"COLUMNS=100"}, "demo"); strings.Count(r.out, "\n") > 40 {
		t.Errorf("the demo has %d lines", strings.Count(r.out, "\n"))
	}
	if r := imbrel(t, dir, "", nil, "demo", "--detail"); !strings.Contains(r.out, "What TCP carried") || strings.Count(r.out, "PASS: ") != 2 {
		t.Errorf("the demo in detail: exit %d\n%s", r.status, r.out)
	}
	if r := imbrel(t, dir, "", nil, "demo", "--write", "tern"); r.status != 0 {
		t.Fatalf("demo --write: exit %d, %s", r.status, r.err)
	}
	if r := imbrel(t, dir, "", nil, "rehearse", "tern/ternrock.yaml", "fog"); r.status != 0 || !strings.Contains(r.out, "\nPASS: ") {
		t.Errorf("rehearsing the written demo: exit %d, %s", r.status, r.err)
	}
	if r := imbrel(t, dir, "", nil, "rehearse", "tern/ternrock.yaml", "--without-policy"); r.status != 1 || !strings.Contains(r.out, "\nFAIL: ") {
		t.Errorf("without the policy the demo must fail: exit %d", r.status)
	}
	if r := imbrel(t, dir, "", nil, "demo", "--write", "tern"); r.status != 2 || !strings.Contains(r.err, "already exists") {
		t.Errorf("writing over the user's files: exit %d, %s", r.status, r.err)
	}
}

func TestSameSeedSameBytes(t *testing.T) {
	t.Parallel()
	first := imbrel(t, t.TempDir(), "", nil, "demo", "-o", "json")
	for _, env := range [][]string{nil, {"GOMAXPROCS=1"}, {"TZ=Asia/Tokyo", "LANG=C"}} {
		if again := imbrel(t, t.TempDir(), "", env, "demo", "-o", "json"); again.out != first.out {
			t.Errorf("with %v the bytes differ", env)
		}
	}
	if !json.Valid([]byte(first.out)) {
		t.Error("not JSON")
	}
	dir := t.TempDir()
	imbrel(t, dir, "", nil, "demo", "--write", ".")
	a := imbrel(t, dir, "", nil, "rehearse", "ternrock.yaml", "-o", "json", "--seed", "2")
	b := imbrel(t, dir, "", nil, "rehearse", "ternrock.yaml", "-o", "json", "--seed", "3")
	if a.out == b.out {
		t.Error("another seed gives the same bytes")
	}
}

// On an idle link the delay is serialisation and propagation, exactly.
func TestLoneCalls(t *testing.T) {
	t.Parallel()
	text := strings.ReplaceAll(pair, "SENDS", "100Mbit/s") + `    traffic: [{name: calls, calls: 6, codec: CODEC, skew: 0, between: [10.1.0.1, 10.2.0.1]}]
    expect: [voice loss = 0, calls mos >= 4]
`
	for _, c := range []struct {
		codec     string
		wire, ip  int
		mos, rate float64
	}{{"g711", 238, 200, 4.40, 480_000}, {"g729", 98, 60, 4.10, 144_000}} {
		res := result(t, strings.ReplaceAll(strings.Replace(text, "voice loss", "calls loss", 1), "CODEC", c.codec))
		// 100 Mbit/s out of west, 10 ms, 1 Gbit/s out of east
		want := float64(c.wire*80+c.wire*8+10_000_000) / 1e6
		for _, row := range res.Traffic {
			if row.Delay.Max != want || row.Delay.Mean != want || row.Delay.P50 != want {
				t.Errorf("%s %s: delay %+v ms; serialisation and propagation are %.6f", c.codec, row.Direction, *row.Delay, want)
			}
			if row.Loss != 0 || row.SentPackets != 3000 || row.RateBps != int64(c.rate) || row.JitterMs != 0 {
				t.Errorf("%s: %+v", c.codec, row)
			}
			if row.MOS == nil || *row.MOS < c.mos-0.02 || *row.MOS > c.mos+0.02 {
				t.Errorf("%s: MOS %v; want %.2f", c.codec, *row.MOS, c.mos)
			}
		}
		if res.Verdict != "pass" || len(res.Traffic) != 2 {
			t.Errorf("%s: verdict %s, %d rows", c.codec, res.Verdict, len(res.Traffic))
		}
	}
}

// Where the link carries less than the port sends, the queue is the carrier's:
// a policy without a shape achieves nothing, one with a shape below it all.
func TestWhoQueues(t *testing.T) {
	t.Parallel()
	traffic := `    traffic:
      - {name: calls, calls: 2, codec: g711, between: [10.1.0.1, 10.2.0.1], dscp: ef}
      - {name: bulk, rate: 15Mbit/s, packet: 1500B, from: 10.1.0.9, to: 10.2.0.9, to-port: 8000}
    expect: ["voice delay p99 <= 30ms", "voice loss = 0"]
policies:
  - name: p
    SHAPE
    treat: [{class: voice, priority: 1}, {class: bulk, at-least: 10%}]
attach: [{policy: p, at: west/wan out}]
`
	base := strings.ReplaceAll(pair, "SENDS", "10Mbit/s") + traffic
	unshaped := result(t, strings.Replace(base, "    SHAPE\n", "", 1))
	if l := unshaped.Links[0]; unshaped.Verdict != "fail" || l.Drops == 0 || l.QueueDelay.Max < 90 || l.CarriedBps < 9_900_000 || l.CarriedBps > 10_010_000 {
		t.Errorf("without a shape: verdict %s, %+v", unshaped.Verdict, l)
	}
	shaped := result(t, strings.Replace(base, "SHAPE", "shape: 9.5Mbit/s", 1))
	if l := shaped.Links[0]; shaped.Verdict != "pass" || l.Drops != 0 || l.QueueDelay.Max > 1 {
		t.Errorf("with a shape: verdict %s, %+v, %+v", shaped.Verdict, l, shaped.Expectations)
	}
	w := shaped.Interfaces[0]
	for _, f := range shaped.Interfaces {
		if f.PolicyAt == "p" {
			w = f
		}
	}
	if w.Node != "west" || w.RateBps != 9_500_000 || w.SentBps < 9_450_000 || w.SentBps > 9_510_000 {
		t.Errorf("the shaped interface: %+v", w)
	}
	for _, c := range w.Classes {
		if c.OfferedPackets != c.SentPackets+c.Drops.Total() {
			t.Errorf("%s: %d offered, %d sent, %+v", c.Class, c.OfferedPackets, c.SentPackets, c.Drops)
		}
	}
}

func TestExpectationsAndExitStatus(t *testing.T) {
	t.Parallel()
	base := strings.ReplaceAll(pair, "SENDS", "10Mbit/s") + `    traffic:
      - {name: calls, calls: 1, codec: g711, between: [10.1.0.1, 10.2.0.1]}
      - {name: ticks, rate: 80kbit/s, packet: 1000B, from: 10.1.0.9, to: 10.2.0.9, to-port: 8000, starts: 2s, lasts: 5s}
    expect: ["EXPECT"]
`
	for expect, status := range map[string]int{
		"calls delay max <= 13ms":               0,
		"calls delay max < 1ms":                 1,
		"calls jitter <= 1ms":                   0,
		"calls jitter p95 <= 1ms":               0,
		"calls loss = 0":                        0,
		"calls rate = 160kbit/s":                0,
		"ticks rate >= 79kbit/s":                0,
		"ticks rate > 81kbit/s":                 1,
		"rest drops = 0":                        0,
		"calls mos >= 4.3":                      0,
		"ticks mos >= 4":                        1, // no call
		"voice loss = 0":                        1, // no packet
		"rest drops at west/wan out = 0":        0,
		"rest rate at west/wan out >= 1kbit/s":  0,
		"rest delay p99 at west/wan out <= 1ms": 0,
	} {
		r := imbrel(t, t.TempDir(), strings.Replace(base, "EXPECT", expect, 1), nil, "rehearse", "-", "run")
		if r.status != status {
			t.Errorf("%q: exit %d; want %d\n%s%s", expect, r.status, status, r.out, r.err)
		}
	}
}

// The whole demo, its start included: two runs of 30 s and their tables.
func BenchmarkDemoProgram(b *testing.B) {
	dir := b.TempDir()
	for b.Loop() {
		if r := imbrel(b, dir, "", nil, "demo"); r.status != 0 {
			b.Fatal(r.err)
		}
	}
}

// 30 simulated seconds of the demo's traffic with the policy in force.
func BenchmarkFogRehearsal(b *testing.B) {
	f, in, err := files.ReadPolicyIn(examples.FS, "ternrock.yaml")
	if err != nil {
		b.Fatal(err)
	}
	captures := files.Captures{In: in}
	defer captures.Close()
	for b.Loop() {
		if _, err := simulate.Run(f, &f.Rehearsals[0], simulate.Options{Seed: 1, Capture: captures.Open}); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(30/(b.Elapsed().Seconds()/float64(b.N)), "simulated-s/s")
}
