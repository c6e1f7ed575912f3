package explain

import (
	"fmt"
	"strings"

	"imbrel/core/classify"
	"imbrel/core/codepoint"
	"imbrel/core/policy"
	"imbrel/core/unit"
)

// Key returns one key of a condition as it is written: "from phones".
func Key(c *policy.Condition, key string) string {
	var words []string
	refs := func(rs []policy.Ref) {
		for _, r := range rs {
			words = append(words, r.Text)
		}
	}
	ranges := func(rs []policy.PortRange) {
		for _, r := range rs {
			words = append(words, portRange(r))
		}
	}
	numbers := func(ns []uint8) {
		for _, n := range ns {
			words = append(words, fmt.Sprint(n))
		}
	}
	switch key {
	case "from":
		refs(c.From.Given)
	case "to":
		refs(c.To.Given)
	case "protocol":
		for _, n := range c.Protocol {
			words = append(words, policy.ProtocolName(n))
		}
	case "port":
		ranges(c.Port)
	case "from-port":
		ranges(c.FromPort)
	case "to-port":
		ranges(c.ToPort)
	case "dscp":
		for _, d := range c.DSCP {
			words = append(words, d.Name())
		}
	case "app":
		refs(c.App)
	case "precedence":
		numbers(c.Precedence)
	case "pcp":
		numbers(c.PCP)
	case "tc":
		numbers(c.TC)
	case "vlan":
		ranges(c.VLAN)
	case "in":
		refs(c.InName)
	case "length":
		for _, r := range c.Length {
			words = append(words, unit.Size(r.First).String()+"-"+unit.Size(r.Last).String())
		}
	case "ethertype":
		for _, n := range c.EtherType {
			words = append(words, fmt.Sprintf("0x%04x", n))
		}
	}
	return key + " " + strings.Join(words, ", ")
}

func portRange(r policy.PortRange) string {
	if r.First == r.Last {
		return fmt.Sprint(r.First)
	}
	return fmt.Sprintf("%d-%d", r.First, r.Last)
}

// Condition returns a condition as it is written: "app voice-media and from
// phones".
func Condition(c *policy.Condition) string {
	var words []string
	for _, k := range classify.Keys(c) {
		words = append(words, Key(c, k))
	}
	return strings.Join(words, " and ")
}

// When returns what an entry's `when` asks for.
func When(w *policy.When) string {
	if w.Time != nil {
		return "the time is `" + w.Time.Name + "`"
	}
	return fmt.Sprintf("the load has reached %s for %s, until it is below %s for %s",
		w.Starts.Load, unit.FormatDuration(w.Starts.For), w.Ends.Load, unit.FormatDuration(w.Ends.For))
}

// Police returns what a policer does.
func Police(p *policy.Police) string {
	s := fmt.Sprintf("%s, burst %s", p.Rate, p.Burst)
	switch {
	case p.Has("peak"):
		s += fmt.Sprintf(", peak %s, burst %s", p.Peak, p.PeakBurst)
	case p.Excess > 0:
		s += fmt.Sprintf(", excess burst %s", p.Excess)
	}
	actions := []string{}
	for _, c := range []struct {
		colour string
		a      *policy.Action
		two    bool
	}{{"green", &p.Green, false}, {"yellow", &p.Yellow, true}, {"red", &p.Red, false}} {
		if c.two && !p.Has("peak") && p.Excess == 0 {
			continue
		}
		if c.colour == "red" && len(actions) == 0 && !p.Has("peak") && p.Excess == 0 {
			c.colour = "what exceeds it"
		}
		switch {
		case c.a.Drop:
			actions = append(actions, "drops "+c.colour)
		case c.a.Mark != nil:
			actions = append(actions, "marks "+c.colour+" "+Mark(c.a.Mark))
		case c.colour != "green":
			actions = append(actions, "passes "+c.colour)
		}
	}
	if p.Aware {
		s += ", colour-aware"
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
