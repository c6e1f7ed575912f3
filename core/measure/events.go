package measure

import (
	"time"

	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

// An EventResult says what an event did to each expectation that holds or not at a time.
type EventResult struct {
	Name         string         `json:"name"`
	AtS          float64        `json:"at_s"`
	UntilS       float64        `json:"until_s"`
	DetectedS    *float64       `json:"detected_after_s,omitempty"` // of a link that is down: when the routes follow; nil: they do not, or it is not down
	Expectations []EventOutcome `json:"expectations"`
}

// Holds reports whether the expectations hold before, during and after the event.
func (e *EventResult) Holds() bool {
	for i := range e.Expectations {
		for _, p := range policy.Phases() {
			if o := *e.Expectations[i].Phase(p); o != nil && !o.Holds {
				return false
			}
		}
	}
	return true
}

// An EventOutcome is an expectation before, during and after an event. What is nil was not measured: there is no such time, or nothing was sent.
type EventOutcome struct {
	Text   string        `json:"text"`
	Before *PhaseOutcome `json:"before,omitempty"`
	During *PhaseOutcome `json:"during,omitempty"`
	After  *PhaseOutcome `json:"after,omitempty"`
	// RecoversS is how long after the event has begun the expectation holds again, to a fiftieth of the time that is looked at; nil: it never
	// fails, or it fails to the end.
	RecoversS *float64 `json:"recovers_after_s,omitempty"`
	Stays     bool     `json:"fails_to_the_end,omitempty"`

	unit string
}

// Unit returns the unit of what was measured.
func (o *EventOutcome) Unit() string { return o.unit }

// A PhaseOutcome is what was measured of an expectation in one phase.
type PhaseOutcome struct {
	Measured *float64 `json:"measured"` // nil: nothing arrived that could be measured
	Limit    float64  `json:"limit"`
	Above    bool     `json:"measured_is_above,omitempty"`
	Holds    bool     `json:"holds"`
}

// recoverParts is in how many parts the time of an event and after it is looked at.
const recoverParts = 50

// Phase returns the outcome of a phase.
func (o *EventOutcome) Phase(p policy.Phase) **PhaseOutcome {
	return map[policy.Phase]**PhaseOutcome{policy.Before: &o.Before, policy.During: &o.During, policy.After: &o.After}[p]
}

// eventWindows returns the times in which each expectation is judged for an event, or none: its phases, and the parts in which it may recover.
func eventWindows(h *policy.Rehearsal, n int) (phases map[policy.Phase]Window, parts []Window) {
	phases = make(map[policy.Phase]Window)
	end := time.Duration(0)
	for _, p := range policy.Phases() {
		if from, to, ok := h.Span(n, p); ok {
			phases[p] = Window{from, to}
			end = to
		}
	}
	e := &h.Events[n]
	from := max(e.At, h.WarmUp)
	for i := range time.Duration(recoverParts) {
		w := Window{from + (end-from)*i/recoverParts, from + (end-from)*(i+1)/recoverParts}
		if w.From < w.To {
			parts = append(parts, w)
		}
	}
	return phases, parts
}

// judgesEvents reports whether the expectations are judged by the events.
func judgesEvents(h *policy.Rehearsal) bool {
	for i := range h.Expect {
		if momentary(&h.Expect[i]) {
			return len(h.Events) > 0
		}
	}
	return false
}

// exceeds reports whether another outcome of an expectation is worse.
func (o *Outcome) exceeds(e *policy.Expectation, other *Outcome) bool {
	switch {
	case o.Measured == nil || other.Measured == nil:
		return o.Measured != nil
	case e.AtLeast():
		return *other.Measured < *o.Measured
	}
	return *other.Measured > *o.Measured
}

// events judges each expectation before, during and after each event. One that holds over the whole time and fails in a phase fails the rehearsal:
// its outcome is that of the phase in which it fails most.
func (m *Measures) events(r *Result) {
	for n := range m.Rehearsal.Events {
		e := &m.Rehearsal.Events[n]
		until := e.Until(m.Rehearsal.Lasts)
		out := EventResult{Name: e.Name, AtS: e.At.Seconds(), UntilS: until.Seconds(), Expectations: []EventOutcome{}}
		if e.Detected > 0 {
			s := e.Detected.Seconds()
			out.DetectedS = &s
		}
		phases, parts := eventWindows(m.Rehearsal, n)
		for i := range m.Rehearsal.Expect {
			x := &m.Rehearsal.Expect[i]
			if !momentary(x) {
				continue
			}
			o := EventOutcome{Text: x.Text}
			fails := false
			for _, p := range policy.Phases() {
				w, ok := phases[p]
				if !ok {
					continue
				}
				one := m.outcome(r, x.Within(w.From, w.To))
				if one.Measured == nil && len(m.sentIn(x, w)) == 0 {
					continue
				}
				o.unit = one.Unit
				*o.Phase(p) = &PhaseOutcome{Measured: one.Measured, Limit: one.Limit, Above: one.Above, Holds: one.Holds}
				if one.Holds {
					continue
				}
				fails = fails || p != policy.Before
				if whole := &r.Expectations[i]; whole.Holds || whole.Phase != "" && whole.exceeds(x, &one) {
					one.Phase, one.e, one.Text, one.Whole = string(p)+" "+e.Name, x, x.Text, whole.OverTheWhole()
					*whole, r.Verdict = one, "fail"
				}
			}
			if fails {
				m.recovers(r, x, parts, &o)
			}
			out.Expectations = append(out.Expectations, o)
		}
		r.Events = append(r.Events, out)
	}
}

// sentIn returns the tallies that an expectation is judged by in a window.
func (m *Measures) sentIn(e *policy.Expectation, w Window) []*Tally {
	part := e.Within(w.From, w.To)
	return m.endToEnd(part, e.Subject, m.Collectors[m.window(part)]).of
}

// recovers finds out when an expectation holds again. Packets that another event meets on their way do not count.
func (m *Measures) recovers(r *Result, e *policy.Expectation, parts []Window, o *EventOutcome) {
	fails := make([]bool, len(parts))
	way := time.Duration(0) // of a packet that does not wait
	for i, w := range parts {
		sent := m.sentIn(e, w)
		kept, known := m.holdsIn(r, e, w)
		fails[i] = known && !kept || !known && len(sent) > 0
		for _, t := range sent {
			way = max(way, t.least)
		}
	}
	holds := len(parts) - 1
	for holds >= 0 && fails[holds] {
		holds--
	}
	last := len(parts) - 1
	if w := parts[last]; holds >= 0 && w.To < m.Rehearsal.Lasts && last-holds <= 2+int(way/(w.To-w.From)) { // the rest was on its way when another event began
		last = holds
	}
	for last >= 0 && !fails[last] {
		last--
	}
	switch {
	case last == len(parts)-1:
		o.Stays = true
	case last >= 0:
		s := (parts[last].To - parts[0].From).Seconds()
		o.RecoversS = &s
	}
}

// downOn returns the event of a link that is down in a time, or nil.
func (m *Measures) downOn(l *policy.Link, span Window) *policy.Event {
	for i := range m.Rehearsal.Events {
		if e := &m.Rehearsal.Events[i]; e.Down && e.End.Link == l && e.At <= span.To && e.Until(m.Rehearsal.Lasts) > span.From {
			return e
		}
	}
	return nil
}

// fell returns the event that left a link less than the shape of the policy before it, or nil.
func (m *Measures) fell(p *Place) *policy.Event {
	for i := range m.Rehearsal.Events {
		e := &m.Rehearsal.Events[i]
		rate := e.Sends
		if e.End == p.Interface.Peer() {
			rate = e.Receives
		}
		if p.Plan == nil || p.Plan.Shape > p.Plan.Carries {
			return nil
		}
		if (e.End == p.Interface || e.End == p.Interface.Peer()) && rate != nil && *rate < p.Plan.Shape {
			return e
		}
	}
	return nil
}

// fellWords says why packets queue at a carrier whose link an event left less than the shape.
func fellWords(e *policy.Event, p *plan.Plan, at policy.Place) words.Fact {
	if p.Policy.Follows {
		return words.LinkFellFirst.With(e.Name, p.Policy.FollowsAfter, at)
	}
	return words.LinkFell.With(e.Name, p.Shape, at)
}
