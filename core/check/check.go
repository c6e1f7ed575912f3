// Package check looks at a policy file that can be read and says what of it will not do what
// its author means: each finding with the place, the reason, what follows from it in
// numbers, and the way out. One rule is one file.
package check

import (
	"cmp"
	"encoding/json"
	"net/netip"
	"slices"
	"time"

	"imbrel.example/imbrel/core/allocation"
	"imbrel.example/imbrel/core/classify"
	"imbrel.example/imbrel/core/explain"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/packetset"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/tcp"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/words"
)

// A Level says how much a finding matters.
type Level string

// The levels.
const (
	Error   Level = "error"   // it cannot work
	Warning Level = "warning" // it does not do what most people would mean by it
	Note    Level = "note"    // it does nothing, or is worth a look
)

// A Finding is one mistake in a file: what is wrong, the consequence in this file, and the way out.
type Finding struct {
	Name  string
	Level Level
	At    policy.Place
	Fact  words.Fact
	Edit  *Edit // that mends it, where the way out is certain
	End   int   // the column after what is meant on its line; 0: not known

	where string
	more  int // other interfaces that have the same finding
}

// Text returns the sentence of the finding, with the interface it is about.
func (f *Finding) Text() string {
	if f.where == "" {
		return f.Fact.String()
	}
	return words.FoundAt.With(f.where, f.more, f.Fact).String()
}

// Where returns the place that the finding is about, such as a/wan out; "" where it is about none.
func (f *Finding) Where() string { return f.where }

// Alike reports whether two findings say the same of two places.
func (f *Finding) Alike(g *Finding) bool {
	return f.Name == g.Name && f.Level == g.Level && f.Fact.String() == g.Fact.String() && f.Fact.Consequence() == g.Fact.Consequence() && f.Fact.Fix() == g.Fact.Fix()
}

// Unreadable is the name of the findings of a file that cannot be read.
const Unreadable = "unreadable"

// UnreadableRule is the rule of these findings.
func UnreadableRule() Rule {
	return Rule{Name: Unreadable, Level: Error, About: `The file cannot be read: a key, a name or a value is wrong, or it is no YAML. No command can use it. In text, ` + "`imbrel check`" + ` prints such
mistakes as every other command does, with the line of the file.`}
}

// Mistakes returns what is wrong with a file that cannot be read, as findings.
func Mistakes(ps policy.Problems) []Finding {
	out := []Finding{}
	for i := range ps {
		p := &ps[i]
		f := Finding{Name: Unreadable, Level: Error, At: p.Place, Fact: words.Mistake.With(p.Text, p.Help)}
		if p.Width > 0 {
			f.End = p.Place.Column + p.Width
		}
		out = append(out, f)
	}
	return out
}

// Same reports whether two findings say the same, wherever in the file.
func (f *Finding) Same(o *Finding) bool {
	return f.Name == o.Name && f.where == o.where && f.more == o.more && f.Fact.Same(o.Fact)
}

// MarshalJSON returns the place, the sentences and the edit.
func (f Finding) MarshalJSON() ([]byte, error) {
	return json.Marshal(struct {
		Name        string `json:"name"`
		Level       Level  `json:"level"`
		File        string `json:"file"`
		Line        int    `json:"line"`
		Column      int    `json:"column"`
		EndColumn   int    `json:"end_column,omitempty"`
		Text        string `json:"text"`
		Consequence string `json:"consequence"`
		Fix         string `json:"fix"`
		Edit        *Edit  `json:"edit,omitempty"`
	}{f.Name, f.Level, f.At.File, f.At.Line, f.At.Column, f.End, f.Text(), f.Fact.Consequence(), f.Fact.Fix(), f.Edit})
}

// An Edit is a value of a file to be written in another way.
type Edit struct {
	File   string `json:"file"`
	Line   int    `json:"line"` // where the value is
	Column int    `json:"column"`
	End    int    `json:"end_column,omitempty"` // after the value
	New    string `json:"new"`
}

