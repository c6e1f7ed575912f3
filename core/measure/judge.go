package measure

import (
	"math"
	"slices"
	"strings"
	"time"

	"imbrel.example/imbrel/core/bound"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

// A Window is the packets sent from one time until another.
type Window struct{ From, To time.Duration }

// Windows returns the windows that the expectations of a rehearsal ask for, the parts of its ramps, and the phases of its events.
func Windows(h *policy.Rehearsal) []Window {
	var out []Window
	known := make(map[Window]bool)
	add := func(windows ...Window) {
		for _, w := range windows {
			if !known[w] {
				known[w] = true
				out = append(out, w)
			}
		}
	}
	for i := range h.Expect {
		if e := &h.Expect[i]; e.Windowed() {
			add(Window{e.From, min(e.To, h.Lasts)})
		}
	}
	for i := range h.Traffic {
		add(rampWindows(h, &h.Traffic[i])...)
	}
	for n := range h.Events {
		if judgesEvents(h) {
			phases, parts := eventWindows(h, n)
			for _, p := range policy.Phases() {
				if w, ok := phases[p]; ok {
					add(w)
				}
			}
			add(parts...)
		}
	}
	return out
}

// Measures are everything that a verdict is made of.
type Measures struct {
	File       *policy.File
	Rehearsal  *policy.Rehearsal
	Windows    []Window
	Collectors []*Collector  // of the whole time first, then of each window
	Places     []Place       // by the number in a Step
	Quiet      []Interface   // whose policy has a `when`, and to which no packet came
	Bounds     *bound.Result // nil: none were asked for
}

// Judge compares each expectation with what was measured, sets the outcomes, the
// warnings and the verdict.
func (m *Measures) Judge(r *Result) {
	r.Verdict, r.Expectations = "pass", []Outcome{}
	if len(m.Rehearsal.Expect) == 0 {
		r.Verdict = "none"
	}
	for i := range m.Rehearsal.Expect {
		e := &m.Rehearsal.Expect[i]
		o := m.outcome(r, e)
		if !o.Holds {
			r.Verdict = "fail"
		}
		r.Expectations = append(r.Expectations, o)
	}
	m.breaks(r)
	m.events(r)
	m.warn(r)
}

// A finding is what an expectation is measured to be.
type finding struct {
	value  float64
	of     []*Tally    // that it was judged by, end to end
	name   string      // of these, when they are the worst of several
	whole  float64     // what the limit is a part of: 1, or a promise
	absent words.Fact  // why there is no value
	other  bool        // the metric is none of its packets'
	above  bool        // the true figure is higher: something did not end
	burst  float64     // of a rate: how much the burst of a limit can add to it over the time
	path   *bound.Path // of a bound: that with the largest
}

// holds reports whether what was measured keeps an expectation.
func (f *finding) holds(e *policy.Expectation) bool {
	return f.absent.IsZero() && (e.HoldsFor(f.value, f.whole) || f.burst > 0 && e.HoldsFor(f.value-f.burst, f.whole)) && !(f.above && !e.AtLeast())
}

func (m *Measures) outcome(r *Result, e *policy.Expectation) Outcome {
	row := e.Metric.Row()
	per := row.Per
	o := Outcome{Text: e.Text, Unit: row.Unit, e: e}
	f := m.measure(r, e, e.Subject)
	if e.Versus != "" && f.absent.IsZero() {
		o.Unit, per = "ratio", 1
		below := m.measure(r, e, e.Versus)
		switch {
		case !below.absent.IsZero():
			f = below
		case below.value == 0:
			f.absent = words.NoRatioToZero.With(e.Metric, e.Versus)
		default:
			f.value /= below.value
			f.name = ""
		}
	}
	o.Of = f.name
	if !f.absent.IsZero() {
		o.Reason = f.absent
		if o.Why = m.whyAbsent(r, e, &f); f.path != nil {
			o.Why = whyUnproven(e, f.path)
		}
		return o
	}
	o.Limit = round(e.Limit*f.whole/per, 6)
	o.Holds = f.holds(e)
	shown := round(f.value/per, 6)
	o.Measured, o.Above = &shown, f.above
	switch {
	case o.Holds:
	case e.Statistic == policy.Proven:
		o.Why = whyProven(f.path)
	default:
		o.Why = m.why(r, e, &f)
	}
	return o
}

// measure measures one subject of an expectation.
func (m *Measures) measure(r *Result, e *policy.Expectation, subject string) finding {
	if e.Statistic == policy.Proven {
		return m.proven(r, e, subject)
	}
	w := m.window(e)
	if e.Where != nil {
		return m.atInterface(r, e, subject, w)
	}
	return m.endToEnd(e, subject, m.Collectors[w])
}

// window returns the number of the window of an expectation; 0: the whole time.
func (m *Measures) window(e *policy.Expectation) int {
	if !e.Windowed() {
		return 0
	}
	return 1 + slices.Index(m.Windows, Window{e.From, min(e.To, m.Rehearsal.Lasts)})
}

// isTraffic reports whether an expectation's subject is a traffic: a class is asked for
// before a traffic of the same name.
func (m *Measures) isTraffic(subject string) bool {
	if subject == policy.Rest || strings.Contains(subject, "/") || slices.ContainsFunc(m.File.Classes, func(c policy.Class) bool { return c.Name == subject }) {
		return false
	}
	return slices.ContainsFunc(m.Rehearsal.Traffic, func(t policy.Traffic) bool { return t.Name == subject })
}

// endToEnd measures between source and sink. Sums are of all packets of the subject;
// everything else holds for each traffic in each direction, so that it is the worst of
// them: one ruined site of a thousand does not hide in a percentile of all.
func (m *Measures) endToEnd(e *policy.Expectation, subject string, c *Collector) finding {
	traffic := m.isTraffic(subject)
	ts := c.in(func(t *Tally) bool {
		switch {
		case e.Metric == policy.Throughput && c.acknowledges(t):
			return false // of TCP the direction of the data counts
		case traffic:
			return c.names[t.Traffic] == subject
		case e.Metric == policy.Throughput: // of the packets themselves that are in the class
			return c.Sets.Has(t.In, subject)
		}
		return c.Sets.Has(t.judged, subject)
	})
	if len(ts) == 0 {
		return finding{absent: m.noneOf(subject), whole: 1}
	}
	if e.Metric == policy.Drops || e.Metric == policy.Throughput {
		s := add(ts)
		if e.Metric == policy.Drops { // anywhere, the carrier's queue included
			return finding{value: float64(s.sent - s.received), of: ts, whole: 1}
		}
		return finding{value: s.rate, of: ts, whole: 1}
	}
	var worst finding
	groups := ways(ts)
	for i, way := range groups {
		f := m.ofOneWay(e, way, c)
		if i == 0 || worse(e, &f, &worst) {
			worst = f
			if len(groups) > 1 || c.nameOf(way[0]) != subject {
				worst.name = c.nameOf(way[0])
			}
		}
	}
	if worst.other {
		worst = finding{absent: words.NoCall.With(subject), whole: 1}
		at := slices.IndexFunc(ts, c.acknowledges)
		switch ofTCP := e.Metric.Row().OfTCP; {
		case ofTCP && at >= 0:
			worst.absent = words.DataGoesBack.With(c.names[ts[at].Traffic], subject)
		case ofTCP:
			worst.absent = words.NoTCPFlow.With(subject)
		case e.Metric == policy.Dead:
			worst.absent = words.NoHellos.With(subject)
		}
	}
	return worst
}

// noneOf says why no packet counts for a subject.
func (m *Measures) noneOf(subject string) words.Fact {
	var has func(entries []policy.Entry) bool
	has = func(entries []policy.Entry) bool {
		return slices.ContainsFunc(entries, func(e policy.Entry) bool { return e.ClassName.Text == subject || has(e.Inner()) })
	}
	isClass := slices.ContainsFunc(m.File.Classes, func(c policy.Class) bool { return c.Name == subject })
	attached := func(a policy.Attachment) bool { return has(a.Policy.Treat) }
	changed := func(e policy.Event) bool { return e.Attach != nil && attached(*e.Attach) }
	if isClass && !slices.ContainsFunc(m.File.Attach, attached) && !slices.ContainsFunc(m.Rehearsal.Events, changed) {
		return words.NoEntryOf.With(subject)
	}
	return words.NoneSent.With(subject)
}

// worse reports whether a finding keeps an expectation less than another.
func worse(e *policy.Expectation, a, b *finding) bool {
	switch {
	case a.other || b.other:
		return b.other && !a.other
	case !a.absent.IsZero() || !b.absent.IsZero():
		return !a.absent.IsZero() && b.absent.IsZero()
	case e.AtMost():
		return a.value > b.value
	case e.AtLeast():
		return a.value < b.value
	}
	return math.Abs(a.value-e.Limit) > math.Abs(b.value-e.Limit)
}

// ofOneWay measures one traffic in one direction.
func (m *Measures) ofOneWay(e *policy.Expectation, way []*Tally, c *Collector) finding {
	s := add(way)
	f := finding{of: way, whole: 1}
	if e.Metric.Row().OfTCP {
		return c.ofFlows(e, way, f)
	}
	if s.received == 0 && (e.Metric == policy.Delay || e.Metric == policy.Variation || e.Metric == policy.Jitter || e.Metric == policy.Arrival) {
		f.absent = words.NoneArrived.With()
		return f
	}
	packetMeasures[e.Metric](e, way, &s, &f)
	return f
}

// packetMeasures measure each metric that is not of TCP, of the packets of a traffic in one direction and their sum. An absence of "-" says that
// the traffic has no such figure.
var packetMeasures = map[policy.Metric]func(e *policy.Expectation, way []*Tally, s *sum, f *finding){
	policy.Delay: func(e *policy.Expectation, _ []*Tally, s *sum, f *finding) { f.value = s.delay.Statistic(e.Statistic) },
	policy.Variation: func(e *policy.Expectation, _ []*Tally, s *sum, f *finding) {
		f.value = max(0, s.delay.Statistic(e.Statistic)-s.delay.Least())
	},
	policy.Jitter: func(e *policy.Expectation, _ []*Tally, s *sum, f *finding) {
		if f.value = s.worstJitter; e.Statistic != "" {
			f.value = s.jitter.Statistic(e.Statistic)
		}
	},
	policy.Loss: func(_ *policy.Expectation, _ []*Tally, s *sum, f *finding) { f.value = s.loss() },
	policy.Late: func(_ *policy.Expectation, _ []*Tally, s *sum, f *finding) {
		f.value, f.other = part(s.late, s.received), !s.calls
	},
	policy.Dead: func(_ *policy.Expectation, _ []*Tally, s *sum, f *finding) {
		f.value, f.other = float64(s.givenUp), !s.hellos
	},
	policy.Reordered: func(_ *policy.Expectation, _ []*Tally, s *sum, f *finding) { f.value = part(s.reordered, s.received) },
	policy.MOS: func(_ *policy.Expectation, _ []*Tally, s *sum, f *finding) {
		f.value, f.other = s.mos, s.mos == 0
	},
	policy.Arrival: func(e *policy.Expectation, way []*Tally, s *sum, f *finding) {
		right := int64(0)
		for _, t := range way {
			for _, a := range t.arrived {
				if a.dscp == e.DSCP {
					right += a.packets
				}
			}
		}
		f.value = part(right, s.received)
	},
}

// classesAt returns the classes of an interface that are a subject, none twice: not
// those within one that is.
func classesAt(f *Interface, subject string) []*Class {
	var out []*Class
	for i := range f.Classes {
		c := &f.Classes[i]
		within := slices.ContainsFunc(out, func(o *Class) bool { return strings.HasPrefix(c.Class, o.Class+"/") })
		if policy.IsOf(c.Class, subject) && !within {
			out = append(out, c)
		}
	}
	return out
}

// interfacesAt returns the results of the interface that an expectation names: one for each policy that was in force there.
func interfacesAt(r *Result, e *policy.Expectation) []*Interface {
	var out []*Interface
	for i := range r.Interfaces {
		if f := &r.Interfaces[i]; f.place.Interface == e.Where && f.place.Direction == e.Direction {
			out = append(out, f)
		}
	}
	return out
}

// interfaceAt returns that of them which dropped most of what an expectation is about, or nil.
func interfaceAt(r *Result, e *policy.Expectation) *Interface {
	var worst *Interface
	most := uint64(0)
	for _, f := range interfacesAt(r, e) {
		drops := uint64(0)
		for _, c := range classesAt(f, e.Subject) {
			drops += c.Drops.Total()
		}
		if worst == nil || drops > most {
			worst, most = f, drops
		}
	}
	return worst
}

// lasts returns how long a window is, or the whole time.
func (m *Measures) lasts(r *Result, window int) time.Duration {
	if window == 0 {
		return time.Duration(r.DurationS * float64(time.Second))
	}
	w := m.Windows[window-1]
	return w.To - w.From
}

// burstOf returns how much the bursts of classes can add to their rate over a time: a limit lets its burst pass at once,
// then its rate. It is 0 unless every class has a limit, none of them above the expected rate.
func burstOf(classes []*Class, p *plan.Plan, expected float64, over time.Duration) (rate float64) {
	for _, c := range classes {
		e := c.seen.Entry
		if e == nil || p == nil || over <= 0 {
			return 0
		}
		limit, burst := 0.0, 0.0
		if l := e.AtMost; l != nil {
			limit, burst = float64(l.Rate), float64(l.Credit+p.MaxPacket)
		} else if l := e.Meter; l != nil {
			if bound, ok := l.Bound(); ok {
				limit, burst = float64(bound), float64(l.Burst+l.Second)
			}
		}
		if limit == 0 || limit > expected {
			return 0
		}
		rate += 8 * burst / over.Seconds()
	}
	return rate
}

// atInterface measures at the interface that an expectation names, over all the
// entries there that treat the class.
func (m *Measures) atInterface(r *Result, e *policy.Expectation, subject string, window int) finding {
	at := interfacesAt(r, e)
	none := finding{absent: words.NoneCameTo.With(subject, e.WhereName, e.Direction), whole: 1}
	if len(at) == 0 {
		return none
	}
	var classes []*Class
	for _, f := range at {
		classes = append(classes, classesAt(f, subject)...)
	}
	f := at[len(at)-1]
	var all Figures
	promised, found := 0.0, false
	alternatives := make(map[string]bool)
	marked := uint64(0)
	for _, c := range classes {
		g := &c.seen.Windows[window]
		if g.OfferedPackets == 0 {
			continue
		}
		found = true
		all.Drops += g.Drops
		all.SentPackets += g.SentPackets
		all.SentBps += g.SentBps
		all.MaxQueue = max(all.MaxQueue, g.MaxQueue)
		all.Delay.Merge(&g.Delay)
		marked += g.Marks[e.DSCP]
		if c.seen.Entry != nil && !alternatives[c.Class] { // those that differ in `when` are promised it once
			alternatives[c.Class] = true
			promised += float64(c.seen.Entry.Promise)
		}
	}
	out := finding{whole: 1}
	switch {
	case !found:
		return none
	case e.Metric == policy.Drops:
		out.value = float64(uint64(all.Drops) + f.LostOutside)
	case e.Metric == policy.QueueSize:
		out.value = float64(all.MaxQueue)
	case e.Metric == policy.Throughput:
		out.value = float64(all.SentBps)
		if e.OfPromise {
			out.whole = promised
		} else if e.AtMost() {
			out.burst = burstOf(classesAt(f, subject), f.place.Plan, e.Limit, m.lasts(r, window))
		}
	case all.SentPackets == 0:
		return finding{absent: words.NoneLeft.With(subject), whole: 1}
	case e.Metric == policy.Marking:
		out.value = part(int64(marked), int64(all.SentPackets))
	default:
		out.value = all.Delay.Statistic(e.Statistic)
	}
	return out
}
