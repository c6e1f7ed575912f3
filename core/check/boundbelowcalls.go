package check

import (
	"fmt"

	"imbrel/core/figure"
)

// raise mends the bound of an entry that calls alone fall on.
func (s *survey) raise(d *demand) {
	e := d.entry.Spec
	switch _, key := bound(d.entry); {
	case !s.onlyCalls(d.rehearsal, d.entry):
	case key == "police":
		s.mend(&e.Police.Source, "rate", d.wire().String())
	case key == "at-most" && len(e.AtMost.Keys()) == 0:
		s.mend(&e.Source, "at-most", d.wire().String())
	}
}

func boundBelowCalls() Rule {
	return Rule{"bound-below-calls", Warning, `The calls of a rehearsal take more than the bound of their class. The bound does not refuse the last call: all calls
compete for it. Which of them loses packets changes slowly, as the clocks of the phones drift: a call can lose half of its packets for half a minute,
while others lose none. Raise the bound, or let the phone system admit fewer calls.`,
		func(s *survey) {

			s.voices(func(d *demand) {
				one, all := d.traffic.Codec.Rate(int(d.packet)), d.wire()
				if d.entry.Each != 0 || d.entry.Ceiling < one || d.entry.Ceiling >= all {
					return
				}
				s.say(d.entry.Spec.At, d.plan.Where(), fmt.Sprintf("the %d calls of `%s` take %s, and `%s` may have %s", d.calls, d.rehearsal.Name, figure.Rate(int64(all)), d.entry.Name, figure.Rate(int64(d.entry.Ceiling))),
					fmt.Sprintf("when all talk, %s of their packets are lost; which calls lose them changes slowly, and one can lose half for half a minute; %d calls fit", figure.Ratio(1-float64(d.entry.Ceiling)/float64(all)), int64(d.entry.Ceiling/one)),
					fmt.Sprintf("give it %s, as `police: {calls: %d, codec: %s}` does, or plan for %d calls", figure.Rate(int64(all)), d.calls, d.traffic.Codec.Name, int64(d.entry.Ceiling/one)))
				s.raise(d)
			})
		}}
}
