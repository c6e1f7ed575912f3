package measure

import (
	"math"
	"slices"
	"time"

	"imbrel.example/imbrel/core/datapath"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

// Flows collects what the TCP flows of one traffic did: its flows from their sender's and
// their application's side.
type Flows struct {
	from, until time.Duration // when they are to run
	flows       []flowOfBytes
	segments    int64
	resent      int64
	timeouts    int64
	begun, done int64
	trips       Distribution
	completion  Distribution
	unfinished  Distribution // how long those had that did not end
}

// A flowOfBytes is what arrived of one flow.
type flowOfBytes struct {
	bytes  int64
	begun  time.Duration // 0: with all
	ended  time.Duration // 0: it has not
	opened bool
}

// An oneWay is a direction of a traffic.
type oneWay struct {
	traffic int32
	reverse bool
}

// Flows returns what is collected of the TCP flows of a traffic with data in a direction,
// which run from one time until another.
func (c *Collector) Flows(traffic int, reverse bool, flows int, from, until time.Duration) *Flows {
	f := &Flows{from: from, until: until, flows: make([]flowOfBytes, flows)}
	if c.tcp == nil {
		c.tcp = make(map[oneWay]*Flows)
	}
	c.tcp[oneWay{int32(traffic), reverse}] = f
	return f
}

// ofTCP returns what was collected of the TCP flows of a tally's traffic with data in its
// direction, nil when there are none.
func (c *Collector) ofTCP(t *Tally) *Flows { return c.tcp[oneWay{t.Traffic, t.Reverse}] }

// overTCP reports whether a tally's traffic is flows of TCP.
func (c *Collector) overTCP(t *Tally) bool {
	return c.ofTCP(t) != nil || c.tcp[oneWay{t.Traffic, !t.Reverse}] != nil
}

// Started books that flow n begins at a time; otherwise it begins when all do.
func (f *Flows) Started(n int, at time.Duration) { f.flows[n].begun = at }

// Arrived books bytes of flow n that its application got.
func (f *Flows) Arrived(n int, bytes int64) { f.flows[n].bytes += bytes }

// Opened books that flow n is open.
func (f *Flows) Opened(n int) { f.flows[n].opened = true }

// Ended books that flow n had all its bytes at a time.
func (f *Flows) Ended(n int, at time.Duration) { f.flows[n].ended = at }

// Sent books a segment with data that was sent, again or for the first time.
func (f *Flows) Sent(again bool) {
	f.segments++
	if again {
		f.resent++
	}
}

// TimedOut books timeouts.
func (f *Flows) TimedOut(n int64) { f.timeouts += n }

// RoundTrip books a round trip that a sender measured.
func (f *Flows) RoundTrip(rtt time.Duration) { f.trips.Add(rtt) }

// Begun books that a transfer, an exchange or a page began.
func (f *Flows) Begun() { f.begun++ }

// Completed books that one was complete after a time.
func (f *Flows) Completed(took time.Duration) { f.done++; f.completion.Add(took) }

// Unfinished books a transfer, exchange or page that was not complete at the end, and how long it had lasted.
func (f *Flows) Unfinished(had time.Duration) { f.unfinished.Add(had) }

// completed returns a statistic of how long transfers, exchanges or pages took, in ns. One that did not end
// counts with the time it had; above says that the true statistic is therefore higher.
func (f *Flows) completed(statistic string) (ns float64, above bool) {
	if f.unfinished.Count() == 0 {
		return f.completion.Statistic(statistic), false
	}
	var all Distribution
	all.Merge(&f.completion)
	all.Merge(&f.unfinished)
	ns = all.Statistic(statistic)
	if statistic == "mean" {
		return ns, true
	}
	// Among equal times the unfinished ones are the longest.
	rank := all.rank(statistic)
	return ns, rank > f.completion.upTo(ns)+f.unfinished.below(ns)
}

// A TCPFigures is what the TCP flows of a traffic met. Goodput is what the applications got.
type TCPFigures struct {
	Flows           int           `json:"flows"`
	Opened          int           `json:"opened"`
	GoodputBps      int64         `json:"goodput_bps"`
	LowestBps       int64         `json:"lowest_flow_bps"`
	HighestBps      int64         `json:"highest_flow_bps"`
	Fairness        *float64      `json:"fairness,omitempty"` // Jain's index of the flows, of two or more
	Segments        int64         `json:"segments"`
	Resent          int64         `json:"resent"`
	Retransmissions float64       `json:"retransmissions"` // the ratio of both
	Timeouts        int64         `json:"timeouts"`
	RTT             *Milliseconds `json:"rtt_ms"`
	Begun           int64         `json:"begun"` // transfers, exchanges or pages
	Completed       int64         `json:"completed"`
	Completion      *Milliseconds `json:"completion_ms"` // one that did not end counts as longer than the time it had
	// Above lists the statistics of Completion whose true figure is higher, since a request or transfer did not end.
	Above []string `json:"completion_is_above,omitempty"`
}

// goodput returns the bits a second of all flows together, and of each.
func (f *Flows) goodput(until time.Duration) (all float64, each []float64) {
	until = min(until, f.until)
	last, bytes := time.Duration(0), int64(0)
	for i := range f.flows {
		k := &f.flows[i]
		end := until
		if k.ended > 0 {
			end = min(end, k.ended)
		}
		last, bytes = max(last, end), bytes+k.bytes
		each = append(each, float64(8*k.bytes)/max(end-max(f.from, k.begun), time.Millisecond).Seconds())
	}
	return float64(8*bytes) / max(last-f.from, time.Millisecond).Seconds(), each
}

func (f *Flows) met(until time.Duration) *TCPFigures {
	all, each := f.goodput(until)
	m := &TCPFigures{Flows: len(f.flows), GoodputBps: int64(math.Round(all)), LowestBps: int64(math.Round(slices.Min(each))), HighestBps: int64(math.Round(slices.Max(each))),
		Segments: f.segments, Resent: f.resent, Retransmissions: part(f.resent, f.segments), Timeouts: f.timeouts,
		RTT: f.trips.Summary(), Begun: f.begun, Completed: f.done}
	var took Distribution
	took.Merge(&f.completion)
	took.Merge(&f.unfinished)
	if m.Completion = took.Summary(); m.Completion != nil {
		for _, statistic := range Statistics() {
			if _, above := f.completed(statistic); above {
				m.Above = append(m.Above, statistic)
			}
		}
	}
	for _, k := range f.flows {
		if k.opened {
			m.Opened++
		}
	}
	if len(each) > 1 && all > 0 {
		var sum, squares float64
		for _, x := range each {
			sum += x
			squares += float64(x * x)
		}
		fairness := round(float64(sum*sum)/float64(len(each))/squares, 4)
		m.Fairness = &fairness
	}
	return m
}

// acknowledges reports whether a tally is of the direction in which no data of TCP flows.
func (c *Collector) acknowledges(t *Tally) bool {
	return c.ofTCP(t) == nil && c.overTCP(t)
}

// ofFlows measures the TCP flows of one traffic, whose data goes the way of the tallies.
func (c *Collector) ofFlows(e *policy.Expectation, way []*Tally, f finding) finding {
	k := c.ofTCP(way[0])
	if k == nil {
		f.other = true
		return f
	}
	flowMeasures[e.Metric](e, k, c, &f)
	return f
}

// flowMeasures measure each metric of TCP, of the flows of one traffic.
var flowMeasures = map[policy.Metric]func(e *policy.Expectation, k *Flows, c *Collector, f *finding){
	policy.Goodput:         func(_ *policy.Expectation, k *Flows, c *Collector, f *finding) { f.value, _ = k.goodput(c.until) },
	policy.Retransmissions: func(_ *policy.Expectation, k *Flows, _ *Collector, f *finding) { f.value = part(k.resent, k.segments) },
	policy.RoundTrip: func(e *policy.Expectation, k *Flows, _ *Collector, f *finding) {
		if k.trips.Count() == 0 {
			f.absent = words.NoRoundTrip.With()
		}
		f.value = k.trips.Statistic(e.Statistic)
	},
	policy.Completion: func(e *policy.Expectation, k *Flows, _ *Collector, f *finding) {
		if k.begun == 0 {
			f.absent = words.FlowsWithoutEnd.With()
		}
		f.value, f.above = k.completed(e.Statistic)
	},
}

// whyTCP says why TCP flows were too slow: what they lost, or where their packets waited
// most.
func (m *Measures) whyTCP(w *Why, r *Result, e *policy.Expectation, f *finding) {
	if e.Metric == policy.Goodput && e.AtMost() || e.Metric != policy.Goodput && e.AtLeast() {
		w.Reason = byOffer
		w.Text = words.TCPTakesAll.With()
		return
	}
	// What is asked for and what is acknowledged goes the other way.
	of := m.bothWays(f.of)
	waits, path := 0.0, time.Duration(0) // of a packet forth and one back
	for _, way := range ways(of) {
		sum, packets := 0.0, int64(0)
		path += leastOf(way)
		for _, t := range way {
			packets += t.received()
			for i := range t.hops {
				sum += t.hops[i].Wait
			}
		}
		waits += sum / float64(max(packets, 1))
	}
	timed := e.Metric == policy.RoundTrip || e.Metric == policy.Completion
	if timed && float64(path) > e.Limit {
		w.Reason = byPath
		w.Text = words.TripTooSlow.With(path)
		return
	}
	waited := e.Metric == policy.RoundTrip || e.Metric == policy.Completion && waits > e.Limit/2
	if s := add(of); s.sent > s.received && !waited {
		both := *f
		both.of = of
		m.whyLost(w, r, e, &both)
		return
	}
	hops, at := most(of, func(h *Hop) int64 { return int64(h.Wait) })
	if at < 0 {
		w.Reason = byPath
		w.Text = words.RoundTripOf.With()
		return
	}
	h := &hops[at]
	cause := m.cause(w, r, h, datapath.Passed, m.span(e, f.of))
	w.Text = words.WaitedMost.With(m.Places[h.Place].Words(), w.Class, time.Duration(h.Wait/float64(h.Packets)), cause)
	if timed && float64(path) > waits {
		w.Text = words.AndTrip.With(w.Text, path)
	}
}

// bothWays returns the tallies of the same traffic in both directions.
func (m *Measures) bothWays(of []*Tally) []*Tally {
	for _, c := range m.Collectors {
		if slices.Contains(c.settled, of[0]) {
			return c.in(func(t *Tally) bool { return t.Traffic == of[0].Traffic })
		}
	}
	return of
}

// An occupant is a slot of an interface in a direction.
type occupant struct {
	at        *policy.Interface
	direction policy.Direction
	slot      int32
}

// closedLoops returns how many more packets of TCP than of others were dropped in each slot. TCP sends until something drops it.
func (m *Measures) closedLoops() map[occupant]int64 {
	c := m.Collectors[0]
	more := make(map[occupant]int64)
	for _, t := range c.settled {
		for i := range t.hops {
			h := &t.hops[i]
			q := &m.Places[h.Place]
			if q.Carrier {
				continue
			}
			n := h.Dropped()
			if !c.overTCP(t) {
				n = -n
			}
			more[occupant{q.Interface, q.Direction, h.Slot}] += n
		}
	}
	return more
}
