package simulate

import (
	"errors"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"imbrel.example/imbrel/core/measure"
)

// A team is the parts of a rehearsal that run on several cores at the same time. Each part has its own nodes, and links between parts have at least
// the delay `lookahead`. Until a lookahead after the first event of all, no part can affect another (Chandy & Misra 1979). The parts run for this
// round, exchange packets, and begin the next. What packets met is entered into the measures by one part for each traffic, in the order of a whole run.
type team struct {
	whole     *run
	parts     []*run
	lookahead time.Duration
	round     int
	until     time.Duration // of the round
	do        func(*run)    // what each part does next; nil: nothing more
	workers   int           // beside the one that leads
	asked     count         // how often the workers were asked to do something
	done      count         // how often a worker has done it
	taken     atomic.Int32  // parts that are done, or that a worker does now
}

// A count is a number that grows, and that other goroutines wait for.
type count struct {
	n       atomic.Int64
	lock    sync.Mutex
	changed sync.Cond
}

// up adds one.
func (c *count) up() {
	c.lock.Lock()
	c.n.Add(1)
	c.lock.Unlock()
	c.changed.Broadcast()
}

// awake is how many times await reads a count before it goes to sleep.
const awake = 50_000

// await waits until a count is at least n.
func (c *count) await(n int64) {
	for range awake {
		if c.n.Load() >= n {
			return
		}
	}
	c.lock.Lock()
	for c.n.Load() < n {
		c.changed.Wait()
	}
	c.lock.Unlock()
}

// A post is what a part sends to another in a round.
type post struct {
	events   []event // arrivals of packets
	requests []request
	spare    []*flight // packets to use again
}

// A request is what a client asks for over a connection: how many bytes it sends, and how many the server answers.
type request struct {
	line          *exchange
	bytes, answer int64
}

// asks tells a server about a request, before its first packet arrives.
func (r *run) asks(q request) {
	if to := q.line.server.source.from.run; to != r {
		p := r.post(to)
		p.requests = append(p.requests, q)
		return
	}
	q.line.asked += q.bytes
	q.line.answers = append(q.line.answers, q.answer)
}

// post returns the post to another part in this round.
func (r *run) post(to *run) *post { return &r.posts[r.team.round&1][to.part] }

// arrival plans the arrival of a packet over the link of a port, in the part at the other end.
func (r *run) arrival(p *port, f *flight, at time.Duration) {
	e := happens(at, arrive, p.peer.number, f)
	to := p.peer.run
	if to == r {
		r.events.plan(e)
		return
	}
	m := r.post(to)
	m.events = append(m.events, e)
	r.made--
	r.soonest = min(r.soonest, at)
}

// never is later than anything.
const never = time.Duration(1<<63 - 1)

// upTo takes the posts of the round before, and runs a part until the end of the round.
func (r *run) upTo() {
	t := r.team
	for i := range r.posts[t.round&1] {
		p := &r.posts[t.round&1][i]
		p.events, p.requests, p.spare = p.events[:0], p.requests[:0], p.spare[:0]
	}
	for _, from := range t.parts {
		m := &from.posts[1-t.round&1][r.part]
		for _, e := range m.events {
			r.events.plan(e)
		}
		for _, q := range m.requests {
			r.asks(q)
		}
		r.spare = append(r.spare, m.spare...)
		r.made += len(m.events) + len(m.spare)
		if n := min(len(m.events), len(r.spare)-len(m.events)); n > 0 { // as many back, so that none runs out of them
			b := r.post(from)
			b.spare = append(b.spare, r.spare[len(r.spare)-n:]...)
			r.spare = r.spare[:len(r.spare)-n]
			r.made -= n
		}
	}
	r.soonest, r.did = never, 0
	for r.failed == nil {
		at, ok := r.events.due()
		if !ok || at >= t.until {
			if ok {
				r.soonest = min(r.soonest, at)
			}
			return
		}
		e, w, _ := r.events.next()
		r.timeIs(e.at)
		r.event, r.happened = e.order>>countBits, 0
		r.step(&e, w)
		r.did++
	}
}

const (
	worthwhile = 250     // events that others would do beside the busiest part; with fewer, the parts run one after the other
	lookAfter  = 1 << 16 // events until the next look at whether to stop
)

// each lets all parts do something, at the same time or one after the other.
func (t *team) each(atOnce bool, do func(*run)) {
	if !atOnce {
		for _, q := range t.parts {
			do(q)
		}
		return
	}
	t.do = do
	t.taken.Store(0)
	t.asked.up()
	t.take()
	t.done.await(t.asked.n.Load() * int64(t.workers))
}

// take lets parts that no other worker has taken do what is asked.
func (t *team) take() {
	for {
		n := int(t.taken.Add(1)) - 1
		if n >= len(t.parts) {
			return
		}
		t.do(t.parts[n])
	}
}

// works does what is asked, until there is nothing more.
func (t *team) works() {
	for n := int64(1); ; n++ {
		if t.asked.await(n); t.do == nil {
			return
		}
		t.take()
		t.done.up()
	}
}

// toTheEnd runs the rehearsal, and returns its result. An ok of false means that parts cannot run it: it has to begin anew as a whole.
func (t *team) toTheEnd() (res *measure.Result, ok bool, err error) {
	t.asked.changed.L, t.done.changed.L = &t.asked.lock, &t.done.lock
	for range t.workers {
		go t.works()
	}
	defer func() {
		t.do = nil
		t.asked.up()
	}()
	r := t.whole
	beside := 0 // events of the last round that were not of the busiest part
	for since := 0; ; {
		first, made, kept, sent := never, 0, 0, int64(0)
		for _, q := range t.parts {
			first, made, kept, sent = min(first, q.soonest), made+q.made, kept+q.kept, sent+q.sentTCP
			if q.failed != nil {
				return nil, false, nil
			}
		}
		if made > maxUnderWay/2 || sent > maxPackets {
			return nil, false, nil
		}
		if kept > maxKept || first == never {
			t.each(true, (*run).enterKept)
		}
		if first == never {
			break
		}
		if first > r.latest() {
			return nil, true, r.tooLate()
		}
		if since > lookAfter {
			if since = 0; r.asksToStop(first) {
				t.each(true, (*run).enterKept)
				break
			}
		}
		t.round, t.until = t.round+1, first+t.lookahead
		t.each(beside >= worthwhile || r.options.alwaysDivide && t.round%16 == 0, (*run).upTo)
		did, most := 0, 0
		for _, q := range t.parts {
			did, most = did+q.did, max(most, q.did)
		}
		beside, since = did-most, since+did
	}
	t.join()
	return r.result(), true, nil
}

// join ends all parts, and brings their measures together.
func (t *team) join() {
	r := t.whole
	for _, q := range t.parts {
		r.now = max(r.now, q.now)
	}
	for _, q := range t.parts {
		q.timeIs(r.now)
	}
	for i, c := range r.collectors {
		var first []firstBooking
		var all []*measure.Collector
		for _, q := range t.parts {
			first, all = append(first, q.first[i]...), append(all, q.collectors[i])
		}
		slices.SortFunc(first, func(a, b firstBooking) int { return a.compare(&b.moment) })
		flows := make([]*measure.Flow, len(first))
		for n := range first {
			flows[n] = first[n].flow
		}
		c.Join(all, flows)
	}
}

// errParts ends a run in parts that has to begin anew as a whole.
var errParts = errors.New("parts cannot run this")

// notInParts ends a run in parts, and reports whether it was one.
func (r *run) notInParts() bool {
	if r.team == nil {
		return false
	}
	r.failed = errParts
	return true
}
