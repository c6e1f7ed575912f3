package chart

import (
	"bytes"
	"fmt"
	"html"
	"slices"
	"strings"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"
)

// Sizes of a chart, in units of which a page has about one for each of its pixels.
const (
	Wide   = 576
	Narrow = 352

	panelHeight = 116
	letters     = 11
	lineHeight  = 15
)

// words is the style of all text of a chart.
func words(k Ink, bold bool) text.Style {
	f := font.Font{Typeface: "Liberation", Variant: "Sans", Size: letters}
	if bold {
		f.Weight = 2
	}
	return text.Style{Color: k, Font: f, Handler: plot.DefaultTextHandler, YAlign: text.YBottom}
}

// A picture is a chart on its way to a canvas.
type picture struct {
	*Chart
	width  vg.Length
	legend [][]*Line // its rows
}

func (c *Chart) picture(width int) *picture {
	p := &picture{Chart: c, width: vg.Length(width)}
	p.legends()
	return p
}

// legends puts the names of the lines into rows. Each name stands once.
func (p *picture) legends() {
	x := vg.Length(0)
	style := words(Axes, false)
	var seen []string
	for i := range p.Panels {
		for j := range p.Panels[i].Lines {
			l := &p.Panels[i].Lines[j]
			if l.Name == "" || l.Name == p.Panels[i].Name || slices.Contains(seen, l.Name) || len(l.Y) == 0 || slices.Max(l.Y) == 0 {
				continue
			}
			seen = append(seen, l.Name)
			w := style.Width(l.Name) + 34
			if x += w; len(p.legend) == 0 || x > p.width {
				p.legend, x = append(p.legend, nil), w
			}
			last := &p.legend[len(p.legend)-1]
			*last = append(*last, l)
		}
	}
}

// heights returns the height of each panel.
func (p *picture) heights() (each []vg.Length, all vg.Length) {
	for i := range p.Panels {
		h := p.Panels[i].Height
		if h == 0 {
			h = 1
		}
		each = append(each, vg.Length(h)*panelHeight+lineHeight+2)
		all += each[i]
	}
	return each, all + vg.Length(len(p.legend))*lineHeight + 8 + 2*lineHeight
}

// SVG returns the chart as an SVG of a width, for a page that has Patterns and Style once.
func (c *Chart) SVG(width int) string {
	p := c.picture(width)
	_, height := p.heights()
	s := newSVG(height)
	p.draw(s, width >= Wide)
	return fmt.Sprintf("<svg viewBox=\"0 0 %d %s\" role=\"img\" aria-label=\"%s\">\n%s</svg>", width, tenths(float64(height)), html.EscapeString(c.Title), s.out.String())
}

// File returns the chart as an SVG file of its own.
func (c *Chart) File() string {
	text := c.SVG(Wide)
	return strings.Replace(text, "<svg ", "<svg xmlns=\"http://www.w3.org/2000/svg\" ", 1)[:strings.Index(text, ">")+len(" xmlns=\"http://www.w3.org/2000/svg\"")+1] +
		"<style>" + Style() + "svg{background:var(--bg,transparent)}</style>" + strings.Replace(Patterns(), "<svg ", "<svg xmlns=\"http://www.w3.org/2000/svg\" ", 1) + text[strings.Index(text, ">")+1:]
}

// PNG returns the chart as a picture of two pixels to a unit, on white.
func (c *Chart) PNG() ([]byte, error) {
	p := c.picture(Wide)
	_, height := p.heights()
	img := vgimg.NewWith(vgimg.UseWH(p.width, height), vgimg.UseDPI(144))
	p.draw(img, false)
	var out bytes.Buffer
	_, err := vgimg.PngCanvas{Canvas: img}.WriteTo(&out)
	return out.Bytes(), err
}

