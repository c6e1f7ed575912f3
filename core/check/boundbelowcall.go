package check

import (
	"imbrel.example/imbrel/core/words"
)

func boundBelowCall() Rule {
	return Rule{"bound-below-call", Error, `The class has calls, and its limit is less than the rate of one call, so every call is damaged. A digit is missing, kbit/s and Mbit/s were
mixed up, or the framing was forgotten: on the wire small packets take half as much again. ` + "`imbrel budget`" + ` calculates the rate of calls, and
` + "`police: {calls: N, codec: …}`" + ` calculates it in the file.`,
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
