// Package render turns results into what people and programs read. It computes
// nothing that a result does not hold.
package render

import (
	"fmt"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
)

// A Text writes for people. Colour marks what words say too.
type Text struct {
	W     io.Writer
	Color bool
}

// Line writes a line; what is in its arguments is made visible.
func (t Text) Line(format string, args ...any) {
	for i, a := range args {
		args[i] = shown(a)
	}
	fmt.Fprintf(t.W, format+"\n", args...)
}

// Lines writes a text of our own, of several lines.
func (t Text) Lines(text string) {
	for line := range strings.SplitSeq(text, "\n") {
		t.Line("%s", line)
	}
}

// Title writes a heading.
func (t Text) Title(format string, args ...any) {
	for i, a := range args {
		args[i] = shown(a)
	}
	t.Line("%s", t.paint(fmt.Sprintf(format, args...), text.Bold))
}

func (t Text) paint(s string, c ...text.Color) painted {
	s = Visible(s)
	if !t.Color {
		return painted(s)
	}
	codes := make([]string, len(c))
	for i, k := range c {
		codes[i] = fmt.Sprint(int(k))
	}
	return painted("\x1b[" + strings.Join(codes, ";") + "m" + s + "\x1b[0m")
}

func (t Text) good(s string) painted { return t.paint(s, text.FgGreen) }
func (t Text) bad(s string) painted  { return t.paint(s, text.FgRed, text.Bold) }

// A column is one column of a table: its heading, and which side it keeps to.
type column struct {
	head string
	left bool
}

// grid starts a table with a heading row. above, when given, has a heading over
// the columns; like neighbours are joined.
func (t Text) grid(columns []column, above []string) table.Writer {
	w := table.NewWriter()
	style := table.StyleLight
	style.Options = table.Options{SeparateHeader: true}
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "  "
	style.Format.Header = text.FormatDefault
	w.SetStyle(style)
	configs := make([]table.ColumnConfig, len(columns))
	head := make(table.Row, len(columns))
	for i, c := range columns {
		align := text.AlignRight
		if c.left {
			align = text.AlignLeft
		}
		configs[i] = table.ColumnConfig{Number: i + 1, Align: align, AlignHeader: align}
		head[i] = c.head
	}
	w.SetColumnConfigs(configs)
	if above != nil {
		row := make(table.Row, len(above))
		for i, a := range above {
			row[i] = a
		}
		w.AppendHeader(row, table.RowConfig{AutoMerge: true, AutoMergeAlign: text.AlignLeft})
	}
	w.AppendHeader(head)
	return w
}

// dense sets the columns of a wide table close together.
func (t Text) dense(w table.Writer) table.Writer {
	w.Style().Box.PaddingRight = " "
	return w
}

// put writes a table, each line two spaces in.
func (t Text) put(w table.Writer) { t.putWith(w, func(int) {}) }

// putWith does so, and calls after each row with its number.
func (t Text) putWith(w table.Writer, after func(row int)) {
	lines := strings.Split(w.Render(), "\n")
	isRule := func(line string) bool { return strings.HasPrefix(line, "──") }
	width := 0
	for i, line := range lines {
		if lines[i] = strings.TrimRight(line, " "); !isRule(line) {
			width = max(width, text.StringWidthWithoutEscSequences(lines[i]))
		}
	}
	row := -1
	for _, line := range lines {
		rule := isRule(line)
		if rule {
			line = strings.Repeat("─", width) // as far as the text, not its padding
		}
		t.Line("  %s", painted(line)) // its cells are visible
		switch {
		case row >= 0:
			after(row)
			row++
		case rule:
			row = 0
		}
	}
}
