package cli_test

import (
	"bytes"
	"encoding/json"
	"math"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"imbrel.example/imbrel/core/proof"
	"imbrel.example/imbrel/internal/render"
)

// proven runs `imbrel prove` on a file and reads its JSON; it skips where there can be no
// namespaces.
func proven(t testing.TB, text string, args ...string) (render.Proof, reply) {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("network namespaces need root")
	}
	r := imbrel(t, t.TempDir(), text, nil, append([]string{"prove", "-", "-o", "json"}, args...)...)
	if r.status == 2 && strings.Contains(r.err, "can be made here") || strings.Contains(r.err, "needs root") {
		t.Skip("no network namespaces can be made here: " + r.err)
	}
	var p render.Proof
	if err := json.Unmarshal([]byte(r.out), &p); err != nil || r.status > 1 && r.status != 4 {
		t.Fatalf("exit %d, %v: %s", r.status, err, r.err)
	}
	if p.HeldUpMs > 60 { // longer than a queue of this file is deep
		heldUp(t, "it could not run the program for %.0f ms", p.HeldUpMs)
	}
	return p, r
}

// stage is a slow link between two sites, with what there is to be proved on it.
const stage = `imbrel: 1
classes:
  - {name: voice, match: [{to-port: 16384-32767, protocol: udp}]}
  - {name: film,  match: [{to-port: 7000}]}
  - {name: file,  match: [{to-port: 873, protocol: tcp}]}
  - {name: ping,  match: [{protocol: icmp}]}
  - {name: tag,   match: [{vlan: 30}]}
policies:
  - name: up
    shape: 8Mbit/s
    treat:
      - {class: voice, mark: ef, priority: 1, police: {calls: 4, codec: g711}}
      - {class: film,  mark: af41, at-least: 20%}
      - {class: file,  mark: af11, at-least: 40%, queue: {limit: 60ms}}
      - {class: ping}
      - {class: tag}
      - {class: rest}
attach: [{policy: up, at: west/wan out}]
network:
  nodes:
    - {name: west, interfaces: [{name: lan, rate: 1Gbit/s, framing: ethernet-vlan, subnets: [10.1.0.0/16, "2001:db8:1::/64"]}, {name: wan, rate: 100Mbit/s, framing: ethernet-vlan}]}
    - {name: east, interfaces: [{name: wan, rate: 100Mbit/s, framing: ethernet-vlan}, {name: lan, rate: 1Gbit/s, subnets: [10.2.0.0/16, "2001:db8:2::/64"]}]}
  links: [{ends: [{at: west/wan, sends: 10Mbit/s}, {at: east/wan}], delay: 3ms}]
rehearsals:
  - name: busy
    lasts: 4s
    traffic:
      - {name: calls, calls: 4, codec: g711, between: [10.1.0.7, 10.2.0.9]}
      - {name: reel,  video: 3Mbit/s, frames: 25, from: 10.1.2.8, to: 10.2.0.8, to-port: 7000}
      - {name: six,   rate: 500kbit/s, packet: 300B, arrivals: poisson, from: "2001:db8:1::8", to: "2001:db8:2::8", to-port: 9}
      - {name: phone, rate: 200kbit/s, packet: 200B, from: 10.1.0.3, to: 10.2.0.3, vlan: 30, pcp: 5}
      - {name: tiny,  rate: 50kbit/s, packet: 30B, from: 10.1.0.3, to: 10.2.0.3, to-port: 30}
      - {name: pings, rate: 50kbit/s, packet: 84B, protocol: icmp, from: 10.1.0.3, to: 10.2.0.3}
      - {name: sync,  tcp: 2, from: 10.1.0.8, to: 10.2.0.8, to-port: 873}
      - {name: tills, requests: 2, request: 300B, answer: 3kB, think: 200ms, from: 10.1.0.9, to: 10.2.0.9, to-port: 5432}
      - {name: back,  tcp: 1, bytes: 500kB, from: "2001:db8:2::8", to: "2001:db8:1::8", from-port: 443}
    expect:
      - voice delay p99 <= 20ms
      - voice loss = 0
      - calls mos >= 4
      - reel loss = 0
      - sync goodput >= 2Mbit/s
      - voice mark at west/wan out = ef
`

