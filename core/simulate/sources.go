package simulate

import (
	"fmt"
	"net/netip"
	"time"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/traffic"
	"imbrel.example/imbrel/core/unit"
)

// A source is a traffic source at work: one call's direction, one stream, or
// one capture.
type source struct { // every packet touches the first cache line at both ends of its way, and the second as it leaves
	planned traffic.Planned // Source; nil: what it sends is made before it is known when
	flow    *measure.Flow
	end     time.Duration
	number  int32 // of all sources
	index   int32 // of the traffic
	reverse bool
	hasApps bool  // its last packet had apps
	length  int32 // of the last packet
	// endpoint is the end of a connection that sends it; nil: Source is asked for the packets.
	endpoint *endpoint
	packets  int64 // that count

	from       *port
	clock      *traffic.Clock // nil: it is exact
	prediction *prediction    // of its last packet, in an epoch, with what was recognised of it
	epoch      epoch
	route      []hop // nil: looked up for each packet

	traffic.Source
	apps    []uint64
	replays *replayed   // nil: no capture
	sends   packet.Flow // of one that is no capture and no connection: by which its way is chosen
	_       [24]byte    // to whole cache lines
}

// replayed is the capture that a source replays.
type replayed struct {
	*measure.Capture
	reader traffic.Reader
	flows  map[packet.Flow]*sourceFlow
	lasts  time.Duration
	frame  []byte // of the packet that is next, whole
	next   []hop  // of the packet just admitted
}

type sourceFlow struct {
	flow   *measure.Flow
	number int64
}

// sourceKinds holds for each kind of traffic how its sources start, and how many packets and sources it amounts to in a
// time: no packets where they are not known before.
var sourceKinds = [...]struct {
	start func(r *run, index int, t *policy.Traffic, end time.Duration) error
	count func(t *policy.Traffic, lasts time.Duration) (packets float64, sources int, err error)
}{
	policy.Stream:        {(*run).stream, countStream},
	policy.Calls:         {(*run).calls, countCalls},
	policy.TCPFlows:      {(*run).overTCP, countFlows},
	policy.Exchanges:     {(*run).overTCP, countFlows},
	policy.Pages:         {(*run).overTCP, countFlows},
	policy.Video:         {(*run).video, countVideo},
	policy.Hellos:        {(*run).hellos, countHellos},
	policy.Conversations: {(*run).conversations, countNothing},
	policy.Replay:        {(*run).replay, countNothing},
}

func countStream(t *policy.Traffic, lasts time.Duration) (float64, int, error) {
	if t.Rate < unit.MinRate || t.Packet <= 0 {
		return 0, 0, fmt.Errorf("a stream needs a rate of at least %s and a packet length", unit.MinRate)
	}
	return lasts.Seconds() * float64(t.MeanRate()) / 8 / float64(t.Packet), 1, nil
}

func countCalls(t *policy.Traffic, lasts time.Duration) (float64, int, error) {
	if t.Codec.Interval <= 0 || t.Codec.Payload <= 0 {
		return 0, 0, fmt.Errorf("calls need a codec with an interval and a payload")
	}
	calls, held := float64(t.Calls), lasts
	if t.Erlangs > 0 {
		if t.Holding <= 0 {
			return 0, 0, fmt.Errorf("calls that come at random need a mean time that they hold for")
		}
		calls, held = t.Erlangs*(1+lasts.Seconds()/t.Holding.Seconds()), t.Holding
	}
	packets := 2 * calls * float64(held/t.Codec.Interval+1)
	if t.RTCP {
		calls *= 2
	}
	return packets, 2 * int(min(calls, 1e9)), nil
}

func countVideo(t *policy.Traffic, lasts time.Duration) (float64, int, error) {
	if t.Rate < unit.MinRate || t.Packet <= 0 || t.Frames <= 0 {
		return 0, 0, fmt.Errorf("a video needs a rate of at least %s, a packet length and frames", unit.MinRate)
	}
	return lasts.Seconds() * (float64(t.Rate)/8/float64(t.Packet) + float64(t.Frames)), 1, nil
}

