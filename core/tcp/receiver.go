package tcp

import "time"

// delayedACK is for how long an acknowledgement waits for a second segment (RFC 9293
// §3.8.6.3 allows half a second; this is what systems in use do).
const delayedACK = 40 * time.Millisecond

// quickACKs is how many segments are acknowledged at once, each by itself, when data begin to
// come and after a pause, so that the other end's window opens soon (RFC 5681 §4.2 allows it;
// this is what systems in use do).
const quickACKs = 16

// A receiver puts the stream of the other end in order.
type receiver struct {
	next   uint64 // everything before it arrived
	early  ranges // what arrived above
	recent [maxSACK]uint64
	double Range // that arrived twice, to tell in the next acknowledgement (RFC 2883)
	fin    uint64
	hasFIN bool

	quick    int           // segments that are acknowledged at once yet
	lastData time.Duration // when data came last; 0: none did
	replies  bool          // the application answers what comes: its data carry acknowledgements

	waiting  int64 // bytes that are not acknowledged
	ackNow   bool
	ackAt    time.Duration // when at the latest; never
	echo     bool          // a mark was seen, and the other end has not said that it knows
	received int64         // bytes of the stream in order
}

// take takes a segment in at an end with a round trip of its own. The acknowledgement it causes is sent later.
func (r *receiver) take(now time.Duration, s *Segment, c *Config, rtt *roundTrip) {
	if s.Marked {
		r.echo = true
	}
	n := Range{s.Seq, s.Seq + s.Length()}
	if n.From == n.To {
		return
	}
	if s.Flags&FIN != 0 {
		r.hasFIN, r.fin = true, n.To-1
	}
	if n.To > r.next+uint64(c.ReceiveWindow) { // RFC 9293 §3.10.7.4: not acceptable
		r.ackNow = true
		return
	}
	if n.To <= r.next || r.early.has(n) {
		r.double, r.ackNow = n, true
		return
	}
	if s.Data > 0 {
		if r.lastData == 0 || now-r.lastData > minRTO && now-r.lastData > rtt.timeout() {
			r.quick = quickACKs
		}
		if r.lastData = now; r.quick > 0 && !r.replies {
			r.quick--
			r.ackNow = true
		}
	}
	hole := len(r.early) > 0
	if n.From > r.next {
		whole := r.early.add(n)
		for i := range r.recent { // the newest first (RFC 2018 §4)
			if v := r.recent[i]; v >= whole.From && v < whole.To || i == len(r.recent)-1 {
				copy(r.recent[1:i+1], r.recent[:i])
				break
			}
		}
		r.recent[0] = n.From
		r.ackNow = true
		return
	}
	was := r.next
	r.next = n.To
	if hole {
		if r.early.below(r.next); len(r.early) > 0 && r.early[0].From == r.next {
			r.next = r.early[0].To
			r.early.below(r.next)
		}
		r.ackNow = true
	}
	data := r.next - was
	if was == 0 {
		data-- // the SYN
		r.ackNow = true
	}
	if r.hasFIN && r.next > r.fin {
		data--
		r.ackNow = true
	}
	r.received += int64(data)
	// RFC 9293 §3.8.6.3 asks for every second full segment; systems in use acknowledge whatever is more than one.
	if r.waiting += int64(data); c.EveryACK || r.waiting > int64(c.MSS) {
		r.ackNow = true
	}
	if r.ackAt == never {
		r.ackAt = now + delayedACK
	}
}

// answer fills in what a segment tells the other end, and forgets that it was owed.
func (r *receiver) answer(s *Segment, c *Config, blocks bool) {
	s.Ack, s.Window = r.next, c.ReceiveWindow
	s.Flags |= ACK
	if r.echo && s.Flags&SYN == 0 {
		s.Flags |= ECE
	}
	if blocks {
		add := func(k Range) {
			for _, had := range s.SACK[:s.Blocks] {
				if had == k {
					return
				}
			}
			if s.Blocks < len(s.SACK) {
				s.SACK[s.Blocks] = k
				s.Blocks++
			}
		}
		if r.double.To > 0 {
			add(r.double)
		}
		if len(r.early) > 0 {
			for _, v := range r.recent {
				if i := r.early.find(v + 1); v > 0 && i < len(r.early) && r.early[i].From <= v {
					add(r.early[i])
				}
			}
		}
	}
	r.double, r.waiting, r.ackNow, r.ackAt = Range{}, 0, false, never
}
