package check

import (
	"imbrel.example/imbrel/core/words"
)

func boundBelowCall() Rule {
	return Rule{"bound-below-call", Error, `The bound of a class that calls fall on is less than one call takes, so every call is damaged. A digit is missing, or
kbit/s and Mbit/s were mixed up, or the framing was forgotten: small packets take half as much again on the wire.
` + "`" + `imbrel budget` + "`" + ` calculates the rate of calls; ` + "`" + `police: {calls: N, codec: …}` + "`" + ` does the sum itself.`,
		func(s *survey) {

			s.voices(func(d *demand) {
				one := d.traffic.Codec.Rate(int(d.packet))
				if d.entry.Ceiling >= one || d.entry.Ceiling == 0 {
					return
				}
				s.say(d.entry.Spec.At, d.plan.Where(), words.BoundBelowCall.With(d.entry.Name, d.entry.Ceiling, d.traffic.Codec, one, words.Part(1-float64(d.entry.Ceiling)/float64(one)), d.wire(), d.calls, d.rehearsal.Name))
				s.raise(d)
			})
		}}
}
