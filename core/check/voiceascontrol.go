package check

import (
	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/words"
)

func voiceAsControl() Rule {
	return Rule{"voice-as-control", Warning, `Voice leaves with cs6 or cs7, the codepoints of network control. It competes with routing, in one queue of every router on
its way, and a burst of calls can take links down. Telephony is ` + "`" + `ef` + "`" + ` (RFC 4594).`,
		func(s *survey) {

			s.voices(func(d *demand) {
				m := d.entry.Spec.Mark
				if m == nil || m.DSCP == nil || *m.DSCP < codepoint.CS6 {
					return
				}
				s.say(d.entry.Spec.PlaceOf("mark"), d.plan.Where(), words.VoiceAsControl.With(d.entry.Name, m.DSCP.Name()))
				s.mend(&d.entry.Spec.Source, "mark", "ef")
			})
		}}
}
