package check

import (
	"math"

	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/words"
)

func queueTooShallow() Rule {
	return Rule{"queue-too-shallow", Warning, `The queue of a class is too short for TCP to keep the promised rate. It holds much less than what is in flight (that rate times the round
trip over the links): at each loss it sends half, and the queue is empty before it has caught up (RFC 5681 §3.1; a queue of one such
product is enough for one flow, a part of it for many). The figure is for a single flow that halves its window.`,
		func(s *survey) {
			for i := range s.demands {
				d := &s.demands[i]
				e, q := d.entry, &d.entry.Queue
				if d.traffic.Protocol != packet.TCP && !d.traffic.Kind.OverTCP() || d.traffic.Kind.OverTCP() && d.traffic.Back() != d.reverse || e.Promise == 0 || !e.Leaf() || q.Drop != policy.TailDrop {
					continue
				}
				if d.plan.Direction == policy.In && d.plan.Shape == 0 || s.offered(d.rehearsal, e) <= e.Promise {
					continue
				}
				trip := 2 * d.delay
				product := float64(e.Promise) * trip.Seconds() / 8
				holds := float64(q.Bytes) + float64(q.Packets)*float64(d.plan.MaxPacket)
				if product <= 0 || holds >= product {
					continue
				}
				// The window goes from half of 1+b to 1+b products; below one the link idles.
				top := 1 + holds/product
				keeps := math.Min(1, 0.375*top*top/((1-top/2)+(top*top-1)/2))
				if keeps > 0.95 {
					continue
				}
				s.say(e.Spec.PlaceOf("queue"), d.plan.Where(), words.QueueTooShallow.With(e.Name, unit.Size(holds), unit.Size(product), e.Promise, trip, d.traffic.Name, words.Part(keeps)))
			}
		}}
}
