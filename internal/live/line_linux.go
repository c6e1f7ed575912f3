package live

import (
	"bufio"
	"cmp"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"sync"
	"time"

	"imbrel.example/imbrel/core/handshake"
	"imbrel.example/imbrel/core/linetest"
)

// What a measurement may ask of a far end.
const (
	maxTrains     = 4 // at a time, of all peers together
	maxTrainRate  = 10_000_000_000
	maxTrainOver  = 10 * time.Second
	maxSamples    = 1 << 19 // of a train
	maxTrainSpeed = 60_000  // packets a second: faster, it is the machine that is measured
	shortestTrain = 64
	longestTrain  = 1500
)

// sendTrain sends a train to an address, evenly spaced, and returns how many packets it had.
func sendTrain(ctx context.Context, d *datagrams, to *netip.AddrPort, o *handshake.Order, cookie handshake.Cookie, headers int) (packets uint64, last time.Time) {
	b := make([]byte, max(int(o.Length)-headers, handshake.CarLength))
	gap := time.Duration(float64(8*int(o.Length)) / float64(o.Rate) * 1e9)
	began := time.Now()
	for due := time.Duration(0); due < o.Over && ctx.Err() == nil; due += gap {
		for {
			wait := due - time.Since(began)
			if wait <= 0 {
				break
			}
			if wait > 2*time.Millisecond {
				time.Sleep(wait - time.Millisecond)
			}
		}
		last = time.Now()
		(&handshake.Car{Train: o.Train, Cookie: cookie, Number: packets, Sent: last}).Put(b)
		var err error
		if to == nil {
			_, err = d.conn.Write(b)
		} else {
			_, err = d.conn.WriteToUDPAddrPort(b, *to)
		}
		if packets++; errors.Is(err, net.ErrClosed) {
			break
		}
	}
	return packets, last
}

// A trainBox is what came of a train.
type trainBox struct {
	number  uint16
	from    netip.AddrPort
	samples []linetest.Sample
}

func (t *trainBox) take(c *handshake.Car, at *arrival) {
	if len(t.samples) < maxSamples {
		t.samples = append(t.samples, linetest.Sample{Number: c.Number, Sent: time.Duration(c.Sent.UnixNano()), Came: time.Duration(at.at.UnixNano())})
	}
}

// measured takes the packets of a train, or of one who says from where it is measured.
func (a *answerer) measured(b []byte, at *arrival) bool {
	c, err := handshake.ParseCar(b)
	if err != nil {
		return false
	}
	peer := at.from.Addr().Unmap()
	if !a.baker.Knows(c.Cookie, peer, at.at) {
		return true
	}
	a.lock.Lock()
	defer a.lock.Unlock()
	if box := a.trains[peer]; box != nil {
		if box.from = at.from; c.Train == 0 {
			return true
		}
		if box.number != c.Train {
			box.number, box.samples = c.Train, box.samples[:0]
		}
		box.take(&c, at)
	}
	return true
}

