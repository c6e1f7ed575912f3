package live

import (
	"errors"
	"net/netip"
	"os"
	"time"

	"golang.org/x/sys/unix"

	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/recognise"
	"imbrel.example/imbrel/core/simulate"
	"imbrel.example/imbrel/core/tcp"
)

// A conn is an end of a connection of the kernel's TCP.
type conn struct {
	stage   *stage
	spec    *simulate.Connection
	flow    packet.Flow // of what it sends
	opens   bool
	tos     uint8
	home    *household
	peer    *conn
	fd      int // -1: not open, or over
	wanted  bool
	begun   bool
	over    bool
	opened  bool
	ended   bool
	closing bool
	closed  bool // for sending
	writing bool // it waits to write
	unsent  int64
	written int64
	hello   []byte // that it begins with; nil: zeros
	got     int64
	rtos    uint16
}

// A listener waits for connections at a host's port.
type listener struct {
	fd int
	at netip.AddrPort
}

// Connect returns the ends of a connection.
func (s *stage) Connect(c simulate.Connection) [2]simulate.OutsideTransport {
	forth := &conn{stage: s, spec: &c, flow: c.Flow, opens: c.FromOpens, tos: c.DSCP[0].ToS(), fd: -1}
	back := &conn{stage: s, spec: &c, flow: c.Flow.Reverse(), opens: !c.FromOpens, tos: c.DSCP[1].ToS(), fd: -1}
	if name := c.Traffic.ServerName; name != "" {
		forth.hello = recognise.Hello(name, min(c.Flow.FromPort, c.Flow.ToPort))
		back.hello = forth.hello
	}
	forth.peer, back.peer = back, forth
	t := c.Traffic
	for what, so := range map[string]bool{
		"the kernel's TCP begins with its own initial window": c.Config.InitialWindow != tcp.DefaultInitialWindow,
		"hosts' own VLAN tags are not put on TCP":             t.Tagged(),
	} {
		if so {
			s.notReal[what+" (`"+t.Name+"`)"] = true
		}
	}
	return [2]simulate.OutsideTransport{forth, back}
}

// Push lets an end send what it has to send, and open the connection first.
func (s *stage) Push(t simulate.Transport) {
	c := t.(*conn)
	if c.opens && c.wanted && !c.begun {
		c.begun = true
		if err := c.dial(); err != nil {
			s.notReal["a connection of `"+c.spec.Traffic.Name+"` cannot be opened: "+err.Error()] = true
			c.drop()
		}
	}
	c.push()
}

// The end as its application sees it.

func (c *conn) Open()           { c.wanted = true }
func (c *conn) Opened() bool    { return c.opened }
func (c *conn) Received() int64 { return c.got }
func (c *conn) Ended() bool     { return c.ended }
func (c *conn) Close()          { c.closing = true }
func (c *conn) Write(n int64)   { c.unsent += n }

// Unsent returns what the application has written and the kernel has not sent.
func (c *conn) Unsent() int64 {
	n := c.unsent
	if c.fd >= 0 {
		if queued, err := unix.IoctlGetInt(c.fd, unix.SIOCOUTQNSD); err == nil {
			n += int64(queued)
		}
	}
	return n
}

// Abort gives the connection up.
func (c *conn) Abort() {
	if c.fd >= 0 {
		_ = unix.SetsockoptLinger(c.fd, unix.SOL_SOCKET, unix.SO_LINGER, &unix.Linger{Onoff: 1})
	}
	c.drop()
}

// drop closes the socket.
func (c *conn) drop() {
	if c.fd >= 0 {
		delete(c.stage.byFD, int32(c.fd))
		unix.Close(c.fd)
		c.fd = -1
	}
	if !c.over {
		c.over = true
		if c.stage.conns[c.flow] == c {
			delete(c.stage.conns, c.flow)
		}
	}
}

// dial opens the connection: the other end's host listens, and this one calls.
func (c *conn) dial() error {
	s := c.stage
	there := netip.AddrPortFrom(c.flow.To, c.flow.ToPort)
	if err := s.listen(c.peer, there); err != nil {
		return err
	}
	h, err := s.homeOf(c.flow.From)
	if err != nil {
		return err
	}
	c.home = h
	s.conns[c.flow], s.conns[c.peer.flow] = c, c.peer
	err = s.inside(h, func() error {
		fd, err := c.newSocket()
		if err != nil {
			return err
		}
		c.fd = fd
		if err := unix.Bind(fd, socketAddress(netip.AddrPortFrom(c.flow.From, c.flow.FromPort))); err != nil {
			return err
		}
		if err := unix.Connect(fd, socketAddress(there)); err != nil && !errors.Is(err, unix.EINPROGRESS) {
			return err
		}
		return nil
	})
	if err != nil {
		return err
	}
	s.open = append(s.open, c)
	c.writing = true
	return s.watch(c.fd, c, unix.EPOLLIN|unix.EPOLLOUT)
}

