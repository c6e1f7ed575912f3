// Package bound proves worst cases: a delay and a backlog that no packet of a rehearsal can exceed, whatever the phases of
// its senders, computed from the same plans and without a single packet. What cannot be bounded is said, with the reason.
//
// It is deterministic network calculus (Cruz 1991; Le Boudec & Thiran 2001). An arrival curve says how much can come in any
// time, a service curve how much is sent at least; the largest distance between the two bounds the delay and the backlog.
// Arithmetic is in whole bits, bit/s and nanoseconds, and every result is rounded to the safe side.
package bound

import (
	"cmp"
	"math"
	"math/bits"
	"slices"
	"time"
)

// Never is a delay without a bound.
const Never = time.Duration(math.MaxInt64)

// Endless is a number of bits without a bound.
const Endless = int64(math.MaxInt64)

// A Bucket bounds what comes in any time t by Burst bits + Rate·t (Cruz 1991).
type Bucket struct {
	Burst int64 // bits
	Rate  int64 // bit/s
}

// A Curve is buckets that hold at once: in any time no more comes than the least of them lets. They are in the order of
// falling rates and rising bursts. Without a bucket nothing bounds it.
type Curve []Bucket

// maxBuckets is how many buckets a curve keeps. To leave one out makes a curve larger, never wrong.
const maxBuckets = 8

// Nothing is the curve of traffic that never comes.
func Nothing() Curve { return Curve{{}} }

// Finite reports whether something bounds the curve.
func (c Curve) Finite() bool { return len(c) > 0 }

// Add returns the curve of two traffics together: each pair of their buckets bounds it.
func (c Curve) Add(o Curve) Curve {
	out := make(Curve, 0, len(c)*len(o))
	for _, a := range c {
		for _, b := range o {
			out = append(out, Bucket{plus(a.Burst, b.Burst), plus(a.Rate, b.Rate)})
		}
	}
	return out.envelope()
}

// Min returns the curve of traffic that keeps to both.
func (c Curve) Min(o ...Bucket) Curve { return append(slices.Clone(c), o...).envelope() }

// Shift returns what a traffic can be after a delay that varies by so much: what left in a time t came within t + jitter.
// Without a bound of the jitter it has no curve.
func (c Curve) Shift(jitter time.Duration) Curve {
	if jitter == Never {
		return nil
	}
	out := make(Curve, len(c))
	for i, b := range c {
		out[i] = Bucket{plus(b.Burst, mulUp(b.Rate, int64(jitter), 1e9)), b.Rate}
	}
	return out.envelope()
}

// Scale returns the curve in other units: bits that count num/den times.
func (c Curve) Scale(num, den int64) Curve {
	if num == den {
		return c
	}
	out := make(Curve, len(c))
	for i, b := range c {
		out[i] = Bucket{mulUp(b.Burst, num, den), mulUp(b.Rate, num, den)}
	}
	return out.envelope()
}

// atMost returns the largest burst of its buckets, that of the one that holds for good; Endless: nothing bounds the curve.
func (c Curve) atMost() int64 {
	if len(c) == 0 {
		return Endless
	}
	return c[len(c)-1].Burst
}

// envelope puts buckets in order and leaves out those that bound nothing beside the others.
func (c Curve) envelope() Curve {
	c = slices.DeleteFunc(c, func(b Bucket) bool { return b.Burst == Endless || b.Rate == Endless })
	if len(c) < 2 {
		return c
	}
	slices.SortFunc(c, func(a, b Bucket) int { return cmp.Or(cmp.Compare(a.Burst, b.Burst), cmp.Compare(a.Rate, b.Rate)) })
	out := c[:0]
	for _, b := range c {
		if n := len(out); n > 0 && out[n-1].Rate <= b.Rate {
			continue // a bucket with a smaller burst has a smaller rate as well
		}
		for len(out) >= 2 && above(out[len(out)-2], out[len(out)-1], b) {
			out = out[:len(out)-1]
		}
		out = append(out, b)
	}
	for len(out) > maxBuckets { // those in the middle say least of bursts and of what is so for good
		out = slices.Delete(out, len(out)/2, len(out)/2+1)
	}
	return out
}

// above reports whether the middle one of three buckets, of rising bursts and falling rates, nowhere bounds more than the others.
func above(a, b, c Bucket) bool {
	hi1, lo1 := bits.Mul64(uint64(c.Burst-a.Burst), uint64(a.Rate-b.Rate))
	hi2, lo2 := bits.Mul64(uint64(b.Burst-a.Burst), uint64(a.Rate-c.Rate))
	return hi1 < hi2 || hi1 == hi2 && lo1 <= lo2
}

// Excess returns by how many bits the traffic can get ahead of a server that takes a rate from now on: the most of
// curve(t) - rate·t. Endless: it gets ahead for ever.
func (c Curve) Excess(rate int64) int64 {
	for j, b := range c {
		if b.Rate > rate {
			continue
		}
		if j == 0 {
			return b.Burst
		}
		// The most is where two buckets meet: one that grows faster than the rate, and the next, which does not.
		a := c[j-1]
		p, q := wide(a.Burst, rate-b.Rate), wide(b.Burst, a.Rate-rate)
		return p.plus(q).over(a.Rate - b.Rate)
	}
	return Endless
}

