package live

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"runtime"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"imbrel.example/imbrel/core/gate"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
)

// longestWait is how long the gate waits at most before it looks whether it is to do something
// else.
const longestWait = 50 * time.Millisecond

// comesBack is how often an interface that is gone is looked for.
const comesBack = 250 * time.Millisecond

// RunGate runs a gate until the context ends or its time is over, and returns what it did.
func RunGate(ctx context.Context, c Config) (*Report, error) {
	r := &runner{config: c, asked: make(chan request), over: make(chan struct{})}
	if err := r.open(); err != nil {
		r.close()
		return nil, err
	}
	defer r.close()
	node, ifaces, err := r.find(c.File)
	if err != nil {
		return nil, err
	}
	if r.gate, err = gate.New(c.File, node, ifaces, 0, gate.Options{StartAt: time.Now(), Seed: c.Seed}); err != nil {
		return nil, err
	}
	r.file = c.File
	r.recent = measure.NewHistory(recentSteps, time.Second, 0)
	every := longStep
	if c.For > 0 {
		every = max(measure.RoundStep(c.For, wholeSteps/2), time.Second)
	}
	r.whole = measure.NewHistory(wholeSteps, every, 0)
	confine()
	for _, l := range r.locks {
		go r.serve(l)
	}
	if c.Reload != nil {
		go func() {
			for {
				select {
				case <-c.Reload:
					r.ask("reload") // it says itself what came of it
				case <-r.over:
					return
				}
			}
		}()
	}
	r.loop(ctx)
	close(r.over)
	report := r.report()
	report.Series = r.whole.Series()
	return report, nil
}

// How much of the past a gate keeps: two minutes by the second, and of a gate without an end an hour.
const (
	recentSteps = 120
	wholeSteps  = 360
	longStep    = 10 * time.Second
)

// A runner is a gate at work.
type runner struct {
	config  Config
	gate    *gate.Gate
	file    *policy.File
	ports   []*livePort
	locks   []net.Listener
	began   time.Duration
	recent  *measure.History // for those who watch
	whole   *measure.History // for the report at the end
	asked   chan request
	over    chan struct{} // closed when nobody answers any more
	serving sync.WaitGroup
}

// A livePort is an interface of the machine that a port of the gate is at.
type livePort struct {
	socket   *Socket // nil: it is gone
	device   string
	offloads Offloads
	retry    time.Duration
	totals   PortReport
}

// A request is what somebody else asks of the gate between two frames.
type request struct {
	what  string
	reply chan []byte
}

// open opens the interfaces, or says which cannot be had and why.
func (r *runner) open() error {
	seen := make(map[string]bool)
	for _, p := range r.config.Ports {
		if seen[p.Device] {
			return fmt.Errorf("the interface %s is given for two ports: each needs one of its own", p.Device)
		}
		seen[p.Device] = true
		if err := r.mayTake(p.Device); err != nil {
			return err
		}
		lock, err := net.Listen("unix", controlName(p.Device))
		if err != nil {
			return fmt.Errorf("another gate has the interface %s: end it first, or change its file and run `imbrel gate reload %s`", p.Device, p.Device)
		}
		r.locks = append(r.locks, lock)
		s, err := Open(p.Device)
		if err != nil {
			return err
		}
		l := &livePort{socket: s, device: p.Device, totals: PortReport{Port: p.Interface, Device: p.Device}}
		r.ports = append(r.ports, l)
		if l.offloads, err = WithoutOffloads(p.Device); err != nil {
			return err
		}
	}
	return nil
}

// close gives the interfaces back as they were.
func (r *runner) close() {
	for _, l := range r.locks {
		l.Close()
	}
	r.serving.Wait()
	for _, p := range r.ports {
		p.offloads.Restore()
		if p.socket != nil {
			p.socket.Close()
		}
	}
}

// mayTake reports that an interface is one that this machine talks by itself, unless it was said
// to be taken all the same.
func (r *runner) mayTake(device string) error {
	for _, t := range r.config.Take {
		if t == device {
			return nil
		}
	}
	i, err := net.InterfaceByName(device)
	if err != nil {
		return fmt.Errorf("there is no interface %q here", device)
	}
	addresses, err := i.Addrs()
	if err != nil {
		return fmt.Errorf("cannot ask for the addresses of %s: %w", device, err)
	}
	for _, a := range addresses {
		if n, ok := a.(*net.IPNet); ok && !n.IP.IsLinkLocalUnicast() {
			return fmt.Errorf("the interface %s has the address %s of this machine, which a gate would take from it: remove the address, or say --take %s", device, n.IP, device)
		}
	}
	if routes, err := os.ReadFile("/proc/net/route"); err == nil {
		for line := range strings.Lines(string(routes)) {
			if k := strings.Fields(line); len(k) > 7 && k[0] == device && k[1] == "00000000" && k[7] == "00000000" {
				return fmt.Errorf("the interface %s has the default route of this machine: remove it, or say --take %s", device, device)
			}
		}
	}
	return nil
}