func countHellos(t *policy.Traffic, lasts time.Duration) (float64, int, error) {
	if t.Every <= 0 || t.Packet <= 0 {
		return 0, 0, fmt.Errorf("hellos need a time between them and a packet length")
	}
	return 2 * float64(lasts/t.Every+1), 2, nil
}

func countFlows(t *policy.Traffic, _ time.Duration) (float64, int, error) { return 0, 2 * t.Flows, nil }

func countNothing(*policy.Traffic, time.Duration) (float64, int, error) { return 0, 0, nil }

// start makes the sources.
func (r *run) start() error {
	for i := range r.plan.Traffic {
		t := &r.plan.Traffic[i]
		if err := sourceKinds[t.Kind].start(r, i, t, r.end(t)); err != nil {
			return fmt.Errorf("%s: `%s`: %w", t.At, t.Name, err)
		}
	}
	return nil
}

// end returns when a traffic ends.
func (r *run) end(t *policy.Traffic) time.Duration {
	if t.Lasts > 0 {
		return min(r.plan.Lasts, t.Starts+t.Lasts)
	}
	return r.plan.Lasts
}

// bound refuses a rehearsal that would take for ever.
func (r *run) bound() error {
	var packets float64
	sources := 0
	for i := range r.plan.Traffic {
		t := &r.plan.Traffic[i]
		p, n, err := sourceKinds[t.Kind].count(t, r.end(t)-t.Starts)
		if err != nil {
			return fmt.Errorf("%s: `%s`: %w", t.At, t.Name, err)
		}
		packets, sources = packets+p, sources+n
	}
	if packets > maxPackets {
		return fmt.Errorf("%s: the rehearsal `%s` would send %.0f packets; the most is %d: let it last less long, or send less",
			r.plan.At, r.plan.Name, packets, maxPackets)
	}
	if n := len(r.windows); n > maxWindows {
		return fmt.Errorf("%s: the expectations of the rehearsal `%s` are about %d different times; the most is %d", r.plan.At, r.plan.Name, n, maxWindows)
	}
	if n := sources * (1 + len(r.windows)); n > maxMeasures {
		in := ""
		if w := len(r.windows); w > 0 {
			in = fmt.Sprintf(", each in %d times of its own besides the whole", w)
		}
		return fmt.Errorf("%s: the rehearsal `%s` would measure %d streams and directions of calls%s; at most %d are possible: send fewer calls or streams, or name fewer times in the expectations",
			r.plan.At, r.plan.Name, sources, in, maxMeasures)
	}
	return nil
}

// maxWindows bounds the times that expectations are about: each packet is looked up in
// all of them.
const maxWindows = 1000

// maxMeasures bounds the flows that are measured, those of each window counted by
// themselves, and with them memory: they take 4 kB each.
const maxMeasures = 400_000

func (r *run) add(s *source) {
	s.number = int32(len(r.sources))
	s.planned = traffic.PlannedOf(s.Source)
	r.sources = append(r.sources, s)
	r.emitNext(s)
}

// ends returns the ports of the ends of a flow.
func (r *run) ends(from, to netip.Addr) (a, b *port, err error) {
	a, b = r.network.where(from), r.network.where(to)
	for _, end := range []struct {
		p *port
		a netip.Addr
	}{{a, from}, {b, to}} {
		if end.p == nil {
			return nil, nil, fmt.Errorf("the address %s is in no subnet of the network", end.a)
		}
	}
	return a, b, nil
}

// way returns the ports of the ends of a flow, and its route.
func (r *run) way(flow packet.Flow) (a *port, hops []hop, err error) {
	a, b, err := r.ends(flow.From, flow.To)
	if err != nil {
		return nil, nil, err
	}
	hops, err = r.network.route(a, b, flow)
	return a, hops, err
}

