package tcp

import "time"

// The constants of HyStart++ (RFC 9406 §4.3).
const (
	minRTTThreshold = 4 * time.Millisecond
	maxRTTThreshold = 16 * time.Millisecond
	rttDivisor      = 8
	rttSamples      = 8
	cautiousDivisor = 4
	cautiousRounds  = 5
	unpacedLimit    = 8 // L: segments of growth for one acknowledgement
)

// hystart leaves slow start before it overflows the queue (RFC 9406): when the round trip
// grows, the window grows cautiously for some rounds, and then no longer exponentially.
type hystart struct {
	end       uint64 // of the round: what was sent last when it began
	last, now time.Duration
	samples   int
	cautious  bool
	baseline  time.Duration // of the round trip, when caution began
	rounds    int           // of caution
}

// round begins a new round when the old one is acknowledged. It reports whether slow start
// is over.
func (h *hystart) round(acked, sent uint64) (over bool) {
	if acked < h.end {
		return false
	}
	h.end, h.last, h.now, h.samples = sent, h.now, 0, 0
	if h.cautious {
		h.rounds++
	}
	return h.cautious && h.rounds >= cautiousRounds
}

// sample takes a round trip that was measured.
func (h *hystart) sample(rtt time.Duration) {
	if h.now == 0 || rtt < h.now {
		h.now = rtt
	}
	h.samples++
	if h.samples < rttSamples {
		return
	}
	if h.cautious {
		if h.now < h.baseline { // it was a false alarm
			h.cautious = false
		}
		return
	}
	if h.last > 0 {
		threshold := max(minRTTThreshold, min(h.last/rttDivisor, maxRTTThreshold))
		if h.now >= h.last+threshold {
			h.cautious, h.baseline, h.rounds = true, h.now, 0
		}
	}
}

// growth returns by how many bytes the window grows for newly acknowledged bytes.
func (h *hystart) growth(acked, mss int64, paced bool) int64 {
	if !paced {
		acked = min(acked, unpacedLimit*mss)
	}
	if h.cautious {
		acked /= cautiousDivisor
	}
	return acked
}
