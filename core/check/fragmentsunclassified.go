package check

import (
	"imbrel.example/imbrel/core/explain"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

func fragmentsUnclassified() Rule {
	return Rule{"fragments-unclassified", Note, `A traffic's packets are fragmented on their way, and a class further on takes them by their ports. Only the first fragment has ports (RFC 791): a device that does not remember it puts the others into another class. A
rehearsal remembers it, as a gate does. Ask for addresses or a mark as well, or let the packets be short enough.`,
		func(s *survey) {
			for _, w := range s.routes {
				divided := !w.traffic.Kind.OverTCP() && int(w.traffic.Packet) > s.longestFrom(w)
				for i := range w.answer.Hops {
					hop := &w.answer.Hops[i]
					if divided && hop.Entry != nil && hop.Tunnel == "" && len(hop.Labels) == 0 {
						if s.withoutPorts(w, hop) {
							break
						}
					}
					divided = divided || hop.TooLong != nil && hop.TooLong.Fragmented && hop.Tunnel == ""
				}
			}
		}}
}

// longestFrom returns the length of the longest packet that a sender's own interface sends.
func (s *survey) longestFrom(w *route) int {
	for i := range w.answer.Hops {
		if iface := s.interfaces[w.answer.Hops[i].Node+"/"+w.answer.Hops[i].Interface]; iface != nil {
			return iface.Longest()
		}
	}
	return policy.DefaultMTU
}

// withoutPorts says where a fragment without ports goes, if that is another entry than the packet's.
func (s *survey) withoutPorts(w *route, hop *explain.Step) bool {
	var p packet.Packet
	flow := w.flow()
	flow.FromPort, flow.ToPort = 0, 0
	p.Build(make([]byte, packet.HeaderRoom), flow, hop.Comes(), w.length, 0)
	p.HasPorts, p.Fragment, p.LaterFragment, p.In = false, true, true, hop.InNumber()
	other := s.taker(hop.Plan, &p)
	if other == hop.Entry {
		return false
	}
	s.say(hop.Entry.Spec.At, hop.Plan.Where(), words.FragmentsUnclassified.With(w.traffic.Name, hop.Entry.Name, other.Name))
	return true
}
