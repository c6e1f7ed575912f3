package policy

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"imbrel.example/imbrel/core/unit"
)

// A Metric is what an expectation is about.
type Metric string

// The metrics, each in the unit that an expectation's Limit is in.
const (
	Delay      Metric = "delay"     // nanoseconds, one-way; at an interface, in its queue
	Jitter     Metric = "jitter"    // nanoseconds, RFC 3550 §6.4.1
	Variation  Metric = "variation" // nanoseconds, a delay beyond the least (RFC 5481 §4.2)
	Loss       Metric = "loss"      // a ratio, 0 to 1
	Reordered  Metric = "reordered" // a ratio, 0 to 1, of the packets that arrive, which others overtook (RFC 4737 §3.3)
	Late       Metric = "late"      // a ratio, 0 to 1, of the packets that arrive
	Drops      Metric = "drops"     // packets
	Dead       Metric = "dead"      // how often a node gave its neighbour up, whose hellos did not come
	Throughput Metric = "rate"      // bit/s of IP bytes delivered; at an interface, as it counts
	MOS        Metric = "mos"       // 1 to 5
	QueueSize  Metric = "queue"     // bytes, as the interface counts
	Marking    Metric = "mark"      // a DSCP that all packets have as they leave an interface
	Arrival    Metric = "arrive"    // a DSCP that all packets have as they arrive

	// Of TCP flows.
	Goodput         Metric = "goodput"         // bit/s that applications get
	Retransmissions Metric = "retransmissions" // a ratio, 0 to 1, of the segments that are sent
	RoundTrip       Metric = "rtt"             // nanoseconds, as senders measure it
	Completion      Metric = "completion"      // nanoseconds, of a transfer, an exchange or a page
)

// A MetricKind says what the values of a metric are.
type MetricKind uint8

const (
	Times MetricKind = iota
	Parts
	Counts
	Rates
	Scores
	Sizes
	Marks
)

// A Blame says what a metric suffers from, which a reason looks at.
type Blame uint8

const (
	Losses  Blame = iota // packets that were dropped or lost
	Waits                // packets that waited
	Uneven               // packets that waited differently
	TooLate              // packets that arrived too late to be played, or were lost
)

// A MetricRow is everything that is to be known of a metric but how it is measured, which is in core/measure.
type MetricRow struct {
	Metric
	Words       string  // for people, in a sentence
	Unit        string  // of an outcome
	Per         float64 // what the unit is in the metric's own
	Kind        MetricKind
	Statistic   string // of an expectation that names none; "": it has none; "?": it must name one; "-": it may
	Blame       Blame
	Better      int  // 1: more is better; -1: less is; 0: neither
	EndToEnd    bool // between source and sink
	AtInterface bool
	OfTCP       bool
	Moment      bool // it can be judged in a short part of the time
	Ratio       bool // two subjects can be compared by it
	Bound       bool // its largest possible value can be proven
}

