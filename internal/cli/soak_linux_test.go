package cli_test

import (
	"context"
	"encoding/binary"
	"flag"
	"io"
	"math"
	"math/rand/v2"
	"net"
	"net/netip"
	"os"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/examples"
	"imbrel.example/imbrel/internal/live"
)

var soak = flag.Duration("soak", 0, "keep a gate under load for so long, with a reload each second; for a quiet machine")

var soakReload = flag.Duration("soak-reload", time.Second, "how often TestSoak reloads")

var soakLoad = flag.Int("soak-load", 50, "how many frames a millisecond TestSoak sends: four fifths of what a gate does beside it, on two processors")

// TestSoak: under a flood of random sources, malformed frames and crafted link control, with a reload each second and a scrape five times a
// second, a gate loses no packet of a class with a promise, its memory stays as it is, and so do its threads and descriptors.
func TestSoak(t *testing.T) {
	if *soak == 0 {
		t.Skip("give -soak 10m")
	}
	y := newYard(t)
	g := y.gate(put(t, t.TempDir(), "site.yaml", `imbrel: 1
classes: [{name: voice, match: [{to-port: 16384-32767, protocol: udp}]}]
policies: [{name: up, shape: 40Mbit/s, treat: [{class: voice, priority: 1, at-most: 5Mbit/s}, {class: rest, each: source, queue: {drop: fq-codel}}]}]
attach: [{policy: up, at: site/wan out}]
network:
  nodes:
    - {name: site, interfaces: [{name: lan, rate: 10Gbit/s, subnets: [10.44.0.0/18]}, {name: wan, rate: 10Gbit/s}]}
    - {name: far, interfaces: [{name: wan, rate: 10Gbit/s}, {name: lan, rate: 10Gbit/s, subnets: [10.44.64.0/18]}]}
  links: [{ends: [{at: site/wan}, {at: far/wan}], delay: 1ms}]
`), "--metrics", "127.0.0.1:9920")
	y.ip("-n", y.mid, "link", "set", "lo", "up")
	pid := gatePID(t, g)
	var out, in *live.Socket
	var err error
	y.in(y.left, func() { out, err = live.Open("h0") })
	if err == nil {
		y.in(y.right, func() { in, err = live.Open("h1") })
	}
	if err != nil {
		t.Fatal(err)
	}
	var voice, arrived, sent atomic.Int64
	done := make(chan bool)
	go func() {
		for {
			select {
			case <-done:
				return
			default:
			}
			n, _ := in.Read(func(frame []byte, _ time.Duration) {
				if len(frame) > 42 && frame[23] == packet.UDP && binary.BigEndian.Uint16(frame[36:]) == 20000 {
					arrived.Add(1)
				}
			})
			if n == 0 {
				_ = live.Wait([]*live.Socket{in}, 5*time.Millisecond)
			}
		}
	}()
	build := func(from netip.Addr, port uint16, size int) []byte {
		var p packet.Packet
		p.Build(make([]byte, packet.HeaderRoom), packet.Flow{From: from, To: netip.MustParseAddr(rightHost), Protocol: packet.UDP, FromPort: 9, ToPort: port}, 0, size, 0)
		frame := make([]byte, p.WireLength())
		copy(frame, p.Bytes)
		frame[5], frame[11] = 2, 1
		return frame
	}
	perMillisecond := *soakLoad
	call := build(netip.MustParseAddr(leftHost), 20000, 200)
	random := rand.New(rand.NewPCG(1, 1))
	pool := make([][]byte, 8192) // made before: what sends is to have time for that
	for i := range pool {
		if i%4 > 0 {
			pool[i] = build(netip.AddrFrom4([4]byte{10, byte(random.Uint32()), byte(random.Uint32()), byte(random.Uint32())}), uint16(random.IntN(16000)), 28+random.IntN(400))
			continue
		}
		b := make([]byte, 14+random.IntN(200)) // anything at all
		for j := range b {
			b[j] = byte(random.Uint32())
		}
		b[0], b[6] = b[0]&^1, b[6]&^1
		binary.BigEndian.PutUint16(b[12:], []uint16{0x800, 0x86dd, 0x8100, 0x8847}[random.IntN(4)])
		pool[i] = b
	}
	for i := 0; i < len(pool); i += 64 { // link control, in as much as nobody sends
		pool[i] = make([]byte, 60)
		pool[i][5], pool[i][11] = 2, 1
		binary.BigEndian.PutUint16(pool[i][12:], []uint16{0x806, 0x88cc, 0x8809, 0x8863}[i/64%4])
	}
	begun := time.Now()
	reload, minute := time.NewTicker(*soakReload), time.NewTicker(*soak/20)
	defer reload.Stop()
	defer minute.Stop()
	var earlyFiles int
	var resident []int // kB, in each twentieth of the time
	descriptors := func() int {
		list, _ := os.ReadDir("/proc/" + pid + "/fd")
		return len(list)
	}
	scraped := make(chan bool)
	go func() {
		defer close(scraped)
		for {
			select {
			case <-done:
				return
			case <-time.After(200 * time.Millisecond):
				y.in(y.mid, func() {
					_ = unix.Setpriority(unix.PRIO_PROCESS, unix.Gettid(), 19)
					if c, err := net.DialTimeout("tcp", "127.0.0.1:9920", time.Second); err == nil {
						_, _ = io.WriteString(c, "GET /metrics HTTP/1.0\r\n\r\n")
						_, _ = io.ReadAll(c)
						c.Close()
					}
				})
			}
		}
	}()
	for n := 0; time.Since(begun) < *soak; n++ {
		for i := range perMillisecond {
			if i == 0 {
				out.Queue(call)
				voice.Add(1)
				continue
			}
			out.Queue(pool[(n*perMillisecond+i)%len(pool)])
		}
		out.Flush()
		sent.Add(int64(perMillisecond))
		select {
		case <-reload.C:
			if o, err := y.command("gate", "reload", "g0").CombinedOutput(); err != nil {
				t.Errorf("a reload: %v: %s", err, o)
			}
		case <-minute.C:
			if resident = append(resident, memory(t, pid)); len(resident) == 5 {
				earlyFiles = descriptors()
			}
		default:
		}
		if wait := time.Duration(n)*time.Millisecond - time.Since(begun); wait > 0 {
			time.Sleep(wait)
		}
	}
	threads := status(t, pid, "Threads:")
	time.Sleep(time.Second)
	close(done)
	<-scraped
	lateFiles := descriptors()
	r := g.end(t)
	var dropped measure.Drops
	for _, f := range r.Interfaces {
		for _, c := range f.Classes {
			if c.Class == "voice" {
				dropped = c.Drops
			}
		}
	}
	t.Logf("%d frames, %d reloads; voice sent %d, arrived %d, dropped by the gate %+v; %d frames came faster than it read; resident %d kB, %d threads, %d descriptors and %d; %+v", sent.Load(), r.Gate.Reloads, voice.Load(), arrived.Load(), dropped, r.Ports[0].Missed, resident, threads, earlyFiles, lateFiles, r.Gate)
	// What came while the machine did not let the gate run was never the gate's: it says how much.
	missed := int64(r.Ports[0].Missed)
	if lost := voice.Load() - arrived.Load(); dropped.Total() > 0 || float64(lost)/float64(voice.Load()) > 1.5*float64(missed)/float64(sent.Load())+1e-5 {
		t.Errorf("of %d promised packets %d arrive, and the gate dropped %+v", voice.Load(), arrived.Load(), dropped)
	}
	// From a quarter of the time on, each third has at most a tenth more than the one before.
	for i := 5; i+10 <= len(resident); i += 5 {
		if before, after := slices.Max(resident[i:i+5]), slices.Max(resident[i+5:i+10]); after > before*11/10 {
			t.Errorf("its memory went from %d to %d kB", before, after)
		}
	}
	if threads > 30 || lateFiles > earlyFiles+3 { // a connection or two may be open just then
		t.Errorf("it has %d threads, and %d descriptors in place of %d", threads, lateFiles, earlyFiles)
	}
}

