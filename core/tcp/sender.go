package tcp

import (
	"math"
	"time"
)

// never is when a timer that is off is due.
const never = time.Duration(math.MaxInt64)

// A piece is a segment that was sent and is not acknowledged.
type piece struct {
	seq        uint64
	length     uint32 // of the sequence numbers
	data       int32
	flags      uint8
	tries      uint8
	sacked     bool
	lost       bool // and not sent again
	at         time.Duration
	order      int64 // of sending, among all that was sent
	prev, next int64 // in the order of sending; of those neither sacked nor lost
}

func (p *piece) end() uint64 { return p.seq + uint64(p.length) }

// pieces is what is under way, in the order of the stream, and in the order of sending.
// A piece has a number for as long as it is there.
type pieces struct {
	ring          []piece // of a power of two
	first, after  int64   // numbers
	oldest, newer int64   // ends of the list in the order of sending; none: -1
	sends         int64   // how often a piece was sent
}

const none = -1

func (q *pieces) at(n int64) *piece { return &q.ring[n&int64(len(q.ring)-1)] }

func (q *pieces) add(p piece) int64 {
	if q.after-q.first == int64(len(q.ring)) {
		ring := make([]piece, max(16, 2*len(q.ring)))
		for n := q.first; n < q.after; n++ {
			ring[n&int64(len(ring)-1)] = *q.at(n)
		}
		q.ring = ring
	}
	n := q.after
	q.after++
	*q.at(n) = p
	q.link(n)
	return n
}

// link puts a piece at the end of those in the order of sending.
func (q *pieces) link(n int64) {
	p := q.at(n)
	p.prev, p.next, p.order = q.newer, none, q.sends
	q.sends++
	if q.newer == none {
		q.oldest = n
	} else {
		q.at(q.newer).next = n
	}
	q.newer = n
}

func (q *pieces) unlink(n int64) {
	p := q.at(n)
	if p.prev == none {
		q.oldest = p.next
	} else {
		q.at(p.prev).next = p.next
	}
	if p.next == none {
		q.newer = p.prev
	} else {
		q.at(p.next).prev = p.prev
	}
}

// from returns the number of the first piece that begins at a sequence number or after it.
func (q *pieces) from(seq uint64) int64 {
	lo, hi := q.first, q.after
	for lo < hi {
		if m := lo + (hi-lo)/2; q.at(m).seq < seq {
			lo = m + 1
		} else {
			hi = m
		}
	}
	return lo
}

// The states of congestion control.
type phase uint8

const (
	open       phase = iota
	recovering       // from a loss that acknowledgements told (RFC 6675)
	timedOut         // from a timeout (RFC 5681 §3.1)
)

// A sender sends one end's stream.
type sender struct {
	acked, sent uint64 // the first number that is not acknowledged, and that was never sent
	limit       uint64 // the first number that the application has not written
	closing     bool
	finished    bool  // the FIN was sent
	allowed     int64 // the other end's window
	Window
	control   algorithm
	hystart   hystart
	started   bool // slow start without caution is over
	rtt       roundTrip
	pieces    pieces
	flight    int64 // bytes under way: neither sacked nor lost
	sacked    ranges
	nSacked   int
	lost      []int64 // numbers of pieces to send again
	nextLost  int     // of lost
	phase     phase
	recover   uint64 // where recovery ends
	reducedAt uint64 // a mark below was answered
	answered  int64  // the order of sending from which on a loss is another than the one answered last
	tellCWR   bool
	usage     usage
	first     int64 // bytes of the initial window
	urgent    bool  // the first piece of a recovery is sent at once (RFC 6675 §5, 4.3)
	prr       reduction
	lastSent  time.Duration

	// RACK-TLP, RFC 8985
	rackOrder int64 // of the piece that was sent last of those that were delivered; -1: none was
	rackRTT   time.Duration
	furthest  uint64 // FACK
	reordered bool
	patience  int64 // reo_wnd_mult
	persist   int   // recoveries until it is reset
	patientTo uint64
	lookAt    time.Duration // when a piece becomes lost if nothing is heard of it
	probe     bool          // the timer is the probe timeout
	probed    uint64        // TLP.end_seq; 0: no probe is out
	probedOld bool          // it was a retransmission

	timer   time.Duration
	paceAt  time.Duration
	retries int
}

