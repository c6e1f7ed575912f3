package tcp

import (
	"time"

	"imbrel.example/imbrel/core/unit"
)

// The constants of RFC 9438 §5.
const (
	cubicC    = 0.4 // segments a second³
	cubicBeta = 0.7
)

// cubic is the congestion control of RFC 9438. Windows within are in segments. Products
// are rounded before they are added, so that every machine computes the same bits.
type cubic struct {
	begun    bool // an epoch of congestion avoidance
	epoch    time.Duration
	most     float64 // W_max
	k        float64 // seconds until the window is there again
	prior    float64 // cwnd before the last reduction
	estimate float64 // W_est: what Reno's window would be
	part     float64 // bytes of growth that are no whole byte yet
}

// grow follows §4.2 to §4.5.
func (c *cubic) grow(w *Window, now time.Duration, acked int64, rtt time.Duration) {
	mss := float64(w.MSS)
	size := float64(w.Size) / mss
	segments := float64(acked) / mss
	if !c.begun {
		c.begun, c.epoch, c.estimate = true, now, size
		c.k = 0
		if size < c.most {
			c.k = unit.CubeRoot((c.most - size) / cubicC)
		} else {
			c.most = size
		}
	}
	// Figure 4: the Reno-friendly estimate, with α of 1 once it is at the prior window.
	alpha := 3 * (1 - cubicBeta) / (1 + cubicBeta)
	if c.estimate >= c.prior {
		alpha = 1
	}
	c.estimate += float64(alpha * float64(segments/size))
	grown := size
	if t := (now - c.epoch).Seconds(); c.at(t) < c.estimate {
		grown = max(size, c.estimate)
	} else {
		target := min(max(c.at(t+rtt.Seconds()), size), 1.5*size) // §4.2
		grown += float64((target - size) / size * segments)
	}
	c.part += float64((grown - size) * mss)
	whole := int64(c.part)
	c.part -= float64(whole)
	w.Size += whole
}

// at returns the window at a time in seconds after the epoch began, figure 1.
func (c *cubic) at(t float64) float64 {
	d := t - c.k
	return c.most + float64(cubicC*float64(float64(d*d)*d))
}

// reduced follows §4.6 and §4.7.
func (c *cubic) reduced(w *Window, flight int64) int64 {
	size := float64(w.Size) / float64(w.MSS)
	c.prior = size
	if size < c.most { // fast convergence
		c.most = float64(size * ((1 + cubicBeta) / 2))
	} else {
		c.most = size
	}
	c.begun, c.part = false, 0
	return w.whole(int64(float64(flight) * cubicBeta))
}

// idle moves the epoch, so that the window does not leap after a pause (§4.2, §5.8).
func (c *cubic) idle(from, until time.Duration) { c.epoch += until - from }
