// Package measure turns what happened to packets into numbers: delay, jitter,
// loss, MOS, and the verdict on what was expected.
package measure

import (
	"encoding/json"
	"errors"
	"math"
	"math/bits"
	"slices"
	"time"
)

// A Distribution collects durations: mean and extremes exactly, percentiles to 0.8 %
// (to half a microsecond below 65 µs). It counts in buckets whose width grows with the
// value and keeps only those between its extremes: 0.3 kB an octave. The zero
// Distribution is empty.
type Distribution struct {
	count      int64
	sum        float64 // of whole nanoseconds; exact up to 2^53
	least, max time.Duration
	first      int32    // the number of counts[0]
	counts     []uint32 // by bucket
}

// An octave has 1<<fineness buckets; below that many grains a bucket is one grain of
// 1<<grain ns.
const (
	fineness = 6
	grain    = 10
)

// bucket returns the number of the bucket of a duration.
func bucket(v time.Duration) int32 {
	u := uint64(v) >> grain
	octave := max(bits.Len64(u)-fineness-1, 0)
	return int32(octave<<fineness) + int32(u>>octave)
}

// middle returns the duration in the middle of a bucket.
func middle(b int32) time.Duration {
	octave := max(b>>fineness-1, 0)
	u := uint64(b-octave<<fineness)<<octave<<grain + 1<<octave<<grain/2
	return time.Duration(u)
}

// Add records one duration, not negative.
func (d *Distribution) Add(v time.Duration) {
	if d.count == 0 {
		d.least = v
	}
	d.count++
	d.sum += float64(v)
	d.least, d.max = min(d.least, v), max(d.max, v)
	b := bucket(v) - d.first
	if uint32(b) >= uint32(len(d.counts)) {
		b = d.hold(b + d.first)
	}
	d.counts[b]++
}

// hold makes room for a bucket and returns its index.
func (d *Distribution) hold(b int32) int32 {
	const spare = 8 // buckets, so that not every new extreme moves them
	switch n := int32(len(d.counts)); {
	case b >= d.first && b < d.first+n:
	case n == 0:
		d.first, d.counts = b, make([]uint32, 1, spare)
	case b < d.first:
		from := max(0, b-spare)
		counts := make([]uint32, n+d.first-from)
		copy(counts[d.first-from:], d.counts)
		d.first, d.counts = from, counts
	case b >= d.first+n && int(b-d.first) < cap(d.counts):
		d.counts = d.counts[:b-d.first+1]
	default:
		counts := make([]uint32, b-d.first+1, b-d.first+1+spare)
		copy(counts, d.counts)
		d.counts = counts
	}
	return b - d.first
}

// Merge adds what another distribution holds.
func (d *Distribution) Merge(o *Distribution) {
	if o.count == 0 {
		return
	}
	if d.count == 0 {
		d.least = o.least
	}
	d.count += o.count
	d.sum += o.sum
	d.least, d.max = min(d.least, o.least), max(d.max, o.max)
	d.hold(o.first)
	last := o.first + int32(len(o.counts)) - 1
	if last >= d.first+int32(len(d.counts)) {
		d.hold(last)
	}
	at := d.counts[o.first-d.first:]
	for i, n := range o.counts {
		at[i] += n
	}
}

// Count returns how many durations were recorded.
func (d *Distribution) Count() int64 { return d.count }

// percentiles are the statistics that are one.
var percentiles = map[string]float64{"p50": 0.50, "p95": 0.95, "p99": 0.99, "p99.9": 0.999}

// Statistic returns "mean", "p50", "p95", "p99", "p99.9" or "max" in nanoseconds.
func (d *Distribution) Statistic(name string) float64 {
	switch {
	case d.count == 0:
		return 0
	case name == "mean":
		return d.sum / float64(d.count)
	case name == "max":
		return float64(d.max)
	}
	rank := d.rank(name)
	seen := int64(0)
	for i, n := range d.counts {
		if seen += int64(n); seen >= rank {
			return float64(min(max(middle(d.first+int32(i)), d.least), d.max))
		}
	}
	return float64(d.max)
}

// Least returns the least duration in nanoseconds, 0 where there is none.
func (d *Distribution) Least() float64 { return float64(d.least) }

// Statistics lists the statistics of a distribution.
func Statistics() []string { return []string{"mean", "p50", "p95", "p99", "p99.9", "max"} }

// rank returns the place of a percentile, or of the greatest, among the durations in order, from 1: the nearest rank.
func (d *Distribution) rank(name string) int64 {
	if name == "max" {
		return d.count
	}
	return int64(math.Ceil(percentiles[name] * float64(d.count)))
}

// upTo returns how many durations there are in the bucket of a duration in ns and below, and below in those
// below it.
func (d *Distribution) upTo(ns float64) int64 {
	n, last := int64(0), bucket(time.Duration(ns))
	for i, count := range d.counts {
		if d.first+int32(i) <= last {
			n += int64(count)
		}
	}
	return n
}

func (d *Distribution) below(ns float64) int64 {
	n, last := int64(0), bucket(time.Duration(ns))
	for i, count := range d.counts {
		if d.first+int32(i) < last {
			n += int64(count)
		}
	}
	return n
}

