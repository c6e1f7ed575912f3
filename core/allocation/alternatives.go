package allocation

import (
	"slices"
	"time"

	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
)

// maxSituations bounds the situations that are computed.
const maxSituations = 256

// A situation is a set of named times and pressures that hold together. It determines which entries are in
// force.
type situation struct {
	times   string // a byte for each named time of the plan, 1: it holds
	inForce []bool // by the plan's numbers
}

// A calendar is the named times and the pressures by which entries of a plan are in force.
type calendar struct {
	times     []*policy.Span
	pressures []*plan.When
	whole     bool // the situations are all there are
}

// calendarOf lists what the entries of a plan depend on, in the order of the file.
func calendarOf(p *plan.Plan) *calendar {
	c := &calendar{whole: true}
	for _, e := range p.Entries {
		switch w := e.When; {
		case w == nil:
		case w.Time == nil:
			c.pressures = append(c.pressures, w)
		case !slices.Contains(c.times, w.Time):
			c.times = append(c.times, w.Time)
		}
	}
	return c
}

// together lists which of the named times hold together at some moment of a week: in winter and in summer, for
// their zones may change their clocks. What holds changes only where one begins or ends.
func (c *calendar) together() []string {
	var out []string
	at := func(moment time.Time) {
		now := make([]byte, len(c.times))
		for i, t := range c.times {
			if t.Holds(moment) {
				now[i] = 1
			}
		}
		if s := string(now); !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	for _, month := range []time.Month{time.January, time.July} {
		at(time.Date(2026, month, 5, 0, 0, 0, 0, time.UTC))
		for _, t := range c.times {
			for day := range 8 {
				for _, minute := range []int{t.From, t.To} {
					at(time.Date(2026, month, 5+day, 0, minute, 0, 0, t.Zone))
				}
			}
		}
	}
	// In the order of the file: single times first, the moment at which none holds last.
	slices.SortFunc(out, func(a, b string) int { return slices.Compare([]byte(b), []byte(a)) })
	return out
}

// situations lists what can be in force together: for each set of times, each pressure on and off; with many
// of them only none, each alone, and all.
func (c *calendar) situations(p *plan.Plan) []situation {
	var loads []map[*plan.When]bool
	if n := len(c.pressures); n <= 4 {
		for bits := range 1 << n {
			on := make(map[*plan.When]bool)
			for i, w := range c.pressures {
				on[w] = bits>>i&1 == 1
			}
			loads = append(loads, on)
		}
	} else {
		c.whole = false
		all := make(map[*plan.When]bool)
		loads = append(loads, map[*plan.When]bool{}, all)
		for _, w := range c.pressures {
			all[w] = true
			loads = append(loads, map[*plan.When]bool{w: true})
		}
	}
	var out []situation
	for _, times := range c.together() {
		for _, on := range loads {
			if len(out) == maxSituations {
				c.whole = false
				return out
			}
			s := situation{times, make([]bool, len(p.Entries))}
			s.level(p.Top, func(w *plan.When) bool {
				if w.Time == nil {
					return on[w]
				}
				return times[slices.Index(c.times, w.Time)] == 1
			})
			out = append(out, s)
		}
	}
	return out
}

// level says which entries of a level are in force: of those of a class the first whose condition is true.
func (s *situation) level(entries []*plan.Entry, holds func(*plan.When) bool) {
	taken := make(map[string]bool)
	for _, e := range entries {
		if taken[e.Name] || e.When != nil && !holds(e.When) {
			continue
		}
		taken[e.Name], s.inForce[e.Number] = true, true
		s.level(e.Inner, holds)
	}
}

// names lists the named times that hold.
func (c *calendar) names(times string) []string {
	out := []string{}
	for i, t := range c.times {
		if times[i] == 1 {
			out = append(out, t.Name)
		}
	}
	return out
}

// least lists the least that each entry gets over the situations in which it is in force, and which situations
// these are.
func least(all []situation, allocate func(inForce func(*plan.Entry) bool) []unit.Rate) (out []unit.Rate, seen []bool) {
	for _, s := range all {
		gets := allocate(func(e *plan.Entry) bool { return s.inForce[e.Number] })
		if out == nil {
			out, seen = make([]unit.Rate, len(gets)), make([]bool, len(gets))
		}
		for i := range out {
			if s.inForce[i] && (!seen[i] || gets[i] < out[i]) {
				out[i], seen[i] = gets[i], true
			}
		}
	}
	return out, seen
}
