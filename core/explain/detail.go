package explain

import (
	"slices"
	"strings"
	"time"

	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/tunnel"
	"imbrel.example/imbrel/core/words"
)

// why fills in which entries were tried before the one that took the packet, at each
// level, and which condition of its class holds.
func (f *Follower) why(s *Step, where *site, taken *plan.Entry, p *packet.Packet) {
	for _, level := range taken.Chain() {
		for _, e := range where.classifier.Tried(level) {
			t := Try{Class: e.Spec.ClassName.Text, Line: e.Spec.At.Line}
			if where.classifier.OutOfForce(e) {
				t.Reason = words.NotInForce.With(notNow(e.When, f.at))
			} else if e.Class != nil {
				t.Reason, t.Conditions = whyNot(e.Class, p)
			}
			s.Tried = append(s.Tried, t)
		}
	}
	s.Because = because(taken, p)
}

// notNow says why a named time does not hold.
func notNow(w *plan.When, at time.Time) words.Fact {
	return words.TimeIsNot.With(at.In(w.Time.Zone).Format("15:04 Monday"), w.Time.Zone.String(), w.Time.Name, w.Time.String())
}

// whyNot returns why a class does not take a packet: in brief, and for each of
// its conditions.
func whyNot(c *policy.Class, p *packet.Packet) (brief words.Fact, all []words.Fact) {
	furthest := -1
	for i := range c.Match {
		m := &c.Match[i]
		failed := m.Failing(p)
		if failed == nil {
			for j := range c.Except {
				if x := &c.Except[j]; x.Holds(p) {
					except := words.ExceptHolds.With(x.String())
					return except, append(all, words.HoldsBut.With(m.At, m.String(), x.At, except))
				}
			}
			continue
		}
		not := words.NotTerm.With(failed.String(), failed.Seen(p))
		all = append(all, words.FailsIn.With(m.At, m.String(), not))
		// The alternative that came furthest tells most.
		for n := range m.Terms {
			if &m.Terms[n] == failed && n > furthest {
				furthest, brief = n, not
			}
		}
	}
	return brief, all
}

// because says which condition of the entry's class holds.
func because(e *plan.Entry, p *packet.Packet) words.Fact {
	if e.Class == nil {
		return words.NothingBefore.With()
	}
	for i := range e.Class.Match {
		m := &e.Class.Match[i]
		if !m.Holds(p) {
			continue
		}
		how := words.Fact{}
		if t := m.Term(policy.KeyApp); t != nil {
			for _, a := range t.Apps {
				if a.Takes(p) {
					how = words.AppKnown.With(a.Name, howKnown(a, p))
					break
				}
			}
		}
		return words.ConditionHolds.With(m.String(), m.At, how)
	}
	return words.Fact{}
}

// howKnown says by what a packet is of an application.
func howKnown(a *policy.App, p *packet.Packet) words.Fact {
	switch w := a.Number / 64; {
	case w < len(p.Apps) && p.Apps[w]&(1<<(a.Number%64)) != 0 && a.LooksLike == policy.LooksLikeRTP:
		return words.ByLooks.With()
	case w < len(p.Apps) && p.Apps[w]&(1<<(a.Number%64)) != 0:
		return words.ByServerName.With()
	case p.HasPorts && (len(a.TCP) > 0 || len(a.UDP) > 0):
		return words.ByPort.With()
	}
	return words.ByProtocol.With()
}

func (s *Step) note(f words.Fact) { s.Notes = append(s.Notes, f) }

// conditional adds a remark on a `when`: it is assumed to hold, or it does not hold at this time.
func (s *Step) conditional(w *plan.When, at time.Time, assumed, inactive *words.Row, values ...any) {
	switch {
	case w == nil:
	case at.IsZero() || w.Time == nil:
		s.Assumed = true
		s.note(assumed.With(append(values, w.Spec.Words())...))
	case inactive != nil && !inForce(w, at):
		s.note(inactive.With(append(values, notNow(w, at))...))
	}
}

// detail fills in what the packet is promised, and remarks.
func (s *Step) detail(pl *plan.Plan, e *plan.Entry, p *packet.Packet, at time.Time) {
	for _, o := range e.Chain() {
		if m := o.Meter; m != nil {
			police := Police(m)
			if !s.Meter.IsZero() {
				police = words.Policers.With(s.Meter, police)
			}
			s.Meter = police
			s.conditional(m.When, at, words.PolicerAssumed, words.PolicerInactive)
			s.Remarks = s.Remarks || slices.ContainsFunc(m.Actions[:], func(a policy.Action) bool { return a.Mark != nil })
		}
		s.conditional(o.When, at, words.EntryAssumed, nil)
		if o.AtMost != nil {
			s.conditional(o.AtMost.When, at, words.AtMostAssumed, words.AtMostInactive, o.AtMost.Rate)
		}
		s.conditional(o.BlockWhen, at, words.BlockAssumed, words.BlockInactive)
		if o.Each != 0 {
			s.note(words.SeparateInstance.With(o.Each))
		}
		s.markNotes(o.Spec.Mark, p)
	}
	if p.LabelSwitched {
		s.note(words.LabelOnly.With())
	}
	if pl.Direction == policy.In && pl.Shape == 0 || s.dropped() {
		return // nothing ever waits
	}
	s.Promise = int64(e.Promise)
	s.Queue = queueing(pl, e)
	if why := pl.NotKept(); !why.IsZero() {
		s.note(why)
	}
}

