package datapath

import (
	"time"

	"imbrel/core/classify"
	"imbrel/core/policy"
	"imbrel/core/unit"
)

// lookEvery is how often a path looks whether an entry has come or gone: the
// load of the interface is measured over as long.
const lookEvery = 100 * time.Millisecond

// pressure measures the load of the interface.
type pressure struct {
	bytes int64         // sent since the last look
	end   time.Duration // of the time being measured
	whole unit.Rate
}

// A present is an entry that is there, or not at the moment.
type present struct {
	class   *policy.Class
	element *element
	when    *policy.When // nil: always
	there   bool
	since   time.Duration // from when the load has been beyond the threshold; negative: it is not

	came  time.Duration // last
	held  time.Duration // how long it was there before
	times int
}

// Presence returns for how long, until now, the entry of a class was there, and
// how often it came; of one without a when, nothing and false.
func (p *Path) Presence(class int, now time.Duration) (held time.Duration, times int, sometimes bool) {
	for _, l := range p.whens {
		for i := range l.entries {
			if e := &l.entries[i]; e.when != nil && int(e.element.number) == class {
				if held = e.held; e.there {
					held += max(now-e.came, 0)
				}
				return held, e.times, true
			}
		}
	}
	return 0, 0, false
}

// look brings up to date which entries are there, and measures anew.
func (p *Path) look(now time.Duration) {
	load := unit.Rate(0)
	if passed := now - p.pressure.end; passed < lookEvery { // otherwise it was silent meanwhile
		load = unit.Rate(float64(p.pressure.bytes) * 8 / lookEvery.Seconds())
	}
	at := p.pressure.end
	p.pressure.bytes, p.pressure.end = 0, now-now%lookEvery+lookEvery
	for _, l := range p.whens {
		changed := l.matcher == nil
		for i := range l.entries {
			if e := &l.entries[i]; e.when != nil && e.look(now, at, load, p) {
				changed = true
			}
		}
		if changed {
			l.compile()
		}
	}
}

// look reports whether the entry has come or gone.
func (e *present) look(now, at time.Duration, load unit.Rate, p *Path) bool {
	was := e.there
	switch {
	case e.when.Time != nil:
		e.there = e.when.Time.Holds(p.startAt.Add(now))
	default:
		threshold, beyond := &e.when.Starts, load >= e.when.Starts.Load.Of(p.pressure.whole)
		if e.there {
			threshold, beyond = &e.when.Ends, load < e.when.Ends.Load.Of(p.pressure.whole)
		}
		if !beyond {
			e.since = -1
			break
		}
		if e.since < 0 {
			e.since = max(0, at-lookEvery) // the time measured began
		}
		if now-e.since >= threshold.For {
			e.there, e.since = !e.there, -1
		}
	}
	switch {
	case e.there == was:
		return false
	case e.there:
		e.came = now
		e.times++
	default:
		e.held += now - e.came
	}
	return true
}

// compile makes the matcher of the entries that are there.
func (l *level) compile() {
	var classes []*policy.Class
	l.elements = l.elements[:0]
	for i := range l.entries {
		if e := &l.entries[i]; e.there {
			classes = append(classes, e.class)
			l.elements = append(l.elements, e.element)
		}
	}
	l.matcher = classify.Compile(classes)
}
