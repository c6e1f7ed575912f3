// Package worst looks for the moments at which the senders of a rehearsal begin that make a class wait longest: the opposite of a
// proof. What it finds is a rehearsal that can be run again.
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

// A Phase is how long after its start a traffic begins.
type Phase struct {
	Traffic string  `json:"traffic"`
	PhaseMs float64 `json:"phase_ms"`

	Phase time.Duration `json:"-"`
}

// A Result is the worst that was found.
type Result struct {
	Rehearsal string      `json:"rehearsal"`
	Class     string      `json:"class"`
	Traffic   string      `json:"traffic"` // that has the largest bound, or the first of the class
	Found     float64     `json:"found_ms"`
	Drawn     float64     `json:"drawn_ms"` // with phases drawn from the seed
	Bound     *float64    `json:"bound_ms"` // nil: there is none
	Part      *float64    `json:"part_of_bound"`
	Runs      int         `json:"runs"`
	Phases    []Phase     `json:"phases"`
	Path      *bound.Path `json:"path"`
}

// enough is the part of a bound at which looking further is of no use.
const enough = 0.999

// Search looks for the phases of the traffic of a rehearsal at which a packet of a class takes longest. It begins with those at which
// the first packets of all traffic meet at the places where the class can wait longest, and goes on from the best so far by chance. An
// error says that nothing can be looked for.
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
	s := &search{plan: h, options: &o, proven: proven, path: path, random: rand.New(rand.NewPCG(o.Seed, 31))}
	for i := range h.Traffic {
		if t := &h.Traffic[i]; period(t) > 0 {
			s.movable = append(s.movable, i)
		}
	}
	if len(s.movable) == 0 {
		return nil, fmt.Errorf("no traffic of `%s` begins at a moment that can be chosen: calls, streams, video and hellos do", h.Name)
	}
	r := &Result{Rehearsal: h.Name, Class: o.Class, Traffic: path.Name(), Path: path}
	all, err := s.run([][]time.Duration{nil})
	if err != nil || len(all) == 0 {
		return r, err
	}
	drawn := all[0]
	best, phases, err := s.look(drawn)
	if err != nil {
		return nil, err
	}
	r.Drawn, r.Found, r.Runs = float64(drawn)/1e6, float64(best)/1e6, s.runs
	if path.Max != bound.Never {
		most, part := float64(path.Max)/1e6, float64(best)/float64(path.Max)
		r.Bound, r.Part = &most, &part
	}
	for i, at := range s.movable {
		if phases != nil {
			r.Phases = append(r.Phases, Phase{h.Traffic[at].Name, float64(phases[i]) / 1e6, phases[i]})
		}
	}
	return r, nil
}

// period returns after what time the packets of a traffic come again; 0: it has no phase.
func period(t *policy.Traffic) time.Duration {
	switch {
	case t.Kind == policy.Calls && t.Erlangs == 0:
		return t.Codec.Interval
	case t.Kind == policy.Stream && t.Ramp == nil && (t.Arrivals == policy.Constant || t.Arrivals == policy.Exact):
		return t.Rate.Time(t.Packet)
	case t.Kind == policy.Video:
		return time.Second / time.Duration(t.Frames)
	case t.Kind == policy.Hellos:
		return t.Every
	}
	return 0
}

type search struct {
	plan    *policy.Rehearsal
	options *Options
	proven  *bound.Result
	path    *bound.Path
	movable []int // traffic with a phase
	random  *rand.Rand
	runs    int
}

// run rehearses with each of several phases of the movable traffic, nil: drawn ones, and returns the longest delays of the path's packets.
func (s *search) run(all [][]time.Duration) (longest []time.Duration, err error) {
	var plans []*policy.Rehearsal
	for _, phases := range all {
		plan := *s.plan
		plan.Expect = nil
		plan.Traffic = append([]policy.Traffic(nil), plan.Traffic...)
		for i := range phases {
			t := &plan.Traffic[s.movable[i]]
			t.Phase, t.Skew = &phases[i], 0
		}
		plans = append(plans, &plan)
	}
	results, err := s.options.Rehearse(plans)
	for _, r := range results {
		s.runs++
		longest = append(longest, r.Seen(s.path))
	}
	return longest, err
}

// look tries phases until an interrupt, the last run, or a delay near the bound.
func (s *search) look(drawn time.Duration) (best time.Duration, phases []time.Duration, err error) {
	best = drawn
	starts := s.meetings()
	for s.runs < s.options.Runs {
		if s.options.Stop != nil && s.options.Stop() || s.path.Max != bound.Never && float64(best) >= enough*float64(s.path.Max) {
			break
		}
		var next [][]time.Duration
		for range min(batch, s.options.Runs-s.runs) {
			switch {
			case len(starts) > 0:
				next, starts = append(next, starts[0]), starts[1:]
			case phases == nil || s.random.IntN(6) == 0:
				next = append(next, s.anywhere())
			default:
				next = append(next, s.near(phases))
			}
		}
		longest, err := s.run(next)
		if err != nil {
			return 0, nil, err
		}
		for i, d := range longest {
			if d > best {
				best, phases = d, next[i]
			}
		}
	}
	return best, phases, nil
}

// meetings returns the phases at which the first packets of all traffic meet at each of the path's places, the longest wait first: at one
// moment, and those of the path a little later, so that the others are there.
func (s *search) meetings() (out [][]time.Duration) {
	places := s.path.ByWait()
	for _, h := range places[:min(len(places), 4)] {
		for _, later := range []time.Duration{0, time.Microsecond, 50 * time.Microsecond, 200 * time.Microsecond} {
			phases := make([]time.Duration, len(s.movable))
			for i, at := range s.movable {
				t := &s.plan.Traffic[at]
				phases[i] = wrapped(-s.arrives(t, h.Place), period(t))
				if t.Name == s.path.Traffic {
					phases[i] = wrapped(later-s.arrives(t, h.Place), period(t))
				}
			}
			out = append(out, phases)
		}
	}
	return out
}

// arrives returns how long the packets of a traffic take to a place at least; 0: they do not come there.
func (s *search) arrives(t *policy.Traffic, place string) time.Duration {
	for i := range s.proven.Paths {
		if p := &s.proven.Paths[i]; p.Traffic == t.Name && (t.Name != s.path.Traffic || p.Reverse == s.path.Reverse) {
			if h := p.At(place); h != nil {
				return h.Arrives
			}
		}
	}
	return 0
}

// wrapped returns a phase within a period.
func wrapped(phase, period time.Duration) time.Duration {
	if phase %= period; phase < 0 {
		phase += period
	}
	return phase
}

// anywhere draws all phases.
func (s *search) anywhere() []time.Duration {
	out := make([]time.Duration, len(s.movable))
	for i, at := range s.movable {
		out[i] = time.Duration(s.random.Int64N(int64(period(&s.plan.Traffic[at]))))
	}
	return out
}

// near moves some phases, most by little: by up to what a packet takes where it waits longest.
func (s *search) near(from []time.Duration) []time.Duration {
	out := append([]time.Duration(nil), from...)
	step := int64(max(s.path.Longest().Blocking, 20*time.Microsecond))
	for range 1 + s.random.IntN(3) {
		i := s.random.IntN(len(out))
		t := &s.plan.Traffic[s.movable[i]]
		if s.random.IntN(4) == 0 {
			out[i] = time.Duration(s.random.Int64N(int64(period(t))))
		} else {
			out[i] = wrapped(out[i]+time.Duration(s.random.Int64N(2*step+1)-step), period(t))
		}
	}
	return out
}
