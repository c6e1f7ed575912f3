package cli_test

import (
	"bufio"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

// lossy joins the two interfaces in the middle by a wire that loses a part of the frames and delays the others, until the test ends.
func (y *yard) lossy(part float64, delay time.Duration) {
	y.t.Helper()
	var fds [2]int
	y.in(y.mid, func() {
		for i, name := range []string{"g0", "g1"} {
			iface, err := net.InterfaceByName(name)
			if err != nil {
				y.t.Fatal(err)
			}
			all := int(htons(unix.ETH_P_ALL))
			if fds[i], err = unix.Socket(unix.AF_PACKET, unix.SOCK_RAW, all); err != nil {
				y.t.Fatal(err)
			}
			if err := unix.Bind(fds[i], &unix.SockaddrLinklayer{Protocol: htons(unix.ETH_P_ALL), Ifindex: iface.Index}); err != nil {
				y.t.Fatal(err)
			}
			if err := unix.SetsockoptInt(fds[i], unix.SOL_PACKET, unix.PACKET_VNET_HDR, 1); err != nil { // frames go on with what is to be done about their checksums
				y.t.Fatal(err)
			}
			_ = unix.SetsockoptTimeval(fds[i], unix.SOL_SOCKET, unix.SO_RCVTIMEO, &unix.Timeval{Usec: 100_000})
		}
	})
	over := make(chan struct{})
	y.t.Cleanup(func() { close(over) })
	type late struct {
		due   time.Time
		frame []byte
	}
	for i := range fds {
		from, to := fds[i], fds[1-i]
		line := make(chan late, 1<<16)
		random := rand.New(rand.NewPCG(1, uint64(i)))
		go func() {
			defer close(line)
			b := make([]byte, 1<<16)
			for {
				select {
				case <-over:
					return
				default:
				}
				n, at, err := unix.Recvfrom(from, b, 0)
				if k, is := at.(*unix.SockaddrLinklayer); err != nil || !is || k.Pkttype == unix.PACKET_OUTGOING || random.Float64() < part {
					continue
				}
				line <- late{time.Now().Add(delay), append([]byte(nil), b[:n]...)}
			}
		}()
		go func() {
			for f := range line {
				time.Sleep(time.Until(f.due))
				_, _ = unix.Write(to, f.frame)
			}
		}()
	}
}

func htons(n uint16) uint16 { return n<<8 | n>>8 }

// A delivery over a wire with a round trip of 100 ms that loses 5 % of the frames.
func TestDeliverOverABadWire(t *testing.T) {
	t.Parallel()
	y := newYard(t)
	y.lossy(0.05, 50*time.Millisecond)
	dir := t.TempDir()
	_, anna := keyPair(t, dir, "anna")
	put(t, dir, "managers", anna)
	put(t, dir, "first.yaml", placesFile)
	put(t, dir, "sites.yaml", strings.Replace(placesFile, "shape: 9.5Mbit/s", "shape: 9.4Mbit/s", 1)+fmt.Sprintf("devices: {hub: {address: %q, user: anna, key: anna.key}}\n", rightHost+":8300"))
	device := exec.Command("ip", "netns", "exec", y.right, program, "device", "wide-branch", "first.yaml", "--node", "hub", "--manage", rightHost+":8300", "--managed-in", ".")
	device.Dir = dir
	said, err := device.StderrPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := device.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = device.Process.Kill()
		_ = device.Wait()
	})
	if line, _ := bufio.NewReader(said).ReadString('\n'); !strings.Contains(line, "managed at") {
		t.Fatal(line)
	}
	c := exec.Command("ip", "netns", "exec", y.left, program, "deliver", "sites.yaml", "--commit", "--unverified", "--together", "--trust-new-keys")
	c.Dir = dir
	if out := within(t, c, 2*time.Minute); !strings.Contains(out, "DONE: 1 device changed.") {
		t.Errorf("%s", out)
	}
}