// ExcessWithin returns by how many bits at most it gets ahead within a time.
func (c Curve) ExcessWithin(rate int64, within time.Duration) int64 {
	most := c.Excess(rate)
	for _, b := range c {
		most = min(most, plus(b.Burst, mulUp(max(b.Rate-rate, 0), int64(within), 1e9)))
	}
	return most
}

// BusyPeriod returns after what time a server of a rate that starts after a wait has sent all that came so far, at the latest:
// the length of its longest busy time. Never: there may be no such time.
func (c Curve) BusyPeriod(s Service) time.Duration {
	best := Never
	for _, b := range c {
		if b.Rate >= s.Rate || b.Burst == Endless {
			continue
		}
		all := plus(b.Burst, mulUp(s.Rate, int64(s.Wait), 1e9))
		best = min(best, time.Duration(mulUp(all, 1e9, s.Rate-b.Rate)))
	}
	return best
}

// A Service says that whenever something waits, Rate·(t - Wait) bits are sent in a time t at least: a rate-latency server
// (Stiliadis & Varma 1998). A Rate of 0 sends nothing for certain.
type Service struct {
	Rate int64 // bit/s
	Wait time.Duration
}

// Delay bounds how long a bit of a traffic waits at a server that keeps its order, until it is sent: the largest
// horizontal distance of the two curves (Le Boudec & Thiran 2001, theorem 1.4.2).
func (c Curve) Delay(s Service) time.Duration {
	if s.Rate <= 0 || s.Wait == Never {
		return Never
	}
	e := c.Excess(s.Rate)
	if e == Endless {
		return Never
	}
	return later(s.Wait, timeOf(e, s.Rate))
}

// Backlog bounds how many bits wait at a server: the largest vertical distance (theorem 1.4.1). Endless: nothing bounds it.
func (c Curve) Backlog(s Service) int64 {
	if s.Rate <= 0 || s.Wait == Never {
		return Endless
	}
	return c.Shift(s.Wait).Excess(s.Rate)
}

// Output returns what leaves a server (theorem 1.4.3): of each bucket the rate, and a burst that grows by what comes in the wait.
// A bucket with a higher rate than the server is left out.
func (c Curve) Output(s Service) Curve {
	var out Curve
	for _, b := range c {
		if b.Rate <= s.Rate {
			out = append(out, Bucket{plus(b.Burst, mulUp(b.Rate, int64(s.Wait), 1e9)), b.Rate})
		}
	}
	return out
}

// Concat returns what two servers in a row do together, in which bursts are paid once: the lesser rate and both waits
// (Le Boudec & Thiran 2001, theorem 1.4.6).
func (s Service) Concat(o Service) Service {
	return Service{min(s.Rate, o.Rate), later(s.Wait, o.Wait)}
}

// Leftover returns what a server leaves for others once it has sent, of more urgent traffic, burst + rate·t, and a packet that
// had begun: the strict priority of Cruz 1991. Rate 0: nothing.
func (s Service) Leftover(urgent Bucket, packet int64) Service {
	left := s.Rate - urgent.Rate
	if left <= 0 || s.Wait == Never {
		return Service{Wait: Never}
	}
	ahead := plus(plus(urgent.Burst, packet), mulUp(s.Rate, int64(s.Wait), 1e9))
	return Service{left, timeOf(ahead, left)}
}

// timeOf returns how long so many bits take at a rate, rounded up.
func timeOf(bits, rate int64) time.Duration {
	if bits == Endless || rate <= 0 {
		return Never
	}
	return time.Duration(mulUp(bits, 1e9, rate))
}

// later adds two times. Never is longer than any other.
func later(a, b time.Duration) time.Duration { return time.Duration(plus(int64(a), int64(b))) }

// plus adds two numbers that are not negative; Endless is more than any.
func plus(a, b int64) int64 {
	if sum := a + b; sum >= a && sum >= b {
		return sum
	}
	return Endless
}

// mulUp returns a·b/c rounded up, or Endless where that is too large.
func mulUp(a, b, c int64) int64 {
	if a == 0 || b == 0 {
		return 0
	}
	if a == Endless || b == Endless {
		return Endless
	}
	return wide(a, b).over(c)
}

// A product has 128 bits.
type product struct{ hi, lo uint64 }

func wide(a, b int64) product {
	hi, lo := bits.Mul64(uint64(a), uint64(b))
	return product{hi, lo}
}

func (p product) plus(q product) product {
	lo, carry := bits.Add64(p.lo, q.lo, 0)
	hi, _ := bits.Add64(p.hi, q.hi, carry) // both are less than half of what there is room for
	return product{hi, lo}
}

// over divides, rounded up.
func (p product) over(c int64) int64 {
	if p.hi >= uint64(c) {
		return Endless
	}
	q, rest := bits.Div64(p.hi, p.lo, uint64(c))
	if rest > 0 {
		q++
	}
	if q > math.MaxInt64 {
		return Endless
	}
	return int64(q)
}
