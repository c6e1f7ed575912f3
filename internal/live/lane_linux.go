package live

import (
	"fmt"
	"os"
	"runtime"
	"strconv"
	"time"

	"golang.org/x/sys/unix"

	"imbrel.example/imbrel/core/gate"
)

// putFirst lets this program go before others, and its threads that move frames before its other ones, where that is allowed. None of its threads
// may give way to other programs: any of them may hold up all others for a moment, and would keep them while it waits for a processor.
func putFirst(tids map[int]bool) {
	threads, err := os.ReadDir("/proc/self/task")
	if err != nil {
		return
	}
	for _, t := range threads {
		if tid, err := strconv.Atoi(t.Name()); err == nil {
			priority := -10
			if tids[tid] {
				priority = -15
			}
			_ = unix.Setpriority(unix.PRIO_PROCESS, tid, priority)
		}
	}
}

// A livePort is an interface of the machine that a port of the gate is at. in and out belong to the lanes that take its frames
// and that send by it.
type livePort struct {
	name, device string
	in, out      half
	offloads     Offloads
}

// A half of a port reads, or sends.
type half struct {
	socket *Socket // nil: it is gone
	retry  time.Duration
	totals PortReport
}

// A lane moves frames, on a thread of its own.
type lane struct {
	runner *runner
	lane   *gate.Lane
	in     []int // the ports whose frames it takes
	out    []int // by which it sends
	asked  chan func(now time.Duration, send func(int, []byte))
	event  int           // a descriptor that wakes it up
	dead   chan struct{} // closed when its loop has failed
	thread chan int      // gets the number of the thread of its loop
}

// openLanes makes the lanes of the gate.
func (r *runner) openLanes() error {
	for _, g := range r.gate.Lanes {
		l := &lane{runner: r, lane: g, asked: make(chan func(time.Duration, func(int, []byte)), 1), event: -1, dead: make(chan struct{}), thread: make(chan int, 1)}
		r.lanes = append(r.lanes, l)
		for n := range r.ports {
			if g.Takes(n) {
				l.in = append(l.in, n)
			}
			if g.Sends(n) {
				l.out = append(l.out, n)
			}
		}
		var err error
		if l.event, err = unix.Eventfd(0, unix.EFD_NONBLOCK|unix.EFD_CLOEXEC); err != nil {
			return fmt.Errorf("cannot make a descriptor for events: %w", err)
		}
	}
	return nil
}

// loop moves frames until it is over.
func (l *lane) loop() {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	_ = unix.Prctl(unix.PR_SET_TIMERSLACK, 1000, 0, 0, 0) // wake up to the microsecond
	l.thread <- unix.Gettid()
	r := l.runner
	clock := func() time.Duration { return Monotonic() - r.began }
	send := func(n int, frame []byte) {
		p := &r.ports[n].out
		if p.socket == nil {
			p.totals.Lost++
			return
		}
		if r.config.Sent != nil {
			r.config.Sent(n, clock(), frame)
		}
		p.socket.Lend(frame)
	}
	if l.lane.Number() < len(r.pending) {
		for _, p := range r.pending[l.lane.Number()] {
			l.lane.Resume(p, clock(), send)
		}
		r.pending[l.lane.Number()] = nil
	}
	polls := make([]unix.PollFd, 0, len(l.in)+1)
	for !r.stop.Load() {
		now, read := clock(), 0
		polls = append(polls[:0], unix.PollFd{Fd: int32(l.event), Events: unix.POLLIN})
		for _, n := range l.in {
			p := r.ports[n]
			if p.in.socket == nil && !l.comeBack(p, &p.in, OpenRing, now) {
				continue
			}
			got, err := p.in.socket.Read(func(frame []byte, age time.Duration) {
				if r.config.Came != nil {
					r.config.Came(n, now-age, frame)
				}
				l.lane.Take(max(0, now-age), n, frame, send)
			})
			if read += got; err != nil {
				r.log.Warn(fmt.Sprintf("the interface %s is gone (%v): its frames are dropped and counted until it comes back", p.device, err), "device", p.device)
				p.in.gone(now)
				continue
			}
			polls = append(polls, unix.PollFd{Fd: int32(p.in.socket.fd), Events: unix.POLLIN})
		}
		next := l.lane.Run(clock(), send)
		for _, n := range l.out {
			p := r.ports[n]
			if p.out.socket == nil {
				l.comeBack(p, &p.out, OpenSender, now)
			} else if p.out.socket.queued > 0 && p.out.socket.Flush() != nil {
				p.out.gone(now)
			}
		}
		l.lane.Flushed()
		for _, n := range l.in {
			if s := r.ports[n].in.socket; s != nil {
				s.Release()
			}
		}
		select {
		case do := <-l.asked:
			do(clock(), send)
			continue
		default:
		}
		if read == 0 && !r.config.Spin {
			l.wait(polls, min(longestWait, next-clock()))
		}
	}
}

// wait waits until a frame has come, or somebody asks for something, or for so long at most.
func (l *lane) wait(polls []unix.PollFd, most time.Duration) {
	limit := unix.NsecToTimespec(int64(max(0, most)))
	if _, err := unix.Ppoll(polls, &limit, nil); err != nil && err != unix.EINTR {
		l.runner.log.Error("cannot wait for frames: " + err.Error())
		time.Sleep(time.Millisecond)
	}
	if polls[0].Revents != 0 {
		var count [8]byte
		_, _ = unix.Read(l.event, count[:])
	}
}

// wake lets a lane that waits go on.
func (l *lane) wake() { _, _ = unix.Write(l.event, []byte{1, 0, 0, 0, 0, 0, 0, 0}) }

// gone gives up a socket whose interface is down or away.
func (h *half) gone(now time.Duration) {
	h.count()
	h.socket.Close()
	h.socket, h.retry = nil, now+comesBack
}

// comeBack looks for an interface that was gone.
func (l *lane) comeBack(p *livePort, h *half, open func(string) (*Socket, error), now time.Duration) bool {
	if now < h.retry {
		return false
	}
	h.retry = now + comesBack
	s, err := open(p.device)
	if err != nil {
		return false
	}
	h.socket = s
	if h == &p.in {
		if o, err := WithoutOffloads(p.device); err == nil && len(o.was) > 0 {
			p.offloads = o
		}
		l.runner.log.Info("the interface "+p.device+" is back", "device", p.device)
	}
	return true
}

// count adds what a socket counted to the totals.
func (h *half) count() {
	s, t := h.socket, &h.totals
	if s == nil {
		return
	}
	t.Received += s.Received
	t.Missed += s.overrun()
	t.Sent += s.Sent
	t.Refused += s.Refused
	t.Cut += s.Cut
	t.Giants += s.Giants
	s.Received, s.Sent, s.Refused, s.Cut, s.Giants = 0, 0, 0, 0, 0
}
