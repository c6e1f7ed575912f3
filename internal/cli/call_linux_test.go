package cli_test

import (
	"encoding/json"
	"fmt"
	"net"
	"os/exec"
	"strings"
	"sync"
	"testing"
	"time"

	"imbrel.example/imbrel/core/handshake"
	"imbrel.example/imbrel/internal/live"
)

// callOnce: calls to a far end on the same machine lose nothing. Their MOS is that of the E-model, and the far end's reports agree.
func callOnce(t testing.TB) {
	dir := t.TempDir()
	address := answering(t)
	r := imbrel(t, dir, "", nil, "call", address, "--calls", "2", "--for", "2s", "--dscp", "af41", "-o", "json")
	var report live.CallReport
	if err := json.Unmarshal([]byte(r.out), &report); err != nil || r.status > 1 || len(report.Calls) != 2 {
		t.Fatalf("exit %d, %v: %s%s", r.status, err, r.out, r.err)
	}
	for _, c := range report.Calls {
		for _, w := range []struct {
			sent, arrived int64
			mos           *float64
		}{{c.Ways.There.Sent, c.Ways.There.Arrived, c.Ways.There.MOS}, {c.Ways.Back.Sent, c.Ways.Back.Arrived, c.Ways.Back.MOS}} {
			if w.sent != 100 || w.arrived != 100 || w.mos == nil || *w.mos < 1 {
				t.Errorf("call %d: %+v", c.Call, w)
			}
		}
		if c.Far == nil || c.Far.Reports < 1 || c.Far.Lost != 0 || c.Ways.RoundTrip == nil || c.Ways.RoundTrip.P50 > 200 {
			t.Errorf("call %d: %+v, %+v", c.Call, c.Far, c.Ways.RoundTrip)
		}
	}
	if report.ArrivesAs["af41"] != 200 || report.ReturnsAs["af41"] != 200 || report.Wrong != 0 || report.Gone {
		t.Errorf("%+v", report)
	}
	if r := imbrel(t, dir, "", nil, "call", address, "--for", "1s", "--codec", "g729"); !strings.Contains(r.out, "1 call of g729") || !strings.Contains(r.out, "MOS") {
		t.Errorf("exit %d: %s%s", r.status, r.out, r.err)
	}
}

// TestFarEndAsksForKey: without the key nothing is answered, with it all is.
func TestFarEndAsksForKey(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	put(t, dir, "far.key", "a key for this test alone\n")
	put(t, dir, "other.key", "another key for this test\n")
	address := answering(t, "--key-file", dir+"/far.key")
	for args, status := range map[string]int{
		"call --for 1s --key-file far.key": 0, "flood --rate 1Mbit/s --for 1s --key-file far.key": 0, "flood --tcp 1 --for 1s --key-file far.key": 0,
		"call --for 1s": 2, "call --for 1s --key-file other.key": 2, "flood --rate 1Mbit/s --for 1s": 2, "flood --tcp 1 --for 1s --key-file other.key": 2,
	} {
		words := strings.Fields(args)
		r := imbrel(t, dir, "", nil, append([]string{words[0], address}, words[1:]...)...)
		if r.status != status && (status != 0 || r.status != 1) || status == 2 && !strings.Contains(r.err, "key") {
			t.Errorf("%s: exit %d, %s%s", args, r.status, r.out, r.err)
		}
	}
}

// TestAnswersNoMore: a far end sends nothing to who has no cookie of it, and no more than it is sent.
func TestAnswersNoMore(t *testing.T) {
	t.Parallel()
	address := answering(t)
	conn, err := net.Dial("udp", address)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	flood := make([]byte, 1000)
	(&handshake.Flood{Cookie: 12345}).Put(flood)
	for _, b := range [][]byte{flood, make([]byte, 20), make([]byte, 43), []byte("hello"), (&handshake.Greeting{Welcome: true}).Message(nil)} { // each shorter than a probe
		for range 5 {
			_, _ = conn.Write(b)
		}
	}
	_ = conn.SetReadDeadline(time.Now().Add(200 * time.Millisecond))
	got := make([]byte, 2000)
	if n, err := conn.Read(got); err == nil {
		t.Errorf("it answers %d bytes: %x", n, got[:n])
	}
	sent, came := 0, 0
	count := func(b []byte) {
		n, _ := conn.Write(b)
		sent += n
		_ = conn.SetReadDeadline(time.Now().Add(20 * time.Millisecond))
		if n, err := conn.Read(got); err == nil {
			if came += n; came > sent {
				t.Fatalf("it was sent %d bytes and sends %d", sent, came)
			}
		}
	}
	count((&handshake.Greeting{Nonce: 1}).Message(nil))
	g, err := handshake.ParseGreeting(got[:handshake.GreetingLength], nil)
	if err != nil || g.Nonce != 1 || !g.Welcome {
		t.Fatalf("%+v, %v", g, err)
	}
	small := make([]byte, handshake.FloodLength)
	for n := range uint64(40) {
		(&handshake.Flood{Cookie: g.Cookie, Number: n, Sent: time.Now()}).Put(small)
		count(small)
	}
	if came <= handshake.GreetingLength {
		t.Error("it reports nothing of a flood")
	}
}