// proveOnce: what real packets do is what was rehearsed, datagrams of sockets, frames and the
// kernel's TCP alike, over IPv4 and IPv6.
func proveOnce(t testing.TB) {
	p, r := proven(t, stage)
	if p.Homes != 2 || p.Outside.NotSent+p.Outside.NotTaken+p.Outside.NotHad+p.Overrun > 0 || p.Frames < 5000 || len(p.NotReal) > 0 {
		t.Errorf("beside the network: %+v, %d homes, %d frames, %v", p.Outside, p.Homes, p.Frames, p.NotReal)
	}
	ways := make(map[string]bool)
	for _, f := range p.Figures {
		if f.Of != "traffic" {
			continue
		}
		ways[f.Name+" "+f.Metric] = true
		// A machine that is shared makes a delay longer; rates and losses it leaves as they are.
		near := f.Rehearsed != nil && f.Measured != nil && (f.Metric == "loss" && math.Abs(*f.Measured-*f.Rehearsed) < 2 || f.Metric == "rate" && math.Abs(*f.Measured / *f.Rehearsed - 1) < 0.03)
		if f.Word == proof.Differs && !near && (f.Metric == "rate" || f.Metric == "loss" || f.Metric == "mos") {
			t.Errorf("%s %s, %s: rehearsed %v, measured %v", f.Name, f.Where, f.Metric, *f.Rehearsed, *f.Measured)
		}
		if f.Metric == "goodput" && f.Name == "sync" && (*f.Ratio < 0.85 || *f.Ratio > 1.15) {
			t.Errorf("%s: goodput rehearsed %v, the kernel's %v", f.Name, *f.Rehearsed, *f.Measured)
		}
	}
	for _, want := range []string{"calls mos", "reel loss", "six delay", "phone rate", "tiny loss", "pings rate", "sync goodput", "tills goodput", "back goodput"} {
		if !ways[want] {
			t.Errorf("nothing is said of %s: %v", want, ways)
		}
	}
	for _, e := range p.Expectations {
		if !e.MeasuredHolds && e.RehearsedHolds && !strings.Contains(e.Text, "delay") {
			t.Errorf("%s: rehearsed %v, measured %v", e.Text, e.Rehearsed, e.Measured)
		}
	}
	for _, row := range p.Staged.Result.Traffic {
		if row.TCP != nil && (row.TCP.Opened != row.TCP.Flows || row.TCP.RTT == nil) || row.TCP != nil && row.Name == "back" && row.TCP.Completed != 1 {
			t.Errorf("%s: %+v", row.Name, *row.TCP)
		}
	}
	if failed := p.Differ > 0 || p.Staged.Result.Verdict == "fail"; r.status == 4 != (p.Verdict == "not judged") || r.status != 4 && failed != (r.status == 1) {
		t.Errorf("%d figures differ, the verdict is %s, and it exits with %d", p.Differ, p.Staged.Result.Verdict, r.status)
	}
}

