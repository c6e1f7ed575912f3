// Package simulate runs a rehearsal: it sends the traffic through the network
// packet by packet, in simulated time, through the very data paths that
// package datapath would run in real time.
//
// One queue of events and one clock, or one of each for parts of a large network: the same file and seed give
// the same result on any machine.
package simulate

import (
	"fmt"
	"net/netip"
	"time"

	"imbrel.example/imbrel/core/datapath"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/queue"
	"imbrel.example/imbrel/core/recognise"
	"imbrel.example/imbrel/core/schedule"
	"imbrel.example/imbrel/core/traffic"
	"imbrel.example/imbrel/core/tunnel"
)

// Options say how to run a rehearsal. The zero Options run it with the policies
// in force and seed 0.
type Options struct {
	Seed          uint64
	WithoutPolicy bool // plain FIFOs everywhere
	// Capture opens a capture named in the file; without it, a rehearsal that replays
	// one is an error.
	Capture func(name string) (traffic.Reader, error)
	// Tap, when not nil, sees every packet that enters or leaves an interface.
	Tap func(at *policy.Interface, d policy.Direction, now time.Duration, p *packet.Packet) error
	// Classified, when not nil, is told which class of the policy attached to an interface
	// each packet was given there, or in a run without policies would have been given at
	// an outgoing one.
	Classified func(at *policy.Interface, d policy.Direction, class string, p *packet.Packet)
	// ClosedLoop makes each TCP conversation of a replayed capture a flow at work, of as many
	// bytes, that slows down where packets are lost.
	ClosedLoop bool
	// Every, when not zero, is the interval of the series over time.
	Every time.Duration
	// Hops asks for what each traffic met at each place.
	Hops bool
	// Bounds asks for the proven bounds of the traffic beside what was measured.
	Bounds bool
	// Stop, when not nil, is asked now and then whether to stop: the result is then of the
	// time until there.
	Stop func() bool
	// Progress, when not nil, is told now and then how much is done, from 0 to 1.
	Progress func(done float64)
	// Cores is the number of processors that the rehearsal may use; 0 is one. The result is the same on any number.
	Cores int

	everyEvent   bool // nothing is computed ahead of its time: for tests
	alwaysDivide bool // also where one core is faster: for tests
}

// maxPackets is how many packets a rehearsal may send; it bounds its time. Its memory
// does not grow with time.
const maxPackets = 2_000_000_000

// maxDraining bounds how long after the end of its traffic a rehearsal goes on.
const maxDraining = 30 * 24 * time.Hour

// run is a rehearsal at work.
type run struct {
	file        *policy.File
	plan        *policy.Rehearsal
	options     Options
	classes     []string
	classNumber map[string]int32
	rest        int
	network     *network
	events      events
	sources     []*source
	cuts        bool // some link goes down
	clients     []*client
	ports       []*port // of the network
	spare       []*flight
	made        int // flights, spare ones included
	now         time.Duration
	lasts       time.Duration // the measured time
	alarm       time.Duration // when the warm-up, the measured time, a step or a window begins or ends next
	warm        bool          // the warm-up is over
	over        bool          // so is the measured time
	failed      error
	stopped     bool
	touched     []*slot // in the step that it is, or where packets wait
	stepLength  time.Duration
	stepEnds    time.Duration

	sets       *measure.Sets
	windows    []measure.Window
	collectors []*measure.Collector // of the whole time first, then of each window
	open       []int                // the windows that it is now, by their collectors
	nextWindow time.Duration        // when one begins or ends
	series     *series              // nil: none was asked for

	predictions map[string]*prediction // by all that they depend on
	outcomes    map[string]*prediction // by what they say
	epoch       uint64
	key         []byte
	traveller   flight

	orders         map[association]*order
	pathMTU        map[[2]netip.Addr]pathMTU // by sender and receiver
	tunnelMTU      map[tunnelWay]int
	identification uint32

	sentTCP   int64
	flowsOpen []*measure.Flows // room

	recogniser *recognise.Recogniser
	recognises bool // some application is recognised by more than ports
	admissions []measure.Admission
	former     []formerPath                // whose policies events have replaced
	parts      map[partKey][]packet.Packet // that came from outside, of datagrams that are not whole yet
	calling    map[packet.Flow]bool        // the calls, by bothWays of their flows: none shares its ports with another

	// Under the real clock.
	outside    Outside // nil: time is simulated
	away       map[uint32]*flight
	entered    map[uint32]time.Duration // when its first node had a packet of these
	passages   map[passing]time.Duration
	tokens     uint32
	tcpSources map[packet.Flow]*source
	endpoints  map[Transport]*endpoint
	background OutsideCounts

	// Of a part of a run.
	keeper
	team    *team // nil: the run is whole
	part    int
	posts   [2][]post     // to each part, of every second round
	soonest time.Duration // the next event of the part, or of its posts
	did     int           // events of the round
}

