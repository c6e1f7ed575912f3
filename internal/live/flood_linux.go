package live

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"slices"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/handshake"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/traffic"
)

// alone is for how long a call is measured before a flood begins.
const alone = 2 * time.Second

// floodSteps is in how many parts of a flood's time what came of it is looked at.
const floodSteps = 50

// A flooding is a flood at work.
type flooding struct {
	config  FloodConfig
	to      *net.UDPAddr
	began   time.Time
	gone    atomic.Bool
	refused atomic.Bool

	lock    sync.Mutex
	sent    []count // at times since it began, in their order
	arrived []count
	last    handshake.Report
	told    bool
	conns   []*net.TCPConn
	resent  uint32
	segs    uint32
	slowest atomic.Int64 // nanoseconds of a datagram at the rate that arrives
}

// A count is how many bytes of IP, and packets, at a time in all.
type count struct {
	at             time.Duration
	bytes, packets uint64
}

// Flood floods a far end, and calls it meanwhile where that is asked for. It ends by itself when the
// far end is gone.
func Flood(ctx context.Context, c FloodConfig) (*FloodReport, error) {
	to, err := resolve(c.Address)
	if err != nil {
		return nil, err
	}
	f := &flooding{config: c, to: to}
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	var call *calls
	var calling sync.WaitGroup
	if c.Call != nil {
		if call, err = newCalls(ctx, *c.Call); err != nil {
			return nil, err
		}
		calling.Go(func() { call.run(ctx) })
		select {
		case <-ctx.Done():
		case <-time.After(alone):
		}
	}
	if c.TCP > 0 {
		err = f.overTCP(ctx)
	} else {
		err = f.overUDP(ctx)
	}
	if err != nil {
		stop()
		calling.Wait()
		return nil, err
	}
	if f.gone.Load() {
		stop()
	}
	calling.Wait()
	return f.result(call), nil
}

// headers is what of a datagram's packet is not payload.
func (f *flooding) headers() int {
	if f.to.IP.To4() == nil {
		return 48
	}
	return 28
}

// lastDatagrams are sent after a flood, so that its last report comes.
const lastDatagrams = 16