var metricTable = []MetricRow{
	{Metric: Delay, Words: "delay", Unit: "ms", Per: 1e6, Kind: Times, Statistic: "?", Blame: Waits, Better: -1, EndToEnd: true, AtInterface: true, Moment: true, Ratio: true, Bound: true},
	{Metric: Jitter, Words: "jitter", Unit: "ms", Per: 1e6, Kind: Times, Statistic: "-", Blame: Uneven, Better: -1, EndToEnd: true, Moment: true},
	{Metric: Variation, Words: "delay variation", Unit: "ms", Per: 1e6, Kind: Times, Statistic: "?", Blame: Uneven, Better: -1, EndToEnd: true, Moment: true},
	{Metric: Loss, Words: "loss", Unit: "%", Per: 0.01, Kind: Parts, Better: -1, EndToEnd: true, Moment: true, Ratio: true, Bound: true},
	{Metric: Late, Words: "late packets", Unit: "%", Per: 0.01, Kind: Parts, Blame: TooLate, Better: -1, EndToEnd: true, Moment: true},
	{Metric: Reordered, Words: "reordered packets", Unit: "%", Per: 0.01, Kind: Parts, Blame: Uneven, Better: -1, EndToEnd: true, Moment: true},
	{Metric: Drops, Words: "drops", Unit: "packets", Per: 1, Kind: Counts, Better: -1, EndToEnd: true, AtInterface: true, Moment: true, Ratio: true},
	{Metric: Dead, Words: "neighbours given up", Unit: "times", Per: 1, Kind: Counts, Better: -1, EndToEnd: true},
	{Metric: Throughput, Words: "rate", Unit: "bit/s", Per: 1, Kind: Rates, Better: 1, EndToEnd: true, AtInterface: true, Ratio: true},
	{Metric: MOS, Words: "MOS", Unit: "mos", Per: 1, Kind: Scores, Blame: TooLate, Better: 1, EndToEnd: true, Moment: true},
	{Metric: QueueSize, Words: "queue", Unit: "bytes", Per: 1, Kind: Sizes, Statistic: "max", Blame: Waits, Better: -1, AtInterface: true, Moment: true},
	{Metric: Marking, Words: "mark", Unit: "%", Per: 0.01, Kind: Marks, AtInterface: true},
	{Metric: Arrival, Words: "mark on arrival", Unit: "%", Per: 0.01, Kind: Marks, EndToEnd: true},
	{Metric: Goodput, Words: "goodput", Unit: "bit/s", Per: 1, Kind: Rates, Better: 1, EndToEnd: true, OfTCP: true, Ratio: true},
	{Metric: Retransmissions, Words: "retransmissions", Unit: "%", Per: 0.01, Kind: Parts, Better: -1, EndToEnd: true, OfTCP: true},
	{Metric: RoundTrip, Words: "round trip", Unit: "ms", Per: 1e6, Kind: Times, Statistic: "?", Blame: Waits, Better: -1, EndToEnd: true, OfTCP: true, Moment: true},
	{Metric: Completion, Words: "completion", Unit: "ms", Per: 1e6, Kind: Times, Statistic: "?", Blame: Waits, Better: -1, EndToEnd: true, OfTCP: true},
}

// Metrics returns the rows of all metrics.
func Metrics() []MetricRow { return slices.Clone(metricTable) }

// Row returns the row of a metric, or nil.
func (m Metric) Row() *MetricRow {
	if i := slices.IndexFunc(metricTable, func(r MetricRow) bool { return r.Metric == m }); i >= 0 {
		return &metricTable[i]
	}
	return nil
}

// metricsThat lists the names of the metrics of which something is true.
func metricsThat(is func(*MetricRow) bool) (out []string) {
	for i := range metricTable {
		if is(&metricTable[i]) {
			out = append(out, string(metricTable[i].Metric))
		}
	}
	return out
}

// MetricWords returns the names of the metrics.
func MetricWords() []string { return metricsThat(func(*MetricRow) bool { return true }) }

// limits read the value that an expectation compares with, by what a metric's values are. A mark has none.
var limits = [...]func(string) (float64, error){
	Times: func(s string) (float64, error) {
		d, err := unit.ParseDuration(s)
		return float64(d), err
	},
	Rates: func(s string) (float64, error) {
		if nothing(s, "bit/s", "kbit/s", "Mbit/s", "Gbit/s") {
			return 0, nil
		}
		r, err := unit.ParseRate(s)
		return float64(r), err
	},
	Parts: func(s string) (float64, error) {
		if s == "0" {
			return 0, nil
		}
		p, err := unit.ParsePercent(s)
		return float64(p) / float64(unit.Whole), err
	},
	Counts: func(s string) (float64, error) {
		n, err := strconv.ParseUint(s, 10, 48)
		if err != nil {
			return 0, fmt.Errorf("%.40q is not a number of packets", s)
		}
		return float64(n), nil
	},
	Sizes: func(s string) (float64, error) {
		if nothing(s, "B", "kB", "MB", "KiB", "MiB") {
			return 0, nil
		}
		b, err := unit.ParseSize(s)
		return float64(b), err
	},
	Scores: func(s string) (float64, error) {
		v, err := unit.ParseDecimal(s)
		if err != nil || !(v >= 1 && v <= 5) {
			return 0, fmt.Errorf("%.40q is not a MOS: it is a number from 1 to 5", s)
		}
		return v, nil
	},
}

// nothing reports whether a text is zero, which no unit of the file reaches: alone, or
// with one of the units.
func nothing(s string, units ...string) bool {
	unit := strings.TrimLeft(s, "0")
	return unit != s && (unit == "" || slices.Contains(units, unit))
}
