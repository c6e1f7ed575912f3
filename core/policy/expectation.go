package policy

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/unit"
)

// An Expectation is one line such as "voice delay p99 <= 25ms": a class or a
// traffic, a metric, perhaps a statistic, an interface and a time, and a bound.
type Expectation struct {
	Text      string
	At        Place
	Subject   string // a class, a nested class by its path, or a traffic
	Versus    string // with Metric's ratio to that of Subject; "": the metric itself
	Metric    Metric
	Statistic string // "mean", "p50", "p95", "p99", "p99.9", "max", or """ for the metric's own
	WhereName string // "node/interface", or "" for end to end
	Where     *Interface
	Direction Direction
	From, To  time.Duration // packets sent from then until then; To 0: all
	Phase     Phase         // of the event EventName, which From and To are the time of; "": of none
	EventName string
	Operator  string  // <=, >=, <, >, =; ".." is from Limit to Max
	Limit     float64 // of a rate OfPromise, a ratio of the promise at Where; of marks, 1: all packets
	Max       float64
	OfPromise bool
	DSCP      codepoint.DSCP // of Marking and Arrival
}

// Proven is the statistic of the largest value that is possible, which is proven and not measured.
const Proven = "bound"

// IsOf reports whether an entry's name is the class that an expectation names: its own at
// any level, or with those around it; `rest` is that of the top level.
func IsOf(entry, subject string) bool {
	return entry == subject || subject != Rest && !strings.Contains(subject, "/") && strings.HasSuffix(entry, "/"+subject)
}

// IsWithin reports whether an entry, by its name with those around it, or one of those is of a subject.
func IsWithin(entry, subject string) bool {
	for ; entry != ""; entry = entry[:max(0, strings.LastIndexByte(entry, '/'))] {
		if IsOf(entry, subject) {
			return true
		}
	}
	return false
}

// Subjects returns the names that the expectation is about.
func (e *Expectation) Subjects() []string {
	if e.Versus != "" {
		return []string{e.Subject, e.Versus}
	}
	return []string{e.Subject}
}

// Windowed reports whether the expectation is about a part of the time.
func (e *Expectation) Windowed() bool { return e.To > 0 }

// Within returns the expectation of packets that are sent from one time until another.
func (e *Expectation) Within(from, to time.Duration) *Expectation {
	part := *e
	part.From, part.To = from, to
	return &part
}

var (
	statistics = []string{"mean", "p50", "p95", "p99", "p99.9", "max"}
	operators  = []string{"<=", ">=", "<", ">", "="}
)

// ExpectationForm says what an expectation looks like, to go after "expected".
const ExpectationForm = "an expectation: SUBJECT METRIC [STATISTIC] OPERATOR VALUE [at NODE/INTERFACE in|out] [from TIME to TIME, or before|during|after EVENT], as in `voice delay p99 <= 25ms`; " +
	"or `SUBJECT arrive as DSCP`, or `SUBJECT : SUBJECT METRIC ratio A..B`"

// words are the words of an expectation that are still to be read.
type words []string

func (w *words) next() string {
	if len(*w) == 0 {
		return ""
	}
	first := (*w)[0]
	*w = (*w)[1:]
	return first
}

func (w *words) follows(word string) bool {
	if len(*w) > 0 && (*w)[0] == word {
		*w = (*w)[1:]
		return true
	}
	return false
}

// ParseExpectation reads one line. Names are not looked up.
func ParseExpectation(s string) (Expectation, error) {
	e := Expectation{Text: s}
	w := words(strings.Fields(s))
	if e.Subject = w.next(); e.Subject == "" {
		return e, fmt.Errorf("it is empty")
	}
	if w.follows(":") {
		if e.Versus = w.next(); e.Versus == "" {
			return e, fmt.Errorf("after `%s :` comes what it is compared with", e.Subject)
		}
	}
	m := w.next()
	if m == "arrives" {
		m = "arrive"
	}
	if Metric(m).Row() == nil {
		return e, fmt.Errorf("%.40q is not a metric; %sit is one of %s", m, DidYouMean(m, MetricWords()), OrList(MetricWords()))
	}
	e.Metric = Metric(m)
	if err := e.clauses(&w); err != nil {
		return e, err
	}
	var err error
	switch {
	case e.Versus != "":
		err = e.ratio(&w)
	case e.Metric == Arrival:
		err = e.arrival(&w)
	default:
		err = e.bound(&w)
	}
	if err == nil {
		err = e.fits()
	}
	if err != nil {
		e.Operator = ""
	}
	return e, err
}

