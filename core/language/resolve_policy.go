package language

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"imbrel.example/imbrel/core/codec"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
)

func (s *resolver) treat() {
	f := s.f
	s.policies = unique(s, "policies", f.Policies, func(p *policy.Policy) (string, policy.Place) { return p.Name, p.PlaceOf("name") })
	names := []string{policy.Rest}
	for _, c := range f.Classes {
		names = append(names, c.Name)
	}
	for i := range f.Policies {
		p := &f.Policies[i]
		s.entries(p.Treat, "`"+p.Name+"`", names)
	}
	s.extents = make(map[*policy.Policy]*extent)
	for i := range f.Policies {
		s.extent(&f.Policies[i])
	}
}

// entries checks the entries of one level.
func (s *resolver) entries(entries []policy.Entry, where string, names []string) {
	seen := make(map[string]policy.Place)
	for j := range entries {
		e := &entries[j]
		name := e.ClassName.Text
		if first, twice := seen[name]; twice {
			s.problem(e.ClassName.At, len(name), fmt.Sprintf("the entry in line %d takes all its packets first; keep one", first.Line), "the class `%s` is treated twice in %s", name, where)
		}
		// An entry that is not always in force leaves its class to a later one.
		if e.When == nil {
			seen[name] = e.ClassName.At
		}
		if k, ok := s.classNames[name]; ok {
			e.Class = &s.f.Classes[k]
		} else if name == policy.Rest {
			if j != len(entries)-1 && e.When == nil {
				s.problem(e.ClassName.At, len(name), "move it to the end", "`rest` takes everything, so the entries after it would never be reached")
			}
		} else {
			s.unknown(e.ClassName, "class", names)
		}
		s.entry(e)
		s.entries(e.Treat, "`"+name+"`", names)
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
func (s *resolver) extent(p *policy.Policy) *extent {
	x := s.extents[p]
	if x == nil {
		x = &extent{}
		s.extents[p] = x
		x.levels, x.entries = s.entriesExtent(p.Treat)
		x.done = true
	}
	return x
}

func (s *resolver) entriesExtent(entries []policy.Entry) (levels, count int) {
	levels, count = 1, len(entries)
	for i := range entries {
		e := &entries[i]
		inner, n, at := 0, 0, e.PlaceOf("treat")
		switch {
		case len(e.Treat) > 0:
			inner, n = s.entriesExtent(e.Treat)
		case e.Within != nil:
			x := s.extent(e.Within)
			at = e.Inside.At
			if !x.done {
				s.problem(at, len(e.Inside.Text), "take one of the names out of the circle", "the policy `%s` is inside itself", e.Within.Name)
				e.Within = nil
			}
			inner, n = x.levels, x.entries
		}
		if 1+inner > MaxLevels || count+n > MaxEntries {
			if !s.tooMuch {
				s.problem(at, 0, "leave some entries out, or write them flatter", "with what is within it, this comes to %d levels and %d entries; the most are %d and %d", 1+inner, count+n, MaxLevels, MaxEntries)
			}
			s.tooMuch = true
			e.Within, e.Treat = nil, nil
			continue
		}
		levels, count = max(levels, 1+inner), count+n
	}
	return levels, count
}

// entry looks up the names in one entry and checks its keys against each other.
func (s *resolver) entry(e *policy.Entry) {
	s.mark(e.Mark)
	for _, w := range []*policy.When{e.When, e.BlockWhen} {
		s.when(w)
	}
	if e.AtMost != nil {
		s.when(e.AtMost.When)
	}
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
	if e.Block && e.BlockWhen == nil {
		for _, k := range e.Keys() {
			if k.Key != "class" && k.Key != "block" && k.Key != "when" {
				s.problem(k.Place, 0, "remove it", "`%s` means nothing to an entry that blocks", k.Key)
			}
		}
	}
	if e.Priority > 0 && !e.AtLeast.IsZero() {
		s.problem(e.PlaceOf("at-least"), 0, "leave `at-least` out; bound the class with `police` or `at-most`", "an entry with `priority` is served before every promise, so `at-least` adds nothing")
	}
	if e.Priority > 0 && e.Weight > 0 {
		s.problem(e.PlaceOf("weight"), 0, "leave `weight` out", "`weight` divides extra bandwidth, and an entry with `priority` gets none")
	}
	for _, k := range e.Queue.Keys() {
		if slices.Contains([]string{"from", "to", "probability", "weight"}, k.Key) && e.Queue.Drop != policy.RED && s.sound("policies") {
			s.problem(k.Place, 0, "write `drop: red`, or remove it", "`%s` means nothing to a queue that does not drop by red", k.Key)
		}
	}
	if p := e.Police; p != nil {
		s.when(p.When)
		for _, a := range []*policy.Action{&p.Green, &p.Yellow, &p.Red} {
			s.mark(a.Mark)
		}
	}
}

// police turns a policer as it is written into one of the model, and checks its
// keys against each other.
func (r *reader) police(l *policeLine) *policy.Police {
	p := &l.Police
	if !has(l, "red") {
		p.Red.Drop = true
	}
	switch {
	case p.Calls > 0:
		r.callsOf(l)
	case !has(l, "calls"):
		for _, key := range []string{"rate", "burst"} {
			if !has(l, key) {
				r.problem(l.At, 0, "give `rate` and `burst`, or `calls` and `codec`", "a policer needs the key `%s`", key)
			}
		}
		for _, key := range []string{"codec", "interval", "bitrate", "ip"} {
			if has(l, key) {
				r.problem(l.PlaceOf(key), 0, "give `calls` too, or remove it", "`%s` means nothing without `calls`", key)
			}
		}
	}
	r.buckets(l)
	return p
}

// buckets checks the keys of a second bucket against each other.
func (r *reader) buckets(l written) {
	peak, peakBurst, excess := has(l, "peak"), has(l, "peak-burst"), has(l, "excess-burst")
	if peak != (peakBurst || excess) && (peak || peakBurst) {
		r.problem(l.PlaceOf(""), 0, "give both `peak` and `peak-burst` (RFC 2698), `peak` and `excess-burst` (RFC 4115), or `excess-burst` alone (RFC 2697)", "`peak` and `peak-burst` go together")
	}
	if peakBurst && excess {
		r.problem(l.PlaceOf("excess-burst"), 0, "keep one of them", "a meter has a second bucket for the excess or for the peak, not both")
	}
	if has(l, "yellow") && !peak && !excess {
		r.problem(l.PlaceOf("yellow"), 0, "give `excess-burst` or `peak`, or remove it", "without a second bucket nothing is yellow")
	}
}

// callsOf finds the codec of a policer that is of so many calls.
func (r *reader) callsOf(l *policeLine) {
	for _, key := range []string{"rate", "burst"} {
		if has(l, key) {
			r.problem(l.PlaceOf(key), 0, "keep one of them", "`calls` and `%s` both say how much the policer lets pass", key)
		}
	}
	if l.codec == "" {
		if !has(l, "codec") {
			r.problem(l.PlaceOf("calls"), 0, "add it: one of "+strings.Join(codec.Names(), ", "), "`calls` needs the key `codec` beside it")
		}
		return
	}
	l.Codec = r.codec(l, l.codec, l.interval, l.bitRate)
}

// codec returns a codec at an interval and a bit rate.
func (r *reader) codec(at written, name string, interval time.Duration, bitRate unit.Rate) codec.Codec {
	c, _ := codec.ByName(name)
	c, err := c.With(interval, bitRate)
	if err != nil {
		key := "interval"
		if has(at, "bitrate") {
			key = "bitrate"
		}
		r.problem(at.PlaceOf(key), 0, "leave it out for the usual one", "%s", err)
	}
	return c
}

func (s *resolver) mark(m *policy.Mark) {
	if m == nil {
		return
	}
	if m.MapName.Text != "" {
		if k, ok := s.maps[m.MapName.Text]; ok {
			m.Map = &s.f.Maps[k]
		} else {
			s.unknown(m.MapName, "map", namesOf(s.f.Maps, func(x *policy.MarkTable) string { return x.Name }))
		}
	}
	given := 0
	for _, key := range []string{"dscp", "map", "precedence"} {
		if has(m, key) {
			given++
		}
	}
	if given > 1 {
		s.problem(m.At, 0, "keep one of them", "`dscp`, `map` and `precedence` each say the DSCP")
	}
}

func (s *resolver) when(w *policy.When) {
	if w == nil || w.TimeName.Text == "" {
		return
	}
	if k, ok := s.times[w.TimeName.Text]; ok {
		w.Time = &s.f.Times[k]
		return
	}
	s.unknown(w.TimeName, "time", namesOf(s.f.Times, func(t *policy.Span) string { return t.Name }))
}

func namesOf[T any](items []T, name func(*T) string) []string {
	names := make([]string, 0, len(items))
	for i := range items {
		names = append(names, name(&items[i]))
	}
	return names
}

func (s *resolver) policyNames() []string {
	return namesOf(s.f.Policies, func(p *policy.Policy) string { return p.Name })
}