// dressed makes the packets of a traffic's hosts say what the traffic says: a tag,
// and that their transport understands congestion marks.
func tagged(s traffic.Source, t *policy.Traffic, tagged bool) traffic.Source {
	d := &traffic.Dressed{Source: s, ECN: t.ECN, MayFragment: t.MayFragment}
	if tagged && t.Tagged() {
		d.Tag = &packet.Tag{VLAN: policy.DefaultVLAN}
		if t.VLAN != nil {
			d.Tag.VLAN = *t.VLAN
		}
		if t.PCP != nil {
			d.Tag.PCP = *t.PCP
		}
	}
	if d.Tag == nil && !d.ECN && !d.MayFragment {
		return s
	}
	return d
}

func (r *run) stream(index int, t *policy.Traffic, end time.Duration) error {
	flow := packet.Flow{From: t.From, To: t.To, FromPort: t.FromPort, ToPort: t.ToPort, Protocol: t.Protocol}
	from, hops, err := r.way(flow)
	if err != nil {
		return err
	}
	s := &traffic.Stream{Rate: t.Rate, Length: int(t.Packet), DSCP: t.DSCP, Start: t.Starts, End: end, Arrivals: t.Arrivals, Varied: t.Varied, On: t.On, Off: t.Off,
		Flow: flow, Random: traffic.Random(r.options.Seed, t.Name, 0)}
	switch p := t.Ramp; {
	case p != nil:
		s.From, s.Over = p.FromRate, p.Over
	case t.Arrivals == policy.Constant || t.Arrivals == policy.Exact: // streams of one rate should not stay in step
		s.Start += phase(t, time.Duration(s.Random.Int64N(int64(t.Rate.Time(t.Packet)))))
	}
	r.add(&source{Source: tagged(s, t, true), index: int32(index), from: from, route: hops, sends: flow, end: end, flow: r.newFlow(t, end), clock: r.clock(t, 0, s.Start)})
	return nil
}

// hellos makes the two directions of hellos between neighbours. They keep to the link between the two interfaces, where one joins them, whatever the routes.
func (r *run) hellos(index int, t *policy.Traffic, end time.Duration) error {
	a, b, err := r.ends(t.From, t.To)
	if err != nil {
		return err
	}
	flow := packet.Flow{From: t.From, To: t.To, FromPort: t.FromPort, ToPort: t.ToPort, Protocol: t.Protocol}
	random := traffic.Random(r.options.Seed, t.Name, 0)
	for way, reverse := range []bool{false, true} {
		near, far := a, b
		if reverse {
			near, far, flow = b, a, flow.Reverse()
		}
		s := &source{index: int32(index), reverse: reverse, from: near, end: end, flow: r.newFlow(t, end)}
		s.flow.Expects(t.Dead)
		if s.route = r.network.neighbours(near, far, flow); s.route == nil {
			if s.route, err = r.network.route(near, far, flow); err != nil {
				return err
			}
			s.sends = flow
		}
		start := t.Starts + phase(t, time.Duration(random.Int64N(int64(t.Every))))
		s.Source = tagged(&traffic.Hellos{Flow: flow, DSCP: t.DSCP, Length: int(t.Packet), Every: t.Every, Start: start, End: end}, t, way == 0)
		r.add(s)
	}
	return nil
}

// phase returns how long after its start a sender of a traffic begins: as the traffic says, or as drawn.
func phase(t *policy.Traffic, drawn time.Duration) time.Duration {
	if t.Phase != nil {
		return *t.Phase
	}
	return drawn
}

// clock returns the clock of the sender of a traffic's source, nil where it is exact.
func (r *run) clock(t *policy.Traffic, number int, base time.Duration) *traffic.Clock {
	if t.Skew == 0 {
		return nil
	}
	return traffic.NewClock(base, t.Skew, traffic.Random(r.options.Seed, t.Name+" clock", number))
}

// maxJitter bounds how late a packet is at the slowest of links.
const maxJitter = 100 * time.Millisecond

