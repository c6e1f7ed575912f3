package live

import (
	"cmp"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"runtime"
	"slices"
	"time"

	"golang.org/x/sys/unix"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/route"
	"imbrel.example/imbrel/core/simulate"
)

// Stage runs a rehearsal with real packets: a namespace for the hosts at each interface with
// subnets, joined by the network of the file under the real clock. It lasts as long as the
// rehearsal does.
func Stage(ctx context.Context, c StageConfig) (*Staged, error) {
	type done struct {
		staged *Staged
		err    error
	}
	out := make(chan done)
	go func() {
		runtime.LockOSThread() // never unlocked: the thread, which changes its namespace, ends with the goroutine
		s := &stage{config: c, table: route.New(c.File), homes: make(map[*policy.Interface]*household), udp: make(map[udpKey]*udpSocket), byFD: make(map[int32]ready), conns: make(map[packet.Flow]*conn), listeners: make(map[netip.AddrPort]*listener)}
		defer s.close()
		staged, err := s.run(ctx)
		out <- done{staged, err}
	}()
	d := <-out
	return d.staged, d.err
}

// maxHomes bounds the namespaces that are made.
const maxHomes = 250

// tokenMark begins what a packet carries so that it is known again: the last bytes of a payload,
// or the hardware address of the sender of a frame.
var (
	tokenMark   = [4]byte{0xd5, 0x1b, 0x5e, 0x0c}
	tokenSender = [2]byte{0x06, 0x1b}
	nobody      = [6]byte{0x06, 0x1c, 0, 0, 0, 0}
)

const tokenBytes = 8

// A stage is a rehearsal with real packets at work. All of it is one thread.
type stage struct {
	config    StageConfig
	table     *route.Table
	core      *namespace
	homes     map[*policy.Interface]*household
	order     []*household
	udp       map[udpKey]*udpSocket
	conns     map[packet.Flow]*conn // by the flow of what the end sends
	open      []*conn
	listeners map[netip.AddrPort]*listener
	byFD      map[int32]ready
	epoll     int
	events    [64]unix.EpollEvent
	live      *simulate.Live
	began     time.Duration // by the kernel's monotonic clock
	room      []byte
	oob       [256]byte
	came      []cameFrame
	arena     []byte
	late      measure.Distribution
	tooLate   int64
	frames    uint64
	sockets   int
	notReal   map[string]bool

	// The clock.
	asked   time.Duration // when it was looked at last
	marked  time.Duration // at which time ranThen was looked at
	ranThen time.Duration
	heldUp  time.Duration // in all
	longest time.Duration
	looked  time.Duration // when it was looked last for what came
}

// ready is what is done when something can be read or written.
type ready interface{ ready(s *stage, events uint32) }

// A household is the namespace of the hosts at an interface.
type household struct {
	*namespace
	iface     *policy.Interface
	number    int
	mac       [6]byte
	wire      *Socket // the network's end of its cable
	raw       int     // sends frames as they are, from the hosts' end; -1: none yet
	rawIndex  int
	addresses map[netip.Addr]bool
}

const hostDevice = "lan"

type udpKey struct {
	home *household
	at   netip.AddrPort
}

type udpSocket struct {
	fd      int
	v6      bool
	divides bool // its packets may be fragmented on their way
}

// A cameFrame is a frame that has come to the network.
type cameFrame struct {
	at       time.Duration
	home     *household
	from, to int // of the arena
}

// now returns the time of the stage: that since it began, but for when this machine did not let
// this thread run. All hosts' datagrams are its own, so nothing of them happens meanwhile.
func (s *stage) now() time.Duration {
	at := Monotonic()
	if at-s.asked > heldUpAtLeast {
		ran := threadTime()
		if held := at - s.marked - (ran - s.ranThen); held > heldUpAtLeast/2 {
			s.heldUp += held
			s.longest = max(s.longest, held)
		}
		s.marked, s.ranThen = at, ran
	}
	s.asked = at
	return at - s.began - s.heldUp
}

// heldUpAtLeast is from when on a time without a look at the clock is looked into.
const heldUpAtLeast = time.Millisecond

// mark notes how much of the time this thread has run when the clock was looked at last.
func (s *stage) mark() { s.marked, s.ranThen = s.asked, threadTime() }

