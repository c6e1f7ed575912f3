package chart

import (
	"fmt"
	"image/color"
	"strings"
)

// An Ink is a colour by what it shows. A class keeps its ink on a whole page.
type Ink int

// Inks that are no class. Inks of classes count from 0; after the last of them they begin again.
const (
	Axes   Ink = -1 - iota // lines and words of the axes
	Faint                  // the grid, and what is shaded
	Marker                 // a promise, a limit or what is expected
	Lost                   // what was lost or dropped
)

// A tint is an ink in light and dark. Neighbours differ in lightness as well, so that those who see fewer colours tell them apart.
type tint struct{ light, dark string }

var classTints = []tint{
	{"#1d4f9e", "#8db4f5"}, {"#b85c00", "#f0a860"}, {"#0b7a66", "#58cdb4"}, {"#8a3d9e", "#d7a0e8"},
	{"#6f6200", "#d2c054"}, {"#3a86c0", "#6fb9ee"}, {"#b03060", "#f590b0"}, {"#6b7280", "#a7aeb8"},
}

var otherTints = map[Ink]tint{Axes: {"#4a5260", "#b5bcc8"}, Faint: {"#e3e6eb", "#343a44"}, Marker: {"#111827", "#f3f4f6"}, Lost: {"#b3261e", "#ff8a80"}}

// Classes is how many inks of classes differ.
const Classes = 8

func (k Ink) tint() tint {
	if k >= 0 {
		return classTints[int(k)%Classes]
	}
	return otherTints[k]
}

// Class is the ink's name in a style sheet.
func (k Ink) Class() string {
	if k >= 0 {
		return fmt.Sprintf("k%d", int(k)%Classes)
	}
	return map[Ink]string{Axes: "kx", Faint: "kf", Marker: "km", Lost: "kl"}[k]
}

// RGBA is the ink in light, for pictures without a style sheet.
func (k Ink) RGBA() (r, g, b, a uint32) {
	var c color.NRGBA
	c.A = 255
	fmt.Sscanf(k.tint().light, "#%02x%02x%02x", &c.R, &c.G, &c.B)
	return c.RGBA()
}

// A wash is an ink that lets what is below shine through, with the ink's pattern.
type wash struct{ Ink }

// RGBA mixes the ink with white.
func (w wash) RGBA() (r, g, b, a uint32) {
	r, g, b, a = w.Ink.RGBA()
	mix := func(v uint32) uint32 { return v*washed/100 + 0xffff*(100-washed)/100 }
	return mix(r), mix(g), mix(b), a
}

// washed is how much of an ink is in its wash, in per cent.
const washed = 45

// patterns are drawn over the wash of each class: what a line of 8 by 8 looks like.
var patterns = [Classes]string{
	"", "M0 8L8 0", "M2 2h1.5v1.5h-1.5zM6 6h1.5v1.5h-1.5z", "M0 0L8 8", "M0 4H8", "M4 0V8", "M0 8L8 0M0 0L8 8", "M0 2H8M2 0V8",
}

// Patterns is the SVG of the patterns, once in a page.
func Patterns() string {
	var b strings.Builder
	b.WriteString(`<svg width="0" height="0" aria-hidden="true" style="position:absolute"><defs>`)
	for i, p := range patterns {
		if p != "" {
			fmt.Fprintf(&b, `<pattern id="p%d" width="8" height="8" patternUnits="userSpaceOnUse"><path class="s k%d" d="%s" stroke-width=".9"/></pattern>`, i, i, p)
		}
	}
	b.WriteString(`</defs></svg>`)
	return b.String()
}

// Style is the style sheet of all charts.
func Style() string {
	var light, dark strings.Builder
	for i := range Classes {
		fmt.Fprintf(&light, "--k%d:%s;", i, classTints[i].light)
		fmt.Fprintf(&dark, "--k%d:%s;", i, classTints[i].dark)
	}
	for _, k := range []Ink{Axes, Faint, Marker, Lost} {
		fmt.Fprintf(&light, "--%s:%s;", k.Class(), k.tint().light)
		fmt.Fprintf(&dark, "--%s:%s;", k.Class(), k.tint().dark)
	}
	var b strings.Builder
	fmt.Fprintf(&b, ":root{%s}\n@media(prefers-color-scheme:dark){:root{%s}}\n@media print{:root{%s}}\n", &light, &dark, &light)
	b.WriteString(".s{fill:none}.t{font-family:'Liberation Sans',Arial,Helvetica,sans-serif}.w{fill-opacity:.45}.o{paint-order:stroke;stroke:var(--bg,#fff);stroke-width:3px;stroke-linejoin:round}\n")
	for i := range Classes {
		fmt.Fprintf(&b, ".s.k%d{stroke:var(--k%d)}.f.k%d{fill:var(--k%d)}\n", i, i, i, i)
	}
	for _, k := range []Ink{Axes, Faint, Marker, Lost} {
		fmt.Fprintf(&b, ".s.%s{stroke:var(--%s)}.f.%s{fill:var(--%s)}\n", k.Class(), k.Class(), k.Class(), k.Class())
	}
	b.WriteString(".h{fill:transparent}.h:hover{fill:var(--kx);fill-opacity:.15}\n")
	return b.String()
}
