package render

import (
	"fmt"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
)

// A column is one column of a table: its heading, and which side it keeps to.
type column struct {
	head string
	left bool
}

// bare is the heading of a column that says itself what its cells are: they go without it
// where each row has lines of its own.
const bare = "flow, and what each policy did"

// A grid is a table: as wide as it takes, or, where the terminal is narrower, each row as
// a few lines of its own.
type grid struct {
	table.Writer
	columns []column
	above   []string
	rows    [][]string
	configs []table.ColumnConfig
	least   []string // headings of the columns to leave out in a narrow terminal, the least important first
}

// without names the columns to leave out where the terminal is too narrow, the least important first.
func (g *grid) without(heads ...string) *grid {
	g.least = heads
	return g
}

// hide leaves the columns of a heading out.
func (g *grid) hide(head string) {
	for i := range g.columns {
		if g.columns[i].head == head {
			g.configs[i].Hidden = true
		}
	}
	g.SetColumnConfigs(g.configs)
}

// add adds a row.
func (g *grid) add(row table.Row) {
	cells := make([]string, len(row))
	for i, v := range row {
		row[i] = shown(v)
		cells[i] = fmt.Sprint(row[i])
	}
	g.rows = append(g.rows, cells)
	g.AppendRow(row)
}

// grid starts a table with a heading row. above, when given, has a heading over
// the columns; like neighbours are joined.
func (t Text) grid(columns []column, above []string) *grid {
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
	return &grid{Writer: w, columns: columns, above: above, configs: configs}
}

// dense sets the columns of a wide table close together.
func (t Text) dense(w *grid) *grid {
	w.Style().Box.PaddingRight = " "
	return w
}

// put writes a table, each line two spaces in.
func (t Text) put(w *grid) { t.putWith(w, func(int) {}) }

// putWith does so, and calls after each row with its number.
func (t Text) putWith(w *grid, after func(row int)) {
	isRule := func(line string) bool { return strings.HasPrefix(line, "──") }
	var lines, hidden []string
	width := 0
	for {
		lines, width = strings.Split(w.Render(), "\n"), 0
		for i, line := range lines {
			if lines[i] = strings.TrimRight(line, " "); !isRule(line) {
				width = max(width, text.StringWidthWithoutEscSequences(lines[i]))
			}
		}
		if t.Width == 0 || width+2 <= t.Width {
			break
		}
		if t.Width < minTable || len(hidden) == len(w.least) {
			t.tall(w, after)
			return
		}
		hidden = append(hidden, w.least[len(hidden)])
		w.hide(hidden[len(hidden)-1])
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
	if len(hidden) > 0 {
		t.Line("  no room here for: %s", strings.Join(hidden, ", "))
	}
}

// minTable is the narrowest terminal, in columns, that gets tables. In a narrower one each row has lines of its own.
const minTable = 60

// tall writes each row as its first cell and, below it, the others with their headings.
func (t Text) tall(g *grid, after func(row int)) {
	for n, cells := range g.rows {
		if cells[0] != "" {
			t.wrapped("  ", []string{cells[0]}, " ")
		}
		lead := "    "
		var parts []string
		flush := func() {
			if len(parts) > 0 {
				t.wrapped(lead, parts, ", ")
			}
			parts = nil
		}
		for i := 1; i < len(cells); i++ {
			head := g.columns[i].head
			if head == "│" {
				flush()
				if g.above != nil {
					lead = "    " + strings.TrimSpace(g.above[i+1]) + ": "
				}
				continue
			}
			cell := strings.TrimSpace(cells[i])
			switch {
			case cells[i] == "":
			case head == bare:
				parts = append(parts, cell)
			case cell == "": // a chart of nothing
				parts = append(parts, head+" -")
			default:
				parts = append(parts, strings.TrimSpace(head+" "+cell))
			}
		}
		flush()
		after(n)
	}
}

// wrapped writes parts on lines that fit, each after the lead or as far in.
func (t Text) wrapped(lead string, parts []string, between string) {
	in := strings.Repeat(" ", len(lead)-len(strings.TrimLeft(lead, " ")))
	line := lead
	for i, part := range parts {
		if i+1 < len(parts) {
			part += strings.TrimRight(between, " ")
		}
		gap := ""
		if strings.TrimSpace(line) != "" && i > 0 {
			gap = " "
		}
		if w := text.StringWidthWithoutEscSequences(line + gap + part); w > t.Width && i > 0 {
			t.Line("%s", painted(line))
			line, gap = in+"  ", ""
		}
		line += gap + part
	}
	t.Line("%s", painted(line))
}
