package measure

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"imbrel.example/imbrel/core/datapath"
	"imbrel.example/imbrel/core/meter"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/words"
)

// span returns the time that an expectation is about: its window, or the life of the traffic that it was judged by.
func (m *Measures) span(e *policy.Expectation, of []*Tally) Window {
	if e.Windowed() {
		return Window{e.From, min(e.To, m.Rehearsal.Lasts)}
	}
	out := Window{m.Rehearsal.Lasts, m.Rehearsal.WarmUp}
	for _, t := range of {
		traffic := &m.Rehearsal.Traffic[t.Traffic]
		to := m.Rehearsal.Lasts
		if traffic.Lasts > 0 {
			to = min(to, traffic.Starts+traffic.Lasts)
		}
		out.From, out.To = min(out.From, max(traffic.Starts, m.Rehearsal.WarmUp)), max(out.To, to)
	}
	if out.From >= out.To {
		return Window{m.Rehearsal.WarmUp, m.Rehearsal.Lasts}
	}
	return out
}

// A scene is an entry at an interface over the steps of a run in which its packets were dropped, or waited.
type scene struct {
	f     *Interface
	c     *Class
	e     *plan.Entry
	h     *Hop
	span  Window
	steps []int         // in which it happened
	life  []int         // in which anything was offered
	whole []int         // from the first in which anything was offered to the last
	fell  *policy.Event // that reduced the link below the shape in this time, or nil
}

// scene finds the steps in which packets of a class were dropped, or waited.
func (m *Measures) scene(f *Interface, c *Class, h *Hop, reason datapath.Reason, span Window) *scene {
	s := &scene{f: f, c: c, h: h, span: span}
	if f.place.Plan != nil {
		s.e = c.seen.Entry
		if e := m.fell(&f.place); e != nil && e.At < span.To && e.Until(m.Rehearsal.Lasts) > span.From {
			s.fell = e
		}
	}
	var during []int
	for i, x := range c.seen.Steps {
		from := time.Duration(i) * c.seen.StepLength
		if from+c.seen.StepLength <= span.From || from >= span.To {
			continue
		}
		if during = append(during, i); x.Offered > 0 {
			s.life = append(s.life, i)
		}
		if x.Drops > 0 || reason == datapath.Passed && x.Waiting > 0 {
			s.steps = append(s.steps, i)
		}
	}
	if len(s.life) == 0 {
		s.life = during
	}
	if len(s.steps) == 0 {
		s.steps = s.life
	}
	if len(s.life) > 0 {
		for i := s.life[0]; i <= s.life[len(s.life)-1]; i++ {
			s.whole = append(s.whole, i)
		}
	}
	return s
}

// inBursts returns the average rate offered, and reports whether a larger burst would have sufficed: the average is below the rate, and the burst
// that was needed is at most a second at the rate, or the average of the busy steps alone is below the rate.
func (s *scene) inBursts(rate unit.Rate, needed int64) (unit.Rate, bool) {
	life, _ := s.rates(s.c, s.life)
	average, _ := s.rates(s.c, s.whole)
	return average, life < rate || average < rate && needed <= int64(rate.Bytes(time.Second))
}

// rates returns what a class was offered and sent in some steps.
func (s *scene) rates(c *Class, steps []int) (offered, sent unit.Rate) {
	bytes := [2]float64{}
	lasts := time.Duration(0)
	for _, i := range steps {
		if lasts += c.seen.StepLength; i < len(c.seen.Steps) {
			bytes[0] += float64(c.seen.Steps[i].Offered)
			bytes[1] += float64(c.seen.Steps[i].Sent)
		}
	}
	if lasts == 0 {
		return unit.Rate(c.OfferedBps), unit.Rate(c.SentBps)
	}
	return unit.Rate(bytes[0] * 8 / lasts.Seconds()), unit.Rate(bytes[1] * 8 / lasts.Seconds())
}

// offered returns what the class was offered when it happened.
func (s *scene) offered() unit.Rate {
	offered, _ := s.rates(s.c, s.steps)
	return offered
}

