package live

import (
	"encoding/gob"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"imbrel.example/imbrel/core/gate"
)

// TakesOver is the environment variable that tells a program which of its descriptors leads to the gate that it is to take over from.
const TakesOver = "IMBREL_TAKES_OVER"

// How long a gate waits for the one that takes over: until it is ready, which may take reading a long file, and until it runs.
const (
	readyWithin   = 60 * time.Second
	runningWithin = 2 * time.Second
)

// A handover is what one gate tells the other. The descriptors come before it: of each port the one that reads and the one that
// sends, then the locks and the places where it listens.
type handover struct {
	Ports    []handedPort
	Controls int
	Kept     []byte // as JSON
	Pending  [][]gate.Pending
}

type handedPort struct {
	Device      string
	Slot, Slots int
	Next        int
	In, Out     PortReport
	Offloads    []int
}

// upgrade starts the program anew, as it is on disk now, and hands everything over to it; then this gate ends. Until the other one
// runs, nothing is given up: what comes meanwhile waits in the rings.
func (r *runner) upgrade() (err error) {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	if r.config.Program == "" {
		return errors.New("this gate cannot be upgraded: it writes captures, or ends after a time. End it, and start it anew")
	}
	if r.config.MayUpgrade != nil {
		if err := r.config.MayUpgrade(); err != nil {
			return err
		}
	}
	for _, p := range r.ports {
		if p.in.socket == nil || p.out.socket == nil {
			return fmt.Errorf("the interface %s is gone: upgrade when it is back", p.device)
		}
	}
	pair, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return fmt.Errorf("cannot make a pair of sockets: %w", err)
	}
	own, theirs := os.NewFile(uintptr(pair[0]), "handover"), os.NewFile(uintptr(pair[1]), "handover")
	defer own.Close()
	child := exec.Command(r.config.Program, os.Args[1:]...)
	child.Stdout, child.Stderr, child.ExtraFiles = os.Stdout, os.Stderr, []*os.File{theirs}
	child.Env = append(os.Environ(), TakesOver+"=3")
	err = child.Start()
	theirs.Close()
	if err != nil {
		return fmt.Errorf("the program does not start: %w", err)
	}
	went := make(chan error, 1)
	go func() { went <- child.Wait() }()
	c, err := net.FileConn(own)
	if err != nil {
		_ = child.Process.Kill()
		return err
	}
	defer c.Close()
	conn := c.(*net.UnixConn)
	if err := hears(conn, "ready", readyWithin); err != nil {
		_ = child.Process.Kill()
		<-went
		return fmt.Errorf("the new program is not ready (%w), and nothing was changed: see what it says", err)
	}
	r.settle()
	r.halt()
	if err = r.hand(conn); err == nil {
		err = hears(conn, "running", runningWithin)
	}
	if err == nil {
		r.handed = true
		for _, l := range r.controls {
			l.(*net.UnixListener).SetUnlinkOnClose(false)
		}
		r.log.Info(fmt.Sprintf("process %d goes on in the place of this one", child.Process.Pid), "pid", child.Process.Pid)
		notifyService(fmt.Sprintf("MAINPID=%d", child.Process.Pid))
		close(r.over) // before the mutex is free: whoever asks the lanes next is answered without them
		close(r.leave)
		return nil
	}
	_ = child.Process.Kill()
	<-went
	for _, p := range r.ports { // where the other one stopped reading nobody knows
		for _, h := range []*half{&p.in, &p.out} {
			h.gone(-comesBack)
		}
	}
	r.run()
	return fmt.Errorf("the new program did not take over (%w): this one goes on", err)
}

// halt ends the loops of the lanes.
func (r *runner) halt() {
	r.stop.Store(true)
	for _, l := range r.lanes {
		l.wake()
	}
	r.moving.Wait()
}

// hears waits for a word of the other gate.
func hears(c *net.UnixConn, word string, within time.Duration) error {
	_ = c.SetReadDeadline(time.Now().Add(within))
	b := make([]byte, len(word)+1)
	if _, err := io.ReadFull(c, b); err != nil {
		return err
	}
	if string(b) != word+"\n" {
		return fmt.Errorf("it says %q", b)
	}
	return nil
}

// hand sends the descriptors, and what has been counted and waits.
func (r *runner) hand(c *net.UnixConn) error {
	h := handover{Controls: len(r.controls)}
	var fds []int
	for _, p := range r.ports {
		p.in.count()
		p.out.count()
		ring := p.in.socket.ring
		h.Ports = append(h.Ports, handedPort{p.device, ring.slot, ring.slots, ring.next, p.in.totals, p.out.totals, p.offloads.was})
		fds = append(fds, p.in.socket.fd, p.out.socket.fd)
	}
	for _, l := range r.locks {
		fds = append(fds, int(l.Fd()))
	}
	for _, l := range r.controls {
		f, err := l.(*net.UnixListener).File()
		if err != nil {
			return err
		}
		defer f.Close()
		fds = append(fds, int(f.Fd()))
	}
	var o gate.Observation
	now := Monotonic() - r.began
	for _, l := range r.lanes {
		l.lane.Observe(&o, now, false)
		h.Pending = append(h.Pending, l.lane.Pending())
	}
	r.gate.Observed(&o)
	var err error
	if h.Kept, err = json.Marshal(o.Kept()); err != nil {
		return err
	}
	_ = c.SetWriteDeadline(time.Now().Add(runningWithin))
	if _, _, err := c.WriteMsgUnix([]byte{byte(len(fds))}, unix.UnixRights(fds...), nil); err != nil {
		return err
	}
	return gob.NewEncoder(c).Encode(&h)
}

