package cli_test

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/internal/live"
)

// numbered sends datagrams with numbers from the left to the right host, for so long, and returns how many were sent, how many of
// them did not arrive, how many arrived twice, and the longest time between two that arrived.
func (y *yard) numbered(size int, apart, lasts time.Duration, beside func()) (sent, lost, twice int, gap time.Duration) {
	y.t.Helper()
	var in *net.UDPConn
	var out net.Conn
	y.in(y.right, func() { in, _ = net.ListenUDP("udp4", &net.UDPAddr{Port: 9009}) })
	y.in(y.left, func() { out, _ = net.Dial("udp", net.JoinHostPort(rightHost, "9009")) })
	if in == nil || out == nil {
		y.t.Fatal("no socket")
	}
	if raw, err := in.SyscallConn(); err == nil { // what arrives while this process has no processor is not lost
		_ = raw.Control(func(fd uintptr) { _ = unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_RCVBUFFORCE, 16<<20) })
	}
	seen := make(map[uint64]int)
	done := make(chan bool)
	go func() {
		defer close(done)
		b := make([]byte, 2048)
		last := time.Now()
		for {
			if _, err := in.Read(b); err != nil {
				return
			}
			now := time.Now()
			if len(seen) > 0 {
				gap = max(gap, now.Sub(last))
			}
			last = now
			seen[binary.BigEndian.Uint64(b)]++
		}
	}()
	go beside()
	b := make([]byte, size)
	begun := time.Now()
	due := begun
	for ; time.Since(begun) < lasts; sent++ {
		if wait := time.Until(due); wait > 0 {
			time.Sleep(wait)
		}
		if due = due.Add(apart); time.Since(due) > 5*time.Millisecond { // no burst, which a queue would drop
			due = time.Now()
		}
		binary.BigEndian.PutUint64(b, uint64(sent))
		if _, err := out.Write(b); err != nil {
			sent--
		}
	}
	time.Sleep(300 * time.Millisecond)
	in.Close()
	out.Close()
	<-done
	lost = sent - len(seen)
	for _, n := range seen {
		twice += n - 1
	}
	return sent, lost, twice, gap
}