// jitter returns how late the packets of a source are at most: the time that one of them takes at the slowest queue on its
// way, of a limit, a shape, an interface or a link, whether or not the policies are in force.
func (r *run) jitter(f *flight) (longest time.Duration) {
	r.predict(f)
	ahead := f.prediction.ahead
	for i := range f.route {
		h := &f.route[i]
		for _, d := range []policy.Direction{policy.In, policy.Out} {
			p := h.path(d)
			rate := unit.MaxRate
			if d == policy.Out {
				rate = h.out.rate
			}
			if p.attached != nil {
				if p.attached.Shape > 0 {
					rate = min(rate, p.attached.Shape)
				}
				if n := ahead[2*i+int(d)].slot; n != notAttached {
					rate = p.predictor.Slowest(r.now, p.attached.Entries[n], rate)
				}
			}
			longest = max(longest, rate.Time(unit.Size(p.config.Framing.Size(f.Length, 0))))
		}
		if c := h.out.carrier; c != nil {
			longest = max(longest, c.rate.Time(unit.Size(c.framing.Size(f.Length, 0))))
		}
	}
	return longest
}

func (r *run) video(index int, t *policy.Traffic, end time.Duration) error {
	flow := packet.Flow{From: t.From, To: t.To, FromPort: t.FromPort, ToPort: t.ToPort, Protocol: t.Protocol}
	from, hops, err := r.way(flow)
	if err != nil {
		return err
	}
	random := traffic.Random(r.options.Seed, t.Name, 0)
	s := &traffic.Video{Rate: t.Rate, Frames: t.Frames, KeyFrames: t.KeyFrames, Packet: int(t.Packet), Line: from.iface.Rate, DSCP: t.DSCP, Start: t.Starts, End: end,
		Flow: flow, ID: random.Uint32(), Random: random}
	s.Start += phase(t, time.Duration(random.Int64N(int64(time.Second)/int64(t.Frames))))
	r.add(&source{Source: tagged(s, t, true), index: int32(index), from: from, route: hops, sends: flow, end: end, flow: r.newFlow(t, end), clock: r.clock(t, 0, s.Start)})
	return nil
}

// counted returns the time, or the end of the warm-up where that is later.
func (r *run) counted(at time.Duration) time.Duration { return max(at, r.plan.WarmUp) }

// newFlow returns the measure of a traffic that lasts until end.
func (r *run) newFlow(t *policy.Traffic, end time.Duration) *measure.Flow {
	from := r.counted(t.Starts)
	return measure.NewFlow(from, max(end-from, 0))
}

// flowsOf returns a traffic's flows of a direction in each of the collectors, in what of
// their windows the traffic lasts.
func (r *run) flowsOf(index int, t *policy.Traffic, back bool, n int, end time.Duration) []*measure.Flows {
	var out []*measure.Flows
	for i, c := range r.collectors {
		from, until := r.counted(t.Starts), end
		if i > 0 {
			from, until = max(from, r.windows[i-1].From), min(until, r.windows[i-1].To)
		}
		out = append(out, c.Flows(index, back, n, from, max(until, from)))
	}
	return out
}

// enters returns where a capture enters the network.
func (r *run) enters(t *policy.Traffic) (*port, error) {
	if r.options.Capture == nil {
		return nil, fmt.Errorf("nothing opens the capture %s: set Options.Capture", t.Capture)
	}
	at := r.network.byIface[t.Enters]
	if at == nil {
		return nil, fmt.Errorf("the capture enters at no interface of the network")
	}
	return at, nil
}

