package policy

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"imbrel/core/unit"
)

// A Metric is what an expectation is about.
type Metric string

// The metrics, each in the unit that an expectation's Limit is in.
const (
	Delay      Metric = "delay"  // nanoseconds, one-way
	Jitter     Metric = "jitter" // nanoseconds, RFC 3550 §6.4.1
	Loss       Metric = "loss"   // a ratio, 0 to 1
	Drops      Metric = "drops"  // packets
	Throughput Metric = "rate"   // bit/s of IP bytes delivered
	MOS        Metric = "mos"    // 1 to 5
)

// An Expectation is one line such as "voice delay p99 <= 25ms": a class or a
// traffic, a metric, perhaps a statistic and an interface, and a bound.
type Expectation struct {
	Text      string
	At        Place
	Subject   string // a class's or a traffic's name
	Metric    Metric
	Statistic string // "mean", "p50", "p95", "p99", "max", or "" for the metric's own
	WhereName string // "node/interface", or "" for end to end
	Where     *Interface
	Direction Direction
	Operator  string // <=, >=, <, >, =
	Limit     float64
}

var (
	statistics = []string{"mean", "p50", "p95", "p99", "max"}
	metrics    = []string{"delay", "jitter", "loss", "drops", "rate", "mos"}
	operators  = []string{"<=", ">=", "<", ">", "="}
)

// ExpectationForm says what an expectation looks like, to go after "expected".
const ExpectationForm = "an expectation: SUBJECT METRIC [STATISTIC] [at NODE/INTERFACE in|out] OPERATOR VALUE, as in `voice delay p99 <= 25ms`"

// ParseExpectation reads one line. Names are not looked up.
func ParseExpectation(s string) (Expectation, error) {
	e := Expectation{Text: s}
	w := strings.Fields(s)
	next := func() string {
		if len(w) == 0 {
			return ""
		}
		first := w[0]
		w = w[1:]
		return first
	}
	if e.Subject = next(); e.Subject == "" {
		return e, fmt.Errorf("it is empty")
	}
	m := next()
	if !slices.Contains(metrics, m) {
		return e, fmt.Errorf("%q is not a metric; %sit is one of %s", m, DidYouMean(m, metrics), OrList(metrics))
	}
	e.Metric = Metric(m)
	if len(w) > 0 && slices.Contains(statistics, w[0]) {
		e.Statistic = next()
	}
	switch hasStatistic := e.Metric == Delay || e.Metric == Jitter; {
	case e.Statistic == "" && e.Metric == Delay:
		return e, fmt.Errorf("a delay needs one of %s after it", OrList(statistics))
	case e.Statistic != "" && !hasStatistic:
		return e, fmt.Errorf("%s has no %s: it is one number", e.Metric, e.Statistic)
	}
	if len(w) > 0 && w[0] == "at" {
		next()
		e.WhereName = next()
		switch d := next(); d {
		case "in":
			e.Direction = In
		case "out":
			e.Direction = Out
		default:
			return e, fmt.Errorf("after `at %s` comes a direction, in or out, not %q", e.WhereName, d)
		}
		if e.Metric == Jitter || e.Metric == MOS || e.Metric == Loss {
			return e, fmt.Errorf("%s is measured end to end, so it has no `at`; at an interface there are delay (in the queue), drops and rate", e.Metric)
		}
	}
	e.Operator = next()
	if !slices.Contains(operators, e.Operator) {
		return e, fmt.Errorf("%q is not a comparison; it is one of %s, with a space on both sides", e.Operator, OrList(operators))
	}
	var err error
	e.Limit, err = parseLimit(e.Metric, strings.Join(w, ""))
	return e, err
}

// parseLimit reads the value an expectation compares with, in the metric's
// unit.
func parseLimit(m Metric, s string) (float64, error) {
	switch m {
	case Delay, Jitter:
		d, err := unit.ParseDuration(s)
		return float64(d), err
	case Throughput:
		if s == "0" || s == "0bit/s" {
			return 0, nil
		}
		r, err := unit.ParseRate(s)
		return float64(r), err
	case Loss:
		if s == "0" {
			return 0, nil
		}
		p, err := unit.ParsePercent(s)
		return float64(p) / float64(unit.Whole), err
	case Drops:
		n, err := strconv.ParseUint(s, 10, 48)
		if err != nil {
			return 0, fmt.Errorf("%q is not a number of packets", s)
		}
		return float64(n), nil
	}
	v, err := strconv.ParseFloat(s, 64)
	if err != nil || !(v >= 1 && v <= 5) {
		return 0, fmt.Errorf("%q is not a MOS: it is a number from 1 to 5", s)
	}
	return v, nil
}

// Holds compares a measured value, in the metric's unit, with the limit.
func (e *Expectation) Holds(measured float64) bool {
	switch e.Operator {
	case "<=":
		return measured <= e.Limit
	case ">=":
		return measured >= e.Limit
	case "<":
		return measured < e.Limit
	case ">":
		return measured > e.Limit
	}
	return measured == e.Limit
}