// serviceOnce: a gate runs by its configuration, tells its starter that it is ready and alive, is upgraded under load without a
// frame lost or made, and goes on counting after a restart.
func serviceOnce(t testing.TB) {
	y := newYard(t)
	dir := t.TempDir()
	put(t, dir, "site.yaml", strings.Replace(site, "SHAPE", "20Mbit/s", 1))
	config := put(t, dir, "gate.yaml", "policy: site.yaml\nnode: site\nports: {lan: g0, wan: g1}\nlog: json\nkeep: "+dir+"/counters.json\non-failure: open\nmetrics: 127.0.0.1:9918\n")
	told, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: filepath.Join(dir, "notify"), Net: "unixgram"})
	if err != nil {
		t.Fatal(err)
	}
	defer told.Close()
	var heard []string
	hears := func(want string) bool {
		b := make([]byte, 500)
		_ = told.SetReadDeadline(time.Now().Add(10 * time.Second))
		for {
			n, err := told.Read(b)
			if err != nil {
				return false
			}
			heard = append(heard, string(b[:n]))
			if strings.Contains(string(b[:n]), want) {
				return true
			}
		}
	}
	says := func() string { text, _ := os.ReadFile(filepath.Join(dir, "errs")); return string(text) }
	start := func() *exec.Cmd {
		for b := make([]byte, 500); ; { // what an earlier gate said
			_ = told.SetReadDeadline(time.Now().Add(time.Millisecond))
			if _, err := told.Read(b); err != nil {
				break
			}
		}
		c := y.command("gate", "--config", config)
		errs, err := os.Create(filepath.Join(dir, "errs")) // no pipe, which the next program would keep open
		if err != nil {
			t.Fatal(err)
		}
		defer errs.Close()
		c.Stderr = errs
		c.Env = append(os.Environ(), "NOTIFY_SOCKET="+filepath.Join(dir, "notify"), "WATCHDOG_USEC=600000")
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		if !hears("READY=1") {
			_ = c.Process.Kill()
			t.Fatalf("the gate does not say that it is ready: %s", says())
		}
		return c
	}
	first := start()
	defer first.Process.Kill()
	if !hears("WATCHDOG=1") {
		t.Error("it says nothing of being alive")
	}
	var second string
	sent, lost, twice, gap := y.numbered(1000, 500*time.Microsecond, 3*time.Second, func() { // 16 Mbit/s
		time.Sleep(time.Second)
		if out, err := y.command("gate", "upgrade", "g1").CombinedOutput(); err != nil {
			t.Errorf("an upgrade: %v: %s", err, out)
		}
		hears("MAINPID=")
	})
	if err := first.Wait(); err != nil {
		t.Errorf("the old gate ends with %v: %s", err, says())
	}
	// A service that is said to stop would be ended, with the new gate in it.
	if hears("WATCHDOG=1"); slices.ContainsFunc(heard, func(s string) bool { return strings.Contains(s, "STOPPING") }) {
		t.Errorf("after an upgrade the gate says that it stops: %q", heard)
	}
	for line := range strings.Lines(says()) {
		var l struct {
			Msg string
			PID int
		}
		if json.Unmarshal([]byte(line), &l) == nil && l.PID > 0 {
			second = fmt.Sprint(l.PID)
		}
	}
	defer func() {
		var pid int
		if _, err := fmt.Sscan(second, &pid); err == nil {
			_ = syscall.Kill(pid, syscall.SIGKILL)
		}
	}()
	r := y.snapshot()
	if r == nil || second == "" {
		t.Fatalf("no gate after the upgrade: %s", says())
	}
	t.Logf("%d frames, %d lost, %d twice, none came for %v", sent, lost, twice, gap)
	if lost > 0 || twice > 0 {
		t.Errorf("of %d frames %d are lost and %d come twice", sent, lost, twice)
	}
	count := func(r *live.Report) (n uint64) {
		for _, i := range r.Interfaces {
			for _, c := range i.Classes {
				if i.PolicyAt == "up" && c.Class == "rest" {
					n = c.SentPackets
				}
			}
		}
		return n
	}
	if n := count(r); n < uint64(sent) || n > uint64(sent)+50 {
		t.Errorf("%d frames were sent, and after the upgrade %d are counted", sent, n)
	}
	reload := func() (string, error) {
		out, err := y.command("gate", "reload", "--config", config).CombinedOutput()
		return string(out), err
	}
	if out, err := reload(); err != nil {
		t.Errorf("a reload by the configuration: %v: %s", err, out)
	}
	text := readFile(t, dir, "site.yaml")
	put(t, dir, "site.yaml", text+"nonsense: [\n")
	if out, err := reload(); err == nil || !strings.Contains(out, "not YAML") {
		t.Errorf("a reload of a file with a mistake: %v: %s", err, out)
	}
	put(t, dir, "site.yaml", text)
	// Its end, and the next one's beginning.
	if c, err := net.DialUnix("unixgram", nil, told.LocalAddr().(*net.UnixAddr)); err == nil { // its starter reads nothing meanwhile
		for {
			_ = c.SetWriteDeadline(time.Now().Add(50 * time.Millisecond))
			if _, err := c.Write([]byte("STATUS=full")); err != nil {
				break
			}
		}
		c.Close()
	}
	time.Sleep(400 * time.Millisecond) // a sign of life is due
	var pid int
	_, _ = fmt.Sscan(second, &pid)
	_ = syscall.Kill(pid, syscall.SIGTERM)
	free := func() (free bool) { // the port of the counters, and so the gate is gone
		y.in(y.mid, func() {
			if l, err := net.Listen("tcp", "127.0.0.1:9918"); err == nil {
				free = l.Close() == nil
			}
		})
		return free
	}
	for n := 0; n < 200 && (y.snapshot() != nil || !free()); n++ {
		time.Sleep(20 * time.Millisecond)
	}
	third := start()
	if r := y.snapshot(); r == nil || count(r) < uint64(sent) || r.DurationS < 3 {
		t.Errorf("after a restart the counters begin anew: %+v", r)
	}
	// A gate that is killed: its starter joins the interfaces by the kernel, and the next gate takes that away.
	_ = third.Process.Kill()
	_ = third.Wait()
	fallback := y.command("gate", "fallback", config)
	fallback.Env = append(os.Environ(), "SERVICE_RESULT=success")
	if out, err := fallback.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	if sent, lost, _, _ := y.numbered(100, 10*time.Millisecond, 200*time.Millisecond, func() {}); sent-lost > 5 {
		t.Errorf("frames pass without a gate: of %d %d are lost", sent, lost)
	}
	fallback = y.command("gate", "fallback", config)
	fallback.Env = append(os.Environ(), "SERVICE_RESULT=watchdog")
	if out, err := fallback.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	for n := 0; ; n++ {
		if sent, lost, _, _ := y.numbered(100, 10*time.Millisecond, 200*time.Millisecond, func() {}); sent > 0 && lost == 0 {
			break
		} else if n == 20 {
			t.Error("after a failure no frame passes")
			break
		}
	}
	fourth := start()
	if sent, lost, twice, _ := y.numbered(100, 10*time.Millisecond, 300*time.Millisecond, func() {}); lost > 0 || twice > 0 {
		t.Errorf("of %d frames %d are lost and %d come twice after the bridge is taken away", sent, lost, twice)
	}
	_ = fourth.Process.Signal(syscall.SIGTERM)
	_ = fourth.Wait()
}

