package chart

import (
	"bytes"
	"fmt"
	"html"
	"image"
	"image/color"
	"math"
	"strconv"

	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/vg"
)

// An svgCanvas writes what is drawn as SVG whose colours are classes of a style sheet. It implements vg.Canvas.
type svgCanvas struct {
	out    bytes.Buffer
	height vg.Length
	pen    pen
	saved  []pen
}

// A pen is how the canvas draws now, and where: x' = a·x + c·y + e, y' = b·x + d·y + f.
type pen struct {
	width            vg.Length
	dash             []vg.Length
	color            color.Color
	a, b, c, d, e, f float64
}

func newSVG(height vg.Length) *svgCanvas {
	return &svgCanvas{height: height, pen: pen{width: 1, color: Axes, a: 1, d: 1}}
}

func (s *svgCanvas) SetLineWidth(w vg.Length)               { s.pen.width = w }
func (s *svgCanvas) SetLineDash(d []vg.Length, _ vg.Length) { s.pen.dash = d }
func (s *svgCanvas) SetColor(c color.Color)                 { s.pen.color = c }
func (s *svgCanvas) Push()                                  { s.saved = append(s.saved, s.pen) }

func (s *svgCanvas) Pop() {
	s.pen = s.saved[len(s.saved)-1]
	s.saved = s.saved[:len(s.saved)-1]
}

func (s *svgCanvas) Rotate(rad float64) {
	sin, cos := math.Sincos(rad)
	p := s.pen
	s.pen.a, s.pen.c = p.a*cos+p.c*sin, p.c*cos-p.a*sin
	s.pen.b, s.pen.d = p.b*cos+p.d*sin, p.d*cos-p.b*sin
}

func (s *svgCanvas) Translate(pt vg.Point) {
	s.pen.e += s.pen.a*float64(pt.X) + s.pen.c*float64(pt.Y)
	s.pen.f += s.pen.b*float64(pt.X) + s.pen.d*float64(pt.Y)
}

func (s *svgCanvas) Scale(x, y float64) {
	s.pen.a, s.pen.b, s.pen.c, s.pen.d = s.pen.a*x, s.pen.b*x, s.pen.c*y, s.pen.d*y
}

// at returns where a point is on the page, from the top left.
func (s *svgCanvas) at(pt vg.Point) (x, y float64) {
	p, px, py := &s.pen, float64(pt.X), float64(pt.Y)
	return p.a*px + p.c*py + p.e, float64(s.height) - (p.b*px + p.d*py + p.f)
}

// tenths writes a number with at most one digit after the point.
func tenths(v float64) string {
	return strconv.FormatFloat(math.Round(v*10)/10, 'f', -1, 64)
}

// path writes a path, each point where it is.
func (s *svgCanvas) path(p vg.Path) string {
	var b bytes.Buffer
	lastX, lastY := "", ""
	for i, c := range p {
		x, y := s.at(c.Pos)
		px, py := tenths(x), tenths(y)
		switch c.Type {
		case vg.MoveComp:
			fmt.Fprintf(&b, "M%s %s", px, py)
			lastX, lastY = px, py
		case vg.LineComp:
			// A point between two of the same height says nothing.
			if i+1 < len(p) && p[i+1].Type == vg.LineComp && py == lastY {
				if _, next := s.at(p[i+1].Pos); tenths(next) == py {
					continue
				}
			}
			switch {
			case px == lastX && py == lastY:
			case py == lastY:
				fmt.Fprintf(&b, "H%s", px)
			case px == lastX:
				fmt.Fprintf(&b, "V%s", py)
			default:
				fmt.Fprintf(&b, "L%s %s", px, py)
			}
			lastX, lastY = px, py
		case vg.CurveComp:
			b.WriteString(map[int]string{1: "Q", 2: "C"}[len(c.Control)])
			for _, k := range append(append([]vg.Point{}, c.Control...), c.Pos) {
				x, y := s.at(k)
				fmt.Fprintf(&b, "%s %s ", tenths(x), tenths(y))
			}
		case vg.ArcComp:
			const parts = 24
			for i := range parts + 1 {
				angle := c.Start + c.Angle*float64(i)/parts
				sin, cos := math.Sincos(angle)
				x, y := s.at(vg.Point{X: c.Pos.X + c.Radius*vg.Length(cos), Y: c.Pos.Y + c.Radius*vg.Length(sin)})
				fmt.Fprintf(&b, "%c%s %s", map[bool]byte{true: 'M', false: 'L'}[i == 0 && b.Len() == 0], tenths(x), tenths(y))
			}
		case vg.CloseComp:
			b.WriteByte('Z')
		}
	}
	return b.String()
}