// gatePID returns the process of a gate, which runs in a namespace.
func gatePID(t *testing.T, g *gateProcess) string {
	t.Helper()
	return strconv.Itoa(g.cmd.Process.Pid) // `ip netns exec` becomes the program
}

// status reads a number of a process's status.
func status(t *testing.T, pid, key string) int {
	t.Helper()
	b, err := os.ReadFile("/proc/" + pid + "/status")
	if err != nil {
		t.Fatal(err)
	}
	for line := range strings.Lines(string(b)) {
		if rest, ok := strings.CutPrefix(line, key); ok {
			n, _ := strconv.Atoi(strings.Fields(rest)[0])
			return n
		}
	}
	return 0
}

func memory(t *testing.T, pid string) int { return status(t, pid, "VmRSS:") }

// BenchmarkGateLatency compares how long frames take through a gate with how long they take through
// a bare relay, at half of the load that the relay does, in turn in the same run. Both spin, so that
// what a processor takes to wake up is in neither.
func BenchmarkGateLatency(b *testing.B) {
	y := newYard(b)
	var err error
	var sender, receiver *live.Socket
	y.in(y.left, func() { sender, err = live.Open("h0") })
	if err == nil {
		y.in(y.right, func() { receiver, err = live.Open("h1") })
	}
	if err != nil {
		b.Fatal(err)
	}
	var p packet.Packet
	p.Build(make([]byte, packet.HeaderRoom), packet.Flow{From: netip.MustParseAddr(leftHost), To: netip.MustParseAddr(rightHost), Protocol: packet.UDP, FromPort: 9, ToPort: 9}, 0, 200, 0)
	frame := make([]byte, p.WireLength())
	copy(frame, p.Bytes)
	frame[5], frame[11] = 2, 1
	var took [3]measure.Distribution
	y.in(y.mid, func() {
		work := movers()
		const apart = 10 * time.Microsecond // 100,000 a second
		for b.Loop() {
			for way, open := range work {
				_, step, done := open()
				begun := live.Monotonic()
				due := begun
				for live.Monotonic()-begun < 100*time.Millisecond { // one thread sends, moves and receives
					if now := live.Monotonic(); now >= due {
						binary.BigEndian.PutUint64(frame[42:], uint64(now))
						sender.Queue(frame)
						sender.Flush()
						due = max(due+apart, now-apart)
					}
					step()
					_, _ = receiver.Read(func(frame []byte, age time.Duration) {
						if d := live.Monotonic() - age - time.Duration(binary.BigEndian.Uint64(frame[42:])); len(frame) > 50 && d > 0 && d < time.Second {
							took[way].Add(d)
						}
					})
				}
				done()
			}
		}
	})
	for way, name := range []string{"messages", "relay", "gate"} {
		if s := took[way].Summary(); s != nil {
			b.ReportMetric(1000*s.P50, name+"-p50-us")
			b.ReportMetric(1000*s.P99, name+"-p99-us")
		}
	}
}

