package simulate

import (
	"time"

	"imbrel.example/imbrel/core/measure"
)

// A note is a fact about flows of TCP.
type note struct {
	moment
	flows *measure.Flows
	what  fact
	flow  int32 // its number in flows
	value int64
}

// A fact is the kind of a note.
type fact uint8

const (
	opened       fact = iota
	started           // at a time
	arrived           // bytes, at the application
	ended             // at a time
	segment           // of data was sent
	segmentAgain      // was sent again
	roundTrip         // was measured
	timeouts          // so many
	begins            // a transfer, an exchange or a page
	completes         // one of them, after a time
)

// facts has for each kind how a note is entered.
var facts = [...]func(f *measure.Flows, flow int, value int64){
	opened:       func(f *measure.Flows, flow int, _ int64) { f.Opened(flow) },
	started:      func(f *measure.Flows, flow int, at int64) { f.Started(flow, time.Duration(at)) },
	arrived:      (*measure.Flows).Arrived,
	ended:        func(f *measure.Flows, flow int, at int64) { f.Ended(flow, time.Duration(at)) },
	segment:      func(f *measure.Flows, _ int, _ int64) { f.Sent(false) },
	segmentAgain: func(f *measure.Flows, _ int, _ int64) { f.Sent(true) },
	roundTrip:    func(f *measure.Flows, _ int, rtt int64) { f.RoundTrip(time.Duration(rtt)) },
	timeouts:     func(f *measure.Flows, _ int, n int64) { f.TimedOut(n) },
	begins:       func(f *measure.Flows, _ int, _ int64) { f.Begun() },
	completes:    func(f *measure.Flows, _ int, took int64) { f.Completed(time.Duration(took)) },
}

// note notes a fact about a flow of a client for each of the measures given.
func (r *run) note(c *client, in []*measure.Flows, what fact, flow int, value int64) {
	for _, f := range in {
		if r.team == nil {
			facts[what](f, flow, value)
			continue
		}
		to := &r.books[c.index%len(r.books)]
		to.notes = append(to.notes, note{r.moment(), f, what, int32(flow), value})
		r.kept++
	}
}
