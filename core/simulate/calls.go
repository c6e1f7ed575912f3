package simulate

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"time"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/traffic"
)

// A span is when a call is held.
type span struct{ from, to time.Duration }

// spans returns when each call of a traffic is held: all the time, from its turn in a ramp
// on, or at random times of random lengths.
func (r *run) spans(t *policy.Traffic, end time.Duration) []span {
	if t.Erlangs > 0 {
		held := erlangs(t, end, traffic.Random(r.options.Seed, t.Name+" arrivals", 0))
		if t.Admit > 0 {
			held = r.admitted(t, held)
		}
		return held
	}
	out := make([]span, t.Calls)
	for n := range out {
		out[n] = span{t.Starts, end}
		if p := t.Ramp; p != nil && n >= p.FromCalls {
			out[n].from += time.Duration(float64(p.Over) * (float64(n-p.FromCalls+1) / float64(t.Calls-p.FromCalls)))
		}
	}
	return out
}

// erlangs draws the calls of a traffic: they arrive at random, so many that there are
// Erlangs of them on average, and last for exponentially distributed times. As many as there
// are on average are held when it starts, each for as long as if it had just begun: nothing
// else follows from having lasted for a while.
func erlangs(t *policy.Traffic, end time.Duration, random *rand.Rand) []span {
	var out []span
	lasts := func() time.Duration { return time.Duration(traffic.Exponential(random) * float64(t.Holding)) }
	if t.Admit > 0 {
		for range heldAtFirst(t, random) {
			out = append(out, span{t.Starts, min(end, t.Starts+lasts())})
		}
	} else {
		for sum := traffic.Exponential(random); sum < t.Erlangs; sum += traffic.Exponential(random) { // a Poisson number
			out = append(out, span{t.Starts, min(end, t.Starts+lasts())})
		}
	}
	gap := float64(t.Holding) / t.Erlangs
	for at := t.Starts; ; {
		if at += time.Duration(traffic.Exponential(random) * gap); at >= end {
			return out
		}
		out = append(out, span{at, min(end, at+lasts())})
	}
}

// admitted returns those of the calls, in the order in which they begin, that find fewer held than are admitted, and counts those that arrive after the
// warm-up.
func (r *run) admitted(t *policy.Traffic, calls []span) []span {
	var out []span
	var ends []time.Duration // of the calls that are held, the first first
	a := measure.Admission{Traffic: t.Name, Erlangs: t.Erlangs, Admit: t.Admit, ErlangB: erlangB(t.Erlangs, t.Admit)}
	for _, c := range calls {
		over, _ := slices.BinarySearch(ends, c.from+1)
		ends = ends[over:]
		arrives := c.from > t.Starts && c.from >= r.plan.WarmUp
		if arrives {
			a.Offered++
		}
		if len(ends) < t.Admit {
			out = append(out, c)
			at, _ := slices.BinarySearch(ends, c.to)
			ends = slices.Insert(ends, at, c.to)
		} else if arrives {
			a.Refused++
		}
	}
	r.admissions = append(r.admissions, a)
	return out
}

// heldAtFirst draws how many calls are held when a traffic starts that admits so many, as if it had gone on for long: a Poisson number of those that are
// possible.
func heldAtFirst(t *policy.Traffic, random *rand.Rand) int {
	weight := func(n int) float64 { // e^n/n! over that of the likeliest
		most := min(int(t.Erlangs), t.Admit)
		x, _ := math.Lgamma(float64(n) + 1)
		y, _ := math.Lgamma(float64(most) + 1)
		return math.Exp(float64(n-most)*math.Log(t.Erlangs) - x + y)
	}
	sum := 0.0
	for n := range t.Admit + 1 {
		sum += weight(n)
	}
	u := random.Float64() * sum
	for n := range t.Admit {
		if u -= weight(n); u < 0 {
			return n
		}
	}
	return t.Admit
}

// erlangB returns the part of calls that find all of so many lines taken (Erlang 1917), by its recursion.
func erlangB(erlangs float64, lines int) float64 {
	b := 1.0
	for n := 1; n <= lines; n++ {
		b = erlangs * b / (float64(n) + erlangs*b)
	}
	return b
}