// TestGateKeepsItsRates: over ten seconds the gate sends what it is shaped to, to 0.5 %, a strict class
// waits at most for one full packet and a millisecond, and classes get the shares of the ideal
// allocation, to 2 %. What the machine takes from the gate is taken off.
func TestGateKeepsItsRates(t *testing.T) {
	if !*kernels {
		t.Skip("give -kernel: it takes a quiet machine")
	}
	y := newYard(t)
	g := y.gate(put(t, t.TempDir(), "site.yaml", `imbrel: 1
classes:
  - {name: voice, match: [{to-port: 20000}]}
  - {name: half,  match: [{to-port: 9001}]}
  - {name: third, match: [{to-port: 9002}]}
policies: [{name: up, shape: 8Mbit/s, treat: [{class: voice, priority: 1, at-most: 1Mbit/s}, {class: half, weight: 5}, {class: third, weight: 3}, {class: rest, weight: 2}]}]
attach: [{policy: up, at: site/wan out}]
network:
  nodes:
    - {name: site, interfaces: [{name: lan, rate: 1Gbit/s, subnets: [10.44.0.0/18]}, {name: wan, rate: 1Gbit/s, subnets: [10.44.64.0/18]}]}
`))
	sinks := []*sink{y.sink(20000), y.sink(9001), y.sink(9002), y.sink(9003)}
	ctx, stop := context.WithCancel(context.Background())
	for i, port := range []int{20000, 9001, 9002, 9003} {
		size, bps := 1400, 6e6
		if i == 0 {
			size, bps = 172, 80e3
		}
		go y.flood(ctx, port, size, bps)
	}
	time.Sleep(time.Second)
	a, at := y.snapshot(), live.Monotonic()
	time.Sleep(10 * time.Second)
	b, took := y.snapshot(), live.Monotonic()-at
	stop()
	for _, s := range sinks {
		s.end()
	}
	r := g.end(t)
	took -= time.Duration(b.Gate.LateLost-a.Gate.LateLost) * time.Microsecond
	sent := make(map[string]float64)
	all := 0.0
	for i := range b.Interfaces[0].Classes {
		k := &b.Interfaces[0].Classes[i]
		sent[k.Class] = float64(k.SentBytes - a.Interfaces[0].Classes[i].SentBytes)
		all += sent[k.Class]
	}
	rate := all * 8 / took.Seconds()
	elastic := all - sent["voice"]
	voice := r.Interfaces[0].Classes[0].QueueDelay
	const full = 1462 * 8 / 8e6 * 1000 // ms of the largest packet at the shape
	t.Logf("shaped to 8 Mbit/s it sends %.4f; of what voice leaves, half gets %.4f, third %.4f, rest %.4f; voice waits %.2f ms at p99, %.2f at most (a full packet takes %.2f); %d µs were lost, %d late at most",
		rate/1e6, sent["half"]/elastic, sent["third"]/elastic, sent["rest"]/elastic, voice.P99, voice.Max, full, b.Gate.LateLost-a.Gate.LateLost, r.Gate.MaxLate)
	if math.Abs(rate/8e6-1) > 0.005 {
		t.Errorf("shaped to 8 Mbit/s it sends %.4f", rate/1e6)
	}
	for name, share := range map[string]float64{"half": 0.5, "third": 0.3, "rest": 0.2} {
		if got := sent[name] / elastic; math.Abs(got/share-1) > 0.02 {
			t.Errorf("%s gets %.4f of what voice leaves; want %.2f", name, got, share)
		}
	}
	if voice.P99 > full+1 {
		t.Errorf("voice waits %.2f ms at p99", voice.P99)
	}
}

