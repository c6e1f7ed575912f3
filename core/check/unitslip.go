package check

import (
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/words"
)

func unitSlip() Rule {
	return Rule{"unit-slip", Warning, `A rate looks wrong by its unit: a bound above the interface's rate, or below a two-thousandth of the rate to share (kbit/s and Mbit/s); or a bound that is
exactly 8, 10 or 1000 times that of the same class in another policy (bytes for bits, a digit, k for M).`,
		func(s *survey) {
			type known struct {
				rate unit.Rate
				at   policy.Place
			}
			first := make(map[string]known)
			for _, p := range s.plans {
				if p.Interface != nil && p.Interface.Own { // little is for a node itself, and its rate is no bottleneck
					continue
				}
				for _, e := range p.Entries {
					rate, key := rateLimit(e)
					if rate == 0 {
						continue
					}
					at := e.Spec.PlaceOf(key)
					switch {
					case rate > p.Rate:
						s.say(at, p.Where(), words.LimitAbovePort.With(e.Name, rate, p.Rate))
					case rate < p.Whole/2000 && e.Each == 0 && e.Instances() == nil && p.Direction == policy.Out:
						s.say(at, p.Where(), words.LimitTiny.With(e.Name, rate, p.Whole, rate.Time(p.MaxPacket), rate*1000))
					}
					o, met := first[e.Name]
					if !met {
						first[e.Name] = known{rate, at}
						continue
					}
					for _, factor := range []unit.Rate{8, 10, 1000} {
						if o.at != at && (rate == o.rate*factor || o.rate == rate*factor) {
							s.say(at, p.Where(), words.LimitFactor.With(e.Name, rate, o.rate, o.at, int64(factor), map[unit.Rate]words.Fact{8: words.BitsAndBytes.With(), 10: words.DigitMissing.With(), 1000: words.KiloAndMega.With()}[factor]))
						}
					}
				}
			}
		}}
}

// rateLimit returns the rate that bounds an entry where it is written as a rate, and the key that
// says it.
func rateLimit(e *plan.Entry) (unit.Rate, string) {
	switch c, m := e.Spec.AtMost, e.Spec.Police; {
	case c != nil && c.Rate.Rate > 0:
		return c.Rate.Rate, "at-most"
	case m != nil && m.Rate.Rate > 0:
		return m.Rate.Rate, "police"
	}
	return 0, ""
}