// clauses takes `at NODE/INTERFACE in|out` and `from TIME to TIME` out of the words,
// wherever they stand.
func (e *Expectation) clauses(w *words) error {
	var left words
	for len(*w) > 0 {
		switch {
		case w.follows("at"):
			e.WhereName = w.next()
			switch d := w.next(); d {
			case "in":
				e.Direction = In
			case "out":
				e.Direction = Out
			default:
				return fmt.Errorf("after `at %s` comes a direction, in or out, not %.40q", e.WhereName, d)
			}
		case len(*w) > 0 && slices.Contains(Phases(), Phase((*w)[0])):
			e.Phase = Phase(w.next())
			if e.EventName = strings.Join(*w, " "); e.EventName == "" {
				return fmt.Errorf("after `%s` comes the name of an event", e.Phase)
			}
			*w = nil
		case w.follows("from"):
			from, to := w.next(), ""
			if !w.follows("to") {
				return fmt.Errorf("after `from %s` comes `to` and a time, as in from 5s to 10s", from)
			}
			to = w.next()
			var err error
			if from != "0" && from != "0s" {
				if e.From, err = unit.ParseDuration(from); err != nil {
					return err
				}
			}
			if e.To, err = unit.ParseDuration(to); err != nil {
				return err
			}
			if e.To <= e.From {
				return fmt.Errorf("from %s to %s is no time: the second is to be later", from, to)
			}
		default:
			left = append(left, w.next())
		}
	}
	*w = left
	return nil
}

// bound reads a statistic, a comparison and a value.
func (e *Expectation) bound(w *words) error {
	if len(*w) > 0 && slices.Contains(statistics, (*w)[0]) {
		e.Statistic = w.next()
	}
	row := e.Metric.Row()
	switch {
	case w.follows(Proven):
		if !row.Bound {
			return fmt.Errorf("%s has no bound that can be proven: there is one of %s", e.Metric, OrList(metricsThat(func(r *MetricRow) bool { return r.Bound })))
		}
		e.Statistic = Proven
	case e.Statistic == "" && row.Statistic == "?":
		return fmt.Errorf("a %s needs one of %s after it", row.Words, OrList(append(slices.Clone(statistics), Proven)))
	case e.Statistic != "" && row.Statistic != "?" && row.Statistic != "-" && e.Statistic != row.Statistic:
		return fmt.Errorf("%s has no %s: it is one number", e.Metric, e.Statistic)
	case row.Statistic == "max":
		e.Statistic = row.Statistic
	}
	e.Operator = w.next()
	if !slices.Contains(operators, e.Operator) {
		return fmt.Errorf("%.40q is not a comparison; it is one of %s, with a space on both sides", e.Operator, OrList(operators))
	}
	if row.Kind == Marks {
		if e.Operator != "=" {
			return fmt.Errorf("a mark is compared with =, as in %s mark = ef", e.Subject)
		}
		var err error
		e.Limit = 1
		e.DSCP, err = codepoint.ParseDSCP(strings.Join(*w, ""))
		return err
	}
	value := strings.Join(*w, "")
	if share, ok := strings.CutSuffix(value, "ofpromise"); ok && e.Metric == Throughput {
		p, err := unit.ParsePercent(share)
		e.OfPromise, e.Limit = true, float64(p)/float64(unit.Whole)
		return err
	}
	var err error
	e.Limit, err = limits[row.Kind](value)
	return err
}

// arrival reads what follows `arrive`.
func (e *Expectation) arrival(w *words) error {
	if !w.follows("as") {
		return fmt.Errorf("after `%s arrive` comes `as` and a DSCP, as in %s arrive as ef", e.Subject, e.Subject)
	}
	e.Operator, e.Limit = "=", 1
	var err error
	e.DSCP, err = codepoint.ParseDSCP(strings.Join(*w, ""))
	return err
}

