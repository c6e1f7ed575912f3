// Package worst looks for the traffic of a rehearsal that makes a class wait longest: the moments at which senders begin, and the bursts
// and packets of senders without a bound. This is the opposite of a proof. The result is a rehearsal that can be run again.
package worst

import (
	"fmt"
	"math/rand/v2"
	"time"

	"imbrel.example/imbrel/core/bound"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/traffic"
)

// Options say what to look for, and for how long.
type Options struct {
	Class   string
	Runs    int // at most
	Seed    uint64
	Capture func(name string) (traffic.Reader, error)
	// Rehearse runs rehearsals of the file, with one seed, and returns their results in their order; of an interrupt, those that were done.
	Rehearse func([]*policy.Rehearsal) ([]*measure.Result, error)
	Stop     func() bool // may be nil
}

// batch is how many rehearsals run together: each goes on from the best before them, so that the result does not depend on how many run at a time.
const batch = 8

// A Result is the worst that was found.
type Result struct {
	Rehearsal string      `json:"rehearsal"`
	Class     string      `json:"class"`
	Traffic   string      `json:"traffic"` // that has the largest bound, or the first of the class
	Found     float64     `json:"found_ms"`
	Drawn     float64     `json:"drawn_ms"` // as the file and the seed say
	Bound     *float64    `json:"bound_ms"` // nil: there is none
	Part      *float64    `json:"part_of_bound"`
	Runs      int         `json:"runs"`
	Senders   []Sending   `json:"senders"`
	Path      *bound.Path `json:"path"`
}

// enough is the part of a bound at which looking further is of no use.
const enough = 0.995

// Search looks for the traffic of a rehearsal with which a packet of a class takes longest. It begins with the first packets of all
// senders at the places where the class can wait longest, and goes on from the best so far by chance. An error says that nothing can be
// looked for.
func Search(f *policy.File, h *policy.Rehearsal, o Options) (*Result, error) {
	proven := bound.Compute(f, h, o.Capture)
	var path *bound.Path
	for _, p := range proven.Of(o.Class) {
		if path == nil || path.Max == bound.Never || p.Max != bound.Never && p.Max > path.Max {
			path = p
		}
	}
	if path == nil {
		return nil, fmt.Errorf("no traffic of `%s` is in `%s`: add such traffic, or name another class", h.Name, o.Class)
	}
	s := &search{plan: h, options: &o, proven: proven, path: path, random: rand.New(rand.NewPCG(o.Seed, 31)), first: h.WarmUp}
	for i := range h.Traffic {
		if t := &h.Traffic[i]; t.Name == path.Traffic {
			s.first = max(s.first, t.Starts)
		}
	}
	for i := range h.Traffic {
		if c := s.senderOf(i); c != nil {
			s.senders = append(s.senders, c)
		}
	}
	if len(s.senders) == 0 {
		return nil, fmt.Errorf("no traffic of `%s` has a choice: the search chooses when calls, streams, video and hellos begin, and the packets of TCP and of random streams", h.Name)
	}
	r := &Result{Rehearsal: h.Name, Class: o.Class, Traffic: path.Name(), Path: path}
	all, err := s.run([][]choice{nil})
	if err != nil || len(all) == 0 {
		return r, err
	}
	drawn := all[0]
	best, choices, err := s.look(drawn)
	if err != nil {
		return nil, err
	}
	r.Drawn, r.Found, r.Runs, r.Senders = float64(drawn)/1e6, float64(best)/1e6, s.runs, s.sendings(choices)
	if path.Max != bound.Never {
		most, part := float64(path.Max)/1e6, float64(best)/float64(path.Max)
		r.Bound, r.Part = &most, &part
	}
	return r, nil
}

type search struct {
	plan    *policy.Rehearsal
	options *Options
	proven  *bound.Result
	path    *bound.Path
	first   time.Duration // from when on packets of the path are measured
	senders []*sender
	random  *rand.Rand
	runs    int
}

// run rehearses with each of several choices of the senders, nil: as the file says, and returns the longest delays of the path's packets.
func (s *search) run(all [][]choice) (longest []time.Duration, err error) {
	var plans []*policy.Rehearsal
	for _, choices := range all {
		plan := *s.plan
		plan.Expect = nil
		plan.Traffic = append([]policy.Traffic(nil), plan.Traffic...)
		for i, how := range choices {
			plan.Traffic[s.senders[i].at] = s.senders[i].sends(how)
		}
		plans = append(plans, &plan)
	}
	results, err := s.options.Rehearse(plans)
	for _, r := range results {
		s.runs++
		longest = append(longest, r.Longest().Seen(s.path))
	}
	return longest, err
}

// look tries choices until an interrupt, the last run, or a delay near the bound.
func (s *search) look(drawn time.Duration) (best time.Duration, choices []choice, err error) {
	best = drawn
	starts := s.meetings()
	for s.runs < s.options.Runs {
		if s.options.Stop != nil && s.options.Stop() || s.path.Max != bound.Never && float64(best) >= enough*float64(s.path.Max) {
			break
		}
		var next [][]choice
		for range min(batch, s.options.Runs-s.runs) {
			switch {
			case len(starts) > 0:
				next, starts = append(next, starts[0]), starts[1:]
			case choices == nil || s.random.IntN(6) == 0:
				next = append(next, s.anywhere())
			default:
				next = append(next, s.near(choices))
			}
		}
		longest, err := s.run(next)
		if err != nil {
			return 0, nil, err
		}
		for i, d := range longest {
			if d > best {
				best, choices = d, next[i]
			}
		}
	}
	return best, choices, nil
}
