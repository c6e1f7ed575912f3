package simulate

import (
	"slices"
	"time"

	"imbrel.example/imbrel/core/datapath"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/plan"
)

// Nothing can come between the time at which a port begins to send a packet and the time at which the packet comes to the next node, where the
// link and its carrier are what they are: so that time is computed at once, and the two or three events in between are spared.

// computes reports whether the departures of a port's packets may be computed. What is random, metered, captured or changed on the way happens at
// its own time.
func (r *run) computes(p *port) bool {
	o := &r.options
	if o.everyEvent || o.Tap != nil || r.outside != nil || len(r.plan.Events) > 0 || p.peer == nil || p.down || p.ring != nil || p.medium != nil || p.bought != nil {
		return false
	}
	if c := p.carrier; c != nil && (c.shared != nil || o.Every > 0) {
		return false
	}
	a := p.out.attached
	return a == nil || !slices.ContainsFunc(a.Entries, func(e *plan.Entry) bool { return len(e.Whens()) > 0 })
}

// departs lets a packet leave a port at a time that has not come yet. It reports whether it did: the last port of a way gives a packet to its
// host, and the carrier drops one, when the time has come.
func (r *run) departs(p *port, f *flight, at time.Duration) bool {
	if !p.computes || f.at == len(f.route)-1 || f.left || p.carrier != nil && !p.carrier.hasRoom(f, at) {
		return false
	}
	r.leaves(p, f, at)
	if p.carrier != nil {
		at = r.carried(p, f, at)
	}
	r.events.plan(happens(at+p.delay, arrive, p.peer.number, f))
	return true
}

// leaves lets a packet leave a node by a port.
func (r *run) leaves(p *port, f *flight, at time.Duration) {
	f.hop().Leave(&f.Packet, f.inside)
	if o := f.order; o != nil {
		f.SetESP(o.index, f.sequence)
	}
	r.marked(&p.out, f, at)
}

// A carriage is when the carrier begins to carry a packet, of so many bytes.
type carriage struct {
	begins time.Duration
	size   int32
}

// hasRoom reports whether a carrier whose packets' times are computed takes a packet that comes to it at a time. Whatever begins to be carried
// at that time waits until then.
func (c *carrier) hasRoom(f *flight, at time.Duration) bool {
	for c.first < len(c.waiting) && c.waiting[c.first].begins < at {
		c.waits -= int64(c.waiting[c.first].size)
		c.first++
	}
	if c.first == len(c.waiting) || c.first >= 64 && 2*c.first > len(c.waiting) {
		c.waiting = c.waiting[:copy(c.waiting, c.waiting[c.first:])]
		c.first = 0
	}
	f.Size = int32(c.framing.Size(f.Length+int(f.GrowsBy), f.Labels()+int(f.GrowsLabels)))
	return len(c.waiting) == 0 || c.waits+int64(f.Size) <= c.queue.Bytes
}

// carried lets a carrier carry a packet that comes to it at a time, and returns until when.
func (r *run) carried(p *port, f *flight, at time.Duration) time.Duration {
	c := p.carrier
	f.Size = int32(c.framing.Size(f.Length, f.Labels()))
	begins := max(at, c.clock.Ready())
	if begins > at {
		c.waiting = append(c.waiting, carriage{begins, f.Size})
		c.waits += int64(f.Size)
	}
	if begins >= r.plan.WarmUp {
		c.delay.Add(begins - at)
		if begins < r.plan.Lasts {
			c.bytes += uint64(f.Size)
			c.class(r, f).bytes += uint64(f.Size)
		}
	}
	f.steps = append(f.steps, measure.Step{Place: p.carrierPlace, Slot: f.prediction.first, Wait: begins - at})
	c.clock.NotBefore(begins)
	c.clock.Advance(int(f.Size), c.rate)
	return c.clock.Ready()
}

// packets returns how many packets wait at a carrier.
func (c *carrier) packets() int { return c.queue.Level().Packets + len(c.waiting) - c.first }

// marked counts the marks below and above IP with which a packet leaves a path at a time.
func (r *run) marked(p *path, f *flight, at time.Duration) {
	if !f.Tagged && f.Labels() == 0 || p.Path == nil || int(f.Slot) >= len(p.names) || at < r.plan.WarmUp { // Path and names: it was taken before an event changed the policy
		return
	}
	if p.pcps == nil {
		p.pcps, p.tcs = make([][8]uint64, len(p.names)), make([][8]uint64, len(p.names))
	}
	pcp, tagged := f.PCP()
	tc, labelled := f.TC()
	for i := int(f.Slot); i >= 0; i = p.Parent(i) {
		if tagged {
			p.pcps[i][pcp]++
		}
		if labelled {
			p.tcs[i][tc]++
		}
	}
}

// carrierDrops loses a packet for which a carrier has no room.
func (r *run) carrierDrops(p *port, f *flight) {
	if r.counts(f) {
		p.carrier.drops++
		p.carrier.class(r, f).drops++
	}
	r.atCarrier(p.carrier, f, func(at int, k *slotSeries) { k.offer(at, int64(f.Size), false) })
	f.steps = append(f.steps, measure.Step{Place: p.carrierPlace, Slot: f.prediction.first, Reason: datapath.QueueFull})
	r.gone(f)
}
