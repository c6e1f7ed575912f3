package cli_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/exec"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"imbrel.example/imbrel/core/gate"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/examples"
	"imbrel.example/imbrel/internal/files"
	"imbrel.example/imbrel/internal/live"
)

// A yard is three network namespaces in a row: two hosts, and between them a machine whose two
// interfaces a gate may have. It skips where there cannot be any.
type yard struct {
	t                testing.TB
	left, mid, right string
}

const leftHost, rightHost = "10.44.10.5", "10.44.64.40"

func newYard(t testing.TB) *yard {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("network namespaces need root")
	}
	if _, err := exec.LookPath("ip"); err != nil {
		t.Skip("network namespaces are made with the program ip, which is not here (Debian's package iproute2)")
	}
	id := fmt.Sprintf("imbrel%d", rand.Uint32())
	y := &yard{t, id + "l", id + "m", id + "r"}
	t.Cleanup(func() {
		for _, n := range []string{y.left, y.mid, y.right} {
			_ = exec.Command("ip", "netns", "del", n).Run()
		}
	})
	for _, n := range []string{y.left, y.mid, y.right} {
		if out, err := exec.Command("ip", "netns", "add", n).CombinedOutput(); err != nil {
			t.Skipf("no network namespace can be made here: %s", out)
		}
	}
	y.ip("link", "add", "h0", "netns", y.left, "type", "veth", "peer", "name", "g0", "netns", y.mid)
	y.ip("link", "add", "h1", "netns", y.right, "type", "veth", "peer", "name", "g1", "netns", y.mid)
	y.ip("-n", y.left, "addr", "add", leftHost+"/16", "dev", "h0")
	y.ip("-n", y.right, "addr", "add", rightHost+"/16", "dev", "h1")
	for _, l := range [][2]string{{y.left, "h0"}, {y.mid, "g0"}, {y.mid, "g1"}, {y.right, "h1"}, {y.left, "lo"}, {y.right, "lo"}} {
		y.ip("-n", l[0], "link", "set", l[1], "up")
	}
	for ns, dev := range map[string]string{y.left: "h0", y.right: "h1"} { // frames of one segment
		y.in(ns, func() {
			if _, err := live.WithoutOffloads(dev); err != nil {
				t.Skipf("segmentation offload cannot be turned off here: %v", err)
			}
		})
	}
	return y
}

func (y *yard) ip(args ...string) {
	y.t.Helper()
	if out, err := exec.Command("ip", args...).CombinedOutput(); err != nil {
		y.t.Skipf("ip %s: %s", strings.Join(args, " "), out)
	}
}

// in runs a function in a namespace; what it opens stays there.
func (y *yard) in(ns string, f func()) {
	y.t.Helper()
	done := make(chan error)
	go func() {
		runtime.LockOSThread() // never unlocked: the thread ends with the goroutine
		file, err := os.Open("/var/run/netns/" + ns)
		if err == nil {
			err = unix.Setns(int(file.Fd()), unix.CLONE_NEWNET)
			file.Close()
		}
		if err == nil {
			f()
		}
		done <- err
	}()
	if err := <-done; err != nil {
		y.t.Fatalf("cannot enter the namespace: %v", err)
	}
}

// ends returns what sends frames at the left host's interface, and what reads them at the right one's.
func (y *yard) ends() (out, in *live.Socket) {
	y.t.Helper()
	var err error
	y.in(y.left, func() { out, err = live.OpenSender("h0") })
	if err == nil {
		y.in(y.right, func() { in, err = live.OpenRing("h1") })
	}
	if err != nil {
		y.t.Fatal(err)
	}
	y.t.Cleanup(func() {
		out.Close()
		in.Close()
	})
	return out, in
}

// A running gate is a process in the middle namespace.
type gateProcess struct {
	cmd       *exec.Cmd
	out, errs bytes.Buffer
}

func (y *yard) command(args ...string) *exec.Cmd {
	return exec.Command("ip", append([]string{"netns", "exec", y.mid, program}, args...)...)
}