// find returns the node of the file and the interfaces of the ports.
func (r *runner) find(f *policy.File) (*policy.Node, []*policy.Interface, error) {
	node, err := NodeOf(f, r.config.Node)
	if err != nil {
		return nil, nil, err
	}
	var ifaces []*policy.Interface
	for _, p := range r.config.Ports {
		i, err := InterfaceOf(node, p.Interface)
		if err != nil {
			return nil, nil, err
		}
		ifaces = append(ifaces, i)
	}
	return node, ifaces, nil
}

// loop moves frames until it is over.
func (r *runner) loop(ctx context.Context) {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	_ = unix.Prctl(unix.PR_SET_TIMERSLACK, 1000, 0, 0, 0) // wake up to the microsecond
	r.began = Monotonic()
	clock := func() time.Duration { return Monotonic() - r.began }
	send := func(n int, frame []byte) {
		p := r.ports[n]
		if p.socket == nil {
			p.totals.Lost++
			return
		}
		if r.config.Sent != nil {
			r.config.Sent(n, clock(), frame)
		}
		p.socket.Queue(frame)
	}
	sockets := make([]*Socket, 0, len(r.ports))
	for ctx.Err() == nil {
		now, read := clock(), 0
		if r.config.For > 0 && now >= r.config.For {
			break
		}
		sockets = sockets[:0]
		for n, p := range r.ports {
			if p.socket == nil && !r.comeBack(p, now) {
				continue
			}
			got, err := p.socket.Read(func(frame []byte, age time.Duration) {
				if r.config.Came != nil {
					r.config.Came(n, now-age, frame)
				}
				r.gate.Take(max(0, now-age), n, frame, send)
			})
			read += got
			if err != nil {
				r.gone(p, now, err)
				continue
			}
			sockets = append(sockets, p.socket)
		}
		if r.recent.Due(now) {
			samples := r.gate.Sample()
			r.recent.Put(now, samples)
			r.whole.Put(now, samples)
		}
		next := min(r.gate.Run(clock(), send), r.recent.Next())
		for _, p := range r.ports {
			if p.socket != nil {
				p.socket.Flush()
			}
		}
		select {
		case q := <-r.asked:
			q.reply <- r.answer(q.what, clock(), send)
			continue
		default:
		}
		if read == 0 {
			if err := Wait(sockets, min(longestWait, next-clock())); err != nil {
				r.notice("cannot wait for frames: %v", err)
				time.Sleep(time.Millisecond)
			}
		}
	}
}

func (r *runner) notice(format string, args ...any) {
	if r.config.Notice != nil {
		r.config.Notice(fmt.Sprintf(format, args...))
	}
}

// gone gives up a socket whose interface is down or away.
func (r *runner) gone(p *livePort, now time.Duration, err error) {
	r.notice("the interface %s is gone (%v): its frames are dropped and counted until it comes back", p.device, err)
	p.count()
	p.socket.Close()
	p.socket, p.retry = nil, now+comesBack
}

// comeBack looks for an interface that was gone.
func (r *runner) comeBack(p *livePort, now time.Duration) bool {
	if now < p.retry {
		return false
	}
	p.retry = now + comesBack
	s, err := Open(p.device)
	if err != nil {
		return false
	}
	if o, err := WithoutOffloads(p.device); err == nil && len(o.was) > 0 {
		p.offloads = o
	}
	p.socket = s
	r.notice("the interface %s is back", p.device)
	return true
}

// count adds what a socket counted to the port's totals.
func (p *livePort) count() {
	if s := p.socket; s != nil {
		p.totals.Received += s.Received
		p.totals.Missed += s.overrun()
		p.totals.Sent += s.Sent
		p.totals.Refused += s.Refused
		p.totals.Cut += s.Cut
		p.totals.Giants += s.Giants
		s.Received, s.Sent, s.Refused, s.Cut, s.Giants = 0, 0, 0, 0, 0
	}
}

