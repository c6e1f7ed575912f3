package live

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/handshake"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/roundtrip"
	"imbrel.example/imbrel/core/rtp"
)

// greet asks the far end for its cookie. A far end that is not there, or does not know the key, is
// an error.
func greet(ctx context.Context, address *net.UDPAddr, key []byte) (handshake.Greeting, error) {
	var none handshake.Greeting
	conn, err := net.DialUDP("udp", nil, address)
	if err != nil {
		return none, fmt.Errorf("there is no way to %s: %w", address, errors.Unwrap(err))
	}
	defer conn.Close()
	nonce := rand.Uint64()
	b := make([]byte, 256)
	for range 4 {
		if ctx.Err() != nil {
			return none, ctx.Err()
		}
		if _, err := conn.Write((&handshake.Greeting{Nonce: nonce}).Message(key)); errors.Is(err, unix.ECONNREFUSED) {
			break
		}
		_ = conn.SetReadDeadline(time.Now().Add(300 * time.Millisecond))
		for {
			n, err := conn.Read(b)
			if errors.Is(err, unix.ECONNREFUSED) {
				return none, fmt.Errorf("nothing answers at %s: start `imbrel answer` there", address)
			}
			if err != nil {
				break
			}
			switch g, err := handshake.ParseGreeting(b[:n], key); {
			case g.Nonce != nonce:
			case err == nil && g.Welcome:
				return g, nil
			case err == nil && g.Refused != handshake.NotRefused:
				return none, fmt.Errorf("the far end at %s refuses: %w", address, g.Refused)
			case err == handshake.ErrKey:
				return none, fmt.Errorf("the far end at %s answers without this key: start `imbrel answer` there with the same --key-file", address)
			}
		}
	}
	return none, fmt.Errorf("nothing answers at %s: start `imbrel answer` there, and see whether the network lets UDP through to its port", address)
}

// resolve returns the address of a far end.
func resolve(address string) (*net.UDPAddr, error) {
	a, err := net.ResolveUDPAddr("udp", address)
	if err != nil {
		return nil, fmt.Errorf("%s is not an address of a far end: write HOST or HOST:PORT", address)
	}
	return a, nil
}

// The first sign that a far end is gone: nothing comes back for so long.
const goneAfter = 3 * time.Second

// calls are calls at work.
type calls struct {
	config  CallConfig
	to      *net.UDPAddr
	lines   []*line
	began   time.Time
	heard   atomic.Int64 // when something came back last, since began
	gone    atomic.Bool
	late    time.Duration // a packet left at most
	reading sync.WaitGroup
}

// A line is one call.
type line struct {
	calls         *calls
	media, report *datagrams
	kind          uint8
	source        uint32
	ticks         uint32 // a packet
	message       []byte // with the marking
	packet        []byte

	lock      sync.Mutex // of what the reader writes
	packets   []roundtrip.Packet
	numbers   uint16 // the last echo's
	reached   int64  // echoes, with those that did not come
	received  rtp.Receiver
	far       *FarReport
	farHas    int64 // packets, by its last report
	came      map[codepoint.DSCP]int64
	returned  map[codepoint.DSCP]int64
	wrong     int64
	lastStamp uint32
	bytes     uint32
}

// newCalls greets the far end and opens the sockets of the calls.
func newCalls(ctx context.Context, c CallConfig) (*calls, error) {
	to, err := resolve(c.Address)
	if err != nil {
		return nil, err
	}
	if c.Codec.Payload < handshake.VoiceLength {
		return nil, fmt.Errorf("a packet of this call carries %d bytes, and %d are needed for its times: give it a longer interval", c.Codec.Payload, handshake.VoiceLength)
	}
	g, err := greet(ctx, to, c.Key)
	if err != nil {
		return nil, err
	}
	k := &calls{config: c, to: to}
	media := &net.UDPAddr{IP: to.IP, Port: int(g.Media), Zone: to.Zone}
	port := 16384
	for n := range c.Calls {
		l := &line{calls: k, kind: c.Codec.PayloadType, source: rand.Uint32(), ticks: c.Codec.Ticks(), message: classMessage(to.IP.To4() == nil, byte(c.DSCP)<<2),
			came: make(map[codepoint.DSCP]int64), returned: make(map[codepoint.DSCP]int64)}
		if err := l.open(media, &port); err != nil {
			k.close()
			return nil, fmt.Errorf("call %d: %w", n+1, err)
		}
		l.packet = make([]byte, rtp.HeaderLength+c.Codec.Payload)
		(&handshake.Voice{Cookie: g.Cookie, DSCP: uint8(c.DSCP)}).Put(l.packet[rtp.HeaderLength:])
		k.lines = append(k.lines, l)
	}
	return k, nil
}

