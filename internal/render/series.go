package render

import (
	"fmt"
	"slices"
	"strings"

	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/measure"
)

// series writes what happened over time: for each class a chart of its rate, and below it its queue and its drops.
func (t Text) series(r *measure.Result, v *View) {
	s := r.Series
	if s == nil {
		return
	}
	t.Title("Over time, one block for each %g s", s.IntervalS)
	for i := range s.Interfaces {
		f := &s.Interfaces[i]
		if !v.at(f.Node+"/"+f.Interface, f.Direction) {
			continue
		}
		quiet := !slices.ContainsFunc(f.Classes, func(c measure.SeriesClass) bool { return slices.Max(c.Drops) > 0 || c.Wakes != nil })
		if quiet && len(v.At) == 0 && !v.All {
			continue
		}
		t.Line("")
		t.Title("%s/%s %s, %s", f.Node, f.Interface, f.Direction, humanize.Rate(f.RateBps))
		for j := range f.Classes {
			c := &f.Classes[j]
			if !v.shows(c.Class) {
				continue
			}
			t.over(s, r.Class(f, c.Class), c, chartHeight)
			for k := range c.Instances {
				t.over(s, nil, &c.Instances[k], chartHeight)
			}
			t.events(s, f, c)
		}
	}
	t.Line("")
}

// events writes when a class got its promise, and when its conditions were true.
func (t Text) events(s *measure.Series, f *measure.SeriesInterface, c *measure.SeriesClass) {
	for _, k := range c.Wakes {
		switch {
		case k.AtS <= s.FromS: // it did not start, it was there
		case k.PromiseAfter == nil:
			t.Line("    %s started at %g s and never reached its promised rate", c.Class, k.AtS)
		default:
			t.Line("    %s started at %g s and reached its promised rate, or all it offered, within %g s", c.Class, k.AtS, *k.PromiseAfter)
		}
	}
	for _, h := range s.Whens {
		if h.Node == f.Node && h.Interface == f.Interface && h.Direction == f.Direction && h.Class == c.Class {
			what := h.Class
			if h.Limit != "" {
				what = "the `" + h.Limit + "` of " + h.Class
			}
			t.Line("    %s was active from %.4g s to %.4g s", what, h.FromS, h.ToS)
		}
	}
}

// Sizes of a chart, in characters.
const (
	chartHeight = 4  // unless there is room for more
	chartScale  = 14 // of the numbers left of it
	chartWidth  = 84
)

// over draws a class over time: the rate that it sent in so many lines, with its promise and its upper limit, and below it its queue
// and its drops. A chart wider than the terminal continues below.
func (t Text) over(s *measure.Series, class *measure.Class, c *measure.SeriesClass, height int) {
	width := chartWidth
	if t.Width > 0 {
		width = min(width, t.Width-chartScale-4)
	}
	most := slices.Max(c.SentBps)
	t.Line("  %s: sent up to %s, queue up to %s, %s", t.paint(humanize.Short(c.Class, 40), 1), humanize.Rate(most), humanize.Bytes(slices.Max(c.QueueBytes)), humanize.Plural(int(sum(c.Drops)), "drop"))
	if most == 0 && sum(c.Drops) == 0 {
		return
	}
	lines := linesOf(class, most)
	top := most
	for _, l := range lines {
		top = max(top, l.bps)
	}
	for from := 0; from < len(c.SentBps); from += width {
		to := min(from+width, len(c.SentBps))
		rows := bars(c.SentBps[from:to], top, height)
		for i, row := range rows {
			scale, note := "", ""
			if i == 0 {
				scale = humanize.Rate(top)
			}
			for _, l := range lines {
				if at := height - 1 - int(l.bps*int64(height)/(top+1)); at == i {
					note += " " + l.name + " " + humanize.Rate(l.bps)
					row = strings.ReplaceAll(row, " ", "┄")
				}
			}
			t.Line("  %*s │%s%s", chartScale-2, scale, row, note)
		}
		t.Line("  %*s └%s", chartScale-2, "0", axis(from, to, s))
		for _, below := range []struct {
			name   string
			values []int64
			most   string
		}{{"queue", c.QueueBytes, humanize.Bytes(slices.Max(c.QueueBytes))}, {"drops", c.Drops, humanize.Count(slices.Max(c.Drops)) + " in a step"}} {
			if most := slices.Max(below.values); most > 0 {
				t.Line("  %*s  %s up to %s", chartScale-2, below.name, spark(below.values[from:to], most), below.most)
			}
		}
	}
}

// A level is a rate that a chart shows as a line.
type level struct {
	name string
	bps  int64
}

// linesOf returns the promise and the limits of a class, as far as they are near what it sent.
func linesOf(c *measure.Class, most int64) (out []level) {
	if c == nil {
		return nil
	}
	if p := c.PromisedBps; p != nil && *p > 0 && *p <= 2*most {
		out = append(out, level{"promise", *p})
	}
	for i := range c.Fullness {
		if f := &c.Fullness[i]; f.RateBps <= 2*most && !slices.ContainsFunc(out, func(l level) bool { return l.bps == f.RateBps }) {
			out = append(out, level{f.Limit, f.RateBps})
		}
	}
	return out
}

func sum(values []int64) (n int64) {
	for _, v := range values {
		n += v
	}
	return n
}

const blocks = " ▁▂▃▄▅▆▇█"

// bars draws values in the lines of a chart, from the top down.
func bars(values []int64, top int64, height int) []string {
	rows := make([]string, height)
	heights := []rune(blocks)
	for i := range rows {
		var row strings.Builder
		for _, v := range values {
			eighths := int(v*8*int64(height)/max(top, 1)) - 8*(height-1-i)
			if v > 0 && i == height-1 {
				eighths = max(eighths, 1)
			}
			row.WriteRune(heights[min(8, max(0, eighths))])
		}
		rows[i] = row.String()
	}
	return rows
}

// spark draws values as one row of blocks, the highest for the most.
func spark(values []int64, most int64) string {
	heights := []rune(blocks)
	out := make([]rune, len(values))
	for i, v := range values {
		h := 0
		if v > 0 {
			h = 1 + int(v*7/most)
		}
		out[i] = heights[h]
	}
	return string(out)
}

// axis draws the time from one step to another, with marks in seconds.
func axis(from, to int, s *measure.Series) string {
	at := func(n int) float64 { return s.FromS + float64(n)*s.IntervalS }
	line := []rune(strings.Repeat("─", to-from))
	for n := 0; n+8 <= len(line); n += 20 {
		mark := []rune(fmt.Sprintf("┴%.4g s", at(from+n)))
		copy(line[n:], mark)
	}
	return string(line) + fmt.Sprintf(" %.4g s", at(to))
}
