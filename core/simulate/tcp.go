package simulate

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"time"

	"imbrel/core/measure"
	"imbrel/core/packet"
	"imbrel/core/policy"
	"imbrel/core/tcp"
	"imbrel/core/traffic"
	"imbrel/core/unit"
)

// A timer asks for something to be woken. It may be set anew at any time: an event that
// was planned for a later time stays planned, and one for an earlier time wakes for
// nothing. So it never has more events than it was set back times.
type timer struct{ planned []time.Duration } // the earliest last

// A waker is what a timer wakes.
type waker interface{ wake(r *run) }

// wakeAt sets a timer.
func (r *run) wakeAt(t *timer, w waker, at time.Duration) {
	if n := len(t.planned); n > 0 && t.planned[n-1] <= at {
		return
	}
	t.planned = append(t.planned, at)
	r.events.plan(event{at: at, kind: wake, waker: w})
}

// rang takes the event that woke it off.
func (t *timer) rang() { t.planned = t.planned[:len(t.planned)-1] }

// tcpTraffic is a traffic over TCP at work.
type tcpTraffic struct {
	*policy.Traffic
	index       int
	end         time.Duration
	flows       []*measure.Flows // of the whole time first, then of each window
	from, to    *port
	forth, back []hop
	tag         *packet.Tag
	calls       bool // the end at `from` opens the connections
	port        int  // that the next one is opened from
	base        tcp.Config
}

// An endpoint is one end of a connection at a host.
type endpoint struct {
	*tcp.End
	peer     *endpoint
	client   *client
	traffic  *tcpTraffic
	source   *source
	flow     packet.Flow
	timer    timer
	line     unit.Clock // of the host: what it sends comes one after the other
	gets     bool       // what it receives is the traffic's data
	got      int64
	timeouts int64
	opened   bool
}

// A client is a flow for bytes, or one who exchanges requests and answers.
type client struct {
	*tcpTraffic
	number   int
	random   *rand.Rand
	timer    timer
	measures [2]*measure.Flow // forth and back
	numbers  [2]int64         // of the next packet of each
	written  int64
	starts   time.Duration // of the flow, or of the page
	lines    []*exchange
	left     int // objects that are not asked for yet
	open     int // that are asked for
	pace     unit.Clock
	thinking bool
}

// An exchange is a connection over which requests are answered.
type exchange struct {
	client, server *endpoint
	asked          int64 // bytes of requests
	answers        []int64
	awaited        int64 // bytes of answers
	busy           bool
}

// settle is within how much time the flows of a traffic begin, each at its own moment.
const settle = 100 * time.Millisecond

// overTCP makes the clients of a traffic.
func (r *run) overTCP(index int, t *policy.Traffic, end time.Duration) error {
	a, b, forth, err := r.ends(t.From, t.To)
	if err != nil {
		return err
	}
	back, err := r.network.route(b, a)
	if err != nil {
		return err
	}
	w := &tcpTraffic{Traffic: t, index: index, end: end, from: a, to: b, forth: forth, back: back, port: policy.FirstEphemeral}
	if d, ok := dressed(nil, t, true).(*traffic.Dressed); ok {
		w.tag = d.Tag
	}
	w.calls = t.FromOpens()
	headers := packet.IPv4Header + tcp.Header
	if t.From.Is6() {
		headers = packet.IPv6Header + tcp.Header
	}
	w.base = tcp.Config{MSS: int(t.Packet) - headers, DSCP: t.DSCP, ECN: t.ECN, Paced: t.Paced, EveryACK: t.EveryACK, ReceiveWindow: int64(t.ReceiveWindow), InitialWindow: t.InitialWindow}
	if w.base.MSS < 1 {
		return fmt.Errorf("packets of %d bytes hold no data of TCP", t.Packet)
	}
	if t.NewReno {
		w.base.Control = tcp.NewReno
	}
	if w.base.ReceiveWindow == 0 {
		w.base.ReceiveWindow = tcp.DefaultWindow
	}
	if w.base.InitialWindow == 0 {
		w.base.InitialWindow = tcp.DefaultInitialWindow
	}
	for i, c := range r.collectors {
		from, until := r.counted(t.Starts), end
		if i > 0 {
			from, until = max(from, r.windows[i-1].From), min(until, r.windows[i-1].To)
		}
		f := c.Flows(index, t.Flows, from, max(until, from))
		f.Reverse = t.Back()
		w.flows = append(w.flows, f)
	}
	for n := range t.Flows {
		c := &client{tcpTraffic: w, number: n, random: traffic.Random(r.options.Seed, t.Name, n)}
		c.measures = [2]*measure.Flow{r.newFlow(t, end), r.newFlow(t, end)}
		spread := settle
		if t.Back() && t.Think > settle {
			spread = t.Think
		}
		c.starts = t.Starts + time.Duration(c.random.Int64N(int64(spread)))
		if !t.Back() {
			if err := c.connect(r); err != nil {
				return err
			}
		}
		r.wakeAt(&c.timer, c, c.starts)
	}
	return nil
}