// proveTellsOnce: what the text says is what the JSON says, a failing expectation exits with 1, and
// flags that make no sense are refused.
func proveTellsOnce(t testing.TB) {
	proven(t, stage, "--for", "1s")
	dir := t.TempDir()
	r := imbrel(t, dir, strings.Replace(stage, "voice delay p99 <= 20ms", "voice delay p99 <= 1ms", 1), nil, "prove", "-", "busy", "--for", "2s", "--report", "proof.html")
	for _, want := range []string{"2 s measured with real packets", "voice delay p99 <= 1ms", "fails", "TCP: the model's, and the kernel's", "of 6 expectations hold"} {
		if !strings.Contains(r.out, want) {
			t.Errorf("no %q in\n%s", want, r.out)
		}
	}
	text := page(t, filepath.Join(dir, "proof.html"), 1_500_000)
	for _, want := range []string{"Rehearsed and measured together", "wait p99 of ", "Figure by figure", "stroke-dasharray"} {
		if !strings.Contains(text, want) {
			t.Errorf("the page of the proof does not say %q", want)
		}
	}
	if r.status == 4 {
		heldUp(t, "it could not run the program for more than 2 %% of the time")
	}
	if r.status != 1 {
		t.Errorf("exit %d", r.status)
	}
	for _, c := range []struct{ args, want string }{
		{"prove - --for 0s", "--for 0s"}, {"prove - other", "no rehearsal `other`"}, {"prove -", "there are no rehearsals"},
	} {
		text := stage
		if c.args == "prove -" {
			text = stage[:strings.Index(stage, "rehearsals:")]
		}
		if r := imbrel(t, dir, text, nil, strings.Fields(c.args)...); r.status != 2 || !strings.Contains(r.err, c.want) {
			t.Errorf("%s: exit %d, %s", c.args, r.status, r.err)
		}
	}
	late := strings.Replace(stage, "to-port: 873}", "to-port: 873, starts: 3s}", 1)
	if r := imbrel(t, dir, late, nil, "prove", "-", "--for", "2s"); r.status != 2 || !strings.Contains(r.err, "`sync`") {
		t.Errorf("a traffic that would not start: exit %d, %s", r.status, r.err)
	}
}

// TestProveNeedsRoot: without it, it says so in one line.
func TestProveNeedsRoot(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Skip("it takes root to be somebody else")
	}
	dir, err := os.MkdirTemp("", "imbrel") // which others may enter
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	copied := filepath.Join(dir, "imbrel")
	copyProgram(t, copied)
	if os.Chmod(dir, 0o755) != nil || os.Chmod(copied, 0o755) != nil {
		t.Skip("nobody else may run a program of ours here")
	}
	c := exec.Command(copied, "prove", "-")
	c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
	c.Dir, c.Stdin = "/", strings.NewReader(stage)
	var errs bytes.Buffer
	c.Stderr = &errs
	if err := c.Run(); c.ProcessState.ExitCode() != 2 || strings.Count(strings.TrimSpace(errs.String()), "\n") != 0 || !strings.Contains(errs.String(), "needs root") {
		t.Errorf("exit %d, %v: %s", c.ProcessState.ExitCode(), err, errs.String())
	}
}

// devices lists the interfaces that this machine has.
func devices(t *testing.T) []string {
	all, err := net.Interfaces()
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, i := range all {
		names = append(names, i.Name)
	}
	return names
}

