package measure

import "imbrel.example/imbrel/core/policy"

// A TrafficMetric is one figure of TrafficFigures, and the change that counts: more than the step, and more than the part of what it was.
type TrafficMetric struct {
	Name   string // for people, and in JSON
	Metric *policy.MetricRow
	Step   float64 // in the unit of the metric
	Part   float64
	Better int                              // 1: more is better; -1: less is; 0: neither
	Of     func(m *TrafficFigures) *float64 // nil: there is none
}

// TrafficMetrics returns all of them, the most telling first.
func TrafficMetrics() []TrafficMetric {
	some := func(v float64) *float64 { return &v }
	times := func(d *Milliseconds, of func(d *Milliseconds) float64) *float64 {
		if d == nil {
			return nil
		}
		return some(of(d))
	}
	p50, p95, p99 := func(d *Milliseconds) float64 { return d.P50 }, func(d *Milliseconds) float64 { return d.P95 }, func(d *Milliseconds) float64 { return d.P99 }
	flows := func(of func(m *TCPFigures) *float64) func(m *TrafficFigures) *float64 {
		return func(m *TrafficFigures) *float64 {
			if m.TCP == nil {
				return nil
			}
			return of(m.TCP)
		}
	}
	rows := []struct {
		metric    policy.Metric
		statistic string
		of        func(m *TrafficFigures) *float64
	}{
		{policy.Loss, "", func(m *TrafficFigures) *float64 {
			if m.OverTCP { // it is how TCP finds its rate, and retransmitted
				return nil
			}
			return some(100 * m.Loss)
		}},
		{policy.Late, "", func(m *TrafficFigures) *float64 {
			if m.Late == nil {
				return nil
			}
			return some(100 * *m.Late)
		}},
		{policy.MOS, "", func(m *TrafficFigures) *float64 { return m.MOS }},
		{policy.Delay, "p99", func(m *TrafficFigures) *float64 { return times(m.Delay, p99) }},
		{policy.Delay, "p50", func(m *TrafficFigures) *float64 { return times(m.Delay, p50) }},
		{policy.Jitter, "", func(m *TrafficFigures) *float64 { return some(m.JitterMs) }},
		{policy.Throughput, "", func(m *TrafficFigures) *float64 { return some(float64(m.RateBps)) }},
		{policy.Goodput, "", flows(func(m *TCPFigures) *float64 { return some(float64(m.GoodputBps)) })},
		{policy.Retransmissions, "", flows(func(m *TCPFigures) *float64 { return some(100 * m.Retransmissions) })},
		{policy.RoundTrip, "p99", flows(func(m *TCPFigures) *float64 { return times(m.RTT, p99) })},
		{policy.Completion, "p95", flows(func(m *TCPFigures) *float64 { return times(m.Completion, p95) })},
	}
	// The change that counts, by what the values are.
	counts := map[policy.MetricKind][2]float64{policy.Times: {1, 0.05}, policy.Parts: {0.1, 0.05}, policy.Scores: {0.05, 0}, policy.Rates: {1000, 0.02}}
	var out []TrafficMetric
	for _, r := range rows {
		row := r.metric.Row()
		name := row.Words
		if r.statistic != "" {
			name += " " + r.statistic
		}
		out = append(out, TrafficMetric{Name: name, Metric: row, Step: counts[row.Kind][0], Part: counts[row.Kind][1], Better: row.Better, Of: r.of})
	}
	rate := policy.Throughput.Row()
	return append(out, TrafficMetric{Name: "offered", Metric: rate, Step: 1000, Part: 0.02, Of: func(m *TrafficFigures) *float64 { return some(float64(m.OfferedBps)) }})
}