// connect makes the two ends of one more connection of a client.
func (c *client) connect(r *run) error {
	f := packet.Flow{From: c.From, To: c.To, Protocol: packet.TCP, FromPort: c.FromPort, ToPort: c.ToPort}
	own := &f.FromPort
	if !c.calls {
		own = &f.ToPort
	}
	given := *own
	for tries := 0; ; tries++ {
		if given != 0 { // its own, then those after it
			if *own = given + uint16(tries); *own < given {
				tries = 1 << 17
			}
		} else {
			*own = uint16(c.port)
			if c.port++; c.port > 65535 {
				c.port = policy.FirstEphemeral
			}
		}
		if tries > 65536-policy.FirstEphemeral {
			return fmt.Errorf("%d flows between two addresses do not have a port each: divide them between more addresses", c.Flows)
		}
		if !r.calling[f] {
			break
		}
	}
	r.calling[f], r.calling[f.Reverse()] = true, true
	forth, back := c.base, c.base
	forth.Initial, back.Initial = c.random.Uint32(), c.random.Uint32()
	data := &forth
	if c.Back() {
		data = &back
	}
	data.RTT = func(v time.Duration) {
		for _, f := range c.collected(r) {
			f.RoundTrip(v)
		}
	}
	a := &endpoint{End: tcp.NewEnd(forth), client: c, traffic: c.tcpTraffic, flow: f, gets: c.Back()}
	b := &endpoint{End: tcp.NewEnd(back), client: c, traffic: c.tcpTraffic, flow: f.Reverse(), gets: !c.Back()}
	a.peer, b.peer = b, a
	a.source = &source{index: c.index, from: c.from, route: c.forth, flow: c.measures[0], end: c.end, endpoint: a}
	b.source = &source{index: c.index, reverse: true, from: c.to, route: c.back, flow: c.measures[1], end: c.end, endpoint: b}
	if c.calls {
		a.Open()
	} else {
		b.Open()
	}
	c.lines = append(c.lines, &exchange{client: a, server: b})
	return nil
}

// collected returns what is collected now.
func (c *client) collected(r *run) []*measure.Flows {
	if r.now >= c.end || r.now < r.plan.WarmUp {
		return nil
	}
	if len(r.open) == 0 {
		return c.flows[:1]
	}
	out := append(r.flowsOpen[:0], c.flows[0])
	for _, w := range r.open {
		out = append(out, c.flows[w])
	}
	r.flowsOpen = out
	return out
}

// wake begins what the client does next.
func (c *client) wake(r *run) {
	c.timer.rang()
	if r.now >= c.end {
		return
	}
	if !c.Back() {
		c.transfer(r)
		return
	}
	c.ask(r)
}

// transfer opens the flow, or writes the next bytes of one with a rate of its own.
func (c *client) transfer(r *run) {
	line := c.lines[0]
	writer := line.client
	if r.now == c.starts {
		for _, f := range c.collected(r) {
			if c.Bytes > 0 {
				f.Begun()
			}
		}
		if c.AppRate == 0 {
			left := int64(c.Bytes)
			if c.Bytes == 0 {
				left = 1 << 60
			}
			writer.Write(left)
			if c.Bytes > 0 {
				writer.Close()
			}
		}
	}
	if c.AppRate > 0 {
		bytes := int64(c.base.MSS)
		if c.Bytes > 0 {
			bytes = min(bytes, int64(c.Bytes)-c.written)
		}
		if backlog := writer.Unsent(); backlog < 64*int64(c.base.MSS) { // an application waits when its buffer is full
			writer.Write(bytes)
			c.written += bytes
		}
		c.pace.NotBefore(r.now)
		c.pace.Advance(int(bytes), c.AppRate)
		switch {
		case c.Bytes > 0 && c.written == int64(c.Bytes):
			writer.Close()
		case c.pace.Ready() < c.end:
			r.wakeAt(&c.timer, c, c.pace.Ready())
		}
	}
	if r.now == c.starts && !c.calls {
		r.pump(line.server)
	}
	r.pump(line.client)
}

// ask begins a page, or a request.
func (c *client) ask(r *run) {
	if c.Kind == policy.Pages || len(c.lines) == 0 {
		for _, l := range c.lines {
			delete(r.calling, l.client.flow)
			delete(r.calling, l.server.flow)
		}
		c.lines = c.lines[:0]
		for range min(c.Connections, c.Objects) {
			if err := c.connect(r); err != nil {
				r.failed = fmt.Errorf("%s: `%s`: %w", c.At, c.Name, err)
				return
			}
		}
	}
	c.starts, c.left, c.thinking = r.now, c.Objects, false
	for _, f := range c.collected(r) {
		f.Begun()
	}
	for _, l := range c.lines {
		c.request(r, l)
	}
}

// request asks for the next object over a connection.
func (c *client) request(r *run, l *exchange) {
	if c.left == 0 {
		return
	}
	size := int64(c.Bytes)
	if c.Kind == policy.Pages {
		size = traffic.HeavyTail(c.random, size)
	}
	c.left--
	c.open++
	l.busy = true
	l.asked += int64(c.Request)
	l.answers = append(l.answers, size)
	l.awaited += size
	l.client.Write(int64(c.Request))
	r.pump(l.client)
}