// newSocket returns a socket set up as the traffic says.
func (c *conn) newSocket() (int, error) {
	family := unix.AF_INET
	if c.flow.From.Is6() {
		family = unix.AF_INET6
	}
	fd, err := unix.Socket(family, unix.SOCK_STREAM|unix.SOCK_NONBLOCK|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return -1, err
	}
	_ = unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_REUSEADDR, 1)
	if mss := c.spec.Config.MSS; mss > 0 {
		_ = unix.SetsockoptInt(fd, unix.IPPROTO_TCP, unix.TCP_MAXSEG, mss+tcp.Timestamps)
	}
	c.mark(fd)
	return fd, nil
}

// mark sets what each end has of its own.
func (c *conn) mark(fd int) {
	t := c.spec.Traffic
	if c.flow.From.Is6() {
		_ = unix.SetsockoptInt(fd, unix.IPPROTO_IPV6, unix.IPV6_TCLASS, int(c.tos))
	} else {
		_ = unix.SetsockoptInt(fd, unix.IPPROTO_IP, unix.IP_TOS, int(c.tos))
	}
	control := "cubic"
	if t.NewReno {
		control = "reno"
	}
	if unix.SetsockoptString(fd, unix.IPPROTO_TCP, unix.TCP_CONGESTION, control) != nil {
		c.stage.notReal["this kernel's TCP has no "+control+" (`"+t.Name+"`)"] = true
	}
	if t.Kind != policy.TCPFlows { // requests and answers are sent as they are written
		_ = unix.SetsockoptInt(fd, unix.IPPROTO_TCP, unix.TCP_NODELAY, 1)
	}
	if t.Paced { // the kernel paces where there is a most
		_ = unix.SetsockoptUint64(fd, unix.SOL_SOCKET, unix.SO_MAX_PACING_RATE, 1<<37)
	}
	if w := c.spec.Config.ReceiveWindow; w != tcp.DefaultWindow {
		_ = unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_RCVBUFFORCE, int(min(4*w, 1<<30)))
	}
	c.clamp(fd)
}

// clamp bounds the window that an end announces. The kernel forgets the bound whenever packets take
// more or less memory than it estimated, so the bound is set again after each read.
func (c *conn) clamp(fd int) {
	if w := c.spec.Config.ReceiveWindow; w != tcp.DefaultWindow {
		_ = unix.SetsockoptInt(fd, unix.IPPROTO_TCP, unix.TCP_WINDOW_CLAMP, int(min(w, 1<<30)))
	}
}

// listen makes sure that the host of an end listens.
func (s *stage) listen(c *conn, at netip.AddrPort) error {
	if s.listeners[at] != nil {
		return nil
	}
	h, err := s.homeOf(at.Addr())
	if err != nil {
		return err
	}
	l := &listener{at: at}
	err = s.inside(h, func() error {
		if l.fd, err = c.newSocket(); err != nil {
			return err
		}
		if err := unix.Bind(l.fd, socketAddress(at)); err != nil {
			unix.Close(l.fd)
			return err
		}
		return unix.Listen(l.fd, 1024)
	})
	if err != nil {
		return err
	}
	s.listeners[at] = l
	return s.watch(l.fd, l, unix.EPOLLIN)
}

// ready accepts the connections that have come.
func (l *listener) ready(s *stage, _ uint32) {
	for {
		fd, from, err := unix.Accept4(l.fd, unix.SOCK_NONBLOCK|unix.SOCK_CLOEXEC)
		if err != nil {
			return
		}
		var a netip.AddrPort
		switch f := from.(type) {
		case *unix.SockaddrInet4:
			a = netip.AddrPortFrom(netip.AddrFrom4(f.Addr), uint16(f.Port))
		case *unix.SockaddrInet6:
			a = netip.AddrPortFrom(netip.AddrFrom16(f.Addr), uint16(f.Port))
		}
		c := s.conns[packet.Flow{From: l.at.Addr(), To: a.Addr(), Protocol: packet.TCP, FromPort: l.at.Port(), ToPort: a.Port()}]
		if c == nil || c.over || c.fd >= 0 {
			unix.Close(fd)
			continue
		}
		c.fd, c.opened = fd, true
		c.mark(fd)
		s.open = append(s.open, c)
		if s.watch(fd, c, unix.EPOLLIN) != nil {
			c.drop()
			continue
		}
		s.sockets++
		s.live.Progress(c, s.now())
	}
}