// threadTime returns for how long this thread has run.
func threadTime() time.Duration {
	var t unix.Timespec
	_ = unix.ClockGettime(unix.CLOCK_THREAD_CPUTIME_ID, &t)
	return time.Duration(t.Nano())
}

// inside runs a function in a household.
func (s *stage) inside(h *household, f func() error) error {
	if err := h.enter(); err != nil {
		return err
	}
	err := f()
	if back := s.core.enter(); back != nil && err == nil {
		err = back
	}
	return err
}

func (s *stage) close() {
	for _, c := range s.open {
		c.Abort()
	}
	for _, l := range s.listeners {
		unix.Close(l.fd)
	}
	for _, u := range s.udp {
		unix.Close(u.fd)
	}
	for _, h := range s.order {
		if h.wire != nil {
			h.wire.Close()
		}
		if h.raw >= 0 {
			unix.Close(h.raw)
		}
		h.namespace.close()
	}
	if s.epoll > 0 {
		unix.Close(s.epoll)
	}
	if s.core != nil {
		s.core.close()
	}
}

// run builds the stage, plays the rehearsal and returns what was measured.
func (s *stage) run(ctx context.Context) (*Staged, error) {
	var err error
	if s.core, err = newNamespace(); err != nil {
		return nil, err
	}
	if err := s.core.enter(); err != nil {
		return nil, err
	}
	if s.epoll, err = unix.EpollCreate1(unix.EPOLL_CLOEXEC); err != nil {
		return nil, err
	}
	s.notReal = make(map[string]bool)
	for i := range s.config.Rehearsal.Traffic {
		t := &s.config.Rehearsal.Traffic[i]
		for _, a := range []netip.Addr{t.From, t.To} {
			if a.IsValid() {
				if _, err := s.homeOf(a); err != nil {
					return nil, fmt.Errorf("%s: `%s`: %w", t.At, t.Name, err)
				}
			}
		}
	}
	if s.live, err = simulate.NewLive(s.config.File, s.config.Rehearsal, s.config.Options, s); err != nil {
		return nil, err
	}
	_ = unix.Prctl(unix.PR_SET_TIMERSLACK, 1000, 0, 0, 0) // wake up to the microsecond
	_ = unix.Setpriority(unix.PRIO_PROCESS, unix.Gettid(), -15)
	end, err := s.loop(ctx)
	if err != nil {
		return nil, err
	}
	out := &Staged{Late: s.late.Summary(), HeldUpMs: milliseconds(s.heldUp), MaxHeldUpMs: milliseconds(s.longest), Homes: len(s.order), Sockets: s.sockets, Frames: s.frames}
	if n := s.late.Count(); n > 0 {
		out.TooLate = float64(s.tooLate) / float64(n)
	}
	for _, h := range s.order {
		out.Overrun += h.wire.overrun()
	}
	for what := range s.notReal {
		out.NotReal = append(out.NotReal, what)
	}
	slices.Sort(out.NotReal)
	out.Passages = s.live.Passages()
	out.Result, out.Outside = s.live.Result(end)
	return out, nil
}