// TestProveLeavesNothing: whatever ends it, at whatever moment, nothing of it is left, and it can be
// started again.
func TestProveLeavesNothing(t *testing.T) {
	proven(t, stage, "--for", "1s")
	before := devices(t)
	named, _ := os.ReadDir("/run/netns")
	for n, signal := range []syscall.Signal{syscall.SIGKILL, syscall.SIGKILL, syscall.SIGKILL, syscall.SIGKILL, syscall.SIGINT, syscall.SIGTERM} {
		c := exec.Command(program, "prove", "-")
		c.Stdin = strings.NewReader(stage)
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		wait := time.Duration(rand.Int64N(int64(200*time.Millisecond) << (n % 3)))
		if signal != syscall.SIGKILL { // once it listens
			wait += 400 * time.Millisecond
		}
		time.Sleep(wait)
		_ = c.Process.Signal(signal)
		_ = c.Wait()
		if s := c.ProcessState.ExitCode(); signal != syscall.SIGKILL && s != 130 {
			t.Errorf("told to end by %v it exits with %d", signal, s)
		}
	}
	after, left := devices(t), 0
	now, _ := os.ReadDir("/run/netns")
	for range 100 { // a namespace goes a little after the process
		if left = links(t); left == 0 {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	if !slices.Equal(before, after) || len(named) != len(now) || left > 0 {
		t.Errorf("interfaces before %v and after %v, namespaces with a name %d and %d; %d processes are left", before, after, len(named), len(now), left)
	}
	if p, _ := proven(t, stage, "--for", "1s"); p.Frames < 1000 {
		t.Errorf("started again it has %d frames", p.Frames)
	}
}

// links counts the processes that are in another network namespace than this one and are the
// program's.
func links(t *testing.T) (n int) {
	own, _ := os.Readlink("/proc/self/ns/net")
	all, _ := os.ReadDir("/proc")
	for _, p := range all {
		exe, err := os.Readlink("/proc/" + p.Name() + "/exe")
		if err != nil || exe != program {
			continue
		}
		tasks, _ := os.ReadDir("/proc/" + p.Name() + "/task")
		for _, k := range tasks {
			if ns, err := os.Readlink("/proc/" + p.Name() + "/task/" + k.Name() + "/ns/net"); err == nil && ns != own {
				n++
			}
		}
	}
	return n
}

// TestExamplesAreProved: what real packets do in the demo and in files of the cookbook is what was
// rehearsed.
func TestExamplesAreProved(t *testing.T) {
	if !*kernels {
		t.Skip("give -kernel: it takes minutes and a quiet machine")
	}
	for _, name := range []string{"ternrock fog", "cookbook/both-directions both-ways", "cookbook/branches monday", "cookbook/cameras night", "cookbook/desks", "cookbook/guests many-guests", "cookbook/households all-flats-busy", "cookbook/own-end update-day", "cookbook/phone-port", "cookbook/radio-loss", "cookbook/shop saturday"} {
		file, rehearsal, _ := strings.Cut(name, " ")
		args := []string{"prove", filepath.Join("..", "..", "examples", file+".yaml"), "-o", "json"}
		if rehearsal != "" {
			args = append(args, rehearsal)
		}
		r := imbrel(t, ".", "", nil, args...)
		var p render.Proof
		if err := json.Unmarshal([]byte(r.out), &p); err != nil {
			t.Errorf("%s: exit %d, %s", name, r.status, r.err)
			continue
		}
		most := make(map[string]float64) // by how much a figure is off
		least, greatest := math.Inf(1), 0.0
		for _, f := range p.Figures {
			if f.Of != "traffic" || f.Rehearsed == nil || f.Measured == nil {
				continue
			}
			off := math.Abs(*f.Measured - *f.Rehearsed)
			switch {
			case f.Metric == "rate" && f.Ratio != nil:
				off = 100 * math.Abs(*f.Ratio-1)
			case f.Metric == "goodput" && f.Ratio != nil:
				least, greatest = min(least, *f.Ratio), max(greatest, *f.Ratio)
			}
			voice := slices.ContainsFunc(p.Figures, func(o proof.Figure) bool {
				return o.Of == "traffic" && o.Name == f.Name && o.Where == f.Where && o.Metric == "mos"
			})
			if f.Metric != "delay" || voice {
				most[f.Metric] = max(most[f.Metric], off)
			}
		}
		t.Logf("| %s | %d of %d | %.2f %% | %.2f %% | %.2f ms | %.2f | %.3f to %.3f | held up %.0f ms, late %.2f ms at most", name, p.Agree, p.Agree+p.Differ, most["rate"], most["loss"], most["delay"], most["mos"], least, greatest, p.HeldUpMs, p.Late.Max)
		for _, f := range p.Figures {
			if f.Word != proof.Agrees {
				t.Logf("    %s %s %s %s: %v %v", f.Of, f.Name, f.Where, f.Metric, *f.Rehearsed, *f.Measured)
			}
		}
		for _, e := range p.Expectations {
			if e.RehearsedHolds != e.MeasuredHolds {
				t.Errorf("%s: %s turns", name, e.Text)
			}
		}
	}
}
