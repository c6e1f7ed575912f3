package check

import (
	"fmt"
	"strings"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/explain"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

func markUnserved() Rule {
	return Rule{"mark-unserved", Warning, `A policy marks the packets of a class. Further on their way, on a link that a rehearsal fills, another policy puts them in its rest. That
policy ignores the mark, or rewrites it, so the mark has no effect. Give that policy a class that asks for the codepoint.`,
		func(s *survey) {
			for _, w := range s.routes {
				for _, layer := range markLayers {
					s.unserved(w, layer)
				}
			}
		}}
}

// A markLayer is a layer that can carry a mark.
type markLayer struct {
	key  policy.Key
	of   func(m *explain.Marks) string // as files write it; "" where a packet has not the layer
	none string                        // the mark that asks for nothing
}

var markLayers = []markLayer{
	{policy.KeyDSCP, func(m *explain.Marks) string { return m.DSCP }, codepoint.DF.Name()},
	{policy.KeyPCP, func(m *explain.Marks) string { return number(m.PCP) }, "0"},
	{policy.KeyTC, func(m *explain.Marks) string { return number(m.TC) }, "0"},
}

func number(v *uint8) string {
	if v == nil {
		return ""
	}
	return fmt.Sprint(*v)
}

// shown names a mark in a sentence.
func (l *markLayer) shown(mark string) string {
	if l.key == policy.KeyDSCP {
		return mark
	}
	return strings.ToUpper(l.key.String()) + " " + mark
}

// unserved finds a mark of one layer that a policy on a route sets and a later one has in its rest.
func (s *survey) unserved(w *route, layer markLayer) {
	set, where := "", ""
	var taken *explain.Step // that took the mark off again
	for j := range w.answer.Hops {
		h := &w.answer.Hops[j]
		if h.Policy == "" {
			continue
		}
		p, e := h.Plan, h.Entry
		was, is := layer.of(&h.MarksIn), layer.of(&h.MarksOut)
		if taken == nil && was != set { // the tag or the label is gone, and the mark with it
			set = ""
		}
		rest := e.Class == nil && e.Parent == nil && p.Direction == policy.Out && (queues(p) || is != set) && s.congested(p.Interface)
		switch {
		case set == "" || !rest:
		case taken != nil:
			s.say(taken.Entry.Spec.PlaceOf("mark"), taken.Plan.Where(), words.MarkTakenOff.With(w.name(), layer.shown(set), where, taken.Class, layer.shown(layer.of(&taken.MarksOut)), p.Where()))
		default:
			became := words.KeepsMark.With()
			if is != set {
				became = words.RewritesMark.With(layer.shown(is))
			}
			s.say(e.Spec.At, p.Where(), words.MarkUnserved.With(w.name(), layer.shown(set), where, became, layer.key.String()+": "+set))
		}
		switch {
		case is == was:
		case e.Class != nil && is != layer.none && is != "":
			set, where, taken = is, p.Where(), nil
		case set != "" && taken == nil && is != set:
			taken = h
		}
	}
}
