package render

import (
	"fmt"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/words"
	"imbrel.example/imbrel/internal/live"
)

// Gate writes what a gate has done.
func (t Text) Gate(r *live.Report, v *View) {
	t.Title("%s: a gate for %.4g s", r.Title, r.DurationS)
	t.Line("")
	t.interfaces(r.Result, v)
	w := t.grid([]column{{"port", true}, {"device", true}, {"received", false}, {"sent", false}, {"refused", false}, {"lost", false}, {"missed", false}}, nil)
	for _, p := range r.Ports {
		w.add(table.Row{p.Port, p.Device, humanize.Count(p.Received), humanize.Count(p.Sent), humanize.Count(p.Refused), humanize.Count(p.Lost), humanize.Count(p.Missed)})
	}
	t.Title("The machine's interfaces, in frames")
	t.put(w)
	g := &r.Gate
	t.Line("  %s bypassed all classes (ARP, neighbour discovery, not IP)", humanize.Plural(int(g.PassedBy), "frame"))
	for _, n := range []struct {
		count uint64
		why   string
	}{{g.SamePort, "went to a station at the port that they came by"}, {g.Malformed, "had headers that contradict themselves, and passed as they came"}, {g.NoRoom, "found no room: too many waited at all ports together"}, {g.TooLong, "were too long"}} {
		if n.count > 0 {
			t.Line("  %s %s", humanize.Plural(int(n.count), "frame"), n.why)
		}
	}
	for _, p := range r.Ports {
		if p.Missed > 0 {
			t.Line("  %s came to %s faster than the gate read, and are lost", humanize.Plural(int(p.Missed), "frame"), p.Device)
		}
		if p.Giants > 0 {
			t.Line("  %s of several segments could not be sent by %s: turn segmentation offload off at their sender", humanize.Plural(int(p.Giants), "frame"), p.Device)
		}
	}
	t.Line("  worst delay added by this machine: %s", humanize.Milliseconds(float64(g.MaxLate)/1000))
	if g.LateLost > 0 {
		t.Line("  %s of shaping time was lost: the machine was too busy to catch up", humanize.Milliseconds(float64(g.LateLost)/1000))
	}
	for i := range r.Interfaces {
		if f := &r.Interfaces[i]; f.LostOutside > 0 && len(r.Expectations) > 0 {
			t.paragraph("  ", words.LostOutside.With(int(f.LostOutside), f.Node+"/"+f.Interface+" "+f.Direction).String())
		}
	}
	t.Line("")
	t.expectations(r.Result, v)
	if n := len(r.Expectations); n+r.Elsewhere > 0 {
		if r.Elsewhere > 0 {
			t.paragraph("", words.JudgedHere.With(n, n+r.Elsewhere, r.Rehearsal, r.Elsewhere).String())
		}
		if n > 0 {
			t.verdict(r.Result)
		}
	}
}

// OpenMetrics writes what a gate has counted in the text format of OpenMetrics 1.0.
func OpenMetrics(w io.Writer, r *live.Report) error {
	var b strings.Builder
	family := func(name, kind, unit, help string) {
		fmt.Fprintf(&b, "# TYPE %s %s\n", name, kind)
		if unit != "" {
			fmt.Fprintf(&b, "# UNIT %s %s\n", name, unit)
		}
		fmt.Fprintf(&b, "# HELP %s %s\n", name, help)
	}
	classes := func(value func(f *measure.Interface, c *measure.Class, labels string)) {
		for i := range r.Interfaces {
			f := &r.Interfaces[i]
			for j := range f.Classes {
				c := &f.Classes[j]
				value(f, c, fmt.Sprintf("node=%s,interface=%s,direction=%s,class=%s", label(f.Node), label(f.Interface), label(f.Direction), label(c.Class)))
			}
		}
	}
	family("imbrel_offered_bytes", "counter", "bytes", "Bytes that came to a class, as its interface counts.")
	classes(func(_ *measure.Interface, c *measure.Class, l string) {
		fmt.Fprintf(&b, "imbrel_offered_bytes_total{%s} %d\n", l, c.OfferedBytes)
	})
	family("imbrel_sent_bytes", "counter", "bytes", "Bytes of a class that left, as its interface counts.")
	classes(func(_ *measure.Interface, c *measure.Class, l string) {
		fmt.Fprintf(&b, "imbrel_sent_bytes_total{%s} %d\n", l, c.SentBytes)
	})
	family("imbrel_sent_packets", "counter", "", "Packets of a class that left.")
	classes(func(_ *measure.Interface, c *measure.Class, l string) {
		fmt.Fprintf(&b, "imbrel_sent_packets_total{%s} %d\n", l, c.SentPackets)
	})
	family("imbrel_dropped_packets", "counter", "", "Packets of a class that were dropped, by reason.")
	classes(func(_ *measure.Interface, c *measure.Class, l string) {
		for _, d := range []struct {
			reason string
			n      uint64
		}{{"policed", c.Drops.Policed}, {"queue_full", c.Drops.QueueFull}, {"early", c.Drops.Early}, {"blocked", c.Drops.Blocked}} {
			fmt.Fprintf(&b, "imbrel_dropped_packets_total{%s,reason=\"%s\"} %d\n", l, d.reason, d.n)
		}
	})
	family("imbrel_queue_delay_seconds", "gauge", "seconds", "How long packets of a class have waited since the start, by quantile.")
	classes(func(_ *measure.Interface, c *measure.Class, l string) {
		if d := c.QueueDelay; d != nil {
			fmt.Fprintf(&b, "imbrel_queue_delay_seconds{%s,quantile=\"0.5\"} %g\nimbrel_queue_delay_seconds{%s,quantile=\"0.99\"} %g\n", l, d.P50/1000, l, d.P99/1000)
		}
	})
	family("imbrel_promised_bits", "gauge", "", "Bits a second that a class is promised.")
	classes(func(_ *measure.Interface, c *measure.Class, l string) {
		if c.PromisedBps != nil {
			fmt.Fprintf(&b, "imbrel_promised_bits{%s} %d\n", l, *c.PromisedBps)
		}
	})
	family("imbrel_port_frames", "counter", "", "Frames at the machine's interfaces.")
	for _, p := range r.Ports {
		for _, n := range []struct {
			what  string
			count uint64
		}{{"received", p.Received}, {"sent", p.Sent}, {"refused", p.Refused}, {"lost", p.Lost}, {"missed", p.Missed}} {
			fmt.Fprintf(&b, "imbrel_port_frames_total{port=%s,device=%s,what=\"%s\"} %d\n", label(p.Port), label(p.Device), n.what, n.count)
		}
	}
	family("imbrel_passed_by_frames", "counter", "", "Frames that no class holds up.")
	fmt.Fprintf(&b, "imbrel_passed_by_frames_total %d\n", r.Gate.PassedBy)
	family("imbrel_reloads", "counter", "", "How often the file was read anew.")
	fmt.Fprintf(&b, "imbrel_reloads_total %d\n", r.Gate.Reloads)
	b.WriteString("# EOF\n")
	_, err := io.WriteString(w, b.String())
	return err
}

// label quotes a label's value.
func label(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`).Replace(s) + `"`
}
