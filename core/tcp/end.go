package tcp

import (
	"time"

	"imbrel.example/imbrel/core/codepoint"
)

// An Algorithm is a congestion control.
type Algorithm uint8

// The congestion controls.
const (
	CUBIC   Algorithm = iota // RFC 9438
	NewReno                  // RFC 6582
)

func (a Algorithm) algorithm() algorithm {
	if a == NewReno {
		return &newReno{}
	}
	return &cubic{}
}

// A Config says how an end works.
type Config struct {
	MSS           int // bytes of data in a full segment, which has Header and Timestamps before it
	DSCP          codepoint.DSCP
	Control       Algorithm
	NoHyStart     bool // slow start lasts until a loss
	ECN           bool // RFC 3168
	Paced         bool // segments are spread over the round trip
	EveryACK      bool // every segment is acknowledged at once
	ReceiveWindow int64
	InitialWindow int // segments
	Initial       uint32
	// RTT, when not nil, is told each round trip that is measured.
	RTT func(time.Duration)
}

// The values of a Config when nothing else is said.
const (
	DefaultWindow        = 4 << 20 // bytes that may wait for what is missing
	DefaultInitialWindow = 10      // RFC 6928
	DefaultMSS           = 536     // RFC 9293 §3.7.1
)

// An End is one of the two ends of a connection.
type End struct {
	c          Config
	out        sender
	in         receiver
	initials   initials
	scale      uint8 // of the windows it sends (RFC 7323 §2)
	otherScale uint8
	ecn        bool // both ends can
	heard      bool // the other's SYN came
	ackSYN     bool
	force      bool  // a probe of new data is due
	again      int64 // the piece to send as a probe; none
	failed     bool
	clock      uint32 // its timestamps'
	stamp      uint32 // the other's, to be echoed

	// Counts of segments with data or a SYN or FIN that were sent, those sent again
	// included, and of timeouts.
	Segments, Resent, Timeouts int64
	ResentBytes                int64
}

// NewEnd returns an end that waits to be called. A field of the Config that is 0 has its default.
func NewEnd(c Config) *End {
	c.MSS, c.ReceiveWindow, c.InitialWindow = orElse(c.MSS, DefaultMSS), orElse(c.ReceiveWindow, DefaultWindow), orElse(c.InitialWindow, DefaultInitialWindow)
	e := &End{c: c, again: none}
	for c.ReceiveWindow>>e.scale > 0xffff && e.scale < 14 {
		e.scale++
	}
	e.c.ReceiveWindow = c.ReceiveWindow >> e.scale << e.scale
	if e.scale == 0 { // whole segments, as systems in use announce a small window
		e.c.ReceiveWindow = max(c.ReceiveWindow/int64(c.MSS), 1) * int64(c.MSS)
	}
	e.initials.own = c.Initial
	e.out.begin(&e.c)
	e.in.ackAt = never
	return e
}

// orElse returns a value, or the default where it is not above 0.
func orElse[T int | int64](v, usual T) T {
	if v > 0 {
		return v
	}
	return usual
}

// Open calls the other end: the SYN is what it sends next.
func (e *End) Open() { e.ackSYN = true }

// Write adds bytes to the stream.
func (e *End) Write(bytes int64) { e.out.limit += uint64(bytes) }

// Close ends the stream after what was written.
func (e *End) Close() { e.out.closing = true }

// Unsent returns how much of what was written was never sent.
func (e *End) Unsent() int64 {
	if e.out.sent == 0 {
		return int64(e.out.limit - 1)
	}
	return max(0, int64(e.out.limit-e.out.sent))
}

// Received returns how many bytes of the other's stream arrived in order.
func (e *End) Received() int64 { return e.in.received }

// Opened reports whether the handshake is done.
func (e *End) Opened() bool { return e.heard && e.out.acked > 0 }

// Failed reports that the end has given up.
func (e *End) Failed() bool { return e.failed }

// Finished reports whether both streams are at their ends, and known to be.
func (e *End) Finished() bool {
	return e.out.finished && e.out.acked == e.out.sent && e.in.hasFIN && e.in.next > e.in.fin
}

