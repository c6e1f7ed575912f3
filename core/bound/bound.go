package bound

import (
	"cmp"
	"encoding/json"
	"slices"
	"time"

	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/queue"
	"imbrel.example/imbrel/core/traffic"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/words"
)

// A Hop is what a packet meets at one station, at most.
type Hop struct {
	Place    string        // such as ternrock/radio out
	Class    string        // with those around it; "": a plain FIFO
	Max      time.Duration // until it has left; Never: nothing bounds it
	Own      time.Duration // of that, for what its own queue holds, and itself
	Others   time.Duration // for more urgent packets, or those of other classes
	Blocking time.Duration // for a packet that had begun, and those in the hardware's ring
	Ceiling  time.Duration // for an upper limit
	Full     bool          // Own is for all that the queue holds, and not for what comes
	Backlog  unit.Size     // that may wait in the queue; negative: only the queue's limit bounds it
	Size     unit.Size     // that the queue holds
	Arrives  time.Duration // no packet comes here sooner after it was sent
	Sending  time.Duration // of Max, what its own bits take at the rate of the line, at least
	Why      words.Fact    // why nothing bounds it
	Advice   words.Fact    // what to change for less

	Plan  *plan.Plan  // of the place; nil: no policy, or read from a saved result
	Entry *plan.Entry // that takes the packets
	By    *plan.Entry // of the more urgent, the one that takes most
}

// A Path is the way of one direction of a traffic. A traffic whose packets are of several classes has several.
type Path struct {
	Traffic string
	Reverse bool
	Class   string        // the first that takes its packets, or the rest
	Calls   int           // of the traffic, those that go this way; 0: it is no calls
	Reports bool          // these are the control packets of calls
	Min     time.Duration // no packet is quicker
	Max     time.Duration // no packet is slower; Never: nothing bounds it
	Why     words.Fact    // why nothing does
	Saved   time.Duration // by how much Max is less than the sum over the hops: bursts wait once
	Kept    bool          // no packet is lost
	Lost    words.Fact    // what may lose some
	Hops    []Hop

	Loose   bool         // the sender has no bound; false in a result that was read
	Packets [2]unit.Size // the IP lengths of the shortest and of the longest packet
	Slowest unit.Rate    // the lowest rate on the way; 0: there is none

	classes []string // of all hops
}

// A Result is the bounds of a rehearsal.
type Result struct {
	Rehearsal string `json:"rehearsal"`
	Paths     []Path `json:"paths"`
}

// Compute returns the bounds of a rehearsal of a file, with its policies in force. Open opens a capture by the name that the file
// gives it; nil, or an error of it: its packets may go anywhere. A replayed capture has no path in the result.
func Compute(f *policy.File, h *policy.Rehearsal, open func(name string) (traffic.Reader, error)) *Result {
	n := newNetwork(f, h, open)
	r := &Result{Rehearsal: h.Name, Paths: []Path{}}
	if n.why.IsZero() {
		n.solve()
	}
	for _, w := range n.flows {
		if !w.replayed {
			r.Paths = append(r.Paths, w.path(n))
		}
	}
	return r
}

// Of returns the paths of a subject: a traffic, or a class that takes the packets somewhere.
func (r *Result) Of(subject string) (out []*Path) {
	for i := range r.Paths {
		p := &r.Paths[i]
		if p.Traffic == subject || slices.ContainsFunc(p.classes, func(c string) bool { return policy.IsWithin(c, subject) }) {
			out = append(out, p)
		}
	}
	return out
}

// Worst returns the path of a subject whose bound is the largest, or that has none; nil: the subject has no path.
func (r *Result) Worst(subject string) (worst *Path) {
	for _, p := range r.Of(subject) {
		if worst == nil || p.Max > worst.Max {
			worst = p
		}
	}
	return worst
}

// Sends returns a path on which a traffic sends its data; nil: it has none.
func (r *Result) Sends(t *policy.Traffic) *Path {
	for i := range r.Paths {
		if p := &r.Paths[i]; p.Traffic == t.Name && p.Reverse == t.Back() && !p.Reports {
			return p
		}
	}
	return nil
}