func (r *run) replay(index int, t *policy.Traffic, end time.Duration) error {
	from, err := r.enters(t)
	if err != nil {
		return err
	}
	reader, err := r.options.Capture(t.Capture)
	if err != nil {
		return err
	}
	counted := r.counted(t.Starts)
	c := &replayed{flows: make(map[packet.Flow]*sourceFlow), lasts: end - counted, Capture: &measure.Capture{Name: t.Name}, reader: reader}
	s := &source{index: int32(index), from: from, end: end, replays: c}
	var again func() (traffic.Reader, error)
	if t.Loop {
		again = func() (traffic.Reader, error) {
			reader, err := r.options.Capture(t.Capture)
			c.reader = reader
			return reader, err
		}
	}
	s.Source = &traffic.Replay{Reader: reader, Start: t.Starts, End: end, Speed: t.Speed, Again: again, Admit: func(at time.Duration, p *packet.Packet, err error) bool {
		c.Packets++
		// What is not sent is watched all the same: a DNS answer, the other side's hello.
		unsent := func(count *int64) bool {
			*count++
			r.watch(at, p)
			return false
		}
		switch {
		case p.Standing().Control():
			c.Control++
		case !p.IsIP() && err != nil:
			c.Malformed++
		case !p.IsIP():
			c.NotIP++
		case r.options.ClosedLoop && isTCP(p):
			c.ClosedLoop++
		default:
			to := r.network.where(p.Flow.To)
			if to == s.from {
				return unsent(&c.OtherWay)
			}
			if to != nil {
				c.next, _ = r.network.route(s.from, to, p.Flow)
			}
			if to == nil || c.next == nil {
				return unsent(&c.NoRoute)
			}
			c.Replayed++
			return true
		}
		return false
	}}
	r.add(s)
	return nil
}

// emitNext plans the next packet of a source.
func (r *run) emitNext(s *source) {
	if s.planned != nil && (s.clock == nil || s.clock.Jitter > 0) {
		if at, ok := s.planned.Due(); ok {
			if s.clock != nil {
				at = min(s.clock.At(at), s.end-1) // as many are sent as by an exact clock
			}
			r.events.plan(happens(at, emit, s.number, nil))
		}
		return
	}
	p := r.flight()
	room := p.room
	c := s.replays
	if c != nil { // whole frames, which one buffer holds until they are sent
		room = c.frame
	}
	at, ok, err := s.Next(&p.Packet, room)
	if err != nil {
		t := &r.plan.Traffic[s.index]
		r.failed = fmt.Errorf("%s: `%s`: %w", t.PlaceOf("capture"), t.Name, err)
	}
	if !ok || err != nil {
		r.done(p)
		return
	}
	if c != nil {
		c.frame = p.Bytes
	}
	p.source = s
	number := &s.packets
	if s.flow != nil {
		p.flow, p.route = s.flow, s.route
	} else {
		f := c.track(p.Flow, len(r.windows), s.end)
		p.flow, number, p.route = f.flow, &f.number, c.next
	}
	if s.clock != nil {
		if s.clock.Jitter == 0 {
			s.clock.Jitter = min(max(r.jitter(p), 1), maxJitter)
		}
		at = min(s.clock.At(at), s.end-1) // as many are sent as by an exact clock
	}
	r.numbers(p, number, at)
	r.events.plan(happens(at, emit, s.number, p))
}

// emitted makes the packet that a planned source sends at a time.
func (r *run) emitted(s *source, at time.Duration) *flight {
	p := r.flight()
	s.planned.Make(&p.Packet, p.room)
	p.source, p.flow, p.route = s, s.flow, s.route
	r.numbers(p, &s.packets, at)
	return p
}

// numbers gives a packet that is sent at a time its number, which is that of the next that counts.
func (r *run) numbers(p *flight, number *int64, at time.Duration) {
	p.sent = at
	if p.number = *number; r.counts(p) {
		*number++
	}
	r.inWindow(p)
}

// windowed makes the measures of the windows that a packet is sent in, so that each
// counts its packets from the first.
func (r *run) inWindow(f *flight) {
	for i, w := range r.windows {
		if f.sent >= w.From && f.sent < w.To {
			f.flow.Window(i, w, f.number)
		}
	}
}

// track returns the measure of a capture's flow. Beyond a bound, flows that are
// new share one.
func (c *replayed) track(f packet.Flow, windows int, end time.Duration) *sourceFlow {
	if most := 1 << 16 / (1 + windows); len(c.flows) >= most {
		if _, known := c.flows[f]; !known {
			f = packet.Flow{}
		}
	}
	t := c.flows[f]
	if t == nil {
		t = &sourceFlow{flow: measure.NewFlow(end-c.lasts, c.lasts)}
		c.flows[f] = t
	}
	return t
}