// A configuration that cannot be says where and why.
func TestGateConfigRefuses(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	put(t, dir, "site.yaml", strings.Replace(site, "SHAPE", "20Mbit/s", 1))
	for text, want := range map[string]string{
		"policy: site.yaml\nnode: site\nprots: {lan: g0}\n":                       "gate.yaml:3: a gate has no key `prots`; did you mean `ports`?",
		"policy: site.yaml\nnode: site\nports: [lan]\n":                           "gate.yaml:3: `ports` is a map",
		"policy: site.yaml\nnode: site\nnode: east\n":                             "gate.yaml:3: `node` is there twice",
		"policy: site.yaml\nnode: {a: b}\n":                                       "gate.yaml:2: `node` is a value",
		"policy: [a]\n":                                                           "gate.yaml:1: `policy` is the name",
		"- a\n":                                                                   "by keys and values",
		"node: site\nports: {lan: g0, wan: g1}\n":                                 "name a policy file",
		"policy: none.yaml\nnode: site\n":                                         "none.yaml",
		"policy: site.yaml\nnode: site\nspin: maybe\n":                            "gate.yaml:3: --spin",
		"policy: site.yaml\nnode: site\nlog: loud\n":                              "--log is words, text or json",
		"policy: site.yaml\nnode: site\non-failure: run\n":                        "--on-failure is open or closed",
		"policy: site.yaml\nnode: site\nkeep: site.yaml\nports: {lan: a, wan: b}": "does not have the counters of a gate",
		"policy: site.yaml\nnode: site\nports: {lan: a, wan: b":                   "gate.yaml",
	} {
		put(t, dir, "gate.yaml", text)
		if r := imbrel(t, dir, "", nil, "gate", "--config", "gate.yaml"); r.status != 2 || !strings.Contains(r.err, want) {
			t.Errorf("%q: exit %d, %s", text, r.status, r.err)
		}
	}
	if r := imbrel(t, dir, "", nil, "gate", "--config", "nosuch.yaml"); r.status != 2 || !strings.Contains(r.err, "nosuch.yaml") {
		t.Errorf("exit %d, %s", r.status, r.err)
	}
}

// Ports may be VLAN interfaces.
func TestGateAtVLANs(t *testing.T) {
	y := newYard(t)
	for _, l := range [][2]string{{y.left, "h0"}, {y.mid, "g0"}, {y.mid, "g1"}, {y.right, "h1"}} {
		if out, err := exec.Command("ip", "-n", l[0], "link", "add", "link", l[1], "name", l[1]+".5", "type", "vlan", "id", "5").CombinedOutput(); err != nil {
			t.Skipf("this kernel has no VLAN interfaces: %s", out)
		}
		y.ip("-n", l[0], "link", "set", l[1]+".5", "up")
	}
	y.ip("-n", y.left, "addr", "flush", "dev", "h0")
	y.ip("-n", y.right, "addr", "flush", "dev", "h1")
	y.ip("-n", y.left, "addr", "add", leftHost+"/16", "dev", "h0.5")
	y.ip("-n", y.right, "addr", "add", rightHost+"/16", "dev", "h1.5")
	c := y.command("gate", put(t, t.TempDir(), "site.yaml", strings.Replace(site, "SHAPE", "20Mbit/s", 1)), "--node", "site", "--port", "lan=g0.5", "--port", "wan=g1.5", "--for", "3s", "-o", "json")
	var out bytes.Buffer
	c.Stdout = &out
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	time.Sleep(500 * time.Millisecond)
	sent, lost, _, _ := y.numbered(500, time.Millisecond, time.Second, func() {})
	_ = c.Wait()
	if lost > 0 || !strings.Contains(out.String(), `"device":"g0.5"`) {
		t.Errorf("of %d frames %d are lost: %.300s", sent, lost, out.String())
	}
}