// report says what the gate has done so far.
func (r *runner) report() *Report {
	now := Monotonic() - r.began
	var ports []PortReport
	for _, p := range r.ports {
		p.count()
		ports = append(ports, p.totals)
	}
	lost := func(i *policy.Interface, d policy.Direction) uint64 {
		for n := range ports {
			if p := &ports[n]; p.Port == i.Name && d == policy.In {
				return p.Missed + p.Cut
			} else if p.Port == i.Name {
				return p.Refused + p.Lost
			}
		}
		return 0
	}
	return &Report{Result: r.gate.Result(now, r.rehearsal(), lost), Gate: r.gate.Counts, Waiting: r.gate.Waiting(), Ports: ports}
}

// rehearsal returns that whose expectations are judged, or nil.
func (r *runner) rehearsal() *policy.Rehearsal {
	for i := range r.file.Rehearsals {
		if r.file.Rehearsals[i].Name == r.config.Expect {
			return &r.file.Rehearsals[i]
		}
	}
	return nil
}

// answer does what was asked between two frames.
func (r *runner) answer(what string, now time.Duration, send func(int, []byte)) []byte {
	switch what {
	case "snapshot", "figures":
		report := r.report()
		if what == "figures" {
			report.KeepDistributions()
		} else {
			report.Series = r.recent.Series()
		}
		b, err := json.Marshal(report)
		if err != nil {
			return []byte("error " + err.Error())
		}
		return b
	case "reload":
		f, err := r.config.Load()
		if err == nil {
			var node *policy.Node
			var ifaces []*policy.Interface
			if node, ifaces, err = r.find(f); err == nil {
				r.gate.Reload(f, node, ifaces, now, send)
				r.file = f
				r.notice("the policies are those of the file as it is now")
				return []byte("ok")
			}
		}
		r.notice("nothing was changed: %v", err)
		return []byte("error " + err.Error())
	}
	return []byte("error a gate is asked for `snapshot` or `reload`")
}

// ask lets the gate do something, from another goroutine: "snapshot" or "reload".
func (r *runner) ask(what string) []byte {
	q := request{what, make(chan []byte, 1)}
	select {
	case r.asked <- q:
		return <-q.reply
	case <-r.over:
		return []byte("error the gate has ended")
	}
}

// serve answers those of the same user who ask at a lock.
func (r *runner) serve(l net.Listener) {
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		r.serving.Go(func() {
			defer c.Close()
			if !sameUser(c) {
				return
			}
			_ = c.SetDeadline(time.Now().Add(10 * time.Second))
			line, err := bufio.NewReader(io.LimitReader(c, 100)).ReadString('\n')
			if err == nil {
				_, _ = c.Write(r.ask(strings.TrimSpace(line)))
			}
		})
	}
}

// sameUser reports whether the other end is root or the user of this process.
func sameUser(c net.Conn) bool {
	raw, err := c.(*net.UnixConn).SyscallConn()
	if err != nil {
		return false
	}
	ok := false
	_ = raw.Control(func(fd uintptr) {
		u, err := unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED)
		ok = err == nil && (u.Uid == 0 || int(u.Uid) == os.Geteuid())
	})
	return ok
}

// controlName is where the gate at an interface listens: a name of the network namespace, which
// goes with the process.
func controlName(device string) string { return "@imbrel-gate-" + device }

// Ask asks the gate that has an interface.
func Ask(device, what string) ([]byte, error) {
	c, err := net.DialTimeout("unix", controlName(device), time.Second)
	if err != nil {
		return nil, fmt.Errorf("no gate has the interface %s here", device)
	}
	defer c.Close()
	_ = c.SetDeadline(time.Now().Add(10 * time.Second))
	if _, err := io.WriteString(c, what+"\n"); err != nil {
		return nil, fmt.Errorf("the gate at %s does not listen: %w", device, err)
	}
	answer, err := io.ReadAll(io.LimitReader(c, 64<<20))
	if err != nil {
		return nil, fmt.Errorf("the gate at %s does not answer: %w", device, err)
	}
	if text, failed := bytes.CutPrefix(answer, []byte("error ")); failed {
		return nil, errors.New(string(text))
	}
	if len(answer) == 0 {
		return nil, fmt.Errorf("the gate at %s does not answer to this user", device)
	}
	return answer, nil
}

// confine gives up all capabilities but those that an interface that comes back needs.
func confine() {
	header := unix.CapUserHeader{Version: unix.LINUX_CAPABILITY_VERSION_3}
	var data [2]unix.CapUserData
	if unix.Capget(&header, &data[0]) != nil {
		return
	}
	const keep = 1<<unix.CAP_NET_RAW | 1<<unix.CAP_NET_ADMIN
	for i := range data {
		mask := uint32(0)
		if i == 0 {
			mask = keep
		}
		data[i].Effective &= mask
		data[i].Permitted &= mask
		data[i].Inheritable = 0
	}
	capset(&header, &data)
}
