package simulate

import (
	"encoding/binary"
	"slices"
	"time"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/tcp"
)

// An Outside is the world around a network under the real clock: the hosts that packets come
// from and go to. Its methods are called from within those of Live.
type Outside interface {
	// Send sends a packet of a traffic from its host into the network, and returns when: it comes
	// back with Take, and Token tells which it was. Whole says that p.Bytes is all of it, and not
	// only its headers. An ok of false says that it could not be sent.
	Send(token uint32, from *policy.Interface, p *packet.Packet, whole bool) (at time.Duration, ok bool)
	// Token returns what a packet that came was sent with; false: it was sent by somebody else.
	Token(p *packet.Packet) (uint32, bool)
	// Deliver gives a packet to the hosts at an interface. It returns whether its host will say
	// that it has it, with Received; where it does not, the packet arrives when it leaves. Token
	// is 0 for a packet of TCP.
	Deliver(token uint32, at *policy.Interface, p *packet.Packet) bool
	// Connect returns the ends of a connection, which is opened once its opener is pushed: that
	// of Flow.From first.
	Connect(c Connection) [2]OutsideTransport
	// Tell gives a host at an interface a frame that a node sent it: the word that a packet was too large.
	Tell(at *policy.Interface, frame []byte)
	// Push lets an end send what it has to send.
	Push(t Transport)
}

// A Transport is one end of a TCP connection as its application sees it: of the model, or of the
// outside.
type Transport interface {
	Open()             // it opens the connection once it may send
	Write(bytes int64) // gives it so many bytes to send
	Unsent() int64     // of those
	Close()            // after what was written
	Opened() bool      // the connection is
	Received() int64   // bytes, in order
	Ended() bool       // the other end has closed, and all it wrote has come
}

// An OutsideTransport is a Transport that can be given up.
type OutsideTransport interface {
	Transport
	Abort() // at once, whatever there is to send
}

// A Connection is what the outside is to know of one.
type Connection struct {
	Flow      packet.Flow // from the traffic's `from` to its `to`
	FromOpens bool
	DSCP      [2]codepoint.DSCP // of the packets forth and back
	Traffic   *policy.Traffic
	Config    tcp.Config
}

// OutsideCounts are what happened beside the network.
type OutsideCounts struct {
	NotSent  uint64 `json:"not_sent"`  // packets that a host could not send
	NotTaken uint64 `json:"not_taken"` // that were sent and did not come to the network
	NotHad   uint64 `json:"not_had"`   // that left the network and did not come to their host
	Waiting  uint64 `json:"waiting"`   // that still waited in the network at the end
	Strays   uint64 `json:"strays"`    // packets that came and are of no traffic
}

// A Passage is how long a packet of one direction of a traffic was in the network at most, from when its first node had it until it was due
// at its host.
type Passage struct {
	Traffic   string  `json:"traffic"`
	Direction string  `json:"direction"`
	MaxMs     float64 `json:"max_ms"`
}

// A location is where a packet with a token is.
type location uint8

const (
	inside location = iota
	sentOutside
	handedOver
)

// A Live is a network under a real clock. Its packets come from an Outside, and what happens to
// them happens as of when it is due, however late it is asked for.
type Live struct{ r *run }

// NewLive returns the network of a rehearsal under a real clock, which begins at 0.
func NewLive(f *policy.File, rehearsal *policy.Rehearsal, o Options, outside Outside) (*Live, error) {
	r, err := prepare(f, rehearsal, o, outside)
	if err != nil {
		return nil, err
	}
	return &Live{r}, nil
}

// Run does what is due until a time, and returns when the next is; false: nothing more is.
func (l *Live) Run(until time.Duration) (next time.Duration, more bool, err error) {
	r := l.r
	for r.failed == nil {
		at, ok := r.events.due()
		if !ok || at > until {
			return at, ok, nil
		}
		e, w, _ := r.events.next()
		r.timeIs(max(r.now, at))
		r.step(&e, w)
	}
	return 0, false, r.failed
}

