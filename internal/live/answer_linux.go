package live

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"sync"
	"time"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/handshake"
	"imbrel.example/imbrel/core/rtp"
	"imbrel.example/imbrel/core/stamp"
)

// What an answering end remembers is bounded.
const (
	maxSessions  = 4096 // of probes, of calls, and of floods each
	ofAnAddress  = 512
	ofANetwork   = 1024
	maxProbe     = 1500
	maxFloods    = 256 // connections, of all peers together
	floodsOfOne  = 64
	floodsNearby = 128
	reportEvery  = 100 * time.Millisecond
	maxRefusals  = 100 // a second
)

// An answerer is an answering end at work.
type answerer struct {
	config              AnswerConfig
	baker               *handshake.Baker
	media               uint16
	lock                sync.Mutex // of what follows
	probes              *handshake.Places[sessionKey, session]
	calls               *handshake.Places[callKey, callSession]
	floods              *handshake.Places[netip.AddrPort, floodSession]
	open                *handshake.Places[netip.AddrPort, connection]
	refusals, refusedIn int64 // how many, in which second
	trains              map[netip.Addr]*trainBox

	measuring *datagrams // the socket that trains leave by
}

// A sessionKey is a sender of probes and its session.
type sessionKey struct {
	from    netip.AddrPort
	session uint16
}

type session struct{ count uint32 }

// A connection is one of a flood. Who loses his place is closed.
type connection struct{ net.Conn }

// Forgotten closes it.
func (c *connection) Forgotten() {
	if c.Conn != nil {
		c.Close()
	}
}

// A callKey is one who calls, and the source of one of the calls.
type callKey struct {
	from   netip.AddrPort
	source uint32
}

type callSession struct {
	received     rtp.Receiver
	count, bytes uint32
	last         uint32 // timestamp
}

type floodSession struct {
	handshake.Report
	first, told time.Time
	since       uint64 // bytes, since the last report
}

// Answer answers probes, calls and floods until the context ends. It sends no more than it is sent,
// and to nobody who has not asked from where it is sent to.
func Answer(ctx context.Context, c AnswerConfig) error {
	address, err := net.ResolveUDPAddr("udp", c.Address)
	if err != nil {
		return fmt.Errorf("%s is not an address to listen at: write HOST:PORT", c.Address)
	}
	conn, err := net.ListenUDP("udp", address)
	if err != nil {
		return fmt.Errorf("cannot listen at %s: %w", c.Address, errors.Unwrap(err))
	}
	defer conn.Close()
	media, reports, err := pairOfPorts(address.IP, c.Media)
	if err != nil {
		return err
	}
	defer media.Close()
	defer reports.Close()
	listener, err := net.Listen("tcp", conn.LocalAddr().String())
	if err != nil {
		return fmt.Errorf("cannot listen for connections at %s: %w", conn.LocalAddr(), errors.Unwrap(err))
	}
	defer listener.Close()
	var secret [32]byte
	if _, err := rand.Read(secret[:]); err != nil {
		return err
	}
	a := &answerer{config: c, baker: handshake.NewBaker(secret), media: uint16(media.LocalAddr().(*net.UDPAddr).Port),
		probes: handshake.NewPlaces[sessionKey, session](maxSessions, ofAnAddress, ofANetwork), calls: handshake.NewPlaces[callKey, callSession](maxSessions, ofAnAddress, ofANetwork),
		floods: handshake.NewPlaces[netip.AddrPort, floodSession](maxSessions, ofAnAddress, ofANetwork), open: handshake.NewPlaces[netip.AddrPort, connection](maxFloods, floodsOfOne, floodsNearby)}
	end := context.AfterFunc(ctx, func() {
		conn.Close()
		media.Close()
		reports.Close()
		listener.Close()
	})
	defer end()
	var loops [3]*datagrams
	for i, conn := range []*net.UDPConn{conn, media, reports} {
		if loops[i], err = newDatagrams(conn); err != nil {
			return fmt.Errorf("the kernel does not report the markings of arriving packets: %w", err)
		}
		_ = conn.SetReadBuffer(4 << 20) // as much of it as is allowed
	}
	var all sync.WaitGroup
	all.Go(func() { a.listen(ctx, loops[1], a.voice) })
	all.Go(func() { a.listen(ctx, loops[2], a.reported) })
	all.Go(func() { a.accept(ctx, listener) })
	a.measuring = loops[0]
	c.Notice(fmt.Sprintf("answers at %s, and calls at port %d", conn.LocalAddr(), a.media))
	a.listen(ctx, loops[0], a.asked)
	all.Wait()
	return nil
}

// pairOfPorts returns sockets at an even port and the one after it.
func pairOfPorts(ip net.IP, port int) (even, odd *net.UDPConn, err error) {
	for tries := 0; ; tries++ {
		if even, err = net.ListenUDP("udp", &net.UDPAddr{IP: ip, Port: port}); err != nil {
			return nil, nil, fmt.Errorf("cannot listen for calls at port %d: %w; give another with --media", port, errors.Unwrap(err))
		}
		at := even.LocalAddr().(*net.UDPAddr).Port
		if at%2 == 0 {
			if odd, err = net.ListenUDP("udp", &net.UDPAddr{IP: ip, Port: at + 1}); err == nil {
				return even, odd, nil
			}
		}
		even.Close()
		if port != 0 || tries == 100 {
			return nil, nil, fmt.Errorf("calls need an even port, and the one after it for their reports: %d and %d are not free; give another with --media", at, at+1)
		}
	}
}