// class returns what the interface did with the packets of an entry.
func (s *scene) class(e *plan.Entry) *Class {
	for i := range s.f.Classes {
		if s.f.Classes[i].seen.Entry == e {
			return &s.f.Classes[i]
		}
	}
	return nil
}

// maxRivals is how many rivals a reason names in its text.
const maxRivals = 3

// rivals returns the other classes that the interface sent when it happened, most first, none within another.
func (s *scene) rivals(counts func(*Class) bool) (names []string, rates words.Fact) {
	type rival struct {
		name string
		rate unit.Rate
	}
	var all []rival
	total := unit.Rate(0)
	for i := range s.f.Classes {
		c := &s.f.Classes[i]
		if c.seen.Entry != nil && !c.seen.Entry.Leaf() {
			continue
		}
		_, sent := s.rates(c, s.steps)
		if total += sent; c != s.c && !strings.HasPrefix(c.Class, s.c.Class+"/") && counts(c) {
			all = append(all, rival{c.Class, sent})
		}
	}
	slices.SortStableFunc(all, func(a, b rival) int { return cmp.Compare(b.rate, a.rate) })
	names = []string{}
	var list []words.Fact
	for _, r := range all {
		if r.rate > total/100 {
			names, list = append(names, r.name), append(list, words.ClassRate.With(r.name, r.rate))
		}
	}
	switch {
	case len(list) == 0:
		return names, words.Fact{}
	case len(list) > maxRivals:
		return names, words.RivalsAndMore.With(list[:maxRivals], len(list)-maxRivals)
	}
	return names, words.Rivals.With(list)
}

// precedes reports whether packets of an entry go before those of another by priority.
func precedes(a, b *plan.Entry) bool {
	if a == nil || b == nil {
		return false
	}
	chain := func(e *plan.Entry) (out []*plan.Entry) {
		for ; e != nil; e = e.Parent {
			out = append(out, e)
		}
		slices.Reverse(out)
		return out
	}
	as, bs := chain(a), chain(b)
	for i := range min(len(as), len(bs)) {
		if as[i] != bs[i] {
			return as[i].Priority > 0 && (bs[i].Priority == 0 || as[i].Priority < bs[i].Priority)
		}
	}
	return false
}

// cause returns why packets were dropped, or waited, at a place.
func (m *Measures) cause(w *Why, r *Result, h *Hop, reason datapath.Reason, span Window) words.Fact {
	p := &m.Places[h.Place]
	w.place(p)
	w.Reason = reason.String()
	if reason == datapath.Passed {
		w.Reason = byWaiting
	}
	if reason == datapath.TooOld {
		w.Cause, w.Class = byOrder, ""
		for i := range m.File.Network.Tunnels {
			if t := &m.File.Network.Tunnels[i]; t.Window > 0 && slices.Contains([]*policy.Node{t.Through[0], t.Through[len(t.Through)-1]}, p.Interface.Peer().Node) {
				w.at(t.PlaceOf("replay-window"))
				return words.TooOldFor.With(t.Name, t.Window, w.written())
			}
		}
	}
	if reason == datapath.Oversize {
		at := p.Interface.PlaceOf("mtu")
		w.Cause, w.Class = byLength, ""
		w.at(at)
		return words.LongerThan.With(unit.Size(p.Interface.Longest()), p.Interface.Path(), w.written())
	}
	if p.Ring {
		w.Reason, w.Cause, w.Class = byRing, byRing, ""
		w.at(p.Interface.PlaceOf("ring"))
		return words.RingHolds.With(p.Interface.Ring, p.Interface.Rate, w.written())
	}
	if p.Link && reason == datapath.Exceeds {
		return contractCause(w, r, p)
	}
	if p.Link {
		l := p.Interface.Link
		w.Reason, w.Cause = byLink, byLink
		if w.Class = ""; reason == datapath.Passed {
			w.at(l.PlaceOf("jitter"))
			return words.LinkJitters.With(l.Jitter.Mean, w.written())
		}
		if e := m.downOn(l, span); e != nil {
			w.at(e.Source.At)
			if until := e.Until(m.Rehearsal.Lasts); e.Detected == 0 {
				return words.LinkWasNever.With(e.At, until, w.written())
			} else {
				return words.LinkWasDown.With(e.At, until, e.Detected, w.written())
			}
		}
		w.at(l.PlaceOf("loss"))
		return words.LinkLoses.With(words.Percentage(100*l.Loss.Part), w.written())
	}
	if p.Carrier {
		w.Reason, w.Cause = byCarrier, byCarrier
		return m.carrierCause(w, r, p)
	}
	f, c := classAt(r, p, h.Slot)
	if c == nil {
		w.at(p.Interface.At)
		return words.QueueUnknown.With()
	}
	s := m.scene(f, c, h, reason, span)
	cause := s.also(w, reason, s.cause(w, reason))
	if w.first != "" && s.onlyRest() {
		return words.OnlyRestThere.With(cause, w.first)
	}
	return cause
}

