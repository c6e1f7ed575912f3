package check

import (
	"imbrel.example/imbrel/core/words"
)

func exemptOneWay() Rule {
	return Rule{"exempt-one-way", Warning, `An ` + "`except`" + ` keeps the packets of one direction out of a class. The packets of the other direction are still in the class, so the
conversation is still limited or served on its way back. Write the exception for both directions: ` + "`from`" + ` and ` + "`to`" + `, ` + "`from-port`" + ` and
` + "`to-port`" + `, or ` + "`port`" + `.`,
		func(s *survey) {
			for _, w := range s.routes {
				for i := range w.answer.Hops {
					for _, t := range w.answer.Hops[i].Tried {
						if !t.Reason.Is(words.ExceptHolds) {
							continue
						}
						for _, o := range s.routes {
							if o.rehearsal != w.rehearsal || o.traffic != w.traffic || o.reverse == w.reverse {
								continue
							}
							for j := range o.answer.Hops {
								h := &o.answer.Hops[j]
								if h.Entry != nil && h.Entry.Class != nil && h.Entry.Class.Name == t.Class {
									s.say(h.Entry.Class.Except[0].At, h.Plan.Where(), words.ExemptOneWay.With(w.name(), t.Class, o.name()))
									break
								}
							}
						}
					}
				}
			}
		}}
}