// path returns the bounds of a flow.
func (w *flow) path(n *network) Path {
	p := Path{Traffic: w.traffic.Name, Reverse: w.reverse, Class: policy.Rest, Why: n.why, Lost: w.lossy, Loose: len(w.send.patterns) == 0, Packets: [2]unit.Size{unit.Size(w.shortest), unit.Size(w.length)}}
	if p.Reports = w.reports; w.traffic.Kind == policy.Calls && !w.reports {
		p.Calls = w.count
	}
	if p.Why.IsZero() {
		p.Why = w.uncertain
	}
	sum := time.Duration(0)
	for _, v := range w.visits {
		h := v.result
		if h.Place == "" { // nothing was computed
			h = Hop{Place: v.at.name(), Max: Never, Backlog: -1, Why: n.why}
			if v.entry != nil {
				h.Class = v.entry.Name
			}
		}
		h.Sending, h.Arrives = max(v.serviceMin, 0), v.arriveMin
		if q := v.at.queues[v.entry]; q != nil {
			h.Advice = v.at.advice(v, q, &h)
			if p.Lost.IsZero() && n.why.IsZero() {
				p.Lost = v.at.loses(q, n.rehearsal.Lasts)
			}
		}
		p.Hops = append(p.Hops, h)
		p.Min, p.Max = v.arriveMin+v.serviceMin, v.leaveMax
		sum = later(sum, later(h.Max, v.linkDelay+v.linkJitter))
		if v.entry != nil && p.Class == policy.Rest {
			p.Class = v.entry.Name
		}
		if r := unit.Rate(v.at.rate); r > 0 && (p.Slowest == 0 || r < p.Slowest) {
			p.Slowest = r
		}
		if p.Why.IsZero() && h.Max == Never {
			p.Why = h.Why
		}
	}
	if w.stopped && p.Why.IsZero() {
		p.Why = words.UnboundDropped.With()
		p.Lost = p.Why
	}
	if p.Lost.IsZero() && w.replay != nil && n.overtaken(w, p.Max) {
		p.Lost = words.LosesReplay.With(w.replay.Name)
	}
	if p.Why.IsZero() && p.Max != Never {
		p.Saved = max(sum-p.Max, 0)
	} else {
		p.Max = Never
		if p.Lost.IsZero() {
			p.Lost = p.Why
		}
	}
	p.Kept = p.Lost.IsZero()
	p.named()
	return p
}

// named notes the classes of the hops.
func (p *Path) named() {
	for i := range p.Hops {
		if c := p.Hops[i].Class; c != "" {
			p.classes = append(p.classes, c)
		}
	}
}

// loses says what of a queue may lose packets within a time; nothing where it loses none for certain.
func (s *station) loses(q *classQueue, within time.Duration) words.Fact {
	for o := q.entry; o != nil; o = o.Parent {
		if o.Block || o.BlockWhen != nil {
			return words.LosesBlocked.With(o.Name, s.name())
		}
		if o.Meter == nil || !o.Meter.Actions[2].Drop {
			continue
		}
		offered := Nothing()
		for _, e := range s.plan.Entries {
			if i := s.queues[e]; i != nil && (e == o || e.IsWithin(o)) {
				offered = offered.Add(i.offered)
			}
		}
		bucket := bucketOf(o.Meter)
		if len(bucket) == 0 || o.Meter.Aware || offered.ExcessWithin(bucket[0].Rate, within) > bucket[0].Burst-1 {
			return words.LosesPoliced.With(o.Name, s.name())
		}
	}
	if s.rate == 0 && !holds(q.entry) {
		return words.Fact{}
	}
	room := s.room(q)
	if q.entry == nil {
		room = max(s.least, q.maxBits)
	}
	if e := q.entry; e != nil {
		if e.Queue.Packets > 0 {
			room = int64(e.Queue.Packets) * q.minBits
		}
		switch e.Queue.Drop {
		case policy.TailDrop:
		case policy.CoDel, policy.FQCoDel:
			if q.delay > queue.CoDelTarget {
				return words.LosesEarly.With(e.Name, s.name())
			}
		default:
			return words.LosesEarly.With(e.Name, s.name())
		}
	}
	if q.backlog > room {
		return words.LosesFull.With(q.name(), s.name())
	}
	return words.Fact{}
}

