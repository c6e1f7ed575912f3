// Package simulate runs a rehearsal: it sends the traffic through the network
// packet by packet, in simulated time, through the very data paths that
// package datapath would run in real time.
//
// One goroutine, one queue of events, one clock: the same file and seed give
// the same result on any machine.
package simulate

import (
	"fmt"
	"math/rand/v2"
	"time"

	"imbrel/core/datapath"
	"imbrel/core/measure"
	"imbrel/core/packet"
	"imbrel/core/policy"
	"imbrel/core/queue"
	"imbrel/core/recognise"
	"imbrel/core/schedule"
	"imbrel/core/traffic"
	"imbrel/core/unit"
)

// Options say how to run a rehearsal. The zero Options run it with the policies
// in force and seed 0.
type Options struct {
	Seed          uint64
	WithoutPolicy bool // plain FIFOs everywhere
	// Capture opens a capture named in the file. Needed when there is one.
	Capture func(name string) (traffic.Reader, error)
	// Tap, when not nil, sees every packet that enters or leaves an interface.
	Tap func(at *policy.Interface, d policy.Direction, now time.Duration, p *packet.Packet) error
	// Progress, when not nil, is told now and then how much is done, from 0 to 1.
	Progress func(done float64)
}

// What a rehearsal may come to; it bounds time and memory.
const (
	maxPackets     = 2_000_000_000
	maxCallPackets = 100_000_000
)

// A parcel is a packet on its way.
type parcel struct {
	packet.Packet
	source *source
	flow   *measure.Flow
	number int64 // in its flow
	sent   time.Duration
	to     *port // behind which its destination is
	class  int   // that it is measured in
	room   []byte
}

// A source is a traffic source at work: one call's direction, one stream, or
// one capture.
type source struct {
	traffic.Source
	index   int // of the traffic
	reverse bool
	from    *port
	to      *port // nil: looked up for each packet
	flow    *measure.Flow
	flows   map[packet.Flow]*sourceFlow // of a capture
	end     time.Duration
	lasts   time.Duration // of a capture
	capture *measure.Capture
	number  int64
}

type sourceFlow struct {
	flow   *measure.Flow
	number int64
}

// run is a rehearsal at work.
type run struct {
	file    *policy.File
	plan    *policy.Rehearsal
	options Options
	classes []string
	network *network
	events  events
	sources []*source
	collect measure.Collector
	spare   []*parcel
	now     time.Duration
	failed  error
	rest    int

	recogniser *recognise.Recogniser // nil: nothing is told but by ports
}

// Run runs one rehearsal of a file and returns what it measured. An error is
// about the input: an address that nothing leads to, a capture that cannot be
// read.
func Run(f *policy.File, plan *policy.Rehearsal, o Options) (*measure.Result, error) {
	if problems := datapath.Unenforced(f, plan); len(problems) > 0 {
		return nil, problems
	}
	r := &run{file: f, plan: plan, options: o, classes: f.ClassNames()}
	for i := range f.Apps {
		if f.Apps[i].Recognised() {
			r.recogniser = recognise.New(f.Apps)
			break
		}
	}
	r.rest = len(r.classes) - 1
	index := make(map[string]int, len(r.classes))
	for i, c := range r.classes {
		index[c] = i
	}
	r.network = build(f, &works{withPolicy: !o.WithoutPolicy, classes: index, names: r.classes,
		classOf: func(p *packet.Packet) int {
			if c := p.Owner.(*parcel).class; c >= 0 {
				return c
			}
			return r.rest
		},
		drop:    func(p *packet.Packet) { r.lose(p.Owner.(*parcel)) },
		startAt: plan.StartAt,
		random:  func(name string) *rand.Rand { return traffic.Random(o.Seed, name, 0) },
	})
	if err := r.start(); err != nil {
		return nil, err
	}
	for steps := 0; ; steps++ {
		e, ok := r.events.next()
		if !ok || r.failed != nil {
			break
		}
		if steps&0xffff == 0 && o.Progress != nil {
			o.Progress(min(1, float64(e.at)/float64(plan.Lasts)))
		}
		r.now = e.at
		r.step(&e)
	}
	if r.failed != nil {
		return nil, r.failed
	}
	return r.result(), nil
}

