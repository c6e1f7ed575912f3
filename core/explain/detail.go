package explain

import (
	"fmt"
	"strings"
	"time"

	"imbrel/core/packet"
	"imbrel/core/plan"
	"imbrel/core/policy"
	"imbrel/core/tunnel"
)

// why fills in which entries were tried before the one that took the packet, at each
// level, and which condition of its class holds.
func (f *Follower) why(s *Step, where *site, taken *plan.Entry, p *packet.Packet) {
	for _, level := range chain(taken) {
		for _, e := range where.classifier.Tried(level) {
			t := Try{Class: e.Spec.ClassName.Text, Line: e.Spec.At.Line}
			if where.classifier.OutOfForce(e) {
				t.Reason = "not in force: " + notNow(e.When, f.at)
			} else if e.Class != nil {
				t.Reason, t.Conditions = whyNot(e.Class, p)
			}
			s.Tried = append(s.Tried, t)
		}
	}
	s.Because = because(taken, p)
}

// notNow says why a named time does not hold.
func notNow(w *plan.When, at time.Time) string {
	local := at.In(w.Time.Zone)
	return fmt.Sprintf("it is %s in %s; `%s` is %s", local.Format("15:04 Monday"), w.Time.Zone, w.Time.Name, w.Time)
}

// whyNot returns why a class does not take a packet: in brief, and for each of
// its conditions.
func whyNot(c *policy.Class, p *packet.Packet) (brief string, all []string) {
	furthest := -1
	for i := range c.Match {
		m := &c.Match[i]
		failed := m.Failing(p)
		if failed == nil {
			for j := range c.Except {
				if c.Except[j].Holds(p) {
					what := "except " + c.Except[j].String()
					return what, append(all, fmt.Sprintf("line %d: %s: holds, but line %d: %s", m.At.Line, m, c.Except[j].At.Line, what))
				}
			}
			continue
		}
		not := "not " + failed.String()
		if seen := failed.Seen(p); seen != "" {
			not += ": " + seen
		}
		all = append(all, fmt.Sprintf("line %d: %s: %s", m.At.Line, m, not))
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
func because(e *plan.Entry, p *packet.Packet) string {
	if e.Class == nil {
		return "nothing before it took the packet"
	}
	for i := range e.Class.Match {
		m := &e.Class.Match[i]
		if !m.Holds(p) {
			continue
		}
		s := fmt.Sprintf("%s (line %d)", m, m.At.Line)
		if t := m.Term(policy.KeyApp); t != nil {
			for _, a := range t.Apps {
				if a.Takes(p) {
					return s + "; " + a.Name + " " + howKnown(a, p)
				}
			}
		}
		return s
	}
	return ""
}

// howKnown says by what a packet is of an application.
func howKnown(a *policy.App, p *packet.Packet) string {
	if w := a.Number / 64; w < len(p.Apps) && p.Apps[w]&(1<<(a.Number%64)) != 0 {
		if a.LooksLike == policy.LooksLikeRTP {
			return "by its looks"
		}
		return "by its server name"
	}
	if p.HasPorts && (len(a.TCP) > 0 || len(a.UDP) > 0) {
		return "by its port"
	}
	return "by its protocol"
}

// detail fills in what the packet is promised, and remarks.
func (s *Step) detail(pl *plan.Plan, e *plan.Entry, p *packet.Packet, at time.Time) {
	note := func(format string, args ...any) { s.Notes = append(s.Notes, fmt.Sprintf(format, args...)) }
	for _, o := range chain(e) {
		spec := o.Spec
		if o.Meter != nil {
			if s.Meter != "" {
				s.Meter += "; then "
			}
			s.Meter += Police(o.Meter)
			if at.IsZero() || o.Meter.When == nil || o.Meter.When.Time == nil || inForce(o.Meter.When, at) {
				s.assumed(o.Meter.When, at, "its policer is")
			} else {
				note("its policer is not in force: %s", notNow(o.Meter.When, at))
			}
		}
		s.assumed(o.When, at, "it is")
		if o.AtMost != nil {
			if w := o.AtMost.When; w != nil && w.Time != nil && !inForce(w, at) {
				note("its at-most %s is not in force: %s", o.AtMost.Rate, notNow(w, at))
			} else {
				s.assumed(w, at, fmt.Sprintf("its at-most %s is", o.AtMost.Rate))
			}
		}
		if w := o.BlockWhen; w != nil && w.Time != nil && !inForce(w, at) {
			note("it is not blocked: %s", notNow(w, at))
		} else {
			s.assumed(w, at, "it is blocked; its block is")
		}
		if o.Each != 0 {
			note("a separate instance for each %s", o.Each)
		}
		s.markNotes(spec.Mark, p)
	}
	if p.LabelSwitched {
		note("sees the label only: conditions on the IP header cannot hold")
	}
	if pl.Direction == policy.In && pl.Shape == 0 || s.dropped() {
		return // nothing ever waits
	}
	s.Promise = int64(e.Promise)
	s.Queue = queueing(pl, e)
	if why := pl.NotKept(); why != "" {
		note("%s", why)
	}
}

// assumed notes that a `when` is assumed to hold.
func (s *Step) assumed(w *plan.When, at time.Time, what string) {
	if w != nil && (at.IsZero() || w.Time == nil) {
		s.Notes = append(s.Notes, what+" in force while "+w.Spec.Words()+"; that is assumed here")
	}
}

// markNotes remarks on marks that the packet has no place for.
func (s *Step) markNotes(m *policy.Mark, p *packet.Packet) {
	if m == nil {
		return
	}
	if p.LabelSwitched && (m.DSCP != nil || m.Map != nil || m.Precedence != nil) {
		s.Notes = append(s.Notes, "the DSCP is below the label by which this node forwards, and stays")
	}
	if m.PCP != nil && !p.Tagged {
		s.Notes = append(s.Notes, fmt.Sprintf("no tag on this link, so PCP %d goes nowhere", *m.PCP))
	}
	if m.TC != nil && p.Labels() == 0 && p.GrowsLabels <= 0 {
		s.Notes = append(s.Notes, fmt.Sprintf("no label here, so TC %d goes nowhere", *m.TC))
	}
}

// tunnelNotes remarks on what a tunnel hides or keeps at this node.
func (s *Step) tunnelNotes(c *tunnel.Crossing, hidden bool) {
	if hidden && s.Policy != "" {
		s.Notes = append(s.Notes, "sees the tunnel's outer header only")
	}
	if t := c.Ends(); t != nil && t.Kind == policy.MPLS && t.Model == policy.Pipe && t.Pop == policy.Penultimate && t.Labels == 1 {
		s.Notes = append(s.Notes, fmt.Sprintf("the node before took the only label of `%s` off, so its traffic class is gone: pipe with a penultimate pop is as short-pipe (RFC 3443)", t.Name))
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
func queueing(pl *plan.Plan, e *plan.Entry) string {
	of, busy, bound, each := about(pl.Whole).String(), "when all are busy", pl.Whole, ""
	if o := e.Instances(); o != nil {
		bound, each = o.Ceiling, " for each"
		of, busy = fmt.Sprintf("the %s of each %s", about(bound), o.Each), "when all within it are busy"
	}
	is, most := "is promised", "never more than "
	if e.Each != 0 {
		is, most, each = "all of them are promised", "each "+e.Each.String()+" never more than ", " for each"
	}
	var s string
	switch {
	case e.Policed != nil:
		s = fmt.Sprintf("is promised nothing: the policer of `%s` drops before its entries count", e.Policed.Name)
	case e.Priority > 0:
		s = fmt.Sprintf("strict priority %d, up to %s of %s", e.Priority, about(e.Promise), of)
	default:
		s = fmt.Sprintf("%s %s of %s %s", is, about(e.Promise), of, busy)
		if e.Ceiling < bound {
			s += ", " + most + about(e.Ceiling).String()
		}
	}
	if n := e.Queue.Packets; n > 0 {
		s += fmt.Sprintf("; %d packets may wait", n)
	} else {
		s += fmt.Sprintf("; %s may wait", about(e.Queue.Bytes))
	}
	s += each
	if e.Queue.Drop != policy.TailDrop {
		s += ", " + e.Queue.Drop.String()
	}
	return s
}

// summarise says in one line how the packet fares.
func summarise(a *Answer) string {
	links, urgent := 0, 0
	var trouble []string
	for i := range a.Hops {
		s := &a.Hops[i]
		if s.Policed {
			return fmt.Sprintf("is dropped at %s/%s %s: it is larger than the policer of line %d ever lets pass", s.Node, s.Interface, s.Direction, s.Line)
		}
		if s.Blocked {
			return fmt.Sprintf("is blocked at %s/%s %s, by line %d", s.Node, s.Interface, s.Direction, s.Line)
		}
		if !s.onLink {
			continue
		}
		links++
		switch {
		case s.Priority > 0:
			urgent++
		case s.Policy == "":
			trouble = append(trouble, fmt.Sprintf("`%s` has no policy on %s", s.Node, s.Interface))
		case s.rest:
			trouble = append(trouble, fmt.Sprintf("`%s` treats it as the rest", s.Node))
		}
	}
	out := "arrives as " + strings.ToUpper(a.Arrives.DSCP)
	if links > 0 {
		out += fmt.Sprintf(", in a priority queue at %d of %d links on its route", urgent, links)
	}
	if len(trouble) > 0 {
		out += "; " + strings.Join(trouble, "; ")
	}
	return out
}
