package repeat

import "imbrel.example/imbrel/core/measure"

// A Metric is a figure of what packets met, and what counts as moved: more than the step,
// and more than the part of what it was.
type Metric struct {
	Name, Unit string
	Step, Part float64
	Better     int // 1: more is better; -1: less is; 0: it is neither
	Of         func(m *measure.TrafficFigures) *float64
}

// Metrics returns the figures of what packets met.
func Metrics() []Metric {
	some := func(v float64) *float64 { return &v }
	delay := func(of func(d *measure.Milliseconds) float64) func(m *measure.TrafficFigures) *float64 {
		return func(m *measure.TrafficFigures) *float64 {
			if m.Delay == nil {
				return nil
			}
			return some(of(m.Delay))
		}
	}
	flows := func(of func(m *measure.TCPFigures) *float64) func(m *measure.TrafficFigures) *float64 {
		return func(m *measure.TrafficFigures) *float64 {
			if m.TCP == nil {
				return nil
			}
			return of(m.TCP)
		}
	}
	return []Metric{
		{"loss", "%", 0.1, 0.05, -1, func(m *measure.TrafficFigures) *float64 {
			if m.OverTCP { // it is how TCP finds its rate, and sent again
				return nil
			}
			return some(100 * m.Loss)
		}},
		{"late", "%", 0.1, 0.05, -1, func(m *measure.TrafficFigures) *float64 {
			if m.Late == nil {
				return nil
			}
			return some(100 * *m.Late)
		}},
		{"MOS", "mos", 0.05, 0, 1, func(m *measure.TrafficFigures) *float64 { return m.MOS }},
		{"delay p99", "ms", 1, 0.05, -1, delay(func(d *measure.Milliseconds) float64 { return d.P99 })},
		{"delay p50", "ms", 1, 0.05, -1, delay(func(d *measure.Milliseconds) float64 { return d.P50 })},
		{"jitter", "ms", 1, 0.05, -1, func(m *measure.TrafficFigures) *float64 { return some(m.JitterMs) }},
		{"rate", "bit/s", 1000, 0.02, 1, func(m *measure.TrafficFigures) *float64 { return some(float64(m.RateBps)) }},
		{"goodput", "bit/s", 1000, 0.02, 1, flows(func(m *measure.TCPFigures) *float64 { return some(float64(m.GoodputBps)) })},
		{"sent again", "%", 0.1, 0.05, -1, flows(func(m *measure.TCPFigures) *float64 { return some(100 * m.Retransmissions) })},
		{"round trip p99", "ms", 1, 0.05, -1, flows(func(m *measure.TCPFigures) *float64 {
			if m.RTT == nil {
				return nil
			}
			return some(m.RTT.P99)
		})},
		{"completion p95", "ms", 1, 0.05, -1, flows(func(m *measure.TCPFigures) *float64 {
			if m.Completion == nil {
				return nil
			}
			return some(m.Completion.P95)
		})},
		{"offered", "bit/s", 1000, 0.02, 0, func(m *measure.TrafficFigures) *float64 { return some(float64(m.OfferedBps)) }},
	}
}

// RowsLike returns what the packets of a row met in each of several runs of one rehearsal;
// those that lack the row are left out.
func RowsLike(row *measure.Row, runs []*measure.Result) []*measure.TrafficFigures {
	var out []*measure.TrafficFigures
	for _, r := range runs {
		for i := range r.Traffic {
			if o := &r.Traffic[i]; o.Name == row.Name && o.Direction == row.Direction && o.Class == row.Class {
				out = append(out, &o.TrafficFigures)
				break
			}
		}
	}
	return out
}

// ClassLike does the same of a class.
func ClassLike(class string, runs []*measure.Result) []*measure.TrafficFigures {
	var out []*measure.TrafficFigures
	for _, r := range runs {
		for i := range r.Classes {
			if o := &r.Classes[i]; o.Class == class {
				out = append(out, &o.TrafficFigures)
				break
			}
		}
	}
	return out
}
