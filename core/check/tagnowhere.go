package check

import (
	"fmt"
	"slices"

	"imbrel/core/policy"
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
							what := ""
							switch k := m.Terms[j].Key; {
							case (k == policy.KeyVLAN || k == policy.KeyPCP) && p.Framing.Tags == 0:
								what = "tag"
							case k == policy.KeyTC && !labels && p.Framing.Labels == 0:
								what = "label"
							}
							if what == "" || s.holdsElsewhere(e.Class, what, labels) {
								continue
							}
							s.say(m.At, p.Where(), fmt.Sprintf("`%s` asks for a %s, and frames have none", e.Class.Name, what),
								"the condition never holds, and its packets fall to the entries after it",
								map[string]string{"tag": "give the interface a `framing` with a tag, such as ethernet-vlan, or ask for something else", "label": "ask for the DSCP, or add the tunnel that pushes the label"}[what])
						}
					}
				}
			}
		}}
}

// holdsElsewhere reports whether the class is treated at a place where frames have what it
// asks for: one policy may serve several.
func (s *survey) holdsElsewhere(c *policy.Class, what string, labels bool) bool {
	for _, p := range s.plans {
		if what == "tag" && p.Framing.Tags == 0 || what == "label" && !labels && p.Framing.Labels == 0 {
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
