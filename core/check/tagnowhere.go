package check

import (
	"slices"

	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

func tagNowhere() Rule {
	return Rule{"tag-nowhere", Warning, `A class asks for a VLAN, a PCP or an MPLS traffic class where no frame has a tag or a label: the condition never holds. The
` + "`" + `framing` + "`" + ` of the interface says whether there is a tag; labels come from a tunnel of kind ` + "`" + `mpls` + "`" + `.`,
		func(s *survey) {

			labels := slices.ContainsFunc(s.f.Network.Tunnels, func(t policy.Tunnel) bool { return t.Kind == policy.MPLS })
			for _, p := range s.plans {
				for _, e := range p.Entries {
					if e.Class == nil {
						continue
					}
					for i := range e.Class.Match {
						m := &e.Class.Match[i]
						for j := range m.Terms {
							layer := m.Terms[j].Key.Row().Layer
							if !missing(p, layer, labels) || s.holdsElsewhere(e.Class, layer, labels) {
								continue
							}
							s.say(m.At, p.Where(), words.TagNowhere.With(e.Class.Name, layer, layerFix(layer)))
						}
					}
				}
			}
		}}
}

// holdsElsewhere reports whether the class is treated at a place where frames have what it
// asks for: one policy may serve several.
func (s *survey) holdsElsewhere(c *policy.Class, layer policy.Layer, labels bool) bool {
	for _, p := range s.plans {
		if missing(p, layer, labels) {
			continue
		}
		for _, e := range p.Entries {
			if e.Class == c {
				return true
			}
		}
	}
	return false
}

// layerFix says how frames get a layer.
func layerFix(l policy.Layer) words.Fact {
	if l == policy.TagLayer {
		return words.LayerTag.With()
	}
	return words.LayerLabel.With()
}

// missing reports whether no frame at a plan's interface has a layer; labels says that some node of the network pushes them.
func missing(p *plan.Plan, layer policy.Layer, labels bool) bool {
	return layer == policy.TagLayer && p.Framing.Tags == 0 || layer == policy.LabelLayer && !labels && p.Framing.Labels == 0
}