// onlyRest reports whether the packets are in the rest of a policy that has entries for classes.
func (s *scene) onlyRest() bool {
	return s.e != nil && s.e.Class == nil && s.e.Parent == nil && slices.ContainsFunc(s.f.place.Plan.Top, func(e *plan.Entry) bool { return e.Class != nil })
}

// describe notes the class, its rates and its rivals in the Why, and returns the rivals' rates.
func (s *scene) describe(w *Why) (beside words.Fact) {
	offered := int64(s.offered())
	w.Class, w.OfferedBps, w.PromisedBps = s.c.Class, &offered, s.c.PromisedBps
	w.Against, beside = s.rivals(func(*Class) bool { return true })
	if w.entry = s.e; s.e == nil {
		w.at(s.f.place.Interface.At)
	} else {
		w.at(s.e.Spec.At)
	}
	return beside
}

// sent returns the rate that the interface sent of the innermost entries that count, when it happened.
func (s *scene) sent(counts func(*Class) bool) (sum unit.Rate) {
	for i := range s.f.Classes {
		if c := &s.f.Classes[i]; c.seen.Entry != nil && c.seen.Entry.Leaf() && counts(c) {
			_, sent := s.rates(c, s.steps)
			sum += sent
		}
	}
	return sum
}

// cause returns why the packets were dropped or waited, and fills in the Why.
func (s *scene) cause(w *Why, reason datapath.Reason) words.Fact {
	beside := s.describe(w)
	if w.Cause = "fifo"; s.e == nil {
		return words.PlainFIFO.With(s.f.place.Interface.Rate, beside)
	}
	by := s.e
	if n := s.h.culprit(reason); n >= 0 {
		by = s.f.place.Plan.Entries[n]
		w.entry = by
	} else if reason == datapath.Policed { // nobody noted it, as at a gate: the nearest policer that drops
		for by.Parent != nil && (by.Meter == nil || !by.Meter.Actions[meter.Red].Drop) {
			by = by.Parent
		}
		if w.entry = by; by.Meter == nil {
			return words.QueueUnknown.With()
		}
	}
	around := ""
	w.By = by.Name
	if by != s.e {
		around = by.Name
	}
	switch reason {
	case datapath.Policed:
		w.Cause = "police"
		w.at(by.Spec.PlaceOf("police"))
		return s.policed(by, around, w.written())
	case datapath.Blocked:
		w.Cause = "block"
		w.at(by.Spec.PlaceOf("block"))
		return words.EntryBlocks.With(around, condition(by.BlockWhen), w.written())
	case datapath.Early:
		w.Cause, w.By = "early", s.e.Name
		w.at(s.e.Spec.PlaceOf("queue"))
		w.entry = s.e
		return words.DropsEarly.With(s.e.Queue.Drop, s.offered(), s.promised(), beside, w.written())
	}
	what := words.QueueFull.With()
	if reason == datapath.Passed {
		what = words.Fact{} // the sentence around it says that packets waited
	}
	held := s.h.culprit(reason) >= 0
	if !held {
		if e := s.filled(); e != nil {
			if by, held = e, true; e != s.e {
				around = e.Name
			}
			w.entry, w.By = e, e.Name
		}
	}
	if n := by.AtMost; held && n != nil {
		w.Cause = "at-most"
		w.at(by.Spec.PlaceOf("at-most"))
		if average := s.average(by); reason == datapath.Passed && average > 0 && average <= n.Rate && n.When == nil {
			return words.BurstsAtMost.With(n.Rate, average, unit.Size(s.c.MaxQueueBytes), w.written())
		}
		return words.HeldByAtMost.With(what, around, n.Rate, eachOf(by), condition(n.When), s.offeredTo(by), w.written())
	}
	promise := s.e.Promise
	if _, got := s.rates(s.c, s.steps); s.fell != nil && float64(got) < 0.9*float64(min(promise, s.offered())) && s.f.place.Plan.Policy.Follows {
		w.Cause, w.By = byLink, ""
		w.at(s.fell.Source.At)
		return words.ShapeFollowed.With(what, s.fell.Name, s.offered(), promise, got, w.written())
	}
	if urgent, ahead, got := s.starved(); len(urgent) > 0 {
		w.Against, w.Cause = urgent, "priority"
		return words.WentBefore.With(what, s.offered(), s.promised(), got, ahead, w.written())
	}
	if average, is := s.inBursts(promise, s.c.seen.QueueNeeded); is && s.c.seen.QueueNeeded > int64(s.e.Queue.Bytes) && s.e.Queue.Bytes > 0 && reason == datapath.QueueFull {
		w.Cause = "queue"
		w.at(s.e.Spec.PlaceOf("queue"))
		return words.BurstsInQueue.With(s.e.Queue.Bytes, average, promise, unit.Size(s.c.seen.QueueNeeded), w.written())
	}
	w.Cause = "share"
	if f := s.unforced(w, reason, beside); !f.IsZero() {
		return f
	}
	if len(w.Against) == 0 {
		return words.FillsAlone.With(what, s.offered(), s.f.place.Plan.Whole, w.written())
	}
	return words.AbovePromise.With(what, s.offered(), s.promised(), beside, w.written())
}