// A reduction is the window on its way down in a recovery (proportional rate reduction, RFC 9937):
// as much is sent of what is delivered as the new window is of the old one.
type reduction struct {
	before    int64 // RecoverFS: bytes under way when it began
	delivered int64
	sent      int64
}

// reducing sets the window for what an acknowledgement in a recovery delivers. Safe says that it
// acknowledged more of the stream, and told of no further loss.
func (o *sender) reducing(delivered int64, safe bool) {
	r := &o.prr
	r.delivered += delivered
	var more int64
	if room := o.Threshold - o.flight; room < 0 {
		more = int64(float64(r.delivered)*float64(o.Threshold)/float64(max(r.before, 1))+0.999) - r.sent
	} else {
		more = max(r.delivered-r.sent, delivered)
		if safe {
			more += o.MSS
		}
		more = min(more, room)
	}
	o.Size = o.flight + max(more, 0)
}

// A usage is how much of the window was under way at a time since the last round trip began.
type usage struct {
	full   bool          // all of it
	most   int64         // bytes
	until  uint64        // the round trip ends when this is acknowledged
	fullAt time.Duration // when it was full last, or was made smaller for it was not
	maxNow int64         // bytes, since then
}

// uses notes how much of the window is under way, and whether that is all. A window of which less
// was used for a timeout comes down half of the way to what was (RFC 7661 §4.4; how soon is what
// systems in use do).
func (o *sender) uses(now time.Duration, full bool) {
	u := &o.usage
	out := int64(o.sent - o.acked)
	if o.acked >= u.until || full || !u.full && out > u.most {
		u.full, u.most, u.until = full, out, o.sent
	}
	if o.validated() {
		u.fullAt, u.maxNow = now, 0
		return
	}
	u.maxNow = max(u.maxNow, out)
	if now-u.fullAt >= o.rtt.timeout() {
		if used := max(u.maxNow, o.first); used < o.Size {
			o.remember()
			o.Size = (o.Size + used) / 2
		}
		u.fullAt, u.maxNow = now, 0
	}
}

// validated reports whether enough of the window was used for it to grow: all, and half while it
// doubles in a round trip (RFC 7661 §4.2).
func (o *sender) validated() bool {
	return o.usage.full || o.slow() && o.Size < 2*o.usage.most
}

// remember lets slow start lead back to near the window that there was (RFC 7661 §4.4).
func (o *sender) remember() { o.Threshold = max(o.Threshold, o.Size/4*3) }

// idles halves the window for each timeout in which nothing was sent, down to the initial one. RFC 5681
// §4.1 takes it there at once; this is what systems in use do.
func (o *sender) idles(now time.Duration) {
	timeout := o.rtt.timeout()
	idle := now - o.lastSent
	if idle <= timeout {
		return
	}
	o.remember()
	least := min(o.first, o.Size)
	for idle -= timeout; idle > 0 && o.Size > least; idle -= timeout {
		o.Size /= 2
	}
	o.Size = max(o.Size, least)
	o.usage.fullAt, o.usage.maxNow = now, 0
}

// begin makes the sender ready.
func (o *sender) begin(c *Config) {
	o.MSS = int64(c.MSS)
	o.first = int64(c.InitialWindow) * o.MSS
	o.Size, o.Threshold = o.first, infinite
	o.control = c.Control.algorithm()
	o.pieces.oldest, o.pieces.newer = none, none
	o.timer, o.lookAt = never, never
	o.patience, o.rackOrder = 1, -1
	o.allowed = math.MaxInt32
	o.limit = 1
}

