package check

import (
	"slices"
	"time"

	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/tcp"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/words"
)

func expectationBound() Rule {
	return Rule{"expectation-bound", Error, `An expectation asks for less loss, or more rate, than the bound of its class lets pass of what the rehearsal offers to it, or is about traffic that an entry blocks.
Or it asks for a delay, a round trip or a completion below what the links on the way take, for more of TCP's data than they carry, or for a MOS above what the codec reaches over them without any loss or wait (ITU-T G.107). That is
arithmetic, and needs no rehearsal. Raise the bound, choose another codec, correct the delay of a link, or expect less.`,
		func(s *survey) {
			for i, r := range s.routes {
				back := time.Duration(0)
				if i+1 < len(s.routes) && s.routes[i+1].traffic == r.traffic {
					back = s.routes[i+1].delay
				}
				s.unreachable(r, back)
			}
			for i := range s.f.Rehearsals {
				h := &s.f.Rehearsals[i]
				for j := range h.Expect {
					x := &h.Expect[j]
					if x.Versus != "" || x.Windowed() || x.OfPromise {
						continue
					}
					if s.bound[x] || s.blocked(h, x) {
						continue
					}
					if x.Metric == policy.Goodput && x.AtLeast() {
						s.goodputBound(h, x)
						continue
					}
					for _, p := range s.plans {
						if x.Where != nil && (x.Where != p.Interface || x.Direction != p.Direction) {
							continue
						}
						var of []*plan.Entry
						for _, e := range p.Entries {
							if policy.IsOf(e.Name, x.Subject) {
								of = append(of, e)
							}
						}
						if len(of) != 1 {
							continue
						}
						if e := of[0]; e.Each == 0 && e.Instances() == nil && !e.Block && e.When == nil && e.Ceiling > 0 {
							s.bounded(h, x, p, e)
						}
					}
				}
			}
		}}
}

// unreachable reports the expectations that the links and the codec of a route do not let hold. Back is the delay of the links of the
// other direction; 0 for a route that is the other direction.
func (s *survey) unreachable(r *route, back time.Duration) {
	changes := func(e policy.Event) bool { return e.Delay != nil || e.Down || e.Attach != nil }
	if r.spread() || !r.certain() || slices.ContainsFunc(r.rehearsal.Events, changes) {
		return
	}
	for i := range r.rehearsal.Expect {
		x := &r.rehearsal.Expect[i]
		if s.bound[x] || x.Where != nil || x.Versus != "" || x.OfPromise || !r.within(x.Subject) {
			continue
		}
		t, found := r.traffic, words.Fact{}
		switch {
		case x.Metric == policy.Delay && x.AtMost() && float64(r.delay) > x.Limit:
			found = words.DelayUnreachable.With(t.Name, r.delay, words.Quote(x.Text))
		case (x.Metric == policy.RoundTrip || x.Metric == policy.Completion) && x.AtMost() && t.Kind.OverTCP() && back > 0 && float64(r.delay+back) > x.Limit:
			found = words.TripUnreachable.With(t.Name, r.delay+back, words.Quote(x.Text))
		case x.Metric == policy.Goodput && x.AtLeast() && t.Kind.OverTCP() && t.Back() == r.reverse && len(r.rehearsal.Events) == 0:
			if at, most := s.carries(r); at != nil && x.Limit > 1.01*most {
				found = words.GoodputUnreachable.With(at.Path(), at.Carries(policy.Out), unit.Rate(most), words.Quote(x.Text))
			}
		case x.Metric != policy.MOS || !x.AtLeast() || t.Kind != policy.Calls:
		case t.Codec.Best(0) < x.Limit:
			found = words.MOSUnreachable.With(words.CodecReaches.With(t.Codec, words.MOS(t.Codec.Best(0))), words.Quote(x.Text))
		case t.Codec.Best(r.delay+t.Playout) < x.Limit:
			found = words.MOSUnreachable.With(words.PathReaches.With(r.delay, t.Codec, words.MOS(t.Codec.Best(r.delay+t.Playout))), words.Quote(x.Text))
		}
		if !found.IsZero() {
			s.bound[x] = true
			s.say(x.At, "", found)
		}
	}
}

// carries returns how much of TCP's data the links of a route can carry, and the interface whose link carries the least, or nil.
func (s *survey) carries(r *route) (at *policy.Interface, most float64) {
	data := r.length - packet.IPv4Header - tcp.Header - tcp.Timestamps
	if r.from().Is6() {
		data += packet.IPv4Header - packet.IPv6Header
	}
	for i := range r.answer.Hops {
		h := &r.answer.Hops[i]
		iface := s.interfaces[h.Node+"/"+h.Interface]
		if iface == nil || iface.Link == nil || h.Direction != policy.Out.String() {
			continue
		}
		size := min(h.SizeIn(iface.Framing), h.SizeIn(iface.Link.Ends[iface.End].Counts()))
		if rate := float64(iface.Carries(policy.Out)) * float64(data) / float64(size); at == nil || rate < most {
			at, most = iface, rate
		}
	}
	return at, most
}

