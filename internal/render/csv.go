package render

import (
	"encoding/csv"
	"fmt"
	"io"
	"strconv"

	"imbrel.example/imbrel/core/measure"
)

// CSV writes the figures of results, one a row: expectations, traffic, classes, and the classes of each interface.
func CSV(w io.Writer, results []*measure.Result) error {
	t := newSheet(w, "rehearsal", "policies", "seed", "of", "name", "direction", "place", "class", "metric", "unit", "value", "limit", "holds")
	for _, r := range results {
		row := func(of, name, direction, place, class, metric, unit string, value float64) {
			t.row(r.Rehearsal, withWords[r.Policy], fmt.Sprint(r.Seed), of, name, direction, place, class, metric, unit, decimal(value), "", "")
		}
		for i := range r.Expectations {
			o := &r.Expectations[i]
			value := ""
			if o.Measured != nil {
				value = decimal(*o.Measured)
			}
			t.row(r.Rehearsal, withWords[r.Policy], fmt.Sprint(r.Seed), "expectation", o.Title(), "", "", "", "", o.Unit, value, decimal(o.Limit), strconv.FormatBool(o.Holds))
		}
		figures := func(of, name, direction, class string, m *measure.TrafficFigures) {
			row(of, name, direction, "", class, "offered", "bit/s", float64(m.OfferedBps))
			row(of, name, direction, "", class, "rate", "bit/s", float64(m.RateBps))
			row(of, name, direction, "", class, "loss", "", m.Loss)
			if m.Late != nil {
				row(of, name, direction, "", class, "late", "", *m.Late)
			}
			if d := m.Delay; d != nil {
				row(of, name, direction, "", class, "delay p50", "ms", d.P50)
				row(of, name, direction, "", class, "delay p99", "ms", d.P99)
				row(of, name, direction, "", class, "delay max", "ms", d.Max)
			}
			if m.MOS != nil {
				row(of, name, direction, "", class, "mos", "", *m.MOS)
			}
			if m.TCP != nil {
				row(of, name, direction, "", class, "goodput", "bit/s", float64(m.TCP.GoodputBps))
				row(of, name, direction, "", class, "retransmissions", "", m.TCP.Retransmissions)
			}
		}
		for i := range r.Traffic {
			figures("traffic", r.Traffic[i].Name, r.Traffic[i].Direction, r.Traffic[i].Class, &r.Traffic[i].TrafficFigures)
		}
		for i := range r.Classes {
			figures("class", r.Classes[i].Class, "", r.Classes[i].Class, &r.Classes[i].TrafficFigures)
		}
		for i := range r.Interfaces {
			f := &r.Interfaces[i]
			for j := range f.Classes {
				c := &f.Classes[j]
				at := func(metric, unit string, value float64) {
					row("interface", f.Node+"/"+f.Interface, f.Direction, f.Node+"/"+f.Interface+" "+f.Direction, c.Class, metric, unit, value)
				}
				at("offered", "bit/s", float64(c.OfferedBps))
				at("sent", "bit/s", float64(c.SentBps))
				if c.PromisedBps != nil {
					at("promise", "bit/s", float64(*c.PromisedBps))
				}
				at("drops", "packets", float64(c.Drops.Total()))
				at("longest queue", "B", float64(c.MaxQueueBytes))
				if d := c.QueueDelay; d != nil {
					at("wait p99", "ms", d.P99)
				}
			}
		}
	}
	return t.end()
}

// A sheet is rows of comma-separated values (RFC 4180).
type sheet struct {
	w   *csv.Writer
	err error
}

func newSheet(w io.Writer, head ...string) *sheet {
	t := &sheet{w: csv.NewWriter(w)}
	t.row(head...)
	return t
}

// row writes a row. A cell that a spreadsheet would take for a formula begins with an apostrophe.
func (t *sheet) row(cells ...string) {
	for i, c := range cells {
		if c != "" && (c[0] == '=' || c[0] == '+' || c[0] == '@' || c[0] == '-' && !isNumber(c)) {
			cells[i] = "'" + c
		}
	}
	if err := t.w.Write(cells); t.err == nil {
		t.err = err
	}
}

func isNumber(s string) bool {
	_, err := strconv.ParseFloat(s, 64)
	return err == nil
}

func (t *sheet) end() error {
	t.w.Flush()
	if t.err == nil {
		t.err = t.w.Error()
	}
	return t.err
}