// acknowledged takes an acknowledgement in.
func (e *End) acknowledged(now time.Duration, s *Segment) {
	o := &e.out
	if s.Ack > o.sent {
		return // RFC 9293 §3.10.7.4: of what was never sent
	}
	o.allowed = s.Window
	if e.c.Paced && o.sent < o.limit { // the pace fills the window late, or never
		o.usage.full = o.usage.full || o.flight >= o.Size/2
	}
	flight, was := int64(o.sent-o.acked), o.acked
	var newest *piece // sent once, that was sent last: its round trip
	delivered, fell := false, int64(0)
	lost := len(o.lost) - o.nextLost
	var sample time.Duration = -1
	take := func(p *piece) {
		delivered = true
		fell += int64(p.data)
		if p.tries == 1 && (newest == nil || p.at >= newest.at) {
			newest, sample = p, now-p.at
		}
		if p.end() > o.furthest {
			o.furthest = p.end()
		} else if p.tries == 1 {
			o.reordered = true
		}
		// RFC 8985 §6.2 step 2: not what may be the answer to an earlier transmission.
		rtt := now - p.at
		if p.tries > 1 && rtt < o.rtt.least {
			return
		}
		if p.order > o.rackOrder {
			o.rackOrder, o.rackRTT = p.order, rtt
		}
	}
	for o.pieces.first < o.pieces.after {
		n := o.pieces.first
		p := o.pieces.at(n)
		if p.end() > s.Ack {
			break
		}
		switch {
		case p.sacked:
			o.nSacked--
		case p.lost: // it was not; its number stays in the list and is passed over
			take(p)
		default:
			o.flight -= int64(p.data)
			o.pieces.unlink(n)
			take(p)
		}
		o.acked = p.end()
		o.pieces.first++
	}
	o.sacked.below(o.acked)
	double := e.takeBlocks(s, take)
	if sample >= 0 {
		o.rtt.sample(sample)
		if !o.started {
			o.hystart.sample(sample)
		}
		if e.c.RTT != nil {
			e.c.RTT(sample)
		}
	}
	fresh := int64(o.acked - was)
	if was == 0 && fresh > 0 {
		fresh-- // the SYN is no data
	}
	if o.acked > was {
		o.retries = 0
		o.rtt.backoff = 0
	}
	e.probeAnswered(s, double, o.acked == was && s.Data == 0, flight)
	recovered := o.phase != open && o.acked >= o.recover
	if recovered {
		if o.phase == recovering {
			o.Size = o.Threshold
			if o.persist--; o.persist <= 0 {
				o.patience = 1
			}
		}
		o.phase = open
	}
	if delivered {
		e.lookForLoss(now, flight)
	}
	if o.phase == recovering {
		o.reducing(fell, o.acked > was && len(o.lost)-o.nextLost <= lost)
	}
	if s.Flags&ECE != 0 && s.Flags&SYN == 0 && e.ecn && o.acked > o.reducedAt && o.phase == open {
		o.reducedAt = o.sent // once a round trip (RFC 3168 §6.1.2)
		o.Size = o.control.reduced(&o.Window, min(flight, o.Size))
		o.Threshold, o.tellCWR, o.started = o.Size, true, true
	}
	if fresh > 0 && !recovered && o.phase != recovering && o.validated() && o.acked > o.reducedAt {
		e.grow(now, fresh)
	}
	if o.acked > was || delivered {
		e.arm(now)
	}
}

