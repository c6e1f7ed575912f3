package cli_test

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"flag"
	"fmt"
	"math/rand/v2"
	"net"
	"net/netip"
	"os/exec"
	"strings"
	"testing"
	"time"

	"imbrel.example/imbrel/core/handshake"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/rtp"
	"imbrel.example/imbrel/core/stamp"
	"imbrel.example/imbrel/internal/live"
)

var forgeries = flag.Int("forged", 100_000, "how many forged datagrams TestAnswerUnderForgeries sends")

// answerUnderForgeriesOnce: a far end receives probes, hellos, floods and calls with forged sources, and slow connections fill its
// table. Meanwhile a call and a TCP flood of an honest peer are undisturbed.
func answerUnderForgeriesOnce(t testing.TB) {
	y := newYard(t)
	y.ip("-n", y.mid, "link", "add", "br0", "type", "bridge")
	for _, d := range []string{"g0", "g1"} {
		y.ip("-n", y.mid, "link", "set", d, "master", "br0")
	}
	y.ip("-n", y.mid, "link", "set", "br0", "up")
	y.ip("-n", y.right, "route", "add", "198.18.0.0/15", "via", leftHost)
	in := func(ns string, args ...string) *exec.Cmd {
		return exec.Command("ip", append([]string{"netns", "exec", ns, program}, args...)...)
	}
	far := in(y.right, "answer", "--listen", rightHost)
	if err := far.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() {
		_ = far.Process.Kill()
		_ = far.Wait()
	}()
	for range 100 {
		if in(y.left, "probe", rightHost, "--dscp", "ef", "--count", "1").Run() == nil {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	station := func(ns, dev string) (mac net.HardwareAddr) {
		y.in(ns, func() {
			if i, err := net.InterfaceByName(dev); err == nil {
				mac = i.HardwareAddr
			}
		})
		return mac
	}
	to := station(y.right, "h1")
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	sent := make(chan int)
	go func() {
		n := 0
		defer func() { sent <- n }()
		var out *live.Socket
		var err error
		if y.in(y.left, func() { out, err = live.OpenSender("h0") }); err != nil {
			return
		}
		defer out.Close()
		r := rand.New(rand.NewPCG(27, 6))
		probe := (&stamp.Probe{Session: 1}).Bytes(nil)
		hello := (&handshake.Greeting{Nonce: 7}).Message(nil)
		flood, voice := make([]byte, 64), make([]byte, rtp.HeaderLength+160)
		(&handshake.Flood{Cookie: 9, Sent: time.Now()}).Put(flood)
		(&rtp.Header{Source: 5}).Put(voice)
		(&handshake.Voice{Cookie: 9}).Put(voice[rtp.HeaderLength:])
		begun := time.Now()
		for ; n < *forgeries && ctx.Err() == nil; n++ {
			what := [][]byte{probe, probe, hello, flood, voice}[n%5]
			port := uint16(862)
			if n%5 == 4 {
				port = 16384
			}
			from := netip.AddrFrom4([4]byte{198, byte(18 + r.IntN(2)), byte(r.IntN(256)), byte(r.IntN(256))}) // whom nobody there asks for
			var p packet.Packet
			p.Build(make([]byte, packet.HeaderRoom), packet.Flow{From: from, To: netip.MustParseAddr(rightHost), Protocol: packet.UDP, FromPort: uint16(1024 + r.IntN(60_000)), ToPort: port}, 0, 28+len(what), 0)
			b := append(p.Bytes[:packet.EthernetHeader+28:packet.EthernetHeader+28], what...)
			copy(b, to)
			binary.BigEndian.PutUint16(b[38:], uint16(8+len(what)))
			b[40], b[41] = 0, 0 // no checksum
			out.Queue(b)
			if n%32 == 31 {
				out.Flush()
				if wait := time.Until(begun.Add(time.Duration(n) * 40 * time.Microsecond)); wait > 0 { // 25,000 a second
					time.Sleep(wait)
				}
			}
		}
		out.Flush()
	}()
	var slow []net.Conn
	y.in(y.left, func() { // more than there are places for one, and they say nothing
		for range 80 {
			if c, err := net.DialTimeout("tcp", rightHost+":862", time.Second); err == nil {
				slow = append(slow, c)
			}
		}
	})
	defer func() {
		for _, c := range slow {
			c.Close()
		}
	}()
	flooding := in(y.left, "flood", rightHost, "--tcp", "2", "--for", "3s", "-o", "json")
	var text strings.Builder
	flooding.Stdout = &text
	if err := flooding.Start(); err != nil {
		t.Fatal(err)
	}
	length := max(3*time.Second, time.Duration(*forgeries)*40*time.Microsecond)
	calling := in(y.left, "call", rightHost, "--for", fmt.Sprintf("%.0fs", length.Seconds()), "-o", "json")
	var errs strings.Builder
	calling.Stderr = &errs
	out, err := calling.Output()
	var call live.CallReport
	if json.Unmarshal(out, &call) != nil || len(call.Calls) != 1 {
		t.Fatalf("the call: %v: %s%s", err, out, errs.String())
	}
	_ = flooding.Wait()
	stop()
	n := <-sent
	w := call.Calls[0].Ways
	if w.There.Loss > 0 || w.Back.Loss > 0 || call.Gone || call.TooMany || n < *forgeries/2 {
		t.Errorf("beside %d forged datagrams the call loses %.2f %% and %.2f %%: %+v", n, 100*w.There.Loss, 100*w.Back.Loss, call.Calls[0])
	}
	var flood live.FloodReport
	if err := json.Unmarshal([]byte(text.String()), &flood); err != nil || flood.Gone || flood.MaxBps == 0 {
		t.Errorf("beside slow connections a flood does not go on: %v, %s", err, text.String())
	}
	t.Logf("%d forged datagrams; the call lost %.3f %% and %.3f %%", n, 100*w.There.Loss, 100*w.Back.Loss)
}

// farEndThatLies: a far end that counts more than was sent, or holds a probe longer than it was away, is reported.
func farEndThatLies(t *testing.T) {
	for _, lie := range []string{"counts", "holds", "is silent"} {
		conn, err := net.ListenPacket("udp", "127.0.0.1:0")
		if err != nil {
			t.Skipf("no socket on the loopback: %v", err)
		}
		go func() {
			b := make([]byte, 2048)
			for {
				n, from, err := conn.ReadFrom(b)
				if err != nil {
					return
				}
				if g, err := handshake.ParseGreeting(b[:n], nil); err == nil {
					_, _ = conn.WriteTo((&handshake.Greeting{Welcome: true, Nonce: g.Nonce}).Message(nil), from)
					continue
				}
				p, err := stamp.ParseProbe(b[:n], nil)
				if err != nil || lie == "is silent" {
					continue
				}
				now := time.Now()
				a := stamp.Answer{Sequence: p.Sequence, Time: now, Received: now, Session: p.Session, TTL: 255, Class: &stamp.Class{Wanted: p.Class.Wanted, Received: p.Class.Wanted}}
				if lie == "counts" {
					a.Sequence += 1000
				} else {
					a.Received = now.Add(-time.Hour)
				}
				_, _ = conn.WriteTo(a.Reflect(b[:n], nil), from)
			}
		}()
		r := imbrel(t, t.TempDir(), "", nil, "probe", conn.LocalAddr().String(), "--dscp", "ef", "--count", "3", "--interval", "1ms")
		conn.Close()
		want := map[string]string{"counts": "The far end counts more packets than were sent.", "holds": "3 packets were ignored", "is silent": "the network loses the probes, or their answers"}[lie]
		if r.status != 1 || !strings.Contains(r.out, want) {
			t.Errorf("a far end that %s: exit %d: %s%s", lie, r.status, r.out, r.err)
		}
	}
}