func milliseconds(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// After the end of its traffic, how long the network may go on sending what waits, and how long
// hosts have for what they were given.
const (
	maxStagedDraining = 10 * time.Second
	hostsTake         = 200 * time.Millisecond
)

// loop plays the rehearsal, and returns when it ended. It never sleeps: a processor that idles
// may take tens of milliseconds to come back, above all one of a virtual machine.
func (s *stage) loop(ctx context.Context) (time.Duration, error) {
	lasts := s.config.Rehearsal.Lasts
	s.began = Monotonic()
	s.asked = s.began
	s.mark()
	var told, polled, drained, next time.Duration
	more := false
	for {
		now := s.now()
		s.mark()
		if ctx.Err() != nil {
			return now, nil
		}
		n, err := unix.EpollWait(s.epoll, s.events[:], 0)
		if err != nil && !errors.Is(err, unix.EINTR) {
			return now, err
		}
		for _, e := range s.events[:max(n, 0)] {
			if r := s.byFD[e.Fd]; r != nil {
				r.ready(s, e.Events)
			}
		}
		s.looked = now
		if err := s.take(); err != nil {
			return now, err
		}
		if more && next <= now && next < lasts {
			s.late.Add(now - next)
			if now-next > time.Millisecond {
				s.tooLate++
			}
		}
		if next, more, err = s.live.Run(now); err != nil {
			return now, err
		}
		for _, h := range s.order {
			h.wire.Flush()
		}
		if now-polled >= 20*time.Millisecond {
			polled = now
			s.poll()
		}
		if now-told >= 250*time.Millisecond && s.config.Options.Progress != nil {
			told = now
			s.config.Options.Progress(min(1, float64(now)/float64(lasts)))
		}
		if now >= lasts {
			switch {
			case more && now < lasts+maxStagedDraining:
				drained = 0
			case drained == 0:
				drained = now
			case s.live.Away() == 0 || now > drained+hostsTake:
				return now, nil
			}
		}
	}
}

// take gives the network what has come to it, in the order of time.
func (s *stage) take() error {
	if len(s.came) == 0 {
		return nil
	}
	slices.SortStableFunc(s.came, func(a, b cameFrame) int { return cmp.Compare(a.at, b.at) })
	for _, f := range s.came {
		s.frames++
		if err := s.live.Take(f.at, f.home.iface, s.arena[f.from:f.to]); err != nil {
			return err
		}
	}
	s.came, s.arena = s.came[:0], s.arena[:0]
	return nil
}

// ready reads the frames that have come to the network from a household.
func (h *household) ready(s *stage, _ uint32) {
	now := s.now()
	for range 16 {
		n, err := h.wire.Read(func(frame []byte, age time.Duration) {
			from := len(s.arena)
			s.arena = append(s.arena, frame...)
			s.came = append(s.came, cameFrame{max(s.looked, now-age), h, from, len(s.arena)})
		})
		if err != nil || n < batch {
			return
		}
	}
}

// watch asks for something to be told when a file can be read, or written too.
func (s *stage) watch(fd int, r ready, events uint32) error {
	s.byFD[int32(fd)] = r
	return unix.EpollCtl(s.epoll, unix.EPOLL_CTL_ADD, fd, &unix.EpollEvent{Events: events, Fd: int32(fd)})
}

// homeOf returns the household of an address, which has it.
func (s *stage) homeOf(a netip.Addr) (*household, error) {
	iface := s.table.Where(a)
	if iface == nil {
		return nil, fmt.Errorf("the address %s is in no subnet of the network", a)
	}
	h, err := s.homeAt(iface)
	if err != nil || h.addresses[a] {
		return h, err
	}
	h.addresses[a] = true
	return h, s.inside(h, func() error { return address(hostDevice, a) })
}

// homeAt returns the household at an interface.
func (s *stage) homeAt(iface *policy.Interface) (*household, error) {
	if h := s.homes[iface]; h != nil {
		return h, nil
	}
	if len(s.order) == maxHomes {
		return nil, fmt.Errorf("the traffic is between more than %d interfaces with hosts: prove a part of it", maxHomes)
	}
	ns, err := newNamespace()
	if err != nil {
		return nil, err
	}
	n := len(s.order) + 1
	h := &household{namespace: ns, iface: iface, number: n, mac: [6]byte{2, 0, 0, 0, byte(n >> 8), byte(n)}, raw: -1, addresses: make(map[netip.Addr]bool)}
	s.homes[iface] = h
	s.order = append(s.order, h)
	c := cable{here: fmt.Sprintf("wire%d", n), there: hostDevice, hereMAC: net.HardwareAddr{2, 0, 0, 1, byte(n >> 8), byte(n)}, thereMAC: h.mac[:], mtu: min(s.mtu(), iface.Longest()), thereIn: ns}
	if err := c.lay(); err != nil {
		return nil, err
	}
	if err := s.inside(h, func() error {
		if s.explicitCongestion() {
			if err := setting("net/ipv4/tcp_ecn", "1"); err != nil {
				s.notReal["the kernel's TCP does not take part in explicit congestion notification"] = true
			}
		}
		if err := home(hostDevice); err != nil {
			return err
		}
		_, err := WithoutOffloads(hostDevice)
		return err
	}); err != nil {
		return nil, err
	}
	if _, err := WithoutOffloads(c.here); err != nil {
		return nil, err
	}
	if h.wire, err = Open(c.here); err != nil {
		return nil, err
	}
	return h, s.watch(h.wire.fd, h, unix.EPOLLIN)
}

// mtu returns the longest packet of the rehearsal, or that of Ethernet where that is longer.
func (s *stage) mtu() int {
	most := 1500
	for i := range s.config.Rehearsal.Traffic {
		t := &s.config.Rehearsal.Traffic[i]
		if most = max(most, int(t.Packet)); t.Varied || t.Kind == policy.Replay {
			most = max(most, 9000)
		}
	}
	return min(most, 65535)
}

// explicitCongestion reports whether a TCP traffic says that it takes part in that.
func (s *stage) explicitCongestion() bool {
	return slices.ContainsFunc(s.config.Rehearsal.Traffic, func(t policy.Traffic) bool { return t.Kind.OverTCP() && t.ECN })
}

// socket returns the UDP socket of a host's port; of port 0, one with a port that the kernel chose.
func (s *stage) socket(at netip.AddrPort) (*udpSocket, error) {
	h, err := s.homeOf(at.Addr())
	if err != nil {
		return nil, err
	}
	k := udpKey{h, at}
	if u := s.udp[k]; u != nil {
		return u, nil
	}
	u := &udpSocket{v6: at.Addr().Is6()}
	err = s.inside(h, func() error {
		family := unix.AF_INET
		if u.v6 {
			family = unix.AF_INET6
		}
		fd, err := unix.Socket(family, unix.SOCK_DGRAM|unix.SOCK_NONBLOCK|unix.SOCK_CLOEXEC, 0)
		if err != nil {
			return err
		}
		u.fd = fd
		_ = unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_TIMESTAMPNS, 1)
		_ = unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_RCVBUFFORCE, 8<<20)
		_ = unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_SNDBUFFORCE, 1<<20)
		return unix.Bind(fd, socketAddress(at))
	})
	if err != nil {
		return nil, fmt.Errorf("no socket can be had at %s: %w", at, err)
	}
	s.udp[k] = u
	s.sockets++
	return u, s.watch(u.fd, u, unix.EPOLLIN)
}

