package check

import (
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

func voiceWithoutPriority() Rule {
	return Rule{"voice-without-priority", Warning, `Calls are in an entry that has no ` + "`priority`" + `, at an interface that a rehearsal fills. Their packets take turns with the packets of other
entries, and wait for them. Above its promise, the class gets a rate only while no other class wants it.`,
		func(s *survey) {
			s.voices(func(d *demand) {
				for e := d.entry; e != nil; e = e.Parent {
					if e.Priority > 0 || e.Class == nil {
						return
					}
				}
				p := d.plan
				if p.Direction != policy.Out || !p.Kept() || !queues(p) || !s.congested(p.Interface) {
					return
				}
				s.say(d.entry.Spec.At, p.Where(), words.VoiceWithoutPriority.With(d.traffic.Name, d.entry.Name, p.Whole.Time(p.MaxPacket)))
			})
		}}
}
