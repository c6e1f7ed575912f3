package check

import (
	"fmt"

	"imbrel/core/figure"
	"imbrel/core/policy"
)

func voiceWithoutPriority() Rule {
	return Rule{"voice-without-priority", Warning, `Calls fall on an entry that has no ` + "`" + `priority` + "`" + `, at an interface that a rehearsal fills. Their packets take turns with those of the
others: each waits for some of theirs, and what calls take beyond the promise is lent only as long as nobody else wants it.`,
		func(s *survey) {
			s.voices(func(d *demand) {
				for e := d.entry; e != nil; e = e.Parent {
					if e.Priority > 0 || e.Class == nil {
						return
					}
				}
				p := d.plan
				if p.Direction != policy.Out || p.NotKept() != "" || !queues(p) || !s.congested(p.Interface) {
					return
				}
				s.say(d.entry.Spec.At, p.Where(), fmt.Sprintf("the calls of `%s` are in `%s`, which has no priority", d.traffic.Name, d.entry.Name),
					fmt.Sprintf("where the link is full, a call's packet waits for those of the others, each %s long", figure.Milliseconds(float64(p.Whole.Time(p.MaxPacket))/1e6)),
					"give it `priority: 1`, and a bound")
			})
		}}
}
