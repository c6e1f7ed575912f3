package measure

import (
	"math"
	"time"

	"imbrel.example/imbrel/core/codec"
)

// A Flow measures the packets of one flow from its source to its sink.
type Flow struct { // of two cache lines, the first for what every packet touches
	Received int64

	last    *Tally        // that its last packet went to; nil: none was booked
	call    *call         // nil: it is none
	hellos  *hellos       // nil: it has none
	transit time.Duration // of the packet before
	next    int64         // one more than the greatest number that came (NextExp of RFC 4737 §3.3)
	jitter  float64       // RFC 3550 §6.4.1, in ns
	sum     float64       // of the jitter, from the second packet on

	lost   int64
	shift  time.Duration // delay of the first packet that came
	from   time.Duration // when its source begins
	lasts  time.Duration // for how long it sends
	booked []booking     // without the packets that went to last and are not settled yet
	spans  *spans        // nil: it has no windows, and is none
}

// spans are the windows of a flow; of a window, they say what it is a window of.
type spans struct {
	windows []*Flow
	whole   *Flow // nil: it is no window
	nth     int   // window of that
}

// hellos are what the receiver of hellos knows.
type hellos struct {
	waits   time.Duration // for the next one
	heard   time.Duration // when the last came; 0: none did
	givenUp int64         // how often it waited in vain
}

// A booking is how many of a flow's packets went to a tally.
type booking struct {
	tally   *Tally
	packets int64
}

// A call keeps what a receiver knows: the least delay of late, and how many packets it
// could play. Its memory does not grow with the call.
type call struct { // two cache lines of what every packet touches come first
	playout   time.Duration
	adapting  *adapting
	whole     *call     // that this is a window of, and whose playout point it shares; nil: this is no window
	minima    []minimum // of the last playoutWindow, each less than those after it
	minDelays float64   // sum of the least delay, at each packet that came
	buffers   float64   // sum of the buffer, at each packet that came

	first    int64         // number of the first packet of which nothing is known yet
	outcomes []outcome     // from there on; packets overtake one another
	buffer   time.Duration // as it is for the packet that came last
	missing  int64         // before first, lost or too late
	runs     int64         // of missing packets in a row
	inRun    bool

	base  int64 // number of the first packet
	codec *codec.Codec
	other *Flow // the other direction
}

// adapting is by what a playout buffer adapts to the delay; nil: it is fixed.
type adapting struct {
	most            time.Duration // up to what
	mean, deviation float64       // of the delay
}

// measuredCall is the measure of one direction of a call, in whole cache lines.
type measuredCall struct {
	flow   Flow
	call   call
	minima [2]minimum // where those of the call are while they are few
	_      [8]byte
}

// newCallFlow returns the measure of one direction of a call.
func newCallFlow(from, lasts time.Duration, c call) *Flow {
	m := &measuredCall{flow: Flow{from: from, lasts: lasts}, call: c}
	m.flow.call = &m.call
	m.call.minima = m.minima[:0]
	return &m.flow
}

// A minimum is a delay that was the least from when it came, until a lesser one comes.
type minimum struct{ at, delay time.Duration }

// fewMinima is how many are moved forward when the first is forgotten.
const fewMinima = 8

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
func NewCall(c *codec.Codec, playout, from, lasts time.Duration) (forth, back *Flow) {
	forth, back = newCallFlow(from, lasts, call{codec: c, playout: playout}), newCallFlow(from, lasts, call{codec: c, playout: playout})
	forth.call.other, back.call.other = back, forth
	return forth, back
}

// Expects lets the receiver of hellos give the sender up when none comes for a time. Times are those of the rehearsal.
func (f *Flow) Expects(within time.Duration) { f.hellos = &hellos{waits: within} }

// GivenUp returns how often the receiver of hellos gave the sender up until the source ended.
func (f *Flow) GivenUp() int64 {
	h := f.hellos
	if h == nil {
		return 0
	}
	if f.from+f.lasts-max(h.heard, f.from) > h.waits {
		return h.givenUp + 1
	}
	return h.givenUp
}

// Adapts lets the listeners of a call adapt their playout buffers, from that of the call up to most; 0: they do not.
func (f *Flow) Adapts(most time.Duration) {
	if most == 0 {
		return
	}
	f.call.adapting, f.call.other.call.adapting = &adapting{most: most}, &adapting{most: most}
}

// By how much of a difference an adapting buffer follows the delay down, and up (Ramjee, Kurose, Towsley and Schulzrinne 1994, algorithm 2). Of the first
// packets each counts as much as any other.
const (
	calms  = 1 - 0.998002
	alarms = 1 - 0.75
)

