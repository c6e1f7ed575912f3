package policy

import (
	"fmt"
	"slices"
	"strings"

	"imbrel/core/unit"
)

func (s *resolver) treat() {
	f := s.f
	s.policies = unique(s, "policies", f.Policies, func(p *Policy) (string, Place) { return p.Name, p.PlaceOf("name") })
	classNames := []string{Rest}
	for _, c := range f.Classes {
		classNames = append(classNames, c.Name)
	}
	for i := range f.Policies {
		p := &f.Policies[i]
		s.entries(p.Treat, "`"+p.Name+"`", p.PlaceOf("treat"), classNames)
	}
	s.extents = make(map[*Policy]*extent)
	for i := range f.Policies {
		s.extent(&f.Policies[i])
	}
}

// entries checks the entries of one level.
func (s *resolver) entries(entries []Entry, where string, at Place, classNames []string) {
	seen := make(map[string]Place)
	var promised unit.Percent
	for j := range entries {
		e := &entries[j]
		name := e.ClassName.Text
		if first, twice := seen[name]; twice {
			s.problem(e.ClassName.At, len(name), fmt.Sprintf("the entry in line %d takes all of it first; keep one", first.Line), "the class `%s` is treated twice in %s", name, where)
		}
		// An entry that is not always there leaves its class to a later one.
		if e.When == nil {
			seen[name] = e.ClassName.At
		}
		if k, ok := s.f.classes[name]; ok {
			e.Class = &s.f.Classes[k]
		} else if name == Rest {
			if j != len(entries)-1 && e.When == nil {
				s.problem(e.ClassName.At, len(name), "move it to the end", "`rest` takes everything, so the entries behind it would never be reached")
			}
		} else {
			s.unknown(e.ClassName, "class", classNames)
		}
		promised += e.AtLeast.Percent
		s.entry(e)
		s.entries(e.Treat, "`"+name+"`", e.PlaceOf("treat"), classNames)
	}
	if promised > unit.Whole {
		s.problem(at, 0, "lower them until they come to at most 100%", "the `at-least` of the entries of %s come to %s", where, promised)
	}
}

// Bounds of a policy with all that is within it, and of all that are attached,
// each counted at every place.
const (
	MaxLevels   = 32
	MaxEntries  = 100_000
	MaxAttached = 200_000
)

// An extent is how many entries there are, with those within them, and how deep.
type extent struct {
	levels, entries int
	done            bool
}

// extent returns that of a policy, and reports one that is inside itself or
// beyond the bounds.
func (s *resolver) extent(p *Policy) *extent {
	x := s.extents[p]
	if x == nil {
		x = &extent{}
		s.extents[p] = x
		x.levels, x.entries = s.entriesExtent(p.Treat)
		x.done = true
	}
	return x
}

func (s *resolver) entriesExtent(entries []Entry) (levels, count int) {
	levels, count = 1, len(entries)
	for i := range entries {
		e := &entries[i]
		within, n, at := 0, 0, e.PlaceOf("treat")
		switch {
		case len(e.Treat) > 0:
			within, n = s.entriesExtent(e.Treat)
		case e.Within != nil:
			x := s.extent(e.Within)
			at = e.Inside.At
			if !x.done {
				s.problem(at, len(e.Inside.Text), "take one of the names out of the circle", "the policy `%s` is inside itself", e.Within.Name)
				e.Within = nil
			}
			within, n = x.levels, x.entries
		}
		if 1+within > MaxLevels || count+n > MaxEntries {
			if !s.tooMuch {
				s.problem(at, 0, "leave some of it out, or write it flatter", "with what is within it, this comes to %d levels and %d entries; the most are %d and %d", 1+within, count+n, MaxLevels, MaxEntries)
			}
			s.tooMuch = true
			e.Within, e.Treat = nil, nil
			continue
		}
		levels, count = max(levels, 1+within), count+n
	}
	return levels, count
}