// A Rule is what is looked for.
type Rule struct {
	Name  string
	Level Level
	About string // what it is, why it matters, and the way out
	find  func(s *survey)
}

// Rules returns all rules, by their names.
func Rules() []Rule {
	all := []Rule{
		addressHidden(), addressNowhere(), answersInRest(), boundBelowCall(), boundBelowCalls(), burstBelowInterval(), burstBelowPacket(), contradiction(), eachOneServer(), exemptOneWay(), expectationBound(), expectationMark(), expectationEstimated(), expectationPossible(), expectationUntested(), flowDivided(), fragmentsUnclassified(), framingForgotten(), halfDuplexShared(), inNeverQueues(), markNowhere(), markTrustedLater(), markUnserved(), neverMatches(), noRest(), oneEnd(),
		openTrust(), partlyShadowed(), policerFarBelow(), policyUnattached(), pressureFlaps(), priorityAboveLink(), promiseInsidePolicer(), queueTooDeep(), queueTooShallow(), ringTooDeep(), serverNameAlone(), serverNameUnseen(), shapeAboveFarEnd(), shapeAboveLink(), shapeAbovePort(), shapeAtLink(), shapeBurstExceedsContract(), shapeExceedsContract(), shapeFarBelow(),
		sharedOrEach(), slowLink(), slowerFurtherOn(), tagNowhere(), timeUnrehearsed(), timesOverlap(),
		timeWithoutZone(), tooLarge(), trafficUnclassified(), unboundedPriority(), unitSlip(), unused(), voiceAsControl(), voiceWithoutPriority(), weightsReversed(),
	}
	slices.SortFunc(all, func(a, b Rule) int { return cmp.Compare(a.Name, b.Name) })
	return all
}

// File returns what there is to say of a file, in the order of its lines. accepted says
// which findings somebody accepts at a place, and may be nil.
func File(f *policy.File, accepted func(at policy.Place, name string) bool) []Finding {
	s := newSurvey(f)
	for _, r := range Rules() {
		s.rule = &r
		r.find(s)
	}
	out := []Finding{}
	for i := range s.found {
		g := &s.found[i]
		if accepted == nil || !accepted(g.At, g.Name) {
			out = append(out, *g)
		}
	}
	slices.SortStableFunc(out, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(a.At.File, b.At.File), cmp.Compare(a.At.Line, b.At.Line), cmp.Compare(a.At.Column, b.At.Column), cmp.Compare(a.Name, b.Name))
	})
	return out
}

// Count returns how many findings are errors and warnings.
func Count(all []Finding) (errors, warnings int) {
	for i := range all {
		switch all[i].Level {
		case Error:
			errors++
		case Warning:
			warnings++
		}
	}
	return errors, warnings
}

// A survey is what the rules look at.
type survey struct {
	f       *policy.File
	space   *packetset.Space
	plans   []*plan.Plan // of each attachment
	demands []demand
	routes  []*route
	through map[*plan.Plan][]*route

	classifiers map[*plan.Plan]*classify.Classifier // those that were needed

	offers map[offerTo]offer
	loads  map[load]unit.Rate           // by rehearsal and interface, what is sent out of it
	bound  map[*policy.Expectation]bool // of which arithmetic of one bound says that it cannot hold
	last   int                          // the finding said last
	isNew  bool                         // and whether it was not said before
	rule   *Rule
	found  []Finding

	interfaces map[string]*policy.Interface // by their paths
	known      map[known]int
}

// A known finding: several facts of one rule may stand at one place where they are about no interface.
type known struct {
	rule, text string
	at         policy.Place
}

// A demand is what one direction of a traffic asks of an entry on its route.
type demand struct {
	*route
	plan    *plan.Plan
	entry   *plan.Entry
	packet  unit.Size // as the interface counts
	calls   int
	policed bool // the packet is larger than a policer's bucket
}

