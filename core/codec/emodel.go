package codec

import (
	"math"
	"time"
)

// R returns the E-model's rating of a call (ITU-T G.107, narrow-band defaults):
// 93.2 less the impairments by delay and by loss. mouthToEar is the whole one-way
// delay; loss is the ratio of packets that were not played; burstRatio is the
// mean length of a run of lost packets over that expected of random loss, at
// least 1; ie and bpl are the codec's (ITU-T G.113).
func R(mouthToEar time.Duration, loss, burstRatio, ie, bpl float64) float64 {
	idd := 0.0
	if ms := float64(mouthToEar) / 1e6; ms > 100 {
		x := math.Log2(ms / 100)
		idd = 25 * (math.Pow(1+math.Pow(x, 6), 1.0/6) - 3*math.Pow(1+math.Pow(x/3, 6), 1.0/6) + 2)
	}
	ppl := 100 * loss
	ieEff := ie + (95-ie)*ppl/(ppl/max(burstRatio, 1)+bpl)
	return 93.2 - idd - ieEff
}

// MOS turns a rating into a mean opinion score (ITU-T G.107 annex B).
func MOS(r float64) float64 {
	switch {
	case r <= 0:
		return 1
	case r >= 100:
		return 4.5
	}
	return max(1, 1+0.035*r+r*(r-60)*(100-r)*7e-6)
}

// Best returns the MOS of a call without loss. Delay is the time from the sender until a packet is played, without the time that the codec
// takes.
func (c Codec) Best(delay time.Duration) float64 {
	return MOS(R(c.Interval+c.LookAhead+delay, 0, 1, c.Ie, c.Bpl))
}
