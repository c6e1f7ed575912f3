package check

import (
	"imbrel.example/imbrel/core/words"
)

// raise mends the bound of an entry that calls alone fall on.
func (s *survey) raise(d *demand) {
	e := d.entry.Spec
	switch _, key := rateLimit(d.entry); {
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
				s.say(d.entry.Spec.At, d.plan.Where(), words.BoundBelowCalls.With(d.calls, d.rehearsal.Name, all, d.entry.Name, d.entry.Ceiling, words.Part(1-float64(d.entry.Ceiling)/float64(all)), int64(d.entry.Ceiling/one), d.traffic.Codec.Name))
				s.raise(d)
			})
		}}
}
