package simulate

import (
	"slices"
	"time"

	"imbrel.example/imbrel/core/plan"
)

// A port that begins to send a packet knows when the packet will reach the next node, unless the link is random, metered, captured or changed by an
// event. The port then plans the arrival at once, which spares two or three events.

// computes reports whether a port may plan arrivals at once.
func (r *run) computes(p *port) bool {
	o := &r.options
	if o.everyEvent || o.Tap != nil || r.outside != nil || len(r.plan.Events) > 0 || p.peer == nil || p.down || p.ring != nil || p.medium != nil || p.bought != nil {
		return false
	}
	if c := p.carrier; c != nil && (c.shared != nil || o.Every > 0) {
		return false
	}
	a := p.out.attached
	return a == nil || !slices.ContainsFunc(a.Entries, func(e *plan.Entry) bool { return len(e.Whens()) > 0 })
}

// departs plans the arrival of a packet that will have left a port at a time. It reports whether it did: delivery to a host, and a drop of the
// carrier, have an event at their own time.
func (r *run) departs(p *port, f *flight, at time.Duration) bool {
	if !p.computes || f.at == len(f.route)-1 || f.left || p.carrier != nil && !p.carrier.hasRoom(f, at) {
		return false
	}
	r.leaves(p, f, at)
	if p.carrier != nil {
		r.carried(p, f, at)
	} else {
		r.arrives(p, f, at)
	}
	return true
}

// arrives plans the arrival at the next node of a packet that is on the link from a time on.
func (r *run) arrives(p *port, f *flight, at time.Duration) {
	r.arrival(p, f, at+p.delay)
}

// leaves lets a packet leave a node by a port.
func (r *run) leaves(p *port, f *flight, at time.Duration) {
	f.hop().Leave(&f.Packet, f.inside)
	if o := f.order; o != nil {
		f.SetESP(o.index, f.sequence)
	}
	r.marked(&p.out, f, at)
}

// marked counts the marks below and above IP with which a packet leaves a path at a time.
func (r *run) marked(p *path, f *flight, at time.Duration) {
	if !f.Tagged && f.Labels() == 0 || p.Path == nil || int(f.Slot) >= len(p.names) || at < r.plan.WarmUp { // Path and names: it was taken before an event changed the policy
		return
	}
	if p.pcps == nil {
		p.pcps, p.tcs = make([][8]uint64, len(p.names)), make([][8]uint64, len(p.names))
	}
	pcp, tagged := f.PCP()
	tc, labelled := f.TC()
	for i := int(f.Slot); i >= 0; i = p.Parent(i) {
		if tagged {
			p.pcps[i][pcp]++
		}
		if labelled {
			p.tcs[i][tc]++
		}
	}
}