// overUDP sends datagrams at the rate of the flood.
func (f *flooding) overUDP(ctx context.Context) error {
	g, err := greet(ctx, f.to, f.config.Key)
	if err != nil {
		return err
	}
	conn, err := net.DialUDP("udp", nil, f.to)
	if err != nil {
		return fmt.Errorf("there is no way to %s: %w", f.to, errors.Unwrap(err))
	}
	d, err := newDatagrams(conn)
	if err != nil {
		conn.Close()
		return fmt.Errorf("the kernel does not report the markings of arriving packets: %w", err)
	}
	c := &f.config
	f.began = time.Now()
	var heard atomic.Int64
	var reading sync.WaitGroup
	reading.Go(func() { f.listen(d, &heard) })
	defer reading.Wait()
	defer conn.Close()
	message := classMessage(f.to.IP.To4() == nil, byte(c.DSCP)<<2)
	b := make([]byte, c.Packet-f.headers())
	var due, at time.Duration // of the next datagram: when it is due, and when it is sent, which is a little later
	random := rand.New(rand.NewPCG(rand.Uint64(), rand.Uint64()))
	var n count
	noted := time.Duration(-1)
	for ctx.Err() == nil && !f.gone.Load() {
		now := time.Since(f.began)
		if now >= c.Over || c.Count > 0 && n.packets >= uint64(c.Count) {
			break
		}
		if wait := at - now; wait > 2*time.Millisecond {
			time.Sleep(wait - time.Millisecond)
			continue
		} else if wait > 0 {
			continue // a processor that sleeps wakes up too late
		}
		if now-noted >= 5*time.Millisecond {
			noted, n.at = now, now
			f.lock.Lock()
			f.sent = append(f.sent, n)
			f.lock.Unlock()
		}
		(&handshake.Flood{Cookie: g.Cookie, Number: n.packets, Sent: time.Now()}).Put(b)
		if _, _, err := d.conn.WriteMsgUDP(b, message, nil); err == nil {
			n.packets++
			n.bytes += uint64(c.Packet)
		}
		rate := traffic.RampAt(c.From, c.To, c.Over, due)
		gap := time.Duration(float64(c.Packet) * 8 / float64(rate) * 1e9)
		due = max(due+gap, now-10*time.Millisecond)
		// Floods through one queue would lock together: each datagram is late by up to the time of one at the rate
		// that arrives.
		if at = due; c.Count > 0 { // a burst
			continue
		}
		at = due + time.Duration(random.Int64N(max(int64(gap), f.slowest.Load(), 1)))
		if now > goneAfter && now-time.Duration(heard.Load()) > goneAfter {
			f.gone.Store(true)
		}
	}
	n.at = min(time.Since(f.began), c.Over)
	f.lock.Lock()
	f.sent = append(f.sent, n)
	f.lock.Unlock()
	// The far end reports as it counts: a few more datagrams tell the rest.
	for range lastDatagrams / 4 {
		if ctx.Err() != nil || f.gone.Load() {
			break
		}
		time.Sleep(reportEvery + 20*time.Millisecond)
		for range 4 {
			(&handshake.Flood{Cookie: g.Cookie, Number: n.packets, Sent: time.Now()}).Put(b[:max(handshake.FloodLength, min(len(b), 64))])
			_, _, _ = d.conn.WriteMsgUDP(b[:max(handshake.FloodLength, min(len(b), 64))], message, nil)
		}
	}
	if f.refused.Load() {
		f.gone.Store(true)
	}
	return nil
}

// listen takes the far end's reports until the socket is closed.
func (f *flooding) listen(d *datagrams, heard *atomic.Int64) {
	b := make([]byte, 2048)
	for {
		n, _, err := d.read(b)
		switch {
		case errors.Is(err, net.ErrClosed):
			return
		case errors.Is(err, unix.ECONNREFUSED):
			f.refused.Store(true)
			f.gone.Store(true)
			return
		case err != nil:
			continue
		}
		r, err := handshake.ParseReport(b[:n])
		if err != nil {
			continue
		}
		heard.Store(int64(time.Since(f.began)))
		f.lock.Lock()
		if r.Packets >= f.last.Packets {
			f.last, f.told = r, true
			now := count{r.Since, r.Bytes + r.Packets*uint64(f.headers()), r.Packets}
			if n := len(f.arrived); n > 0 {
				if before := f.arrived[n-1]; now.packets > before.packets {
					f.slowest.Store(min(int64(now.at-before.at)/int64(now.packets-before.packets), int64(20*time.Millisecond)))
				}
			}
			f.arrived = append(f.arrived, now)
		}
		f.lock.Unlock()
	}
}

