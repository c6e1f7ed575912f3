package measure

import (
	"slices"
	"time"

	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/traffic"
)

// A Break says from where on an expectation did not hold while a ramp rose or fell.
type Break struct {
	Ramp   string `json:"ramp"` // the traffic's name
	Text   string `json:"text"` // of the expectation
	Breaks bool   `json:"breaks"`
	// Judged is the number of parts of the ramp in which there was something to judge.
	Judged int `json:"judged_parts"`
	// When, from the start of the rehearsal, and what the ramp was at, where it breaks. Holds
	// is what it was at a part before, when it held.
	AtS   float64 `json:"at_s,omitempty"`
	Value int64   `json:"value,omitempty"`
	Holds *int64  `json:"holds_to,omitempty"` // nil: it fails from the first part that is measured
	Unit  string  `json:"unit"`               // bit/s or calls
	From  int64   `json:"from"`
	To    int64   `json:"to"`
	OverS float64 `json:"over_s"`
}

// rampSteps is how many parts of a ramp are looked into, each by itself.
const rampSteps = 50

// rampWindows returns the parts of the ramp of a traffic, or none.
func rampWindows(h *policy.Rehearsal, t *policy.Traffic) []Window {
	if t.Ramp == nil || len(h.Expect) == 0 {
		return nil
	}
	var out []Window
	step := t.Ramp.Over / rampSteps
	for i := range time.Duration(rampSteps) {
		w := Window{t.Starts + i*step, t.Starts + (i+1)*step}
		if w.To = min(w.To, h.Lasts); w.From >= h.WarmUp && w.From < w.To {
			out = append(out, w)
		}
	}
	return out
}

// breaks says, for each ramp and each expectation that holds or not at a time, where it
// broke.
func (m *Measures) breaks(r *Result) {
	for i := range m.Rehearsal.Traffic {
		t := &m.Rehearsal.Traffic[i]
		windows := rampWindows(m.Rehearsal, t)
		if len(windows) == 0 {
			continue
		}
		for j := range m.Rehearsal.Expect {
			e := &m.Rehearsal.Expect[j]
			if !momentary(e) {
				continue
			}
			b := Break{Ramp: t.Name, Text: e.Text, Unit: "bit/s", From: int64(t.Ramp.FromRate), To: int64(t.Rate), OverS: t.Ramp.Over.Seconds()}
			if t.Kind == policy.Calls {
				b.Unit, b.From, b.To = "calls", int64(t.Ramp.FromCalls), int64(t.Calls)
			}
			var fails []bool
			var judged []Window
			for _, w := range windows {
				if holds, known := m.holdsIn(r, e, w); known {
					fails, judged = append(fails, !holds), append(judged, w)
				}
			}
			b.Judged = len(judged)
			if k := Turn(fails); k < len(judged) {
				b.Breaks, b.AtS, b.Value = true, judged[k].From.Seconds(), at(t, judged[k].From)
				if k > 0 {
					holds := at(t, judged[k-1].From)
					switch {
					case holds != b.Value:
					case b.From < b.To: // what a burst had room for does not hold
						holds--
					default:
						holds++
					}
					b.Holds = &holds
				}
			}
			r.Breaks = append(r.Breaks, b)
		}
	}
}

// Turn returns the place from which on there is most of what fails, and before which least:
// the one with the fewest parts on the wrong side, so that chance in a single part does not
// count. It is the length where that is best.
func Turn(fails []bool) int {
	wrong := 0 // of a turn at the end
	for _, f := range fails {
		if f {
			wrong++
		}
	}
	best, least := len(fails), wrong
	for k := len(fails) - 1; k >= 0; k-- {
		if fails[k] {
			wrong--
		} else {
			wrong++
		}
		if wrong < least || wrong == least && best < len(fails) {
			best, least = k, wrong
		}
	}
	for best < len(fails) && !fails[best] { // begin with one that fails
		best++
	}
	return best
}

// at returns what a ramp is at, at a time.
func at(t *policy.Traffic, when time.Duration) int64 {
	p := t.Ramp
	if t.Kind == policy.Calls {
		return int64(p.FromCalls) + int64(float64(t.Calls-p.FromCalls)*(float64(when-t.Starts)/float64(p.Over)))
	}
	return int64(traffic.RampAt(p.FromRate, t.Rate, p.Over, when-t.Starts))
}

// momentary reports whether an expectation is about something that is so or not in a short
// time, for all of the time.
func momentary(e *policy.Expectation) bool {
	return !e.Windowed() && e.Versus == "" && !e.OfPromise && e.Statistic != policy.Proven && e.Metric.Row().Moment
}

// holdsIn reports whether an expectation was measured to hold in a window; known false: there was
// nothing in it to judge.
func (m *Measures) holdsIn(r *Result, e *policy.Expectation, w Window) (holds, known bool) {
	n := 1 + slices.Index(m.Windows, w)
	var f finding
	if e.Where != nil {
		f = m.atInterface(r, e, e.Subject, n)
	} else {
		f = m.endToEnd(e, e.Subject, m.Collectors[n])
	}
	return f.holds(e), f.absent.IsZero()
}