// Run runs one rehearsal of a file and returns what it measured. An error is
// about the input: an address to which there is no route, a capture that cannot be
// read.
func Run(f *policy.File, rehearsal *policy.Rehearsal, o Options) (*measure.Result, error) {
	r, err := prepare(f, rehearsal, o, nil)
	if err != nil {
		return nil, err
	}
	if t := r.divide(); t != nil {
		if res, ok, err := t.toTheEnd(); ok {
			return res, err
		}
		if r, err = prepare(f, rehearsal, o, nil); err != nil {
			return nil, err
		}
	}
	return r.toTheEnd()
}

// toTheEnd lets everything happen, and returns the result.
func (r *run) toTheEnd() (*measure.Result, error) {
	latest := r.latest()
	for steps := 0; ; steps++ {
		e, w, ok := r.events.next()
		if !ok || r.failed != nil {
			break
		}
		if e.at > latest {
			return nil, r.tooLate()
		}
		if steps&0xffff == 0 && r.asksToStop(e.at) {
			break
		}
		r.timeIs(e.at)
		r.step(&e, w)
	}
	if r.failed != nil {
		return nil, r.failed
	}
	return r.result(), nil
}

// latest returns the time after which nothing may happen any more.
func (r *run) latest() time.Duration { return r.plan.Lasts + maxDraining }

// tooLate returns what is wrong where something would happen after the latest time.
func (r *run) tooLate() error {
	return fmt.Errorf("%s: after `%s` what waits takes more than %d days to be sent: let less wait, or send faster", r.plan.At, r.plan.Name, maxDraining/(24*time.Hour))
}

// asksToStop tells how much is done at a time, and reports whether to stop.
func (r *run) asksToStop(at time.Duration) bool {
	o := &r.options
	if o.Progress != nil {
		o.Progress(min(1, float64(at)/float64(r.plan.Lasts)))
	}
	if o.Stop == nil || !o.Stop() {
		return false
	}
	r.stopped, r.lasts = true, max(min(at, r.plan.Lasts)-r.plan.WarmUp, time.Millisecond)
	return true
}

// Check returns what is wrong with a rehearsal before anything is sent: what Run would
// return.
func Check(f *policy.File, rehearsal *policy.Rehearsal, o Options) error {
	_, err := prepare(f, rehearsal, o, nil)
	return err
}