// overTCP sends by the kernel's TCP as fast as it can.
func (f *flooding) overTCP(ctx context.Context) error {
	c := &f.config
	tos := int(c.DSCP) << 2
	dialer := net.Dialer{Timeout: 5 * time.Second, Control: func(network, _ string, raw syscall.RawConn) (failed error) {
		err := raw.Control(func(fd uintptr) {
			if network == "tcp6" {
				failed = unix.SetsockoptInt(int(fd), unix.IPPROTO_IPV6, unix.IPV6_TCLASS, tos)
			} else {
				failed = unix.SetsockoptInt(int(fd), unix.IPPROTO_IP, unix.IP_TOS, tos)
			}
		})
		return errors.Join(err, failed)
	}}
	for range c.TCP {
		conn, err := dialer.DialContext(ctx, "tcp", f.to.String())
		if err != nil {
			f.hangUp()
			return fmt.Errorf("nothing answers connections at %s (%w): start `imbrel answer` there", f.to, errors.Unwrap(err))
		}
		f.conns = append(f.conns, conn.(*net.TCPConn))
		if _, err := greetOver(conn, c.Key); err != nil {
			f.hangUp()
			return notTaken(f.to.String(), err)
		}
	}
	f.began = time.Now()
	var writing sync.WaitGroup
	for _, conn := range f.conns {
		writing.Go(func() {
			_ = conn.SetWriteDeadline(f.began.Add(c.Over))
			for {
				if _, err := conn.Write(zeros[:]); err != nil {
					if !errors.Is(err, context.DeadlineExceeded) && time.Since(f.began) < c.Over && ctx.Err() == nil {
						f.gone.Store(true)
					}
					return
				}
			}
		})
	}
	for ctx.Err() == nil && !f.gone.Load() && time.Since(f.began) < c.Over {
		f.ask()
		time.Sleep(20 * time.Millisecond)
	}
	f.ask()
	f.hangUp()
	writing.Wait()
	return nil
}

// notTaken says why a far end does not take a connection.
func notTaken(to string, err error) error {
	if refusal := handshake.NotRefused; errors.As(err, &refusal) {
		return fmt.Errorf("the far end at %s refuses: %w", to, refusal)
	}
	return fmt.Errorf("%s takes the connection and does not answer it (%w): it may have no free place, so try again later", to, err)
}

// greetOver says hello over a connection, and returns the welcome.
func greetOver(conn net.Conn, key []byte) (g handshake.Greeting, err error) {
	_ = conn.SetDeadline(time.Now().Add(3 * time.Second))
	defer conn.SetDeadline(time.Time{})
	nonce := rand.Uint64()
	if _, err := conn.Write((&handshake.Greeting{Nonce: nonce}).Message(key)); err != nil {
		return g, err
	}
	b := make([]byte, handshake.GreetingLength)
	if _, err := io.ReadFull(conn, b); err != nil {
		return g, err
	}
	g, err = handshake.ParseGreeting(b, key)
	switch {
	case err == nil && g.Refused != handshake.NotRefused && g.Nonce == nonce:
		err = g.Refused
	case err == nil && (!g.Welcome || g.Nonce != nonce):
		err = handshake.ErrOther
	}
	return g, err
}

// ask asks the kernel how much has been acknowledged.
func (f *flooding) ask() {
	now := count{at: time.Since(f.began)}
	var resent, segments uint32
	for _, conn := range f.conns {
		raw, err := conn.SyscallConn()
		if err != nil {
			continue
		}
		_ = raw.Control(func(fd uintptr) {
			if i, err := unix.GetsockoptTCPInfo(int(fd), unix.IPPROTO_TCP, unix.TCP_INFO); err == nil {
				now.bytes += i.Bytes_acked
				resent += i.Total_retrans
				segments += i.Data_segs_out
			}
		})
	}
	f.lock.Lock()
	f.arrived = append(f.arrived, now)
	f.resent, f.segs = resent, segments
	f.lock.Unlock()
}

// hangUp gives the connections up.
func (f *flooding) hangUp() {
	for _, c := range f.conns {
		_ = c.SetLinger(0)
		c.Close()
	}
}

// between returns what was counted from one time until another.
func between(counts []count, from, to time.Duration) (bytes, packets float64) {
	at := func(t time.Duration) (bytes, packets float64) {
		i, found := slices.BinarySearchFunc(counts, t, func(c count, t time.Duration) int { return int(c.at - t) })
		switch {
		case len(counts) == 0 || i == 0 && !found && t <= 0:
			return 0, 0
		case i == len(counts):
			return float64(counts[i-1].bytes), float64(counts[i-1].packets)
		}
		before := count{}
		if i > 0 {
			before = counts[i-1]
		}
		part := 1.0
		if d := counts[i].at - before.at; d > 0 {
			part = float64(t-before.at) / float64(d)
		}
		return float64(before.bytes) + part*float64(counts[i].bytes-before.bytes), float64(before.packets) + part*float64(counts[i].packets-before.packets)
	}
	b0, p0 := at(from)
	b1, p1 := at(to)
	return b1 - b0, p1 - p0
}

