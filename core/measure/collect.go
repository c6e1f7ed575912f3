package measure

import (
	"math"
	"slices"
	"strings"
	"time"

	"imbrel/core/policy"
)

// A Key names a row: a traffic by its number in the rehearsal, a direction, and
// a class by its number in policy.File.ClassNames.
type Key struct {
	Traffic int
	Reverse bool
	Class   int
}

// A Tally collects what happened to the packets of one key.
type Tally struct {
	key            Key
	sent, received int64
	bytes          int64 // delivered in the measured time
	wanted         int64 // bytes sent
	seconds        float64
	delay, jitter  Distribution
	flows          []*Flow
}

// A Collector collects tallies. The zero Collector is empty.
type Collector struct {
	tallies map[Key]*Tally
	flows   []*Flow
}

// Tally returns the tally to book a flow's packet to.
func (c *Collector) Tally(f *Flow, k Key) *Tally {
	for i := range f.booked {
		if b := &f.booked[i]; b.tally.key == k {
			b.packets++
			return b.tally
		}
	}
	if c.tallies == nil {
		c.tallies = make(map[Key]*Tally)
	}
	t := c.tallies[k]
	if t == nil {
		t = &Tally{key: k}
		c.tallies[k] = t
	}
	if len(f.booked) == 0 {
		c.flows = append(c.flows, f)
	}
	f.booked = append(f.booked, booking{t, 1})
	return t
}

// Settle gives each flow to the tally that has most of its packets, which
// judges it. It is called once, when all packets are booked.
func (c *Collector) Settle() {
	for _, f := range c.flows {
		most := &f.booked[0]
		for i := range f.booked {
			b := &f.booked[i]
			b.tally.seconds = max(b.tally.seconds, f.lasts.Seconds())
			if b.packets > most.packets {
				most = b
			}
		}
		most.tally.flows = append(most.tally.flows, f)
	}
}

// Dropped books a packet that was lost.
func (t *Tally) Dropped(f *Flow, n int64, length int) {
	t.sent++
	t.wanted += int64(length)
	f.Dropped(n)
}

// Delivered books a packet of length bytes that arrived delay after it was sent.
func (t *Tally) Delivered(f *Flow, n int64, sent, delay, end time.Duration, length int) {
	t.sent++
	t.received++
	t.wanted += int64(length)
	if f.Delivered(n, sent, delay, end) {
		t.bytes += int64(length)
	}
	t.delay.Add(delay)
	if f.Received > 1 {
		t.jitter.Add(f.Jitter())
	}
}

// in returns the tallies that a test chooses, in a fixed order.
func (c *Collector) in(choose func(Key) bool) []*Tally {
	var ts []*Tally
	for k, t := range c.tallies {
		if choose(k) {
			ts = append(ts, t)
		}
	}
	slices.SortFunc(ts, func(a, b *Tally) int {
		switch {
		case a.key.Traffic != b.key.Traffic:
			return a.key.Traffic - b.key.Traffic
		case a.key.Reverse != b.key.Reverse:
			if b.key.Reverse {
				return -1
			}
			return 1
		}
		return a.key.Class - b.key.Class
	})
	return ts
}

// sum is several tallies together.
type sum struct {
	sent, received int64
	rate, wanted   float64
	delay, jitter  Distribution
	worstJitter    float64
	mos            float64 // of the worst call; 0: there is none
}

func add(ts []*Tally) sum {
	var s sum
	for _, t := range ts {
		s.sent += t.sent
		s.received += t.received
		if t.seconds > 0 {
			s.rate += float64(t.bytes*8) / t.seconds
			s.wanted += float64(t.wanted*8) / t.seconds
		}
		s.delay.Merge(&t.delay)
		s.jitter.Merge(&t.jitter)
		for _, f := range t.flows {
			s.worstJitter = max(s.worstJitter, f.MeanJitter())
			if f.IsCall() {
				if m := f.MOS(); s.mos == 0 || m < s.mos {
					s.mos = m
				}
			}
		}
	}
	return s
}

func (s *sum) loss() float64 {
	if s.sent == 0 {
		return 0
	}
	return round(float64(s.sent-s.received)/float64(s.sent), 9)
}

func (s *sum) mosOrNil() *float64 {
	if s.mos == 0 {
		return nil
	}
	m := round(s.mos, 4)
	return &m
}

func round(v float64, digits int) float64 {
	p := math.Pow10(digits)
	return math.Round(v*p) / p
}

// Rows returns a row for each traffic, direction and class.
func (c *Collector) Rows(h *policy.Rehearsal, classes []string) []Row {
	rows := []Row{}
	for _, t := range c.in(func(Key) bool { return true }) {
		s := add([]*Tally{t})
		direction := "forward"
		if t.key.Reverse {
			direction = "reverse"
		}
		rows = append(rows, Row{
			Name: h.Traffic[t.key.Traffic].Name, Direction: direction, Class: classes[t.key.Class],
			SentPackets: s.sent, ReceivedPackets: s.received, Loss: s.loss(), OfferedBps: int64(math.Round(s.wanted)), RateBps: int64(math.Round(s.rate)),
			Delay: s.delay.Summary(), JitterMs: inMilliseconds(s.worstJitter), MOS: s.mosOrNil(),
		})
	}
	return rows
}