// orders does what one who is connected asks for, one order after the other.
func (a *answerer) orders(ctx context.Context, c net.Conn, first []byte, peer netip.Addr, cookie handshake.Cookie) {
	if o, err := handshake.ParseOrder(first); err == nil && o.Kind == handshake.SendStream {
		streamOver(c, min(max(o.Over, 0), maxTrainOver))
		return
	}
	a.lock.Lock()
	if a.trains == nil {
		a.trains = make(map[netip.Addr]*trainBox)
	}
	room := len(a.trains) < maxTrains && a.trains[peer] == nil
	box := &trainBox{}
	if room {
		a.trains[peer] = box
	}
	a.lock.Unlock()
	if !room {
		return
	}
	defer func() {
		a.lock.Lock()
		delete(a.trains, peer)
		a.lock.Unlock()
	}()
	headers := 28
	if peer.Is6() {
		headers = 48
	}
	for b := first; ; {
		o, err := handshake.ParseOrder(b)
		if err != nil || o.Rate > maxTrainRate || o.Over > maxTrainOver || o.Over < 0 {
			return
		}
		_ = c.SetDeadline(time.Now().Add(o.Over + silentFor))
		switch o.Kind {
		case handshake.SendTrain:
			a.lock.Lock()
			to := box.from
			a.lock.Unlock()
			if !to.IsValid() || o.Rate < 1000 || o.Length < shortestTrain || o.Length > longestTrain || o.Rate/uint64(8*o.Length) > maxTrainSpeed {
				return
			}
			packets, last := sendTrain(ctx, a.measuring, &to, &o, cookie, headers)
			if _, err := c.Write(binary.BigEndian.AppendUint64(binary.BigEndian.AppendUint64(nil, packets), uint64(last.UnixNano()))); err != nil {
				return
			}
		case handshake.CollectTrain:
			a.lock.Lock()
			samples := box.samples
			if box.number != o.Train {
				samples = nil
			}
			a.lock.Unlock()
			w := bufio.NewWriter(c)
			_ = binary.Write(w, binary.BigEndian, uint64(len(samples)))
			for _, s := range samples {
				_ = binary.Write(w, binary.BigEndian, s)
			}
			if w.Flush() != nil {
				return
			}
		default:
			return
		}
		b = make([]byte, handshake.OrderLength)
		_ = c.SetDeadline(time.Now().Add(silentFor))
		if _, err := io.ReadFull(c, b); err != nil {
			return
		}
	}
}

// streamOver sends over a connection for a time, as fast as TCP can.
func streamOver(c net.Conn, over time.Duration) {
	_ = c.SetDeadline(time.Now().Add(over))
	for {
		if _, err := c.Write(zeros[:]); err != nil {
			return
		}
	}
}

// lineTest is a measurement at work.
type lineTest struct {
	config  LineConfig
	to      *net.UDPAddr
	control net.Conn
	d       *datagrams
	cookie  handshake.Cookie
	headers int
	number  uint16
	lock    sync.Mutex
	box     trainBox
}

// MeasureLine measures what the line to a far end carries, in both directions.
func MeasureLine(ctx context.Context, c LineConfig) (*linetest.Run, error) {
	to, err := resolve(c.Address)
	if err != nil {
		return nil, err
	}
	m := &lineTest{config: c, to: to, headers: 28}
	if to.IP.To4() == nil {
		m.headers = 48
	}
	dialer := net.Dialer{Timeout: 5 * time.Second}
	if m.control, err = dialer.DialContext(ctx, "tcp", to.String()); err != nil {
		return nil, fmt.Errorf("nothing answers connections at %s (%w): start `imbrel answer` there", to, errors.Unwrap(err))
	}
	defer m.control.Close()
	stop := context.AfterFunc(ctx, func() { m.control.Close() })
	defer stop()
	g, err := greetOver(m.control, c.Key)
	if err != nil {
		return nil, notTaken(to.String(), err)
	}
	m.cookie = g.Cookie
	conn, err := net.DialUDP("udp", nil, to)
	if err != nil {
		return nil, fmt.Errorf("there is no way to %s: %w", to, errors.Unwrap(err))
	}
	_ = conn.SetReadBuffer(8 << 20)
	if m.d, err = newDatagrams(conn); err != nil {
		conn.Close()
		return nil, fmt.Errorf("the kernel does not report the markings of arriving packets: %w", err)
	}
	var reading sync.WaitGroup
	reading.Go(m.listen)
	defer reading.Wait()
	defer conn.Close()
	run := &linetest.Run{At: time.Now().UTC().Truncate(time.Second)}
	trip, err := m.roundTrip(ctx)
	if err != nil {
		return nil, err
	}
	for _, way := range []struct {
		up  bool
		say string
		to  *linetest.Way
	}{{true, "out", &run.Up}, {false, "in", &run.Down}} {
		if *way.to, err = m.way(ctx, way.up, way.say); err != nil {
			return nil, err
		}
		way.to.DelayMs = 1000 * trip.Seconds() / 2
		way.to.LoadedMs = way.to.DelayMs + way.to.QueueMs
	}
	for _, up := range []bool{true, false} {
		rate, err := m.tcp(ctx, up)
		if err != nil {
			return nil, err
		}
		if up {
			run.Up.TCPBps = rate
		} else {
			run.Down.TCPBps = rate
		}
	}
	return run, nil
}

