package check

import (
	"fmt"

	"imbrel/core/figure"
	"imbrel/core/policy"
)

func shapeAboveLink() Rule {
	return Rule{"shape-above-link", Error, `The policy shares out more than the link carries, or has no ` + "`" + `shape` + "`" + ` where the carrier is slower than the port. The queue
builds in the carrier's box, which knows no classes, so nothing that is promised is kept. ` + "`" + `shape: 95%` + "`" + ` follows the link.`,
		func(s *survey) {

			for _, p := range s.plans {
				if why := p.NotKept(); p.Direction == policy.Out && why != "" && queues(p) {
					s.say(p.Policy.PlaceOf("shape"), p.Where(), fmt.Sprintf("`%s` shares out what the link does not carry", p.Policy.Name), why,
						fmt.Sprintf("give it a `shape` below %s, such as `shape: 95%%`", figure.Rate(int64(p.Carries))))
					s.mend(&p.Policy.Source, "shape", "95%")
				}
			}
		}}
}