// unforced says why packets waited although no more was offered than can be sent: behind packets of their own class, or for other classes. It
// says nothing where more was offered.
func (s *scene) unforced(w *Why, reason datapath.Reason, beside words.Fact) words.Fact {
	offered, room := s.offered(), s.e.Promise
	if len(w.Against) == 0 {
		room = s.f.place.Plan.Whole
	}
	if reason != datapath.Passed || float64(offered) > 1.05*float64(room) {
		return words.Fact{}
	}
	queue := unit.Size(s.c.MaxQueueBytes)
	if queue <= 3*s.f.place.Plan.MaxPacket { // what it waited for is of others
		if urgent := slices.ContainsFunc(s.e.Chain(), func(e *plan.Entry) bool { return e.Priority > 0 }); urgent || len(w.Against) == 0 {
			return words.Fact{}
		}
		return words.NoPriority.With(offered, s.e.Promise, beside, w.written())
	}
	if offered > room {
		return words.Fact{}
	}
	if len(s.steps) > 0 {
		if first := s.steps[0]; first > 0 && first <= len(s.c.seen.Steps) && s.c.seen.Steps[first-1].Waiting > 0 {
			return words.FilledBefore.With(offered, room, w.written())
		}
	}
	for e := s.e; e != nil; e = e.Parent {
		if n := e.AtMost; n != nil && n.When == nil && e.Instances() == nil && n.Rate <= room {
			w.Cause, w.By = "at-most", e.Name
			w.at(e.Spec.PlaceOf("at-most"))
			return words.BurstsAtMost.With(n.Rate, s.average(e), queue, w.written())
		}
	}
	return words.WaitsInBursts.With(s.average(s.e), room, queue, w.written())
}

