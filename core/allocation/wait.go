package allocation

import (
	"time"

	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/unit"
)

// longestWait bounds how long a packet of an entry waits when everybody wants
// everything, until the last of it is sent; full is the largest packet. There is no bound for an entry that
// is promised nothing, that has instances or is within one, whose promise a limit with a "when" takes away,
// or that comes after a priority without a bound.
//
// Its own queue holds its limit, or one packet, which may always wait; a policer that
// drops lets no more than its bursts wait. That drains at the entry's promise, or with
// priority at what the more urgent leave. At every level it waits for the bursts of the
// more urgent, for a packet that is being sent, and for one at its own rate, by which
// whole packets lag behind the fluid (Parekh & Gallager 1993).
func longestWait(p *plan.Plan, e *plan.Entry, full unit.Size) (bound time.Duration, ok bool) {
	if !e.Leaf() || e.Block || !p.Kept() || e.Policed != nil {
		return 0, false
	}
	var wait time.Duration
	rate := e.Queue.Rate
	for o := e; o != nil; o = o.Parent {
		around, left, bursts, ok := p.Ahead(o, full)
		if !ok || o.Each != 0 || unkept(o) {
			return 0, false
		}
		own := o.Inside()
		switch {
		case o.Priority > 0:
			wait += left.Time(bursts + full)
			own = left
			if m := o.AtMost; m != nil && m.When == nil {
				own = min(left, m.Rate)
			}
		case own < unit.MinRate:
			return 0, false
		default:
			wait += around.Time(bursts+full) + own.Time(full)
		}
		if o == e && o.Priority > 0 {
			rate = own
		}
	}
	backlog := max(e.Queue.Bytes, unit.Size(e.Queue.Packets)*full, full)
	for o := e; o != nil; o = o.Parent {
		if bound, b := o.Policing(); b > 0 && bound <= rate {
			backlog = min(backlog, max(b, full))
		}
	}
	if rate < unit.MinRate {
		return 0, false
	}
	return wait + rate.Time(backlog), true
}

// BelowPromise bounds how long a packet of own bytes of an entry waits, until the last of it is sent, while the
// entry sends no faster than its promise and others send whatever they like in packets of up to full bytes.
// Sizes are as the interface counts. It reports false where there is no bound: for an entry with others within
// it or with instances, one that is promised nothing, and one after a priority without a bound.
//
// A packet's deadline is its arrival and the time that it takes at the promise. It is missed by at most the time
// that one packet already being sent and the bursts of more urgent entries take, at the rate that these leave;
// within an entry, at the rate that the entry is promised (Bennett & Zhang 1996, theorem 1 for each level).
func BelowPromise(p *plan.Plan, e *plan.Entry, own, full unit.Size) (time.Duration, bool) {
	if !e.Leaf() || e.Block || !p.Kept() || e.Promise < unit.MinRate {
		return 0, false
	}
	var wait time.Duration
	for o := e; o != nil; o = o.Parent {
		_, left, bursts, ok := p.Ahead(o, full)
		if !ok || o.Each != 0 || unkept(o) {
			return 0, false
		}
		wait += left.Time(bursts+full) + time.Nanosecond
		if o == e {
			if o.Priority == 0 {
				left = o.Promise
			}
			wait += left.Time(own) + time.Nanosecond
		}
	}
	return wait, true
}

// unkept reports whether a limit that is in force only sometimes is below the promise.
func unkept(e *plan.Entry) bool {
	return e.AtMost != nil && e.AtMost.When != nil && e.AtMost.Rate < e.Promise
}
