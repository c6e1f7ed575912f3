package explain

import (
	"fmt"
	"strings"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/meter"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/words"
)

// Police returns what a policer does.
func Police(m *plan.Meter) words.Fact {
	var peak unit.Rate
	var second, excess unit.Size
	two := m.Kind != policy.OneBucket
	switch m.Kind {
	case policy.SingleRate:
		excess = m.Second
	case policy.TwoRate:
		peak, second = m.Peak, m.Second
	case policy.TwoRateExcess:
		peak, excess = m.Peak, m.Second
	}
	aware := words.Fact{}
	if m.Aware {
		aware = words.Aware.With()
	}
	var actions []words.Fact
	for c := meter.Green; c <= meter.Red; c++ {
		if c == meter.Yellow && !two {
			continue
		}
		colour := any(c)
		if c == meter.Red && len(actions) == 0 && !two {
			colour = words.Excess.With()
		}
		switch a := m.Actions[c]; {
		case a.Drop:
			actions = append(actions, words.Drops.With(colour))
		case a.Mark != nil:
			actions = append(actions, words.Marks.With(colour, Mark(a.Mark)))
		case c != meter.Green:
			actions = append(actions, words.Passes.With(colour))
		}
	}
	return words.Policer.With(m.Rate, m.Burst, peak, second, excess, aware, actions)
}

// Mark returns what packets are marked with.
func Mark(m *policy.Mark) words.Fact {
	var marks []words.Fact
	add := func(r *words.Row, value any) { marks = append(marks, r.With(value)) }
	if m.DSCP != nil {
		add(words.MarkDSCP, strings.ToUpper(m.DSCP.Name()))
	}
	if m.Map != nil {
		add(words.ByMap, m.Map.Name)
	}
	if m.Precedence != nil {
		add(words.MarkPrecedence, int(*m.Precedence))
	}
	if m.DEI != nil {
		add(words.MarkDEI, *m.DEI)
	}
	if m.PCP != nil {
		add(words.MarkPCP, int(*m.PCP))
	}
	if m.TC != nil {
		add(words.MarkTC, int(*m.TC))
	}
	return words.MarkOf.With(marks)
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
