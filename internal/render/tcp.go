package render

import (
	"fmt"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/measure"
)

// lost prints the loss of a row; what TCP loses it sends again, and another table says how
// much.
func lost(r *measure.Row) string {
	if r.OverTCP {
		return "-"
	}
	return humanize.Ratio(r.Loss)
}

// ofTCP returns the rows of the directions in which TCP carried data.
func ofTCP(r *measure.Result, v *View) (rows []*measure.Row) {
	for i := range r.Traffic {
		if r.Traffic[i].TCP != nil && v.shows(r.Traffic[i].Class) {
			rows = append(rows, &r.Traffic[i])
		}
	}
	return rows
}

// times prints a statistic of times that may not be there.
func times(m *measure.Milliseconds, of func(*measure.Milliseconds) float64) string {
	if m == nil {
		return "-"
	}
	return humanize.Milliseconds(of(m))
}

func p50(m *measure.Milliseconds) float64 { return m.P50 }
func p95(m *measure.Milliseconds) float64 { return m.P95 }
func p99(m *measure.Milliseconds) float64 { return m.P99 }

// completed prints how many transfers were completed of those that were begun.
func completed(m *measure.TCPFigures) string {
	if m.Begun == 0 {
		return "-"
	}
	return fmt.Sprintf("%s of %s", humanize.Count(m.Completed), humanize.Count(m.Begun))
}

// took prints a statistic of how long transfers took, with `>` where one that did not end makes the true figure
// higher.
func took(m *measure.TCPFigures, name string, of func(*measure.Milliseconds) float64) string {
	if slices.Contains(m.Above, name) {
		return "> " + times(m.Completion, of)
	}
	return times(m.Completion, of)
}

// flows prints how many flows there were, and how many of them never came about.
func flows(m *measure.TCPFigures) string {
	if m.Opened < m.Flows {
		return fmt.Sprintf("%d of %d open", m.Opened, m.Flows)
	}
	return humanize.Count(m.Flows)
}

// tcp writes what the TCP flows carried.
func (t Text) tcp(r *measure.Result, v *View) {
	rows := ofTCP(r, v)
	if len(rows) == 0 {
		return
	}
	t.Title("What TCP carried (goodput is what the applications got)")
	timed := slices.ContainsFunc(rows, func(r *measure.Row) bool { return r.TCP.Begun > 0 })
	columns := []column{{"traffic", true}, {"flows", false}, {"goodput", false}, {"slowest flow", false}, {"retransmissions", false}, {"timeouts", false}, {"p50", false}, {"p99", false}}
	above := []string{"", "", "", "", "", "", "round trip", "round trip"}
	if timed {
		columns = append(columns, column{"ended", false}, column{"p50", false}, column{"p95", false})
		above = append(above, "completion", "completion", "completion")
	}
	w := t.dense(t.grid(columns, above))
	for _, row := range rows {
		m := row.TCP
		cells := table.Row{row.Name, flows(m), humanize.Rate(m.GoodputBps), humanize.Rate(m.LowestBps), humanize.Ratio(m.Retransmissions), humanize.Count(m.Timeouts), times(m.RTT, p50), times(m.RTT, p99)}
		if timed {
			cells = append(cells, completed(m), took(m, "p50", p50), took(m, "p95", p95))
		}
		w.add(cells)
	}
	t.put(w)
	t.Line("")
}

// tcpBeside writes the same of two runs side by side.
func (t Text) tcpBeside(without, with *measure.Result, v *View) {
	rows := ofTCP(with, v)
	if len(rows) == 0 {
		return
	}
	t.Title("What TCP carried (goodput is what the applications got)")
	columns, above := []column{{"traffic", true}}, []string{""}
	timed := slices.ContainsFunc(rows, func(r *measure.Row) bool { return r.TCP.Begun > 0 })
	for i, title := range []string{withoutPolicies, withPolicies} {
		columns, above = append(columns, column{"│", true}), append(above, "│"+strings.Repeat(" ", i))
		names := []string{"goodput", "retransmissions", "round trip p99"}
		if timed {
			names = append(names, "completion p95")
		}
		for _, name := range names {
			columns, above = append(columns, column{name, false}), append(above, title)
		}
	}
	w := t.dense(t.grid(columns, above))
	for _, row := range rows {
		cells := table.Row{humanize.Short(row.Name, 28)}
		var other *measure.TCPFigures
		for _, r := range ofTCP(without, &View{}) {
			if r.Name == row.Name {
				other = r.TCP
			}
		}
		for _, m := range []*measure.TCPFigures{other, row.TCP} {
			part := table.Row{"│", "-", "-", "-"}
			spent := "-"
			if m != nil {
				part = table.Row{"│", humanize.Rate(m.GoodputBps), humanize.Ratio(m.Retransmissions), times(m.RTT, p99)}
				spent = took(m, "p95", p95)
			}
			if cells = append(cells, part...); timed {
				cells = append(cells, spent)
			}
		}
		w.add(cells)
	}
	t.put(w)
	t.Line("")
}
