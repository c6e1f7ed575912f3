package render

import (
	"fmt"
	"io"
	"strconv"
	"strings"

	"imbrel.example/imbrel/core/gate"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/internal/live"
)

// An exposition is text in the format of OpenMetrics 1.0, in the making.
type exposition struct {
	strings.Builder
	results []*measure.Result
}

// family begins a family of metrics.
func (e *exposition) family(name, kind, unit, help string) {
	fmt.Fprintf(e, "# TYPE %s %s\n", name, kind)
	if unit != "" {
		fmt.Fprintf(e, "# UNIT %s %s\n", name, unit)
	}
	fmt.Fprintf(e, "# HELP %s %s\n", name, help)
}

// sample writes one value.
func (e *exposition) sample(name, labels string, value float64) {
	if labels != "" {
		labels = "{" + labels + "}"
	}
	fmt.Fprintf(e, "%s%s %s\n", name, labels, strconv.FormatFloat(value, 'g', -1, 64))
}

// bounds are the upper bounds of the buckets of a histogram of times, in seconds.
var bounds = []float64{0.0005, 0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1, 2, 5}

// histogram writes a distribution of times; one that is not kept has its count alone in no bucket, so it is left out.
func (e *exposition) histogram(name, labels string, m *measure.Milliseconds) {
	if m == nil {
		return
	}
	count, sum, upTo := m.Histogram(bounds)
	if count == 0 {
		return
	}
	for i, n := range upTo {
		e.sample(name+"_bucket", fmt.Sprintf("%s,le=\"%s\"", labels, strconv.FormatFloat(bounds[i], 'g', -1, 64)), float64(n))
	}
	e.sample(name+"_bucket", labels+`,le="+Inf"`, float64(count))
	e.sample(name+"_count", labels, float64(count))
	e.sample(name+"_sum", labels, sum)
}

// run is the labels that tell a run from others; "" at a gate.
func (e *exposition) run(r *measure.Result) string {
	if r.Rehearsal == "" || r.Seed == 0 && r.FileHash == "" {
		return ""
	}
	return fmt.Sprintf("rehearsal=%s,policies=\"%s\",seed=\"%d\"", label(r.Rehearsal), map[bool]string{true: "with", false: "without"}[r.Policy], r.Seed)
}

// join joins labels.
func join(labels ...string) string {
	var out []string
	for _, l := range labels {
		if l != "" {
			out = append(out, l)
		}
	}
	return strings.Join(out, ",")
}

// classes calls for each class of each interface of each run.
func (e *exposition) classes(value func(c *measure.Class, labels string)) {
	for _, r := range e.results {
		for i := range r.Interfaces {
			f := &r.Interfaces[i]
			for j := range f.Classes {
				c := &f.Classes[j]
				value(c, join(e.run(r), fmt.Sprintf("node=%s,interface=%s,direction=%s,class=%s", label(f.Node), label(f.Interface), label(f.Direction), label(c.Class))))
			}
		}
	}
}

// OpenMetrics writes figures in the text format of OpenMetrics 1.0: those of rehearsals, or of a gate, which is nil where there is
// none.
func OpenMetrics(w io.Writer, version string, results []*measure.Result, gate *live.Report) error {
	e := &exposition{results: results}
	if gate != nil {
		e.results = []*measure.Result{gate.Result}
	}
	e.family("imbrel_build", "info", "", "The program.")
	e.sample("imbrel_build_info", "version="+label(version), 1)
	e.interfaces()
	if gate != nil {
		e.gate(gate)
	}
	e.judged()
	e.endToEnd()
	e.WriteString("# EOF\n")
	_, err := io.WriteString(w, e.String())
	return err
}

// interfaces writes what interfaces did with each class.
func (e *exposition) interfaces() {
	for _, f := range []struct {
		name, kind, unit, help string
		value                  func(c *measure.Class) (float64, bool)
	}{
		{"imbrel_offered_bytes", "counter", "bytes", "Bytes that came to a class, as its interface counts.", func(c *measure.Class) (float64, bool) { return float64(c.OfferedBytes), true }},
		{"imbrel_sent_bytes", "counter", "bytes", "Bytes of a class that left, as its interface counts.", func(c *measure.Class) (float64, bool) { return float64(c.SentBytes), true }},
		{"imbrel_sent_packets", "counter", "packets", "Packets of a class that left.", func(c *measure.Class) (float64, bool) { return float64(c.SentPackets), true }},
		{"imbrel_offered_bits_per_second", "gauge", "bits_per_second", "The mean rate at which packets of a class came.", func(c *measure.Class) (float64, bool) { return float64(c.OfferedBps), true }},
		{"imbrel_sent_bits_per_second", "gauge", "bits_per_second", "The mean rate at which packets of a class left.", func(c *measure.Class) (float64, bool) { return float64(c.SentBps), true }},
		{"imbrel_promised_bits_per_second", "gauge", "bits_per_second", "The rate that a class is promised.", func(c *measure.Class) (float64, bool) {
			if c.PromisedBps == nil {
				return 0, false
			}
			return float64(*c.PromisedBps), true
		}},
		{"imbrel_longest_queue_bytes", "gauge", "bytes", "The most bytes of a class that waited at a time.", func(c *measure.Class) (float64, bool) { return float64(c.MaxQueueBytes), true }},
	} {
		e.family(f.name, f.kind, f.unit, f.help)
		total := map[string]string{"counter": "_total"}[f.kind]
		e.classes(func(c *measure.Class, labels string) {
			if v, ok := f.value(c); ok {
				e.sample(f.name+total, labels, v)
			}
		})
	}
	e.family("imbrel_limit_bits_per_second", "gauge", "bits_per_second", "The rate of a limit of a class.")
	e.classes(func(c *measure.Class, labels string) {
		for _, f := range c.Fullness {
			e.sample("imbrel_limit_bits_per_second", join(labels, "limit="+label(f.Limit)), float64(f.RateBps))
		}
	})
	e.family("imbrel_dropped_packets", "counter", "packets", "Packets of a class that were dropped, by reason.")
	e.classes(func(c *measure.Class, labels string) {
		for _, d := range c.Drops.Reasons() {
			e.sample("imbrel_dropped_packets_total", join(labels, `reason="`+d.Reason+`"`), float64(d.Packets))
		}
	})
	e.family("imbrel_wait_seconds", "histogram", "seconds", "How long packets of a class waited.")
	e.classes(func(c *measure.Class, labels string) { e.histogram("imbrel_wait_seconds", labels, c.QueueDelay) })
}