func (m *lineTest) listen() {
	b := make([]byte, 2048)
	for {
		n, at, err := m.d.read(b)
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil {
			continue
		}
		if c, err := handshake.ParseCar(b[:n]); err == nil && c.Cookie == m.cookie {
			m.lock.Lock()
			if c.Train == m.box.number {
				m.box.take(&c, &at)
			}
			m.lock.Unlock()
		}
	}
}

// order sends an order over the connection, the first with a sign of where trains go.
func (m *lineTest) order(o handshake.Order) error {
	b := make([]byte, handshake.CarLength)
	_ = m.control.SetDeadline(time.Now().Add(o.Over + silentFor))
	if _, err := m.control.Write(o.Bytes()); err != nil {
		return fmt.Errorf("the far end was gone: %w", err)
	}
	(&handshake.Car{Cookie: m.cookie, Sent: time.Now()}).Put(b)
	_, _ = m.d.conn.Write(b)
	return nil
}

// train sends a train, or has one sent, and returns what came of it.
func (m *lineTest) train(ctx context.Context, up bool, length int, rate int64, over time.Duration) (*linetest.Train, error) {
	m.number++
	rate = min(rate, int64(8*length*maxTrainSpeed))
	o := handshake.Order{Kind: handshake.SendTrain, Train: m.number, Length: uint16(length), Rate: uint64(rate), Over: over}
	t := &linetest.Train{Length: length, RateBps: rate}
	m.lock.Lock()
	m.box = trainBox{number: m.number}
	m.lock.Unlock()
	if up {
		var last time.Time
		t.Packets, last = sendTrain(ctx, m.d, nil, &o, m.cookie, m.headers)
		t.LastSent = time.Duration(last.UnixNano())
		sleep(ctx, settleAfter(over))
		o.Kind, o.Over = handshake.CollectTrain, 0
		if err := m.order(o); err != nil {
			return nil, err
		}
		r := bufio.NewReader(m.control)
		var n uint64
		if err := binary.Read(r, binary.BigEndian, &n); err != nil || n > maxSamples {
			return nil, fmt.Errorf("the far end was gone: %w", cmp.Or(err, handshake.ErrOther))
		}
		t.Arrived = make([]linetest.Sample, n)
		if err := binary.Read(r, binary.BigEndian, t.Arrived); err != nil {
			return nil, fmt.Errorf("the far end was gone: %w", err)
		}
		return t, nil
	}
	if err := m.order(o); err != nil {
		return nil, err
	}
	b := make([]byte, 16)
	if _, err := io.ReadFull(m.control, b); err != nil {
		return nil, fmt.Errorf("the far end was gone, or refuses to send: %w", err)
	}
	t.Packets, t.LastSent = binary.BigEndian.Uint64(b), time.Duration(binary.BigEndian.Uint64(b[8:]))
	sleep(ctx, settleAfter(over))
	m.lock.Lock()
	t.Arrived, m.box.samples = m.box.samples, nil
	m.lock.Unlock()
	return t, nil
}

// settleAfter is for how long a queue may still send what waits after a train; after a short one, which only finds how fast to send, a
// part of that does.
func settleAfter(train time.Duration) time.Duration {
	if train < time.Second {
		return 300 * time.Millisecond
	}
	return 1500 * time.Millisecond
}