// gate starts a gate on a policy file and waits until it is there.
func (y *yard) gate(file string, args ...string) *gateProcess {
	y.t.Helper()
	g := &gateProcess{cmd: y.command(append([]string{"gate", file, "--node", "site", "--port", "lan=g0", "--port", "wan=g1", "-o", "json"}, args...)...)}
	g.cmd.Stdout, g.cmd.Stderr = &g.out, &g.errs
	if err := g.cmd.Start(); err != nil {
		y.t.Fatal(err)
	}
	y.t.Cleanup(func() {
		noteHeldUp(y.t, y.snapshot())
		_ = g.cmd.Process.Kill()
	})
	for range 200 {
		if y.snapshot() != nil {
			return g
		}
		time.Sleep(20 * time.Millisecond)
	}
	y.t.Fatalf("the gate does not come: %s", g.errs.String())
	return nil
}

// snapshot asks the gate what it has done; nil: there is none.
func (y *yard) snapshot() (r *live.Report) {
	y.in(y.mid, func() { r, _ = live.Snapshot("g0") })
	return r
}

// noteHeldUp notes where a gate had more than 100 ms in which it could not run.
func noteHeldUp(t testing.TB, r *live.Report) {
	if r != nil && r.Gate.LateLost > 100_000 {
		heldUp(t, "it could not run the gate for %d ms", r.Gate.LateLost/1000)
	}
}

// end ends a gate in the way that Ctrl-C does, and returns its report.
func (g *gateProcess) end(t testing.TB) *live.Report {
	t.Helper()
	_ = g.cmd.Process.Signal(syscall.SIGINT)
	if err := g.cmd.Wait(); err != nil {
		var exit *exec.ExitError
		if !errors.As(err, &exit) || exit.ExitCode() > 1 {
			t.Fatalf("the gate ends with %v: %s", err, g.errs.String())
		}
	}
	var r live.Report
	if err := json.Unmarshal(g.out.Bytes(), &r); err != nil {
		t.Fatalf("%v: %s %s", err, g.out.String(), g.errs.String())
	}
	noteHeldUp(t, &r)
	return &r
}

// site is the policy of the gate in these tests; SHAPE is its shape.
const site = `imbrel: 1
classes:
  - {name: voice, match: [{to-port: 16384-32767, protocol: udp}]}
  - {name: files, match: [{protocol: tcp}]}
policies:
  - {name: edge, treat: [{class: voice, mark: ef}, {class: rest, mark: df}]}
  - {name: up, shape: SHAPE, treat: [{class: voice, priority: 1, police: {calls: 4, codec: g711}}, {class: files, at-least: 40%}, {class: rest, queue: {limit: 60ms}}]}
attach:
  - {policy: edge, at: site/lan in}
  - {policy: up, at: site/wan out}
network:
  nodes:
    - {name: site, interfaces: [{name: lan, rate: 1Gbit/s, subnets: [10.44.0.0/18]}, {name: wan, rate: 1Gbit/s, subnets: [10.44.64.0/18]}]}
rehearsals:
  - name: busy
    lasts: 1s
    traffic: [{name: call, calls: 1, codec: g711, between: [10.44.10.5, 10.44.64.40]}]
    expect:
      - voice drops at site/wan out = 0
      - voice mark at site/wan out = ef
`

// flood sends packets of a size at a rate from the left to the right host until the context ends;
// each carries the time at which it was sent.
func (y *yard) flood(ctx context.Context, port, size int, bps float64) {
	var c net.Conn
	y.in(y.left, func() { c, _ = net.Dial("udp", net.JoinHostPort(rightHost, strconv.Itoa(port))) })
	if c == nil {
		y.t.Fatal("no socket")
	}
	defer c.Close()
	gap := time.Duration(float64(8*(size+28)) / bps * 1e9)
	b := make([]byte, size)
	begun := time.Now()
	for n := 0; ctx.Err() == nil; n++ {
		if wait := time.Until(begun.Add(time.Duration(n) * gap)); wait > 0 {
			time.Sleep(wait)
		}
		binary.BigEndian.PutUint64(b, uint64(time.Now().UnixNano()))
		_, _ = c.Write(b)
	}
}

// A sink is what arrives at a port of the right host.
type sink struct {
	conn    *net.UDPConn
	bytes   int // of the frames on the wire
	delays  []time.Duration
	classes map[byte]int // by traffic class
	done    chan struct{}
}

