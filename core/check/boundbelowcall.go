package check

import (
	"fmt"

	"imbrel/core/figure"
)

func boundBelowCall() Rule {
	return Rule{"bound-below-call", Error, `The bound of a class that calls fall on is less than one call takes, so every call is damaged. A digit is missing, or
kbit/s and Mbit/s were mixed up, or the framing was forgotten: small packets take half as much again on the wire.
` + "`" + `imbrel budget` + "`" + ` reckons what calls take; ` + "`" + `police: {calls: N, codec: …}` + "`" + ` does the sum itself.`,
		func(s *survey) {

			s.voices(func(d *demand) {
				one := d.traffic.Codec.Rate(int(d.packet))
				if d.entry.Ceiling >= one || d.entry.Ceiling == 0 {
					return
				}
				s.say(d.entry.Spec.At, d.plan.Where(), fmt.Sprintf("`%s` may have %s, which is less than one call takes", d.entry.Name, figure.Rate(int64(d.entry.Ceiling))),
					fmt.Sprintf("a call of %s takes %s there: %s of every call is lost", d.traffic.Codec, figure.Rate(int64(one)), figure.Ratio(1-float64(d.entry.Ceiling)/float64(one))),
					fmt.Sprintf("give it %s, which the %d calls of `%s` take", figure.Rate(int64(d.wire())), d.calls, d.rehearsal.Name))
				s.raise(d)
			})
		}}
}