// Take takes a frame that came to an interface from its hosts at a time. Its bytes may be used
// again after it.
func (l *Live) Take(at time.Duration, iface *policy.Interface, frame []byte) error {
	r := l.r
	if _, _, err := l.Run(at); err != nil {
		return err
	}
	r.timeIs(max(r.now, at))
	f := r.flight()
	f.room = append(f.room[:0], frame...)
	f.Packet = packet.Packet{Owner: f}
	stray := func() error {
		r.background.Strays++
		r.done(f)
		return r.failed
	}
	if f.Parse(f.room, len(f.room)) != nil || !f.IsIP() {
		return stray()
	}
	var parts []packet.Packet // of a datagram that its host divided
	if f.Fragment && f.Flow.Protocol == packet.UDP {
		if parts = r.gather(iface, f); parts == nil {
			return r.failed
		}
	}
	if token, ok := r.outside.Token(&f.Packet); ok {
		g := r.away[token]
		if g == nil || g.where != sentOutside || !g.sentAs(f.Flow) || g.source.from.iface != iface {
			return stray()
		}
		g.room, f.room = f.room, g.room
		g.Packet = f.Packet
		g.Owner, g.where = g, inside
		r.entered[token] = r.now
		r.done(f)
		f = g
	} else if s := r.tcpSources[f.Flow]; s == nil || s.from.iface != iface || r.now >= s.end || f.Flow.Protocol != packet.TCP || f.LaterFragment {
		return stray()
	} else {
		r.segmentSent(s, f)
	}
	r.watch(r.now, &f.Packet)
	r.predict(f)
	if parts == nil {
		r.enter(f.source.from, f)
		return r.failed
	}
	for _, g := range r.divided(f, parts, atHost) {
		r.predictPart(f, g)
		r.enter(f.source.from, g)
	}
	return r.failed
}

// A partKey is what the parts of a datagram have in common.
type partKey struct {
	at  *policy.Interface
	key packet.FragmentKey
}

// maxParts bounds the parts that wait for others.
const maxParts = 4096

// gather keeps a part of a datagram, and returns all of them once they are there: the flight is then the whole datagram. Otherwise it is used again.
func (r *run) gather(iface *policy.Interface, f *flight) []packet.Packet {
	if len(r.parts) > maxParts {
		clear(r.parts)
	}
	part := f.Packet
	part.Bytes = slices.Clone(f.Bytes)
	k := partKey{iface, f.FragmentKey()}
	all := append(r.parts[k], part)
	frame, ok := packet.Reassemble(all)
	if !ok {
		r.parts[k] = all
		r.done(f)
		return nil
	}
	delete(r.parts, k)
	f.room = append(f.room[:0], frame...)
	f.Packet = packet.Packet{Owner: f}
	_ = f.Parse(f.room, len(f.room)) // what was read in parts
	return all
}

// Discard is the port that real hosts send to where a traffic says nothing of it (RFC 863).
const Discard = 9

// sentAs reports whether a packet may be of a flow: where a traffic says nothing of a port, its
// hosts choose one.
func (f *flight) sentAs(flow packet.Flow) bool {
	if f.Flow.FromPort == 0 {
		flow.FromPort = 0
	}
	if f.Flow.ToPort == 0 {
		flow.ToPort = 0
	}
	return f.Flow == flow
}

// segmentSent makes a segment of the outside's TCP one of its traffic's packets.
func (r *run) segmentSent(s *source, f *flight) {
	e := s.endpoint
	r.segmentOf(e, f, r.now)
	if isTCP(&f.Packet) {
		h := f.Transport()
		seq := binary.BigEndian.Uint32(h[4:])
		data := f.TransportLength() - int(h[12]>>4)*4
		if h[13]&tcp.SYN != 0 {
			e.highest = seq + 1
		} else if data > 0 {
			end := seq + uint32(data)
			fresh := int32(end-e.highest) > 0
			if fresh {
				e.highest = end
			}
			r.sentData(e, !fresh)
		}
	}
}

// Received books that a host has a packet that Deliver gave it.
func (l *Live) Received(token uint32, at time.Duration) {
	if f := l.r.away[token]; f != nil && f.where == handedOver {
		l.r.deliver(f, at)
	}
}