func (y *yard) sink(port int) *sink {
	s := &sink{classes: make(map[byte]int), done: make(chan struct{})}
	y.in(y.right, func() {
		s.conn, _ = net.ListenUDP("udp4", &net.UDPAddr{Port: port})
	})
	if s.conn == nil {
		y.t.Fatal("no socket")
	}
	raw, _ := s.conn.SyscallConn()
	_ = raw.Control(func(fd uintptr) {
		_ = unix.SetsockoptInt(int(fd), unix.IPPROTO_IP, unix.IP_RECVTOS, 1)
		_ = unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_RCVBUFFORCE, 4<<20)
	})
	go func() {
		defer close(s.done)
		b, oob := make([]byte, 2048), make([]byte, 128)
		for {
			n, m, _, _, err := s.conn.ReadMsgUDP(b, oob)
			if err != nil {
				return
			}
			s.bytes += n + 28 + 38
			s.delays = append(s.delays, time.Duration(time.Now().UnixNano()-int64(binary.BigEndian.Uint64(b))))
			if list, err := unix.ParseSocketControlMessage(oob[:m]); err == nil && len(list) > 0 && len(list[0].Data) > 0 {
				s.classes[list[0].Data[0]]++
			}
		}
	}()
	return s
}

func (s *sink) end() {
	s.conn.Close()
	<-s.done
}

// gateOnce: a flood and a call through a gate. The flood is shaped and the call goes first, marked;
// what the kernel's TCP carries arrives as it was sent; a reload changes the shape under load, and
// a broken file changes nothing.
func gateOnce(t testing.TB) {
	y := newYard(t)
	dir := t.TempDir()
	file := put(t, dir, "site.yaml", strings.Replace(site, "SHAPE", "8Mbit/s", 1))
	g := y.gate(file, "--expect", "busy", "--metrics", ":0", "--capture-out", dir+"/seen")
	call, bulk := y.sink(20000), y.sink(9000)
	ctx, stop := context.WithCancel(context.Background())
	go y.flood(ctx, 20000, 172, 80e3)
	go y.flood(ctx, 9000, 1400, 30e6)
	time.Sleep(500 * time.Millisecond)
	shaped := func(lasts time.Duration) float64 {
		a, at := y.snapshot(), time.Now()
		time.Sleep(lasts)
		b, took := y.snapshot(), time.Since(at)
		sent := func(r *live.Report) (n uint64) {
			for _, f := range r.Interfaces {
				if f.PolicyAt == "up" {
					for _, c := range f.Classes {
						n += c.SentBytes
					}
				}
			}
			return n
		}
		return float64(sent(b)-sent(a)) * 8 / took.Seconds()
	}
	// Somebody watches: a report a line, or a view of what is sent now.
	lines, err := y.command("watch", "g1", "--count", "3", "--every", "200ms", "-o", "json").Output()
	if n := strings.Count(string(lines), `{"imbrel":1,`); err != nil || n != 3 {
		t.Errorf("%d reports of three are written: %v", n, err)
	}
	view, err := y.command("watch", "g0", "--count", "2", "--every", "300ms").Output()
	for _, want := range []string{"▶ site/wan out", "8.00 Mbit/s", "site/wan out: policy up", "queue full", "│"} {
		if err != nil || !strings.Contains(string(view), want) {
			t.Errorf("the view lacks %q: %v\n%s", want, err, view)
		}
	}
	if r := shaped(3 * time.Second); r > 8e6*1.02 || r < 8e6*0.8 {
		t.Errorf("shaped to 8 Mbit/s the gate sends %.3f", r/1e6)
	}
	// A file with errors changes nothing, one without does.
	put(t, dir, "site.yaml", "imbrel: 1\npolicies: [")
	if out, err := y.command("gate", "reload", "g0").CombinedOutput(); err == nil || !strings.Contains(string(out), "site.yaml:") {
		t.Errorf("a broken file: %v, %s", err, out)
	}
	put(t, dir, "site.yaml", strings.Replace(site, "SHAPE", "4Mbit/s", 1))
	if out, err := y.command("gate", "reload", "g0").CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	time.Sleep(200 * time.Millisecond)
	if r := shaped(2 * time.Second); r > 4e6*1.03 || r < 4e6*0.8 {
		t.Errorf("after the reload to 4 Mbit/s the gate sends %.3f", r/1e6)
	}
	stop()
	time.Sleep(200 * time.Millisecond)
	y.transfer(t, 3_000_000)
	call.end()
	bulk.end()
	r := g.end(t)
	slices.Sort(call.delays)
	slices.Sort(bulk.delays)
	if len(call.delays) < 200 || call.classes[46<<2] != len(call.delays) {
		t.Errorf("%d packets of the call arrive, marked %v", len(call.delays), call.classes)
	} else if c, b := call.delays[len(call.delays)/2], bulk.delays[len(bulk.delays)/2]; c*4 > b {
		t.Errorf("half of the call's packets take up to %v, half of the flood's %v", c, b)
	}
	if r.Verdict != "pass" || len(r.Expectations) != 2 || r.Gate.Reloads != 1 || r.Gate.PassedBy == 0 {
		t.Errorf("%s, %+v, %+v", r.Verdict, r.Expectations, r.Gate)
	}
	for _, p := range r.Ports {
		if p.Received == 0 || p.Sent == 0 || p.Giants > 0 {
			t.Errorf("%+v", p)
		}
	}
	for _, f := range r.Interfaces {
		for _, c := range f.Classes {
			if c.OfferedPackets != c.SentPackets+c.Drops.Total() && r.Waiting == 0 {
				t.Errorf("%s %s: %+v", f.Interface, c.Class, c)
			}
		}
	}
	if out := imbrel(t, dir, "", nil, "explain", "site.yaml", "--capture", "seen/site/wan-out.pcapng", "--enter", "site/lan"); out.status > 1 || !strings.Contains(out.out, "voice") {
		t.Errorf("what the gate captured: exit %d, %.300s %s", out.status, out.out, out.err)
	}
}