// Ended reports whether the other's stream arrived up to its end.
func (e *End) Ended() bool { return e.in.hasFIN && e.in.next > e.in.fin }

// Window returns the congestion window in bytes.
func (e *End) Window() int64 { return e.out.Size }

// Receive takes a segment that arrived.
func (e *End) Receive(now time.Duration, s *Segment) {
	if e.failed {
		return
	}
	if s.Flags&SYN != 0 {
		if !e.heard {
			e.heard = true
			const both = ECE | CWR
			if s.Flags&ACK == 0 {
				e.ecn = e.c.ECN && s.Flags&both == both
				e.ackSYN = true
			} else {
				e.ecn = e.c.ECN && s.Flags&both == ECE
			}
		}
	} else if !e.heard {
		return // RFC 9293 §3.10.7.2: there is no such connection yet
	}
	if s.Flags&CWR != 0 && s.Flags&SYN == 0 {
		e.in.echo = false
	}
	if s.Seq <= e.in.next { // RFC 7323 §4.3
		e.stamp = s.Stamp
	}
	e.in.take(now, s, &e.c, &e.out.rtt)
	if s.Flags&ACK != 0 {
		e.acknowledged(now, s)
	}
}

// Due returns when Next is to be called again though nothing arrived.
func (e *End) Due() time.Duration {
	if e.failed {
		return never
	}
	at := min(e.out.timer, e.out.lookAt, e.in.ackAt)
	if e.c.Paced && e.out.wants() {
		at = min(at, e.out.paceAt)
	}
	return at
}

// Never is what Due returns when nothing is.
const Never = never

// wants reports whether there is something to send that only the pace keeps back.
func (o *sender) wants() bool {
	if n := o.resend(); n != none {
		return o.fits(int64(o.pieces.at(n).data)) || o.urgent
	}
	left := int64(o.limit - o.sent)
	data := min(left, o.MSS)
	return o.acked > 0 && !o.finished && (left > 0 || o.closing) && o.fits(data) && int64(o.sent-o.acked)+data <= o.allowed
}

// fits reports whether the window has room for so many bytes more. One segment may always
// be under way.
func (o *sender) fits(data int64) bool { return o.flight == 0 || o.flight+data <= o.Size }

// Next returns the segment that is to be sent now; ok false: none is. It is called until
// then.
func (e *End) Next(now time.Duration) (s Segment, ok bool) {
	if e.failed {
		return s, false
	}
	e.clock = e.c.Initial + uint32(now/time.Millisecond)
	o := &e.out
	if o.lookAt <= now {
		e.lookForLoss(now, int64(o.sent-o.acked))
	}
	if o.timer <= now {
		e.expired(now)
		if e.failed {
			return s, false
		}
	}
	if e.again != none {
		n := e.again
		e.again = none
		if n >= o.pieces.first && !o.pieces.at(n).sacked && !o.pieces.at(n).lost {
			o.flight -= int64(o.pieces.at(n).data)
			o.pieces.unlink(n)
			return e.sendAgain(now, n), true
		}
	}
	if e.in.ackNow && e.heard && (e.in.double.To > 0 || len(e.in.early) > 0) {
		return e.ack(), true // with what is missing
	}
	if s, ok = e.data(now); ok {
		return s, true
	}
	if e.heard && (e.in.ackNow || e.in.ackAt <= now) {
		return e.ack(), true
	}
	return s, false
}

// ack returns an acknowledgement without data.
func (e *End) ack() Segment {
	s := Segment{Seq: e.out.sent}
	e.in.answer(&s, &e.c, true)
	return s
}