// advice says what to change for a smaller bound at a station: the number behind its largest part.
func (s *station) advice(v *visit, q *classQueue, h *Hop) words.Fact {
	e := q.entry
	switch most := max(h.Own, h.Others, h.Blocking, h.Ceiling); {
	case h.Max == Never || h.Max == 0:
		return words.Fact{}
	case s.carrier && s.single && s.first.rate <= s.rate:
		return words.Fact{}
	case s.carrier && s.iface.Link.HalfDuplex > 0:
		return words.SoonerRate.With(s.name())
	case s.carrier:
		return words.SoonerCarrier.With(s.iface.Path())
	case e == nil && h.Own > 2*timeOf(v.maxBits, s.rate):
		return words.SoonerFIFO.With(s.name())
	case e == nil:
		return words.SoonerRate.With(s.name())
	case most == h.Ceiling:
		return words.SoonerLimited.With(e.Name, e.Spec.PlaceOf("at-most"))
	case most == h.Others && h.By != nil && h.By.Meter != nil:
		return words.SoonerBurst.With(h.By.Name, h.By.Meter.Burst, h.By.Spec.PlaceOf("police"))
	case most == h.Others && h.By != nil:
		return words.SoonerUrgent.With(h.By.Name, h.By.Spec.At)
	case most == h.Blocking:
		return words.SoonerBegun.With(s.name(), unit.Size(s.maxPacket/8))
	case h.Full:
		return words.SoonerRoom.With(e.Name, h.Size, e.Spec.PlaceOf("queue"))
	case e.Meter != nil && q.arrivals.atMost() < q.offered.atMost():
		return words.SoonerBurst.With(e.Name, e.Meter.Burst, e.Spec.PlaceOf("police"))
	case e.Priority > 0:
		return words.SoonerCalls.With(e.Name)
	}
	return words.SoonerPromise.With(e.Name, e.Promise, e.Spec.PlaceOf("at-least"))
}

// ms returns a time in milliseconds, nil where it has no bound.
func ms(d time.Duration) *float64 {
	if d == Never {
		return nil
	}
	v := float64(d) / 1e6
	return &v
}

// fromMs is the inverse of ms.
func fromMs(v *float64) time.Duration {
	if v == nil {
		return Never
	}
	return time.Duration(*v*1e6 + 0.5)
}

// hopJSON is a Hop as it is written: times in milliseconds.
type hopJSON struct {
	Place    string     `json:"place"`
	Class    string     `json:"class,omitempty"`
	Max      *float64   `json:"max_ms"`
	Own      *float64   `json:"own_ms"`
	Others   *float64   `json:"others_ms"`
	Blocking *float64   `json:"blocking_ms"`
	Ceiling  *float64   `json:"upper_limit_ms"`
	Arrives  *float64   `json:"arrives_ms"`
	Sending  *float64   `json:"sending_ms"`
	Full     bool       `json:"queue_full"`
	Backlog  *unit.Size `json:"backlog_bytes"`
	Size     unit.Size  `json:"queue_bytes"`
	Why      words.Fact `json:"unbounded,omitzero"`
	Advice   words.Fact `json:"advice,omitzero"`
}

// MarshalJSON writes times in milliseconds.
func (h Hop) MarshalJSON() ([]byte, error) {
	var backlog *unit.Size
	if h.Backlog >= 0 {
		backlog = &h.Backlog
	}
	return json.Marshal(hopJSON{h.Place, h.Class, ms(h.Max), ms(h.Own), ms(h.Others), ms(h.Blocking), ms(h.Ceiling), ms(h.Arrives), ms(h.Sending), h.Full, backlog, h.Size, h.Why, h.Advice})
}

// UnmarshalJSON reads what MarshalJSON wrote.
func (h *Hop) UnmarshalJSON(b []byte) error {
	var w hopJSON
	if err := json.Unmarshal(b, &w); err != nil {
		return err
	}
	*h = Hop{Place: w.Place, Class: w.Class, Max: fromMs(w.Max), Own: fromMs(w.Own), Others: fromMs(w.Others), Blocking: fromMs(w.Blocking), Ceiling: fromMs(w.Ceiling), Arrives: fromMs(w.Arrives), Sending: fromMs(w.Sending), Full: w.Full, Backlog: -1, Size: w.Size, Why: w.Why, Advice: w.Advice}
	if w.Backlog != nil {
		h.Backlog = *w.Backlog
	}
	return nil
}