// paint returns the class of what is drawn in the pen's colour, s for a stroke and f for what is filled; a colour that
// is no ink is written out.
func (s *svgCanvas) paint(kind string) string {
	switch c := s.pen.color.(type) {
	case Ink:
		return fmt.Sprintf(`class="%s %s"`, kind, c.Class())
	case wash:
		return fmt.Sprintf(`class="%s w %s"`, kind, c.Class())
	}
	r, g, b, _ := s.pen.color.RGBA()
	return fmt.Sprintf(`%s="#%02x%02x%02x"`, map[string]string{"s": `fill="none" stroke`, "f": "fill", "f t": "fill", "f t o": "fill"}[kind], r>>8, g>>8, b>>8)
}

func (s *svgCanvas) Stroke(p vg.Path) {
	if s.pen.width <= 0 {
		return
	}
	fmt.Fprintf(&s.out, `<path %s stroke-width="%s"`, s.paint("s"), tenths(float64(s.pen.width)))
	if len(s.pen.dash) > 0 {
		s.out.WriteString(` stroke-dasharray="`)
		for _, d := range s.pen.dash {
			fmt.Fprintf(&s.out, "%s ", tenths(float64(d)))
		}
		s.out.WriteByte('"')
	}
	fmt.Fprintf(&s.out, " d=\"%s\"/>\n", s.path(p))
}

func (s *svgCanvas) Fill(p vg.Path) {
	d := s.path(p)
	fmt.Fprintf(&s.out, "<path %s d=\"%s\"/>\n", s.paint("f"), d)
	if w, ok := s.pen.color.(wash); ok && w.Ink >= 0 && patterns[int(w.Ink)%Classes] != "" {
		fmt.Fprintf(&s.out, "<path fill=\"url(#p%d)\" d=\"%s\"/>\n", int(w.Ink)%Classes, d)
	}
}

func (s *svgCanvas) FillString(f font.Face, pt vg.Point, text string) {
	x, y := s.at(pt)
	kind := "f t"
	if s.pen.color == color.Color(Marker) { // it may stand on what is drawn
		kind = "f t o"
	}
	fmt.Fprintf(&s.out, `<text %s font-size="%s" x="%s" y="%s"`, s.paint(kind), tenths(float64(f.Font.Size)), tenths(x), tenths(y))
	if angle := -math.Atan2(s.pen.b, s.pen.a) * 180 / math.Pi; angle != 0 {
		fmt.Fprintf(&s.out, ` transform="rotate(%s %s %s)"`, tenths(angle), tenths(x), tenths(y))
	}
	fmt.Fprintf(&s.out, ">%s</text>\n", html.EscapeString(text))
}

// DrawImage draws nothing: charts have no pictures in them.
func (s *svgCanvas) DrawImage(vg.Rectangle, image.Image) {}

// hover lays a rectangle over a part of the chart that shows a text where the pointer is on it.
func (s *svgCanvas) hover(r vg.Rectangle, text string) {
	x0, y0 := s.at(r.Min)
	x1, y1 := s.at(r.Max)
	fmt.Fprintf(&s.out, "<rect class=\"h\" x=\"%s\" y=\"%s\" width=\"%s\" height=\"%s\"><title>%s</title></rect>\n", tenths(x0), tenths(y1), tenths(x1-x0), tenths(y0-y1), html.EscapeString(text))
}
