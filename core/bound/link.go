package bound

import (
	"time"

	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/words"
)

// takes returns what the link of an interface takes at least, away from it, and how much more at most.
func (n *network) takes(at *policy.Interface) (fixed, varies time.Duration) {
	l := at.Link
	if l == nil {
		return 0, 0
	}
	fixed = l.Delay
	if c := n.changes(at); c.touched {
		fixed = min(l.Delay, c.quick)
		varies = max(l.Delay, c.slow) - fixed
	}
	switch {
	case l.Jitter.Mean == 0:
	case l.Jitter.Kind == policy.Even:
		varies += 2*l.Jitter.Mean + 1
	case l.Jitter.Kind == policy.Exponential:
		varies = Never
	default: // heavy-tailed, which has an end
		varies += 100*l.Jitter.Mean + 1
	}
	return fixed, varies
}

// link books to a visit what the link behind it takes.
func (n *network) link(f *flow, v *visit, at *policy.Interface) {
	l := at.Link
	c := n.changes(at)
	v.reorders = l.Jitter.Mean > 0 && l.Jitter.Overtake || c.quick < c.slow
	if v.linkDelay, v.linkJitter = n.takes(at); v.linkJitter == Never && f.uncertain.IsZero() {
		f.uncertain = words.UnboundLinkJitter.With(at.Path())
	}
	if f.lossy.IsZero() && (l.Loss.Part > 0 || c.loses) {
		f.lossy = words.UnboundLinkLoss.With(at.Path())
	}
	if f.lossy.IsZero() && l.Ends[at.End].Contract != nil {
		f.lossy = words.UnboundContract.With(at.Path())
	}
}

// A span is what events make of a link in one direction: the least and the most it carries, and its delays.
type span struct {
	touched     bool
	least, most unit.Rate
	quick, slow time.Duration
	loses       bool
	event       *policy.Event
}

// events notes what the events of the rehearsal change.
func (n *network) events() {
	n.changed = make(map[*policy.Link][2]span)
	for i := range n.rehearsal.Events {
		e := &n.rehearsal.Events[i]
		if e.Attach != nil || e.Down && e.Detected > 0 {
			n.why = words.UnboundEvent.With(e.Name)
			return
		}
		if e.End == nil {
			continue
		}
		l := e.End.Link
		both := n.changed[l]
		for k, rate := range []*unit.Rate{e.Sends, e.Receives} {
			end := e.End.End
			if k == 1 {
				end = 1 - end
			}
			c := &both[end]
			if !c.touched {
				carries, _, _ := l.Ends[end].Carrier()
				*c = span{touched: true, least: carries, most: carries, quick: l.Delay, slow: l.Delay}
			}
			c.event = e
			if rate != nil {
				c.least, c.most = min(c.least, *rate), max(c.most, *rate)
			}
			if e.Delay != nil {
				c.quick, c.slow = min(c.quick, *e.Delay), max(c.slow, *e.Delay)
			}
			c.loses = c.loses || e.Down || e.Loss != nil
		}
		n.changed[l] = both
	}
	if l := n.rehearsal.Fails; l != nil {
		n.why = words.UnboundEvent.With(l.Ends[0].Interface.Path())
	}
}

// changes returns what events make of the link of an interface, away from it.
func (n *network) changes(at *policy.Interface) span {
	if at.Link == nil {
		return span{}
	}
	return n.changed[at.Link][at.End]
}

// follows lets the shape of a station be what it is at its least, where events change what its link carries.
func (n *network) follows(s *station) {
	c := n.changes(s.iface)
	if !c.touched || s.direction != policy.Out || s.plan.Shape == 0 || !s.plan.Policy.Follows {
		return
	}
	carries := int64(s.plan.Carries)
	if least := wide(int64(s.plan.Shape), int64(min(c.least, s.iface.Rate))).over(max(carries, 1)) - 1; least < s.rate {
		s.rate, s.keeps = max(least-1, 1), n.keeps(s)
	}
}

// keeps reports whether the shape of a station, which follows its link after a while, is at no time above what the link carries.
func (n *network) keeps(s *station) bool {
	type change struct {
		at   time.Duration
		rate int64
	}
	var links, shapes []change
	at := s.iface
	carries, _, _ := at.Link.Ends[at.End].Carrier()
	shape := func(rate unit.Rate) int64 {
		return int64(float64(s.plan.Shape) * float64(min(rate, at.Rate)) / float64(s.plan.Carries))
	}
	for i := range n.rehearsal.Events {
		e := &n.rehearsal.Events[i]
		if e.End == nil || e.End.Link != at.Link {
			continue
		}
		to := e.Sends
		if e.End != at {
			to = e.Receives
		}
		if to == nil {
			continue
		}
		if len(links) > 0 { // one after the other, or at once: who knows
			return false
		}
		until := e.Until(n.rehearsal.Lasts)
		for _, r := range e.Ramps(carries, *to, until, n.rehearsal.Lasts) {
			links = append(links, change{r.At, int64(r.Rate)})
			shapes = append(shapes, change{r.At + s.plan.Policy.FollowsAfter, shape(r.Rate)})
		}
	}
	link, own := int64(carries), int64(s.plan.Shape)
	if own > link {
		return false
	}
	for len(links) > 0 || len(shapes) > 0 {
		if len(shapes) == 0 || len(links) > 0 && links[0].at <= shapes[0].at {
			link, links = links[0].rate, links[1:]
		} else {
			own, shapes = shapes[0].rate, shapes[1:]
		}
		if own > link {
			return false
		}
	}
	return true
}