// pathJSON is a Path as it is written.
type pathJSON struct {
	Traffic   string     `json:"traffic"`
	Direction string     `json:"direction"`
	Class     string     `json:"class"`
	Calls     int        `json:"calls,omitempty"`
	Reports   bool       `json:"rtcp,omitempty"`
	Min       *float64   `json:"min_ms"`
	Max       *float64   `json:"max_ms"`
	Why       words.Fact `json:"unbounded,omitzero"`
	Saved     *float64   `json:"bursts_once_ms"`
	Kept      bool       `json:"loses_none"`
	Lost      words.Fact `json:"may_lose,omitzero"`
	Hops      []Hop      `json:"hops"`
}

// MarshalJSON writes times in milliseconds.
func (p Path) MarshalJSON() ([]byte, error) {
	return json.Marshal(pathJSON{p.Traffic, policy.DirectionOf(p.Reverse), p.Class, p.Calls, p.Reports, ms(p.Min), ms(p.Max), p.Why, ms(p.Saved), p.Kept, p.Lost, p.Hops})
}

// UnmarshalJSON reads what MarshalJSON wrote.
func (p *Path) UnmarshalJSON(b []byte) error {
	var w pathJSON
	if err := json.Unmarshal(b, &w); err != nil {
		return err
	}
	*p = Path{Traffic: w.Traffic, Reverse: w.Direction == "reverse", Class: w.Class, Calls: w.Calls, Reports: w.Reports, Min: fromMs(w.Min), Max: fromMs(w.Max), Why: w.Why, Saved: fromMs(w.Saved), Kept: w.Kept, Lost: w.Lost, Hops: w.Hops}
	p.named()
	return nil
}

// Name names the traffic and its direction.
func (p *Path) Name() string {
	name := p.Traffic
	if p.Reports {
		name += " (RTCP)"
	}
	return policy.Directed(name, p.Reverse)
}

// Longest returns the hop with the largest bound, or nil.
func (p *Path) Longest() (longest *Hop) {
	for i := range p.Hops {
		if h := &p.Hops[i]; longest == nil || h.Max > longest.Max {
			longest = h
		}
	}
	return longest
}

// ByWait returns the hops, those with the longest waits first.
func (p *Path) ByWait() []*Hop {
	var out []*Hop
	for i := range p.Hops {
		out = append(out, &p.Hops[i])
	}
	slices.SortStableFunc(out, func(a, b *Hop) int { return cmp.Compare(b.Max, a.Max) })
	return out
}

// Only leaves in the result the paths of some classes.
func (r *Result) Only(classes []string) {
	r.Paths = slices.DeleteFunc(r.Paths, func(p Path) bool {
		return !slices.ContainsFunc(classes, func(subject string) bool {
			return slices.ContainsFunc(p.classes, func(c string) bool { return policy.IsWithin(c, subject) }) || subject == p.Class
		})
	})
}

// MaxAt returns the bound of the delay that an expectation is about: end to end, or in the queue at an interface; false: the packets do
// not come there.
func (p *Path) MaxAt(e *policy.Expectation) (time.Duration, bool) {
	if e.Where == nil {
		return p.Max, true
	}
	h := p.At(e.WhereName + " " + e.Direction.String())
	switch {
	case h == nil:
		return 0, false
	case h.Max == Never:
		return Never, true
	}
	return max(h.Max-h.Sending, 0), true
}

// FullAt returns the hop with the largest of the bounds that reckon with a full queue, since nothing else bounds what waits there; nil: there
// is none.
func (p *Path) FullAt() *Hop {
	for _, h := range p.ByWait() {
		if h.Full {
			return h
		}
	}
	return nil
}

// At returns what the packets meet at a place, such as "ternrock/radio out"; nil: they do not come there.
func (p *Path) At(place string) *Hop {
	if i := slices.IndexFunc(p.Hops, func(h Hop) bool { return h.Place == place }); i >= 0 {
		return &p.Hops[i]
	}
	return nil
}