// allArrives is how much of a step may be missing that counts as all: what is on its way at its ends.
const allArrives = 0.02

// result returns what came of the flood, and of the calls, which are over.
func (f *flooding) result(call *calls) *FloodReport {
	c := &f.config
	out := &FloodReport{Imbrel: 1, To: f.to.String(), DSCP: c.DSCP.Name(), Flows: c.TCP, Gone: f.gone.Load(), Resent: f.resent, Segments: f.segs}
	lasted := c.Over
	if n := len(f.sent); c.TCP == 0 {
		lasted = f.sent[n-1].at
		out.TooMany = f.last.Packets > f.sent[n-1].packets+lastDatagrams
		out.FromBps, out.ToBps, out.Packet, out.Sent, out.Arrived, out.Remarked = int64(c.From), int64(c.To), c.Packet, f.sent[n-1].packets, min(f.last.Packets, f.sent[n-1].packets), f.last.Remarked
		if f.told {
			out.ArrivesAs = codepoint.DSCP(f.last.DSCP).Name()
		}
	} else if n := len(f.arrived); n > 0 {
		lasted = min(lasted, f.arrived[n-1].at)
	}
	for i := range f.arrived { // what came after the end was sent before it
		f.arrived[i].at = min(f.arrived[i].at, lasted)
	}
	out.OverS = lasted.Round(time.Millisecond).Seconds()
	shift := time.Duration(0) // from the flood's time to the calls'
	if call != nil {
		out.Call = call.result()
		shift = f.began.Sub(call.began)
		if mos, ok := call.lowest(0, shift); ok {
			out.Before = mos
		}
	}
	step := c.Over / floodSteps
	var lossy, broken []bool
	for i := range floodSteps {
		from, to := time.Duration(i)*step, time.Duration(i+1)*step
		if from >= lasted || step == 0 {
			break
		}
		to = min(to, lasted)
		seconds := (to - from).Seconds()
		k := FloodStep{AtS: from.Seconds()}
		arrived, _ := between(f.arrived, from, to)
		k.ArrivedBps = int64(arrived * 8 / seconds)
		if c.TCP == 0 {
			sent, _ := between(f.sent, from, to)
			k.OfferedBps = int64(traffic.RampAt(c.From, c.To, c.Over, from+(to-from)/2))
			k.SentBps = int64(sent * 8 / seconds)
			if k.SentBps < k.OfferedBps*9/10 {
				out.Slow++
			}
			if sent > 0 {
				k.Loss = max(0, 1-arrived/sent)
			}
			lossy = append(lossy, k.Loss > allArrives)
		} else {
			k.SentBps = k.ArrivedBps
		}
		if to < lasted || i == 0 { // with the last came what had waited
			out.MaxBps = max(out.MaxBps, k.ArrivedBps)
		}
		if call != nil {
			if mos, ok := call.lowest(shift+from, shift+to); ok {
				k.MOS = mos
				if broken = append(broken, mos < c.MOS); mos < c.MOS {
					out.Broken++
				}
				if out.During == 0 || mos < out.During {
					out.During = mos
				}
			}
		}
		out.Steps = append(out.Steps, k)
	}
	if n := measure.Turn(lossy); len(lossy) > 0 && n > 0 {
		out.FullUntilBps = &out.Steps[n-1].SentBps
	}
	if n := measure.Turn(broken); n < len(broken) {
		out.Breaks = &FloodBreak{AtS: out.Steps[n].AtS, RateBps: out.Steps[n].SentBps}
		if n > 0 {
			out.Breaks.HoldsBps = &out.Steps[n-1].SentBps
		}
	}
	return out
}
