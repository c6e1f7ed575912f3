package share

import (
	"time"

	"imbrel/core/meter"
	"imbrel/core/plan"
	"imbrel/core/unit"
)

// longestWait bounds how long a packet of an entry waits when everybody wants
// everything, in ms, until the last of it is sent. There is no bound for an entry that
// is promised nothing, or that comes after a priority without a bound.
//
// Its own queue holds its limit, or one packet, which may always wait; a policer that
// drops lets no more than its bursts wait. That drains at the entry's promise, or with
// priority at what the more urgent leave. At every level it waits for the bursts of the
// more urgent, for a packet that is being sent, and for one at its own rate, by which
// whole packets lag behind the fluid (Parekh & Gallager 1993).
func longestWait(p *plan.Plan, e *plan.Entry) (ms float64, ok bool) {
	if !e.Leaf() || e.Block || !p.Kept() {
		return 0, false
	}
	var wait time.Duration
	rate := e.Queue.Rate
	for o := e; o != nil; o = o.Parent {
		around, left, bursts, ok := ahead(p, o)
		if !ok {
			return 0, false
		}
		own := o.Inside()
		switch {
		case o.Priority > 0:
			wait += left.Time(bursts + p.MaxPacket)
			own = left
			if m := o.AtMost; m != nil && m.When == nil {
				own = min(left, m.Rate)
			}
		case own < unit.MinRate:
			return 0, false
		default:
			wait += around.Time(bursts+p.MaxPacket) + own.Time(p.MaxPacket)
		}
		if o == e && o.Priority > 0 {
			rate = own
		}
	}
	backlog := max(e.Queue.Bytes, unit.Size(e.Queue.Packets)*p.MaxPacket, p.MaxPacket)
	for o := e; o != nil; o = o.Parent {
		if bound, b := policed(o); b > 0 && bound <= rate {
			backlog = min(backlog, max(b, p.MaxPacket))
		}
	}
	if rate < unit.MinRate {
		return 0, false
	}
	return float64(wait+rate.Time(backlog)) / 1e6, true
}

// ahead returns the rate that an entry shares with its siblings, what those served
// before it leave of that, and how much these may send at once. It reports false when
// one of them has no bound.
func ahead(p *plan.Plan, e *plan.Entry) (around, left unit.Rate, bursts unit.Size, ok bool) {
	siblings, around := p.Top, p.Whole
	if e.Parent != nil {
		siblings, around = e.Parent.Inner, e.Parent.Inside()
	}
	left = around
	type part struct {
		ceiling unit.Rate
		burst   unit.Size
	}
	most := make(map[string]part) // by class: of alternatives the largest
	for _, o := range siblings {
		if o.Name == e.Name || o.Priority == 0 || o.Block || e.Priority > 0 && o.Priority > e.Priority {
			continue
		}
		if !o.Bounded || o.Each != 0 {
			return 0, 0, 0, false
		}
		_, b := policed(o)
		if m := o.AtMost; m != nil {
			b = max(b, m.Credit)
		}
		last := most[o.Name]
		next := part{max(last.ceiling, o.Ceiling), max(last.burst, b+p.MaxPacket)}
		most[o.Name] = next
		left -= next.ceiling - last.ceiling
		bursts += next.burst - last.burst
	}
	return around, left, bursts, around >= unit.MinRate && left >= unit.MinRate
}

// policed returns what a policer that drops lets pass: for good, and at once; 0 when
// there is none.
func policed(e *plan.Entry) (rate unit.Rate, burst unit.Size) {
	m := e.Meter
	if m == nil {
		return 0, 0
	}
	rate, ok := m.Bound()
	switch {
	case !ok:
		return 0, 0
	case m.Second > 0 && !m.Actions[meter.Yellow].Drop:
		return rate, m.Burst + m.Second
	}
	return rate, m.Burst
}
