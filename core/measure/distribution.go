// Package measure turns what happened to packets into numbers: delay, jitter,
// loss, MOS, and the verdict on what was expected.
package measure

import (
	"math"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"
)

// A Distribution collects durations: mean and extremes exactly, percentiles to
// three significant digits. The zero Distribution is empty.
type Distribution struct {
	count      int64
	sum        float64 // of whole nanoseconds; exact up to 2^53
	least, max time.Duration
	histogram  *hdrhistogram.Histogram
}

// Add records one duration, not negative.
func (d *Distribution) Add(v time.Duration) {
	if d.histogram == nil {
		d.histogram = hdrhistogram.New(1, int64(time.Hour), 3)
		d.least = v
	}
	d.count++
	d.sum += float64(v)
	d.least, d.max = min(d.least, v), max(d.max, v)
	_ = d.histogram.RecordValue(min(int64(v), int64(time.Hour)))
}

// Merge adds what another distribution holds.
func (d *Distribution) Merge(o *Distribution) {
	if o.count == 0 {
		return
	}
	if d.histogram == nil {
		d.histogram = hdrhistogram.New(1, int64(time.Hour), 3)
		d.least = o.least
	}
	d.count += o.count
	d.sum += o.sum
	d.least, d.max = min(d.least, o.least), max(d.max, o.max)
	d.histogram.Merge(o.histogram)
}

// Count returns how many durations were recorded.
func (d *Distribution) Count() int64 { return d.count }

// Statistic returns "mean", "p50", "p95", "p99" or "max" in nanoseconds.
func (d *Distribution) Statistic(name string) float64 {
	if d.count == 0 {
		return 0
	}
	percentile := 0.0
	switch name {
	case "mean":
		return d.sum / float64(d.count)
	case "max":
		return float64(d.max)
	case "p50":
		percentile = 50
	case "p95":
		percentile = 95
	case "p99":
		percentile = 99
	}
	v := time.Duration(d.histogram.ValueAtQuantile(percentile))
	return float64(min(max(v, d.least), d.max))
}

// Milliseconds is a summary of a distribution, in milliseconds.
type Milliseconds struct {
	Mean float64 `json:"mean"`
	P50  float64 `json:"p50"`
	P95  float64 `json:"p95"`
	P99  float64 `json:"p99"`
	Max  float64 `json:"max"`
}

// Summary returns the distribution's statistics, or nil when it is empty.
func (d *Distribution) Summary() *Milliseconds {
	if d.count == 0 {
		return nil
	}
	ms := func(name string) float64 { return inMilliseconds(d.Statistic(name)) }
	return &Milliseconds{ms("mean"), ms("p50"), ms("p95"), ms("p99"), ms("max")}
}

// inMilliseconds rounds nanoseconds to whole ones and returns milliseconds.
func inMilliseconds(ns float64) float64 { return math.Round(ns) / 1e6 }