// reuse is how long after the end of a call its ports are used again.
const reuse = 30 * time.Second

// A line is a pair of ports, and until when it is used.
type line struct {
	flow  packet.Flow
	until time.Duration
}

// lines gives the calls of a traffic their ports, none of which is another call's at the time.
type lines struct {
	t      *policy.Traffic
	taken  []line
	shift  int
	called map[packet.Flow]bool
}

// bothWays returns the one of a flow and its reverse that stands for both.
func bothWays(f packet.Flow) packet.Flow {
	if c := f.From.Compare(f.To); c > 0 || c == 0 && f.FromPort > f.ToPort {
		return f.Reverse()
	}
	return f
}

// flow returns the flow of the next call, which is held in a span.
func (l *lines) flow(s span) (packet.Flow, error) {
	t := l.t
	if t.Erlangs > 0 {
		for i := range l.taken {
			if k := &l.taken[i]; k.until+reuse <= s.from {
				k.until = s.to
				return k.flow, nil
			}
		}
	}
	given := t.FromPort != policy.FirstCallPort || t.ToPort != policy.FirstCallPort
	for {
		from, to := int(t.FromPort)+l.shift, int(t.ToPort)+l.shift
		l.shift += 2
		if max(from, to) > 65534 {
			return packet.Flow{}, fmt.Errorf("%d calls between two addresses do not have a port each: divide them between more addresses", t.Calls)
		}
		f := packet.Flow{From: t.From, To: t.To, Protocol: packet.UDP, FromPort: uint16(from), ToPort: uint16(to)}
		if !l.called[bothWays(f)] {
			l.called[bothWays(f)] = true
			if t.Erlangs > 0 {
				l.taken = append(l.taken, line{f, s.to})
			}
			return f, nil
		}
		if given {
			return f, fmt.Errorf("the ports %d and %d are those of another call between %s and %s: give others, or none", from, to, t.From, t.To)
		}
	}
}

func (r *run) calls(index int, t *policy.Traffic, end time.Duration) error {
	a, b, err := r.ends(t.From, t.To)
	if err != nil {
		return err
	}
	ports := &lines{t: t, called: r.calling}
	from := r.counted(t.Starts)
	for n, held := range r.spans(t, end) {
		ends, err := ports.flow(held)
		if err != nil {
			return err
		}
		random := traffic.Random(r.options.Seed, t.Name, n)
		measures, other := measure.NewCall(&t.Codec, t.Playout, from, end-from)
		measures.Adapts(t.PlayoutMost)
		var ids [2]uint32
		for way, reverse := range []bool{false, true} {
			flow, near, far := ends, a, b
			if reverse {
				flow, near, far, measures = ends.Reverse(), b, a, other
			}
			hops, err := r.network.route(near, far, flow)
			if err != nil {
				return err
			}
			start := held.from + phase(t, time.Duration(random.Int64N(int64(t.Codec.Interval))))
			ids[way] = random.Uint32()
			call := &traffic.Call{Codec: &t.Codec, Flow: flow, DSCP: t.DSCP, Start: start, End: held.to, ID: ids[way]}
			if t.Speech > 0 {
				call.Speech = &traffic.Speech{Active: t.Speech, Random: traffic.Random(r.options.Seed, t.Name+" speech", 2*n+way)}
			}
			r.add(&source{Source: tagged(call, t, !reverse), index: int32(index), reverse: reverse, from: near, route: hops, sends: flow, end: held.to, flow: measures, clock: r.clock(t, 2*n+way, start)})
			if t.RTCP {
				flow.FromPort++
				flow.ToPort++
				if hops, err = r.network.route(near, far, flow); err != nil {
					return err
				}
				reports := &traffic.Reports{Flow: flow, DSCP: t.DSCP, Start: start, End: held.to, ID: ids[way], Random: traffic.Random(r.options.Seed, t.Name+" rtcp", 2*n+way)}
				r.add(&source{Source: tagged(reports, t, !reverse), index: int32(index), reverse: reverse, from: near, route: hops, sends: flow, end: held.to, flow: measure.NewFlow(from, end-from)})
			}
		}
	}
	return nil
}
