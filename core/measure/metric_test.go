package measure

import (
	"strings"
	"testing"

	"imbrel.example/imbrel/core/policy"
)

// Every metric of the language is measured in one way, can be written as an expectation in each place that its row names, and
// in no other.
func TestEveryMetricIsMeasured(t *testing.T) {
	limits := map[policy.MetricKind]string{policy.Times: "<= 20ms", policy.Parts: "<= 1%", policy.Counts: "<= 3", policy.Rates: ">= 1Mbit/s", policy.Scores: ">= 4", policy.Sizes: "<= 20kB"}
	for _, row := range policy.Metrics() {
		_, packets := packetMeasures[row.Metric]
		_, flows := flowMeasures[row.Metric]
		sums := row.Metric == policy.Drops || row.Metric == policy.Throughput
		ways := 0
		for _, is := range []bool{packets, flows, sums} {
			if is {
				ways++
			}
		}
		if row.EndToEnd != (ways == 1) || ways > 1 || flows != row.OfTCP {
			t.Errorf("%s: end to end %t, of TCP %t, and measured in %d ways", row.Metric, row.EndToEnd, row.OfTCP, ways)
		}
		text := "voice " + string(row.Metric) + " "
		if row.Statistic == "?" {
			text += "p99 "
		}
		text += limits[row.Kind]
		if row.Kind == policy.Marks {
			text = "voice mark = ef"
			if !row.AtInterface {
				text = "voice arrive as ef"
			}
		}
		for where, allowed := range map[string]bool{"": row.EndToEnd, " at a/b out": row.AtInterface} {
			e, err := policy.ParseExpectation(text + where)
			if (err == nil) != allowed || err == nil && e.Metric != row.Metric {
				t.Errorf("%q: %v", text+where, err)
			}
			if err != nil && !strings.Contains(err.Error(), "at") {
				t.Errorf("%q: %v", text+where, err)
			}
		}
	}
	names := make(map[string]bool)
	for _, m := range TrafficMetrics() {
		if names[m.Name] || m.Metric == nil || m.Step == 0 || m.Of(&TrafficFigures{TCP: &TCPFigures{}}) == nil && m.Metric.Kind == policy.Rates {
			t.Errorf("%+v", m)
		}
		names[m.Name] = true
	}
}