// TestNobodyElseSpeaksForAGate: a stranger who has the names where a gate listens stops no start, is not believed, and a gate answers
// nobody but its user and root.
func TestNobodyElseSpeaksForAGate(t *testing.T) {
	y := newYard(t)
	file := put(t, t.TempDir(), "site.yaml", strings.Replace(site, "SHAPE", "8Mbit/s", 1))
	// The folder that a gate of root would fall back to, made by another user, with a socket in it that answers.
	y.gate(file)
	stranger := filepath.Join(os.TempDir(), "imbrel-0")
	if _, err := os.Lstat(stranger); err == nil {
		t.Skipf("%s exists", stranger)
	}
	if err := os.Mkdir(stranger, 0o777); err != nil || os.Chown(stranger, 12345, 12345) != nil {
		t.Skip("no other user can be played here")
	}
	defer os.RemoveAll(stranger)
	ino := func() string {
		var s unix.Stat_t
		y.in(y.mid, func() { _ = unix.Stat("/proc/thread-self/ns/net", &s) })
		return fmt.Sprint(s.Ino)
	}()
	// No gate is at g9: who answers for it is the stranger.
	fd := -1
	done := make(chan error)
	go func() {
		runtime.LockOSThread() // this thread alone is another user's, and ends with the goroutine
		_, _, e := unix.RawSyscall(unix.SYS_SETRESUID, 12345, 12345, 12345)
		if e != 0 {
			done <- e
			return
		}
		var err error
		if fd, err = unix.Socket(unix.AF_UNIX, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0); err == nil {
			if err = unix.Bind(fd, &unix.SockaddrUnix{Name: filepath.Join(stranger, "g9@"+ino)}); err == nil {
				err = unix.Listen(fd, 4)
			}
		}
		done <- err
	}()
	if err := <-done; err != nil {
		t.Skipf("no other user can be played here: %v", err)
	}
	defer unix.Close(fd)
	for _, args := range [][]string{{"watch", "g9", "--count", "1"}, {"gate", "reload", "g9"}} {
		if out, err := y.command(args...).CombinedOutput(); err == nil || !strings.Contains(string(out), "is neither this user nor root, and is not asked") {
			t.Errorf("%v asks a stranger: %v, %.300s", args, err, out)
		}
	}
	// Another user asks the gate of root.
	open := t.TempDir()
	copyProgram(t, open+"/imbrel")
	for dir := open; dir != os.TempDir(); dir = filepath.Dir(dir) {
		_ = os.Chmod(dir, 0o755)
	}
	_ = os.Chmod(open+"/imbrel", 0o755)
	y.in(y.mid, func() {
		asks := exec.Command(open+"/imbrel", "watch", "g0", "--count", "1")
		asks.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 12345, Gid: 12345}}
		if out, err := asks.CombinedOutput(); err == nil || !strings.Contains(string(out), "another user's") {
			t.Errorf("a stranger is answered: %v, %.300s", err, out)
		}
	})
}

// gateKeepsItsRights: a gate of root reads again a file that is another user's alone, and writes captures into that user's folder.
func gateKeepsItsRights(t *testing.T) {
	y := newYard(t)
	dir := filepath.Join(t.TempDir(), "own")
	if err := os.Mkdir(dir, 0o700); err != nil || os.Chown(dir, 12345, 12345) != nil {
		t.Skip("no other user can be played here")
	}
	file := put(t, dir, "site.yaml", strings.Replace(site, "SHAPE", "8Mbit/s", 1))
	_ = os.Chmod(file, 0o600)
	_ = os.Chown(file, 12345, 12345)
	g := y.gate(file, "--capture-out", filepath.Join(dir, "seen"))
	if out, err := y.command("gate", "reload", "g0").CombinedOutput(); err != nil {
		t.Errorf("a reload: %v: %s", err, out)
	}
	y.numbered(100, 10*time.Millisecond, 100*time.Millisecond, func() {})
	g.end(t)
	if i, err := os.Stat(filepath.Join(dir, "seen/site/lan-in.pcapng")); err != nil || i.Size() < 1000 {
		t.Errorf("the capture: %v, %s", err, g.errs.String())
	}
	// A capture that cannot go on is told, and the exit status is 1.
	full := filepath.Join(t.TempDir(), "full")
	if os.Mkdir(full, 0o700) != nil || exec.Command("mount", "-t", "tmpfs", "-o", "size=64k", "tmpfs", full).Run() != nil {
		t.Skip("no small disk can be made here")
	}
	defer exec.Command("umount", full).Run()
	c := y.command("gate", file, "--node", "site", "--port", "lan=g0", "--port", "wan=g1", "--for", "6s", "--capture-out", full+"/seen")
	var errs bytes.Buffer
	c.Stderr = &errs
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	time.Sleep(1500 * time.Millisecond)
	y.numbered(2000, time.Millisecond, 500*time.Millisecond, func() {})
	if _ = c.Wait(); c.ProcessState.ExitCode() != 1 || !strings.Contains(errs.String(), "the capture") {
		t.Errorf("a capture that is lost: exit %d, %s", c.ProcessState.ExitCode(), errs.String())
	}
}

