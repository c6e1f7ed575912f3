package explain

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"imbrel/core/classify"
	"imbrel/core/datapath"
	"imbrel/core/packet"
	"imbrel/core/policy"
	"imbrel/core/unit"
)

// tried returns the entries of a level before the one that took the packet, and
// why each did not.
func tried(l *level, taken *policy.Entry, p *packet.Packet, at time.Time) []Try {
	var out []Try
	for i := range l.entries {
		e := &l.entries[i]
		if e == taken {
			break
		}
		t := Try{Class: e.ClassName.Text, Line: e.At.Line}
		if !there(e, at) {
			t.Reason = "not in force: " + When(e.When)
		} else if e.Class != nil {
			t.Reason, t.Conditions = whyNot(e.Class, p)
		}
		out = append(out, t)
	}
	return out
}

// whyNot returns why a class does not take a packet: in brief, and for each of
// its conditions.
func whyNot(c *policy.Class, p *packet.Packet) (brief string, all []string) {
	furthest := -1
	for i := range c.Match {
		m := &c.Match[i]
		failed := classify.Failure(m, p)
		if failed == "" {
			for j := range c.Except {
				if classify.Failure(&c.Except[j], p) == "" {
					what := "except " + Condition(&c.Except[j])
					return what, append(all, fmt.Sprintf("line %d: %s: holds, but line %d: %s", m.At.Line, Condition(m), c.Except[j].At.Line, what))
				}
			}
			continue
		}
		all = append(all, fmt.Sprintf("line %d: %s: not %s", m.At.Line, Condition(m), Key(m, failed)))
		// The alternative that came furthest tells most.
		for n, k := range classify.Keys(m) {
			if k == failed && n > furthest {
				furthest, brief = n, "not "+Key(m, failed)
			}
		}
	}
	return brief, all
}

// detail fills in why the packet was taken and what it is promised.
func (f *Follower) detail(s *Step, taken []*policy.Entry, p *packet.Packet, pol *policy.Policy, at *policy.Interface, d policy.Direction, c *carried) {
	last := taken[len(taken)-1]
	s.Because = because(last, c.seen)
	for _, e := range taken {
		if e.Police != nil {
			if s.Meter != "" {
				s.Meter += "; then "
			}
			s.Meter += Police(e.Police)
		}
		if e.When != nil && (c.at.IsZero() || e.When.Time == nil) {
			s.Notes = append(s.Notes, "in force while "+When(e.When)+"; taken as so")
		}
		if len(e.Each) > 0 {
			s.Notes = append(s.Notes, "a separate instance for each "+strings.Join(e.Each, " and "))
		}
		if e.Mark != nil && p.LabelSwitched && (e.Mark.DSCP != nil || e.Mark.Map != nil || e.Mark.Precedence != nil) {
			s.Notes = append(s.Notes, "the DSCP is below the label by which this node forwards, and stays")
		}
		if e.Mark != nil && e.Mark.PCP != nil && !p.Tagged {
			s.Notes = append(s.Notes, fmt.Sprintf("no tag on this link, so PCP %d goes nowhere", *e.Mark.PCP))
		}
		if e.Mark != nil && e.Mark.TC != nil && p.Labels() == 0 && c.begin == nil {
			s.Notes = append(s.Notes, fmt.Sprintf("no label here, so TC %d goes nowhere", *e.Mark.TC))
		}
	}
	if p.LabelSwitched {
		s.Notes = append(s.Notes, "sees the label only: conditions on the IP header cannot hold")
	}
	if c.outer != nil {
		s.Notes = append(s.Notes, "sees the tunnel's outer header only")
	}
	if d == policy.In && pol.Shape == 0 {
		return // nothing ever waits
	}
	key := attachment{pol, at}
	if f.promises[key] == nil {
		f.promises[key] = datapath.Promises(pol, at.Rate)
	}
	if chain := find(f.promises[key], taken); chain != nil {
		s.Promise = int64(chain[len(chain)-1].Rate)
		s.Queue = queueing(chain, datapath.Whole(pol, at.Rate), unit.Size(at.Framing.Size(1500)))
	}
}

// because says which condition of the entry's class holds.
func because(e *policy.Entry, p *packet.Packet) string {
	if e.Class == nil {
		return "nothing before it took the packet"
	}
	for i := range e.Class.Match {
		if m := &e.Class.Match[i]; classify.Failure(m, p) == "" {
			return fmt.Sprintf("%s (line %d)", Condition(m), m.At.Line)
		}
	}
	return ""
}

// find returns the promises of nested entries, the outermost first.
func find(promises []*datapath.Promise, taken []*policy.Entry) []*datapath.Promise {
	var chain []*datapath.Promise
	for _, e := range taken {
		i := slices.IndexFunc(promises, func(p *datapath.Promise) bool {
			return p.Entry.At == e.At && p.Entry.ClassName.Text == e.ClassName.Text
		})
		if i < 0 {
			return nil
		}
		chain = append(chain, promises[i])
		promises = promises[i].Inner
	}
	return chain
}

// about rounds to three digits, for prose.
func about[T ~int64](v T) T {
	step := T(1)
	for v/step >= 1000 {
		step *= 10
	}
	return (v + step/2) / step * step
}

// queueing says how the packets of the innermost of nested entries wait.
func queueing(chain []*datapath.Promise, whole unit.Rate, maxPacket unit.Size) string {
	p := chain[len(chain)-1]
	e := p.Entry
	of, busy, bound, each := whole.String(), "when all are busy", whole, ""
	for _, o := range chain[:len(chain)-1] {
		if by := o.Entry.Each; len(by) > 0 {
			bound, each = o.Ceiling, " for each"
			of, busy = fmt.Sprintf("the %s of each %s", about(bound), strings.Join(by, " and ")), "when all within it are busy"
		}
	}
	gets, most := "gets", "never more than "
	if len(e.Each) > 0 {
		gets, most, each = "all of them get", "each "+strings.Join(e.Each, " and ")+" never more than ", " for each"
	}
	var s string
	if e.Priority > 0 {
		s = fmt.Sprintf("strict priority %d, up to %s of %s", e.Priority, about(p.Ceiling), of)
	} else {
		s = fmt.Sprintf("%s %s of %s %s", gets, about(p.Rate), of, busy)
		if p.Ceiling < bound {
			s += ", " + most + about(p.Ceiling).String()
		}
	}
	limit := datapath.QueueLimit(&e.Queue, p.Queue(), maxPacket)
	if e.Queue.Packets > 0 {
		s += fmt.Sprintf("; %d packets may wait", e.Queue.Packets)
	} else {
		s += fmt.Sprintf("; %s may wait", about(limit))
	}
	s += each
	if e.Queue.Drop != "" && e.Queue.Drop != "tail" {
		s += ", " + e.Queue.Drop
	}
	return s
}

// summarise says in one line how the packet fares.
func summarise(a *Answer) string {
	links, urgent := 0, 0
	var trouble []string
	for i := range a.Hops {
		s := &a.Hops[i]
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
		out += fmt.Sprintf(", in a priority queue at %d of %d links on its way", urgent, links)
	}
	if len(trouble) > 0 {
		out += "; " + strings.Join(trouble, "; ")
	}
	return out
}