// prepare puts the network together and makes the sources. The outside is nil where time is
// simulated.
func prepare(f *policy.File, rehearsal *policy.Rehearsal, o Options, outside Outside) (*run, error) {
	if problems := unrehearsed(f, rehearsal); len(problems) > 0 {
		return nil, problems
	}
	if o.ClosedLoop {
		rehearsal = closedLoop(rehearsal)
	}
	r := &run{file: f, plan: rehearsal, options: o, lasts: rehearsal.Lasts - rehearsal.WarmUp, classes: f.ClassNames(), recogniser: recognise.New(f.Apps), calling: make(map[packet.Flow]bool),
		sets: measure.NewSets(f, rehearsal), windows: measure.Windows(rehearsal), predictions: make(map[string]*prediction), outcomes: make(map[string]*prediction), outside: outside,
		orders: make(map[association]*order), pathMTU: make(map[[2]netip.Addr]pathMTU), tunnelMTU: make(map[tunnelWay]int)}
	if outside != nil {
		for i := range f.Network.Nodes {
			for _, iface := range f.Network.Nodes[i].Interfaces {
				if iface.NAT != policy.NoNAT {
					return nil, policy.Problems{{Place: iface.PlaceOf("nat"), Text: iface.Path() + " translates addresses, which hosts of the kernel know nothing of", Help: "leave `nat` out, or rehearse it"}}
				}
			}
		}
		r.parts = make(map[partKey][]packet.Packet)
		r.entered, r.passages = make(map[uint32]time.Duration), make(map[passing]time.Duration)
		r.away, r.tcpSources, r.endpoints = make(map[uint32]*flight), make(map[packet.Flow]*source), make(map[Transport]*endpoint)
	}
	if err := r.bound(); err != nil {
		return nil, err
	}
	r.recognises = f.Recognises()
	r.rest = len(r.classes) - 1
	r.classNumber = make(map[string]int32, len(r.classes))
	for i, c := range r.classes {
		r.classNumber[c] = int32(i)
	}
	for range 1 + len(r.windows) {
		r.collectors = append(r.collectors, measure.NewCollector(r.sets, rehearsal))
	}
	if o.Every > 0 {
		r.series = newSeries(r)
	}
	r.network = r.build()
	r.ports = r.network.ports
	r.steps()
	r.happen()
	return r, r.start()
}

// unrehearsed returns what a rehearsal asks for that cannot be rehearsed: the
// result without it would be wrong.
func unrehearsed(f *policy.File, rehearsal *policy.Rehearsal) policy.Problems {
	var out policy.Problems
	if !rehearsal.StartAt.IsZero() {
		return out
	}
	seen := make(map[*policy.When]bool)
	for i := range f.Attach {
		for _, e := range plan.Attached(&f.Attach[i]).Entries {
			for _, w := range e.Whens() {
				if w.Time != nil && !seen[w.Spec] {
					seen[w.Spec] = true
					out = append(out, policy.Problem{Place: w.Spec.TimeName.At, Text: fmt.Sprintf("the entry for `%s` depends on the time `%s`, but the rehearsal `%s` has no time", e.Spec.ClassName.Text, w.Time.Name, rehearsal.Name),
						Help: "give the rehearsal a `starts-at`, such as 2026-03-02T08:30"})
				}
			}
		}
	}
	return out
}

// step lets one event happen.
func (r *run) step(e *event, w waker) {
	k := e.kind()
	if k == wake {
		w.wake(r)
		return
	}
	if k == emit {
		f := e.flight
		if f == nil {
			f = r.emitted(r.sources[e.place()], e.at)
		}
		if r.outside != nil {
			r.outward(f)
			return
		}
		r.watch(r.now, &f.Packet)
		r.predict(f)
		r.keep(f)
		if f.source.planned != nil || f.source.Source != nil { // after that: it reads what a capture holds until its next packet
			r.emitNext(f.source)
		}
		r.fromHost(f)
		return
	}
	switch p := r.network.ports[e.place()]; k {
	case arrive:
		if r.cuts && e.flight.cuts != p.peer.cuts {
			r.lostOnCut(p.peer, e.flight)
			break
		}
		e.flight.at++
		r.enter(p, e.flight)
	case sent:
		more := false
		if f := e.flight; f != nil {
			if more = f.more; f.left { // a part of a packet has been through Leave as a whole
				r.marked(&p.out, f, r.now)
			} else {
				r.leaves(p, f, r.now)
			}
			f.left, f.more, f.divide = false, false, 0
			r.tap(p, policy.Out, f)
			r.leave(p, f)
		}
		if !more {
			p.sending = false
			r.send(p)
		}
	case askOut:
		if p.out.asking == e.at {
			p.out.asking = schedule.Never
			r.send(p)
		}
	case askIn:
		if p.in.asking == e.at {
			p.in.asking = schedule.Never
			r.drainIn(p)
		}
	case carried:
		p.carrier.sending = false
		if p.carrier.shared != nil {
			p.peer.carrier.sending = false
		}
		r.travel(p, e.flight)
		r.carry(p)
	}
}