// also returns a cause, followed by the causes that would remain without it: other limits below the offered rate, and the
// traffic of the other classes.
func (s *scene) also(w *Why, reason datapath.Reason, cause words.Fact) words.Fact {
	if s.e == nil || reason == datapath.Blocked || reason == datapath.Early || w.Cause == "queue" {
		return cause
	}
	var facts []words.Fact
	add := func(b Blame, f words.Fact) { w.Also, facts = append(w.Also, b), append(facts, f) }
	for e := s.e; e != nil; e = e.Parent {
		offered := s.offeredTo(e)
		if n := e.AtMost; n != nil && n.When == nil && offered > n.Rate && (w.Cause != "at-most" || w.By != e.Name) {
			add(Blame{Cause: "at-most", By: e.Name}, words.AlsoAtMost.With(e.Name, n.Rate, offered))
		}
		if n, c := e.Meter, s.class(e); n != nil && n.When == nil && c != nil && c.Drops.Policed > 0 && (w.Cause != "police" || w.By != e.Name) {
			if bound, ok := n.Bound(); ok && offered > bound {
				add(Blame{Cause: "police", By: e.Name}, words.AlsoPolicer.With(e.Name, bound, offered))
			}
		}
	}
	if w.Cause == "at-most" || w.Cause == "police" || w.Cause == "priority" {
		offered, others := s.offered(), s.sent(func(c *Class) bool {
			return c != s.c && !precedes(s.e, c.seen.Entry) && !strings.HasPrefix(c.Class, s.c.Class+"/")
		})
		if names, beside := s.rivals(func(c *Class) bool { return !precedes(s.e, c.seen.Entry) }); float64(offered)*1.05 > float64(s.f.place.Plan.Whole-others) && len(names) > 0 {
			if b := (Blame{Cause: "share", Against: names}); w.Cause == "priority" { // its text says what the class is promised
				w.Also = append(w.Also, b)
			} else {
				add(b, words.AlsoShare.With(s.f.place.Plan.Whole, beside))
			}
		}
	}
	if len(facts) == 0 {
		return cause
	}
	return words.CauseAlso.With(cause, facts)
}

// filled returns the innermost entry, this one or one around it, that sent all that its upper limit passes; nil where there is none. A larger
// share would not have helped.
func (s *scene) filled() *plan.Entry {
	for e := s.e; e != nil; e = e.Parent {
		c, n := s.class(e), e.AtMost
		if c == nil || n == nil || n.When != nil || e.Instances() != nil || c.Instances != nil && c.Instances.Max > 1 {
			continue
		}
		if _, sent := s.rates(c, s.steps); float64(sent) >= 0.97*float64(n.Rate) && s.offeredTo(e) > n.Rate {
			return e
		}
	}
	return nil
}

// starved returns the classes whose priority put them first, and the rate that this class got, where it got less than its
// promise and less than it was offered.
func (s *scene) starved() (urgent []string, rates words.Fact, got unit.Rate) {
	if _, got = s.rates(s.c, s.steps); s.e.Instances() == nil && float64(got) < 0.9*float64(min(s.e.Promise, s.offered())) {
		urgent, rates = s.rivals(func(c *Class) bool { return precedes(c.seen.Entry, s.e) })
		if s.sent(func(c *Class) bool { return precedes(c.seen.Entry, s.e) })+s.e.Promise <= s.f.place.Plan.Whole { // there was room for the promise beside them
			return nil, words.Fact{}, got
		}
	}
	return urgent, rates, got
}

// policed describes the policer that dropped packets of the entry: its own, or one around it.
func (s *scene) policed(by *plan.Entry, around string, at policy.Place) words.Fact {
	n := by.Meter
	if average, is := s.inBursts(n.Rate, s.c.seen.BurstNeeded); is && by == s.e && by.Instances() == nil && s.c.seen.BurstNeeded > int64(n.Burst) {
		return words.PolicerBursts.With(n.Rate, n.Burst, average, unit.Size(s.c.seen.BurstNeeded), at)
	}
	rate := n.Rate
	if !n.Actions[meter.Yellow].Drop && n.Peak > 0 {
		rate = n.Peak
	}
	return words.PolicerLets.With(around, rate, n.Burst, eachOf(by), condition(n.When), s.offeredTo(by), at)
}