// A route is what explain says of a packet of a traffic in one direction.
type route struct {
	rehearsal *policy.Rehearsal
	traffic   *policy.Traffic
	reverse   bool
	length    int           // of the IP packet
	delay     time.Duration // of the links
	answer    *explain.Answer
	misfits   []misfit
	fits      int  // the length that fits everywhere
	inClass   bool // a class takes its packets somewhere, or those of the other direction of its calls
}

// spread reports whether other flows of the traffic may go another way.
func (w *route) spread() bool {
	return slices.ContainsFunc(w.answer.Hops, func(h explain.Step) bool { return h.Several })
}

func (w *route) from() netip.Addr {
	if w.reverse {
		return w.traffic.To
	}
	return w.traffic.From
}

func (w *route) to() netip.Addr {
	if w.reverse {
		return w.traffic.From
	}
	return w.traffic.To
}

// name names the traffic and its direction.
func (w *route) name() string {
	return policy.Directed(w.traffic.Name, w.reverse)
}

// certain reports whether every packet of the traffic is treated alike: no policer marks
// some of them, and nothing depends on a time or a load.
func (w *route) certain() bool {
	return !slices.ContainsFunc(w.answer.Hops, func(h explain.Step) bool { return h.Remarks || h.Assumed })
}

// within reports whether the packets are of a subject: a traffic, a class that takes them
// somewhere, or the rest where no class does.
func (w *route) within(subject string) bool {
	if subject == policy.Rest {
		return !w.inClass
	}
	return w.traffic.Name == subject || slices.ContainsFunc(w.answer.Hops, func(h explain.Step) bool { return h.Policy != "" && policy.IsWithin(h.Class, subject) })
}

// A load is what a rehearsal sends out of an interface.
type load struct {
	rehearsal *policy.Rehearsal
	from      string // node/interface
}

// congested reports whether some rehearsal fills an interface's link; where there is no
// rehearsal, it may be.
func (s *survey) congested(from *policy.Interface) bool {
	for i := range s.f.Rehearsals {
		k := load{&s.f.Rehearsals[i], from.Path()}
		if s.loads[k] > from.Carries(policy.Out) {
			return true
		}
	}
	return len(s.f.Rehearsals) == 0
}

// An offer is what a rehearsal offers to an entry: at most, and all the time.
type offer struct{ most, steady unit.Rate }

// An offerTo is of a rehearsal, to an entry.
type offerTo struct {
	rehearsal *policy.Rehearsal
	entry     *plan.Entry
}

// offered returns the most that a rehearsal offers to an entry.
func (s *survey) offered(h *policy.Rehearsal, e *plan.Entry) unit.Rate {
	return s.offers[offerTo{h, e}].most
}

// steady returns what is offered to an entry for all of a rehearsal.
func (s *survey) steady(h *policy.Rehearsal, e *plan.Entry) unit.Rate {
	return s.offers[offerTo{h, e}].steady
}

// sum adds up what the demands offer to each entry.
func (s *survey) sum() {
	s.offers = make(map[offerTo]offer)
	for i := range s.demands {
		d := &s.demands[i]
		h, rate := d.rehearsal, d.wire()
		all := !d.traffic.Kind.OverTCP() && d.traffic.Starts == 0 && (d.traffic.Lasts == 0 || d.traffic.Lasts >= h.Lasts) && h.Lasts >= time.Second
		for e := d.entry; e != nil; e = e.Parent {
			o := s.offers[offerTo{h, e}]
			if o.most += rate; all {
				o.steady += rate
			}
			s.offers[offerTo{h, e}] = o
		}
	}
}

// wire returns the rate of the demand as the interface counts.
func (d *demand) wire() unit.Rate {
	if d.calls > 0 {
		return d.traffic.Codec.Rate(d.calls * int(d.packet))
	}
	return unit.Rate(float64(d.traffic.MeanRate()) * float64(d.packet) / float64(max(1, d.traffic.Packet)))
}

