package simulate

import (
	"time"

	"imbrel.example/imbrel/core/datapath"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/queue"
	"imbrel.example/imbrel/core/unit"
)

// A carrier is the provider's plain FIFO where a link carries less than the
// interface sends. It counts bytes by a framing of its own.
type carrier struct {
	rate    unit.Rate
	clock   unit.Clock
	waiting []carriage // of those whose departure is computed, from first on
	first   int
	waits   int64 // bytes
	framing packet.Framing
	delay   measure.Distribution
	bytes   uint64         // carried in the measured time
	classes []carriedClass // by the first class that took the packets
	drops   uint64
	queue   queue.FIFO // of those that are not computed
	sending bool
	shared  *shared // with the other direction; nil: it has the rate for itself
	gone    bool    // when it is empty: the link carries what the interface sends again
}

// A shared is a medium that both directions of a link use by turns.
type shared struct {
	clock      unit.Clock // when what is being sent is sent
	last       *port      // that sent
	turnAround time.Duration
}

// A carriedClass is what a carrier did with the packets of a class.
type carriedClass struct{ bytes, drops uint64 }

// carry begins to carry the next packet of a carrier that is not carrying.
func (r *run) carry(p *port) {
	c := p.carrier
	if c.sending {
		return
	}
	clock := &c.clock
	if c.shared != nil { // first come, first served
		other := p.peer.carrier
		if a, b := c.queue.First(), other.queue.First(); b != nil && (a == nil || b.Arrived < a.Arrived) {
			p, c, other = p.peer, other, c
		}
		clock, other.sending = &c.shared.clock, c.queue.First() != nil
	}
	pkt := c.queue.Pop(r.now)
	if pkt == nil {
		return
	}
	c.sending = true
	if r.now >= r.plan.WarmUp {
		c.delay.Add(r.now - pkt.Arrived)
	}
	f := pkt.Owner.(*flight)
	f.steps = append(f.steps, measure.Step{Place: p.carrierPlace, Slot: f.prediction.first, Wait: r.now - pkt.Arrived})
	r.atCarrier(c, f, func(at int, k *slotSeries) { k.send(at, int64(pkt.Size), r.now-pkt.Arrived) })
	if r.measured() {
		c.bytes += uint64(pkt.Size)
		c.class(r, f).bytes += uint64(pkt.Size)
	}
	if s := c.shared; s != nil && s.last != p {
		if s.last != nil {
			clock.NotBefore(clock.Ready() + s.turnAround)
		}
		s.last = p
	}
	clock.NotBefore(r.now)
	clock.Advance(int(pkt.Size), c.rate)
	r.events.plan(happens(clock.Ready(), carried, p.number, f))
}

// class returns what the carrier counts of a packet's class.
func (c *carrier) class(r *run, f *flight) *carriedClass {
	if c.classes == nil {
		c.classes = make([]carriedClass, len(r.classes))
	}
	return &c.classes[f.prediction.first]
}

// A carriage is when the carrier begins to carry a packet, of so many bytes.
type carriage struct {
	begins time.Duration
	size   int32
}

// hasRoom reports whether a carrier whose departures are computed has room for a packet at a time. A packet that it begins to carry at that time
// still counts as waiting. The packet gets its size as the carrier counts.
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

// carried computes how a carrier with room carries a packet from a time on, and plans its arrival at the next node.
func (r *run) carried(p *port, f *flight, at time.Duration) {
	c := p.carrier
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
	r.arrives(p, f, c.clock.Ready())
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

// packets returns how many packets wait at a carrier.
func (c *carrier) packets() int { return c.queue.Level().Packets + len(c.waiting) - c.first }