// average returns the rate offered to an entry from the first packet of the scene's class to its last; 0 for an entry with several instances.
func (s *scene) average(e *plan.Entry) unit.Rate {
	c := s.class(e)
	if c == nil || eachOf(e) != "" {
		return 0
	}
	offered, _ := s.rates(c, s.whole)
	return offered
}

// offeredTo returns the rate offered to an entry in the steps of the scene; 0 for an entry with several instances, whose rates
// are not kept one by one.
func (s *scene) offeredTo(e *plan.Entry) unit.Rate {
	c := s.class(e)
	if c == nil || e.Instances() != nil || c.Instances != nil && c.Instances.Max > 1 {
		return 0
	}
	offered, _ := s.rates(c, s.steps)
	return offered
}

// condition says when a limit is in force; "": always.
func condition(w *plan.When) string {
	if w == nil {
		return ""
	}
	return w.Spec.Words()
}

// eachOf names what each instance of an entry's limit is for, such as "source"; "" where the limit is for all packets together.
func eachOf(e *plan.Entry) string {
	if o := e.Instances(); o != nil {
		return o.Each.String()
	}
	if e.Each != 0 {
		return e.Each.String()
	}
	return ""
}

func (s *scene) promised() words.Fact {
	if s.e.Priority > 0 {
		return words.PriorityRate.With(s.e.Priority, s.e.Promise)
	}
	return words.PromisedRate.With(s.e.Promise)
}

// limitOf describes the limit of an entry within a span: none, its rate, or for how long it was active.
func limitOf(c *Class, e *plan.Entry, span Window) words.Fact {
	key, kind, rate, when := "", datapath.AtMostLimit, unit.Rate(0), (*plan.When)(nil)
	switch n := e.AtMost; {
	case n != nil:
		key, rate, when = "at-most", n.Rate, n.When
	case e.Meter != nil:
		if bound, ok := e.Meter.Bound(); ok {
			key, kind, rate, when = "police", datapath.PolicerLimit, bound, e.Meter.When
		}
	}
	switch {
	case key == "" && e.Bounded:
		return words.LetsPass.With(e.Ceiling)
	case key == "":
		return words.HasNoLimit.With()
	case when == nil:
		return words.KeyLetsPass.With(key, rate)
	}
	active := time.Duration(0)
	for _, a := range c.seen.Active {
		if a.Limit == kind {
			active += max(0, min(a.To, span.To)-max(a.From, span.From))
		}
	}
	if active >= span.To-span.From {
		return words.KeyLetsPass.With(key, rate)
	}
	if active == 0 {
		return words.NeverActive.With(key, rate, when.Spec.Words())
	}
	return words.PartlyActive.With(key, rate, active.Round(time.Millisecond), (span.To - span.From).Round(time.Millisecond), when.Spec.Words())
}

// whyFast explains a rate above its bound: no limit, or a limit that was inactive or too high.
func (m *Measures) whyFast(w *Why, r *Result, e *policy.Expectation, f *finding) {
	w.Reason = byOffer
	s := add(f.of)
	because := func(why words.Fact) { w.Text = words.TooFast.With(unit.Rate(s.wanted), unit.Rate(s.rate), why) }
	hops, at := most(f.of, func(h *Hop) int64 {
		if p := &m.Places[h.Place]; p.Plan == nil || p.Carrier {
			return 0
		}
		return h.Packets
	})
	if at < 0 {
		because(words.NoLimitOnWay.With())
		return
	}
	p := &m.Places[hops[at].Place]
	w.place(p)
	w.entry = p.Plan.Entries[hops[at].Slot]
	w.Class = w.entry.Name
	w.at(w.entry.Spec.At)
	limit := words.HasNoLimit.With()
	if _, c := classAt(r, p, hops[at].Slot); c != nil {
		limit = limitOf(c, w.entry, m.span(e, f.of))
	}
	because(words.MostlyIn.With(w.Class, p.Words(), limit, w.written()))
}
