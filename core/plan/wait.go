package plan

import (
	"time"

	"imbrel.example/imbrel/core/meter"
	"imbrel.example/imbrel/core/unit"
)

// Ahead returns the rate that an entry shares with its siblings, what those served
// before it leave of that, and how much these may send at once. It reports false when
// one of them has no bound.
func (p *Plan) Ahead(e *Entry, full unit.Size) (around, left unit.Rate, bursts unit.Size, ok bool) {
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
		_, b := o.Policing()
		if m := o.AtMost; m != nil {
			b = max(b, m.Credit)
		}
		last := most[o.Name]
		next := part{max(last.ceiling, o.Ceiling), max(last.burst, b+full)}
		most[o.Name] = next
		left -= next.ceiling - last.ceiling
		bursts += next.burst - last.burst
	}
	return around, left, bursts, around >= unit.MinRate && left >= unit.MinRate
}

// Policing returns what the policer of an entry, where it drops, lets pass: for good, and at once; 0 when
// there is none.
func (e *Entry) Policing() (rate unit.Rate, burst unit.Size) {
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

// lagging is for how many full packets' time a promise that was not served is made up for at least.
const lagging = 4

// Lag returns for how much time a promise is made up for that was not served: as long as more urgent entries can hold its entry
// back, where their limits bound that.
func (p *Plan) Lag(e *Entry) time.Duration {
	if e.Part <= 0 || e.Priority > 0 {
		return 0
	}
	lag := lagging * e.Part.Time(p.MaxPacket)
	if _, left, bursts, ok := p.Ahead(e, p.MaxPacket); ok {
		lag = max(lag, left.Time(bursts+p.MaxPacket))
	}
	return lag
}