// ClassResults returns a line for each class that any packet was in.
func (c *Collector) ClassResults(classes []string) []ClassResult {
	results := []ClassResult{}
	for i, name := range classes {
		ts := c.in(func(k Key) bool { return k.Class == i })
		if len(ts) == 0 {
			continue
		}
		s := add(ts)
		results = append(results, ClassResult{
			Class: name, SentPackets: s.sent, ReceivedPackets: s.received, Loss: s.loss(),
			OfferedBps: int64(math.Round(s.wanted)), RateBps: int64(math.Round(s.rate)), Delay: s.delay.Summary(), JitterMs: inMilliseconds(s.worstJitter), MOS: s.mosOrNil(),
		})
	}
	return results
}

// Judge compares each expectation with what was measured, sets the outcomes and
// the verdict.
func (c *Collector) Judge(r *Result, h *policy.Rehearsal, classes []string) {
	r.Verdict, r.Expectations = "pass", []Outcome{}
	for i := range h.Expect {
		o := c.outcome(r, h, classes, &h.Expect[i])
		if !o.Holds {
			r.Verdict = "fail"
		}
		r.Expectations = append(r.Expectations, o)
	}
}

// metricUnits gives the unit of an outcome and what its base units are divided
// by.
var metricUnits = map[policy.Metric]struct {
	unit string
	per  float64
}{
	policy.Delay: {"ms", 1e6}, policy.Jitter: {"ms", 1e6}, policy.Loss: {"%", 0.01},
	policy.Drops: {"packets", 1}, policy.Throughput: {"bit/s", 1}, policy.MOS: {"mos", 1},
}

func (c *Collector) outcome(r *Result, h *policy.Rehearsal, classes []string, e *policy.Expectation) Outcome {
	u := metricUnits[e.Metric]
	o := Outcome{Text: e.Text, Unit: u.unit}
	var value float64
	var why string
	if e.Where != nil {
		value, why = atInterface(r, e)
	} else {
		value, why = c.endToEnd(h, classes, e)
	}
	if why != "" {
		o.Reason = why
		return o
	}
	o.Holds = e.Holds(value)
	shown := round(value/u.per, 6)
	o.Measured = &shown
	return o
}

// endToEnd measures an expectation between source and sink. A subject is a
// class's name before it is a traffic's.
func (c *Collector) endToEnd(h *policy.Rehearsal, classes []string, e *policy.Expectation) (float64, string) {
	class := slices.Index(classes, e.Subject)
	ts := c.in(func(k Key) bool {
		if class >= 0 {
			return k.Class == class
		}
		return h.Traffic[k.Traffic].Name == e.Subject
	})
	s := add(ts)
	switch {
	case s.sent == 0:
		return 0, "no packet of `" + e.Subject + "` was sent"
	case s.received == 0 && (e.Metric == policy.Delay || e.Metric == policy.Jitter):
		return 0, "no packet of `" + e.Subject + "` arrived"
	}
	switch e.Metric {
	case policy.Delay:
		return s.delay.Statistic(e.Statistic), ""
	case policy.Jitter:
		if e.Statistic != "" {
			return s.jitter.Statistic(e.Statistic), ""
		}
		return s.worstJitter, ""
	case policy.Loss:
		return float64(s.sent-s.received) / float64(s.sent), ""
	case policy.Drops: // anywhere, the carrier's queue included
		return float64(s.sent - s.received), ""
	case policy.Throughput:
		return s.rate, ""
	}
	if s.mos == 0 {
		return 0, "there is no call in `" + e.Subject + "`"
	}
	return s.mos, ""
}

// atInterface measures an expectation at the interface it names, over all the
// entries there that treat the class: it may be within several.
func atInterface(r *Result, e *policy.Expectation) (float64, string) {
	found := false
	var drops uint64
	var rate int64
	var delay Distribution
	for i := range r.Interfaces {
		f := &r.Interfaces[i]
		if f.Node+"/"+f.Interface != e.WhereName || f.Direction != e.Direction.String() {
			continue
		}
		for j := range f.Classes {
			k := &f.Classes[j]
			if k.Class != e.Subject && !strings.HasSuffix(k.Class, "/"+e.Subject) || k.OfferedPackets == 0 {
				continue
			}
			found = true
			drops += k.Drops.Total()
			rate += k.SentBps
			delay.Merge(k.delay)
		}
	}
	switch {
	case !found:
	case e.Metric == policy.Drops:
		return float64(drops), ""
	case e.Metric == policy.Throughput:
		return float64(rate), ""
	case delay.Count() == 0:
		return 0, "no packet of `" + e.Subject + "` was sent there"
	default:
		return delay.Statistic(e.Statistic), ""
	}
	return 0, "no packet of `" + e.Subject + "` came to " + e.WhereName + " " + e.Direction.String()
}