// listen gives what comes at a socket to take, until the context ends.
func (a *answerer) listen(ctx context.Context, d *datagrams, take func(*datagrams, []byte, *arrival)) {
	b := make([]byte, 1<<16)
	for {
		n, at, err := d.read(b)
		if ctx.Err() != nil || errors.Is(err, net.ErrClosed) {
			return
		}
		if err == nil { // else of an earlier answer, such as to a port that is closed
			take(d, b[:n], &at)
		}
	}
}

// send sends an answer; one who is gone counts it as lost.
func (d *datagrams) send(b []byte, class byte, to netip.AddrPort) {
	_, _, _ = d.conn.WriteMsgUDPAddrPort(b, classMessage(to.Addr().Unmap().Is6(), class), to)
}

// asked answers hellos and probes, and counts floods.
func (a *answerer) asked(d *datagrams, b []byte, at *arrival) {
	peer := at.from.Addr().Unmap()
	if g, err := handshake.ParseGreeting(b, a.config.Key); (err == nil || err == handshake.ErrKey) && !g.Welcome && g.Refused == handshake.NotRefused {
		if err == nil {
			d.send(a.welcome(&g, peer, at.at), at.class&^3, at.from)
		} else if a.mayRefuse(at.at) {
			d.send((&handshake.Greeting{Nonce: g.Nonce, Refused: handshake.WantsKey}).Message(nil), at.class&^3, at.from)
		}
		return
	}
	if f, err := handshake.ParseFlood(b); err == nil {
		if a.baker.Knows(f.Cookie, peer, at.at) {
			a.flooded(d, &f, len(b), at)
		}
		return
	}
	if a.measured(b, at) {
		return
	}
	p, err := stamp.ParseProbe(b, a.config.Key)
	if err != nil || len(b) > maxProbe {
		return
	}
	a.lock.Lock()
	s := a.probes.Get(sessionKey{at.from, p.Session}, peer, at.at)
	if p.Sequence == 0 {
		s.count = 0 // it begins again
	}
	answer := stamp.Answer{Sequence: s.count, Error: clockError, Session: p.Session, Received: at.at, TTL: at.ttl}
	s.count++
	a.lock.Unlock()
	back := at.class &^ 3
	if p.Class != nil {
		answer.Class = &stamp.Class{Wanted: p.Class.Wanted, Received: codepoint.DSCP(at.class >> 2), ECN: at.class & 3}
		back = byte(p.Class.Wanted) << 2
	}
	answer.Time = time.Now()
	d.send(answer.Reflect(b, a.config.Key), back, at.from)
}

// mayRefuse reports whether one more may be refused in words in this second.
func (a *answerer) mayRefuse(now time.Time) bool {
	if second := now.Unix(); second != a.refusedIn {
		a.refusedIn, a.refusals = second, 0
	}
	a.refusals++
	return a.refusals <= maxRefusals
}

// welcome returns the answer to a hello.
func (a *answerer) welcome(g *handshake.Greeting, peer netip.Addr, at time.Time) []byte {
	return (&handshake.Greeting{Welcome: true, Nonce: g.Nonce, Cookie: a.baker.Bake(peer, at), Media: a.media}).Message(a.config.Key)
}

// flooded counts a datagram of a flood, and reports now and then.
func (a *answerer) flooded(d *datagrams, f *handshake.Flood, length int, at *arrival) {
	a.lock.Lock()
	defer a.lock.Unlock()
	s := a.floods.Get(at.from, at.from.Addr().Unmap(), at.at)
	dscp := at.class >> 2
	if f.Number < s.Highest/2 || s.Packets == 0 { // it begins, or begins again
		*s = floodSession{first: at.at}
		s.DSCP = dscp
	}
	s.Packets++
	s.Bytes += uint64(length)
	s.since += uint64(length)
	s.Highest = max(s.Highest, f.Number)
	s.Remarked = s.Remarked || s.DSCP != dscp
	if s.Since = max(0, at.at.Sub(s.first)); s.since < 2*handshake.ReportLength || at.at.Sub(s.told) < reportEvery {
		return
	}
	s.told, s.since = at.at, 0
	d.send(s.Message(), at.class&^3, at.from)
}