// draw draws the legend, and below it the panels, whose axes are one above the other.
func (p *picture) draw(to vg.Canvas, hovers bool) {
	each, height := p.heights()
	all := draw.NewCanvas(to, p.width, height)
	style := words(Axes, false)
	y := height
	for _, row := range p.legend {
		y -= lineHeight
		x := vg.Length(2)
		for _, l := range row {
			p.swatch(all, l, x, y)
			all.FillText(style, vg.Point{X: x + 20, Y: y}, l.Name)
			x += style.Width(l.Name) + 34
		}
	}
	y -= 8
	all.Max.X -= 10
	plots, left, right := make([]*plot.Plot, len(p.Panels)), vg.Length(0), all.Max.X
	for i := range p.Panels {
		plots[i] = p.plot(i)
		data := plots[i].DataCanvas(all)
		left, right = max(left, data.Min.X+2), min(right, data.Max.X)
	}
	for i, g := range plots {
		c := draw.Canvas{Canvas: to, Rectangle: vg.Rectangle{Min: vg.Point{X: 0, Y: y - each[i]}, Max: vg.Point{X: all.Max.X, Y: y}}}
		y = c.Min.Y
		c.FillText(words(Axes, true), vg.Point{X: 2, Y: c.Max.Y - lineHeight}, p.Panels[i].Name)
		c.Max.Y -= lineHeight + 2
		if i == len(plots)-1 {
			c.Min.Y = 4
		}
		// All panels begin and end where the one with the widest numbers does.
		data := g.DataCanvas(c)
		c.Min.X, c.Max.X = left-(data.Min.X-c.Min.X), right+(c.Max.X-data.Max.X)
		g.Draw(c)
		if s, ok := to.(*svgCanvas); ok && hovers {
			p.hover(s, g.DataCanvas(c), g, i)
		}
	}
}

// swatch draws what a line looks like.
func (p *picture) swatch(c draw.Canvas, l *Line, x, y vg.Length) {
	areas := slices.ContainsFunc(p.Panels, func(g Panel) bool {
		return g.Kind == Areas && slices.ContainsFunc(g.Lines, func(o Line) bool { return o.Name == l.Name })
	})
	if areas {
		box := vg.Rectangle{Min: vg.Point{X: x, Y: y + 1}, Max: vg.Point{X: x + 15, Y: y + 11}}
		c.SetColor(wash{l.Ink})
		c.Fill(box.Path())
	}
	c.StrokeLine2(stroke(l.Ink, 2, l.Dashed), x, y+6, x+15, y+6)
}

func stroke(k Ink, width vg.Length, dashed bool) draw.LineStyle {
	s := draw.LineStyle{Color: k, Width: width}
	if dashed {
		s.Dashes = []vg.Length{5, 3}
	}
	return s
}

// plot lays a panel out. Only the last has the numbers of the x axis.
func (p *picture) plot(i int) *plot.Plot {
	panel := &p.Panels[i]
	g := plot.New()
	g.BackgroundColor = nil
	top := panel.scale()
	g.X.Min, g.X.Max, g.Y.Min, g.Y.Max = p.X.Min, p.X.Max, 0, top*1.04
	if slices.ContainsFunc(panel.Levels, func(l Level) bool { return !l.Vertical }) {
		g.Y.Max = top * 1.16 // room for its name
	}
	var ticks []plot.Tick
	if p.Log {
		g.X.Scale = plot.LogScale{}
		for _, v := range decades(p.X.Min, p.X.Max) {
			ticks = append(ticks, plot.Tick{Value: v, Label: p.X.Say(v)})
		}
	} else {
		for _, v := range steps(p.X.Max-p.X.Min, int(p.width)/60, false) {
			ticks = append(ticks, plot.Tick{Value: p.X.Min + v, Label: p.X.Say(p.X.Min + v)})
		}
	}
	if i < len(p.Panels)-1 {
		for k := range ticks {
			ticks[k].Label = ""
		}
		g.X.Tick.Length = 0
	}
	g.X.Tick.Marker = plot.ConstantTicks(ticks)
	var across []plot.Tick
	rows := 4
	if panel.Height > 0 && panel.Height < 0.7 {
		rows = 2
	}
	for _, v := range steps(top, rows, panel.Whole) {
		across = append(across, plot.Tick{Value: v, Label: panel.Say(v)})
	}
	g.Y.Tick.Marker = plot.ConstantTicks(across)
	for _, a := range []*plot.Axis{&g.X, &g.Y} {
		a.Padding, a.Color, a.Width = 0, Axes, 0.8
		a.Tick.Color, a.Tick.Width = Axes, 0.8
		align := a.Tick.Label
		a.Tick.Label = words(Axes, false)
		a.Tick.Label.XAlign, a.Tick.Label.YAlign = align.XAlign, align.YAlign
	}
	g.Y.Tick.Length = 3
	g.Add(plotter(func(c draw.Canvas, g *plot.Plot) { p.ground(c, g, across, i == 0) }))
	g.Add(plotter(func(c draw.Canvas, g *plot.Plot) { panel.draw(c, g) }))
	g.Add(plotter(func(c draw.Canvas, g *plot.Plot) { panel.levels(c, g) }))
	return g
}