// ratio reads what follows the metric of a comparison of two.
func (e *Expectation) ratio(w *words) error {
	row := e.Metric.Row()
	if !row.Ratio {
		return fmt.Errorf("there is no ratio of %s: there is one of %s", e.Metric, OrList(metricsThat(func(r *MetricRow) bool { return r.Ratio })))
	}
	if row.Statistic == "?" {
		if e.Statistic = w.next(); !slices.Contains(statistics, e.Statistic) {
			return fmt.Errorf("a %s needs one of %s after it", row.Words, OrList(statistics))
		}
	}
	if !w.follows("ratio") {
		return fmt.Errorf("two classes are compared by a ratio, as in %s : %s rate ratio 2.8..3.2", e.Subject, e.Versus)
	}
	least, most, ok := strings.Cut(strings.Join(*w, ""), "..")
	a, err1 := unit.ParseDecimal(least)
	b, err2 := unit.ParseDecimal(most)
	if !ok || err1 != nil || err2 != nil || b < a || math.IsInf(b, 1) {
		return fmt.Errorf("%.40q is not a range of ratios: write the least and the most, as in 2.8..3.2", strings.Join(*w, " "))
	}
	e.Operator, e.Limit, e.Max = "..", a, b
	return nil
}

// fits reports an expectation whose parts do not go together.
func (e *Expectation) fits() error {
	row := e.Metric.Row()
	switch {
	case e.Statistic == Proven && (e.Windowed() || e.Phase != ""):
		return fmt.Errorf("a bound holds at all times: leave the time out")
	case e.Statistic == Proven && !e.AtMost() && e.Operator != "=":
		return fmt.Errorf("a bound is compared with <=, < or =, as in %s %s bound <= 20ms", e.Subject, e.Metric)
	case e.WhereName != "" && !row.AtInterface:
		return fmt.Errorf("%s is measured end to end, so it has no `at`; at an interface there are %s; a delay there is that in the queue", e.Metric, OrList(metricsThat(func(r *MetricRow) bool { return r.AtInterface })))
	case e.WhereName == "" && e.OfPromise:
		return fmt.Errorf("a promise is made at an interface: add `at NODE/INTERFACE out`")
	case e.WhereName == "" && e.Metric == Marking:
		return fmt.Errorf("a mark is that of packets as they leave an interface: add `at NODE/INTERFACE out`; at the end of the way, write `%s arrive as %s`", e.Subject, e.DSCP.Name())
	case e.WhereName == "" && !row.EndToEnd:
		return fmt.Errorf("a %s is that of an interface: add `at NODE/INTERFACE out`", e.Metric)
	}
	return nil
}

// Holds compares a measured value, in the metric's unit, with the limit.
func (e *Expectation) Holds(measured float64) bool { return e.HoldsFor(measured, 1) }

// HoldsFor does so with a limit that is of a whole: the promise.
func (e *Expectation) HoldsFor(measured, whole float64) bool {
	limit := e.Limit * whole
	switch e.Operator {
	case "<=":
		return measured <= limit
	case ">=":
		return measured >= limit
	case "<":
		return measured < limit
	case ">":
		return measured > limit
	case "..":
		return measured >= limit && measured <= e.Max
	}
	return measured == limit
}

// SameFigure reports whether two expectations are about one figure, whatever its bounds.
func (e *Expectation) SameFigure(o *Expectation) bool {
	bare := func(e Expectation) Expectation {
		e.Text, e.At, e.Where, e.Operator, e.Limit, e.Max = "", Place{}, nil, "", 0, 0
		return e
	}
	return bare(*e) == bare(*o)
}

// Implies reports whether the expectations are about one figure, and each value that meets e meets o.
func (e *Expectation) Implies(o *Expectation) bool {
	low, high := e.allowed()
	least, most := o.allowed()
	return e.SameFigure(o) && low >= least && high <= most
}

// allowed returns the least and the greatest value that hold.
func (e *Expectation) allowed() (low, high float64) {
	low, high = math.Inf(-1), math.Inf(1)
	switch e.Operator {
	case "<=":
		high = e.Limit
	case "<":
		high = math.Nextafter(e.Limit, low)
	case ">=":
		low = e.Limit
	case ">":
		low = math.Nextafter(e.Limit, high)
	case "..":
		low, high = e.Limit, e.Max
	default:
		low, high = e.Limit, e.Limit
	}
	return low, high
}

// AtMost reports whether a lower value is better: that the expectation bounds from
// above.
func (e *Expectation) AtMost() bool { return e.Operator == "<=" || e.Operator == "<" }

// AtLeast reports whether a higher value is better.
func (e *Expectation) AtLeast() bool { return e.Operator == ">=" || e.Operator == ">" }
