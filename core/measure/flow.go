package measure

import (
	"math"
	"time"

	"imbrel.example/imbrel/core/codec"
)

// A Flow measures the packets of one flow from its source to its sink.
type Flow struct {
	Packets  int64 // that reached their end, delivered or dropped
	Received int64

	last     *Tally // that its last packet went to
	run      int64  // as many went to it in a row, and are not in booked yet
	hasShift bool
	// overtaken says that the last packet that came was sent before one that had come already.
	overtaken bool
	window    bool // it is a window of another flow
	call      *call
	base      int64 // number of the first packet of a window

	transit time.Duration // of the packet before
	next    int64         // one more than the greatest number that came (NextExp of RFC 4737 §3.3)
	jitter  float64       // RFC 3550 §6.4.1, in ns
	sum     float64
	samples int64
	shift   time.Duration
	waits   time.Duration // of hellos: for how long the receiver waits for one; 0: they are none
	heard   time.Duration // when the last came; 0: none did

	booked  []booking
	from    time.Duration // when its source begins
	lasts   time.Duration // for how long it sends
	other   *Flow         // of a call, the other direction
	whole   *Flow         // that it is a window of
	nth     int           // window of that
	windows []*Flow
	givenUp int64 // how often it waited in vain
}

// A booking is how many of a flow's packets went to a tally.
type booking struct {
	tally   *Tally
	packets int64
}

// A call keeps what a receiver knows: the least delay of late, and how many packets it
// could play. Its memory does not grow with the call.
type call struct { // what every packet touches comes first
	playout   time.Duration
	most      time.Duration // up to what the buffer adapts; 0: it is playout always
	buffer    time.Duration // as it is for the packet that came last
	mean      float64       // of the delay: what an adapting buffer goes by
	deviation float64
	buffers   float64   // sum of the buffer, at each packet that came
	whole     *call     // the call that this is a window of, and whose playout point it shares; nil: this is no window
	minima    []minimum // of the last playoutWindow, each less than those after it
	minDelays float64   // sum of the least delay, at each packet that came
	came      int64

	first    int64     // number of the first packet of which nothing is known yet
	outcomes []outcome // from there on; packets overtake one another
	packets  int64     // before first
	missing  int64     // of those, lost or too late
	late     int64     // of those that came, too late; also after first
	runs     int64     // of missing packets in a row
	inRun    bool

	codec codec.Codec
}

// A minimum is a delay that was the least from when it came, until a lesser one comes.
type minimum struct{ at, delay time.Duration }

// playoutWindow is for how long a receiver remembers the least delay, by which it plays.
const playoutWindow = 10 * time.Second

type outcome uint8

const (
	unknown outcome = iota
	played
	missing
)

// NewFlow returns the measure of a flow whose source sends from a time on, for so long.
func NewFlow(from, lasts time.Duration) *Flow { return &Flow{from: from, lasts: lasts} }

// NewCall returns the measures of the two directions of a call.
func NewCall(c codec.Codec, playout, from, lasts time.Duration) (forth, back *Flow) {
	forth = &Flow{from: from, lasts: lasts, call: &call{codec: c, playout: playout}}
	back = &Flow{from: from, lasts: lasts, call: &call{codec: c, playout: playout}, other: forth}
	forth.other = back
	return forth, back
}

// Expects lets the receiver of hellos give the sender up when none comes for a time. Times are those of the rehearsal.
func (f *Flow) Expects(within time.Duration) { f.waits = within }

// GivenUp returns how often the receiver of hellos gave the sender up until the source ended.
func (f *Flow) GivenUp() int64 {
	if f.waits > 0 && f.from+f.lasts-max(f.heard, f.from) > f.waits {
		return f.givenUp + 1
	}
	return f.givenUp
}

// Adapts lets the listeners of a call adapt their playout buffers, from that of the call up to most.
func (f *Flow) Adapts(most time.Duration) { f.call.most, f.other.call.most = most, most }

// By how much of a difference an adapting buffer follows the delay down, and up (Ramjee, Kurose, Towsley and Schulzrinne 1994, algorithm 2). Of the first
// packets each counts as much as any other.
const (
	calms  = 1 - 0.998002
	alarms = 1 - 0.75
)

// adapt sets the buffer for a packet, by those before it, to the mean delay and four deviations beyond the least delay, and takes the packet into both.
func (c *call) adapt(delay, least time.Duration) {
	c.buffer = c.playout
	if c.most == 0 {
		return
	}
	if c.came == 0 {
		c.mean = float64(delay)
	}
	c.buffer = min(max(time.Duration(c.mean+4*c.deviation)-least, c.playout), c.most)
	slow := max(calms, 1/float64(c.came+1))
	gain := slow
	if float64(delay) > c.mean {
		gain = max(slow, alarms)
	}
	c.mean += gain * (float64(delay) - c.mean)
	c.deviation += slow * (math.Abs(c.mean-float64(delay)) - c.deviation)
}

// Delivered books packet number n (from 0, in the order sent) that arrived
// after the given delay. Its rate counts when it arrived within the time that the
// source sent, moved by the first delay; it is late when a call cannot play it any more.
func (f *Flow) Delivered(n int64, sent, delay, end time.Duration) (counts, late bool) {
	f.Packets++
	f.Received++
	if f.Received > 1 {
		d := math.Abs(float64(delay - f.transit))
		f.jitter += float64((d - f.jitter) / 16)
		f.sum += f.jitter
		f.samples++
	}
	if f.waits > 0 {
		if at := sent + delay; at-max(f.heard, f.from) > f.waits {
			f.givenUp++
		}
		f.heard = sent + delay
	}
	f.transit = delay
	f.overtaken = n < f.next
	f.next = max(f.next, n+1)
	late = f.call.arrived(n-f.base, sent+delay, delay)
	if !f.hasShift {
		f.hasShift, f.shift = true, delay
	}
	return f.window || sent+delay < end+f.shift, late
}

