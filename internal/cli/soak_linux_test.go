package cli_test

import (
	"encoding/binary"
	"flag"
	"math/rand/v2"
	"net/netip"
	"os"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"imbrel/core/measure"
	"imbrel/core/packet"
	"imbrel/internal/live"
)

var soak = flag.Duration("soak", 0, "keep a gate under load for so long, with a reload each second; for a quiet machine")

// TestSoak: under a flood of random sources and malformed frames, with a reload each second, a gate
// loses no packet of a class with a promise, its memory stays as it is, and so do its threads.
func TestSoak(t *testing.T) {
	if *soak == 0 {
		t.Skip("give -soak 10m")
	}
	y := newYard(t)
	g := y.gate(put(t, t.TempDir(), "site.yaml", `imbrel: 1
classes: [{name: voice, match: [{to-port: 16384-32767, protocol: udp}]}]
policies: [{name: up, shape: 40Mbit/s, treat: [{class: voice, priority: 1, at-most: 5Mbit/s}, {class: rest, each: source, queue: {drop: fq-codel}}]}]
attach: [{policy: up, at: site/wan, direction: out}]
network:
  nodes:
    - {name: site, interfaces: [{name: lan, rate: 10Gbit/s, subnets: [10.44.0.0/18]}, {name: wan, rate: 10Gbit/s}]}
    - {name: far, interfaces: [{name: wan, rate: 10Gbit/s}, {name: lan, rate: 10Gbit/s, subnets: [10.44.64.0/18]}]}
  links: [{ends: [{at: site/wan}, {at: far/wan}], delay: 1ms}]
`))
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
	const perMillisecond = 100
	call := build(netip.MustParseAddr(leftHost), 20000, 200)
	random := rand.New(rand.NewPCG(1, 1))
	begun := time.Now()
	reload := time.NewTicker(time.Second)
	defer reload.Stop()
	var early, reloads int
	for n := 0; time.Since(begun) < *soak; n++ {
		for i := range perMillisecond { // of these, of which one is promised
			switch {
			case i == 0:
				out.Queue(call)
				voice.Add(1)
			case i%4 == 1: // anything at all
				b := make([]byte, 14+random.IntN(200))
				for j := range b {
					b[j] = byte(random.Uint32())
				}
				b[0], b[6] = b[0]&^1, b[6]&^1
				binary.BigEndian.PutUint16(b[12:], []uint16{0x800, 0x86dd, 0x8100, 0x8847}[random.IntN(4)])
				out.Queue(b)
			default:
				out.Queue(build(netip.AddrFrom4([4]byte{10, byte(random.Uint32()), byte(random.Uint32()), byte(random.Uint32())}), uint16(random.IntN(16000)), 28+random.IntN(400)))
			}
		}
		out.Flush()
		sent.Add(perMillisecond)
		select {
		case <-reload.C:
			if o, err := y.command("gate", "reload", "g0").CombinedOutput(); err != nil {
				t.Errorf("a reload: %v: %s", err, o)
			}
			if reloads++; reloads == int(soak.Seconds())/2 {
				early = memory(t, pid)
			}
		default:
		}
		if wait := time.Duration(n)*time.Millisecond - time.Since(begun); wait > 0 {
			time.Sleep(wait)
		}
	}
	late, threads := memory(t, pid), status(t, pid, "Threads:")
	time.Sleep(time.Second)
	close(done)
	r := g.end(t)
	var dropped measure.Drops
	for _, f := range r.Interfaces {
		for _, c := range f.Classes {
			if c.Class == "voice" {
				dropped = c.Drops
			}
		}
	}
	t.Logf("%d frames, %d reloads; voice sent %d, arrived %d, dropped by the gate %+v; resident %d kB at half of the time, %d kB at the end, %d threads; %+v", sent.Load(), r.Gate.Reloads, voice.Load(), arrived.Load(), dropped, early, late, threads, r.Gate)
	if dropped.Total() > 0 || arrived.Load() < voice.Load()*999/1000 {
		t.Errorf("of %d promised packets %d arrive, and the gate dropped %+v", voice.Load(), arrived.Load(), dropped)
	}
	if late > early*5/4+20_000 || threads > 30 {
		t.Errorf("its memory went from %d to %d kB, with %d threads", early, late, threads)
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
	var took [2]measure.Distribution
	y.in(y.mid, func() {
		_, work, done := movers()
		defer done()
		const apart = 10 * time.Microsecond // 100,000 a second
		for b.Loop() {
			for way, step := range work {
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
			}
		}
	})
	for way, name := range []string{"relay", "gate"} {
		if s := took[way].Summary(); s != nil {
			b.ReportMetric(1000*s.P50, name+"-p50-us")
			b.ReportMetric(1000*s.P99, name+"-p99-us")
		}
	}
}