// open opens the sockets of a call, at an even port from one on and at the port after it.
func (l *line) open(media *net.UDPAddr, port *int) error {
	for ; *port < 32768; *port += 2 {
		conn, err := net.DialUDP("udp", &net.UDPAddr{Port: *port}, media)
		if errors.Is(err, unix.EADDRINUSE) {
			continue
		}
		if err != nil {
			return fmt.Errorf("there is no way to %s: %w", media, errors.Unwrap(err))
		}
		other, err := net.DialUDP("udp", &net.UDPAddr{Port: *port + 1}, &net.UDPAddr{IP: media.IP, Port: media.Port + 1, Zone: media.Zone})
		if err != nil {
			conn.Close()
			continue
		}
		*port += 2
		if l.media, err = newDatagrams(conn); err == nil {
			l.report, err = newDatagrams(other)
		}
		if err != nil {
			conn.Close()
			other.Close()
			return fmt.Errorf("the kernel does not report the markings of arriving packets: %w", err)
		}
		return nil
	}
	return fmt.Errorf("no two ports from 16384 to 32767 are free")
}

func (k *calls) close() {
	for _, l := range k.lines {
		l.media.conn.Close()
		l.report.conn.Close()
	}
	k.reading.Wait()
}

// run sends the calls' packets until the context ends or their time is over, and waits for the last
// that come back.
func (k *calls) run(ctx context.Context) {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	k.began = time.Now()
	for _, l := range k.lines {
		k.reading.Go(func() { l.listen(stop) })
		k.reading.Go(func() { l.hear() })
	}
	interval := k.config.Codec.Interval
	apart := interval / time.Duration(len(k.lines))
	var sent time.Duration
	for n := 0; ; n++ {
		round := time.Duration(n) * interval
		if round >= k.config.For || ctx.Err() != nil {
			break
		}
		for i, l := range k.lines {
			due := round + time.Duration(i)*apart
			if wait := due - time.Since(k.began); wait > 0 {
				time.Sleep(wait)
			}
			k.late = max(k.late, time.Since(k.began)-due)
			l.send(n)
		}
		if sent = time.Since(k.began); sent-time.Duration(k.heard.Load()) > goneAfter {
			k.gone.Store(true)
			break
		}
		if every := int(5 * time.Second / interval); n%every == min(every, int(time.Second/interval)) {
			k.reports()
		}
	}
	k.reports()
	for waited := time.Duration(0); waited < time.Second && !k.gone.Load() && ctx.Err() == nil; waited += 10 * time.Millisecond {
		if waited > 200*time.Millisecond && k.complete() {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	k.close()
}

// complete reports whether all that was sent has come back.
func (k *calls) complete() bool {
	for _, l := range k.lines {
		l.lock.Lock()
		n := len(l.packets)
		all := n == 0 || l.packets[n-1].Returned
		l.lock.Unlock()
		if !all {
			return false
		}
	}
	return true
}

// send sends the n-th packet of a call.
func (l *line) send(n int) {
	h := rtp.Header{Type: l.kind, Marker: n == 0, Sequence: uint16(n), Timestamp: uint32(n) * l.ticks, Source: l.source}
	h.Put(l.packet)
	now := time.Now()
	l.lock.Lock()
	for len(l.packets) <= n {
		l.packets = append(l.packets, roundtrip.Packet{Sent: now.Sub(l.calls.began)})
	}
	l.lastStamp = h.Timestamp
	l.bytes += uint32(len(l.packet) - rtp.HeaderLength)
	l.lock.Unlock()
	_, _, _ = l.media.conn.WriteMsgUDP(l.packet, l.message, nil) // what is not sent is lost, as it would be
}

// reports sends a report of each call.
func (k *calls) reports() {
	for _, l := range k.lines {
		now := time.Now()
		l.lock.Lock()
		r := rtp.Report{Source: l.source, Time: rtp.NTP(now), Timestamp: l.lastStamp, Packets: uint32(len(l.packets)), Octets: l.bytes, Block: l.received.Block(now), Name: "caller"}
		if r.Block == nil { // as long as what comes back
			r.Block = &rtp.Block{Source: echoOf(l.source)}
		}
		l.lock.Unlock()
		_, _, _ = l.report.conn.WriteMsgUDP(r.Bytes(), l.message, nil)
	}
}

// listen takes the packets that come back until the socket is closed.
func (l *line) listen(stop func()) {
	b := make([]byte, 2048)
	for {
		n, a, err := l.media.read(b)
		switch {
		case errors.Is(err, net.ErrClosed):
			return
		case errors.Is(err, unix.ECONNREFUSED):
			l.calls.gone.Store(true)
			stop()
			return
		case err != nil:
			continue
		}
		l.calls.heard.Store(int64(time.Since(l.calls.began)))
		l.lock.Lock()
		l.take(b[:n], &a)
		l.lock.Unlock()
	}
}

// take books a packet that came back.
func (l *line) take(b []byte, a *arrival) {
	h, payload, err := rtp.Parse(b)
	if err != nil || h.Source != echoOf(l.source) || h.Timestamp%l.ticks != 0 || int(h.Timestamp/l.ticks) >= len(l.packets) {
		l.wrong++
		return
	}
	v, err := handshake.ParseVoice(payload, true)
	p := &l.packets[h.Timestamp/l.ticks]
	if err != nil || p.Returned || v.Held < 0 || v.Held > a.at.Sub(l.calls.began)-p.Sent+clockStep || binary.BigEndian.Uint64(payload) != binary.BigEndian.Uint64(l.packet[rtp.HeaderLength:]) {
		l.wrong++
		return
	}
	l.received.Take(&h, ticksAt(a.at, ticksOf(h.Type)))
	step := int64(int16(h.Sequence - l.numbers))
	number := l.reached - 1 + step
	if l.reached == 0 {
		number = int64(h.Sequence)
	}
	if number < 0 {
		l.wrong++
		return
	}
	if number >= l.reached {
		l.reached, l.numbers = number+1, h.Sequence
	}
	p.Returned, p.Number = true, number
	p.Came = v.Came.Sub(l.calls.began)
	p.Left = p.Came + v.Held
	p.Back = a.at.Sub(l.calls.began)
	l.came[codepoint.DSCP(v.As)]++
	l.returned[codepoint.DSCP(a.class>>2)]++
}

// hear takes the far end's reports until the socket is closed.
func (l *line) hear() {
	b := make([]byte, 2048)
	for {
		n, a, err := l.report.read(b)
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil {
			continue
		}
		r, err := rtp.ParseReport(b[:n])
		if err != nil || r.Source != echoOf(l.source) {
			continue
		}
		l.lock.Lock()
		l.received.Heard(&r, a.at)
		if l.far == nil {
			l.far = &FarReport{}
		}
		l.far.Reports++
		l.farHas = int64(r.Packets)
		if k := r.Block; k != nil {
			l.far.Lost, l.far.JitterMs = k.Lost, float64(k.Jitter)*1000/float64(ticksOf(l.kind))
			if k.LastSR != 0 { // RFC 3550 §6.4.1
				trip := rtp.Middle(rtp.NTP(a.at)) - k.LastSR - k.Delay
				l.far.RoundTripMs = float64(int32(trip)) * 1000 / 65536
			}
		}
		l.lock.Unlock()
	}
}

// result returns what the calls met. The calls are over.
func (k *calls) result() *CallReport {
	c := &k.config
	out := &CallReport{Imbrel: 1, To: k.to.String(), Codec: c.Codec.Name, DSCP: c.DSCP.Name(), Agree: c.Agree, Gone: k.gone.Load(), SentLate: milliseconds(k.late), ArrivesAs: make(map[string]int64), ReturnsAs: make(map[string]int64)}
	for n, l := range k.lines {
		if m := len(l.packets); m > 0 {
			out.DurationS = max(out.DurationS, (l.packets[m-1].Sent + c.Codec.Interval).Round(time.Millisecond).Seconds())
		}
		out.Calls = append(out.Calls, Called{Call: n + 1, Ways: roundtrip.Judge(c.Codec, c.Playout, l.packets, roundtrip.Offset(l.packets, c.Agree), l.farHas), Far: l.far})
		out.Wrong += l.wrong
		out.TooMany = out.TooMany || max(l.reached, l.farHas) > int64(len(l.packets))
		for d, count := range l.came {
			out.ArrivesAs[d.Name()] += count
		}
		for d, count := range l.returned {
			out.ReturnsAs[d.Name()] += count
		}
	}
	var packets [][]roundtrip.Packet
	var offsets []time.Duration
	for _, l := range k.lines {
		packets, offsets = append(packets, l.packets), append(offsets, roundtrip.Offset(l.packets, c.Agree))
	}
	lasted := time.Duration(out.DurationS * float64(time.Second))
	every := max(measure.RoundStep(lasted, callSteps), c.Codec.Interval)
	there, back := roundtrip.Over(packets, offsets, every, int((lasted+every-1)/every))
	out.EveryS, out.OverTime = every.Seconds(), []measure.SeriesTraffic{there, back}
	return out
}

// callSteps is in how many intervals a report says what the calls met, about.
const callSteps = 60

// lowest returns the lowest MOS of the packets that were sent from one time until another, of all
// calls and ways; false: none were.
func (k *calls) lowest(from, to time.Duration) (mos float64, any bool) {
	mos = 5
	for _, l := range k.lines {
		offset := roundtrip.Offset(l.packets, k.config.Agree)
		first := 0
		for first < len(l.packets) && l.packets[first].Sent < from {
			first++
		}
		last := first
		for last < len(l.packets) && l.packets[last].Sent < to {
			last++
		}
		if last == first {
			continue
		}
		j := roundtrip.Part(k.config.Codec, k.config.Playout, l.packets, first, last, offset)
		mos, any = min(mos, *j.There.MOS), true
		if j.Back.MOS != nil {
			mos = min(mos, *j.Back.MOS)
		}
	}
	return mos, any
}

// Call calls a far end and returns what the calls met. It ends by itself when the far end is gone.
func Call(ctx context.Context, c CallConfig) (*CallReport, error) {
	k, err := newCalls(ctx, c)
	if err != nil {
		return nil, err
	}
	k.run(ctx)
	out := k.result()
	if out.Gone && len(out.ArrivesAs) == 0 {
		return nil, fmt.Errorf("nothing of the calls comes back from %s: are its ports for calls open?", k.to)
	}
	return out, nil
}