// Progress lets an application see what an end of a connection has done until a time.
func (l *Live) Progress(t Transport, at time.Duration) {
	r := l.r
	e := r.endpoints[t]
	if e == nil {
		return
	}
	if _, _, err := l.Run(at); err != nil {
		return // who asks next is told
	}
	r.timeIs(max(r.now, at))
	e.client.progress(r, e)
	r.pump(e)
}

// RoundTrip books a round trip that an end of a connection has measured.
func (l *Live) RoundTrip(t Transport, rtt time.Duration) {
	if e := l.r.endpoints[t]; e != nil {
		l.r.note(e.client, e.client.collected(l.r, e.source.reverse), roundTrip, 0, int64(rtt))
	}
}

// TimedOut books timeouts of an end of a connection.
func (l *Live) TimedOut(t Transport, n int64) {
	if e := l.r.endpoints[t]; e != nil {
		l.r.timedOut(e, n)
	}
}

// Away returns how many packets are outside, or on their way there.
func (l *Live) Away() int { return len(l.r.away) }

// Result returns what was measured until a time: what is outside still is lost. It is called once,
// at the end.
func (l *Live) Result(now time.Duration) (*measure.Result, OutsideCounts) {
	r := l.r
	if now < r.plan.Lasts {
		r.stopped, r.lasts = true, max(now-r.plan.WarmUp, time.Millisecond)
	}
	for _, f := range r.away {
		switch {
		case r.stopped: // it might have come
		case f.where == inside:
			r.background.Waiting++
			r.lose(f)
		case f.where == sentOutside:
			r.background.NotTaken++
			r.lose(f)
		default:
			r.background.NotHad++
			r.lose(f)
		}
	}
	return r.result(), r.background
}

// outward sends a source's packet from its host, and plans the next.
func (r *run) outward(f *flight) {
	s := f.source
	r.tokens++
	f.token, f.where = r.tokens, sentOutside
	r.away[f.token] = f
	at, ok := r.outside.Send(f.token, s.from.iface, &f.Packet, s.replays != nil)
	if r.counts(f) || at < r.plan.WarmUp {
		f.sent = max(f.sent, at)
	}
	if !ok {
		r.predict(f)
		r.background.NotSent++
		r.lose(f)
	}
	r.emitNext(s)
}

// handOver gives a packet at the end of its way to its host.
func (r *run) handOver(p *port, f *flight) {
	if w := f.whole; w != nil { // the host puts the parts together
		g := w.flight
		r.passed(g)
		had := r.outside.Deliver(g.token, p.iface, &f.Packet)
		if !r.partEnds(f, false) {
			return
		}
		if g.where = handedOver; !had {
			r.deliver(g, r.now)
		}
		return
	}
	r.passed(f)
	if r.outside.Deliver(f.token, p.iface, &f.Packet) {
		f.where = handedOver
		return
	}
	r.deliver(f, r.now)
}

// passed notes how long a packet was in the network.
func (r *run) passed(f *flight) {
	from := f.sent // of a segment, when it came
	if f.token != 0 {
		from = r.entered[f.token]
	}
	if way := (passing{f.source.index, f.source.reverse}); r.counts(f) {
		r.passages[way] = max(r.passages[way], r.now-from)
	}
}

// passing is one direction of a traffic, by its number.
type passing struct {
	index   int32
	reverse bool
}

// Passages returns how long packets of each direction of the traffic were in the network at most.
func (l *Live) Passages() []Passage {
	out := []Passage{}
	for i := range l.r.plan.Traffic {
		for _, reverse := range []bool{false, true} {
			if d, ok := l.r.passages[passing{int32(i), reverse}]; ok {
				out = append(out, Passage{l.r.plan.Traffic[i].Name, policy.DirectionOf(reverse), float64(d) / 1e6})
			}
		}
	}
	return out
}

// endsOutside gives a client's connections up when its traffic ends.
func (r *run) endsOutside(c *client) {
	if r.outside != nil {
		r.events.wake(c.end, (*ending)(c))
	}
}

// ending gives a client's connections up.
type ending client

func (e *ending) wake(*run) {
	for _, l := range e.lines {
		for _, end := range []*endpoint{l.client, l.server} {
			end.Transport.(OutsideTransport).Abort()
		}
	}
}
