package bound

import (
	"time"

	"imbrel.example/imbrel/core/plan"
)

// overtaken reports whether as many packets as the replay window of a tunnel may overtake one packet of a flow. Longest is the longest
// delay of the flow.
func (n *network) overtaken(w *flow, longest time.Duration) bool {
	packets := int64(0)
	for _, f := range n.flows {
		if f.replay != w.replay || f.begins != w.begins || !f.overtakes(w) {
			continue
		}
		late := f.visits[len(f.visits)-1].leaveMax
		if longest == Never || late == Never || len(f.send.patterns) == 0 {
			return true
		}
		most := int64(Endless)
		for _, p := range f.send.patterns {
			most = min(most, p.once+p.next*int64((longest+late+f.send.jitter)/p.every+1))
		}
		packets += most
	}
	return packets >= int64(w.replay.Window)
}

// overtakes reports whether packets of a flow may overtake those of another, or each other, somewhere.
func (f *flow) overtakes(w *flow) bool {
	for _, v := range w.visits {
		if l := v.at.iface.Link; l != nil && l.Jitter.Overtake {
			return true
		}
		for _, o := range f.visits {
			switch {
			case o.at != v.at:
			case v.anyClass || o.anyClass || v.at.queues[v.entry] == nil || v.at.queues[v.entry].unordered:
				return true
			case o.entry != v.entry && !urgent(v.entry, o.entry):
				return true
			}
		}
	}
	return false
}

// urgent reports whether no packet of one entry passes those of another that wait: it is more urgent where the two part, and has no
// upper limit up to there.
func urgent(e, o *plan.Entry) bool {
	for ; e != nil; e = e.Parent {
		if e.AtMost != nil {
			return false
		}
		for p := o; p != nil; p = p.Parent {
			if e.Parent == p.Parent {
				return e.Priority > 0 && (p.Priority == 0 || p.Priority > e.Priority)
			}
		}
	}
	return false
}
