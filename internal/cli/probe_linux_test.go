package cli_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"net"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"

	"imbrel.example/imbrel/internal/live"
)

// answering starts `imbrel answer` at a free port of the loopback, and returns where.
func answering(t testing.TB, args ...string) string {
	t.Helper()
	free, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Skipf("no socket on the loopback: %v", err)
	}
	address := free.LocalAddr().String()
	free.Close()
	var errs bytes.Buffer
	c := exec.Command(program, append([]string{"answer", "--listen", address, "--media", "0"}, args...)...)
	out, _ := c.StderrPipe()
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = c.Process.Signal(syscall.SIGINT)
		if err := c.Wait(); err != nil {
			t.Errorf("the far end ends with %v: %s", err, errs.String())
		}
	})
	b := make([]byte, 200)
	if n, _ := out.Read(b); !strings.Contains(string(b[:n]), "answers at "+address) {
		t.Fatalf("the far end says %q", b[:n])
	}
	return address
}

// probeOnce: what is sent arrives and comes back as it was sent, each by its own count; with a key
// nobody else is answered; and where nobody listens it ends at once.
func probeOnce(t testing.TB) {
	dir := t.TempDir()
	address := answering(t)
	r := imbrel(t, dir, "", nil, "probe", address, "--dscp", "ef,af41,0", "--count", "5", "--interval", "2ms", "-o", "json")
	var report live.ProbeReport
	if err := json.Unmarshal([]byte(r.out), &report); err != nil || r.status != 0 || len(report.Probes) != 3 {
		t.Fatalf("exit %d, %v: %s%s", r.status, err, r.out, r.err)
	}
	for i, name := range []string{"ef", "af41", "df"} {
		p := report.Probes[i]
		if p.DSCP != name || p.Sent != 5 || p.Arrived != 5 || p.Returned != 5 || p.ArrivesAs[name] != 5 || p.ReturnsAs[name] != 5 || p.Hops != 255 || p.RoundTrip == nil || p.RoundTrip.Max > 1000 {
			t.Errorf("%+v", p)
		}
	}
	if r := imbrel(t, dir, "", nil, "probe", address, "--dscp", "ef", "--count", "2", "--interval", "1ms"); r.status != 0 || !strings.Contains(r.out, "The marking arrives and comes back as it was sent.") {
		t.Errorf("exit %d: %s%s", r.status, r.out, r.err)
	}
	put(t, dir, "probes.key", "a key for this test alone\n")
	put(t, dir, "other.key", "another key for this test\n")
	put(t, dir, "short.key", "short\n")
	secret := answering(t, "--key-file", dir+"/probes.key")
	if r := imbrel(t, dir, "", nil, "probe", secret, "--dscp", "ef", "--count", "3", "--interval", "1ms", "--key-file", "probes.key"); r.status != 0 {
		t.Errorf("with the key: exit %d: %s%s", r.status, r.out, r.err)
	}
	for _, args := range [][]string{nil, {"--key-file", "other.key"}} {
		r := imbrel(t, dir, "", nil, append([]string{"probe", secret, "--dscp", "ef", "--count", "3", "--interval", "1ms"}, args...)...)
		if r.status != 1 || !strings.Contains(r.out, "The far end refuses: it does not accept this key") {
			t.Errorf("%v: exit %d: %s%s", args, r.status, r.out, r.err)
		}
	}
	free, _ := net.ListenPacket("udp", "127.0.0.1:0")
	nobody := free.LocalAddr().String()
	free.Close()
	for args, want := range map[string]string{
		nobody + " --count 10000":         "nothing answers at " + nobody,
		address + " --interval 1us":       "so that probes are no flood",
		address + " --dscp ef,46":         "names ef twice",
		address + " --dscp af44":          "af44",
		address + " --count 0":            "--count",
		address + " --key-file nosuch":    "cannot read the key",
		address + " --key-file short.key": "give it from 16",
		"no-host-of-that-name.invalid:1":  "is not an address to probe",
	} {
		begun := time.Now()
		if r := imbrel(t, dir, "", nil, append([]string{"probe"}, strings.Fields(args)...)...); r.status != 2 || !strings.Contains(r.err, want) || time.Since(begun) > time.Minute {
			t.Errorf("%s: exit %d, %s", args, r.status, r.err)
		}
	}
	// Packets that are no probes are not answered.
	c, err := net.Dial("udp", address)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	for _, b := range [][]byte{{}, {1}, bytes.Repeat([]byte{0xff}, 43), make([]byte, 1501)} {
		_, _ = c.Write(b)
	}
	_ = c.SetReadDeadline(time.Now().Add(200 * time.Millisecond))
	if n, err := c.Read(make([]byte, 2000)); err == nil {
		t.Errorf("%d bytes answer what is no probe", n)
	}
}

// probeThroughAGateOnce: the far end reports how each marking arrives behind a gate that marks down what nobody vouches for.
func probeThroughAGateOnce(t testing.TB) {
	y := newYard(t)
	dir := t.TempDir()
	text := strings.NewReplacer("SHAPE", "8Mbit/s", "{to-port: 16384-32767, protocol: udp}", "{dscp: ef}").Replace(site)
	g := y.gate(put(t, dir, "site.yaml", text))
	far := exec.Command("ip", "netns", "exec", y.right, program, "answer", "--listen", rightHost)
	if err := far.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = far.Process.Kill(); _ = far.Wait() })
	var report live.ProbeReport
	for range 100 {
		var out bytes.Buffer
		c := exec.Command("ip", "netns", "exec", y.left, program, "probe", rightHost, "--dscp", "ef,af41", "--count", "10", "-o", "json")
		c.Stdout = &out
		var exit *exec.ExitError
		if err := c.Run(); errors.As(err, &exit) && exit.ExitCode() == 1 { // a marking is not as it was sent
			if err := json.Unmarshal(out.Bytes(), &report); err != nil {
				t.Fatal(err)
			}
			break
		}
		time.Sleep(50 * time.Millisecond) // the far end is not there yet
	}
	if len(report.Probes) != 2 {
		t.Fatalf("%+v", report)
	}
	if p := report.Probes[0]; p.ArrivesAs["ef"] != 10 || p.ReturnsAs["ef"] != 10 {
		t.Errorf("ef: %+v", p)
	}
	if p := report.Probes[1]; p.ArrivesAs["df"] != 10 || p.ReturnsAs["af41"] != 10 {
		t.Errorf("af41: %+v", p)
	}
	g.end(t)
}