// adapt sets the buffer for a packet, by the so many before it, to the mean delay and four deviations beyond the least delay, and takes the
// packet into both.
func (c *call) adapt(came int64, delay, least time.Duration) {
	a := c.adapting
	if c.buffer = c.playout; a == nil {
		return
	}
	if came == 0 {
		a.mean = float64(delay)
	}
	c.buffer = min(max(time.Duration(a.mean+4*a.deviation)-least, c.playout), a.most)
	slow := max(calms, 1/float64(came+1))
	gain := slow
	if float64(delay) > a.mean {
		gain = max(slow, alarms)
	}
	a.mean += gain * (float64(delay) - a.mean)
	a.deviation += slow * (math.Abs(a.mean-float64(delay)) - a.deviation)
}

// Delivered books packet number n (from 0, in the order sent) that arrived
// after the given delay. Its rate counts when it arrived within the time that the
// source sent, moved by the first delay; it is late when a call cannot play it any more, and overtaken when a packet that was sent later came before.
func (f *Flow) Delivered(n int64, sent, delay, end time.Duration) (counts, late, overtaken bool) {
	if f.Received == 0 {
		f.shift = delay
	} else {
		d := math.Abs(float64(delay - f.transit))
		f.jitter += float64((d - f.jitter) / 16)
		f.sum += f.jitter
	}
	if f.hellos != nil {
		f.hellos.came(sent+delay, f.from)
	}
	f.transit = delay
	overtaken = n < f.next
	f.next = max(f.next, n+1)
	late = f.call.arrived(n, f.Received, sent+delay, delay)
	f.Received++
	return sent+delay < end || sent+delay < end+f.shift || f.isWindow(), late, overtaken
}

// isWindow reports whether the flow is a window of another.
func (f *Flow) isWindow() bool { return f.spans != nil && f.spans.whole != nil }

// came notes a hello that came at a time, of a source that begins at another.
func (h *hellos) came(at, from time.Duration) {
	if at-max(h.heard, from) > h.waits {
		h.givenUp++
	}
	h.heard = at
}

// Dropped books packet number n, which was lost.
func (f *Flow) Dropped(n int64) {
	f.lost++
	f.call.note(n, missing)
}

// arrived books packet number n, which came at a time after a delay, and after so many others. It is played unless
// it is late: later than the least delay of the last ten seconds and the playout buffer, as it is then.
func (c *call) arrived(n, came int64, at, delay time.Duration) (late bool) {
	if c == nil {
		return false
	}
	if c.whole == nil {
		c.remember(at, delay)
	}
	least := c.least()
	if c.whole == nil {
		c.adapt(came, delay, least)
	} else {
		c.buffer = c.whole.buffer
	}
	c.minDelays += float64(least)
	c.buffers += float64(c.buffer)
	if late = delay > least+c.buffer; late {
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
		if len(c.minima) > fewMinima {
			c.minima = c.minima[1:]
		} else { // they stay where they are
			c.minima = c.minima[:copy(c.minima, c.minima[1:])]
		}
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
	if f.Received < 2 {
		return 0
	}
	return f.sum / float64(f.Received-1)
}

// MOS returns the call's mean opinion score. Its mouth-to-ear delay is the
// packet interval, the codec's look-ahead, the least network delay (its mean, as it
// changes) and the playout buffer (likewise); a packet later than that is lost to the listener.
func (f *Flow) MOS() float64 {
	if f.Received == 0 {
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
		loss = float64(c.missing) / float64(c.first-c.base)
		burst = float64(c.missing) / float64(c.runs) * (1 - loss)
	}
	return c.codec.Interval + c.codec.LookAhead + time.Duration((c.minDelays+c.buffers)/float64(f.Received)), loss, burst
}

// Booked reports whether a packet was booked.
func (f *Flow) Booked() bool { return f.last != nil }

// Jitter returns the RFC 3550 jitter after the last packet.
func (f *Flow) Jitter() time.Duration { return time.Duration(f.jitter) }

// IsCall reports whether the flow is a call.
func (f *Flow) IsCall() bool { return f.call != nil }

// opposite returns the measure of a call's other direction, nil where nothing was sent in it.
func (f *Flow) opposite() *Flow {
	if !f.isWindow() {
		return f.call.other
	}
	if o := f.spans.whole.call.other.spans; o != nil && f.spans.nth < len(o.windows) {
		return o.windows[f.spans.nth]
	}
	return nil
}

// Window returns the measure of the flow's packets of one window of time, made with
// the first: first is its number. What is delivered in it is booked to the flow first. All of its packets that
// are delivered count in its rate.
func (f *Flow) Window(n int, span Window, first int64) *Flow {
	if f.spans == nil {
		f.spans = &spans{}
	}
	s := f.spans
	for len(s.windows) <= n {
		s.windows = append(s.windows, nil)
	}
	if s.windows[n] == nil {
		w := &Flow{}
		if c := f.call; c != nil {
			w = newCallFlow(0, 0, call{codec: c.codec, playout: c.playout, whole: c, first: first, base: first})
		}
		w.from, w.lasts, w.spans = span.From, span.To-span.From, &spans{whole: f, nth: n}
		if f.hellos != nil {
			w.Expects(f.hellos.waits)
		}
		s.windows[n] = w
	}
	return s.windows[n]
}