// markNotes remarks on marks that the packet has no place for.
func (s *Step) markNotes(m *policy.Mark, p *packet.Packet) {
	if m == nil {
		return
	}
	if p.LabelSwitched && (m.DSCP != nil || m.Map != nil || m.Precedence != nil) {
		s.note(words.DSCPBelowLabel.With())
	}
	if m.PCP != nil && !p.Tagged {
		s.note(words.NoTagForPCP.With(int(*m.PCP)))
	}
	if m.TC != nil && p.Labels() == 0 && p.GrowsLabels <= 0 {
		s.note(words.NoLabelForTC.With(int(*m.TC)))
	}
}

// tunnelNotes remarks on what a tunnel hides or keeps at this node.
func (s *Step) tunnelNotes(c *tunnel.Crossing, hidden bool) {
	if hidden && s.Policy != "" {
		s.note(words.OuterHeaderOnly.With())
	}
	if t := c.Ends(); t != nil && t.Kind == policy.MPLS && t.Model == policy.Pipe && t.Pop == policy.Penultimate && t.Labels == 1 {
		s.note(words.LabelGone.With(t.Name))
	}
}

// addressNotes remarks on addresses that are translated at this node.
func (s *Step) addressNotes(c *tunnel.Crossing, p *packet.Packet) {
	if i := c.Shows(); i != nil {
		s.note(words.HostAgain.With(i.Path(), p.Flow.To))
	}
	if i := c.Leaves(); i != nil {
		sees := words.SeesHosts.With()
		if i.NAT == policy.BeforePolicy {
			sees = words.SeesOwn.With()
		}
		s.note(words.LeavesFrom.With(p.Flow.From, sees))
	}
}

// linkNotes remarks on the other links that the packet could have taken, and on the contract of the one that it takes.
func (f *Follower) linkNotes(s *Step, c *tunnel.Crossing, to *policy.Node) {
	if s.Several {
		var others []string
		for _, o := range f.table.Nexts(c.Out.Node, to) {
			if o != c.Out {
				others = append(others, o.Name)
			}
		}
		s.note(words.EqualWays.With(others))
	}
	end := &c.Out.Link.Ends[c.Out.End]
	for i := range end.Contract {
		l, own := &end.Contract[i], len(end.Contract) == 1
		if own || slices.Contains(l.DSCPs, s.out) || len(l.DSCPs) == 0 {
			s.note(words.ContractAhead.With(l.Rate, l.Police.Burst))
			break
		}
	}
}

// about rounds to three digits, for prose.
func about[T ~int64](v T) T {
	step := T(1)
	for v/step >= 1000 {
		step *= 10
	}
	return (v + step/2) / step * step
}

// queueing says how the packets of an entry wait.
func queueing(pl *plan.Plan, e *plan.Entry) words.Fact {
	of, busy, bound := any(wholeRate(pl)), words.Fact{}, pl.Whole
	its, drop := words.ItsQueue.With(), ""
	if o := e.Instances(); o != nil {
		bound, its = o.Ceiling, words.EachQueue.With()
		of, busy = words.OfEach.With(about(bound), o.Each), words.AllWithinBusy.With()
	}
	who, most := words.GetsAtLeast.With(), words.NeverMore.With(about(e.Ceiling))
	if e.Each != 0 {
		who, most, its = words.TogetherGet.With(), words.EachNeverMore.With(e.Each, about(e.Ceiling)), words.EachQueue.With()
	}
	if e.Ceiling >= bound {
		most = words.Fact{}
	}
	if e.Queue.Drop != policy.TailDrop {
		drop = e.Queue.Drop.String()
	}
	limit := any(words.Amount.With(about(e.Queue.Bytes)))
	if n := e.Queue.Packets; n > 0 {
		limit = words.Packets.With(n)
	}
	queue := words.QueueHolds.With(its, limit, drop)
	switch {
	case e.Policed != nil:
		return words.PromisedNothing.With(e.Policed.Name, queue)
	case e.Priority > 0:
		return words.StrictPriority.With(e.Priority, about(e.Promise), of, queue)
	}
	return words.Promised.With(who, about(e.Promise), of, busy, most, queue)
}

func wholeRate(pl *plan.Plan) words.Fact { return words.Amount.With(about(pl.Whole)) }

// summarise says in one line how the packet fares.
func summarise(a *Answer) words.Fact {
	links, urgent := 0, 0
	var trouble []words.Fact
	for i := range a.Hops {
		s := &a.Hops[i]
		at := s.Node + "/" + s.Interface + " " + s.Direction
		switch line := (policy.Place{File: s.File, Line: s.Line}); {
		case s.TooLong != nil && !s.TooLong.Fragmented && a.Arrives == nil:
			return words.TooLongAt.With(at, s.TooLong.Length, s.TooLong.MTU, s.TooLong.Most)
		case s.Policed:
			return words.TooLarge.With(at, line)
		case s.Blocked:
			return words.BlockedAt.With(at, line)
		case !s.onLink:
			continue
		}
		links++
		switch {
		case s.Priority > 0:
			urgent++
		case s.Policy == "":
			trouble = append(trouble, words.NodeHasNone.With(s.Node, s.Interface))
		case s.rest:
			trouble = append(trouble, words.NodeTakesRest.With(s.Node))
		}
	}
	on := words.Fact{}
	switch {
	case links > 0 && urgent == 0:
		on = words.NoLinkFirst.With()
	case urgent == 1:
		on = words.PriorityLinks.With(urgent, links, words.Gives.With())
	case links > 0:
		on = words.PriorityLinks.With(urgent, links, words.Give.With())
	}
	return words.ArrivesAs.With(strings.ToUpper(a.Arrives.DSCP), on, trouble)
}