// keep gives a packet of a capture bytes of its own: its headers, or all where frames are
// captured again. Nothing else of it is looked at while it waits.
func (r *run) keep(f *flight) {
	if f.source.planned != nil || f.source.replays == nil {
		return
	}
	n := len(f.Bytes)
	if r.options.Tap == nil {
		n = f.Headers()
	}
	f.room = append(f.room[:0], f.Bytes[:n]...)
	f.Bytes = f.room
}

// watch lets the recogniser see a packet, where its answer may matter.
func (r *run) watch(at time.Duration, p *packet.Packet) {
	if r.recognises || p.Fragment {
		r.recogniser.Watch(at, p)
	}
}

// hop returns the node that the packet is at.
func (p *flight) hop() *hop { return &p.route[p.at] }

func (r *run) tap(p *port, d policy.Direction, f *flight) {
	if r.options.Tap == nil || r.failed != nil {
		return
	}
	r.failed = r.options.Tap(p.iface, d, r.now, &f.Packet)
}

// measured reports whether what happens now counts towards rates.
func (r *run) measured() bool { return r.now >= r.plan.WarmUp && r.now < r.plan.Lasts }

// counts reports whether a packet is measured: it was not sent in the warm-up.
func (r *run) counts(f *flight) bool { return f.sent >= r.plan.WarmUp }

// enter brings a packet into a node through a port.
func (r *run) enter(p *port, f *flight) {
	h := f.hop()
	if h.wraps && f.inside == nil {
		f.inside = &tunnel.Inside{}
	}
	h.Enter(&f.Packet, f.inside)
	r.tap(p, policy.In, f)
	if p.in.Path == nil {
		if a := p.in.attached; a != nil {
			r.shadows(&p.in, a.Framing.Size(f.Length, f.Labels()))
		}
		r.forward(p, f)
		return
	}
	taken, _ := r.offer(p, policy.In, f, false)
	switch {
	case !taken:
	case p.in.Straight():
		r.through(&p.in, f, 0)
		r.marked(&p.in, f, r.now)
		r.forward(p, f)
	default:
		r.drainIn(p)
	}
}

// through books a packet that has come through a path after a wait.
func (r *run) through(p *path, f *flight, wait time.Duration) {
	r.sends(p, f)
	r.shadows(p, int(f.Size))
	f.steps = append(f.steps, measure.Step{Place: p.place, Slot: f.Slot, Wait: wait, By: f.held})
}

// shadows tells a policy that is not in force what is sent in its place.
func (r *run) shadows(p *path, bytes int) {
	if p.shadow != nil {
		p.shadow.Observe(r.now, bytes)
	}
}

// offer puts a packet into a data path, and counts it if it is dropped. When the port is free and nothing else waits, the packet goes out of the
// path again at once.
func (r *run) offer(at *port, d policy.Direction, f *flight, free bool) (taken, went bool) {
	p := at.path(d)
	if p.Path == nil {
		p.open(r)
	}
	var reason datapath.Reason
	slot, known := r.known(p, f, d)
	switch straight := p.Straight(); {
	case straight && known:
		reason = p.PassAs(r.now, &f.Packet, slot)
	case straight:
		reason = p.Pass(r.now, &f.Packet)
	case free && known:
		reason, went = p.OfferAs(r.now, &f.Packet, slot)
	case free:
		reason, went = p.Offer(r.now, &f.Packet)
	case known:
		reason = p.EnqueueAs(r.now, &f.Packet, slot)
	default:
		reason = p.Enqueue(r.now, &f.Packet)
	}
	r.offered(p, f, reason)
	f.held = 0
	if p.ruled {
		if !went { // otherwise nothing held it
			f.held = p.culprit(r.now, &f.Packet, reason)
		}
		r.join(p, f)
	}
	if r.options.Classified != nil && p.attached != nil {
		r.options.Classified(at.iface, d, p.names[f.Slot], &f.Packet)
	}
	if reason != datapath.Passed {
		r.dropped(at, d, f, reason, 0)
		return false, false
	}
	return true, went
}

// culprit returns the entry, plus 1, whose policer or block stopped a packet, or whose upper limit holds its queue back;
// 0: there is none.
func (p *path) culprit(now time.Duration, pkt *packet.Packet, reason datapath.Reason) int32 {
	switch reason {
	case datapath.Policed, datapath.Blocked:
		return p.StoppedBy(pkt) + 1
	}
	return p.HeldBy(now, pkt) + 1
}