// takeBlocks marks what the blocks of an acknowledgement say to have arrived. It reports
// whether the first tells of what arrived twice (RFC 2883 §4).
func (e *End) takeBlocks(s *Segment, take func(*piece)) (double bool) {
	o := &e.out
	for i, k := range s.SACK[:s.Blocks] {
		if k.To <= k.From || k.To > o.sent {
			continue
		}
		if k.To <= s.Ack || i == 0 && s.Blocks > 1 && k.From >= s.SACK[1].From && k.To <= s.SACK[1].To {
			double = true
			e.sawDouble(k)
			continue
		}
		if o.sacked.has(k) {
			continue
		}
		o.sacked.gaps(k, func(g Range) {
			for n := o.pieces.from(g.From); n < o.pieces.after; n++ {
				p := o.pieces.at(n)
				if p.end() > g.To {
					break
				}
				if p.sacked {
					continue
				}
				if !p.lost {
					o.flight -= int64(p.data)
					o.pieces.unlink(n)
				}
				p.lost, p.sacked = false, true
				o.nSacked++
				take(p)
			}
		})
		o.sacked.add(k)
	}
	return double
}

// sawDouble grows the time for which reordering is waited for, once a round trip, for
// something was sent again that had only been overtaken (RFC 8985 §6.2 step 4).
func (e *End) sawDouble(k Range) {
	o := &e.out
	if k.From >= o.patientTo {
		o.patientTo = o.sent
		o.patience++
		o.persist = 16
	}
}

// window of reordering (RFC 8985 §6.2 step 4).
func (o *sender) reordering() time.Duration {
	if !o.reordered && (o.phase != open || o.nSacked >= 3) {
		return 0
	}
	return min(time.Duration(o.patience)*o.rtt.least/4, o.rtt.smooth)
}

// lookForLoss marks what was sent long enough before something that arrived (RFC 8985 §6.2
// step 5), and begins a recovery.
func (e *End) lookForLoss(now time.Duration, flight int64) {
	o := &e.out
	o.lookAt = never
	wait := o.rackRTT + o.reordering()
	found, anew := false, false
	for n := o.pieces.oldest; n != none; {
		p := o.pieces.at(n)
		if p.order > o.rackOrder {
			break
		}
		if due := p.at + wait; due > now {
			o.lookAt = due
			break
		}
		next := p.next
		found, anew = true, anew || p.order >= o.answered
		o.pieces.unlink(n)
		o.loses(n)
		n = next
	}
	switch {
	case found && o.phase == open:
		o.phase, o.recover, o.urgent = recovering, o.sent, true
		e.reduce(flight)
	case anew: // RFC 5681 §4.3: the loss of a retransmission, or in two successive windows
		o.phase, o.recover = recovering, o.sent
		e.reduce(flight)
	}
}

// loses notes a piece as lost.
func (o *sender) loses(n int64) {
	p := o.pieces.at(n)
	p.lost = true
	o.flight -= int64(p.data)
	if o.nextLost > 64 && o.nextLost*2 > len(o.lost) {
		o.lost = o.lost[:copy(o.lost, o.lost[o.nextLost:])]
		o.nextLost = 0
	}
	o.lost = append(o.lost, n)
}

// reduce lets congestion control answer a loss.
func (e *End) reduce(flight int64) {
	o := &e.out
	o.answered = o.pieces.sends
	o.Threshold = o.control.reduced(&o.Window, min(flight, o.Size))
	o.Size, o.started = o.Threshold, true
	o.reducedAt = o.sent
	o.prr = reduction{before: flight}
	if e.ecn {
		o.tellCWR = true
	}
}

// grow opens the window for newly acknowledged bytes.
func (e *End) grow(now time.Duration, fresh int64) {
	o := &e.out
	if !o.slow() {
		o.control.grow(&o.Window, now, fresh, o.rtt.smooth)
		return
	}
	if o.started || e.c.NoHyStart { // after a loss: RFC 5681 equation 2, with RFC 3465's limit
		o.Size = min(o.Size+min(fresh, 2*o.MSS), max(o.Threshold, o.Size))
		return
	}
	o.Size += o.hystart.growth(fresh, o.MSS, e.c.Paced)
	if o.hystart.round(o.acked, o.sent) {
		o.Threshold, o.started = o.Size, true
	}
}

