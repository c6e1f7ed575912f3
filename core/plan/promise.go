package plan

import (
	"imbrel.example/imbrel/core/fluid"
	"imbrel.example/imbrel/core/unit"
)

// A slot is the entries of one class at one level: they differ in when they are in
// force, so they are alternatives and count once.
type slot struct {
	entries  []*Entry
	priority bool      // the bound of a priority is in bound
	bound    unit.Rate // the largest bound of a priority
	atLeast  unit.Rate // the largest at-least
	given    bool      // some entry has an at-least
	weight   int64     // the largest weight
	ceiling  unit.Rate // the largest
	promise  unit.Rate
}

// promises computes what the entries of one level are promised of whole, W:
//
//  1. An entry with priority is promised its ceiling; without a bound of its own
//     what the more urgent leave of W, which is not counted.
//  2. The others are promised their at-least.
//  3. What is left goes to the entries without an at-least by weight, up to their
//     ceilings; what they leave to the others by weight, else by at-least, up to
//     theirs. The remainder is nobody's.
//
// Where there is nothing to promise, extra bandwidth follows the written percentages: an entry's weight
// is its part of what would be promised of the ceiling.
func (r *resolver) promises(entries []*Entry, whole, ceiling unit.Rate) {
	r.divide(entries, whole, ceiling)
	of := whole
	if whole == 0 {
		of = ceiling
		for _, e := range entries {
			e.AtLeast = e.Spec.AtLeast.Of(ceiling)
		}
		r.divide(entries, ceiling, ceiling)
	}
	for _, e := range entries {
		e.Weight = max(1, partOf(e.Part, of))
		if e.Spec.Weight > 0 && !e.Spec.AtLeast.IsZero() {
			e.Weight = perCent(int64(e.Spec.Weight))
		}
		if whole == 0 {
			e.Part, e.AtLeast = 0, e.Spec.AtLeast.Of(0)
		}
		if e.Policed == nil {
			e.Promise = e.Part
		}
	}
}

// divide computes the part of each entry of a level.
func (r *resolver) divide(entries []*Entry, whole, ceiling unit.Rate) {
	slots := slotsOf(entries, ceiling)
	left := whole
	var over *slot // the first beyond what there is
	for _, s := range slots {
		s.promise = max(s.bound, s.atLeast)
		if left -= s.promise; left < 0 && over == nil {
			over = s
		}
	}
	if over != nil {
		r.tooMuch(over, whole-left, whole)
	}
	left = max(left, 0)
	pour(slots, &left, func(s *slot) int64 {
		if s.given || s.priority {
			return 0
		}
		return max(s.weight, 1)
	})
	pour(slots, &left, func(s *slot) int64 {
		if !s.given || s.atLeast == 0 {
			return 0
		}
		if s.weight > 0 {
			return perCent(s.weight)
		}
		return max(1, partOf(s.atLeast, whole))
	})
	for _, s := range slots {
		for _, e := range s.entries {
			e.Part = s.promiseOf(e)
		}
	}
	unbounded(entries, whole)
}

// slotsOf groups the entries of one level.
func slotsOf(entries []*Entry, ceiling unit.Rate) []*slot {
	var slots []*slot
	byClass := make(map[string]*slot, len(entries))
	for _, e := range entries {
		name := e.Spec.ClassName.Text
		s := byClass[name]
		if s == nil {
			s = &slot{}
			byClass[name] = s
			slots = append(slots, s)
		}
		s.entries = append(s.entries, e)
		if e.Block {
			continue
		}
		most := e.Ceiling
		if e.Together() { // one instance's ceiling does not bound the entry
			most = ceiling
		}
		s.ceiling = max(s.ceiling, most)
		switch {
		case e.Priority > 0:
			s.priority = true
			if e.Bounded {
				s.bound = max(s.bound, e.Ceiling)
			}
		default:
			s.given = s.given || !e.Spec.AtLeast.IsZero()
			least := e.AtLeast
			if e.Bounded && !e.Together() { // reported where it is above
				least = min(least, most)
			}
			s.atLeast = max(s.atLeast, least)
			s.weight = max(s.weight, int64(e.Spec.Weight))
		}
	}
	return slots
}

// pour gives the slots more, by weight, up to their ceilings.
func pour(slots []*slot, left *unit.Rate, weight func(*slot) int64) {
	portions := make([]fluid.Portion, len(slots))
	for i, s := range slots {
		if s.ceiling > s.promise {
			portions[i] = fluid.Portion{Weight: weight(s), Limit: s.ceiling - s.promise}
		}
	}
	*left = fluid.Divide(portions, *left)
	for i, s := range slots {
		s.promise += portions[i].Gets
	}
}

// promiseOf returns what one of the alternatives is promised: what it asks for, and
// its slot's part of what was left.
func (s *slot) promiseOf(e *Entry) unit.Rate {
	most := e.Ceiling
	if e.Together() {
		most = max(most, s.ceiling)
	}
	switch {
	case e.Block:
		return 0
	case e.Priority > 0:
		return e.Ceiling // unless it is unbounded
	case e.Spec.AtLeast.Nothing:
		return 0
	case !e.Spec.AtLeast.IsZero():
		return min(most, e.AtLeast+s.promise-max(s.bound, s.atLeast))
	}
	return min(most, s.promise)
}

// unbounded sets the promise of priorities without a bound of their own: what the
// bounds of the more urgent leave.
func unbounded(entries []*Entry, whole unit.Rate) {
	for _, e := range entries {
		if e.Priority == 0 || e.Bounded || e.Block {
			continue
		}
		left := whole
		counted := make(map[string]unit.Rate)
		for _, o := range entries {
			if o.Priority > 0 && o.Priority < e.Priority && o.Bounded && !o.Block {
				name := o.Spec.ClassName.Text
				more := max(o.Ceiling-counted[name], 0)
				counted[name] += more
				left -= more
			}
		}
		e.Part = max(left, 0)
	}
}

// tooMuch reports the entry with which a level promises more than there is.
func (r *resolver) tooMuch(s *slot, sum, whole unit.Rate) {
	e := s.entries[0]
	for _, o := range s.entries {
		if max(o.AtLeast, boundOf(o)) > max(e.AtLeast, boundOf(e)) {
			e = o
		}
	}
	at, asks := e.Spec.PlaceOf("at-least"), "at-least "+share(e.Spec.AtLeast, whole)
	if e.Priority > 0 {
		asks = "a bound of " + e.Ceiling.String()
		if at = e.Spec.PlaceOf("at-most"); at == e.Spec.At || e.AtMost != nil && e.AtMost.Rate > e.Ceiling {
			at = e.Spec.PlaceOf("police")
		}
	}
	within, has := "", "there is"
	if e.Parent != nil {
		within, has = " within `"+e.Parent.Name+"`", "it is promised"
		if e.Parent.Each != 0 {
			has = "each " + e.Parent.Each.String() + " may have"
		}
	}
	r.problem(at, "lower it, or promise less to the others", "with %s for `%s` the promises%s come to %s, and %s %s", asks, e.Spec.ClassName.Text, within, sum, has, whole)
}

func boundOf(e *Entry) unit.Rate {
	if e.Priority > 0 && e.Bounded {
		return e.Ceiling
	}
	return 0
}

// Parts are counted in thousandths of a per cent.
func perCent(n int64) int64 { return n * 1000 }

func partOf(r, whole unit.Rate) int64 {
	if whole == 0 {
		return 0
	}
	return int64(r) * 100_000 / int64(whole)
}
