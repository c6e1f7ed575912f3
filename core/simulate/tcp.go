package simulate

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"time"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/recognise"
	"imbrel.example/imbrel/core/tcp"
	"imbrel.example/imbrel/core/traffic"
	"imbrel.example/imbrel/core/unit"
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
	r.events.wake(at, w)
}

// expired removes the event that woke the timer.
func (t *timer) expired() { t.planned = t.planned[:len(t.planned)-1] }

// tcpTraffic is a traffic over TCP at work.
type tcpTraffic struct {
	*policy.Traffic
	index    int
	end      time.Duration
	flows    [2][]*measure.Flows // of the data forth and back: of the whole time first, then of each window; none where none flows
	from, to *port
	tag      *packet.Tag
	calls    bool // the end at `from` opens the connections
	port     int  // that the next one is opened from
	base     tcp.Config
	hello    []byte // that each connection's client begins with; nil: zeros
}

// An endpoint is one end of a connection at a host.
type endpoint struct {
	Transport
	model    *tcp.End // that Transport is; nil: it is one of the outside
	peer     *endpoint
	client   *client
	line     *exchange // that it is an end of
	traffic  *tcpTraffic
	source   *source
	flow     packet.Flow
	timer    timer
	paced    unit.Clock // of the host: what it sends comes one after the other
	got      int64
	timeouts int64
	opened   bool
	highest  uint32 // of the outside, the number after the last byte that it has sent
}

// data returns the direction of the data that an end receives: 0 forth, 1 back.
func (e *endpoint) data() int {
	if e.source.reverse {
		return 0
	}
	return 1
}

// gets reports whether what an end receives is the traffic's data.
func (e *endpoint) gets() bool { return len(e.traffic.flows[e.data()]) > 0 }

// A client is a flow for bytes, or one who exchanges requests and answers.
type client struct {
	*tcpTraffic
	numbered [2]int // its number among the flows forth and back
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
	begun    bool                // a transfer has
	booked   [2][]*measure.Flows // where the begun transfer was booked, forth and back, until it is complete
	sends    [2]int64            // of a conversation, the bytes forth and back
	over     [2]bool             // all of them have arrived
	number   int32               // of all clients
	ends     int32               // of connections, so far
}

// An exchange is a connection over which requests are answered.
type exchange struct {
	client, server *endpoint
	asked          int64 // bytes of requests
	answers        []int64
	awaited        int64 // bytes of answers
	busy           bool
}

// firstTCPEnd is the number of the first end of a connection among all sources.
const firstTCPEnd = 1 << 27

// endNumber returns the number of the client's next end of a connection: the same whatever other clients do. Those of one client are used anew after 512,
// and those of all clients after 262,144.
func (c *client) endNumber() int32 {
	c.ends++
	return firstTCPEnd | c.number&(1<<18-1)<<9 | (c.ends-1)&(1<<9-1)
}

// settle is within how much time the flows of a traffic begin, each at its own moment.
const settle = 100 * time.Millisecond

