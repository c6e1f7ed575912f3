package explain

import (
	"fmt"
	"strings"

	"imbrel/core/codepoint"
	"imbrel/core/meter"
	"imbrel/core/plan"
	"imbrel/core/policy"
)

// Police returns what a policer does.
func Police(m *plan.Meter) string {
	s := fmt.Sprintf("%s, burst %s", m.Rate, m.Burst)
	two := m.Kind != policy.OneBucket
	switch m.Kind {
	case policy.SingleRate:
		s += fmt.Sprintf(", excess burst %s", m.Second)
	case policy.TwoRate:
		s += fmt.Sprintf(", peak %s, burst %s", m.Peak, m.Second)
	case policy.TwoRateExcess:
		s += fmt.Sprintf(", peak %s, excess burst %s", m.Peak, m.Second)
	}
	if m.Aware {
		s += ", colour-aware"
	}
	var actions []string
	for c := meter.Green; c <= meter.Red; c++ {
		if c == meter.Yellow && !two {
			continue
		}
		colour := c.String()
		if c == meter.Red && len(actions) == 0 && !two {
			colour = "what exceeds it"
		}
		switch a := m.Actions[c]; {
		case a.Drop:
			actions = append(actions, "drops "+colour)
		case a.Mark != nil:
			actions = append(actions, "marks "+colour+" "+Mark(a.Mark))
		case c != meter.Green:
			actions = append(actions, "passes "+colour)
		}
	}
	if len(actions) > 0 {
		s += "; " + strings.Join(actions, ", ")
	}
	return s
}

// Mark returns what packets are marked with.
func Mark(m *policy.Mark) string {
	var words []string
	if m.DSCP != nil {
		words = append(words, strings.ToUpper(m.DSCP.Name()))
	}
	if m.Map != nil {
		words = append(words, "by map "+m.Map.Name)
	}
	if m.Precedence != nil {
		words = append(words, fmt.Sprintf("precedence %d", *m.Precedence))
	}
	if m.DEI != nil {
		words = append(words, fmt.Sprintf("DEI %t", *m.DEI))
	}
	if m.PCP != nil {
		words = append(words, fmt.Sprintf("PCP %d", *m.PCP))
	}
	if m.TC != nil {
		words = append(words, fmt.Sprintf("TC %d", *m.TC))
	}
	return strings.Join(words, ", ")
}

// DSCP returns a codepoint in the spellings people mix up: "EF 46 0x2e (ToS
// 0xb8)".
func DSCP(d codepoint.DSCP) string {
	name := strings.ToUpper(d.Name())
	if name[0] <= '9' {
		name = "DSCP"
	}
	return fmt.Sprintf("%s %d 0x%02x (ToS 0x%02x)", name, d, uint8(d), d.ToS())
}