// socketAddress returns an address for the kernel.
func socketAddress(a netip.AddrPort) unix.Sockaddr {
	if a.Addr().Is4() {
		return &unix.SockaddrInet4{Port: int(a.Port()), Addr: a.Addr().As4()}
	}
	return &unix.SockaddrInet6{Port: int(a.Port()), Addr: a.Addr().As16()}
}

// ready takes the datagrams that a host has received.
func (u *udpSocket) ready(s *stage, _ uint32) {
	for {
		n, m, _, _, err := unix.Recvmsg(u.fd, s.space(1<<16), s.oob[:], 0)
		if err != nil {
			if errors.Is(err, unix.EAGAIN) || errors.Is(err, unix.EINTR) {
				return
			}
			continue // what an earlier datagram met
		}
		now, wall := s.now(), time.Now().Round(0)
		at := now
		for h, data := range controls(s.oob[:m]) {
			if stamped(&h, data) {
				at = max(s.looked, now-max(0, wall.Sub(stampOf(data))))
			}
		}
		if token, ok := tokenOf(s.room[:n]); ok {
			s.live.Received(token, at)
		}
	}
}

// space returns so many bytes to be used until the next call.
func (s *stage) space(n int) []byte {
	if cap(s.room) < n {
		s.room = make([]byte, n)
	}
	s.room = s.room[:n]
	return s.room
}

// tokenOf returns the token at the end of a payload.
func tokenOf(payload []byte) (uint32, bool) {
	n := len(payload) - tokenBytes
	if n < 0 || [4]byte(payload[n:]) != tokenMark {
		return 0, false
	}
	return binary.BigEndian.Uint32(payload[n+4:]), true
}

// asDatagram reports whether a packet of a source can be sent through a socket: the rest goes as
// a frame, and arrives when it leaves the network.
func asDatagram(p *packet.Packet, whole bool) bool {
	return !whole && p.Flow.Protocol == packet.UDP && !p.Tagged && p.TransportLength() >= 8+tokenBytes
}