// Dropped books packet number n, which was lost.
func (f *Flow) Dropped(n int64) {
	f.Packets++
	f.call.note(n-f.base, missing)
}

// arrived books packet number n, which came at a time after a delay. It is played unless
// it is late: later than the least delay of the last ten seconds and the playout buffer, as it is then.
func (c *call) arrived(n int64, at, delay time.Duration) (late bool) {
	if c == nil {
		return false
	}
	if c.whole == nil {
		c.remember(at, delay)
	}
	least := c.least()
	if c.whole == nil {
		c.adapt(delay, least)
	} else {
		c.buffer = c.whole.buffer
	}
	c.minDelays += float64(least)
	c.buffers += float64(c.buffer)
	c.came++
	if late = delay > least+c.buffer; late {
		c.late++
		c.note(n, missing)
	} else {
		c.note(n, played)
	}
	return late
}

// remember brings the least delays of the last ten seconds up to date.
func (c *call) remember(at, delay time.Duration) {
	for len(c.minima) > 0 && c.minima[len(c.minima)-1].delay >= delay {
		c.minima = c.minima[:len(c.minima)-1]
	}
	c.minima = append(c.minima, minimum{at, delay})
	for c.minima[0].at < at-playoutWindow {
		c.minima = c.minima[1:]
	}
}

// least returns the least delay of the last ten seconds. A window asks the whole call, to which each packet was
// booked first.
func (c *call) least() time.Duration {
	if c.whole != nil {
		return c.whole.least()
	}
	return c.minima[0].delay
}

// note books what became of packet number n.
func (c *call) note(n int64, o outcome) {
	if c == nil {
		return
	}
	if n == c.first && len(c.outcomes) == 0 { // in order, as most are
		c.settle(o)
		c.packets++
		c.first++
		return
	}
	for int64(len(c.outcomes)) <= n-c.first {
		c.outcomes = append(c.outcomes, unknown)
	}
	c.outcomes[n-c.first] = o
	settled := 0
	for settled < len(c.outcomes) && c.outcomes[settled] != unknown {
		c.settle(c.outcomes[settled])
		settled++
	}
	c.packets += int64(settled)
	c.first += int64(settled)
	c.outcomes = c.outcomes[:copy(c.outcomes, c.outcomes[settled:])]
}

// settle books what became of the next packet in order.
func (c *call) settle(o outcome) {
	if o == missing {
		c.missing++
		if !c.inRun {
			c.runs++
		}
	}
	c.inRun = o == missing
}

// MeanJitter returns the RFC 3550 jitter averaged over the flow's packets.
func (f *Flow) MeanJitter() float64 {
	if f.samples == 0 {
		return 0
	}
	return f.sum / float64(f.samples)
}

// MOS returns the call's mean opinion score. Its mouth-to-ear delay is the
// packet interval, the codec's look-ahead, the least network delay (its mean, as it
// changes) and the playout buffer (likewise); a packet later than that is lost to the listener.
func (f *Flow) MOS() float64 {
	if f.call.came == 0 {
		return 1
	}
	ta, loss, burst := f.reached()
	return codec.MOS(codec.R(ta, loss, burst, f.call.codec.Ie, f.call.codec.Bpl))
}

// reached returns the mouth-to-ear delay, the part of the packets that were not played, and their burst ratio, of a call of which a packet
// came.
func (f *Flow) reached() (ta time.Duration, loss, burst float64) {
	c := f.call
	burst = 1
	if c.missing > 0 {
		loss = float64(c.missing) / float64(c.packets)
		burst = float64(c.missing) / float64(c.runs) * (1 - loss)
	}
	return c.codec.Interval + c.codec.LookAhead + time.Duration((c.minDelays+c.buffers)/float64(c.came)), loss, burst
}

// Booked reports whether a packet was booked.
func (f *Flow) Booked() bool { return len(f.booked) > 0 }

// Jitter returns the RFC 3550 jitter after the last packet.
func (f *Flow) Jitter() time.Duration { return time.Duration(f.jitter) }

// IsCall reports whether the flow is a call.
func (f *Flow) IsCall() bool { return f.call != nil }

// opposite returns the measure of a call's other direction, nil where nothing was sent in it.
func (f *Flow) opposite() *Flow {
	if f.whole == nil {
		return f.other
	}
	if o := f.whole.other; f.nth < len(o.windows) {
		return o.windows[f.nth]
	}
	return nil
}

// Window returns the measure of the flow's packets of one window of time, made with
// the first: first is its number. What is delivered in it is booked to the flow first. All of its packets that
// are delivered count in its rate.
func (f *Flow) Window(n int, span Window, first int64) *Flow {
	for len(f.windows) <= n {
		f.windows = append(f.windows, nil)
	}
	w := f.windows[n]
	if w == nil {
		w = &Flow{from: span.From, lasts: span.To - span.From, base: first, window: true, waits: f.waits}
		if f.call != nil {
			w.call, w.whole, w.nth = &call{codec: f.call.codec, playout: f.call.playout, whole: f.call}, f, n
		}
		f.windows[n] = w
	}
	return w
}
