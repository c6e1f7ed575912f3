package measure

import (
	"math"
	"time"

	"imbrel/core/codec"
)

// A Flow measures the packets of one flow from its source to its sink.
type Flow struct {
	Packets  int64 // that reached their end, delivered or dropped
	Received int64

	transit  time.Duration // of the packet before
	jitter   float64       // RFC 3550 §6.4.1, in ns
	sum      float64
	samples  int64
	call     *call
	shift    time.Duration
	hasShift bool
	lasts    time.Duration // for how long its source sends
	booked   []booking
}

// A booking is how many of a flow's packets went to a tally.
type booking struct {
	tally   *Tally
	packets int64
}

// A call remembers what became of each packet, in order, since what is too late
// to be played is known only when the least delay is.
type call struct {
	codec   codec.Codec
	playout time.Duration
	delays  []uint32 // in delayStep; lost
}

const (
	delayStep = 10 * time.Nanosecond
	lost      = math.MaxUint32
)

// NewFlow returns the measure of a flow whose source sends for the given time.
func NewFlow(lasts time.Duration) *Flow { return &Flow{lasts: lasts} }

// NewCall returns the measure of one direction of a call that will send about
// the given number of packets.
func NewCall(c codec.Codec, playout, lasts time.Duration, packets int) *Flow {
	return &Flow{lasts: lasts, call: &call{codec: c, playout: playout, delays: make([]uint32, 0, packets)}}
}

// Delivered books packet number n (from 0, in the order sent) that arrived
// after the given delay, and tells whether its rate counts: it does when it
// arrived within the time that the source sent, moved by the first delay.
func (f *Flow) Delivered(n int64, sent, delay, end time.Duration) bool {
	f.Packets++
	f.Received++
	if f.Received > 1 {
		d := math.Abs(float64(delay - f.transit))
		f.jitter += float64((d - f.jitter) / 16)
		f.sum += f.jitter
		f.samples++
	}
	f.transit = delay
	f.call.note(n, uint32(min(int64(delay/delayStep), lost-1)))
	if !f.hasShift {
		f.hasShift, f.shift = true, delay
	}
	return sent+delay < end+f.shift
}

// Dropped books packet number n, which was lost on the way.
func (f *Flow) Dropped(n int64) {
	f.Packets++
	f.call.note(n, lost)
}

func (c *call) note(n int64, d uint32) {
	if c == nil {
		return
	}
	for int64(len(c.delays)) <= n {
		c.delays = append(c.delays, lost)
	}
	c.delays[n] = d
}

// MeanJitter returns the RFC 3550 jitter averaged over the flow's packets.
func (f *Flow) MeanJitter() float64 {
	if f.samples == 0 {
		return 0
	}
	return f.sum / float64(f.samples)
}

// MOS returns the call's mean opinion score. Its mouth-to-ear delay is the
// packet interval, the codec's look-ahead, the least network delay and the
// playout buffer; a packet later than that is lost to the listener.
func (f *Flow) MOS() float64 {
	c := f.call
	least := uint32(lost)
	for _, d := range c.delays {
		least = min(least, d)
	}
	if least == lost {
		return 1
	}
	deadline := uint64(least) + uint64(c.playout/delayStep)
	missing, runs, inRun := 0, 0, false
	for _, d := range c.delays {
		late := uint64(d) > deadline
		if late {
			missing++
			if !inRun {
				runs++
			}
		}
		inRun = late
	}
	loss, burst := 0.0, 1.0
	if missing > 0 {
		loss = float64(missing) / float64(len(c.delays))
		burst = float64(missing) / float64(runs) * (1 - loss)
	}
	ta := c.codec.Interval + c.codec.LookAhead + time.Duration(least)*delayStep + c.playout
	return MOS(R(ta, loss, burst, c.codec.Ie, c.codec.Bpl))
}

// Jitter returns the RFC 3550 jitter as it stands after the last packet.
func (f *Flow) Jitter() time.Duration { return time.Duration(f.jitter) }

// IsCall reports whether the flow is a call.
func (f *Flow) IsCall() bool { return f.call != nil }