// A plotter is a function that draws on a plot.
type plotter func(c draw.Canvas, g *plot.Plot)

func (f plotter) Plot(c draw.Canvas, g *plot.Plot) { f(c, g) }

// ground draws the grid and the times that are shaded, with their names in the first panel.
func (p *picture) ground(c draw.Canvas, g *plot.Plot, across []plot.Tick, named bool) {
	x, y := g.Transforms(&c)
	end := vg.Length(0)
	for _, s := range p.Spans {
		r := vg.Rectangle{Min: vg.Point{X: x(max(s.From, p.X.Min)), Y: c.Min.Y}, Max: vg.Point{X: x(min(s.To, p.X.Max)), Y: c.Max.Y}}
		c.SetColor(Faint)
		c.Fill(r.Path())
		if style := words(Axes, false); named && s.Name != "" && r.Min.X >= end && r.Min.X+style.Width(s.Name)+4 < c.Max.X {
			c.FillText(style, vg.Point{X: r.Min.X + 3, Y: c.Max.Y - lineHeight + 2}, s.Name)
			end = r.Min.X + style.Width(s.Name) + 8
		}
	}
	for _, t := range across {
		if t.Value > 0 {
			c.StrokeLine2(stroke(Faint, 0.8, false), c.Min.X, y(t.Value), c.Max.X, y(t.Value))
		}
	}
}

// draw draws the lines of a panel.
func (p *Panel) draw(c draw.Canvas, g *plot.Plot) {
	x, y := g.Transforms(&c)
	at := func(px, py float64) vg.Point {
		return vg.Point{X: min(max(x(px), c.Min.X), c.Max.X), Y: min(max(y(py), c.Min.Y), c.Max.Y)}
	}
	below := make([]float64, len(p.sums()))
	for i := range p.Lines {
		l := &p.Lines[i]
		var upper, lower []vg.Point
		switch p.Kind {
		case Areas:
			for j, v := range l.Y {
				upper = append(upper, at(l.X[j], below[j]+v), at(l.X[j+1], below[j]+v))
				lower = append(lower, at(l.X[j], below[j]), at(l.X[j+1], below[j]))
				below[j] += v
			}
			area(c, wash{l.Ink}, upper, lower)
			c.StrokeLines(stroke(l.Ink, 1.2, false), upper)
		case Bars:
			for j, v := range l.Y {
				if v == 0 {
					continue
				}
				gap := (l.X[j+1] - l.X[j]) * 0.12
				r := vg.Rectangle{Min: at(l.X[j]+gap, below[j]), Max: at(l.X[j+1]-gap, below[j]+v)}
				below[j] += v
				c.SetColor(l.Ink)
				c.Fill(r.Path())
			}
		case Steps:
			for j, v := range l.Y {
				upper = append(upper, at(l.X[j], v))
				if j+1 < len(l.X) {
					upper = append(upper, at(l.X[j+1], v))
				}
			}
			c.StrokeLines(stroke(l.Ink, 1.8, l.Dashed), upper)
		case Curves:
			for j, v := range l.Y {
				upper = append(upper, at(l.X[j], v))
			}
			c.StrokeLines(stroke(l.Ink, 1.8, l.Dashed), upper)
			if len(l.X) <= 24 { // few enough that each point counts
				for _, pt := range upper {
					c.SetColor(l.Ink)
					r := vg.Rectangle{Min: vg.Point{X: pt.X - 2.5, Y: pt.Y - 2.5}, Max: vg.Point{X: pt.X + 2.5, Y: pt.Y + 2.5}}
					c.Fill(r.Path())
				}
			}
		case Bands:
			var middle []vg.Point
			for j := range l.Y {
				upper = append(upper, at(l.X[j], l.Y[j]), at(l.X[j+1], l.Y[j]))
				lower = append(lower, at(l.X[j], l.Low[j]), at(l.X[j+1], l.Low[j]))
				middle = append(middle, at(l.X[j], l.Mid[j]), at(l.X[j+1], l.Mid[j]))
			}
			area(c, wash{l.Ink}, upper, lower)
			c.StrokeLines(stroke(l.Ink, 1.8, false), middle)
		}
	}
}

