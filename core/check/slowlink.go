package check

import (
	"fmt"
	"time"

	"imbrel/core/figure"
	"imbrel/core/policy"
)

func slowLink() Rule {
	return Rule{"slow-link", Note, `On a slow link a full packet that has begun to go out cannot be interrupted: a voice packet that comes just after it waits for
all of it, whatever its priority. Smaller packets of the others (a lower MTU), or a faster link, are the only ways out.`,
		func(s *survey) {

			const tooLong = 10 * time.Millisecond
			for _, p := range s.plans {
				if p.Direction != policy.Out {
					continue
				}
				for _, e := range p.Entries {
					if took := p.Carries.Time(p.MaxPacket); e.Priority > 0 && took > tooLong {
						s.say(e.Spec.At, p.Where(), fmt.Sprintf("a full packet takes %s, and `%s` waits for one that has begun", figure.Milliseconds(float64(took)/1e6), e.Name),
							fmt.Sprintf("each hop like it adds up to %s of delay and jitter to a call", figure.Milliseconds(float64(took)/1e6)),
							"let the others send smaller packets (a lower MTU), or take a faster link")
					}
				}
			}
		}}
}