// TestFarEndVanishes: a call and a flood end by themselves, soon, when the far end does.
func TestFarEndVanishes(t *testing.T) {
	t.Parallel()
	for _, args := range []string{"call ADDRESS --for 30s", "flood ADDRESS --rate 500kbit/s --for 30s", "flood ADDRESS --tcp 1 --for 30s --while-calling 1"} {
		free, err := net.ListenPacket("udp", "127.0.0.1:0")
		if err != nil {
			t.Skip(err)
		}
		address := free.LocalAddr().String()
		free.Close()
		far := exec.Command(program, "answer", "--listen", address, "--media", "0")
		errs, _ := far.StderrPipe()
		if err := far.Start(); err != nil {
			t.Fatal(err)
		}
		b := make([]byte, 200)
		_, _ = errs.Read(b)
		time.AfterFunc(3*time.Second, func() { _ = far.Process.Kill() })
		begun := time.Now()
		r := imbrel(t, t.TempDir(), "", nil, strings.Fields(strings.Replace(args, "ADDRESS", address, 1))...)
		_ = far.Wait()
		if took := time.Since(begun); took > 15*time.Second || r.status != 1 || !strings.Contains(r.out, "The far end was gone after") {
			t.Errorf("%s: after %v exit %d: %s%s", args, took, r.status, r.out, r.err)
		}
	}
}

// TestCallsAndFloodsAreBounded: what is no measurement is refused, and so is what makes no sense.
func TestCallsAndFloodsAreBounded(t *testing.T) {
	t.Parallel()
	free, _ := net.ListenPacket("udp", "127.0.0.1:0")
	nobody := free.LocalAddr().String()
	free.Close()
	for args, want := range map[string]string{
		"call": "the address of a far end", "call " + nobody: "nothing answers at", "flood " + nobody + " --rate 1Mbit/s": "nothing answers at", "flood " + nobody + " --tcp 1": "nothing answers connections at",
		"call h --calls 201": "from 1 to 200", "call h --for 1h": "the most is 10m", "call h --codec g7": "the codecs are", "call h --mos 9": "from 1 to 4.5", "call h --playout 9s": "longer than a second",
		"call " + nobody + " --codec g729 --interval 10ms": "give it a longer interval",
		"flood h": "say at what rate", "flood h --rate 2Gbit/s": "to 1Gbit/s", "flood h --rate x": "--rate", "flood h --rate 1..x": "--rate", "flood h --rate 1Mbit/s --tcp 2": "no effect with --tcp",
		"flood h --rate 1Mbit/s --for 1h": "the most is 10m", "flood h --rate 1Mbit/s --packet 20B": "from 80B", "flood h --rate 1Mbit/s --codec g729": "nothing is called", "flood h --rate 1Mbit/s --dscp q": "--dscp",
	} {
		if r := imbrel(t, t.TempDir(), "", nil, strings.Fields(args)...); r.status != 2 || !strings.Contains(r.err, want) {
			t.Errorf("%s: exit %d, %s; want %q", args, r.status, r.err, want)
		}
	}
}

// slowYard is a yard whose gate sends to the right at a rate, with an entry before the rest, and where a host on
// the right answers.
func slowYard(t testing.TB, shape, entry string) *yard {
	return answeringYard(t, shape, entry+"{class: rest, mark: af11, queue: {limit: 60}}")
}

