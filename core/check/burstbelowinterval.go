package check

import (
	"imbrel.example/imbrel/core/meter"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/words"
)

func burstBelowInterval() Rule {
	return Rule{"burst-below-interval", Warning, `A policer's bucket holds less than what arrives at once when the packets of all calls fall together. The rate suffices, and
packets are lost all the same, now and then and for no visible reason. A bucket of two packets a call is enough.`,
		func(s *survey) {

			s.voices(func(d *demand) {
				m := d.entry.Meter
				if m == nil || !m.Actions[meter.Red].Drop || m.Rate < d.wire() || d.entry.Each != 0 {
					return
				}
				need := unit.Size(d.calls) * d.packet
				if m.Burst >= need || m.Burst < d.packet {
					return
				}
				s.say(d.entry.Spec.At, d.plan.Where(), words.BurstBelowInterval.With(m.Burst, int64(m.Burst/d.packet), d.entry.Name, d.calls, d.calls-int(m.Burst/d.packet), 2*need))
				s.mend(&d.entry.Spec.Police.Source, "burst", (2 * need).String())
			})
		}}
}
