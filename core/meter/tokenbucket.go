// Package meter measures packets against a contract. Its arithmetic is exact:
// whole units, no drift.
package meter

import (
	"math/bits"
	"time"

	"imbrel/core/unit"
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
	fill   time.Duration // in which an empty bucket fills, rounded up
	last   time.Duration // when tokens was right
}

// perByte is how many tokens a byte costs.
const perByte = 8 * uint64(time.Second)

// NewTokenBucket returns a full bucket. The burst is at most unit.MaxSize, the
// rate within unit.MinRate and unit.MaxRate.
func NewTokenBucket(rate unit.Rate, burst unit.Size) TokenBucket {
	b := TokenBucket{rate: uint64(rate), size: uint64(burst) * perByte}
	b.tokens = b.size
	b.fill = time.Duration((b.size + b.rate - 1) / b.rate)
	return b
}

// Take takes size bytes' worth of tokens and reports true when there are
// enough; otherwise it takes none.
func (b *TokenBucket) Take(now time.Duration, size int) bool {
	if d := now - b.last; d >= b.fill {
		b.tokens = b.size
	} else if d > 0 {
		// d < fill, so rate × d < size + rate: no overflow up to MaxSize.
		sum, carry := bits.Add64(b.tokens, b.rate*uint64(d), 0)
		if carry != 0 || sum > b.size {
			sum = b.size
		}
		b.tokens = sum
	}
	b.last = max(b.last, now)
	cost := uint64(size) * perByte
	if cost > b.tokens {
		return false
	}
	b.tokens -= cost
	return true
}