// Send sends a packet of a traffic from its host.
func (s *stage) Send(token uint32, from *policy.Interface, p *packet.Packet, whole bool) (time.Duration, bool) {
	if !asDatagram(p, whole) {
		return s.sendFrame(token, from, p)
	}
	to := netip.AddrPortFrom(p.Flow.To, cmp.Or(p.Flow.ToPort, simulate.Discard))
	u, err := s.socket(netip.AddrPortFrom(p.Flow.From, p.Flow.FromPort))
	if err == nil {
		_, err = s.socket(to) // who gets it
	}
	if err != nil {
		s.notReal[err.Error()] = true
		return s.now(), false
	}
	payload := s.space(p.TransportLength() - 8)
	clear(payload)
	copy(payload, p.Payload())
	end := payload[len(payload)-tokenBytes:]
	copy(end, tokenMark[:])
	binary.BigEndian.PutUint32(end[4:], token)
	now := s.now()
	if divides := !p.DontFragment(); divides != u.divides { // the kernel sets DF where it finds out what fits a path
		u.divides = divides
		how := unix.IP_PMTUDISC_WANT
		if divides {
			how = unix.IP_PMTUDISC_DONT
		}
		_ = unix.SetsockoptInt(u.fd, unix.IPPROTO_IP, unix.IP_MTU_DISCOVER, how)
	}
	_, err = unix.SendmsgN(u.fd, payload, classMessage(u.v6, p.TrafficClass()), socketAddress(to), unix.MSG_DONTWAIT)
	return now, err == nil
}

// sendFrame sends a packet as a frame from a host's interface.
func (s *stage) sendFrame(token uint32, from *policy.Interface, p *packet.Packet) (time.Duration, bool) {
	h, err := s.homeAt(from)
	if err == nil && h.raw < 0 {
		err = s.inside(h, func() error {
			i, err := net.InterfaceByName(hostDevice)
			if err != nil {
				return err
			}
			h.rawIndex = i.Index
			h.raw, err = unix.Socket(unix.AF_PACKET, unix.SOCK_RAW|unix.SOCK_NONBLOCK|unix.SOCK_CLOEXEC, 0)
			return err
		})
	}
	if err != nil {
		s.notReal[err.Error()] = true
		return s.now(), false
	}
	frame := s.space(max(p.WireLength(), packet.EthernetHeader))
	clear(frame[copy(frame, p.Bytes):])
	copy(frame, nobody[:])
	copy(frame[6:], tokenSender[:])
	binary.BigEndian.PutUint32(frame[8:], token)
	now := s.now()
	return now, unix.Sendto(h.raw, frame, unix.MSG_DONTWAIT, &unix.SockaddrLinklayer{Ifindex: h.rawIndex}) == nil
}

// Token returns what a packet was sent with.
func (s *stage) Token(p *packet.Packet) (uint32, bool) {
	if b := p.Bytes; [2]byte(b[6:]) == tokenSender {
		return binary.BigEndian.Uint32(b[8:]), true
	}
	if p.Flow.Protocol != packet.UDP {
		return 0, false
	}
	return tokenOf(p.Payload())
}

// Tell gives a host a frame that a node sent it.
func (s *stage) Tell(at *policy.Interface, frame []byte) {
	h, err := s.homeAt(at)
	if err != nil {
		s.notReal[err.Error()] = true
		return
	}
	copy(frame, h.mac[:])
	h.wire.Queue(frame)
}

// Deliver gives a packet to the hosts at an interface.
func (s *stage) Deliver(_ uint32, at *policy.Interface, p *packet.Packet) bool {
	h, err := s.homeAt(at)
	if err != nil {
		s.notReal[err.Error()] = true
		return false
	}
	frame := p.Bytes
	byFrame := [2]byte(frame[6:]) == tokenSender
	if n := 4 * len(p.Tags()); n > 0 && !byFrame { // the hosts' switch takes tags off
		frame = append(append(s.space(0), frame[:12]...), frame[12+n:]...)
	}
	if byFrame {
		copy(frame, nobody[:])
	} else {
		copy(frame, h.mac[:])
	}
	h.wire.Queue(frame)
	return !byFrame && p.Flow.Protocol == packet.UDP
}
