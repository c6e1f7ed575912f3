// Package repeat says what several runs of one rehearsal, with different seeds, come to: in
// how many each expectation holds, and each figure with the interval that its mean is in.
package repeat

import (
	"cmp"
	"math"
	"slices"

	"imbrel.example/imbrel/core/measure"
)

// A Summary is what the runs of one rehearsal come to.
type Summary struct {
	Rehearsal    string   `json:"rehearsal"`
	Policy       bool     `json:"policy"`
	Repeats      int      `json:"repeats"`
	Seeds        []uint64 `json:"seeds"`
	Verdict      string   `json:"verdict"` // "pass": each expectation holds in each run
	Expectations []Held   `json:"expectations"`
	Figures      []Figure `json:"figures"`
	// Pooled are the percentiles of the packets of all runs together, where each run has its
	// distributions.
	Pooled     []Pool `json:"pooled,omitempty"`
	Incomplete bool   `json:"incomplete,omitempty"` // interrupted: of the runs that were done
}

// Held is in how many runs an expectation holds, and what was measured.
type Held struct {
	Text     string    `json:"text"`
	Holds    int       `json:"holds"`
	Runs     int       `json:"runs"`
	Measured *Interval `json:"measured"` // nil: nothing to measure
	Unit     string    `json:"unit"`
	Fails    *uint64   `json:"fails,omitempty"` // the first seed with which it does not
	// FailsIn are the phases of events in which it fails, in runs where it holds over the whole time.
	FailsIn []string `json:"fails_in,omitempty"`
}

// A Figure is a figure of a traffic or a class.
type Figure struct {
	Subject
	Metric string `json:"metric"`
	Unit   string `json:"unit"`
	Interval
}

// A Pool is one distribution of all runs.
type Pool struct {
	Subject
	Metric     string                `json:"metric"` // delay, rtt or completion
	Resolution float64               `json:"resolution"`
	Packets    int64                 `json:"count"`
	Ms         *measure.Milliseconds `json:"ms"`
}

// An Interval is the mean of a figure over runs, and the bounds between which the mean of
// all runs there could be is, in 95 of 100 cases (Student's t of the mean); the bounds are
// the mean where there is one run.
type Interval struct {
	Runs int     `json:"runs"` // that have the figure
	Mean float64 `json:"mean"`
	Low  float64 `json:"low"`
	High float64 `json:"high"`
	Min  float64 `json:"least"`
	Max  float64 `json:"most"`
}

// IntervalOf returns the interval of values; there is at least one.
func IntervalOf(values []float64) Interval {
	mean, variance := Moments(values)
	half := 0.0
	if n := len(values); n > 1 {
		half = T95(n-1) * math.Sqrt(variance/float64(n))
	}
	least, most := slices.Min(values), slices.Max(values)
	return Interval{len(values), min(max(rounded(mean), least), most), rounded(mean - half), rounded(mean + half), least, most}
}

// rounded keeps nine digits, so that the order of a sum does not show.
func rounded(v float64) float64 {
	if v == 0 {
		return 0
	}
	scale := math.Pow(10, 9-math.Ceil(math.Log10(math.Abs(v))))
	return math.Round(v*scale) / scale
}

// Moments returns the mean and the variance of a sample (with n-1; 0 of one value).
func Moments(values []float64) (mean, variance float64) {
	for _, v := range values {
		mean += v / float64(len(values))
	}
	for _, v := range values {
		variance += (v - mean) * (v - mean)
	}
	return mean, variance / float64(max(1, len(values)-1))
}

// t95 are the 97.5 % points of Student's t by the degrees of freedom, from 1.
var t95 = [...]float64{12.706, 4.303, 3.182, 2.776, 2.571, 2.447, 2.365, 2.306, 2.262, 2.228, 2.201, 2.179, 2.160, 2.145, 2.131, 2.120, 2.110, 2.101, 2.093, 2.086,
	2.080, 2.074, 2.069, 2.064, 2.060, 2.056, 2.052, 2.048, 2.045, 2.042}

// T95 returns the 97.5 % point of Student's t: beyond the table by the first terms of its
// expansion around the normal's (Abramowitz and Stegun 26.7.5).
func T95(freedom int) float64 {
	if freedom <= len(t95) {
		return t95[freedom-1]
	}
	const z = 1.959964
	n := float64(freedom)
	return z + (z*z*z+z)/(4*n) + (5*math.Pow(z, 5)+16*z*z*z+3*z)/(96*n*n)
}

