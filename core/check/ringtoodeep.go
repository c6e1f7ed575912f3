package check

import (
	"time"

	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/words"
)

// deepRing is from how long a full ring a voice packet behind it is late.
const deepRing = 10 * time.Millisecond

func ringTooDeep() Rule {
	return Rule{"ring-too-deep", Warning, `The hardware of an interface takes many packets out of the policy's queues at once, into a ring that is first come, first served. An urgent packet waits for all that are in it, whatever its
priority. Let the driver hold fewer packets, or shape to less than the interface sends, so that the ring stays empty.`,
		func(s *survey) {
			for _, p := range s.plans {
				iface := p.Interface
				if p.Direction != policy.Out || iface == nil || iface.Ring == 0 || !queues(p) || p.Shape > 0 && p.Shape < iface.Rate {
					continue
				}
				full := plan.FullPacket(iface.Framing)
				wait := iface.Rate.Time(unit.Size(iface.Ring) * full)
				if wait < deepRing {
					continue
				}
				s.say(iface.PlaceOf("ring"), "", words.RingTooDeep.With(iface.Path(), iface.Ring, wait, iface.Rate, max(1, int(deepRing/iface.Rate.Time(full)))))
			}
		}}
}