func decimal(v float64) string { return strconv.FormatFloat(v, 'g', -1, 64) }

// A SeriesFile is a table of a series, and the name of its file.
type SeriesFile struct {
	Name  string
	Write func(w io.Writer, results []*measure.Result) error
}

// SeriesFiles are the tables of what happened over time: a row for each interval of each class or traffic.
var SeriesFiles = []SeriesFile{
	{"interfaces.csv", func(w io.Writer, results []*measure.Result) error {
		t := newSheet(w, "rehearsal", "policies", "seed", "at_s", "node", "interface", "direction", "class", "instance", "offered_bps", "sent_bps", "drops", "queue_bytes", "wait_p50_ms", "wait_p99_ms", "wait_max_ms")
		each(results, func(r *measure.Result, at func(i int) string) {
			for i := range r.Series.Interfaces {
				f := &r.Series.Interfaces[i]
				write := func(class, instance string, c *measure.SeriesClass) {
					for n := range c.SentBps {
						t.row(r.Rehearsal, withWords[r.Policy], fmt.Sprint(r.Seed), at(n), f.Node, f.Interface, f.Direction, class, instance, fmt.Sprint(c.OfferedBps[n]), fmt.Sprint(c.SentBps[n]), fmt.Sprint(c.Drops[n]),
							fmt.Sprint(c.QueueBytes[n]), decimal(c.Waits.P50[n]), decimal(c.Waits.P99[n]), decimal(c.Waits.Max[n]))
					}
				}
				for j := range f.Classes {
					write(f.Classes[j].Class, "", &f.Classes[j])
					for k := range f.Classes[j].Instances {
						write(f.Classes[j].Class, f.Classes[j].Instances[k].Class, &f.Classes[j].Instances[k])
					}
				}
			}
		})
		return t.end()
	}},
	{"traffic.csv", func(w io.Writer, results []*measure.Result) error {
		t := newSheet(w, "rehearsal", "policies", "seed", "at_s", "traffic", "direction", "received_bps", "goodput_bps", "lost", "late", "delay_p50_ms", "delay_p99_ms", "delay_max_ms")
		of := func(values []int64, n int) string {
			if values == nil {
				return ""
			}
			return fmt.Sprint(values[n])
		}
		each(results, func(r *measure.Result, at func(i int) string) {
			for i := range r.Series.Traffic {
				s := &r.Series.Traffic[i]
				for n := range s.Delay.Max {
					t.row(r.Rehearsal, withWords[r.Policy], fmt.Sprint(r.Seed), at(n), s.Name, s.Direction, of(s.ReceivedBps, n), of(s.GoodputBps, n), of(s.Lost, n), of(s.Late, n), decimal(s.Delay.P50[n]), decimal(s.Delay.P99[n]), decimal(s.Delay.Max[n]))
				}
			}
		})
		return t.end()
	}},
	{"calls.csv", func(w io.Writer, results []*measure.Result) error {
		t := newSheet(w, "rehearsal", "policies", "seed", "traffic", "direction", "call", "mos")
		each(results, func(r *measure.Result, _ func(i int) string) {
			for _, s := range r.Series.Calls {
				for n, mos := range s.MOS {
					t.row(r.Rehearsal, withWords[r.Policy], fmt.Sprint(r.Seed), s.Name, s.Direction, fmt.Sprint(n+1), decimal(mos))
				}
			}
		})
		return t.end()
	}},
	{"active.csv", func(w io.Writer, results []*measure.Result) error {
		t := newSheet(w, "rehearsal", "policies", "seed", "node", "interface", "direction", "class", "limit", "from_s", "to_s")
		each(results, func(r *measure.Result, _ func(i int) string) {
			for _, k := range r.Series.Whens {
				t.row(r.Rehearsal, withWords[r.Policy], fmt.Sprint(r.Seed), k.Node, k.Interface, k.Direction, k.Class, k.Limit, decimal(k.FromS), decimal(k.ToS))
			}
		})
		return t.end()
	}},
}

// each calls for each result that has a series, with when its intervals begin.
func each(results []*measure.Result, do func(r *measure.Result, at func(i int) string)) {
	for _, r := range results {
		if r.Series != nil {
			do(r, func(i int) string { return decimal(microseconds(r.Series.FromS + float64(i)*r.Series.IntervalS)) })
		}
	}
}

// microseconds rounds seconds to whole microseconds.
func microseconds(v float64) float64 { return float64(int64(v*1e6+0.5)) / 1e6 }