// Sort puts runs in the order in which one command would have made them: by seed, where the
// rehearsals and the runs without policies alternate as they do at first.
func Sort(runs []*measure.Result) {
	kinds := make(map[kind]int)
	for _, r := range runs {
		if _, known := kinds[kindOf(r)]; !known {
			kinds[kindOf(r)] = len(kinds)
		}
	}
	slices.SortStableFunc(runs, func(a, b *measure.Result) int {
		return cmp.Or(cmp.Compare(kinds[kindOf(a)], kinds[kindOf(b)]), cmp.Compare(a.Seed, b.Seed))
	})
}

// A kind is what runs have in common that are repeats of each other.
type kind struct {
	rehearsal string
	policy    bool
}

func kindOf(r *measure.Result) kind { return kind{r.Rehearsal, r.Policy} }

// Groups returns the runs that are repeats of each other, in the order of the first of each.
func Groups(runs []*measure.Result) [][]*measure.Result {
	var out [][]*measure.Result
	known := make(map[kind]int)
	for _, r := range runs {
		i, met := known[kindOf(r)]
		if !met {
			i = len(out)
			known[kindOf(r)] = i
			out = append(out, nil)
		}
		out[i] = append(out[i], r)
	}
	return out
}

// Of returns what runs of one rehearsal come to; there is at least one.
func Of(runs []*measure.Result) *Summary {
	first := runs[0]
	s := &Summary{Rehearsal: first.Rehearsal, Policy: first.Policy, Repeats: len(runs), Verdict: first.Verdict, Expectations: []Held{}, Figures: []Figure{}}
	for _, r := range runs {
		s.Seeds = append(s.Seeds, r.Seed)
		if r.Verdict == "fail" {
			s.Verdict = "fail"
		}
	}
	for i := range first.Expectations {
		h := Held{Text: first.Expectations[i].Text, Unit: first.Expectations[i].Unit}
		var values []float64
		for _, r := range runs {
			if i >= len(r.Expectations) || r.Expectations[i].Text != h.Text {
				continue
			}
			o := &r.Expectations[i]
			if h.Runs++; o.Holds {
				h.Holds++
			} else if h.Fails == nil {
				seed := r.Seed
				h.Fails = &seed
			}
			if v := o.OverTheWhole(); v != nil {
				values = append(values, *v)
			}
			if o.Phase != "" && !slices.Contains(h.FailsIn, o.Phase) {
				h.FailsIn = append(h.FailsIn, o.Phase)
			}
		}
		if len(values) > 0 {
			v := IntervalOf(values)
			h.Measured = &v
		}
		s.Expectations = append(s.Expectations, h)
	}
	for _, subject := range Subjects(runs) {
		met := subject.Runs
		for _, m := range measure.TrafficMetrics() {
			var values []float64
			for _, one := range met {
				if v := m.Of(one); v != nil {
					values = append(values, *v)
				}
			}
			if len(values) > 0 {
				s.Figures = append(s.Figures, Figure{subject.Subject, m.Name, m.Metric.Unit, IntervalOf(values)})
			}
		}
		for _, k := range []struct {
			metric string
			of     func(m *measure.TrafficFigures) *measure.Milliseconds
		}{{"delay", func(m *measure.TrafficFigures) *measure.Milliseconds { return m.Delay }}, {"rtt", roundTrip}, {"completion", completion}} {
			var all measure.Distribution
			for _, m := range met {
				if one := k.of(m); one != nil && one.Distribution != nil {
					all.Merge(one.Distribution)
				}
			}
			if all.Count() > 0 {
				s.Pooled = append(s.Pooled, Pool{subject.Subject, k.metric, measure.Resolution, all.Count(), all.Summary()})
			}
		}
	}
	return s
}

func roundTrip(m *measure.TrafficFigures) *measure.Milliseconds {
	if m.TCP == nil {
		return nil
	}
	return m.TCP.RTT
}

func completion(m *measure.TrafficFigures) *measure.Milliseconds {
	if m.TCP == nil {
		return nil
	}
	return m.TCP.Completion
}
