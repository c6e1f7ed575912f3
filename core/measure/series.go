package measure

import (
	"time"

	"imbrel.example/imbrel/core/policy"
)

// A Series is what happened over time, in intervals of one length.
type Series struct {
	IntervalS  float64           `json:"interval_s"`
	FromS      float64           `json:"from_s,omitempty"` // when the first began
	Interfaces []SeriesInterface `json:"interfaces"`
	Traffic    []SeriesTraffic   `json:"traffic"`
	Calls      []CallScores      `json:"calls"`
	Whens      []WhenActive      `json:"whens"`
}

// A SeriesInterface is an interface over time, or the carrier's queue after it.
type SeriesInterface struct {
	Node      string        `json:"node"`
	Interface string        `json:"interface"`
	Direction string        `json:"direction"` // in, out or carrier
	RateBps   int64         `json:"rate_bps"`
	Classes   []SeriesClass `json:"classes"`
}

// A SeriesClass is a class, or an instance of one, over time: a value for each interval.
type SeriesClass struct {
	Class      string        `json:"class"`
	OfferedBps []int64       `json:"offered_bps"`
	SentBps    []int64       `json:"sent_bps"`
	Drops      []int64       `json:"drops"`
	QueueBytes []int64       `json:"queue_bytes"` // the most that waited
	Waits      Times         `json:"wait_ms"`     // of the packets that left
	Wakes      []Wake        `json:"wakes,omitempty"`
	Instances  []SeriesClass `json:"instances,omitempty"` // those that were offered most
}

// Times are the statistics of durations in each interval, in milliseconds: 0 where there was none.
type Times struct {
	P50 []float64 `json:"p50"`
	P99 []float64 `json:"p99"`
	Max []float64 `json:"max"`
}

// A TimesBuilder collects durations in the order of time, and keeps those of one interval alone. The zero TimesBuilder
// is empty.
type TimesBuilder struct {
	times Times
	now   Distribution
}

// Add records a duration of an interval, which is not before that of the last one.
func (b *TimesBuilder) Add(interval int, v time.Duration) {
	b.fill(interval)
	b.now.Add(v)
}

// Put records all durations of an interval, which is not before that of the last one.
func (b *TimesBuilder) Put(interval int, d *Distribution) {
	b.fill(interval)
	b.now.Merge(d)
}

// fill ends all intervals before one.
func (b *TimesBuilder) fill(interval int) {
	for len(b.times.Max) < interval {
		ms := func(name string) float64 { return inMilliseconds(b.now.Statistic(name)) }
		b.times.P50, b.times.P99, b.times.Max = append(b.times.P50, ms("p50")), append(b.times.P99, ms("p99")), append(b.times.Max, ms("max"))
		b.now = Distribution{}
	}
}

// Times returns the statistics of the intervals from one up to another.
func (b *TimesBuilder) Times(from, to int) Times {
	b.fill(to)
	return Times{b.times.P50[from:to:to], b.times.P99[from:to:to], b.times.Max[from:to:to]}
}

// A SeriesTraffic is a traffic in one direction over time, from end to end: when its packets arrived, and when they were lost.
// Rates count IP bytes.
type SeriesTraffic struct {
	Name        string  `json:"name"`
	Direction   string  `json:"direction"` // forward or reverse
	ReceivedBps []int64 `json:"received_bps,omitempty"`
	Lost        []int64 `json:"lost,omitempty"`
	Late        []int64 `json:"late,omitempty"`        // of calls: too late to be played
	GoodputBps  []int64 `json:"goodput_bps,omitempty"` // of TCP, in the direction of its data
	Delay       Times   `json:"delay_ms"`
}

// Title names the traffic and its direction.
func (t *SeriesTraffic) Title() string { return policy.Directed(t.Name, t.Direction == "reverse") }

// CallScores are the mean opinion scores of the calls of one traffic in one direction, in the order of the calls.
type CallScores struct {
	Name      string    `json:"name"`
	Direction string    `json:"direction"`
	MOS       []float64 `json:"mos"`
}

// CallScores returns the scores of all calls. Finish was called before.
func (c *Collector) CallScores() []CallScores {
	out := []CallScores{}
	for _, way := range ways(c.settled) {
		s := CallScores{Name: c.names[way[0].Traffic], Direction: policy.DirectionOf(way[0].Reverse)}
		for _, t := range way {
			for _, f := range t.flows {
				if f.IsCall() {
					s.MOS = append(s.MOS, round(f.MOS(), 4))
				}
			}
		}
		if s.MOS != nil {
			out = append(out, s)
		}
	}
	return out
}

// A Wake is when a class that had been silent began again, and after how long it had its
// promise, or all it wanted: to the end of the first interval in which it did; nil: never.
type Wake struct {
	AtS          float64  `json:"at_s"`
	PromiseAfter *float64 `json:"promise_after_s"`
}

// A WhenActive is a time in which an entry or a limit with a `when` was in force.
type WhenActive struct {
	Node      string  `json:"node"`
	Interface string  `json:"interface"`
	Direction string  `json:"direction"`
	Class     string  `json:"class"`
	Limit     string  `json:"limit,omitempty"` // at-most, police or block; "": the entry
	FromS     float64 `json:"from_s"`
	ToS       float64 `json:"to_s"`
}

// RoundStep returns the least interval of a round length of which there are at most so many in a time.
func RoundStep(lasts time.Duration, most int) time.Duration {
	for size := time.Millisecond; ; size *= 10 {
		for _, n := range []time.Duration{1, 2, 5} {
			if lasts <= time.Duration(most)*n*size {
				return n * size
			}
		}
	}
}
