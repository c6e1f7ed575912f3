package check

import (
	"imbrel.example/imbrel/core/classify"
	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/explain"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

func flowDivided() Rule {
	return Rule{"flow-divided", Note, `A policer marks a part of a flow's packets otherwise, and a policy further on has these in another queue than the rest of the flow. Where one queue is longer, packets overtake others of their
flow: a receiver of TCP takes that for loss, and one of a call may drop them. Let one class take all marks of the flow, and let its queue drop the lesser ones first (RFC 2597 §2: packets of one AF class are not reordered).`,
		func(s *survey) {
			for _, w := range s.routes {
				for i := range w.answer.Hops {
					hop := &w.answer.Hops[i]
					if hop.Entry == nil {
						continue
					}
					for _, e := range hop.Entry.Chain() {
						if e.Meter == nil || w.traffic.Kind != policy.Replay && !w.traffic.Kind.OverTCP() && s.steady(w.rehearsal, e) <= e.Meter.Rate {
							continue // nothing exceeds it
						}
						for _, mark := range otherMarks(e, hop) {
							s.dividedBy(w, i, e, mark)
						}
					}
				}
			}
		}}
}

// otherMarks returns the code points with which a policer marks some of the packets that the others leave an interface without.
func otherMarks(e *plan.Entry, hop *explain.Step) []codepoint.DSCP {
	var out []codepoint.DSCP
	if e.Meter == nil || e.Meter.When != nil {
		return nil
	}
	usual, err := codepoint.ParseDSCP(hop.MarksOut.DSCP)
	if err != nil {
		return nil
	}
	for _, a := range e.Meter.Actions {
		other := usual
		switch m := a.Mark; {
		case a.Drop || m == nil:
		case m.DSCP != nil:
			other = *m.DSCP
		case m.Map != nil:
			other = m.Map.To[usual]
		}
		if other != usual {
			out = append(out, other)
		}
	}
	return out
}

// dividedBy looks for a queue beyond a policer that packets with its mark wait in, and the others of their flow do not.
func (s *survey) dividedBy(w *route, from int, e *plan.Entry, mark codepoint.DSCP) {
	for i := from + 1; i < len(w.answer.Hops); i++ {
		hop := &w.answer.Hops[i]
		if hop.Entry == nil {
			continue
		}
		if w.answer.Hops[i-1].Tunnel != "" || len(hop.Labels) > 0 {
			return // what is around the packet counts there
		}
		var p packet.Packet
		p.Build(make([]byte, packet.HeaderRoom), w.flow(), mark, w.length, 0)
		p.Apps, p.In = explain.AppsOf(s.f, w.traffic.ServerName, w.traffic.Kind.Row().RTP), hop.InNumber()
		other := s.taker(hop.Plan, &p)
		if other != hop.Entry && hop.Direction == policy.Out.String() && queues(hop.Plan) {
			s.say(e.Spec.PlaceOf("police"), "", words.FlowDivided.With(e.Name, policy.Directed(w.traffic.Name, w.reverse), mark.Name(), hop.Plan.Where(), other.Name, hop.Entry.Name))
			return
		}
		if m := hop.Entry.Spec.Mark; m != nil && (m.DSCP != nil || m.Map != nil) {
			return // they are marked anew
		}
	}
}

// taker returns the entry of a plan that takes a packet.
func (s *survey) taker(p *plan.Plan, pkt *packet.Packet) *plan.Entry {
	if s.classifiers[p] == nil {
		s.classifiers[p] = classify.New(p)
	}
	return s.classifiers[p].Take(pkt)
}

// flow returns the flow of the packets on the route.
func (w *route) flow() packet.Flow {
	from, to := w.traffic.FirstPorts()
	f := packet.Flow{From: w.traffic.From, To: w.traffic.To, FromPort: from, ToPort: to, Protocol: w.traffic.Protocol}
	if w.reverse {
		return f.Reverse()
	}
	return f
}