// Milliseconds is a summary of a distribution, in milliseconds.
type Milliseconds struct {
	Mean float64 `json:"mean"`
	P50  float64 `json:"p50"`
	P95  float64 `json:"p95"`
	P99  float64 `json:"p99"`
	Max  float64 `json:"max"`
	// Distribution is all of it, where it was asked for: what several of them hold can be
	// put together.
	Distribution *Distribution `json:"distribution,omitempty"`

	of *Distribution
}

// Summary returns the distribution's statistics, or nil when it is empty.
func (d *Distribution) Summary() *Milliseconds {
	if d.count == 0 {
		return nil
	}
	ms := func(name string) float64 { return inMilliseconds(d.Statistic(name)) }
	return &Milliseconds{Mean: ms("mean"), P50: ms("p50"), P95: ms("p95"), P99: ms("p99"), Max: ms("max"), of: d}
}

// Resolution is by how much a percentile may be off, as a part of it: half a bucket of the
// first half of an octave.
const Resolution = 1.0 / (2 << fineness)

// A written distribution is one in JSON. Bucket n holds the durations v of whole nanoseconds
// with bucket(v) = n: with u = v >> 10, n = u below 128, and otherwise, with o = the bits of u
// less 7, n = 64·o + (u >> o).
type written struct {
	Resolution float64  `json:"resolution"`
	Count      int64    `json:"count"`
	SumNs      float64  `json:"sum_ns"`
	MinNs      int64    `json:"least_ns"`
	MaxNs      int64    `json:"max_ns"`
	First      int32    `json:"first_bucket"`
	Counts     []uint32 `json:"counts"`
}

// MarshalJSON writes all that the distribution holds.
func (d *Distribution) MarshalJSON() ([]byte, error) {
	counts := d.counts
	for len(counts) > 0 && counts[len(counts)-1] == 0 {
		counts = counts[:len(counts)-1]
	}
	first := d.first
	for len(counts) > 0 && counts[0] == 0 {
		counts, first = counts[1:], first+1
	}
	return json.Marshal(written{Resolution, d.count, d.sum, int64(d.least), int64(d.max), first, counts})
}

// UnmarshalJSON reads what MarshalJSON wrote. What contradicts itself is an error.
func (d *Distribution) UnmarshalJSON(data []byte) error {
	var w written
	if err := json.Unmarshal(data, &w); err != nil {
		return err
	}
	n := int64(0)
	for _, c := range w.Counts {
		n += int64(c)
	}
	last := bucket(math.MaxInt64)
	if n != w.Count || w.First < 0 || int64(w.First)+int64(len(w.Counts)) > int64(last)+1 || w.MinNs < 0 || w.MaxNs < w.MinNs || w.Count > 0 && w.Resolution != Resolution {
		return errors.New("a distribution contradicts itself, or is of another version")
	}
	*d = Distribution{w.Count, w.SumNs, time.Duration(w.MinNs), time.Duration(w.MaxNs), w.First, w.Counts}
	return nil
}

// KeepDistributions puts each distribution that the result's figures are of beside them.
func (r *Result) KeepDistributions() {
	keep := func(m *Milliseconds) {
		if m != nil {
			m.Distribution = m.of
		}
	}
	met := func(m *TrafficFigures) {
		keep(m.Delay)
		if m.TCP != nil {
			keep(m.TCP.RTT)
			keep(m.TCP.Completion)
		}
	}
	for i := range r.Traffic {
		met(&r.Traffic[i].TrafficFigures)
	}
	for i := range r.Classes {
		met(&r.Classes[i].TrafficFigures)
	}
	for i := range r.Interfaces {
		for j := range r.Interfaces[i].Classes {
			keep(r.Interfaces[i].Classes[j].QueueDelay)
		}
	}
	for i := range r.Links {
		keep(r.Links[i].QueueDelay)
	}
}

// inMilliseconds rounds nanoseconds to whole ones and returns milliseconds.
func inMilliseconds(ns float64) float64 { return math.Round(ns) / 1e6 }

// Cumulative returns the durations in milliseconds, in their order and each in its bucket, and what part of all is at most as long.
// It returns nothing for figures that were read from a file without their distribution.
func (m *Milliseconds) Cumulative() (ms, part []float64) {
	d := m.of
	if d == nil {
		d = m.Distribution
	}
	if d == nil || d.count == 0 {
		return nil, nil
	}
	seen := int64(0)
	for i, n := range d.counts {
		if n > 0 {
			seen += int64(n)
			ms = append(ms, inMilliseconds(float64(min(max(middle(d.first+int32(i)), d.least), d.max))))
			part = append(part, float64(seen)/float64(d.count))
		}
	}
	return ms, part
}

// Histogram returns how many durations there are, their sum in seconds, and how many are at most as long as each bound in seconds,
// to the width of a bucket. Of figures that were read from a file without their distribution it returns nothing.
func (m *Milliseconds) Histogram(bounds []float64) (count int64, seconds float64, upTo []int64) {
	d := m.of
	if d == nil {
		d = m.Distribution
	}
	if d == nil {
		return 0, 0, nil
	}
	for _, b := range bounds {
		upTo = append(upTo, d.upTo(b*1e9))
	}
	return d.count, d.sum / 1e9, upTo
}

// Clone returns a copy that goes on alone.
func (d *Distribution) Clone() Distribution {
	c := *d
	c.counts = slices.Clone(d.counts)
	return c
}