// data returns the next segment of the stream, if one may be sent.
func (e *End) data(now time.Duration) (s Segment, ok bool) {
	o := &e.out
	if o.sent == 0 { // the handshake
		if !e.ackSYN {
			return s, false
		}
		s.Flags = SYN
		if e.c.ECN && !e.heard {
			s.Flags |= ECE | CWR
		} else if e.ecn {
			s.Flags |= ECE
		}
		return e.first(now, s), true
	}
	if e.c.Paced && now < o.paceAt && !e.force {
		return s, false
	}
	if n := o.resend(); n != none {
		p := o.pieces.at(n)
		if !o.fits(int64(p.data)) && !o.urgent {
			o.uses(now, true)
			return s, false
		}
		p.lost, o.urgent = false, false
		return e.sendAgain(now, n), true
	}
	if o.acked == 0 || o.finished {
		return s, false
	}
	left := int64(o.limit - o.sent)
	if left == 0 && !o.closing {
		e.force = false
		return s, false
	}
	s.Data = int(min(left, o.MSS))
	if int64(o.sent-o.acked)+int64(s.Data) > o.allowed {
		e.force = false
		return s, false
	}
	if !o.fits(int64(s.Data)) && !e.force {
		o.uses(now, true)
		return s, false
	}
	probe := e.force
	e.force = false
	if o.pieces.first == o.pieces.after {
		if o.lastSent > 0 {
			o.idles(now)
			o.control.idle(o.lastSent, now)
		}
	}
	if o.closing && int64(s.Data) == left {
		s.Flags |= FIN
		o.finished = true
	}
	if o.tellCWR && s.Data > 0 {
		s.Flags |= CWR
		o.tellCWR = false
	}
	s.Capable = e.ecn && s.Data > 0
	s = e.first(now, s)
	if probe {
		o.probed = o.sent
	}
	return s, true
}

// first sends a segment for the first time.
func (e *End) first(now time.Duration, s Segment) Segment {
	o := &e.out
	s.Seq = o.sent
	if s.Data > 0 && e.in.lastData > 0 && now-e.in.lastData < delayedACK {
		e.in.replies = true
	}
	if e.heard {
		e.in.answer(&s, &e.c, false)
	} else {
		s.Window = e.c.ReceiveWindow
	}
	if o.sent == 0 {
		s.Window = min(s.Window, 0xffff) // not scaled (RFC 7323 §2.2)
	}
	o.pieces.add(piece{seq: s.Seq, length: uint32(s.Length()), data: int32(s.Data), flags: s.Flags & (SYN | FIN | ECE | CWR), tries: 1, at: now})
	o.sent += s.Length()
	o.flight += int64(s.Data)
	o.prr.sent += int64(s.Data)
	o.uses(now, o.flight+o.MSS > o.Size)
	if o.timer == never || o.phase == open && o.probed == 0 {
		e.arm(now)
	}
	e.paced(now, s.Data)
	e.Segments++
	return s
}

// sendAgain sends a piece again.
func (e *End) sendAgain(now time.Duration, n int64) Segment {
	o := &e.out
	p := o.pieces.at(n)
	s := Segment{Seq: p.seq, Data: int(p.data), Flags: p.flags &^ (ECE | CWR), Again: true}
	if p.flags&SYN != 0 {
		s.Flags = p.flags
		o.Size = min(o.Size, o.MSS) // RFC 5681 §3.1: after a lost SYN
	}
	if e.heard {
		e.in.answer(&s, &e.c, false)
	} else {
		s.Window = e.c.ReceiveWindow
	}
	if p.seq == 0 {
		s.Window = min(s.Window, 0xffff)
	}
	if p.tries < 255 {
		p.tries++
	}
	p.at = now
	o.pieces.link(n)
	o.flight += int64(p.data)
	o.prr.sent += int64(p.data)
	o.uses(now, o.flight+o.MSS > o.Size)
	if o.timer == never {
		e.arm(now)
	}
	e.paced(now, s.Data)
	e.Segments++
	e.Resent++
	e.ResentBytes += int64(s.Data)
	return s
}

// paced notes when the next segment may leave: the window over the round trip, twice as
// fast while it doubles and a fifth faster after.
func (e *End) paced(now time.Duration, data int) {
	o := &e.out
	o.lastSent = now
	if !e.c.Paced || o.rtt.smooth == 0 {
		return
	}
	spread := int64(o.rtt.smooth) / 2 // in tenths: 10/20
	if !o.slow() {
		spread = int64(o.rtt.smooth) * 10 / 12
	}
	o.paceAt = max(o.paceAt, now) + time.Duration(float64(spread)*float64(data)/float64(o.Size))
}
