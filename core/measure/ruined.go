package measure

import (
	"slices"
	"time"

	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

// A NotJudged is damage in a rehearsal that made no expectation fail.
type NotJudged struct {
	Subject string `json:"subject"` // a class, or a traffic that is in none
	// Metrics are the damaged ones that no expectation is about.
	Metrics []string `json:"metrics"`
	Loss    float64  `json:"loss"`
	// Of calls: the part that arrived too late, and the lowest MOS.
	Late *float64 `json:"late,omitempty"`
	MOS  *float64 `json:"mos,omitempty"`
	// Unfinished is how many requests or transfers did not end.
	Unfinished int64 `json:"unfinished,omitempty"`
}

// A call is ruined with a MOS below goodMOS or more than maxMissing of its packets missing. Fewer than fewPackets are not
// judged: one lost packet of a call of half a second is chance. From farDelay on, the delay of a call is named (ITU-T G.114).
const (
	goodMOS    = 3.6
	maxMissing = 0.05
	fewPackets = 100
	maxLoss    = 0.01 // of a class
	farDelay   = 150 * time.Millisecond
)

// Damage returns the warnings of calls, classes and requests that were ruined and not judged.
func (r *Result) Damage() (out []Warning) {
	for _, w := range r.Warnings {
		if w.Name == callRuined || w.Name == classLoses || w.Name == notEnded {
			out = append(out, w)
		}
	}
	return out
}

// unjudged warns of ruined calls, classes that lose packets, and requests that did not end, unless an expectation
// already covers them.
func (m *Measures) unjudged(r *Result) {
	m.ruinedCalls(r)
	m.losingClasses(r)
	m.unfinished(r)
}

// about reports whether an expectation on one of the metrics covers packets of the tallies, and whether one of these failed.
func (m *Measures) about(r *Result, of []*Tally, metrics ...policy.Metric) (asked, failed bool) {
	c := m.Collectors[0]
	for i := range r.Expectations {
		o := &r.Expectations[i]
		for _, subject := range []string{o.e.Subject, o.e.Versus} {
			if subject == "" || !slices.Contains(metrics, o.e.Metric) || !slices.ContainsFunc(of, func(t *Tally) bool {
				return m.isTraffic(subject) && c.names[t.Traffic] == subject || !m.isTraffic(subject) && c.Sets.Has(t.judged, subject)
			}) {
				continue
			}
			asked, failed = true, failed || !o.Holds
		}
	}
	return asked, failed
}

// notAsked lists those of the metrics that no expectation covers.
func (m *Measures) notAsked(r *Result, of []*Tally, metrics ...policy.Metric) []string {
	out := []string{}
	for _, metric := range metrics {
		if asked, _ := m.about(r, of, metric); !asked {
			out = append(out, string(metric))
		}
	}
	return out
}

// subjectOf names the class that took the packets of the tallies first, or their traffic where no class did.
func (m *Measures) subjectOf(of []*Tally) string {
	if t := of[0]; int(t.First) < len(m.File.Classes) {
		return m.File.Classes[t.First].Name
	}
	return m.Collectors[0].names[of[0].Traffic]
}

// not adds damage that was not judged.
func (r *Result) not(n NotJudged) {
	i := slices.IndexFunc(r.NotJudged, func(o NotJudged) bool { return o.Subject == n.Subject && slices.Equal(o.Metrics, n.Metrics) })
	if i < 0 {
		r.NotJudged = append(r.NotJudged, n)
		return
	}
	o := &r.NotJudged[i] // the other direction: the worse of both
	o.Loss, o.Unfinished = max(o.Loss, n.Loss), o.Unfinished+n.Unfinished
	if o.MOS != nil && n.MOS != nil {
		late, mos := max(*o.Late, *n.Late), min(*o.MOS, *n.MOS)
		o.Late, o.MOS = &late, &mos
	}
}

// Words lists the metrics as a sentence has them: "loss, late packets or MOS".
func (n *NotJudged) Words() string {
	list := slices.Clone(n.Metrics)
	for i, name := range list {
		if row := policy.Metric(name).Row(); row != nil {
			list[i] = row.Words
		}
	}
	return policy.OrList(list)
}

func (m *Measures) ruinedCalls(r *Result) {
	type ruin struct {
		NotJudged
		way         []*Tally
		ruined, all int
		far         time.Duration // the p99 delay where it lowers the MOS much
	}
	var found []ruin
	for _, way := range ways(m.Collectors[0].settled) {
		traffic := &m.Rehearsal.Traffic[way[0].Traffic]
		if traffic.Kind != policy.Calls {
			continue
		}
		ruined, all := 0, 0
		for _, t := range way {
			for _, f := range t.flows {
				if !f.IsCall() || f.Received+f.lost < fewPackets {
					continue
				}
				if all++; f.MOS() < goodMOS || part(f.call.missing, max(f.call.first-f.call.base, 1)) > maxMissing {
					ruined++
				}
			}
		}
		if _, failed := m.about(r, way, policy.MOS, policy.Loss, policy.Late, policy.Delay, policy.Drops); ruined == 0 || failed {
			continue
		}
		s := add(way)
		late, mos := part(s.late, s.received), round(s.mos, 4)
		metrics := []policy.Metric{policy.MOS}
		if late > 0 {
			metrics = append([]policy.Metric{policy.Late}, metrics...)
		}
		if s.loss() > 0 {
			metrics = append([]policy.Metric{policy.Loss}, metrics...)
		}
		n := NotJudged{Subject: m.subjectOf(way), Metrics: m.notAsked(r, way, metrics...), Loss: s.loss(), Late: &late, MOS: &mos}
		r.not(n)
		far := time.Duration(s.delay.Statistic("p99"))
		if far < farDelay {
			far = 0
		}
		found = append(found, ruin{n, way, ruined, all, far})
	}
	for i := 0; i < len(found); i++ {
		f, back := &found[i], 0
		if i+1 < len(found) && found[i+1].way[0].Traffic == f.way[0].Traffic {
			i++
			back = found[i].ruined
		}
		r.warnOf(f.Subject, callRuined, "warning", m.Rehearsal.Traffic[f.way[0].Traffic].At,
			words.CallsRuined.With(f.ruined, f.all, m.Collectors[0].nameOf(f.way[0]), words.Part(f.Loss), words.Part(*f.Late), f.far, words.MOS(*f.MOS), back, f.Words()))
	}
}

// losingClasses warns of classes that have an expectation, a priority or an `at-least` and lose packets. TCP is
// left out: it loses packets by design, and is judged by goodput and completion.
func (m *Measures) losingClasses(r *Result) {
	c := m.Collectors[0]
	var names []string
	at := make(map[string]policy.Place)
	add := func(name string, place policy.Place) {
		if _, known := at[name]; !known {
			names = append(names, name)
			at[name] = place
		}
	}
	for i := range r.Interfaces {
		p := r.Interfaces[i].place.Plan
		if p == nil {
			continue
		}
		for _, e := range p.Entries {
			asked := slices.ContainsFunc(m.Rehearsal.Expect, func(x policy.Expectation) bool { return policy.IsOf(e.Name, x.Subject) })
			if !e.Block && (e.Priority > 0 || !e.Spec.AtLeast.IsZero() && !e.Spec.AtLeast.Nothing || asked) {
				add(e.Name, e.Spec.At)
			}
		}
	}
	for _, name := range names {
		var of []*Tally
		sent, received := int64(0), int64(0)
		for _, t := range c.settled {
			if traffic := &m.Rehearsal.Traffic[t.Traffic]; c.Sets.Has(t.judged, name) && !c.overTCP(t) && traffic.Kind != policy.Calls && traffic.Protocol != 6 {
				lost := t.sent - t.received()
				if traffic.Kind == policy.Replay { // what is TCP of it is not judged by this
					lost = max(0, lost-m.lostTCP(r, traffic.Name))
				}
				of = append(of, t)
				sent, received = sent+t.sent, received+t.sent-lost
			}
		}
		if sent < fewPackets || float64(sent-received) <= maxLoss*float64(sent) || m.bounded(r, name, of) {
			continue
		}
		n := NotJudged{Subject: name, Metrics: []string{string(policy.Loss)}, Loss: part(sent-received, sent)}
		r.not(n)
		r.warnOf(name, classLoses, "warning", at[name], words.ClassLoses.With(name, words.Part(n.Loss), sent, n.Words()))
	}
}

// lostTCP returns how many packets of TCP a replayed capture lost.
func (m *Measures) lostTCP(r *Result, name string) (n int64) {
	for _, c := range r.Captures {
		if c.Name == name {
			n += c.TCPLost
		}
	}
	return n
}

// bounded reports whether an expectation is about what a class loses, or bounds its rate from above.
func (m *Measures) bounded(r *Result, class string, of []*Tally) bool {
	for i := range m.Rehearsal.Expect {
		x := &m.Rehearsal.Expect[i]
		about := slices.Contains([]policy.Metric{policy.Loss, policy.Drops, policy.QueueSize}, x.Metric) || x.Metric == policy.Throughput && (!x.AtLeast() || x.OfPromise) || x.Versus != ""
		if !about {
			continue
		}
		for _, subject := range []string{x.Subject, x.Versus} {
			if policy.IsOf(class, subject) || slices.ContainsFunc(of, func(t *Tally) bool { return m.isTraffic(subject) && m.Collectors[0].names[t.Traffic] == subject }) {
				return true
			}
		}
	}
	return false
}

// unfinished warns of requests, pages and transfers that did not end in twice the median time of the others.
func (m *Measures) unfinished(r *Result) {
	c := m.Collectors[0]
	for _, way := range ways(c.settled) {
		f := c.ofTCP(way[0])
		if f == nil || f.unfinished.Count() == 0 {
			continue
		}
		enough := min(max(2*f.completion.Statistic("p50"), float64(time.Second)), float64(f.until-f.from)/2)
		open := f.unfinished.Count() - f.unfinished.upTo(enough)
		if asked, _ := m.about(r, way, policy.Completion); open == 0 || asked {
			continue
		}
		n := NotJudged{Subject: c.names[way[0].Traffic], Metrics: []string{string(policy.Completion)}, Unfinished: open}
		r.not(n)
		r.warnOf(m.subjectOf(way), notEnded, "warning", m.Rehearsal.Traffic[way[0].Traffic].At, words.DidNotEnd.With(open, f.begun, m.Rehearsal.Traffic[way[0].Traffic].Kind.Row().Ends, c.names[way[0].Traffic], n.Words()))
	}
}
