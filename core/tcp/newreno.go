package tcp

import "time"

// A Window is what congestion control decides: how many bytes may be under way, and above
// how many it grows slowly. Both in bytes.
type Window struct {
	Size, Threshold int64
	MSS             int64
}

// slow reports whether the window grows exponentially.
func (w *Window) slow() bool { return w.Size < w.Threshold }

// whole returns a window after a reduction: whole segments, as systems in use count it, and no
// fewer than there must be.
func (w *Window) whole(size int64) int64 {
	return max(size/w.MSS, minThreshold) * w.MSS
}

// infinite is the threshold before the first loss (RFC 5681 §3.1: arbitrarily high).
const infinite = 1 << 50

// minThreshold is the least threshold in segments (RFC 5681 equation 4).
const minThreshold = 2

// An algorithm is a congestion control. Slow start and the reactions that all have in
// common are the End's.
type algorithm interface {
	// grow grows the window for newly acknowledged bytes above the threshold.
	grow(w *Window, now time.Duration, acked int64, rtt time.Duration)
	// reduced returns the window after a loss or a congestion mark, with so many bytes
	// under way.
	reduced(w *Window, flight int64) int64
	// idle says that nothing was sent from one time until another.
	idle(from, until time.Duration)
}

// newReno is the congestion control of RFC 5681 and RFC 6582.
type newReno struct{ acked int64 }

// grow adds a segment for each window of bytes that is acknowledged (RFC 5681 §3.1 with
// the counting of RFC 3465 §2.1).
func (n *newReno) grow(w *Window, _ time.Duration, acked int64, _ time.Duration) {
	n.acked += acked
	if n.acked >= w.Size {
		n.acked -= w.Size
		w.Size += w.MSS
	}
}

// reduced halves what is under way (RFC 5681 equation 4).
func (n *newReno) reduced(w *Window, flight int64) int64 {
	n.acked = 0
	return w.whole(flight / 2)
}

func (n *newReno) idle(_, _ time.Duration) {}