// blocked reports an expectation whose traffic an entry always blocks.
func (s *survey) blocked(h *policy.Rehearsal, x *policy.Expectation) bool {
	if slices.ContainsFunc(h.Events, func(e policy.Event) bool { return e.Attach != nil }) { // the policy changes
		return false
	}
	for i := range s.demands {
		d := &s.demands[i]
		elsewhere := x.Where != nil && (d.plan.Interface != x.Where || d.plan.Direction != x.Direction)
		if d.rehearsal != h || elsewhere || d.spread() || !d.within(x.Subject) && (x.Where == nil || !policy.IsOf(d.entry.Name, x.Subject)) || !failsBlocked(x, d.traffic) {
			continue
		}
		chain := d.entry.Chain()
		at := slices.IndexFunc(chain, func(e *plan.Entry) bool { return e.Block })
		if at >= 0 && !slices.ContainsFunc(chain, func(e *plan.Entry) bool { return e.When != nil }) {
			s.bound[x] = true
			s.say(chain[at].Spec.PlaceOf("block"), d.plan.Where(), words.BlockedExpected.With(chain[at].Name, words.Quote(x.Text)))
			return true
		}
	}
	return false
}

// failsBlocked reports whether an expectation fails when one of its traffics is blocked.
func failsBlocked(x *policy.Expectation, t *policy.Traffic) bool {
	switch x.Metric {
	case policy.Loss:
		return (x.AtMost() || x.Operator == "=") && x.Limit < 1
	case policy.Throughput:
		return x.AtLeast() && x.Limit > 0 && (x.Where != nil || t.Name == x.Subject)
	case policy.MOS:
		return x.AtLeast() && x.Limit > 1 && t.Kind == policy.Calls
	case policy.Delay, policy.Variation, policy.Jitter:
		return x.Where == nil
	}
	return false
}

// goodputBound says that a goodput is above the limit of an entry on the way of its data.
func (s *survey) goodputBound(h *policy.Rehearsal, x *policy.Expectation) {
	for i := range s.demands {
		d := &s.demands[i]
		if d.rehearsal != h || !d.traffic.Kind.OverTCP() || d.traffic.Back() != d.reverse || !d.within(x.Subject) {
			continue
		}
		for e := d.entry; e != nil; e = e.Parent {
			if e.Each == 0 && e.Instances() == nil && !e.Block && e.When == nil && e.Bounded && len(e.Whens()) == 0 && float64(e.Ceiling) < x.Limit {
				s.bound[x] = true
				s.say(e.Spec.At, d.plan.Where(), words.LimitBelowExpected.With(e.Name, e.Ceiling, words.Quote(x.Text)))
				return
			}
		}
	}
}

// bounded says that an expectation cannot hold with the bound of an entry.
func (s *survey) bounded(h *policy.Rehearsal, x *policy.Expectation, p *plan.Plan, e *plan.Entry) {
	offered := s.steady(h, e)
	lost := 1 - float64(e.Ceiling)/float64(max(offered, 1))
	// What a queue, or a bucket, holds is not lost: in a short rehearsal that counts.
	held := e.Queue.Bytes + unit.Size(e.Queue.Packets)*p.MaxPacket + 2*p.MaxPacket
	for o := e; o != nil; o = o.Parent {
		if o.Meter != nil {
			held += o.Meter.Burst + o.Meter.Second
		}
		if o.AtMost != nil {
			held += o.AtMost.Credit
		}
	}
	more := float64(held) * 8 / h.Lasts.Seconds()
	lost -= more / float64(max(offered, 1))
	least := -1.0
	switch {
	case x.Metric == policy.Loss && x.AtMost():
		least = x.Limit
	case x.Metric == policy.Loss && x.Operator == "=", x.Metric == policy.Drops && (x.AtMost() || x.Operator == "=") && x.Limit == 0:
		least = x.Limit
	case x.Metric == policy.Throughput && x.AtLeast() && x.Where != nil && p.Kept() && float64(e.Ceiling)*1.001+more < x.Limit:
		s.bound[x] = true
		s.say(e.Spec.At, p.Where(), words.LimitBelowExpected.With(e.Name, e.Ceiling, words.Quote(x.Text)))
		return
	}
	if least < 0 || lost <= least+0.005 || s.onlyCalls(h, e) { // which have a finding of their own
		return
	}
	s.bound[x] = true
	s.say(e.Spec.At, p.Where(), words.LossAboveExpected.With(e.Name, e.Ceiling, offered, words.Quote(x.Text), words.Part(lost)))
}

// onlyCalls reports whether a rehearsal offers calls alone to an entry.
func (s *survey) onlyCalls(h *policy.Rehearsal, e *plan.Entry) bool {
	for i := range s.demands {
		for o := s.demands[i].entry; o != nil; o = o.Parent {
			if o == e && s.demands[i].rehearsal == h && s.demands[i].calls == 0 {
				return false
			}
		}
	}
	return true
}