// dropped counts a packet that a data path dropped after a wait, and follows it from there
// on as if it had not.
func (r *run) dropped(at *port, d policy.Direction, f *flight, reason datapath.Reason, wait time.Duration) {
	p := at.path(d)
	f.steps = append(f.steps, measure.Step{Place: p.place, Slot: f.Slot, Wait: wait, Reason: reason, By: f.held})
	ends := reason == datapath.Blocked || p.ruled && reason == datapath.Policed && p.WithoutLimits(&f.Packet)
	if !ends && !r.options.WithoutPolicy {
		stage := f.stage(d)
		if d == policy.Out {
			f.hop().Leave(&f.Packet, f.inside)
		}
		r.beyond(f, stage+1)
	}
	r.lose(f)
}

// discarded is told of a packet that a data path had taken and drops.
func (r *run) discarded(at *port, d policy.Direction, pkt *packet.Packet, reason datapath.Reason) {
	f := pkt.Owner.(*flight)
	r.discards(at.path(d), f)
	r.dropped(at, d, f, reason, r.now-f.Arrived)
}

// take gets the next packet out of a data path, or plans to ask again.
func (r *run) take(p *path, owner *port, ask kind) *flight {
	if p.Path == nil { // nothing has come since an event took its policy out of force
		return nil
	}
	pkt, again := p.Dequeue(r.now)
	if pkt == nil {
		if again != schedule.Never && again != p.asking {
			p.asking = again
			r.events.plan(happens(again, ask, owner.number, nil))
		}
		return nil
	}
	f := pkt.Owner.(*flight)
	r.through(p, f, r.now-f.Arrived)
	return f
}

// drainIn passes on what the incoming data path lets through.
func (r *run) drainIn(p *port) {
	for {
		f := r.take(&p.in, p, askIn)
		if f == nil {
			return
		}
		r.marked(&p.in, f, r.now)
		r.forward(p, f)
	}
}

// forward takes a packet from a node's port to the one it leaves by.
func (r *run) forward(p *port, f *flight) {
	if f.generation != r.network.generation {
		r.reroutes(p, f)
	}
	if f.whole != nil && f.whole.until == f.at {
		r.putTogether(p, f)
		return
	}
	r.onward(f.hop(), f)
}

// onward gives a packet to the port that it leaves a node by.
func (r *run) onward(h *hop, f *flight) {
	if h.wraps && f.inside == nil { // a part of a packet that was divided here
		f.inside = &tunnel.Inside{}
	}
	if f.order != nil && !r.inOrder(h, f) {
		return
	}
	h.Forward(&f.Packet, f.inside)
	if !r.fits(h, f) {
		return
	}
	p := h.out
	taken, went := r.offer(p, policy.Out, f, !p.sending && p.ring == nil && r.now >= p.clock.Ready() && !r.options.everyEvent)
	if !taken {
		return
	}
	if h.wraps {
		r.number(h, f)
	}
	if went {
		r.through(&p.out, f, 0)
		r.begin(p, f)
	} else {
		r.send(p)
	}
}

// leave takes a packet that a port has sent onto the link, or to the hosts.
func (r *run) leave(p *port, f *flight) {
	switch {
	case f.at == len(f.route)-1 && r.outside != nil:
		r.handOver(p, f)
	case f.at == len(f.route)-1:
		r.deliver(f, r.now)
	case p.carrier == nil || p.carrier.gone && !p.carrier.sending:
		r.travel(p, f)
	case p.computes && p.carrier.hasRoom(f, r.now):
		r.carried(p, f, r.now)
	case p.computes:
		r.carrierDrops(p, f)
	default:
		f.Arrived = r.now
		f.Size = int32(p.carrier.framing.Size(f.Length, f.Labels()))
		if p.carrier.queue.Push(r.now, &f.Packet) != queue.Taken {
			r.carrierDrops(p, f)
			return
		}
		r.atCarrier(p.carrier, f, func(at int, k *slotSeries) { k.offer(at, int64(f.Size), true) })
		r.carry(p)
	}
}
