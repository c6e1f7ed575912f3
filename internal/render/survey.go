package render

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"

	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/survey"
)

// clock says when something was: the time of day, and the day where a survey spans several.
func clock(r *survey.Result, at time.Time, layout string) string {
	if r.From.Format(time.DateOnly) != r.To.Format(time.DateOnly) {
		layout = "01-02 " + layout
	}
	return at.Format(layout)
}

// SurveySaid returns the sentences that a survey begins with.
func SurveySaid(r *survey.Result) []string {
	t := &r.Total
	out := []string{fmt.Sprintf("%s from %s UTC: %s in %s, %s on average.", survey.Span(r.Seconds), r.From.Format("2006-01-02 15:04:05"), humanize.Bytes(t.Bytes), packetsOf(t.Packets), humanize.Rate(t.MeanBps))}
	if p := t.BusiestSecond; p != nil {
		out = append(out, fmt.Sprintf("The busiest second, at %s, carried %s.", clock(r, p.At, "15:04:05"), humanize.Rate(p.Bps)))
	}
	if p := t.BusiestMinute; p != nil && r.Seconds > 60 && t.P95MinuteBps != nil {
		out = append(out, fmt.Sprintf("The busiest minute, at %s, carried %s; 95 %% of the minutes carried at most %s.", clock(r, p.At, "15:04"), humanize.Rate(p.Bps), humanize.Rate(*t.P95MinuteBps)))
	}
	return out
}

func packetsOf(n int64) string {
	if n == 1 {
		return "1 packet"
	}
	return humanize.Count(n) + " packets"
}

// A SurveyColumn is one of the table of a group.
type SurveyColumn struct {
	Head string
	Wide bool // it goes first where there is no room
	Of   func(r *survey.Result, s *survey.Sum) string
}

// SurveyColumns returns the columns that say something of a survey.
func SurveyColumns(r *survey.Result) []SurveyColumn {
	all := []SurveyColumn{
		{"bytes", false, func(_ *survey.Result, s *survey.Sum) string {
			if s.Error > 0 {
				return humanize.Bytes(s.Bytes-s.Error) + " to " + humanize.Bytes(s.Bytes)
			}
			return humanize.Bytes(s.Bytes)
		}},
		{"part", false, func(r *survey.Result, s *survey.Sum) string {
			return humanize.Ratio(float64(s.Bytes) / float64(max(r.Total.Bytes, 1)))
		}},
		{"packets", true, func(_ *survey.Result, s *survey.Sum) string { return humanize.Count(s.Packets) }},
		{"flows", true, func(_ *survey.Result, s *survey.Sum) string { return humanize.Count(s.Flows) }},
		{"mean", false, func(_ *survey.Result, s *survey.Sum) string { return humanize.Rate(s.MeanBps) }},
	}
	if !r.Coarse {
		all = append(all, SurveyColumn{"busiest second", false, func(_ *survey.Result, s *survey.Sum) string {
			if s.BusiestSecond == nil {
				return "–"
			}
			return humanize.Rate(s.BusiestSecond.Bps)
		}})
	}
	if r.Seconds <= 60 {
		return all
	}
	return append(all, SurveyColumn{"busiest minute", false, func(r *survey.Result, s *survey.Sum) string {
		if s.BusiestMinute == nil {
			return "–"
		}
		return humanize.Rate(s.BusiestMinute.Bps)
	}}, SurveyColumn{"at", true, func(r *survey.Result, s *survey.Sum) string {
		if s.BusiestMinute == nil {
			return "–"
		}
		return clock(r, s.BusiestMinute.At, "15:04")
	}}, SurveyColumn{"95 % of minutes", true, func(_ *survey.Result, s *survey.Sum) string {
		if s.P95MinuteBps == nil {
			return "–"
		}
		return humanize.Rate(*s.P95MinuteBps)
	}}, SurveyColumn{"when busiest", true, func(_ *survey.Result, s *survey.Sum) string {
		if s.Part == nil {
			return "–"
		}
		return humanize.Ratio(*s.Part)
	}})
}

// SurveyName returns the name of a row of a group.
func SurveyName(g *survey.Grouping, s *survey.Sum) string {
	name := cmp.Or(s.Name, g.None)
	if s.ServerName != "" {
		name += " (" + s.ServerName + ")"
	}
	return humanize.Short(name, 46)
}

// SurveyShown returns the groupings to show, in the order that was asked for; that of a gate's classes is always among them.
func SurveyShown(r *survey.Result, by []string) (out []*survey.Grouping) {
	for _, name := range append(slices.Clone(by), "class") {
		for i := range survey.Groupings {
			if g := &survey.Groupings[i]; g.Name == name && r.Of(name) != nil && !slices.Contains(out, g) {
				out = append(out, g)
			}
		}
	}
	return out
}