func newSurvey(f *policy.File) *survey {
	s := &survey{f: f, space: packetset.New(f), known: make(map[known]int), through: make(map[*plan.Plan][]*route), loads: make(map[load]unit.Rate), classifiers: make(map[*plan.Plan]*classify.Classifier)}
	s.bound, s.interfaces = make(map[*policy.Expectation]bool), make(map[string]*policy.Interface)
	follower := explain.New(f)
	for i := range f.Attach {
		s.plans = append(s.plans, follower.Plan(&f.Attach[i]))
	}
	for i := range f.Network.Nodes {
		for _, iface := range f.Network.Nodes[i].Interfaces {
			s.interfaces[iface.Path()] = iface
		}
	}
	for i := range f.Rehearsals {
		h := &f.Rehearsals[i]
		for j := range h.Traffic {
			t := &h.Traffic[j]
			from := len(s.routes)
			s.ask(follower, h, t, false)
			if t.BothWays() {
				s.ask(follower, h, t, true)
			}
			if both := s.routes[from:]; t.Kind == policy.Calls && slices.ContainsFunc(both, func(w *route) bool { return w.inClass }) {
				for _, w := range both {
					w.inClass = true
				}
			}
		}
	}
	s.sum()
	return s
}

// ask follows a packet of a traffic and notes what it asks of each entry.
func (s *survey) ask(follower *explain.Follower, h *policy.Rehearsal, t *policy.Traffic, reverse bool) {
	if t.Kind == policy.Replay {
		return
	}
	fromPort, toPort := t.FirstPorts()
	q := explain.Question{Flow: packet.Flow{From: t.From, To: t.To, FromPort: fromPort, ToPort: toPort, Protocol: t.Protocol}, DSCP: t.DSCP, PCP: t.PCP, VLAN: t.VLAN, Length: int(t.Packet), At: h.StartAt, RTP: t.Kind.Row().RTP, ServerName: t.ServerName, MayFragment: t.MayFragment, AnyLength: true}
	calls := 0
	switch {
	case t.Kind == policy.Calls:
		q.Length, calls = t.Codec.Length(t.From.Is6()), t.Calls
	case t.Kind.OverTCP() && t.Back() != reverse: // requests, or acknowledgements
		q.Length = packet.IPv6Header + tcp.Header
	}
	if reverse {
		q.Flow = q.Flow.Reverse()
	}
	a, err := follower.Ask(q)
	if err == nil {
		if n := s.longest(t, q.Length, a.Hops); n < q.Length {
			q.Length = n
			a, err = follower.Ask(q)
		}
	}
	if err != nil {
		return // what cannot be sent is an error of the rehearsal
	}
	r := &route{rehearsal: h, traffic: t, reverse: reverse, length: q.Length, answer: a}
	if slices.ContainsFunc(a.Hops, func(h explain.Step) bool { return h.TooLong != nil && !h.TooLong.Fragmented }) {
		r.misfits, r.fits = s.misfit(follower, q)
	}
	s.routes = append(s.routes, r)
	for i := range a.Hops {
		hop := &a.Hops[i]
		if on := s.through[hop.Plan]; hop.Plan != nil && (len(on) == 0 || on[len(on)-1] != r) {
			s.through[hop.Plan] = append(on, r)
		}
		if hop.Direction == policy.Out.String() {
			sent := t.MeanRate()
			if calls > 0 {
				sent = t.Codec.Rate(calls * q.Length)
			}
			switch {
			case !t.Kind.OverTCP():
			case t.Back() != reverse:
				sent = 0
			case t.AppRate > 0:
				sent = min(unit.MaxRate, t.AppRate*unit.Rate(t.Flows))
			default: // as much as there is
				sent = unit.MaxRate
			}
			if iface := s.interfaces[hop.Node+"/"+hop.Interface]; iface != nil && iface.Link != nil {
				r.delay += iface.Link.Delay
			}
			s.loads[load{h, hop.Node + "/" + hop.Interface}] += sent
		}
		if hop.Entry == nil {
			continue
		}
		r.inClass = r.inClass || hop.Class != policy.Rest
		if r.spread() {
			calls = min(calls, 1) // nobody counts how many of them come here
		}
		s.demands = append(s.demands, demand{route: r, plan: hop.Plan, entry: hop.Entry,
			packet: unit.Size(hop.Size()), calls: calls, policed: hop.Policed})
	}
}