// transfer sends bytes by the kernel's TCP from the left to the right, and holds what arrives
// against what was sent.
func (y *yard) transfer(t testing.TB, size int) {
	t.Helper()
	var l net.Listener
	y.in(y.right, func() { l, _ = net.Listen("tcp4", ":8000") })
	defer l.Close()
	sum := make(chan [32]byte, 1)
	go func() {
		c, err := l.Accept()
		if err != nil {
			return
		}
		h := sha256.New()
		_, _ = io.Copy(h, c)
		c.Close()
		sum <- [32]byte(h.Sum(nil))
	}()
	data := make([]byte, size)
	for i := range data {
		data[i] = byte(i * 7)
	}
	var c net.Conn
	var err error
	y.in(y.left, func() { c, err = net.DialTimeout("tcp", rightHost+":8000", 5*time.Second) })
	if err != nil {
		t.Errorf("TCP through the gate: %v", err)
		return
	}
	_ = c.SetDeadline(time.Now().Add(60 * time.Second))
	_, err = c.Write(data)
	c.Close()
	select {
	case got := <-sum:
		if got != sha256.Sum256(data) || err != nil {
			t.Errorf("TCP does not carry what was sent through the gate: %v", err)
		}
	case <-time.After(60 * time.Second):
		t.Errorf("TCP does not get %d bytes through the gate", size)
	}
}

