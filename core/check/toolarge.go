package check

import (
	"cmp"
	"slices"

	"imbrel.example/imbrel/core/explain"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/tcp"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/words"
)

func tooLarge() Rule {
	return Rule{"too-large", Warning, `A packet of a rehearsal's traffic is longer than an interface on its way sends, most often because a tunnel or labels add to it. The
interface drops a packet that may not be fragmented. Its sender learns the length that fits, and sends shorter packets: this costs the first packets, and is a note here. Where a node on the way back filters ICMP, the sender never learns it. Short packets
then arrive and full ones never do: a connection opens, and stands still. Let the tunnel limit the segments of TCP (` + "`mss`" + `), let the sender's packets be shorter, or raise the ` + "`mtu`" + ` of the links on the way.`,
		func(s *survey) {
			for _, w := range s.routes {
				if len(w.misfits) == 0 {
					continue
				}
				m, effect, level := w.misfits[0], words.SenderTold.With(), Note
				if n := slices.IndexFunc(w.misfits, func(m misfit) bool { return m.filter != "" }); n >= 0 {
					m, level = w.misfits[n], Warning
					effect = words.SenderNotTold.With(m.filter)
				}
				fix := words.SendAtMost.With(unit.Size(w.fits))
				if w.traffic.Kind.OverTCP() {
					fix = words.LimitSegments.With(unit.Size(w.fits - segmentHeaders(w.traffic)))
				}
				if s.say(w.traffic.At, "", words.TooLargeForPath.With(w.name(), unit.Size(m.length), m.at, unit.Size(m.fit.Length), unit.Size(m.fit.MTU), effect, fix)); s.isNew {
					s.found[s.last].Level = level
				}
			}
		}}
}

// A misfit is an interface that sends shorter packets than come to it.
type misfit struct {
	length int // of the packet, as its sender sends it
	at     string
	fit    explain.Fit
	filter string // the node that keeps the sender from learning it; "": it learns it
}

// misfit finds where packets of a length do not fit, then those of the length that fits there, and so on. The last length fits everywhere.
func (s *survey) misfit(follower *explain.Follower, q explain.Question) (found []misfit, fits int) {
	tooLong := func(h explain.Step) bool { return h.TooLong != nil && !h.TooLong.Fragmented }
	for q.Length > 0 {
		a, err := follower.Ask(q)
		if err != nil {
			break
		}
		i := slices.IndexFunc(a.Hops, tooLong)
		if i < 0 {
			break
		}
		h := &a.Hops[i]
		m := misfit{length: q.Length, at: h.Node + "/" + h.Interface, fit: *h.TooLong}
		for _, k := range a.Hops[:i+1] {
			if iface := s.interfaces[k.Node+"/"+k.Interface]; iface != nil && iface.Node.Filters && m.filter == "" {
				m.filter = k.Node
			}
		}
		found = append(found, m)
		q.Length -= h.TooLong.Length - h.TooLong.MTU
	}
	for n := 3; n > 0; n-- { // padding within a tunnel
		longer := q
		longer.Length += n
		if a, err := follower.Ask(longer); err == nil && !slices.ContainsFunc(a.Hops, tooLong) {
			return found, longer.Length
		}
	}
	return found, q.Length
}

// segmentHeaders is how much a full packet of TCP is longer than the segment that its ends agree on.
func segmentHeaders(t *policy.Traffic) int {
	if t.From.Is6() {
		return packet.IPv6Header + tcp.Header
	}
	return packet.IPv4Header + tcp.Header
}

// longest returns how long the packets of a traffic are, where its host's interface and the tunnels on its way bound them. hops are those of a
// packet of full length.
func (s *survey) longest(t *policy.Traffic, length int, hops []explain.Step) int {
	if len(hops) == 0 {
		return length
	}
	first, last := s.interfaces[hops[0].Node+"/"+hops[0].Interface], s.interfaces[hops[len(hops)-1].Node+"/"+hops[len(hops)-1].Interface]
	if first == nil || last == nil {
		return length
	}
	length = min(length, first.Longest())
	if !t.Kind.OverTCP() {
		return length
	}
	length = min(length, last.Longest())
	for i := range hops {
		for j := range s.f.Network.Tunnels {
			if n := &s.f.Network.Tunnels[j]; n.Name == hops[i].Tunnel {
				length = min(length, cmp.Or(n.MSS, length)+segmentHeaders(t))
			}
		}
	}
	return length
}
