package simulate

import (
	"time"

	"imbrel.example/imbrel/core/datapath"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/queue"
	"imbrel.example/imbrel/core/unit"
)

// A linkState is what an event may change of a link, in the direction of a port.
type linkState struct {
	sends unit.Rate // 0: as much as the port
	loss  policy.LinkLoss
	delay time.Duration
}

// happen plans the events of the rehearsal.
func (r *run) happen() {
	if l := r.plan.Fails; l != nil {
		r.network.table.Fail(l, true)
		near := r.network.byIface[l.Ends[0].Interface]
		r.down([2]*port{near, near.peer}, true)
	}
	for i := range r.plan.Events {
		e := &r.plan.Events[i]
		if e.Attach != nil {
			r.changePolicy(e)
			continue
		}
		near, until := r.network.byIface[e.End], e.Until(r.plan.Lasts)
		ends := [2]*port{near, near.peer}
		if e.Down {
			r.at(e.At, func() { r.down(ends, true) })
			r.at(until, func() { r.down(ends, false) })
			if e.Detected > 0 {
				r.at(e.At+e.Detected, func() { r.routes(e.End.Link, true) })
				r.at(until+e.Detected, func() { r.routes(e.End.Link, false) })
			}
			continue
		}
		for k, p := range ends {
			before := p.linkState()
			after := before
			rate := e.Sends
			if k == 1 {
				rate = e.Receives
			}
			if rate != nil {
				after.sends = *rate
			}
			if e.Loss != nil {
				after.loss = *e.Loss
			}
			if e.Delay != nil {
				after.delay = *e.Delay
			}
			r.change(p, before, after, e.At, min(e.Over, until-e.At))
			if e.Lasts > 0 && until < r.plan.Lasts {
				r.change(p, after, before, until, e.Over)
			}
		}
	}
}

// A happening is done at a time.
type happening func()

func (h happening) wake(*run) { h() }

func (r *run) at(when time.Duration, do func()) {
	r.events.wake(when, happening(do))
}

// linkState returns what the link of a port is like when nothing has happened to it.
func (p *port) linkState() linkState {
	l := p.iface.Link
	return linkState{sends: l.Ends[p.iface.End].Sends, loss: l.Loss, delay: l.Delay}
}

// change lets a link become different, at once or over a time.
func (r *run) change(p *port, from, to linkState, at, over time.Duration) {
	parts := int64(1)
	if over > 0 {
		parts = policy.RampParts
	}
	full := func(s linkState) int64 {
		if s.sends == 0 {
			return int64(p.rate)
		}
		return int64(s.sends)
	}
	for n := int64(1); n <= parts; n++ {
		s := to
		if n < parts {
			between := func(a, b int64) int64 { return a + (b-a)*n/parts }
			s.delay = time.Duration(between(int64(from.delay), int64(to.delay)))
			s.loss.Part = from.loss.Part + (to.loss.Part-from.loss.Part)*float64(n)/float64(parts)
			s.sends = unit.Rate(between(full(from), full(to)))
		}
		when := at
		if over > 0 {
			when += over * time.Duration(n) / time.Duration(parts)
		}
		r.at(when, func() { r.becomes(p, s) })
	}
}

// becomes makes a link what it is from now on, in the direction of a port. A shape that follows it is changed later.
func (r *run) becomes(p *port, s linkState) {
	p.delay = s.delay
	if p.medium != nil {
		p.medium.loss = s.loss
	}
	if p.iface.Link.HalfDuplex > 0 {
		return
	}
	own := &p.iface.Link.Ends[p.iface.End]
	_, framing, _ := own.Carrier()
	rate := s.sends
	if rate == 0 {
		rate = p.rate
	}
	slower := own.SlowerAt(rate)
	switch {
	case p.carrier != nil:
		p.carrier.rate, p.carrier.gone = rate, !slower
	case slower:
		p.carrier = &carrier{rate: rate, framing: framing, queue: queue.FIFO{Limits: queue.Limits{Bytes: max(1, int64(p.rate.Bytes(own.Buffer)))}}}
	}
	if a := p.out.attached; a != nil && a.Policy.Follows && p.out.config.Plan != nil {
		pl := p.out.config.Plan
		shape := unit.Rate(float64(pl.Shape) * float64(min(rate, p.rate)) / float64(pl.Carries))
		r.at(r.now+a.Policy.FollowsAfter, func() {
			if p.out.Path == nil {
				p.out.open(r)
			}
			p.out.Shape(r.now, shape)
			r.send(p)
		})
	}
}

// down lets a link carry nothing, or carry packets again. What is on it when it fails is lost.
func (r *run) down(ends [2]*port, down bool) {
	r.cuts = true
	for _, p := range ends {
		p.down = down
		if down {
			p.cuts++
		}
	}
}

// lostOnCut loses a packet on a link that is down, or was while the packet was on it.
func (r *run) lostOnCut(p *port, f *flight) {
	f.steps = append(f.steps, measure.Step{Place: p.linkPlace, Slot: f.prediction.first, Reason: datapath.OnLink})
	if r.counts(f) && p.medium != nil {
		p.medium.lost++
	}
	r.gone(f)
}

// routes lets the nodes know that a link has failed, or is there again: all take new routes at once.
func (r *run) routes(l *policy.Link, failed bool) {
	n := r.network
	n.table.Fail(l, failed)
	n.generation++
	clear(n.routes)
	for _, s := range r.sources {
		if s.route != nil && s.sends.From.IsValid() {
			s.route = r.renewed(s.route, s.sends)
		}
	}
	for _, c := range r.clients {
		for _, l := range c.lines {
			for _, e := range []*endpoint{l.client, l.server} {
				e.source.route = r.renewed(e.source.route, e.flow)
			}
		}
	}
}

// renewed returns the route between the ends of another as it is now; where there is none, the same.
func (r *run) renewed(route []hop, flow packet.Flow) []hop {
	if found, err := r.network.route(route[0].in, route[len(route)-1].out, flow); err == nil {
		return found
	}
	return route
}

// reroutes gives a packet that comes to a node another way from there, when the routes have changed since it was sent. In a tunnel it stays.
func (r *run) reroutes(p *port, f *flight) {
	f.generation = r.network.generation
	if f.source.flow != nil && !f.source.sends.From.IsValid() && f.source.endpoint == nil { // it keeps to its link
		return
	}
	if f.inside.Hides() || f.Labels() > 0 || f.whole != nil && f.whole.until != atHost {
		return
	}
	found, err := r.network.route(p, f.route[len(f.route)-1].out, f.Flow)
	if err != nil || len(found) == len(f.route)-f.at && found[0].out == f.hop().out {
		return
	}
	f.route, f.at = found, 0
	ahead := *r.predictFrom(f, f.stage(policy.Out), r.epochNow())
	ahead.in, ahead.first = f.prediction.in, f.prediction.first
	f.prediction = &ahead
}