// entry looks up the names in one entry and checks its keys against each other.
func (s *resolver) entry(e *Entry) {
	s.mark(e.Mark)
	s.when(e)
	if e.Inside.Text != "" {
		if k, ok := s.policies[e.Inside.Text]; ok {
			e.Within = &s.f.Policies[k]
		} else {
			s.unknown(e.Inside, "policy", s.policyNames())
		}
		if len(e.Treat) > 0 {
			s.problem(e.PlaceOf("inside"), len(e.Inside.Text), "keep one of them", "`treat` and `inside` both say what is within the entry")
		}
	}
	if e.Block && len(e.keys) > 2 {
		for _, k := range e.keys {
			if k.key != "class" && k.key != "block" && k.key != "when" {
				s.problem(k.place, 0, "remove it", "`%s` means nothing to an entry that blocks", k.key)
			}
		}
	}
	if e.Priority > 0 && !e.AtLeast.IsZero() {
		s.problem(e.PlaceOf("at-least"), 0, "leave `at-least` out; bound the class with `police` or `at-most`", "an entry with `priority` is served before every promise, so `at-least` adds nothing")
	}
	if e.Priority > 0 && e.Weight > 0 {
		s.problem(e.PlaceOf("weight"), 0, "leave `weight` out", "an entry with `priority` takes no part in sharing what is left over")
	}
	if a, b := e.AtLeast, e.AtMost; len(e.Each) == 0 && above(a, b) { // with each, at-most is one's
		s.problem(e.PlaceOf("at-least"), 0, "raise the ceiling or lower the promise", "at-least %s is above at-most %s", a, b)
	}
	if e.Above != nil && above(e.AtMost, e.Above.To) {
		s.problem(e.PlaceOf("at-most"), 0, "let the burst reach further than the ceiling", "a burst to %s is below at-most %s", e.Above.To, e.AtMost)
	}
	if p := e.Police; p != nil {
		s.police(p)
	}
}

// above reports that one share is above another of the same kind.
func above(a, b unit.Share) bool {
	return b.Rate > 0 && a.Rate > b.Rate || b.Percent > 0 && a.Percent > b.Percent
}

func (s *resolver) police(p *Police) {
	if !p.Has("red") {
		p.Red.Drop = true
	}
	for _, a := range []*Action{&p.Green, &p.Yellow, &p.Red} {
		s.mark(a.Mark)
	}
	if p.Has("peak") != (p.Has("peak-burst") || p.Has("excess-burst")) && (p.Has("peak") || p.Has("peak-burst")) {
		s.problem(p.At, 0, "give both `peak` and `peak-burst` (RFC 2698), `peak` and `excess-burst` (RFC 4115), or `excess-burst` alone (RFC 2697)", "`peak` and `peak-burst` go together")
	}
	if p.Has("peak-burst") && p.Has("excess-burst") {
		s.problem(p.PlaceOf("excess-burst"), 0, "keep one of them", "a meter has a second bucket for the excess or for the peak, not both")
	}
	if above(p.Rate, p.Peak) {
		s.problem(p.PlaceOf("peak"), 0, "raise the peak", "the peak %s is below the rate %s", p.Peak, p.Rate)
	}
	if p.Has("yellow") && !p.Has("peak") && !p.Has("excess-burst") {
		s.problem(p.PlaceOf("yellow"), 0, "give `excess-burst` or `peak`, or remove it", "without a second bucket nothing is yellow")
	}
}

func (s *resolver) mark(m *Mark) {
	if m == nil {
		return
	}
	if m.MapName.Text != "" {
		k := slices.IndexFunc(s.f.Maps, func(x Map) bool { return x.Name == m.MapName.Text })
		if k >= 0 {
			m.Map = &s.f.Maps[k]
		} else {
			var names []string
			for _, x := range s.f.Maps {
				names = append(names, x.Name)
			}
			s.unknown(m.MapName, "map", names)
		}
	}
	given := 0
	for _, key := range []string{"dscp", "map", "precedence"} {
		if m.Has(key) {
			given++
		}
	}
	if given > 1 {
		s.problem(m.At, 0, "keep one of them", "`dscp`, `map` and `precedence` each say the DSCP")
	}
}

