package check

import (
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/words"
)

func burstBelowPacket() Rule {
	return Rule{"burst-below-packet", Error, `A policer's bucket is smaller than a packet that the rehearsals send through it. Such a packet is always red, however slowly
it is sent. The burst is at least the longest packet of the class, as the interface counts it.`,
		func(s *survey) {

			for i := range s.demands {
				d := &s.demands[i]
				if !d.policed {
					continue
				}
				e := d.entry
				for e != nil && (e.Meter == nil || e.Meter.Burst >= d.packet) {
					e = e.Parent
				}
				if e == nil {
					continue
				}
				s.say(e.Spec.At, d.plan.Where(), words.BurstBelowPacket.With(d.traffic.Name, d.packet, e.Name, e.Meter.Burst))
				s.mend(&e.Spec.Police.Source, "burst", (2 * d.packet * unit.Size(max(1, d.calls))).String())
			}
		}}
}
