package report

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/survey"
	"imbrel.example/imbrel/internal/chart"
	"imbrel.example/imbrel/internal/render"
)

// maxStacked is how many sums of a group a chart shows, before the others are one.
const maxStacked = 6

// Survey returns the page of what traffic was.
func Survey(r *survey.Result, by []string, ran *Ran) *Page {
	p := &Page{page: page{Title: "Survey of " + strings.Join(r.Sources, ", "), Word: "SURVEY", State: "none", Ran: ran}}
	said := render.SurveySaid(r)
	p.Said, p.Notes = said[0], said[1:]
	if p.Title = humanize.Short(p.Title, 90); len(r.Notes) > 0 {
		p.Notes = append(p.Notes, r.Notes...)
	}
	state := "none"
	if len(r.Calls) > 0 && r.Calls[0].MOS != nil {
		if state = "good"; *r.Calls[0].MOS < 3.6 {
			state = "bad"
		}
	}
	p.Answers = append(p.Answers, answer{"Were there calls?", render.SurveyCallsSaid(r), state})
	if apps := r.Of("app"); apps != nil {
		var most []string
		for i := range apps[:min(len(apps), 3)] {
			most = append(most, fmt.Sprintf("%s %s", cmp.Or(apps[i].Name, "unknown"), humanize.Ratio(float64(apps[i].Bytes)/float64(max(r.Total.Bytes, 1)))))
		}
		p.Answers = append(p.Answers, answer{"What is it?", strings.Join(most, ", "), "none"})
	}
	if len(r.Marked) > 0 {
		p.Answers = append(p.Answers, answer{"Is it marked as it should be?", render.SurveyMark(&r.Marked[0]), "bad"})
	}
	for _, g := range render.SurveyShown(r, by) {
		list := r.Of(g.Name)
		b := block{ID: "by-" + g.Name, Title: "By " + g.Head, Table: surveyTable(r, g, list)}
		if left := len(list) - len(b.Table.Rows); left > 0 {
			b.Lead = append(b.Lead, fmt.Sprintf("The %d with most bytes; %s more are not shown.", len(b.Table.Rows), humanize.Count(left)))
		}
		if c := stacked(r, g, list); c != nil {
			b.Groups = []group{{Charts: []drawn{p.draw("rate by "+g.Head, c)}}}
		}
		p.Blocks = append(p.Blocks, b)
	}
	if len(r.Calls) > 0 {
		t := &table{Head: []string{"call", "codec", "DSCP", "lasts", "packets", "lost", "late", "jitter", "MOS"}, Left: 3}
		for i := range r.Calls[:min(len(r.Calls), maxRows)] {
			c := &r.Calls[i]
			mos := plain("–")
			if c.MOS != nil {
				mos = plain(fmt.Sprintf("%.2f", *c.MOS))
				if mos.State = "good"; *c.MOS < 3.6 {
					mos.State = "bad"
				}
			}
			t.Rows = append(t.Rows, []cell{plain(render.SurveyCall(c)), plain(render.SurveyCodec(c)), plain(c.DSCP), plain(fmt.Sprintf("%.1f s", c.LastsS)), plain(humanize.Count(c.Packets)), plain(humanize.Count(c.Lost)), plain(humanize.Count(c.Late)), plain(humanize.Milliseconds(c.JitterMs)), mos})
		}
		p.Blocks = append(p.Blocks, block{ID: "calls", Title: "Calls", Table: t, Lead: []string{"The worst first, as a listener with a buffer of 40 ms would hear them at the place of the capture. MOS is on the narrow-band scale (G.107)."}})
	}
	if len(r.Marked) > 0 {
		l := list{Title: "Marked otherwise than RFC 4594 advises"}
		for i := range r.Marked[:min(len(r.Marked), maxRows)] {
			l.Items = append(l.Items, item{Text: render.SurveyMark(&r.Marked[i])})
		}
		p.Blocks = append(p.Blocks, block{ID: "marks", Title: "Markings", Lists: []list{l}})
	}
	return p
}

func surveyTable(r *survey.Result, g *survey.Grouping, all []survey.Sum) *table {
	t := &table{Head: []string{g.Head}, Left: 1}
	columns := render.SurveyColumns(r)
	for _, c := range columns {
		t.Head = append(t.Head, c.Head)
	}
	for i := range all[:min(len(all), maxRows)] {
		row := []cell{plain(render.SurveyName(g, &all[i]))}
		for _, c := range columns {
			k := plain(c.Of(r, &all[i]))
			if c.Head == "part" {
				k.Bar = float64(all[i].Bytes) / float64(max(r.Total.Bytes, 1))
			}
			row = append(row, k)
		}
		t.Rows = append(t.Rows, row)
	}
	return t
}

// stacked is the rates of a group minute by minute, one upon the other; nil where a survey is too short for minutes.
func stacked(r *survey.Result, g *survey.Grouping, all []survey.Sum) *chart.Chart {
	first, last := r.From.Unix()/60, r.To.Unix()/60
	if last-first < 2 || len(r.Total.Minutes) == 0 {
		return nil
	}
	step := (last-first)/400 + 1 // minutes in a step of the chart
	n := (last-first)/step + 1
	fill := func(y []float64, runs [][]int64, sign float64) {
		for _, run := range runs {
			for k := 1; k < len(run); k++ {
				if i := (run[0] + int64(k) - 1 - first) / step; i >= 0 && i < n {
					y[i] += sign * float64(run[k]) * 8 / 60 / float64(step)
				}
			}
		}
	}
	x := make([]float64, n+1)
	for i := range x {
		x[i] = float64(60 * step * int64(i))
	}
	panel := chart.Panel{Name: "rate by " + g.Head, Kind: chart.Areas, Say: bps, Height: 1.6}
	others := make([]float64, n)
	fill(others, r.Total.Minutes, 1)
	for i := range all[:min(len(all), maxStacked)] {
		y := make([]float64, n)
		fill(y, all[i].Minutes, 1)
		fill(others, all[i].Minutes, -1)
		panel.Lines = append(panel.Lines, chart.Line{Name: render.SurveyName(g, &all[i]), Ink: chart.Ink(i), X: x, Y: y})
	}
	for i := range others {
		others[i] = max(0, others[i])
	}
	if len(all) > maxStacked {
		panel.Lines = append(panel.Lines, chart.Line{Name: "all others", Ink: chart.Ink(maxStacked), X: x, Y: others})
	}
	begin := time.Unix(60*first, 0).UTC()
	if step == 1 { // of the first minute and the last only a part was seen
		for i := range panel.Lines {
			y := panel.Lines[i].Y
			y[0] *= 60 / max(1, 60-r.From.Sub(begin).Seconds())
			y[n-1] *= 60 / max(1, r.To.Sub(time.Unix(60*last, 0)).Seconds())
		}
	}
	layout := "15:04"
	switch {
	case last-first > 24*60:
		layout = "01-02 15:04"
	case last-first <= 30:
		layout = "15:04:05"
	}
	return &chart.Chart{X: chart.Axis{Name: "time (UTC)", Max: x[n], Say: func(v float64) string { return begin.Add(time.Duration(v) * time.Second).Format(layout) }}, Panels: []chart.Panel{panel}}
}
