package live

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/handshake"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/stamp"
)

// clockError is the estimate of a clock that nothing is known of: not synchronised, within half a
// second (RFC 4656 §4.1.2: 2^-32 s · multiplier · 2^scale).
const clockError = 31<<8 | 1

// datagrams is a UDP socket that tells the traffic class and the hops of what comes.
type datagrams struct {
	conn *net.UDPConn
	oob  [256]byte
}

func newDatagrams(c *net.UDPConn) (*datagrams, error) {
	raw, err := c.SyscallConn()
	if err != nil {
		return nil, err
	}
	var failed error
	err = raw.Control(func(fd uintptr) {
		set := func(level, option, value int) {
			if e := unix.SetsockoptInt(int(fd), level, option, value); e != nil && failed == nil {
				failed = e
			}
		}
		if local, _ := c.LocalAddr().(*net.UDPAddr); local != nil && local.IP.To4() == nil {
			set(unix.IPPROTO_IPV6, unix.IPV6_RECVTCLASS, 1)
			set(unix.IPPROTO_IPV6, unix.IPV6_RECVHOPLIMIT, 1)
			set(unix.IPPROTO_IPV6, unix.IPV6_UNICAST_HOPS, 255) // RFC 8762 §4.2
		} else {
			set(unix.IPPROTO_IP, unix.IP_RECVTOS, 1)
			set(unix.IPPROTO_IP, unix.IP_RECVTTL, 1)
			set(unix.IPPROTO_IP, unix.IP_TTL, 255)
		}
		set(unix.SOL_SOCKET, unix.SO_TIMESTAMPNS, 1)
	})
	return &datagrams{conn: c}, errors.Join(err, failed)
}

// An arrival is a datagram that came: when, with which traffic class and how many hops left.
type arrival struct {
	from  netip.AddrPort
	at    time.Time
	class byte
	ttl   byte
}

// read waits for a datagram.
func (d *datagrams) read(b []byte) (n int, a arrival, err error) {
	n, m, _, from, err := d.conn.ReadMsgUDPAddrPort(b, d.oob[:])
	if err != nil {
		return 0, a, err
	}
	a = arrival{from: from, at: time.Now()}
	for h, data := range controls(d.oob[:m]) {
		switch {
		case h.Level == unix.IPPROTO_IP && h.Type == unix.IP_TOS && len(data) >= 1:
			a.class = data[0]
		case h.Level == unix.IPPROTO_IP && h.Type == unix.IP_TTL && len(data) >= 4, h.Level == unix.IPPROTO_IPV6 && h.Type == unix.IPV6_HOPLIMIT && len(data) >= 4:
			a.ttl = byte(binary.NativeEndian.Uint32(data))
		case h.Level == unix.IPPROTO_IPV6 && h.Type == unix.IPV6_TCLASS && len(data) >= 4:
			a.class = byte(binary.NativeEndian.Uint32(data))
		case stamped(&h, data):
			a.at = stampOf(data)
		}
	}
	return n, a, nil
}

// class returns the control message that sends a datagram with a traffic class.
func classMessage(v6 bool, class byte) []byte {
	level, kind := unix.IPPROTO_IP, unix.IP_TOS
	if v6 {
		level, kind = unix.IPPROTO_IPV6, unix.IPV6_TCLASS
	}
	b := make([]byte, unix.CmsgSpace(4))
	binary.NativeEndian.PutUint64(b, uint64(unix.CmsgLen(4)))
	binary.NativeEndian.PutUint32(b[8:], uint32(level))
	binary.NativeEndian.PutUint32(b[12:], uint32(kind))
	binary.NativeEndian.PutUint32(b[unix.CmsgLen(0):], uint32(class))
	return b
}

