package share

import (
	"imbrel/core/plan"
	"imbrel/core/unit"
)

// maxRounds bounds how many combinations of alternatives are computed.
const maxRounds = 64

// An alternative is the place of an entry among those of its class at its level, of
// which one is in force at a time.
type alternative struct {
	index, of int
	stride    int // how many rounds it stays
}

// least lists the least that each entry gets in the rounds in which it is in force;
// what it is promised when there are more combinations than maxRounds and it is in none.
func least(p *plan.Plan, allocate func(inForce func(*plan.Entry) bool) []unit.Rate) []unit.Rate {
	places := alternatives(p)
	rounds := 1
	for _, a := range places {
		rounds = min(max(rounds, a.of*a.stride), maxRounds)
	}
	out := make([]unit.Rate, len(p.Entries))
	seen := make([]bool, len(p.Entries))
	in := make([]bool, len(p.Entries))
	for round := range rounds {
		for i, e := range p.Entries { // an entry before what is within it
			a := places[i]
			in[i] = round/a.stride%a.of == a.index && (e.Parent == nil || in[e.Parent.Number])
		}
		gets := allocate(func(e *plan.Entry) bool { return in[e.Number] })
		for i := range out {
			if in[i] && (!seen[i] || gets[i] < out[i]) {
				out[i], seen[i] = gets[i], true
			}
		}
	}
	for i, e := range p.Entries {
		if !seen[i] {
			out[i] = e.Promise
		}
	}
	return out
}

// alternatives lists the places of the entries, by their numbers. Those within an
// entry change faster than it does once it has had its turn.
func alternatives(p *plan.Plan) []alternative {
	places := make([]alternative, len(p.Entries))
	var level func(entries []*plan.Entry, stride int)
	level = func(entries []*plan.Entry, stride int) {
		count := make(map[string]int, len(entries))
		for _, e := range entries {
			places[e.Number].index = count[e.Name]
			count[e.Name]++
		}
		for _, e := range entries {
			a := &places[e.Number]
			a.of, a.stride = count[e.Name], stride
			level(e.Inner, min(stride*a.of, maxRounds))
		}
	}
	level(p.Top, 1)
	return places
}
