package schedule

import "math/bits"

// A contest shares by weight along a virtual time, which passes as the weights
// of those who compete are served (WF2Q+).
type contest struct {
	virtual uint64
	weights uint64 // of those who compete
	step    uint64 // of the virtual time, for all of them; 0: not known
	set     set
}

// virtualScale is the virtual time that a byte takes at weight 1. Weights reach
// 1<<30, so the smallest packet still moves it.
const virtualScale = 1 << 36

// fraction is how many bits of a step are after the binary point.
const fraction = 24

// step returns the virtual time a byte takes at a weight, with its fraction.
func step(weight uint64) uint64 { return virtualScale << fraction / weight }

// times returns the virtual time of size bytes at a step.
func times(size, step uint64) uint64 {
	hi, lo := bits.Mul64(size, step)
	return hi<<(64-fraction) | lo>>fraction
}

// enter lets member i, of a weight and its step, compete with its next packet from now on, or later where its
// earlier service is ahead of its weight.
func (c *contest) enter(i int32, from, weight, step, next uint64) {
	start := max(from, c.virtual)
	c.weights += weight
	c.step = 0
	c.set.put(i, start, start+times(next, step), c.virtual)
}

// place moves member i, whose next packet is of another size.
func (c *contest) place(i int32, step, next uint64) {
	start := c.set.members[i].start
	c.set.put(i, start, start+times(next, step), c.virtual)
}

// leave takes member i out.
func (c *contest) leave(i int32, weight uint64) {
	c.set.remove(i)
	c.weights -= weight
	c.step = 0
}

// next returns the member to serve; one competes. If none may start yet, the
// virtual time moves on to the first that may.
func (c *contest) next() int32 {
	i := c.set.next(c.virtual)
	if i < 0 {
		c.virtual = c.set.minStart()
		i = c.set.next(c.virtual)
	}
	return i
}

// charge books size bytes to member i and returns from when it may go on, as it
// does with its next packet if it stays; otherwise it is about to leave.
func (c *contest) charge(i int32, own, size, next uint64, stays bool) uint64 {
	if c.step == 0 {
		c.step = step(c.weights)
	}
	c.virtual += times(size, c.step)
	took := times(size, own)
	start := c.set.members[i].start + took
	if stays {
		if next != size {
			took = times(next, own)
		}
		c.set.put(i, start, start+took, c.virtual)
	}
	return start
}

// alone lets a member compete with a packet and books it at once, while nobody else competes; it returns from when it may go on.
func (c *contest) alone(from, weight, own, size uint64) uint64 {
	start := max(from, c.virtual)
	c.virtual = start + times(size, step(weight))
	return start + times(size, own)
}

// full reports whether the virtual time should soon be moved back.
func (c *contest) full() bool { return c.virtual >= 1<<62 }

// rebase moves the origin of the virtual time up to now, so that it never
// overflows, and returns by how much. Starts before it stay before it by as much
// as matters.
func (c *contest) rebase() uint64 {
	const keep = 1 << 61 // more than any member lags
	base := c.virtual - keep
	c.set.shift(base)
	c.virtual = keep
	return base
}