// overTCP makes the clients of a traffic.
func (r *run) overTCP(index int, t *policy.Traffic, end time.Duration) error {
	a, b, err := r.ends(t.From, t.To)
	if err != nil {
		return err
	}
	w := &tcpTraffic{Traffic: t, index: index, end: end, from: a, to: b, port: policy.FirstEphemeral}
	for _, way := range [][2]*port{{a, b}, {b, a}} {
		if _, err := r.network.route(way[0], way[1], packet.Flow{}); err != nil {
			return err
		}
	}
	if d, ok := tagged(nil, t, true).(*traffic.Dressed); ok {
		w.tag = d.Tag
	}
	w.calls = t.FromOpens()
	longest := min(int(t.Packet), int(a.longest), int(b.longest))
	w.base = tcp.Config{MSS: longest - headersOf(t.From), DSCP: t.DSCP, ECN: t.ECN, Paced: t.Paced, EveryACK: t.EveryACK, ReceiveWindow: int64(t.ReceiveWindow), InitialWindow: t.InitialWindow}
	if w.base.MSS < 1 {
		return fmt.Errorf("packets of %d bytes hold no data of TCP", longest)
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
	w.flows[w.way()] = r.flowsOf(index, t, t.Back(), t.Flows, end)
	if t.ServerName != "" {
		w.hello = recognise.Hello(t.ServerName, min(w.ToPort-1, w.FromPort-1)+1) // a port that is not given is 0
	}
	for n := range t.Flows {
		c := &client{tcpTraffic: w, numbered: [2]int{n, n}, random: traffic.Random(r.options.Seed, t.Name, n), number: int32(len(r.clients))}
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
		if !t.Back() && !w.calls {
			r.events.wake(c.starts, (*calling)(c))
		}
		r.wakeAt(&c.timer, c, c.starts)
		r.clients = append(r.clients, c)
		r.endsOutside(c)
	}
	return nil
}

// way returns the direction of the traffic's data, where there is one: 0 forth, 1 back.
func (w *tcpTraffic) way() int {
	if w.Back() {
		return 1
	}
	return 0
}

// connect makes the two ends of one more connection of a client.
func (c *client) connect(r *run) error {
	f := packet.Flow{From: c.From, To: c.To, Protocol: packet.TCP, FromPort: c.FromPort, ToPort: c.ToPort}
	if r.outside != nil && c.calls && f.ToPort == 0 {
		f.ToPort = Discard // real hosts listen at none of 0
	}
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
		if !r.calling[bothWays(f)] {
			break
		}
	}
	r.calling[bothWays(f)] = true
	c.join(r, f, [2]codepoint.DSCP{c.DSCP, c.DSCP})
	return nil
}

// join makes the two ends of a connection, whose packets have a DSCP forth and one back.
func (c *client) join(r *run, f packet.Flow, dscp [2]codepoint.DSCP) {
	var ends [2]*endpoint
	var outside [2]OutsideTransport
	if r.outside != nil {
		outside = r.outside.Connect(Connection{Flow: f, FromOpens: c.calls, DSCP: dscp, Traffic: c.Traffic, Config: c.base})
	}
	for way := range ends {
		config := c.base
		config.DSCP, config.Initial = dscp[way], c.random.Uint32()
		if known, ok := r.pathMTU[[2]netip.Addr{f.From, f.To}]; ok && way == 0 && known.until > r.now {
			config.MSS = min(config.MSS, known.bytes-headersOf(f.From))
		}
		if known, ok := r.pathMTU[[2]netip.Addr{f.To, f.From}]; ok && way == 1 && known.until > r.now {
			config.MSS = min(config.MSS, known.bytes-headersOf(f.From))
		}
		if len(c.flows[way]) > 0 {
			at := [...]*port{c.from, c.to}[way]
			config.RTT = func(v time.Duration) {
				at.run.note(c, c.collected(at.run, way == 1), roundTrip, 0, int64(v))
			}
		}
		e := &endpoint{client: c, traffic: c.tcpTraffic, flow: f}
		if r.outside == nil {
			e.model = tcp.NewEnd(config)
			e.Transport = e.model
		} else {
			e.Transport = outside[way]
		}
		e.source = &source{number: c.endNumber(), index: int32(c.index), reverse: way == 1, from: c.from, flow: c.measures[way], end: c.end, endpoint: e}
		to := c.to
		if way == 1 {
			e.flow, e.source.from, to = f.Reverse(), c.to, c.from
		}
		e.source.route = r.network.lastRoute(e.source.from, to, e.flow)
		ends[way] = e
		if r.outside != nil {
			r.endpoints[outside[way]], r.tcpSources[e.flow] = e, e.source
		}
	}
	ends[0].peer, ends[1].peer = ends[1], ends[0]
	line := &exchange{client: ends[0], server: ends[1]}
	ends[0].line, ends[1].line = line, line
	if c.calls {
		ends[0].Open()
	} else {
		ends[1].Open()
	}
	c.lines = append(c.lines, line)
}

