package datapath

import (
	"time"

	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/unit"
)

// lookEvery is how often a path checks whether an entry or a limit comes into force
// or goes out of force: the load of the interface is measured over as long.
const lookEvery = 100 * time.Millisecond

// pressure measures the load of the interface.
type pressure struct {
	bytes int64         // sent since the last look
	end   time.Duration // of the time being measured
}

// A Limit is what a `when` puts in and out of force.
type Limit uint8

// What has a `when`.
const (
	EntryLimit Limit = iota
	AtMostLimit
	PolicerLimit
	BlockLimit
)

// String returns the key of the language that has the `when`, or "" for the entry.
func (l Limit) String() string { return [...]string{"", "at-most", "police", "block"}[l] }

// A trigger puts an entry or a limit in and out of force.
type trigger struct {
	element *element
	limit   Limit
	when    *plan.When
	inForce bool
	since   time.Duration // from when the load has been beyond the threshold; negative: it is not
	judged  time.Duration // until when a named time is known

	came  time.Duration // last
	held  time.Duration // how long it was in force before
	times int
}

// watch makes the triggers of an element.
func (p *Path) watch(e *element) {
	add := func(l Limit, w *plan.When) {
		if w != nil {
			p.triggers = append(p.triggers, &trigger{element: e, limit: l, when: w, since: -1})
		}
	}
	add(EntryLimit, e.entry.When)
	if m := e.entry.AtMost; m != nil {
		add(AtMostLimit, m.When)
	}
	if m := e.entry.Meter; m != nil {
		add(PolicerLimit, m.When)
	}
	add(BlockLimit, e.entry.BlockWhen)
}

// begin puts in force what is so at the start.
func (p *Path) begin() {
	if p.whens = len(p.triggers) > 0; !p.whens {
		return
	}
	var changed []*plan.Entry
	for _, t := range p.triggers {
		if t.limit == EntryLimit {
			changed = append(changed, t.element.entry)
		}
	}
	p.classifier.InForce(changed, func(*plan.Entry) bool { return false })
	for _, t := range p.triggers {
		if t.when.Time != nil && t.when.Time.Holds(p.startAt) {
			t.turn(0, p)
		}
	}
	p.pressure.end = lookEvery
}

// Presence is for how long something with a `when` was in force, and how often it
// came into force.
type Presence struct {
	Limit Limit
	Held  time.Duration
	Times int
}

// Presences returns, of all that has a `when` at the entry of a class, for how long
// it was in force until now.
func (p *Path) Presences(class int, now time.Duration) []Presence {
	var out []Presence
	for _, t := range p.triggers {
		if int(t.element.number) != class {
			continue
		}
		if now >= p.pressure.end {
			p.look(now)
		}
		o := Presence{Limit: t.limit, Held: t.held, Times: t.times}
		if t.inForce {
			o.Held += max(now-t.came, 0)
		}
		out = append(out, o)
	}
	return out
}

// look brings up to date what is in force, and measures anew.
func (p *Path) look(now time.Duration) {
	end := p.pressure.end
	load := unit.Rate(float64(p.pressure.bytes) * 8 / lookEvery.Seconds())
	p.pressure.bytes, p.pressure.end = 0, now-now%lookEvery+lookEvery
	for _, t := range p.triggers {
		if t.when.Time != nil {
			t.byTime(now, p)
			continue
		}
		t.byLoad(max(0, end-lookEvery), end, load, p)
		if silent := now - now%lookEvery; silent > end { // nothing was sent meanwhile
			t.byLoad(end, silent, 0, p)
		}
	}
}

// byTime puts in or out of force what depends on a named time, minute by
// minute since it was last judged.
func (t *trigger) byTime(now time.Duration, p *Path) {
	for at := t.judged; ; {
		if t.when.Time.Holds(p.startAt.Add(at)) != t.inForce {
			t.turn(at, p)
		}
		if at == now {
			break
		}
		next := p.startAt.Add(at).Truncate(time.Minute).Add(time.Minute).Sub(p.startAt)
		at = min(next, now)
	}
	t.judged = now
}

// byLoad puts in or out of force what depends on the load, which was the same
// from one time to another.
func (t *trigger) byLoad(from, to time.Duration, load unit.Rate, p *Path) {
	for {
		threshold, beyond := &t.when.Starts, load >= t.when.Starts.Load
		if t.inForce {
			threshold, beyond = &t.when.Ends, load < t.when.Ends.Load
		}
		if !beyond {
			t.since = -1
			return
		}
		if t.since < 0 {
			t.since = from
		}
		at := max(t.since+threshold.For, from+min(to-from, lookEvery))
		if at > to {
			return
		}
		t.since = -1
		t.turn(at, p)
		if from = at; from == to {
			return
		}
	}
}

// turn changes whether what the trigger is for is in force.
func (t *trigger) turn(at time.Duration, p *Path) {
	t.inForce = !t.inForce
	since := max(at, p.began)
	if p.closed {
		since = min(since, p.ended)
	}
	if t.inForce {
		t.came = since
		t.times++
	} else {
		t.held += since - t.came
	}
	e := t.element
	if p.turned != nil {
		p.turned(e.entry, t.limit, at, t.inForce)
	}
	switch t.limit {
	case EntryLimit:
		p.classifier.InForce([]*plan.Entry{e.entry}, func(*plan.Entry) bool { return t.inForce })
	case PolicerLimit:
		e.Metering = t.inForce
	case BlockLimit:
		e.Block = t.inForce
	case AtMostLimit:
		e.limited = t.inForce
		if e.instances == nil {
			p.limit(at, e, e.own.node)
			return
		}
		for _, i := range e.instances.instances {
			p.limit(at, e, i.states[e.number-e.instances.first].node)
		}
	}
}

// limit puts the ceiling of an element in force at one of its nodes, or takes it off.
func (p *Path) limit(now time.Duration, e *element, node int) {
	m := e.entry.AtMost
	rate := m.Rate
	if !e.limited {
		rate = 0
	}
	p.tree.Limit(now, node, rate, m.Peak, m.Credit)
}

// Shape gives the whole policy another shape from a time on. The promises shrink or grow with the shape.
func (p *Path) Shape(now time.Duration, rate unit.Rate) {
	if p.tree != nil {
		p.tree.Limit(now, 0, rate, 0, p.credit)
	}
}