// Probe sends probes of each codepoint in turn and returns what came of them. It ends at once where
// nothing listens at the far end.
func Probe(ctx context.Context, c ProbeConfig) (*ProbeReport, error) {
	address, err := net.ResolveUDPAddr("udp", c.Address)
	if err != nil {
		return nil, fmt.Errorf("%s is not an address to probe: write HOST or HOST:PORT", c.Address)
	}
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	report := &ProbeReport{Imbrel: 1, To: address.String()}
	ways := make([]*prober, len(c.DSCPs))
	var reading sync.WaitGroup
	for i, dscp := range c.DSCPs {
		conn, err := net.DialUDP("udp", nil, address)
		if err != nil {
			return nil, fmt.Errorf("there is no way to %s: %w", address, errors.Unwrap(err))
		}
		d, err := newDatagrams(conn)
		if err != nil {
			conn.Close()
			return nil, fmt.Errorf("the kernel does not report the markings of arriving packets: %w", err)
		}
		p := &prober{datagrams: d, dscp: dscp, session: uint16(i + 1), key: c.Key, seen: make(map[uint32]bool), message: classMessage(address.IP.To4() == nil, byte(dscp)<<2),
			out: Probed{DSCP: dscp.Name(), ArrivesAs: make(map[string]int), ReturnsAs: make(map[string]int)}}
		ways[i] = p
		reading.Go(func() { p.listen(stop) })
	}
	closeAll := func() {
		for _, p := range ways {
			if p != nil {
				p.conn.Close()
			}
		}
		reading.Wait()
	}
	ticker := time.NewTicker(c.Interval)
	defer ticker.Stop()
sending:
	for n := range c.Count {
		for _, p := range ways {
			p.send(uint32(n))
		}
		select {
		case <-ctx.Done():
			break sending
		case <-ticker.C:
		}
	}
	select {
	case <-ctx.Done():
	case <-time.After(c.Wait):
	}
	closeAll()
	if cause := context.Cause(ctx); errors.Is(cause, errNobody) {
		return nil, fmt.Errorf("nothing answers at %s: start `imbrel answer` there", address)
	}
	for _, p := range ways {
		report.Wrong += p.wrong
		report.Probes = append(report.Probes, p.result())
	}
	if !slices.ContainsFunc(report.Probes, func(p Probed) bool { return p.Returned > 0 }) && ctx.Err() == nil {
		_, err := greet(ctx, address, c.Key)
		refusal := handshake.NotRefused
		switch {
		case err == nil:
			report.Nothing = NothingLost
		case errors.As(err, &refusal):
			report.Nothing, report.Refusal = NothingRefused, refusal.Error()
		default:
			report.Nothing = NothingAnswered
		}
	}
	return report, nil
}

var errNobody = errors.New("nobody listens there")

// A prober probes one codepoint.
type prober struct {
	*datagrams
	dscp    codepoint.DSCP
	session uint16
	key     []byte
	message []byte
	out     Probed
	wrong   int
	seen    map[uint32]bool
	reached uint32
	tried   atomic.Int64 // probes

	trips, there, back measure.Distribution
}

// clockStep is by how much two readings of clocks may differ that are read one after the other.
const clockStep = time.Millisecond

func (p *prober) sent() int { return int(p.tried.Load()) }

func (p *prober) send(n uint32) {
	p.tried.Add(1)
	probe := stamp.Probe{Sequence: n, Time: time.Now(), Error: clockError, Session: p.session, Class: &stamp.Class{Wanted: p.dscp}}
	if _, _, err := p.conn.WriteMsgUDP(probe.Bytes(p.key), p.message, nil); err == nil {
		p.out.Sent++
	}
}

// listen takes the answers until the socket is closed.
func (p *prober) listen(stop context.CancelCauseFunc) {
	b := make([]byte, 2048)
	for {
		n, a, err := p.read(b)
		switch {
		case errors.Is(err, net.ErrClosed):
			return
		case errors.Is(err, unix.ECONNREFUSED):
			stop(errNobody)
			return
		case err != nil:
			continue
		}
		r, err := stamp.ParseAnswer(b[:n], p.key)
		trip, held := a.at.Sub(r.Probe.Time), r.Time.Sub(r.Received)
		if err != nil || r.Session != p.session || p.seen[r.Probe.Sequence] || int(r.Probe.Sequence) >= p.sent() || held < 0 || held > trip+clockStep {
			p.wrong++
			continue
		}
		p.seen[r.Probe.Sequence] = true
		p.out.Returned++
		p.reached = max(p.reached, r.Sequence+1)
		p.out.Hops = int(r.TTL)
		p.out.ReturnsAs[codepoint.DSCP(a.class>>2).Name()]++
		if r.Class != nil && !r.Class.Unknown {
			p.out.ArrivesAs[r.Class.Received.Name()]++
			if r.Class.Refused {
				p.out.Refused++
			}
		}
		p.trips.Add(max(0, trip-held))
		p.there.Add(max(0, r.Received.Sub(r.Probe.Time)))
		p.back.Add(max(0, a.at.Sub(r.Time)))
	}
}

func (p *prober) result() Probed {
	out := p.out
	out.TooMany = int(p.reached) > out.Sent
	out.Arrived = min(int(p.reached), out.Sent)
	out.Arrived = max(out.Arrived, out.Returned)
	out.RoundTrip, out.There, out.Back = p.trips.Summary(), p.there.Summary(), p.back.Summary()
	return out
}
