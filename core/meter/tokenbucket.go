// Package meter measures packets against a contract. Its arithmetic is exact:
// whole units, no drift.
package meter

import (
	"math"
	"math/bits"
	"time"

	"imbrel.example/imbrel/core/unit"
)

// A TokenBucket conforms up to burst + rate × time bytes in any window. It
// starts full. Time given to it must not run backwards.
//
// Tokens are counted in bit·ns/s: a byte is 8·10⁹ of them, and each nanosecond
// brings as many as the rate is in bit/s, so that no rate is ever rounded.
type TokenBucket struct {
	rate   uint64        // bit/s
	size   uint64        // of the full bucket
	tokens uint64        // now in it
	last   time.Duration // when tokens was right
}

// perByte is how many tokens a byte costs.
const perByte = 8 * uint64(time.Second)

// NewTokenBucket returns a full bucket. The burst is at most unit.MaxSize, the
// rate within unit.MinRate and unit.MaxRate.
func NewTokenBucket(rate unit.Rate, burst unit.Size) TokenBucket {
	b := TokenBucket{rate: uint64(rate), size: uint64(burst) * perByte}
	b.tokens = b.size
	return b
}

// Take takes size bytes' worth of tokens and reports true when there are
// enough; otherwise it takes none.
func (b *TokenBucket) Take(now time.Duration, size int) bool {
	b.refill(now)
	if !b.holds(size) {
		return false
	}
	b.pay(size)
	return true
}

// refill adds the tokens of the time since last and returns how many did not
// fit.
func (b *TokenBucket) refill(now time.Duration) (over uint64) {
	d := now - b.last
	if d <= 0 {
		return 0
	}
	b.last = now
	hi, gain := bits.Mul64(b.rate, uint64(d))
	if room := b.size - b.tokens; hi == 0 && gain <= room {
		b.tokens += gain
		return 0
	} else if hi == 0 {
		over = gain - room
	} else {
		over = math.MaxUint64
	}
	b.tokens = b.size
	return over
}

func (b *TokenBucket) holds(size int) bool { return uint64(size)*perByte <= b.tokens }

func (b *TokenBucket) pay(size int) { b.tokens -= uint64(size) * perByte }