// voice sends a packet of a call back, with the times that it came and left.
func (a *answerer) voice(d *datagrams, b []byte, at *arrival) {
	h, payload, err := rtp.Parse(b)
	if err != nil || len(b) > maxProbe {
		return
	}
	v, err := handshake.ParseVoice(payload, false)
	if err != nil || !a.baker.Knows(v.Cookie, at.from.Addr().Unmap(), at.at) {
		return
	}
	a.lock.Lock()
	defer a.lock.Unlock()
	s := a.calls.Get(callKey{at.from, h.Source}, at.from.Addr().Unmap(), at.at)
	s.received.Take(&h, ticksAt(at.at, ticksOf(h.Type)))
	back := rtp.Header{Type: h.Type, Sequence: uint16(s.count), Timestamp: h.Timestamp, Source: echoOf(h.Source)}
	s.count++
	s.bytes += uint32(len(payload))
	s.last = h.Timestamp
	back.Put(b)
	(&handshake.Voice{Cookie: v.Cookie, Came: at.at, Held: time.Since(at.at), As: at.class >> 2}).Put(payload)
	d.send(b, v.DSCP<<2, at.from)
}

// echoOf returns the source that the packets sent back have.
func echoOf(source uint32) uint32 { return ^source }

// ticksOf returns the ticks a second of a payload type's timestamps (RFC 3551 §6; those that are
// agreed upon are Opus here, RFC 7587 §4.1).
func ticksOf(kind uint8) int64 {
	if kind >= 96 {
		return 48_000
	}
	return 8_000
}

// ticksAt returns a time in ticks, which wrap.
func ticksAt(t time.Time, ticks int64) uint32 {
	return uint32(t.Unix()*ticks + int64(t.Nanosecond())*ticks/1e9)
}

// reported answers a report with one of its own, of the packets that came and went.
func (a *answerer) reported(d *datagrams, b []byte, at *arrival) {
	r, err := rtp.ParseReport(b)
	if err != nil {
		return
	}
	a.lock.Lock()
	defer a.lock.Unlock()
	k := callKey{netip.AddrPortFrom(at.from.Addr(), at.from.Port()-1), r.Source}
	s := a.calls.Peek(k)
	if s == nil {
		return // no call of theirs is known
	}
	s.received.Heard(&r, at.at)
	now := time.Now()
	out := (&rtp.Report{Source: echoOf(r.Source), Time: rtp.NTP(now), Timestamp: s.last, Packets: s.count, Octets: s.bytes, Block: s.received.Block(now), Name: "answer"}).Bytes()
	if len(out) <= len(b) {
		d.send(out, at.class&^3, at.from)
	}
}

// accept takes connections of floods: what comes is thrown away.
func (a *answerer) accept(ctx context.Context, l net.Listener) {
	var all sync.WaitGroup
	defer all.Wait()
	for {
		c, err := l.Accept()
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil {
			time.Sleep(10 * time.Millisecond)
			continue
		}
		peer, _ := netip.ParseAddrPort(c.RemoteAddr().String())
		peer = netip.AddrPortFrom(peer.Addr().Unmap(), peer.Port())
		a.lock.Lock()
		a.open.Get(peer, peer.Addr(), time.Now()).Conn = c
		a.lock.Unlock()
		all.Go(func() {
			end := context.AfterFunc(ctx, func() { c.Close() })
			a.drain(ctx, c, peer)
			end()
			c.Close()
			a.lock.Lock()
			if k := a.open.Peek(peer); k != nil && k.Conn == c {
				a.open.Forget(peer)
			}
			a.lock.Unlock()
		})
	}
}

// silentFor is for how long a connection may say nothing.
const silentFor = 10 * time.Second

// drain welcomes one who says hello over a connection, and does what its orders say, or throws away what comes after it.
func (a *answerer) drain(ctx context.Context, c net.Conn, from netip.AddrPort) {
	b := make([]byte, 1<<16)
	_ = c.SetDeadline(time.Now().Add(silentFor))
	if _, err := io.ReadFull(c, b[:handshake.GreetingLength]); err != nil {
		return
	}
	g, err := handshake.ParseGreeting(b[:handshake.GreetingLength], a.config.Key)
	if err == handshake.ErrKey && !g.Welcome {
		_, _ = c.Write((&handshake.Greeting{Nonce: g.Nonce, Refused: handshake.WantsKey}).Message(nil))
	}
	if err != nil || g.Welcome || g.Refused != handshake.NotRefused {
		return
	}
	a.useful(from)
	hello := a.welcome(&g, from.Addr(), time.Now())
	if _, err := c.Write(hello); err != nil {
		return
	}
	_ = c.SetDeadline(time.Now().Add(silentFor))
	if _, err := io.ReadFull(c, b[:handshake.OrderLength]); err != nil {
		return
	}
	if _, err := handshake.ParseOrder(b[:handshake.OrderLength]); err == nil {
		w, _ := handshake.ParseGreeting(hello, nil)
		a.orders(ctx, c, b[:handshake.OrderLength], from.Addr(), w.Cookie)
		return
	}
	told := time.Now()
	for err == nil {
		now := time.Now()
		_ = c.SetDeadline(now.Add(silentFor))
		if now.Sub(told) > time.Second {
			told = now
			a.useful(from)
		}
		_, err = c.Read(b)
	}
}

// useful notes that a connection is of use.
func (a *answerer) useful(from netip.AddrPort) {
	a.lock.Lock()
	defer a.lock.Unlock()
	if a.open.Peek(from) != nil {
		a.open.Get(from, from.Addr(), time.Now())
	}
}