// ready reads what has come, and writes what there is room for.
func (c *conn) ready(s *stage, events uint32) {
	if events&unix.EPOLLOUT != 0 && !c.opened {
		if e, err := unix.GetsockoptInt(c.fd, unix.SOL_SOCKET, unix.SO_ERROR); err != nil || e != 0 {
			c.drop()
			return
		}
		c.opened = true
		s.sockets++
	}
	for c.fd >= 0 && events&(unix.EPOLLIN|unix.EPOLLHUP|unix.EPOLLERR) != 0 {
		n, _, err := unix.Recvfrom(c.fd, s.space(1<<16), unix.MSG_TRUNC) // counted, and not looked at
		switch {
		case errors.Is(err, unix.EINTR):
			continue
		case errors.Is(err, unix.EAGAIN):
		case err != nil:
			c.drop()
		case n == 0:
			c.ended = true
			c.arm() // it would be told again and again
		default:
			c.got += int64(n)
			if n == 1<<16 {
				continue
			}
		}
		break
	}
	s.live.Progress(c, s.now())
	c.push()
	if c.fd >= 0 && c.opened {
		c.clamp(c.fd)
		if c.spec.Config.EveryACK { // sends what is delayed; the kernel forgets this as well
			_ = unix.SetsockoptInt(c.fd, unix.IPPROTO_TCP, unix.TCP_QUICKACK, 1)
		}
	}
}

// push writes what there is to write.
func (c *conn) push() {
	if c.fd < 0 || !c.opened {
		return
	}
	blocked := false
	for c.unsent > 0 && !blocked {
		from := zeros[:]
		if c.opens && c.written < int64(len(c.hello)) {
			from = c.hello[c.written:]
		}
		n, err := unix.Write(c.fd, from[:min(c.unsent, int64(len(from)))])
		switch {
		case errors.Is(err, unix.EINTR):
		case errors.Is(err, unix.EAGAIN):
			blocked = true
		case err != nil:
			c.drop()
			return
		default:
			c.unsent -= int64(n)
			c.written += int64(n)
		}
	}
	if c.unsent == 0 && c.closing && !c.closed {
		c.closed = true
		_ = unix.Shutdown(c.fd, unix.SHUT_WR)
	}
	if c.closed && c.ended {
		c.drop()
		return
	}
	if c.writing != blocked {
		c.writing = blocked
		c.arm()
	}
}

// arm says what the end wants to be told.
func (c *conn) arm() {
	events := uint32(0)
	if !c.ended {
		events |= unix.EPOLLIN
	}
	if c.writing {
		events |= unix.EPOLLOUT
	}
	_ = unix.EpollCtl(c.stage.epoll, unix.EPOLL_CTL_MOD, c.fd, &unix.EpollEvent{Events: events, Fd: int32(c.fd)})
}

var zeros [1 << 16]byte

// poll asks the kernel what its TCP has measured.
func (s *stage) poll() {
	at := 0
	for _, c := range s.open {
		if c.fd < 0 {
			continue
		}
		s.open[at] = c
		at++
		info, err := unix.GetsockoptTCPInfo(c.fd, unix.IPPROTO_TCP, unix.TCP_INFO)
		if err != nil {
			continue
		}
		if info.Total_rto != c.rtos {
			s.live.TimedOut(c, int64(info.Total_rto-c.rtos))
			c.rtos = info.Total_rto
		}
		if info.Last_ack_recv <= 20 && info.Bytes_acked > 1 {
			s.live.RoundTrip(c, microseconds(info.Rtt))
		}
	}
	clear(s.open[at:])
	s.open = s.open[:at]
}

// setting sets a value of the network namespace that this thread is in.
func setting(name, value string) error {
	return os.WriteFile("/proc/sys/"+name, []byte(value), 0)
}

func microseconds(n uint32) time.Duration { return time.Duration(n) * time.Microsecond }