// probeAnswered ends the episode of a tail loss probe (RFC 8985 §7.4.2). Repeated says that the acknowledgement
// acknowledges nothing new.
func (e *End) probeAnswered(s *Segment, double, repeated bool, flight int64) {
	o := &e.out
	if o.probed == 0 || s.Ack < o.probed {
		return
	}
	switch {
	case !o.probedOld: // new data arrived
	case double && s.SACK[0].To == o.probed, s.Ack == o.probed && repeated && s.Blocks == 0:
		// The probe came beside what it repeats: nothing was lost.
	case s.Ack > o.probed: // it mended a loss of which nothing else tells
		if o.phase == open {
			e.reduce(flight)
		}
	default: // the answer to the first transmission, or to the probe: what comes next tells
		return
	}
	o.probed = 0
}

// maxACKDelay is for how long the other end may hold an acknowledgement back.
const maxACKDelay = 200 * time.Millisecond

// arm sets the timer anew: the probe timeout where one may be sent (RFC 8985 §7.2), else
// the retransmission timeout (RFC 6298 §5).
func (e *End) arm(now time.Duration) {
	o := &e.out
	o.probe = false
	if o.pieces.first == o.pieces.after {
		o.timer = never
		return
	}
	o.timer = now + o.rtt.timeout()
	if o.phase == open && o.nSacked == 0 && o.probed == 0 && o.rtt.smooth > 0 && o.acked > 0 {
		probe := 2 * o.rtt.smooth
		if o.pieces.after-o.pieces.first == 1 {
			probe += maxACKDelay
		}
		o.timer, o.probe = min(o.timer, now+probe), true
	}
}

// Max timeouts in a row until an end gives up (RFC 9293 §3.8.3, R2; RFC 1122 §4.2.3.5).
const (
	maxRetries    = 15
	maxSYNRetries = 6
)

// expired is called when the timer is due.
func (e *End) expired(now time.Duration) {
	o := &e.out
	if o.probe {
		o.probe = false
		o.timer = now + o.rtt.timeout()
		o.probed, o.probedOld = o.sent, true
		if o.sent < o.limit && int64(o.sent-o.acked)+o.MSS <= o.allowed { // new data, if there is any
			o.probedOld, e.force = false, true
			return
		}
		for n := o.pieces.after - 1; n >= o.pieces.first; n-- {
			if p := o.pieces.at(n); !p.sacked && !p.lost {
				e.again = n
				return
			}
		}
		return
	}
	o.rtt.backoff++
	o.retries++
	e.Timeouts++
	most := maxRetries
	if o.acked == 0 {
		most = maxSYNRetries
	}
	if o.retries > most {
		e.failed, o.timer, o.lookAt = true, never, never
		return
	}
	if o.phase != timedOut || o.acked > o.recover {
		o.Threshold = o.control.reduced(&o.Window, min(int64(o.sent-o.acked), o.Size))
		o.recover, o.started = o.sent, true
	}
	o.phase, o.probed, o.lookAt, o.answered = timedOut, 0, never, o.pieces.sends
	o.reducedAt = o.acked
	o.Size = o.MSS
	o.lost, o.nextLost = o.lost[:0], 0
	for n := o.pieces.first; n < o.pieces.after; n++ {
		p := o.pieces.at(n)
		switch {
		case p.sacked:
		case p.lost:
			o.lost = append(o.lost, n)
		default:
			o.pieces.unlink(n)
			o.loses(n)
		}
	}
	o.timer = now + o.rtt.timeout()
}

// resend returns the number of the piece to send again, or none.
func (o *sender) resend() int64 {
	for o.nextLost < len(o.lost) {
		n := o.lost[o.nextLost]
		if n >= o.pieces.first && o.pieces.at(n).lost {
			return n
		}
		o.nextLost++
	}
	o.lost, o.nextLost = o.lost[:0], 0
	return none
}