// Survey writes what traffic was, by the groups that were asked for.
func (t Text) Survey(r *survey.Result, by []string, top int) {
	said := SurveySaid(r)
	t.Title("%s", said[0])
	for _, s := range said[1:] {
		t.Line("%s", s)
	}
	for _, g := range SurveyShown(r, by) {
		list := r.Of(g.Name)
		t.Line("")
		shown := list
		if top > 0 && len(shown) > top {
			shown = shown[:top]
		}
		columns, hide := []column{{g.Head, true}}, []string{}
		all := SurveyColumns(r)
		for _, c := range all {
			columns = append(columns, column{c.Head, false})
			if c.Wide {
				hide = append(hide, c.Head)
			}
		}
		w := t.dense(t.grid(columns, nil)).without(hide...)
		for k := range shown {
			row := table.Row{SurveyName(g, &shown[k])}
			for _, c := range all {
				row = append(row, c.Of(r, &shown[k]))
			}
			w.add(row)
		}
		t.put(w)
		if left := len(list) - len(shown); left > 0 {
			t.Line("  and %s more; --top 0 shows all", humanize.Count(left))
		}
	}
	t.surveyCalls(r, top)
	t.surveyMarks(r, top)
	if len(r.Notes) > 0 {
		t.Line("")
		t.Line("Notes:")
		for _, n := range r.Notes {
			t.Line("  %s", n)
		}
	}
}

// SurveyCallsSaid says how many calls there were, and how they were.
func SurveyCallsSaid(r *survey.Result) string {
	if len(r.Calls) == 0 {
		return "No calls were found: no flow looks like RTP."
	}
	said := fmt.Sprintf("%s of RTP, at most %s at a time.", humanize.Plural(len(r.Calls), "stream"), humanize.Plural(r.AtOnce, "call"))
	if c := &r.Calls[0]; c.MOS != nil {
		said += fmt.Sprintf(" The lowest MOS, as heard here, is %.2f.", *c.MOS)
	}
	return said
}

func (t Text) surveyCalls(r *survey.Result, top int) {
	if r.Of("app") == nil { // the counters of a gate know of none
		return
	}
	t.Line("")
	t.Line("%s", SurveyCallsSaid(r))
	if len(r.Calls) == 0 {
		return
	}
	shown := r.Calls
	if top > 0 && len(shown) > top {
		shown = shown[:top]
	}
	w := t.dense(t.grid([]column{{"stream of RTP, worst first", true}, {"codec", true}, {"DSCP", true}, {"from", false}, {"lasts", false}, {"packets", false}, {"lost", false}, {"late", false}, {"jitter", false}, {"MOS", false}, {"far end lost", false}}, nil)).without("from", "packets", "far end lost", "lasts")
	for i := range shown {
		c := &shown[i]
		mos, far := "–", "–"
		if c.MOS != nil {
			mos = fmt.Sprintf("%.2f", *c.MOS)
		}
		if c.FarLost != nil {
			far = humanize.Ratio(*c.FarLost)
		}
		w.add(table.Row{SurveyCall(c), SurveyCodec(c), c.DSCP, fmt.Sprintf("%.1f s", c.FromS), fmt.Sprintf("%.1f s", c.LastsS), humanize.Count(c.Packets), humanize.Count(c.Lost), humanize.Count(c.Late), humanize.Milliseconds(c.JitterMs), mos, far})
	}
	t.put(w)
	if left := len(r.Calls) - len(shown); left > 0 {
		t.Line("  and %s more; --top 0 shows all", humanize.Count(left))
	}
}

// SurveyCall names a direction of a call.
func SurveyCall(c *survey.Call) string {
	return fmt.Sprintf("%s:%d → %s:%d", c.From, c.FromPort, c.To, c.ToPort)
}

// SurveyCodec names its codec.
func SurveyCodec(c *survey.Call) string {
	switch {
	case c.Codec != "":
		return c.Codec
	case c.Video:
		return "video"
	}
	return fmt.Sprintf("type %d", c.Payload)
}

// SurveyMark says of traffic what marking it should have.
func SurveyMark(m *survey.Marked) string {
	return fmt.Sprintf("%s: %s is marked %s (%s); RFC 4594 advises %s", cmp.Or(m.App, "unknown"), humanize.Ratio(m.Part), m.DSCP, humanize.Bytes(m.Bytes), m.Advised)
}

func (t Text) surveyMarks(r *survey.Result, top int) {
	if len(r.Marked) == 0 {
		return
	}
	t.Line("")
	t.Line("Marked otherwise than RFC 4594 advises:")
	for i := range r.Marked {
		if top > 0 && i == top {
			t.Line("  and %s more; --top 0 shows all", humanize.Count(len(r.Marked)-i))
			break
		}
		t.Line("  %s", SurveyMark(&r.Marked[i]))
	}
}