func sleep(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// roundTrip returns the least round trip of the idle line, by the connection of the orders.
func (m *lineTest) roundTrip(ctx context.Context) (least time.Duration, err error) {
	if err := m.order(handshake.Order{Kind: handshake.CollectTrain, Train: 0xffff}); err != nil {
		return 0, err
	}
	b := make([]byte, 8)
	if _, err := io.ReadFull(m.control, b); err != nil {
		return 0, fmt.Errorf("%s does not measure lines, or measures too many at a time: %w", m.to, err)
	}
	for range 20 {
		began := time.Now()
		if err := m.order(handshake.Order{Kind: handshake.CollectTrain, Train: 0xffff}); err != nil {
			return 0, err
		}
		if _, err := io.ReadFull(m.control, b); err != nil {
			return 0, fmt.Errorf("the far end was gone: %w", err)
		}
		if trip := time.Since(began); least == 0 || trip < least {
			least = trip
		}
		sleep(ctx, 20*time.Millisecond)
	}
	return least, ctx.Err()
}

// The lengths of the packets of trains: two or more tell the framing.
var trainLengths = []int{1400, 500, 160}

// way measures one direction: by trains that are doubled until the line is full, and then by longer ones of several lengths.
func (m *lineTest) way(ctx context.Context, up bool, say string) (linetest.Way, error) {
	rate, found := int64(1_000_000), int64(0)
	for ; ; rate *= 2 {
		rate = min(rate, m.config.Most)
		t, err := m.train(ctx, up, trainLengths[0], rate, 500*time.Millisecond)
		if err != nil {
			return linetest.Way{}, err
		}
		b := linetest.Judge(t)
		m.config.Say(fmt.Sprintf("%s: sent %.4g Mbit/s, %.4g Mbit/s arrived", say, float64(rate)/1e6, float64(b.RateBps)/1e6))
		if b.Full && b.RateBps > 0 && b.RateBps < rate*92/100 {
			found = b.RateBps
			break
		}
		if rate >= m.config.Most {
			break
		}
	}
	if found == 0 { // it is never full
		t, err := m.train(ctx, up, trainLengths[0], rate, time.Second)
		if err != nil {
			return linetest.Way{}, err
		}
		return linetest.Of([]linetest.Train{*t}), nil
	}
	var trains []linetest.Train
	for i, length := range trainLengths {
		over := 4 * time.Second
		if i > 0 {
			over = 3 * time.Second
		}
		t, err := m.train(ctx, up, length, min(found*14/10, m.config.Most), over)
		b := linetest.Busy{}
		if err == nil {
			if b = linetest.Judge(t); b.Full && b.MeasuredS < over.Seconds()/3 { // a deep queue, or bucket, took most of it
				t, err = m.train(ctx, up, length, min(found*2, m.config.Most), maxTrainOver)
			}
		}
		if err != nil {
			return linetest.Way{}, err
		}
		b = linetest.Judge(t)
		m.config.Say(fmt.Sprintf("%s: packets of %d B: %.4g Mbit/s of IP arrived", say, length, float64(b.RateBps)/1e6))
		trains = append(trains, *t)
	}
	return linetest.Of(trains), nil
}

// tcpOver is for how long TCP sends.
const tcpOver = 3 * time.Second

// tcp measures what one connection of the kernel's TCP carries.
func (m *lineTest) tcp(ctx context.Context, up bool) (int64, error) {
	dialer := net.Dialer{Timeout: 5 * time.Second}
	conn, err := dialer.DialContext(ctx, "tcp", m.to.String())
	if err != nil {
		return 0, fmt.Errorf("nothing answers connections at %s (%w)", m.to, errors.Unwrap(err))
	}
	defer conn.Close()
	f := &flooding{to: m.to, conns: []*net.TCPConn{conn.(*net.TCPConn)}, began: time.Now()}
	if _, err := greetOver(conn, m.config.Key); err != nil {
		return 0, err
	}
	began := time.Now()
	if up {
		_ = conn.SetWriteDeadline(began.Add(tcpOver))
		for time.Since(began) < tcpOver && ctx.Err() == nil {
			if _, err := conn.Write(zeros[:]); err != nil {
				break
			}
		}
		f.ask()
		if n := len(f.arrived); n > 0 {
			return int64(float64(8*f.arrived[n-1].bytes) / time.Since(began).Seconds()), nil
		}
		return 0, nil
	}
	if _, err := conn.Write((&handshake.Order{Kind: handshake.SendStream, Over: tcpOver, Rate: 1}).Bytes()); err != nil {
		return 0, err
	}
	_ = conn.SetReadDeadline(began.Add(tcpOver))
	var got int64
	b := make([]byte, 1<<16)
	for {
		n, err := conn.Read(b)
		if got += int64(n); err != nil {
			break
		}
	}
	return int64(float64(8*got) / time.Since(began).Seconds()), nil
}