// TestWatchingStopsNothing: with 131,000 instances, a scrape each 100 ms and a reload each second add less than a millisecond to the
// delay of frames at p99.9.
func TestWatchingStopsNothing(t *testing.T) {
	if *soak == 0 {
		t.Skip("give -soak 1m, on a quiet machine")
	}
	y := newYard(t)
	y.ip("-n", y.mid, "link", "set", "lo", "up")
	y.gate(put(t, t.TempDir(), "site.yaml", `imbrel: 1
classes: [{name: voice, match: [{to-port: 16384-32767, protocol: udp}]}]
policies: [{name: up, shape: 400Mbit/s, treat: [{class: voice, priority: 1, at-most: 50Mbit/s}, {class: rest, each: source, at-most: 5Mbit/s}]}]
attach: [{policy: up, at: site/wan out}]
network: {nodes: [{name: site, interfaces: [{name: lan, rate: 1Gbit/s, subnets: [10.44.0.0/18]}, {name: wan, rate: 1Gbit/s, subnets: [10.44.64.0/18]}]}]}
`), "--metrics", "127.0.0.1:9919")
	out, in := y.ends()
	var p packet.Packet
	p.Build(make([]byte, packet.HeaderRoom), packet.Flow{From: netip.MustParseAddr(leftHost), To: netip.MustParseAddr(rightHost), Protocol: packet.UDP, FromPort: 9, ToPort: 20000}, 0, 200, 0)
	call := make([]byte, p.WireLength())
	copy(call, p.Bytes)
	call[5], call[11] = 2, 1
	source := uint32(0)
	invent := func() {
		source++
		from := netip.AddrFrom4([4]byte{10, byte(source >> 16), byte(source >> 8), byte(source)})
		var p packet.Packet
		p.Build(make([]byte, packet.HeaderRoom), packet.Flow{From: from, To: netip.MustParseAddr(rightHost), Protocol: packet.UDP, FromPort: 9, ToPort: 9}, 0, 60, 0)
		b := make([]byte, 74)
		copy(b, p.Bytes)
		out.Queue(b)
	}
	run := func(lasts time.Duration) (d []time.Duration) {
		begun := live.Monotonic()
		due := begun
		for live.Monotonic()-begun < lasts {
			if now := live.Monotonic(); now >= due {
				for range 4 {
					invent()
				}
				binary.BigEndian.PutUint64(call[42:], uint64(now))
				out.Queue(call)
				out.Flush()
				due = max(due+250*time.Microsecond, now-time.Millisecond)
			}
			n, _ := in.Read(func(frame []byte, age time.Duration) {
				if len(frame) == len(call) {
					d = append(d, max(0, live.Monotonic()-age-time.Duration(binary.BigEndian.Uint64(frame[42:]))))
				}
			})
			in.Release()
			if n == 0 {
				_ = live.Wait([]*live.Socket{in}, 50*time.Microsecond)
			}
		}
		slices.Sort(d)
		return d
	}
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	_ = unix.Setpriority(unix.PRIO_PROCESS, unix.Gettid(), -15)
	defer unix.Setpriority(unix.PRIO_PROCESS, unix.Gettid(), 0)
	run(10 * time.Second) // until there are as many instances as there may be
	quiet := run(*soak / 2)
	stop := make(chan bool)
	scrapes, reloads := 0, 0
	watching := make(chan bool)
	go func() {
		defer close(watching)
		for n := 0; ; n++ {
			select {
			case <-stop:
				return
			case <-time.After(100 * time.Millisecond):
			}
			y.in(y.mid, func() {
				_ = unix.Setpriority(unix.PRIO_PROCESS, unix.Gettid(), 19) // what sends and receives is not to wait for it
				if c, err := net.DialTimeout("tcp", "127.0.0.1:9919", time.Second); err == nil {
					_, _ = io.WriteString(c, "GET /metrics HTTP/1.0\r\n\r\n")
					if b, _ := io.ReadAll(c); len(b) > 1000 {
						scrapes++
					}
					c.Close()
				}
				if n%10 == 9 {
					if _, err := live.Ask("g0", "reload"); err == nil {
						reloads++
					}
				}
			})
		}
	}()
	busy := run(*soak / 2)
	close(stop)
	<-watching
	var most int
	for _, c := range y.snapshot().Interfaces[0].Classes {
		if c.Instances != nil {
			most = max(most, c.Instances.Max)
		}
	}
	at := func(d []time.Duration, part float64) time.Duration { return d[int(part*float64(len(d)-1))] }
	t.Logf("%d instances, %d scrapes, %d reloads", most, scrapes, reloads)
	for _, part := range []float64{0.5, 0.99, 0.999, 1} {
		t.Logf("%g: %v without, %v with", part, at(quiet, part), at(busy, part))
	}
	if added := at(busy, 0.999) - at(quiet, 0.999); added > time.Millisecond {
		t.Errorf("watching adds %v at p99.9", added)
	}
}