// collected returns what is collected now of the data of a direction.
func (c *client) collected(r *run, reverse bool) []*measure.Flows {
	flows := c.flows[0]
	if reverse {
		flows = c.flows[1]
	}
	if len(flows) == 0 {
		return nil
	}
	if r.now >= c.end || r.now < r.plan.WarmUp {
		return nil
	}
	if len(r.open) == 0 {
		return flows[:1]
	}
	out := append(r.flowsOpen[:0], flows[0])
	for _, w := range r.open {
		out = append(out, flows[w])
	}
	r.flowsOpen = out
	return out
}

// wake begins what the client does next.
func (c *client) wake(r *run) {
	c.timer.expired()
	if r.now >= c.end {
		return
	}
	switch {
	case c.Kind == policy.Conversations:
		c.converse(r)
	case c.Back():
		c.ask(r)
	default:
		c.transfer(r)
	}
}

// transfer opens the flow, or writes the next bytes of one with a rate of its own.
func (c *client) transfer(r *run) {
	line := c.lines[0]
	writer := line.client
	first := !c.begun
	if c.begun = true; first {
		if c.Bytes > 0 {
			c.begins(r, false)
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
		bytes := max(int64(c.base.MSS), int64(c.AppRate.Bytes(time.Millisecond))) // a millisecond's at a time, where that is more
		if c.Bytes > 0 {
			bytes = min(bytes, int64(c.Bytes)-c.written)
		}
		if backlog := writer.Unsent(); backlog < 64*bytes { // an application waits when its buffer is full
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
	r.pump(line.client)
}

// A calling is a client whose server opens the connection.
type calling client

// wake opens the connection.
func (c *calling) wake(r *run) {
	if r.now < c.end {
		server := c.lines[0].server
		server.Write(int64(len(c.hello)))
		r.pump(server)
	}
}

// ask begins a page, or a request.
func (c *client) ask(r *run) {
	if c.Kind == policy.Pages || len(c.lines) == 0 {
		for _, l := range c.lines {
			delete(r.calling, bothWays(l.client.flow))
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
	c.begins(r, true)
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
	l.awaited += size
	r.asks(request{l, int64(c.Request), size})
	l.client.Write(int64(c.Request))
	r.pump(l.client)
}

// progress lets the applications see what arrived at an end.
func (c *client) progress(r *run, e *endpoint) {
	if !e.opened && e.Opened() {
		e.opened = true
		r.note(c, c.flows[e.data()], opened, c.numbered[e.data()], 0)
	}
	if n := e.Received() - e.got; n > 0 {
		e.got += n
		r.note(c, c.collected(r, e.data() == 1), arrived, c.numbered[e.data()], n)
		if r.series != nil && r.now < c.end {
			r.series.way(c.index, e.data() == 1, func(i int, w *waySeries) { w.goodput[i] += n })
		}
	}
	if c.Kind == policy.Conversations {
		c.conversed(r, e)
		return
	}
	if !c.Back() {
		c.transferred(r, e)
		return
	}
	l := e.line
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
	if !slices.Contains(c.lines, l) { // of a page before
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
	c.completed(r, 1)
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
	if !e.gets() || c.Bytes == 0 || !e.Ended() || c.thinking {
		return
	}
	c.thinking = true // it is complete
	e.Close()
	r.note(c, c.flows[0], ended, c.numbered[0], int64(r.now))
	c.completed(r, 0)
}

// begins books that a transfer, an exchange or a page begins, in the whole time and in the windows of now.
func (c *client) begins(r *run, reverse bool) {
	booked := &c.booked[0]
	if reverse {
		booked = &c.booked[1]
	}
	*booked = append((*booked)[:0], c.collected(r, reverse)...)
	r.note(c, *booked, begins, 0, 0)
}

// completed books that one is complete, where its beginning was booked.
func (c *client) completed(r *run, way int) {
	r.note(c, c.booked[way], completes, 0, int64(r.now-c.starts))
	c.booked[way] = c.booked[way][:0]
}

// unfinished books the transfers that are not complete at the end.
func (r *run) unfinished() {
	for _, c := range r.clients {
		for way := range c.booked {
			for _, f := range c.booked[way] {
				f.Unfinished(max(min(r.until(), c.end)-c.starts, 0))
			}
		}
	}
}

// wake lets an end send what has become due.
func (e *endpoint) wake(r *run) {
	e.timer.expired()
	if e.model.Due() <= r.now {
		r.pump(e)
		return
	}
	r.rearm(e)
}

// rearm sets the timer of an end to when it wants to be asked again.
func (r *run) rearm(e *endpoint) {
	if at := e.model.Due(); at < e.traffic.end {
		r.wakeAt(&e.timer, e, max(at, r.now))
	}
}

// pump sends what an end has to send. At the end of its traffic it is left as it is.
func (r *run) pump(e *endpoint) {
	if r.now >= e.traffic.end {
		return
	}
	if e.model == nil {
		r.outside.Push(e.Transport)
		return
	}
	for r.failed == nil {
		s, ok := e.model.Next(r.now)
		if !ok {
			break
		}
		if r.sentTCP++; r.sentTCP > maxPackets {
			r.failed = fmt.Errorf("%s: the rehearsal `%s` sends more than %d packets: let it last less long, or send less", r.plan.At, r.plan.Name, maxPackets)
			break
		}
		if s.Data > 0 {
			r.sentData(e, s.Again)
		}
		f := r.flight()
		e.model.Build(&f.Packet, f.room, e.flow, &s)
		if hello := e.traffic.hello; s.Seq <= uint64(len(hello)) && s.Data > 0 && e.source.reverse != e.client.calls {
			at := max(s.Seq, 1) - 1 // the first byte has the number 1
			f.Bytes = slices.Concat(f.Bytes, hello[at:min(at+uint64(s.Data), uint64(len(hello)))])
			f.Seal()
		}
		if e.traffic.MayFragment {
			f.MayFragment()
		}
		if e.traffic.tag != nil && !e.source.reverse {
			f.SetTags([]packet.Tag{*e.traffic.tag})
		}
		from := e.source.from.iface
		e.paced.NotBefore(r.now)
		e.paced.Advance(from.Framing.Size(f.Length, 0), from.Rate)
		r.segmentOf(e, f, e.paced.Ready())
		r.events.plan(happens(f.sent, emit, e.source.number, f))
	}
	if n := e.model.Timeouts - e.timeouts; n > 0 {
		e.timeouts += n
		r.timedOut(e, n)
	}
	r.rearm(e)
}

// sentData notes that an end sent a segment with data.
func (r *run) sentData(e *endpoint, again bool) {
	what := segment
	if again {
		what = segmentAgain
	}
	r.note(e.client, e.client.collected(r, e.source.reverse), what, 0, 0)
}

// timedOut notes timeouts of an end.
func (r *run) timedOut(e *endpoint, n int64) {
	r.note(e.client, e.client.collected(r, e.source.reverse), timeouts, 0, n)
}

// segmentOf makes a flight a segment that an end sent at a time.
func (r *run) segmentOf(e *endpoint, f *flight, sent time.Duration) {
	s := e.source
	f.source, f.flow, f.route = s, s.flow, s.route
	n := &e.client.numbers[0]
	if s.reverse {
		n = &e.client.numbers[1]
	}
	r.numbers(f, n, sent)
}

// segment returns the segment that a packet of a connection brings to its end.
func (f *flight) segment() (s tcp.Segment, to *endpoint) {
	p := &f.Packet
	if f.inside.Hides() {
		p = f.inside.Packet()
	}
	to = f.source.endpoint.peer
	s, ok := to.model.Parse(p)
	if !ok {
		return s, nil
	}
	return s, to
}

// receives gives an end a segment that arrived.
func (r *run) receives(e *endpoint, s *tcp.Segment) {
	e.model.Receive(r.now, s)
	e.client.progress(r, e)
	r.pump(e)
}
