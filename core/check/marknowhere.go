package check

import (
	"slices"

	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

func markNowhere() Rule {
	return Rule{"mark-nowhere", Warning, `A policy marks a PCP, a DEI or an MPLS traffic class where frames leave without a tag or a label: nothing carries the mark. The
` + "`framing`" + ` of the interface says whether there is a tag; labels come from a tunnel of kind ` + "`mpls`" + `.`,
		func(s *survey) {
			labels := slices.ContainsFunc(s.f.Network.Tunnels, func(t policy.Tunnel) bool { return t.Kind == policy.MPLS })
			for _, p := range s.plans {
				if p.Direction != policy.Out {
					continue
				}
				for _, e := range p.Entries {
					for _, m := range marksOf(e) {
						for layer, has := range map[policy.Layer]bool{policy.TagLayer: m.PCP != nil || m.DEI != nil, policy.LabelLayer: m.TC != nil} {
							if has && missing(p, layer, labels) {
								s.say(m.At, p.Where(), words.MarkNowhere.With(e.Name, layer))
							}
						}
					}
				}
			}
		}}
}

// marksOf returns what an entry marks: its own mark, and those of its policer.
func marksOf(e *plan.Entry) (out []*policy.Mark) {
	if e.Spec.Mark != nil {
		out = append(out, e.Spec.Mark)
	}
	if e.Meter != nil {
		for _, a := range e.Meter.Actions {
			if a.Mark != nil {
				out = append(out, a.Mark)
			}
		}
	}
	return out
}