// area fills what is between two lines.
func area(c draw.Canvas, k wash, upper, lower []vg.Point) {
	if len(upper) == 0 {
		return
	}
	slices.Reverse(lower)
	c.FillPolygon(k, append(slices.Clone(upper), lower...))
}

// levels draws what the lines are compared with, and its names: at the right, one above the other where they are near.
func (p *Panel) levels(c draw.Canvas, g *plot.Plot) {
	x, y := g.Transforms(&c)
	style := words(Marker, false)
	all := slices.Clone(p.Levels)
	slices.SortStableFunc(all, func(a, b Level) int {
		switch {
		case a.At < b.At:
			return -1
		case a.At > b.At:
			return 1
		}
		return 0
	})
	free, down := c.Min.Y, c.Max.Y-lineHeight
	for i, l := range all {
		if l.Vertical {
			px := x(l.At)
			if px < c.Min.X || px > c.Max.X {
				continue
			}
			c.StrokeLine2(stroke(Marker, 1.2, true), px, c.Min.Y, px, c.Max.Y)
			w := style.Width(l.Name)
			if down -= lineHeight; px+w+4 > c.Max.X {
				px -= w + 6
			}
			c.FillText(style, vg.Point{X: px + 3, Y: down}, l.Name)
			continue
		}
		py := y(l.At)
		c.StrokeLine2(stroke(Marker, 1.2, true), c.Min.X, py, c.Max.X, py)
		if i+1 < len(all) && !all[i+1].Vertical && y(all[i+1].At)-py < lineHeight { // the next is near: both names stand above it
			all[i+1].Name = l.Name + "; " + all[i+1].Name
			continue
		}
		if w := style.Width(l.Name); w < c.Max.X-c.Min.X {
			c.FillText(style, vg.Point{X: c.Max.X - w - 3, Y: max(py+1, free)}, l.Name)
		}
		free = py + lineHeight
	}
}

// hover lays what the lines are at each x over a panel.
func (p *picture) hover(s *svgCanvas, c draw.Canvas, g *plot.Plot, i int) {
	panel := &p.Panels[i]
	if len(panel.Lines) == 0 || len(panel.Lines[0].X) != len(panel.Lines[0].Y)+1 { // points, and no intervals
		return
	}
	x, _ := g.Transforms(&c)
	first := &panel.Lines[0]
	for j := range first.Y {
		var said []string
		for k := range panel.Lines {
			if l := &panel.Lines[k]; j < len(l.Y) && l.Y[j] != 0 {
				value := panel.Say(l.Y[j])
				if panel.Kind == Bands {
					value = fmt.Sprintf("p50 %s, p99 %s, max %s", panel.Say(l.Low[j]), panel.Say(l.Mid[j]), value)
				}
				said = append(said, l.Name+" "+value)
			}
		}
		if len(said) == 0 {
			continue
		}
		s.hover(vg.Rectangle{Min: vg.Point{X: x(first.X[j]), Y: c.Min.Y}, Max: vg.Point{X: x(first.X[j+1]), Y: c.Max.Y}}, p.X.Say(first.X[j])+": "+strings.Join(said, "; "))
	}
}

// Width returns how wide a text is, in the letters of a chart.
func Width(s string, bold bool) float64 { return float64(words(Axes, bold).Width(s)) }