// What gates count is held against what a rehearsal foresaw: with the calls that it had, a delivery holds; with more, it is taken back.
func verifiedByCounters(t testing.TB) {
	y := newYard(t)
	dir := t.TempDir()
	_, anna := keyPair(t, dir, "anna")
	put(t, dir, "managers", anna)
	file := func(rate, devices string) string {
		return `imbrel: 1
classes: [{name: voice, match: [{protocol: udp, dscp: ef}]}]
policies: [{name: wan, shape: 9.5Mbit/s, treat: [{class: voice, priority: 1, police: {rate: ` + rate + `, burst: 8kB}}, {class: rest, at-least: 20%}]}]
attach: [{policy: wan, at: site/wan out}]
network:
  nodes:
    - {name: site, interfaces: [{name: lan, rate: 1Gbit/s, subnets: 10.44.10.0/24}, {name: wan, rate: 100Mbit/s}]}
    - {name: centre, interfaces: [{name: wan, rate: 100Mbit/s}, {name: lan, rate: 1Gbit/s, subnets: 10.44.64.0/24}]}
  links: [{ends: [{at: site/wan, sends: 10Mbit/s}, {at: centre/wan, sends: 10Mbit/s}]}]
` + devices + `
rehearsals:
  - {name: few, lasts: 2s, traffic: [{name: calls, calls: 2, codec: g711, between: [10.44.10.5, 10.44.64.40], dscp: ef}]}
`
	}
	put(t, dir, "first.yaml", file("2Mbit/s", ""))
	y.ip("-n", y.mid, "link", "set", "lo", "up")
	start := func(ns, ready string, args ...string) {
		t.Helper()
		c := exec.Command("ip", append([]string{"netns", "exec", ns, program}, args...)...)
		c.Dir = dir
		r, w, err := os.Pipe()
		if err != nil {
			t.Fatal(err)
		}
		c.Stdout, c.Stderr = w, w
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		w.Close()
		t.Cleanup(func() {
			_ = c.Process.Kill()
			_ = c.Wait()
			r.Close()
		})
		lines := bufio.NewReader(r)
		if line, _ := lines.ReadString('\n'); !strings.Contains(line, ready) {
			t.Fatalf("%s: %s", args[0], line)
		}
		go func() {
			for {
				if _, err := lines.ReadString('\n'); err != nil {
					return
				}
			}
		}()
	}
	start(y.mid, "managed at", "gate", "first.yaml", "--node", "site", "--port", "lan=g0", "--port", "wan=g1", "--manage", "127.0.0.1:8300", "--managed-in", ".")
	start(y.right, "", "answer", "--listen", rightHost)
	deliver := func(rate string, calls string) string {
		t.Helper()
		put(t, dir, "sites.yaml", file(rate, `devices: {site: {address: "127.0.0.1:8300", user: anna, key: anna.key}}`))
		call := exec.Command("ip", "netns", "exec", y.left, program, "call", rightHost, "--calls", calls, "--for", "8s")
		if err := call.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(500 * time.Millisecond)
		c := exec.Command("ip", "netns", "exec", y.mid, program, "deliver", "sites.yaml", "--commit", "--verify", "few", "--for", "3s", "--trust-new-keys")
		c.Dir = dir
		out, _ := c.CombinedOutput()
		_ = call.Process.Kill()
		_ = call.Wait()
		return strings.Join(strings.Fields(string(out)), " ")
	}
	if out := deliver("400kbit/s", "2"); !strings.Contains(out, "DONE: 1 device changed.") || !strings.Contains(out, "no class dropped more than `few` foresaw") {
		t.Errorf("as foreseen: %s", out)
	}
	if out := deliver("300kbit/s", "8"); !strings.Contains(out, "TAKEN BACK: `site` is as it was.") || !strings.Contains(out, "site/wan out, class `voice`:") || !strings.Contains(out, "were dropped; `few` foresaw 0 %") {
		t.Errorf("with more calls: %s", out)
	}
	if text := readFile(t, dir, "startup.yaml"); !strings.Contains(text, "400kbit/s") {
		t.Errorf("the next start has not what was confirmed: %s", text)
	}
}
