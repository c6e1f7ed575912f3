package traffic

import (
	"math/bits"
	"math/rand/v2"
	"time"
)

// A Clock is what a sender measures time by: it runs a little faster or slower than others, and sends each packet a
// little late. Without it, senders of one rate stay in step for ever, and the queue that they share drops
// always of the same one (Floyd & Jacobson 1992: phase effects).
type Clock struct {
	Base   time.Duration // from when on it is off
	Skew   int64         // parts in a thousand million
	Jitter time.Duration // how late a packet is at most; each as late as any other

	state uint64
	last  time.Duration
}

// NewClock returns a clock that is right at base, and whose skew is drawn from up to so many parts in a million
// either way.
func NewClock(base time.Duration, ppm int, random *rand.Rand) *Clock {
	c := &Clock{Base: base, state: random.Uint64() | 1}
	if most := int64(ppm) * 1000; most > 0 {
		c.Skew = random.Int64N(2*most+1) - most
	}
	return c
}

// At returns when a packet is sent that is due at a time of its own clock. Times stay in order.
func (c *Clock) At(due time.Duration) time.Duration {
	at := due + time.Duration(int64(due-c.Base)/1000*c.Skew/1_000_000)
	if c.Jitter > 0 {
		// SplitMix64 (Steele, Lea & Flood 2014): eight bytes for each of many sources.
		c.state += 0x9e3779b97f4a7c15
		z := c.state
		z = (z ^ z>>30) * 0xbf58476d1ce4e5b9
		z = (z ^ z>>27) * 0x94d049bb133111eb
		late, _ := bits.Mul64(z^z>>31, uint64(c.Jitter))
		at += time.Duration(late)
	}
	c.last = max(c.last, at)
	return c.last
}
