package check

import (
	"time"

	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

func slowLink() Rule {
	return Rule{"slow-link", Note, `On a slow link a full packet that has begun to go out cannot be interrupted: a voice packet that comes just after it waits for
the whole packet, whatever its priority. Remedies: a lower MTU, so that other traffic sends smaller packets; a link that interrupts a long packet for
voice (fragment interleaving of RFC 2686 on PPP, frame preemption of IEEE 802.3br on Ethernet); header compression (RFC 5795); a faster link. Imbrel does
not rehearse fragments or compression.`,
		func(s *survey) {

			const tooLong = 10 * time.Millisecond
			for _, p := range s.plans {
				if p.Direction != policy.Out {
					continue
				}
				for _, e := range p.Entries {
					if took := p.Carries.Time(p.MaxPacket); e.Priority > 0 && took > tooLong {
						s.say(e.Spec.At, p.Where(), words.SlowLink.With(took, e.Name))
					}
				}
			}
		}}
}