// Packets returns how large the packets are that the rehearsals of a file send into the entries of its plans. Replayed
// captures are not read.
func Packets(f *policy.File) allocation.Packets {
	out := make(allocation.Packets)
	s := newSurvey(f)
	for i := range s.demands {
		d := &s.demands[i]
		out.Add(d.plan, d.entry, d.packet)
	}
	return out
}

// hosts returns the addresses from which a rehearsal sends into an entry, and those to which
// it does.
func (s *survey) hosts(h *policy.Rehearsal, p *plan.Plan, e *plan.Entry) (from, to map[netip.Addr]bool) {
	from, to = make(map[netip.Addr]bool), make(map[netip.Addr]bool)
	for i := range s.demands {
		if d := &s.demands[i]; d.rehearsal == h && d.plan == p && (d.entry == e || d.entry.IsWithin(e)) {
			from[d.from()], to[d.to()] = true, true
		}
	}
	return from, to
}

// voices yields, for each entry that calls fall on in a rehearsal, one direction of it with
// all their calls, and the packet of the largest.
func (s *survey) voices(yield func(d *demand)) {
	type key struct {
		h *policy.Rehearsal
		e *plan.Entry
	}
	sums := make(map[key]*demand)
	var order []*demand
	for i := range s.demands {
		d := &s.demands[i]
		if d.calls == 0 {
			continue
		}
		k := key{d.rehearsal, d.entry}
		if sum := sums[k]; sum != nil {
			if sum.traffic.Codec.Name == d.traffic.Codec.Name && sum.traffic.Codec.Interval == d.traffic.Codec.Interval {
				sum.calls += d.calls
				sum.packet = max(sum.packet, d.packet)
			}
			continue
		}
		own := *d
		sums[k] = &own
		order = append(order, &own)
	}
	for _, d := range order {
		yield(d)
	}
}

// say adds a finding of the rule. A finding about a policy at several interfaces is added once.
func (s *survey) say(at policy.Place, where string, fact words.Fact) {
	key := known{rule: s.rule.Name, at: at}
	if where == "" {
		key.text = fact.String()
	}
	if i, known := s.known[key]; known {
		s.last, s.isNew = i, false
		if s.found[i].where != where {
			s.found[i].more++
		}
		return
	}
	s.known[key] = len(s.found)
	s.last, s.isNew = len(s.found), true
	s.found = append(s.found, Finding{Name: s.rule.Name, Level: s.rule.Level, At: at, Fact: fact, where: where})
}

// mend gives the finding said last the edit that mends it: what to write for the value of a
// key, where it is written. Where one line is to be mended in several ways there is none.
func (s *survey) mend(of *policy.Source, key, value string) {
	f := &s.found[s.last]
	if !slices.ContainsFunc(of.Keys(), func(k policy.KeyPlace) bool { return k.Key == key }) {
		return
	}
	at := of.PlaceOf(key)
	e := &Edit{File: at.File, Line: at.Line, Column: at.Column, New: value}
	switch {
	case s.isNew:
		f.Edit = e
	case f.Edit != nil && *f.Edit != *e:
		f.Edit = nil
	}
}

// queues reports whether packets wait in queues of a policy: it does more than mark and
// police.
func queues(p *plan.Plan) bool {
	return slices.ContainsFunc(p.Entries, func(e *plan.Entry) bool {
		q := &e.Spec.Queue
		return e.Priority > 0 || !e.Spec.AtLeast.IsZero() || e.Spec.Weight > 0 || e.AtMost != nil || q.Time > 0 || q.Bytes > 0 || q.Packets > 0 || q.Drop != 0
	})
}