// TestGateRefuses: what cannot be had is said in words, and nothing is left behind.
func TestGateRefuses(t *testing.T) {
	t.Parallel()
	y := newYard(t)
	dir := t.TempDir()
	file := put(t, dir, "site.yaml", strings.Replace(site, "SHAPE", "8Mbit/s", 1))
	y.ip("-n", y.mid, "link", "add", "d0", "type", "veth", "peer", "name", "d1")
	y.ip("-n", y.mid, "addr", "add", "192.0.2.1/24", "dev", "d1")
	y.ip("-n", y.mid, "link", "set", "d1", "up")
	base := []string{"gate", file, "--node", "site"}
	for args, want := range map[string]string{
		"--port lan=g0 --port wan=nosuch":            "there is no interface \"nosuch\" here",
		"--port lan=g0 --port wan=g0":                "is given for two ports",
		"--port lan=g0 --port lan=g1":                "`lan` is given twice",
		"--port lan=g0":                              "two ports or more",
		"--port lan=g0 --port wam=g1":                "did you mean `wan`",
		"--port lan=g0 --port wan":                   "write INTERFACE=DEVICE",
		"--port lan=g0 --port wan=d0":                "d0 is down",
		"--port lan=g0 --port wan=d1":                "has the address 192.0.2.1 of this machine",
		"--port lan=g0 --port wan=g1 --for 3":        "no unit",
		"--port lan=g0 --port wan=g1 --expect bus":   "there is no rehearsal `bus`",
		"--port lan=g0 --port wan=g1 --metrics nine": "write HOST:PORT",
		"--port lan=g0 --port wan=g1 --node sit":     "did you mean `site`",
	} {
		var errs bytes.Buffer
		c := y.command(append(slices.Clone(base), strings.Fields(args)...)...)
		c.Stderr = &errs
		var exit *exec.ExitError
		if err := c.Run(); !errors.As(err, &exit) || exit.ExitCode() != 2 || !strings.Contains(errs.String(), want) || strings.Contains(errs.String(), "goroutine") {
			t.Errorf("%s: %v, %s", args, err, errs.String())
		}
	}
	for args, want := range map[string]string{"gate reload g0": "no gate has the interface g0", "watch g0": "no gate has the interface g0", "gate reload": "or its --config", "gate reload g0 --config site.yaml": "or its --config"} {
		if out, err := y.command(strings.Fields(args)...).CombinedOutput(); err == nil || !strings.Contains(string(out), want) {
			t.Errorf("%s without a gate: %v, %s", args, err, out)
		}
	}
	if out, err := y.command(append(slices.Clone(base), "--port", "lan=g0", "--port", "wan=g1", "--for", "100ms")...).Output(); err != nil || !strings.HasPrefix(string(out), "A gate for 0.1") {
		t.Errorf("a gate of a file without a title: %v, %s", err, out)
	}
	if out, err := y.command("watch", "g0", "--every", "1ms").CombinedOutput(); err == nil || !strings.Contains(string(out), "the least is 100ms") {
		t.Errorf("a gate that is asked too often: %v, %s", err, out)
	}
	on := func() (text string) {
		y.in(y.mid, func() {
			o, _ := live.WithoutOffloads("g0")
			text = fmt.Sprint(o)
			o.Restore()
		})
		return text
	}
	before := on()
	y.ip("-n", y.mid, "link", "set", "lo", "up")
	g := y.gate(file, "--metrics", "127.0.0.1:9917")
	if out, err := y.command(append(base, "--port", "lan=g0", "--port", "wan=g1")...).CombinedOutput(); err == nil || !strings.Contains(string(out), "another gate has the interface g0") {
		t.Errorf("a second gate: %v, %s", err, out)
	}
	// The counters over HTTP, and the page beside them.
	get := func(path string) (text []byte) {
		y.in(y.mid, func() {
			c, err := net.DialTimeout("tcp", "127.0.0.1:9917", 2*time.Second)
			if err != nil {
				t.Errorf("no metrics: %v", err)
				return
			}
			client := http.Client{Transport: &http.Transport{DialContext: func(context.Context, string, string) (net.Conn, error) { return c, nil }}, Timeout: 5 * time.Second}
			res, err := client.Get("http://127.0.0.1:9917" + path)
			if err != nil {
				t.Errorf("no metrics: %v", err)
				return
			}
			text, _ = io.ReadAll(res.Body)
			res.Body.Close()
		})
		return text
	}
	time.Sleep(2200 * time.Millisecond) // of which the page has two steps
	if live := page(t, put(t, t.TempDir(), "live.html", string(get("/"))), 300_000); !strings.Contains(live, `<meta http-equiv="refresh" content="3">`) || !strings.Contains(live, "wan out: voice") || !strings.Contains(live, "site/wan out") {
		t.Errorf("the page of the gate: %.600s", live)
	}
	text := get("/metrics")
	for _, want := range []string{"# TYPE imbrel_sent_bytes counter\n# UNIT imbrel_sent_bytes bytes\n", "# TYPE imbrel_wait_seconds histogram\n", `imbrel_dropped_packets_total{node="site",interface="wan",direction="out",class="voice",reason="policed"} 0`, "\n# EOF\n"} {
		if !strings.Contains(string(text), want) {
			t.Errorf("the metrics lack %q:\n%.600s", want, text)
		}
	}
	// An interface that goes away and comes back.
	y.ip("-n", y.mid, "link", "set", "g1", "down")
	time.Sleep(300 * time.Millisecond)
	y.ip("-n", y.mid, "link", "set", "g1", "up")
	y.ip("-n", y.right, "link", "set", "h1", "up")
	for range 100 {
		if strings.Contains(g.errs.String(), "g1 is back") {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	g.end(t)
	if !strings.Contains(g.errs.String(), "g1 is gone") || !strings.Contains(g.errs.String(), "g1 is back") {
		t.Errorf("an interface that goes and comes back: %s", g.errs.String())
	}
	if after := on(); after != before || !strings.Contains(before, "[") {
		t.Errorf("the offloads of the interface were %s, and are %s", before, after)
	}
	// A gate that is killed leaves nothing that the next one trips over.
	g = y.gate(file)
	_ = g.cmd.Process.Kill()
	_ = g.cmd.Wait()
	for range 100 { // the process below `ip netns exec` is the same one
		if y.snapshot() == nil {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	y.gate(file).end(t)
}

// BenchmarkGate compares the processor time per frame of a gate with the demo's policies, whose shape is out of the way, with that of a
// bare relay by the same sockets, ring and batches, and with one that reads and writes by messages, in the same run.
func BenchmarkGate(b *testing.B) {
	y := newYard(b)
	var err error
	for _, size := range []int{46, 1500} {
		b.Run(fmt.Sprintf("%d bytes", size+14), func(b *testing.B) {
			var p packet.Packet
			p.Build(make([]byte, packet.HeaderRoom), packet.Flow{From: netip.MustParseAddr(leftHost), To: netip.MustParseAddr(rightHost), Protocol: packet.UDP, FromPort: 9, ToPort: 9}, 0, size, 0)
			frame := make([]byte, p.WireLength())
			copy(frame, p.Bytes)
			frame[5], frame[11] = 2, 1
			stop := make(chan struct{})
			var sender *live.Socket
			y.in(y.left, func() { sender, err = live.OpenSender("h0") })
			if err != nil {
				b.Fatal(err)
			}
			sent := make(chan bool)
			go func() {
				defer close(sent)
				for {
					select {
					case <-stop:
						return
					default:
						for range 64 {
							sender.Lend(frame)
						}
						sender.Flush()
					}
				}
			}()
			var cost, rate [3]float64
			y.in(y.mid, func() {
				work := movers()
				var frames [3]float64
				var took, cpu [3]time.Duration
				for b.Loop() {
					for way, open := range work { // in turn, so that all meet the same machine
						in, step, done := open()
						begun, spent := time.Now(), threadTime()
						for time.Since(begun) < 100*time.Millisecond {
							n := step()
							frames[way] += float64(n)
							if n == 0 {
								_ = live.Wait([]*live.Socket{in}, time.Millisecond)
							}
						}
						took[way] += time.Since(begun)
						cpu[way] += threadTime() - spent
						done()
					}
				}
				for way := range work {
					cost[way] = float64(cpu[way]) / frames[way]
					rate[way] = frames[way] / took[way].Seconds()
				}
			})
			close(stop)
			<-sent
			sender.Close()
			b.ReportMetric(cost[0], "messages-ns/frame")
			b.ReportMetric(cost[1], "relay-ns/frame")
			b.ReportMetric(cost[2], "gate-ns/frame")
			b.ReportMetric(rate[2]/1e3, "gate-kframes/s")
			b.ReportMetric(cost[1]/cost[2], "of-relay")
			b.ReportMetric(cost[0]/cost[2], "of-messages")
		})
	}
}

// movers returns what opens the interfaces of this namespace and moves frames from one to the other, once: a relay that reads and
// writes by messages, one by a ring, and a gate.
func movers() []func() (in *live.Socket, step func() int, done func()) {
	demo, err := examples.FS.ReadFile("ternrock.yaml")
	if err != nil {
		panic(err) // in a goroutine that no test is
	}
	text := strings.NewReplacer("11.4Mbit/s", "9Gbit/s", "rate: 1Gbit/s", "rate: 10Gbit/s", "rate: 100Mbit/s", "rate: 10Gbit/s").Replace(string(demo))
	f, _, err := files.ReadPolicy("-", strings.NewReader(text))
	if err != nil {
		panic(err)
	}
	node := &f.Network.Nodes[0]
	open := func(read func(string) (*live.Socket, error)) (in, out *live.Socket, done func()) {
		in, err := read("g0")
		out, err2 := live.OpenSender("g1")
		if err != nil || err2 != nil {
			panic(fmt.Sprint(err, err2))
		}
		return in, out, func() {
			in.Close()
			out.Close()
		}
	}
	return []func() (*live.Socket, func() int, func()){
		func() (*live.Socket, func() int, func()) {
			in, out, done := open(live.Open)
			return in, func() int {
				n, _ := in.Read(func(frame []byte, _ time.Duration) { out.Queue(frame) })
				out.Flush()
				return n
			}, done
		},
		func() (*live.Socket, func() int, func()) {
			in, out, done := open(live.OpenRing)
			return in, func() int {
				n, _ := in.Read(func(frame []byte, _ time.Duration) { out.Lend(frame) })
				out.Flush()
				in.Release()
				return n
			}, done
		},
		func() (*live.Socket, func() int, func()) {
			in, out, done := open(live.OpenRing)
			g, err := gate.New(f, node, node.Interfaces, 0, gate.Options{})
			if err != nil {
				panic(err)
			}
			lane, base := g.Lanes[0], live.Monotonic()
			send := func(n int, frame []byte) { out.Lend(frame) }
			return in, func() int {
				now := live.Monotonic() - base
				n, _ := in.Read(func(frame []byte, age time.Duration) { lane.Take(max(0, now-age), 0, frame, send) })
				lane.Run(live.Monotonic()-base, send)
				out.Flush()
				lane.Flushed()
				in.Release()
				return n
			}, done
		},
	}
}

// threadTime returns the processor time of this thread.
func threadTime() time.Duration {
	var u unix.Rusage
	_ = unix.Getrusage(unix.RUSAGE_THREAD, &u)
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

var kernels = flag.Bool("kernel", false, "hold rehearsed TCP against the kernel's own through a gate, which takes minutes and a quiet machine")

// TestRehearsedTCPIsTheKernels: flows of the kernel's own TCP through each kind of queue get the
// goodput that was rehearsed, to 5 %.
func TestRehearsedTCPIsTheKernels(t *testing.T) {
	if !*kernels {
		t.Skip("give -kernel: it takes minutes and a quiet machine")
	}
	for _, drop := range []string{"tail", "red", "codel", "fq-codel"} {
		for _, n := range []int{1, 4, 20} {
			p, _ := proven(t, fmt.Sprintf(`imbrel: 1
policies: [{name: up, shape: 20Mbit/s, treat: [{class: rest, queue: {drop: %s, limit: 60ms}}]}]
attach: [{policy: up, at: site/wan out}]
network:
  nodes:
    - {name: site, interfaces: [{name: lan, rate: 10Gbit/s, subnets: [10.44.0.0/18]}, {name: wan, rate: 10Gbit/s}]}
    - {name: far, interfaces: [{name: wan, rate: 10Gbit/s}, {name: lan, rate: 10Gbit/s, subnets: [10.44.64.0/18]}]}
  links: [{ends: [{at: site/wan}, {at: far/wan}], delay: 5ms}]
rehearsals: [{name: r, lasts: 10s, traffic: [{name: up, tcp: %d, from: 10.44.10.5, to: 10.44.64.40}]}]
`, drop, n))
			predictedEntry, got := rowOf(t, p.Rehearsed, "up", "forward").TCP, rowOf(t, p.Staged.Result, "up", "forward").TCP
			ratio := float64(got.GoodputBps) / float64(predictedEntry.GoodputBps)
			t.Logf("| %s | %d | %.2f Mbit/s | %.2f | %.3f | %.2f %% | %.2f %% | %.1f ms | %.1f ms | held up %.0f ms", drop, n, float64(predictedEntry.GoodputBps)/1e6, float64(got.GoodputBps)/1e6, ratio, 100*predictedEntry.Retransmissions, 100*got.Retransmissions, predictedEntry.RTT.P50, got.RTT.P50, p.HeldUpMs)
			if p.HeldUpMs < 500 && (ratio < 0.95 || ratio > 1.05) {
				t.Errorf("%s, %d flows: the kernel gets %.3f of what was rehearsed", drop, n, ratio)
			}
		}
	}
}
