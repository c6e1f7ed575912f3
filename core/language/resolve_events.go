package language

import (
	"slices"

	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
)

// events looks up the links of a rehearsal's events, and checks that they can happen.
func (s *resolver) events(h *policy.Rehearsal) {
	for i := range h.Events {
		e := &h.Events[i]
		if e.Name == "" {
			e.Name = e.Title()
		}
		if has(e, "policy") {
			s.policyEvent(h, e)
			continue
		}
		if has(e, "place") {
			s.problem(e.PlaceOf("place"), 0, "give it `policy` too, or `link` in its place", "`place` goes with `policy`")
			continue
		}
		if !has(e, "link") {
			s.problem(e.Source.At, 0, "give it `link`, or `policy` and `place`", "the event happens to nothing")
			continue
		}
		changes, down := false, has(e, "down")
		for _, key := range []string{"sends", "receives", "loss", "delay"} {
			changes = changes || has(e, key)
		}
		switch {
		case !changes && !down:
			s.problem(e.Source.At, 0, "give it one or more of `sends`, `receives`, `loss`, `delay` and `down`", "the event changes nothing")
		case down && (changes || has(e, "lasts") || e.Over > 0):
			s.problem(e.PlaceOf("down"), 0, "write an event of its own for the other change", "a link that is down for %s changes in no other way meanwhile", unit.FormatDuration(e.Lasts))
		case has(e, "detected") && !down:
			s.problem(e.PlaceOf("detected"), 0, "remove it", "`detected` goes with `down`")
		case e.Lasts > 0 && e.Over > e.Lasts:
			s.problem(e.PlaceOf("over"), 0, "shorten it, or let the event last longer", "the change takes %s, and the event lasts %s", unit.FormatDuration(e.Over), unit.FormatDuration(e.Lasts))
		case h.Lasts > 0 && e.At >= h.Lasts:
			s.problem(e.PlaceOf("at"), 0, "let it happen earlier, or let the rehearsal last longer", "the rehearsal `%s` is over after %s", h.Name, unit.FormatDuration(h.Lasts))
		}
		iface := s.interfaces[e.LinkName.Text]
		switch {
		case iface == nil:
			s.unknown(e.LinkName, "interface", s.paths)
		case iface.Link == nil && s.sound("network"):
			s.problem(e.LinkName.At, len(e.LinkName.Text), "name an interface at the end of a link", "no link ends at %s", e.LinkName.Text)
		case iface.Link != nil && iface.Link.HalfDuplex > 0 && (e.Sends != nil || e.Receives != nil):
			s.problem(e.LinkName.At, len(e.LinkName.Text), "leave `sends` and `receives` out", "both directions of the link at %s share one rate, which no event changes", e.LinkName.Text)
		default:
			e.End = iface
		}
	}
	unique(s, "events of the rehearsal `"+h.Name+"`", h.Events, func(e *policy.Event) (string, policy.Place) { return e.Name, e.Source.At })
	for i := range h.Events {
		for j := range h.Events[:i] {
			a, b := &h.Events[j], &h.Events[i]
			one := a.End != nil && b.End != nil && a.End.Link == b.End.Link || a.Attach != nil && b.Attach != nil && a.Attach.Interface == b.Attach.Interface && a.Direction == b.Direction
			if one && a.At < b.Until(h.Lasts) && b.At < a.Until(h.Lasts) {
				s.problem(b.Source.At, 0, "let one end before the other begins: give it `lasts`", "the events `%s` and `%s` happen at the same time to the same", a.Name, b.Name)
			}
		}
	}
}

// policyEvent looks up the policy of an event, and attaches it to the event alone.
func (s *resolver) policyEvent(h *policy.Rehearsal, e *policy.Event) {
	for _, key := range []string{"link", "sends", "receives", "loss", "delay", "down", "detected", "over"} {
		if has(e, key) {
			s.problem(e.PlaceOf(key), 0, "write an event of its own for the link", "`%s` is of a link, and this event changes a policy", key)
			return
		}
	}
	switch {
	case !has(e, "place"):
		s.problem(e.PolicyName.At, len(e.PolicyName.Text), "add it, such as `place: site/wan out`", "`policy` needs the key `place` beside it")
		return
	case h.Lasts > 0 && (e.At >= h.Lasts || e.At < h.WarmUp && s.sound("rehearsals")):
		s.problem(e.PlaceOf("at"), 0, "let it happen in the measured time", "the rehearsal `%s` measures from %s to %s", h.Name, unit.FormatDuration(h.WarmUp), unit.FormatDuration(h.Lasts))
		return
	}
	ifaces, pattern := s.matching(e.PlaceName)
	if pattern && len(ifaces) > 0 {
		s.problem(e.PlaceName.At, len(e.PlaceName.Text), "write an event for each place", "an event changes the policy of one place, and %s is a pattern", e.PlaceName.Text)
		return
	}
	k, ok := s.policies[e.PolicyName.Text]
	if !ok {
		s.unknown(e.PolicyName, "policy", s.policyNames())
	}
	if !ok || len(ifaces) == 0 {
		return
	}
	if ifaces[0].Own && ifaces[0].Path() != e.PlaceName.Text {
		e.Direction = 1 - e.Direction
	}
	e.Attach = &policy.Attachment{Source: e.Source, Policy: &s.f.Policies[k], Interface: ifaces[0], Direction: e.Direction}
	if !s.sound("network", "policies") {
		return
	}
	p := plan.Attached(e.Attach)
	for _, q := range p.Problems {
		s.problem(q.At, 0, q.Help, "%s at %s, by the event in line %d", q.Text, p.Where(), e.Source.At.Line)
	}
}

// phase gives an expectation the time of a phase of an event.
func (s *resolver) phase(h *policy.Rehearsal, e *policy.Expectation) bool {
	n := slices.IndexFunc(h.Events, func(o policy.Event) bool { return o.Name == e.EventName })
	if n < 0 {
		s.unknown(policy.Ref{Text: e.EventName, At: e.At}, "event", namesOf(h.Events, func(o *policy.Event) string { return o.Name }))
		return false
	}
	var ok bool
	if e.From, e.To, ok = h.Span(n, e.Phase); !ok && h.Lasts > 0 {
		s.problem(e.At, len(e.Text), "let the event begin later, or end earlier", "there is no time %s `%s`", e.Phase, e.EventName)
	}
	return ok
}
