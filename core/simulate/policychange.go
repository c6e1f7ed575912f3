package simulate

import (
	"slices"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
)

// A formerPath is a data path whose policy is in force no more.
type formerPath struct {
	*path
	at        *port
	direction policy.Direction
}

// changePolicy plans an event that changes the policy of a place. Without policies nothing changes.
func (r *run) changePolicy(e *policy.Event) {
	if r.options.WithoutPolicy {
		return
	}
	at, d := r.network.byIface[e.Attach.Interface], e.Attach.Direction
	r.at(e.At, func() { r.putInForce(at, d, e.Attach) })
	if until := e.Until(r.plan.Lasts); until < r.plan.Lasts {
		r.at(until, func() { r.putInForce(at, d, at.iface.Attached[d]) })
	}
}

// putInForce puts another policy in force at a place, nil: none. What waits there is classified anew, in the order in which it came, and counts
// as offered to both.
func (r *run) putInForce(at *port, d policy.Direction, a *policy.Attachment) {
	p := at.path(d)
	old := *p
	old.until = r.now
	if old.Path != nil {
		for _, s := range old.slots {
			if s == nil {
				continue
			}
			s.step(int(r.stepEnds/r.stepLength) - 1)
			if s.touched {
				r.touched = slices.DeleteFunc(r.touched, func(o *slot) bool { return o == s })
			}
		}
	}
	r.former = append(r.former, formerPath{path: &old, at: at, direction: d})
	if s := r.series; s != nil && s.paths[p] != nil {
		s.paths[&old] = s.paths[p]
		delete(s.paths, p)
	}
	*p = path{place: int32(placesOfPort*len(r.network.ports) + len(r.former) - 1), from: r.now}
	r.newPath(at, d, a)
	r.epoch++
	if old.Path == nil {
		return
	}
	for _, pkt := range old.Drain() {
		f := pkt.Owner.(*flight)
		f.steps = append(f.steps, measure.Step{Place: old.place, Slot: f.Slot, Wait: r.now - f.Arrived, By: f.held})
		r.offer(at, d, f, false)
	}
	switch {
	case p.Path == nil: // without a policy, until a packet comes
	case d == policy.Out:
		r.send(at)
	default:
		r.drainIn(at)
	}
}