// nothingBypassesTheShape: 60 Mbit/s of frames that once passed by, one kind after the other, leave at the shape or not at all.
func nothingBypassesTheShape(t *testing.T) {
	y := newYard(t)
	y.gate(put(t, t.TempDir(), "site.yaml", strings.Replace(site, "SHAPE", "20Mbit/s", 1)))
	out, in := y.ends()
	var p packet.Packet
	p.Build(make([]byte, packet.HeaderRoom), packet.Flow{From: netip.MustParseAddr("2001:db8::1"), To: netip.MustParseAddr("2001:db8::2"), Protocol: packet.UDP, FromPort: 9, ToPort: 9}, 0, 1000, 0)
	six := make([]byte, p.WireLength())
	copy(six, p.Bytes)
	p.Build(make([]byte, packet.HeaderRoom), packet.Flow{From: netip.MustParseAddr(leftHost), To: netip.MustParseAddr(rightHost), Protocol: packet.UDP, FromPort: 9, ToPort: 9}, 0, 1000, 0)
	four := make([]byte, p.WireLength())
	copy(four, p.Bytes)
	change := func(b []byte, at int, v ...byte) []byte {
		b = bytes.Clone(b)
		copy(b[at:], v)
		return b
	}
	chain := bytes.Repeat([]byte{60, 0, 1, 4, 0, 0, 0, 0}, 18)
	for name, c := range map[string]struct {
		frame []byte
		least float64 // Mbit/s
	}{
		"neighbour discovery that was forwarded": {change(change(six, 20, 58, 64), 54, 135, 0), 0.3},
		"neighbour discovery without a checksum": {change(change(six, 20, 58, 255), 54, 135, 0), 0.3},
		"a wrong length of destination options":  {change(change(six, 20, 60), 54, 17, 250), 0.3},
		"18 extension headers":                   {change(change(six, 20, 60), 54, chain...), 0.3},
		"an IPv4 length beyond the frame":        {change(four, 16, 0xff, 0xff), 0.3},
		"ARP":                                    {change(four, 12, 8, 6), 0.3},
		"a short packet in a long frame":         {change(four, 16, 0, 28), 0.3},
		"a type that nobody knows":               {change(four, 12, 0x12, 0x34), 0},
	} {
		arrived := 0
		begun := time.Now()
		for n := 0; time.Since(begun) < 1200*time.Millisecond; n++ {
			for range 8 {
				out.Lend(c.frame)
			}
			out.Flush()
			for got := 1; got > 0; {
				got, _ = in.Read(func(frame []byte, _ time.Duration) {
					if len(frame) == len(c.frame) && time.Since(begun) > 200*time.Millisecond {
						arrived += len(frame) + 24
					}
				})
				in.Release()
			}
			if wait := time.Until(begun.Add(time.Duration(n) * 8 * 1014 * 8 * time.Microsecond / 60)); wait > 0 {
				time.Sleep(wait)
			}
		}
		if rate := float64(arrived) * 8 / 1e6; rate > 20.6 || rate < c.least {
			t.Errorf("%s: of 60 Mbit/s %.1f pass a shape of 20", name, rate)
		}
	}
	r := y.snapshot()
	if r == nil || r.Gate.Unreadable < 1000 || r.Gate.ControlOver < 1000 || r.Gate.Malformed < 3000 || r.Gate.PassedBy == 0 {
		t.Errorf("%+v", r.Gate)
	}
}