// gate writes what a gate counts besides.
func (e *exposition) gate(r *live.Report) {
	e.family("imbrel_port_frames", "counter", "frames", "Frames at the machine's interfaces.")
	for _, p := range r.Ports {
		for _, n := range []struct {
			what  string
			count uint64
		}{{"received", p.Received}, {"sent", p.Sent}, {"refused", p.Refused}, {"lost", p.Lost}, {"missed", p.Missed}} {
			e.sample("imbrel_port_frames_total", fmt.Sprintf("port=%s,device=%s,what=\"%s\"", label(p.Port), label(p.Device), n.what), float64(n.count))
		}
	}
	e.family("imbrel_beside_frames", "counter", "frames", "Frames that something happened to beside the classes.")
	for i := range gate.Fates {
		e.sample("imbrel_beside_frames_total", "what="+label(gate.Fates[i].Name), float64(gate.Fates[i].Of(&r.Gate)))
	}
	e.family("imbrel_reloads", "counter", "", "How often the file was read again.")
	e.sample("imbrel_reloads_total", "", float64(r.Gate.Reloads))
}

// judged writes the verdict, and each expectation.
func (e *exposition) judged() {
	value := func(yes bool) float64 {
		if yes {
			return 1
		}
		return 0
	}
	e.family("imbrel_verdict", "gauge", "", "1: all expectations hold. 0: one fails. Nothing: nothing was expected.")
	for _, r := range e.results {
		if r.Verdict == "pass" || r.Verdict == "fail" {
			e.sample("imbrel_verdict", e.run(r), value(r.Verdict == "pass"))
		}
	}
	e.family("imbrel_warnings", "gauge", "", "What a verdict does not cover.")
	for _, r := range e.results {
		e.sample("imbrel_warnings", e.run(r), float64(r.WarningCount()))
	}
	for _, f := range []struct {
		name, help string
		value      func(o *measure.Outcome) (float64, bool)
	}{
		{"imbrel_expectation_holds", "Whether an expectation holds.", func(o *measure.Outcome) (float64, bool) { return value(o.Holds), true }},
		{"imbrel_expectation_limit", "What an expectation is compared with, in its unit.", func(o *measure.Outcome) (float64, bool) { return o.Limit, true }},
		{"imbrel_expectation_measured", "What was measured of an expectation over the whole time, in its unit.", func(o *measure.Outcome) (float64, bool) {
			v := o.OverTheWhole()
			if v == nil {
				return 0, false
			}
			return *v, true
		}},
	} {
		e.family(f.name, "gauge", "", f.help)
		for _, r := range e.results {
			for i := range r.Expectations {
				o := &r.Expectations[i]
				if v, ok := f.value(o); ok {
					e.sample(f.name, join(e.run(r), fmt.Sprintf("expectation=%s,expects_in=%s", label(o.Text), label(o.Unit))), v)
				}
			}
		}
	}
}

// endToEnd writes what the packets of each class met on their whole way.
func (e *exposition) endToEnd() {
	for _, f := range []struct {
		name, unit, help string
		value            func(m *measure.TrafficFigures) (float64, bool)
	}{
		{"imbrel_delivered_bits_per_second", "bits_per_second", "The rate of IP bytes of a class that arrived.", func(m *measure.TrafficFigures) (float64, bool) { return float64(m.RateBps), true }},
		{"imbrel_loss_ratio", "ratio", "The part of a class's packets that did not arrive.", func(m *measure.TrafficFigures) (float64, bool) { return m.Loss, true }},
		{"imbrel_worst_call_mos", "", "The mean opinion score of the worst call of a class.", func(m *measure.TrafficFigures) (float64, bool) {
			if m.MOS == nil {
				return 0, false
			}
			return *m.MOS, true
		}},
	} {
		e.family(f.name, "gauge", f.unit, f.help)
		for _, r := range e.results {
			for i := range r.Classes {
				if v, ok := f.value(&r.Classes[i].TrafficFigures); ok {
					e.sample(f.name, join(e.run(r), "class="+label(r.Classes[i].Class)), v)
				}
			}
		}
	}
	e.family("imbrel_delay_seconds", "histogram", "seconds", "How long packets of a class took from end to end.")
	for _, r := range e.results {
		for i := range r.Classes {
			e.histogram("imbrel_delay_seconds", join(e.run(r), "class="+label(r.Classes[i].Class)), r.Classes[i].Delay)
		}
	}
}

// label quotes a label's value.
func label(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`).Replace(s) + `"`
}