func (s *resolver) when(e *Entry) {
	w := e.When
	if w == nil {
		return
	}
	if w.TimeName.Text != "" {
		k := slices.IndexFunc(s.f.Times, func(t Span) bool { return t.Name == w.TimeName.Text })
		if k >= 0 {
			w.Time = &s.f.Times[k]
			return
		}
		var names []string
		for _, t := range s.f.Times {
			names = append(names, t.Name)
		}
		s.unknown(w.TimeName, "time", names)
		return
	}
	if above(w.Ends.Load, w.Starts.Load) {
		s.problem(w.PlaceOf("ends"), 0, "end below the load at which it starts", "it would end at %s and start at %s, and never come to rest", w.Ends.Load, w.Starts.Load)
	}
}

func (s *resolver) policyNames() []string {
	names := make([]string, 0, len(s.f.Policies))
	for _, p := range s.f.Policies {
		names = append(names, p.Name)
	}
	return names
}

func (s *resolver) attachments() {
	names := s.policyNames()
	type spot struct {
		at        *Interface
		direction Direction
	}
	taken := make(map[spot]*Attachment)
	all := 0
	for i := range s.f.Attach {
		a := &s.f.Attach[i]
		if k, ok := s.policies[a.PolicyName.Text]; ok {
			a.Policy = &s.f.Policies[k]
		} else {
			s.unknown(a.PolicyName, "policy", names)
		}
		if a.Interface = s.interfaces[a.AtName.Text]; a.Interface == nil {
			s.unknown(a.AtName, "interface", s.paths)
			continue
		}
		here := spot{a.Interface, a.Direction}
		if first := taken[here]; first != nil {
			s.problem(a.At, 0, fmt.Sprintf("line %d attaches `%s` there; one policy stands at an interface in a direction", first.At.Line, first.PolicyName.Text),
				"two policies at %s %s", a.Interface.Path(), a.Direction)
			continue
		}
		taken[here] = a
		if a.Policy == nil {
			continue
		}
		if all += s.extents[a.Policy].entries; all > MaxAttached {
			s.problem(a.At, 0, "attach smaller policies, or at fewer places", "with this, the attached policies come to %d entries; the most are %d", all, MaxAttached)
			return
		}
		s.promises(a)
	}
}

// promises checks the rates a policy promises against the interface it stands
// on.
func (s *resolver) promises(a *Attachment) {
	whole := a.Interface.Rate
	if a.Policy.Shape > 0 {
		whole = min(whole, a.Policy.Shape)
	}
	if whole == 0 {
		return
	}
	promised := s.within(a, a.Policy.Treat, whole, whole)
	if promised > whole {
		s.problem(a.At, 0, "lower them, or raise the shape", "the `at-least` of `%s` come to %s, but %s %s has %s", a.Policy.Name, promised, a.Interface.Path(), a.Direction, whole)
	}
}

// within checks the promises and ceilings of one level and those within it, and
// returns what the level promises.
func (s *resolver) within(a *Attachment, entries []Entry, promise, ceiling unit.Rate) unit.Rate {
	var promised unit.Rate
	for i := range entries {
		e := &entries[i]
		least, most := e.AtLeast.Of(promise), e.AtMost.Of(ceiling)
		if least > most && most > 0 && len(e.Each) == 0 && !above(e.AtLeast, e.AtMost) {
			s.problem(e.PlaceOf("at-least"), 0, "raise the ceiling or lower the promise", "at-least %s comes to %s and at-most %s to %s at %s", e.AtLeast, least, e.AtMost, most, a.Interface.Path())
		}
		promised += least
		inner := e.Inner()
		if len(inner) == 0 {
			continue
		}
		bound := ceiling
		if most > 0 {
			bound = most
		}
		own := least
		if e.Priority > 0 || len(e.Each) > 0 { // what bounds it, or one instance, is what those within may count on
			if own = bound; e.Police != nil {
				own = min(own, e.Police.Rate.Of(ceiling))
			}
		}
		if sum := s.within(a, inner, own, bound); sum > own {
			has, way := "is itself promised", "promise the entry more"
			if len(e.Each) > 0 {
				has, way = "gives each "+strings.Join(e.Each, " and "), "let it have more"
			}
			s.problem(e.At, 0, "lower them, or "+way, "the `at-least` within `%s` come to %s, but it %s %s at %s", e.ClassName.Text, sum, has, own, a.Interface.Path())
		}
	}
	return promised
}