// progress lets the applications see what arrived at an end.
func (c *client) progress(r *run, e *endpoint) {
	if !e.opened && e.Opened() {
		e.opened = true
		if e.gets {
			for _, f := range c.flows {
				f.Opened(c.number)
			}
		}
	}
	if n := e.Received() - e.got; n > 0 {
		e.got += n
		if e.gets {
			for _, f := range c.collected(r) {
				f.Arrived(c.number, n)
			}
		}
	}
	if !c.Back() {
		c.transferred(r, e)
		return
	}
	i := slices.IndexFunc(c.lines, func(l *exchange) bool { return l.client == e || l.server == e })
	if i < 0 {
		if e.Ended() { // of a page before
			e.Close()
		}
		return
	}
	l := c.lines[i]
	if e == l.server {
		for len(l.answers) > 0 && e.Received() >= l.asked {
			e.Write(l.answers[0])
			l.answers = l.answers[:copy(l.answers, l.answers[1:])]
		}
		if e.Ended() {
			e.Close()
		}
		return
	}
	if !l.busy || e.Received() < l.awaited {
		return
	}
	l.busy = false
	if c.open--; c.left > 0 {
		c.request(r, l)
		return
	}
	if c.open > 0 || c.thinking {
		return
	}
	c.thinking = true
	c.completed(r)
	if c.Kind == policy.Pages {
		for _, l := range c.lines {
			l.client.Close()
			r.pump(l.client)
		}
	}
	if at := r.now + time.Duration(traffic.Exponential(c.random)*float64(c.Think)); at < c.end {
		r.wakeAt(&c.timer, c, at)
	}
}

// transferred sees to the end of a flow for bytes.
func (c *client) transferred(r *run, e *endpoint) {
	if !e.gets || c.Bytes == 0 || !e.Ended() || c.thinking {
		return
	}
	c.thinking = true // it is complete
	e.Close()
	for _, f := range c.flows {
		f.Ended(c.number, r.now)
	}
	c.completed(r)
}

// completed books that a transfer, an exchange or a page is complete, if its beginning was
// booked too.
func (c *client) completed(r *run) {
	if c.starts < r.plan.WarmUp {
		return
	}
	for _, f := range c.collected(r) {
		f.Completed(r.now - c.starts)
	}
}

// wake lets an end send what has become due.
func (e *endpoint) wake(r *run) {
	e.timer.rang()
	if e.Due() <= r.now {
		r.pump(e)
		return
	}
	r.rearm(e)
}

// rearm sets the timer of an end to when it wants to be asked again.
func (r *run) rearm(e *endpoint) {
	if at := e.Due(); at < e.traffic.end {
		r.wakeAt(&e.timer, e, max(at, r.now))
	}
}

// pump sends what an end has to send. At the end of its traffic it is left as it is.
func (r *run) pump(e *endpoint) {
	if r.now >= e.traffic.end {
		return
	}
	data := !e.gets
	for r.failed == nil {
		s, ok := e.Next(r.now)
		if !ok {
			break
		}
		if r.sentTCP++; r.sentTCP > maxPackets {
			r.failed = fmt.Errorf("%s: the rehearsal `%s` sends more than %d packets: let it last less long, or send less", r.plan.At, r.plan.Name, maxPackets)
			break
		}
		if data && s.Data > 0 {
			for _, f := range e.client.collected(r) {
				f.Sent(s.Again)
			}
		}
		f := r.flight()
		e.Build(&f.Packet, f.room, e.flow, &s)
		if e.traffic.tag != nil && !e.source.reverse {
			f.SetTags([]packet.Tag{*e.traffic.tag})
		}
		from := e.source.from.iface
		e.line.NotBefore(r.now)
		e.line.Advance(from.Framing.Size(f.Length, 0), from.Rate)
		f.source, f.sent, f.flow, f.route = e.source, e.line.Ready(), e.source.flow, e.source.route
		way := 0
		if e.source.reverse {
			way = 1
		}
		if f.number = e.client.numbers[way]; r.counts(f) {
			e.client.numbers[way]++
		}
		r.windowed(f)
		r.events.plan(event{at: f.sent, kind: emit, source: e.source, flight: f})
	}
	if n := e.Timeouts - e.timeouts; n > 0 {
		e.timeouts += n
		if data {
			for _, f := range e.client.collected(r) {
				f.TimedOut(n)
			}
		}
	}
	r.rearm(e)
}

// segment returns the segment that a packet brings to its end.
func (f *flight) segment() (s tcp.Segment, to *endpoint) {
	if f.source.endpoint == nil {
		return s, nil
	}
	p := &f.Packet
	if f.inside.Hides() {
		p = f.inside.Packet()
	}
	to = f.source.endpoint.peer
	s, ok := to.Parse(p)
	if !ok {
		return s, nil
	}
	return s, to
}

// receives gives an end a segment that arrived.
func (r *run) receives(e *endpoint, s *tcp.Segment) {
	e.Receive(r.now, s)
	e.client.progress(r, e)
	r.pump(e)
}
