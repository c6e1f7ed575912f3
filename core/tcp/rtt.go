package tcp

import "time"

// The bounds of the retransmission timeout. RFC 6298 §2.4 wants at least one second. Systems in use
// have the round trip and at least a fifth of a second above it, so that no delayed
// acknowledgement is taken for a loss.
const (
	firstRTO = time.Second
	minRTO   = 200 * time.Millisecond
	maxRTO   = 60 * time.Second
)

// roundTrip estimates the round trip and the timeout (RFC 6298).
type roundTrip struct {
	smooth, varies time.Duration // SRTT, RTTVAR
	least          time.Duration
	latest         time.Duration
	backoff        uint
}

// sample takes a measurement of a segment that was sent once (Karn's algorithm, §3).
func (r *roundTrip) sample(v time.Duration) {
	if r.smooth == 0 {
		r.smooth, r.varies, r.least = v, v/2, v // (2.2)
	} else { // (2.3)
		r.varies += ((r.smooth - v).Abs() - r.varies) / 4
		r.smooth += (v - r.smooth) / 8
	}
	r.latest, r.least = v, min(r.least, v)
	r.backoff = 0
}

// timeout returns the retransmission timeout, with what was backed off (5.5).
func (r *roundTrip) timeout() time.Duration {
	t := firstRTO
	if r.smooth > 0 {
		t = r.smooth + max(4*r.varies, minRTO)
	}
	return min(t<<min(r.backoff, 10), maxRTO)
}