// takeOver takes what another gate has: r has everything ready but its interfaces. running says that it goes on.
func (r *runner) takeOver(f *os.File) (running func(), err error) {
	defer f.Close()
	c, err := net.FileConn(f)
	if err != nil {
		return nil, fmt.Errorf("there is no gate to take over from: %w", err)
	}
	conn := c.(*net.UnixConn)
	if _, err := conn.Write([]byte("ready\n")); err != nil {
		return nil, err
	}
	b, oob := make([]byte, 1), make([]byte, 4096)
	_, n, _, _, err := conn.ReadMsgUnix(b, oob)
	if err != nil {
		return nil, err
	}
	messages, err := unix.ParseSocketControlMessage(oob[:n])
	if err != nil || len(messages) != 1 {
		return nil, fmt.Errorf("the gate hands over no descriptors: %w", err)
	}
	fds, err := unix.ParseUnixRights(&messages[0])
	if err != nil {
		return nil, err
	}
	for _, fd := range fds {
		unix.CloseOnExec(fd)
	}
	var h handover
	if err := gob.NewDecoder(conn).Decode(&h); err != nil {
		return nil, err
	}
	if len(h.Ports) != len(r.config.Ports) || len(fds) < 2*len(h.Ports)+2*h.Controls || len(h.Pending) != len(r.gate.Lanes) {
		return nil, errors.New("the gate has other ports than this one is to have")
	}
	for i, p := range h.Ports {
		if p.Device != r.config.Ports[i].Device {
			return nil, fmt.Errorf("the gate has %s, and this one is to have %s", p.Device, r.config.Ports[i].Device)
		}
		l := &livePort{name: r.config.Ports[i].Interface, device: p.Device, offloads: Offloads{p.Device, p.Offloads}}
		memory, err := unix.Mmap(fds[0], 0, ringBytes, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED)
		if err != nil {
			return nil, fmt.Errorf("cannot use the ring of %s: %w", p.Device, err)
		}
		l.in.socket, l.out.socket = newSocket(p.Device, fds[0]), newSocket(p.Device, fds[1])
		l.in.socket.ring = &ring{memory: memory, slot: p.Slot, slots: p.Slots, next: p.Next}
		l.in.totals, l.out.totals = p.In, p.Out
		r.ports, fds = append(r.ports, l), fds[2:]
	}
	for len(fds) > h.Controls {
		r.locks, fds = append(r.locks, os.NewFile(uintptr(fds[0]), "lock")), fds[1:]
	}
	for _, fd := range fds {
		file := os.NewFile(uintptr(fd), "control")
		l, err := net.FileListener(file)
		file.Close()
		if err != nil {
			return nil, err
		}
		l.(*net.UnixListener).SetUnlinkOnClose(true)
		r.controls = append(r.controls, l)
	}
	var kept gate.Kept
	if err := json.Unmarshal(h.Kept, &kept); err != nil {
		return nil, err
	}
	if err := r.gate.Restore(&kept, 0); err != nil {
		return nil, err
	}
	r.pending = h.Pending
	return func() {
		_, _ = conn.Write([]byte("running\n"))
		conn.Close()
	}, nil
}

// Inherited returns the descriptor that leads to the gate to take over from, when the program was started to do so.
func Inherited() *os.File {
	fd, err := strconv.Atoi(strings.TrimSpace(os.Getenv(TakesOver)))
	if err != nil || fd < 3 {
		return nil
	}
	_ = os.Unsetenv(TakesOver)
	unix.CloseOnExec(fd)
	return os.NewFile(uintptr(fd), "handover")
}

// notifyService tells the one who started the program as a service what it does; without one it does nothing.
func notifyService(state string) {
	name := os.Getenv("NOTIFY_SOCKET")
	if name == "" {
		return
	}
	if name[0] == '@' {
		name = "\x00" + name[1:]
	}
	c, err := net.DialUnix("unixgram", nil, &net.UnixAddr{Name: name, Net: "unixgram"})
	if err != nil {
		return
	}
	defer c.Close()
	_ = c.SetWriteDeadline(time.Now().Add(100 * time.Millisecond)) // one who does not read holds up nothing
	_, _ = c.Write([]byte(state))
}

// watchdogEvery returns how often the one who started the program wants a sign of life; 0: he does not.
func watchdogEvery() time.Duration {
	n, err := strconv.ParseInt(os.Getenv("WATCHDOG_USEC"), 10, 64)
	if err != nil || n <= 0 {
		return 0
	}
	return time.Duration(n) * time.Microsecond / 3
}