// answeringYard is the same with these entries.
func answeringYard(t testing.TB, shape, entries string) *yard {
	y := newYard(t)
	y.gate(put(t, t.TempDir(), "site.yaml", fmt.Sprintf(`imbrel: 1
classes: [{name: voice, match: [{to-port: 16384-32767, protocol: udp}]}]
policies: [{name: up, shape: %s, treat: [%s]}]
attach: [{policy: up, at: site/wan out}]
network:
  nodes:
    - {name: site, interfaces: [{name: lan, rate: 1Gbit/s, subnets: [10.44.0.0/18]}, {name: wan, rate: 1Gbit/s}]}
    - {name: far, interfaces: [{name: wan, rate: 1Gbit/s}, {name: lan, rate: 1Gbit/s, subnets: [10.44.64.0/18]}]}
  links: [{ends: [{at: site/wan}, {at: far/wan}], delay: 1ms}]
`, shape, entries)))
	far := exec.Command("ip", "netns", "exec", y.right, program, "answer", "--listen", rightHost)
	errs, _ := far.StderrPipe()
	if err := far.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = far.Process.Kill()
		_ = far.Wait()
	})
	_, _ = errs.Read(make([]byte, 200)) // it listens
	return y
}

// floodsShareOnce: three floods of one rate share a full queue of tail drop.
func floodsShareOnce(t testing.TB) {
	y := slowYard(t, "5Mbit/s", "")
	got := make([]live.FloodReport, 3)
	var sending sync.WaitGroup
	for i := range got {
		sending.Go(func() {
			out, _ := exec.Command("ip", "netns", "exec", y.left, program, "flood", rightHost, "--rate", "4Mbit/s", "--for", "6s", "-o", "json").Output()
			_ = json.Unmarshal(out, &got[i])
		})
	}
	sending.Wait()
	least, most := got[0].Arrived, got[0].Arrived
	for _, r := range got {
		least, most = min(least, r.Arrived), max(most, r.Arrived)
	}
	t.Logf("of the floods arrive from %d to %d packets", least, most)
	if least == 0 || float64(most) > 1.5*float64(least) { // this machine holds them up, each for itself
		t.Errorf("of three equal floods %d, %d and %d packets arrive", got[0].Arrived, got[1].Arrived, got[2].Arrived)
	}
}

// TestWhereTheCallBreaks: through a gate of 4 Mbit/s a call breaks when a flood fills it, and holds
// where the policy gives it priority. The result names the markings that the gate sets.
func TestWhereTheCallBreaks(t *testing.T) {
	for _, voice := range []bool{false, true} {
		t.Run(fmt.Sprint("priority ", voice), func(t *testing.T) {
			t.Parallel()
			tries(t, func(t testing.TB) { callBreaks(t, voice) })
		})
	}
}

func callBreaks(t testing.TB, voice bool) {
	entry := ""
	if voice {
		entry = "{class: voice, mark: ef, priority: 1, at-most: 20%}, "
	}
	y := slowYard(t, "4Mbit/s", entry)
	out, _ := exec.Command("ip", "netns", "exec", y.left, program, "flood", rightHost, "--rate", "1..8Mbit/s", "--for", "5s", "--while-calling", "1", "-o", "json").Output()
	var r live.FloodReport
	if err := json.Unmarshal(out, &r); err != nil || r.Call == nil {
		t.Fatalf("%v: %s", err, out)
	}
	found, _ := json.Marshal(map[string]any{"full": r.FullUntilBps, "breaks": r.Breaks, "before": r.Before, "during": r.During, "max": r.MaxBps, "flood": r.ArrivesAs, "call": r.Call.ArrivesAs})
	if r.FullUntilBps == nil || *r.FullUntilBps < 3e6 || *r.FullUntilBps > 4.6e6 || r.MaxBps > 5.5e6 || r.ArrivesAs != "af11" {
		t.Errorf("through 4 Mbit/s the flood finds %s", found)
	}
	switch {
	case !voice && (r.Breaks == nil || r.Breaks.RateBps < 3e6 || r.Breaks.RateBps > 6.5e6 || r.During > 3.6 || r.Call.ArrivesAs["af11"] == 0):
		t.Errorf("without priority the call does not break where the flood fills the gate: %s", found)
	case voice && (r.Breaks != nil && r.Breaks.RateBps < 6e6 || r.Call.ArrivesAs["ef"] == 0 || r.Call.Calls[0].Ways.There.Loss > 0.02):
		t.Errorf("with priority the call breaks: %s", found)
	}
	t.Logf("voice %v: %s", voice, found)
}
