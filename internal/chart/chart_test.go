package chart

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"image/png"
	"io"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// everyKind is a chart with a panel of each kind.
func everyKind() *Chart {
	say := func(v float64) string { return fmt.Sprintf("%.3g u", v) }
	x := []float64{0, 1, 2, 3}
	c := &Chart{Title: "one of <each>", X: Axis{Name: "time", Max: 3, Say: func(v float64) string { return fmt.Sprintf("%g s", v) }}, Spans: []Span{{Name: "opening", From: 1, To: 2}}}
	for k, name := range []string{"areas", "steps", "bars", "curves", "bands"} {
		p := Panel{Name: name, Kind: Kind(k), Say: say}
		for i := range 3 {
			l := Line{Name: fmt.Sprintf("class%d", i), Ink: Ink(i), X: x, Y: []float64{float64(i + 1), 2, 5}}
			switch p.Kind {
			case Curves:
				l.X = x[:3]
			case Bands:
				l.Low, l.Mid = []float64{0, 1, 2}, []float64{0.5, 1.5, 4}
			}
			p.Lines = append(p.Lines, l)
		}
		p.Levels = []Level{{Name: "promise", At: 4}, {Name: "limit & all", At: 4.1}}
		c.Panels = append(c.Panels, p)
	}
	return c
}

func wellFormed(t *testing.T, text string) {
	t.Helper()
	for x := xml.NewDecoder(strings.NewReader(text)); ; {
		if _, err := x.Token(); err == io.EOF {
			return
		} else if err != nil {
			t.Fatalf("%v in %.300s", err, text)
		}
	}
}

// Each kind of panel is drawn inside of the picture, with a class of the style sheet for each colour, and names what it shows.
func TestDrawsEachKind(t *testing.T) {
	c := everyKind()
	for _, width := range []int{Wide, Narrow} {
		svg := c.SVG(width)
		wellFormed(t, svg)
		box := regexp.MustCompile(`viewBox="0 0 (\d+) ([\d.]+)"`).FindStringSubmatch(svg)
		height, _ := strconv.ParseFloat(box[2], 64)
		for _, m := range regexp.MustCompile(`(?:M|L)(-?[\d.]+) (-?[\d.]+)`).FindAllStringSubmatch(svg, -1) {
			px, _ := strconv.ParseFloat(m[1], 64)
			py, _ := strconv.ParseFloat(m[2], 64)
			if px < -1 || px > float64(width)+1 || py < -1 || py > height+1 {
				t.Fatalf("at %d: %s is outside of %s", width, m[0], box[0])
			}
		}
		if m := regexp.MustCompile(`(fill|stroke)="#`).FindString(svg); m != "" {
			t.Errorf("at %d: a colour is written out: %s", width, m)
		}
		for _, want := range []string{"class0", "areas", "bands", "promise; limit &amp; all", "opening", "one of &lt;each&gt;", "url(#p1)"} {
			if !strings.Contains(svg, want) {
				t.Errorf("at %d: no %q", width, want)
			}
		}
		if hovers := strings.Contains(svg, "<title>0 s: class0 1 u; class1 2 u; class2 3 u</title>"); hovers != (width == Wide) {
			t.Errorf("at %d: values under the pointer: %v", width, hovers)
		}
	}
	wellFormed(t, c.File())
	data, err := c.PNG()
	if err != nil {
		t.Fatal(err)
	}
	img, err := png.Decode(bytes.NewReader(data))
	if err != nil || img.Bounds().Dx() != 2*Wide {
		t.Fatalf("the PNG is %v: %v", img.Bounds(), err)
	}
	seen := make(map[[3]uint32]bool)
	for y := range img.Bounds().Dy() {
		for x := range img.Bounds().Dx() {
			r, g, b, _ := img.At(x, y).RGBA()
			seen[[3]uint32{r >> 8, g >> 8, b >> 8}] = true
		}
	}
	for _, k := range []Ink{0, 1, 2, Marker} {
		r, g, b, _ := k.RGBA()
		if !seen[[3]uint32{r >> 8, g >> 8, b >> 8}] {
			t.Errorf("the PNG has nothing in the ink %s", k.Class())
		}
	}
	wellFormed(t, Patterns())
}

// The numbers of a chart are those of its lines, and lines with other times are a table of their own.
func TestTable(t *testing.T) {
	c := everyKind()
	all := c.Table()
	if len(all) != 2 {
		t.Fatalf("%d tables", len(all))
	}
	if want := []string{"time", "areas: class0", "areas: class1"}; !slices.Equal(all[0].Head[:3], want) {
		t.Errorf("head %v", all[0].Head)
	}
	if want := []string{"1 s", "2 u", "2 u"}; !slices.Equal(all[0].Rows[1][:3], want) || len(all[0].Rows) != 3 {
		t.Errorf("rows %v", all[0].Rows)
	}
	for _, table := range all {
		for _, row := range table.Rows {
			if len(row) != len(table.Head) {
				t.Errorf("%d cells under %d heads", len(row), len(table.Head))
			}
		}
	}
	if !slices.Contains(all[0].Head, "bands: class1 p99") {
		t.Errorf("no p99 in %v", all[0].Head)
	}
}

// Ticks are round, and as many as there is room for.
func TestTicks(t *testing.T) {
	for _, top := range []float64{0.003, 0.7, 1, 4.5, 12, 99, 101, 34e6, 1e9} {
		for most := 2; most <= 9; most++ {
			got := steps(top, most, false)
			if len(got) < 2 || len(got) > most+1 || got[len(got)-1] > top*1.001 {
				t.Errorf("to %g: %v, of at most %d", top, got, most)
			}
			for i := 1; i < len(got); i++ {
				if d := got[i] - got[i-1]; math.Abs(d-got[1]) > got[1]*1e-6 {
					t.Errorf("to %g: uneven %v", top, got)
				}
			}
		}
	}
	if got := steps(2, 4, true); !slices.Equal(got, []float64{0, 1, 2}) {
		t.Errorf("whole numbers to 2: %v", got)
	}
	if got := decades(4, 120); !slices.Equal(got, []float64{5, 10, 20, 50, 100}) {
		t.Errorf("from 4 to 120: %v", got)
	}
	if got := decades(0.01, 1000); !slices.Equal(got, []float64{0.01, 0.1, 1, 10, 100, 1000}) {
		t.Errorf("five decades: %v", got)
	}
}