// TestTwoDirections: what a frame costs a gate that moves as many in both directions is no more than 1.1 of what it costs where all go in one.
func TestTwoDirections(t *testing.T) {
	if *soak == 0 {
		t.Skip("give -soak 20s, on a quiet machine")
	}
	y := newYard(t)
	demo, err := examples.FS.ReadFile("ternrock.yaml")
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	for _, name := range examples.Demo {
		b, _ := examples.FS.ReadFile(name)
		put(t, dir, name, string(b))
	}
	file := put(t, dir, "fast.yaml", strings.NewReplacer("11.4Mbit/s", "9Gbit/s", "rate: 1Gbit/s", "rate: 10Gbit/s", "rate: 100Mbit/s", "rate: 10Gbit/s").Replace(string(demo)))
	c := y.command("gate", file, "--node", "ternrock", "--port", "lan=g0", "--port", "radio=g1")
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	defer c.Process.Kill()
	for range 200 {
		if y.snapshot() != nil {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	var ends [2]*live.Socket
	for i, at := range [][2]string{{y.left, "h0"}, {y.right, "h1"}} {
		y.in(at[0], func() { ends[i], err = live.OpenSender(at[1]) })
		if err != nil {
			t.Fatal(err)
		}
	}
	var p packet.Packet
	p.Build(make([]byte, packet.HeaderRoom), packet.Flow{From: netip.MustParseAddr("10.44.8.99"), To: netip.MustParseAddr("10.44.64.99"), Protocol: packet.UDP, FromPort: 9, ToPort: 9}, 0, 200, 0)
	frame := make([]byte, p.WireLength())
	copy(frame, p.Bytes)
	frame[5], frame[11] = 2, 1
	pid := strconv.Itoa(c.Process.Pid)
	spent := func() float64 { // processor time, in ns
		b, _ := os.ReadFile("/proc/" + pid + "/stat")
		fields := strings.Fields(string(b[strings.LastIndexByte(string(b), ')')+1:]))
		user, _ := strconv.Atoi(fields[11])
		system, _ := strconv.Atoi(fields[12])
		return float64(user+system) * 1e7
	}
	var cost [2][]float64
	for n := 0; n < 8; n++ { // in turn, so that both meet the same machine
		ways := n%2 + 1
		r := y.snapshot()
		before, was := spent(), r.Gate.Taken
		begun := time.Now()
		for k := 0; time.Since(begun) < *soak/8; k++ {
			for i := range 64 {
				ends[i%ways].Lend(frame)
			}
			ends[0].Flush()
			ends[1].Flush()
			if wait := time.Until(begun.Add(time.Duration(k) * time.Millisecond)); wait > 0 { // 64,000 a second
				time.Sleep(wait)
			}
		}
		time.Sleep(100 * time.Millisecond)
		took := spent() - before
		cost[ways-1] = append(cost[ways-1], took/float64(y.snapshot().Gate.Taken-was))
	}
	for i := range cost {
		slices.Sort(cost[i])
	}
	one, two := (cost[0][1]+cost[0][2])/2, (cost[1][1]+cost[1][2])/2
	t.Logf("%.0f ns of processor time a frame in one direction, %.0f in both: %.2f", one, two, two/one)
	if two > 1.1*one {
		t.Errorf("a frame costs %.2f of what it costs in one direction", two/one)
	}
}
