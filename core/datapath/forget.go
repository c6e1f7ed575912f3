package datapath

import (
	"time"

	"imbrel.example/imbrel/core/meter"
)

// Forget resets the counts at a time. Packets that wait count as offered again, so that offered = sent + dropped
// + waiting still holds; waiting returns how many bytes of a class alone wait. A limit with a `when` that is in
// force counts as having come into force now.
func (p *Path) Forget(now time.Duration, waiting func(class int) int64) {
	for i, c := range p.counters {
		if c == nil {
			continue
		}
		packets := c.OfferedPackets - c.SentPackets
		for _, n := range c.Drops {
			packets -= n
		}
		if *c = (Counters{OfferedPackets: packets}); packets > 0 {
			c.OfferedBytes = uint64(waiting(i))
			c.MaxQueueBytes = waiting(i)
		}
	}
	p.began = now
	for _, t := range p.triggers {
		if now >= p.pressure.end {
			p.look(now)
		}
		t.held, t.times, t.came = 0, 0, now
		if t.inForce {
			t.times = 1
		}
	}
	for i := range p.elements {
		e := &p.elements[i]
		if s := e.instances; s != nil && s.first == e.number {
			s.forget(e)
		}
	}
}

// forget begins to count the instances of an element anew.
func (e *instanceSet) forget(owner *element) {
	clear(e.gone)
	e.forgotten, e.shared, e.most = 0, 0, len(e.instances)
	e.ranks, e.floor = e.ranks[:0], 0
	for _, i := range e.instances {
		i.Counts, i.ranked = Counts{}, false
		if m := owner.entry.Meter; m != nil {
			i.Need = meter.NewNeed(m.Rate)
		}
	}
	for _, i := range e.instances {
		for _, s := range i.states {
			if s.waiting == nil {
				continue
			}
			for o := i; o != nil; o = o.key.outer {
				o.Offered += uint64(s.waiting.Packets)
				o.OfferedBytes += uint64(s.waiting.Bytes)
				if !o.ranked && o.OfferedBytes > o.set.floor {
					o.set.rank(o)
				}
			}
		}
	}
}

// Close ends the time over which rates are taken: packets that an instance sends later are in no rate, and no
// limit with a `when` is in force any more.
func (p *Path) Close(now time.Duration) { p.closed, p.ended = true, now }

// Limited reports whether the upper limit of an entry is in force.
func (p *Path) Limited(class int) bool {
	e := &p.elements[class]
	return e.capped || e.limited
}
