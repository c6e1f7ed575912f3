package measure

import (
	"slices"
	"time"
)

// A Sample is what a data path has counted of a class so far.
type Sample struct {
	Node, Interface, Direction string
	RateBps                    int64 // of the interface
	Class                      string
	OfferedBytes, SentBytes    uint64
	Drops                      uint64
	QueueBytes                 int64 // the most since the sample before
	Waits                      *Distribution
}

// A History keeps what classes did in the last intervals of a time without an end, for a view of what is going on. Its memory is
// bounded.
type History struct {
	most    int
	every   time.Duration
	ends    []time.Duration // of the intervals
	last    time.Duration
	classes map[historyKey]*historyClass
	order   []historyKey
}

type historyKey struct{ node, iface, direction, class string }

type historyClass struct {
	rate          int64
	before        Sample
	waits         Distribution
	offered, sent []int64
	drops, queues []int64
	times         Times
	peak          int64 // of the queue, since the last interval ended
	seen          bool  // in the last sample
}

// NewHistory returns a history of so many intervals at most, each about so long. It begins at a time.
func NewHistory(most int, every, now time.Duration) *History {
	return &History{most: most, every: every, last: now, classes: make(map[historyKey]*historyClass)}
}

// Due reports whether it is time for another sample.
func (h *History) Due(now time.Duration) bool { return now >= h.last+h.every }

// Next returns when the next sample is due.
func (h *History) Next() time.Duration { return h.last + h.every }

// Put takes samples of all classes at a time, and ends the interval where it is due; of one that is not, only how much waited is
// kept.
func (h *History) Put(now time.Duration, samples []Sample) {
	if h.Due(now) {
		h.Add(now, samples)
		return
	}
	for i := range samples {
		s := &samples[i]
		if c := h.classes[historyKey{s.Node, s.Interface, s.Direction, s.Class}]; c != nil {
			c.peak = max(c.peak, s.QueueBytes)
		}
	}
}

// Add takes the samples of all classes at a time, which is after that of those before. Counters that have become less began anew.
func (h *History) Add(now time.Duration, samples []Sample) {
	took := max(now-h.last, time.Millisecond)
	h.last, h.ends = now, append(h.ends, now)
	for _, c := range h.classes {
		c.seen = false
	}
	for i := range samples {
		s := &samples[i]
		key := historyKey{s.Node, s.Interface, s.Direction, s.Class}
		c := h.classes[key]
		if c == nil {
			c = &historyClass{}
			h.classes[key], h.order = c, append(h.order, key)
		}
		c.fill(len(h.ends) - 1)
		if s.OfferedBytes < c.before.OfferedBytes || s.SentBytes < c.before.SentBytes || s.Drops < c.before.Drops {
			c.before, c.waits = Sample{}, Distribution{}
		}
		rate := func(now, before uint64) int64 { return int64(float64(now-before)*8/took.Seconds() + 0.5) }
		waits := s.Waits.since(&c.waits)
		c.offered, c.sent = append(c.offered, rate(s.OfferedBytes, c.before.OfferedBytes)), append(c.sent, rate(s.SentBytes, c.before.SentBytes))
		c.drops, c.queues = append(c.drops, int64(s.Drops-c.before.Drops)), append(c.queues, max(s.QueueBytes, c.peak))
		c.times.add(&waits)
		c.rate, c.before, c.waits, c.seen = s.RateBps, *s, s.Waits.clone(), true
		c.peak = 0
	}
	for _, c := range h.classes {
		c.fill(len(h.ends))
	}
	if extra := len(h.ends) - h.most; extra > 0 {
		h.ends = slices.Delete(h.ends, 0, extra)
		for _, c := range h.classes {
			c.drop(extra)
		}
	}
	h.order = slices.DeleteFunc(h.order, func(k historyKey) bool { // gone, and nothing of it is shown any more
		c := h.classes[k]
		gone := !c.seen && slices.Max(c.offered) == 0 && slices.Max(c.sent) == 0
		if gone {
			delete(h.classes, k)
		}
		return gone
	})
}

// fill makes a class have so many intervals; those it missed are empty.
func (c *historyClass) fill(n int) {
	for len(c.offered) < n {
		c.offered, c.sent, c.drops, c.queues = append(c.offered, 0), append(c.sent, 0), append(c.drops, 0), append(c.queues, 0)
		c.times.add(&Distribution{})
	}
}

func (c *historyClass) drop(n int) {
	for _, list := range []*[]int64{&c.offered, &c.sent, &c.drops, &c.queues} {
		*list = slices.Delete(*list, 0, n)
	}
	for _, list := range []*[]float64{&c.times.P50, &c.times.P99, &c.times.Max} {
		*list = slices.Delete(*list, 0, n)
	}
}

// add adds the statistics of an interval.
func (t *Times) add(d *Distribution) {
	ms := func(name string) float64 { return inMilliseconds(d.Statistic(name)) }
	t.P50, t.P99, t.Max = append(t.P50, ms("p50")), append(t.P99, ms("p99")), append(t.Max, ms("max"))
}

// Series returns the intervals that are kept. FromS is when the first began.
func (h *History) Series() *Series {
	s := &Series{IntervalS: h.every.Seconds(), Interfaces: []SeriesInterface{}, Traffic: []SeriesTraffic{}, Calls: []CallScores{}, Whens: []WhenActive{}}
	if len(h.ends) > 0 {
		s.FromS = max(0, h.last-time.Duration(len(h.ends))*h.every).Round(100 * time.Millisecond).Seconds()
	}
	for _, k := range h.order {
		c := h.classes[k]
		n := slices.IndexFunc(s.Interfaces, func(i SeriesInterface) bool {
			return i.Node == k.node && i.Interface == k.iface && i.Direction == k.direction
		})
		if n < 0 {
			n = len(s.Interfaces)
			s.Interfaces = append(s.Interfaces, SeriesInterface{Node: k.node, Interface: k.iface, Direction: k.direction})
		}
		s.Interfaces[n].RateBps = c.rate
		s.Interfaces[n].Classes = append(s.Interfaces[n].Classes, SeriesClass{Class: k.class, OfferedBps: slices.Clone(c.offered), SentBps: slices.Clone(c.sent),
			Drops: slices.Clone(c.drops), QueueBytes: slices.Clone(c.queues), Waits: Times{slices.Clone(c.times.P50), slices.Clone(c.times.P99), slices.Clone(c.times.Max)}})
	}
	return s
}

// Recent returns the waits of a class in the last intervals together: the greatest p99, and the longest.
func (c *SeriesClass) Recent(intervals int) (p99, longest float64) {
	for i := max(0, len(c.Waits.P99)-intervals); i < len(c.Waits.P99); i++ {
		p99, longest = max(p99, c.Waits.P99[i]), max(longest, c.Waits.Max[i])
	}
	return p99, longest
}

// clone returns a copy that shares nothing.
func (d *Distribution) clone() Distribution {
	out := *d
	out.counts = slices.Clone(d.counts)
	return out
}

// since returns what was added since an earlier copy. Its extremes are those of its buckets.
func (d *Distribution) since(before *Distribution) (out Distribution) {
	for i, n := range d.counts {
		b := d.first + int32(i)
		if k := int(b - before.first); k >= 0 && k < len(before.counts) {
			n -= before.counts[k]
		}
		if n == 0 {
			continue
		}
		v := min(max(middle(b), d.least), d.max)
		if out.count == 0 {
			out.least = v
		}
		at := out.hold(b)
		out.counts[at] += n
		out.count += int64(n)
		out.sum += float64(v) * float64(n)
		out.max = v
	}
	return out
}