// start makes the sources.
func (r *run) start() error {
	if err := r.bound(); err != nil {
		return err
	}
	for i := range r.plan.Traffic {
		t := &r.plan.Traffic[i]
		var err error
		switch end := r.end(t); {
		case t.Calls > 0:
			codec, _ := traffic.CodecByName(t.Codec)
			err = r.calls(i, t, codec, end)
		case t.Rate > 0:
			err = r.stream(i, t, end)
		default:
			err = r.replay(i, t, end)
		}
		if err != nil {
			return err
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

// bound refuses a rehearsal that would take forever, or all the memory.
func (r *run) bound() error {
	var packets, ofCalls float64
	for i := range r.plan.Traffic {
		t := &r.plan.Traffic[i]
		lasts := r.end(t) - t.Starts
		if codec, ok := traffic.CodecByName(t.Codec); ok {
			ofCalls += 2 * float64(t.Calls) * float64(lasts/codec.Interval+1)
		} else if t.Rate > 0 {
			packets += lasts.Seconds() * float64(t.Rate) / 8 / float64(t.Packet)
		}
	}
	if packets+ofCalls > maxPackets || ofCalls > maxCallPackets {
		return fmt.Errorf("%s: the rehearsal `%s` would send %.0f packets, %.0f of them of calls; the most is %d, and %d of calls: let it last less long, or send less",
			r.plan.At, r.plan.Name, packets+ofCalls, ofCalls, maxPackets, maxCallPackets)
	}
	return nil
}

func (r *run) add(s *source) {
	r.sources = append(r.sources, s)
	r.emitNext(s)
}

// check finds out whether a traffic's packets can get where they go.
func (r *run) check(from, to *port, t *policy.Traffic) error {
	if err := r.network.table.Check(from.face, to.face); err != nil {
		return fmt.Errorf("%s: `%s`: %w", t.At, t.Name, err)
	}
	return nil
}

func (r *run) calls(index int, t *policy.Traffic, codec traffic.Codec, end time.Duration) error {
	a, b := r.network.where(t.From), r.network.where(t.To)
	for _, way := range [][2]*port{{a, b}, {b, a}} {
		if err := r.check(way[0], way[1], t); err != nil {
			return err
		}
	}
	const firstPort = 16384
	for n := range t.Calls {
		ends := packet.Flow{From: t.From, To: t.To, Protocol: packet.UDP,
			FromPort: uint16(firstPort + 2*n%16384), ToPort: uint16(firstPort + 2*n%16384)}
		random := traffic.Random(r.options.Seed, t.Name, n)
		for _, reverse := range []bool{false, true} {
			flow, from, to := ends, a, b
			if reverse {
				flow, from, to = ends.Reverse(), b, a
			}
			start := t.Starts + time.Duration(random.Int64N(int64(codec.Interval)))
			call := &traffic.Call{Codec: codec, Flow: flow, DSCP: t.DSCP, Start: start, End: end, ID: random.Uint32()}
			count := int((end - start + codec.Interval - 1) / codec.Interval)
			r.add(&source{Source: call, index: index, reverse: reverse, from: from, to: to, end: end,
				flow: measure.NewCall(codec, t.Playout, end-t.Starts, max(count, 0))})
		}
	}
	return nil
}

func (r *run) stream(index int, t *policy.Traffic, end time.Duration) error {
	from, to := r.network.where(t.From), r.network.where(t.To)
	if err := r.check(from, to, t); err != nil {
		return err
	}
	s := &traffic.Stream{Rate: t.Rate, Length: int(t.Packet), DSCP: t.DSCP, Start: t.Starts, End: end,
		Flow: packet.Flow{From: t.From, To: t.To, FromPort: t.FromPort, ToPort: t.ToPort, Protocol: t.Protocol}}
	random := traffic.Random(r.options.Seed, t.Name, 0)
	if t.Poisson {
		s.Random = random
	} else { // streams of one rate should not stay in step
		s.Start += time.Duration(random.Int64N(int64(t.Rate.Time(t.Packet))))
	}
	r.add(&source{Source: s, index: index, from: from, to: to, end: end, flow: measure.NewFlow(end - t.Starts)})
	return nil
}

func (r *run) replay(index int, t *policy.Traffic, end time.Duration) error {
	reader, err := r.options.Capture(t.Capture)
	if err != nil {
		return fmt.Errorf("%s: `%s`: %w", t.PlaceOf("capture"), t.Name, err)
	}
	s := &source{index: index, from: r.network.byFace[t.Enters], flows: make(map[packet.Flow]*sourceFlow), end: end,
		lasts: end - t.Starts, capture: &measure.Capture{Name: t.Name}}
	s.Source = &traffic.Replay{Reader: reader, Start: t.Starts, End: end, Admit: func(p *packet.Packet, err error) bool {
		s.capture.Packets++
		switch {
		case err != nil:
			s.capture.Malformed++
		case !p.IsIP():
			s.capture.NotIP++
		default:
			to := r.network.where(p.Flow.To)
			switch {
			case to == nil || to.node != s.from.node && r.network.next[s.from.node][to.node] == nil:
				s.capture.NoRoute++
			case to == s.from:
				s.capture.Behind++
			default:
				s.capture.Replayed++
				return true
			}
		}
		return false
	}}
	r.add(s)
	return nil
}

// emitNext plans the next packet of a source.
func (r *run) emitNext(s *source) {
	p := r.parcel()
	at, ok, err := s.Next(&p.Packet, p.room)
	if err != nil {
		t := &r.plan.Traffic[s.index]
		r.failed = fmt.Errorf("%s: `%s`: %w", t.PlaceOf("capture"), t.Name, err)
	}
	if !ok || err != nil {
		r.spare = append(r.spare, p)
		return
	}
	if len(p.Bytes) > cap(p.room) { // a large frame outgrew the room: keep the larger
		p.room = p.Bytes
	}
	p.source, p.sent = s, at
	if s.flow != nil {
		p.flow, p.number, p.to = s.flow, s.number, s.to
		s.number++
	} else {
		f := s.track(p.Flow)
		p.flow, p.number = f.flow, f.number
		f.number++
		p.to = r.network.where(p.Flow.To)
	}
	r.events.plan(event{at: at, kind: emit, source: s, parcel: p})
}

// track returns the measure of a capture's flow. Beyond a bound, flows that are
// new share one.
func (s *source) track(f packet.Flow) *sourceFlow {
	const most = 1 << 16
	if len(s.flows) >= most {
		if _, known := s.flows[f]; !known {
			f = packet.Flow{}
		}
	}
	t := s.flows[f]
	if t == nil {
		t = &sourceFlow{flow: measure.NewFlow(s.lasts)}
		s.flows[f] = t
	}
	return t
}

func (r *run) parcel() *parcel {
	if n := len(r.spare); n > 0 {
		p := r.spare[n-1]
		r.spare = r.spare[:n-1]
		*p = parcel{room: p.room, class: -1}
		p.Owner = p
		return p
	}
	p := &parcel{room: make([]byte, packet.HeaderRoom), class: -1}
	p.Owner = p
	return p
}

// step lets one event happen.
func (r *run) step(e *event) {
	switch e.kind {
	case emit:
		r.emitNext(e.source)
		if r.recogniser != nil {
			r.recogniser.Watch(&e.parcel.Packet)
		}
		r.enter(e.source.from, e.parcel)
	case arrive:
		r.enter(e.port, e.parcel)
	case sent:
		e.port.sending = false
		r.tap(e.port, policy.Out, e.parcel)
		r.leave(e.port, e.parcel)
		r.send(e.port)
	case askOut:
		if e.port.out.asking == r.now {
			e.port.out.asking = schedule.Never
			r.send(e.port)
		}
	case askIn:
		if e.port.in.asking == r.now {
			e.port.in.asking = schedule.Never
			r.drainIn(e.port)
		}
	case carried:
		e.port.carrier.sending = false
		r.events.plan(event{at: r.now + e.port.delay, kind: arrive, port: e.port.peer, parcel: e.parcel})
		r.carry(e.port)
	}
}

func (r *run) tap(p *port, d policy.Direction, pc *parcel) {
	if r.options.Tap == nil || r.failed != nil {
		return
	}
	r.failed = r.options.Tap(p.face, d, r.now, &pc.Packet)
}

// measured reports whether what happens now counts towards rates.
func (r *run) measured() bool { return r.now < r.plan.Lasts }

// enter brings a packet into a node through a port.
func (r *run) enter(p *port, pc *parcel) {
	pc.In = int32(p.face.Number)
	r.tap(p, policy.In, pc)
	p.in.learn(pc, r.rest)
	if p.in.Path == nil {
		r.forward(p, pc)
		return
	}
	if r.offer(&p.in, pc) {
		r.drainIn(p)
	}
}

// learn sets the class a packet is measured in: the first, other than the rest,
// that an attached policy gives it. It asks the policy even when it is not in
// force, so that a run without policies tells the same classes apart.
func (p *path) learn(pc *parcel, rest int) {
	if p.learner == nil || pc.class >= 0 && pc.class != rest {
		return
	}
	pc.class = p.class[p.learner.Classify(&pc.Packet)]
}

// offer puts a packet into a data path and books it if it is dropped.
func (r *run) offer(p *path, pc *parcel) bool {
	reason := p.Enqueue(r.now, &pc.Packet)
	if r.measured() {
		for i := int(pc.Slot); i >= 0; i = p.Parent(i) {
			p.offered[i] += uint64(pc.Size)
		}
	}
	if reason != 0 {
		r.lose(pc)
		return false
	}
	return true
}

// take gets the next packet out of a data path, or plans to ask again.
func (r *run) take(p *path, owner *port, ask kind) *parcel {
	pkt, again := p.Dequeue(r.now)
	if pkt == nil {
		if again != schedule.Never && again != p.asking {
			p.asking = again
			r.events.plan(event{at: again, kind: ask, port: owner})
		}
		return nil
	}
	for i := int(pkt.Slot); i >= 0; i = p.Parent(i) {
		p.delays[i].Add(r.now - pkt.Arrived)
		if r.measured() {
			p.sent[i] += uint64(pkt.Size)
		}
	}
	return pkt.Owner.(*parcel)
}

// drainIn passes on what the incoming data path lets through.
func (r *run) drainIn(p *port) {
	for {
		pc := r.take(&p.in, p, askIn)
		if pc == nil {
			return
		}
		r.forward(p, pc)
	}
}

// forward takes a packet from a node's port to the one it leaves by.
func (r *run) forward(p *port, pc *parcel) {
	out := pc.to
	if out.node != p.node {
		out = r.network.next[p.node][out.node]
	}
	out.out.learn(pc, r.rest)
	if r.offer(&out.out, pc) {
		r.send(out)
	}
}

// send begins to send the next packet of a port that is not sending.
func (r *run) send(p *port) {
	if p.sending {
		return
	}
	pc := r.take(&p.out, p, askOut)
	if pc == nil {
		return
	}
	p.sending = true
	p.clock.NotBefore(r.now)
	p.clock.Advance(int(pc.Size), p.face.Rate)
	r.events.plan(event{at: p.clock.Ready(), kind: sent, port: p, parcel: pc})
}

// leave takes a packet that a port has sent onto the link, or to the hosts.
func (r *run) leave(p *port, pc *parcel) {
	switch {
	case p.peer == nil || pc.to == p:
		r.deliver(pc)
	case p.carrier == nil:
		r.events.plan(event{at: r.now + p.delay, kind: arrive, port: p.peer, parcel: pc})
	default:
		pc.Arrived = r.now
		if p.carrier.queue.Push(r.now, &pc.Packet) != queue.Taken {
			p.carrier.drops++
			r.lose(pc)
			return
		}
		r.carry(p)
	}
}

// carry begins to carry the next packet of a carrier that is not carrying.
func (r *run) carry(p *port) {
	c := p.carrier
	if c.sending {
		return
	}
	pkt := c.queue.Pop(r.now)
	if pkt == nil {
		return
	}
	c.sending = true
	c.delay.Add(r.now - pkt.Arrived)
	if r.measured() {
		c.bytes += uint64(pkt.Size)
	}
	c.clock.NotBefore(r.now)
	c.clock.Advance(int(pkt.Size), c.rate)
	r.events.plan(event{at: c.clock.Ready(), kind: carried, port: p, parcel: pkt.Owner.(*parcel)})
}

func (r *run) key(pc *parcel) measure.Key {
	class := pc.class
	if class < 0 {
		class = r.rest
	}
	return measure.Key{Traffic: pc.source.index, Reverse: pc.source.reverse, Class: class}
}

func (r *run) deliver(pc *parcel) {
	r.collect.Tally(pc.flow, r.key(pc)).Delivered(pc.flow, pc.number, pc.sent, r.now-pc.sent, pc.source.end, pc.Length)
	r.spare = append(r.spare, pc)
}

func (r *run) lose(pc *parcel) {
	r.collect.Tally(pc.flow, r.key(pc)).Dropped(pc.flow, pc.number, pc.Length)
	r.spare = append(r.spare, pc)
}

// bps returns bytes over the measured time as a rate.
func (r *run) bps(bytes uint64) int64 {
	return int64(unit.Rate(float64(bytes)*8/r.plan.Lasts.Seconds() + 0.5))
}
