package render

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/mattn/go-runewidth"

	"imbrel.example/imbrel/core/policy"
)

// Error returns an error in lines, each of them visible and at most width columns wide; 0:
// as wide as it takes. Of what is wrong with a policy file it has the line itself, with a
// caret below what is meant. Arguments of the command line may be in the error: a line
// break in one of them is not one of the error's own.
func Error(err error, args []string, width int) string {
	var b strings.Builder
	t := Text{W: &b, Width: width}
	var problems policy.Problems
	if errors.As(err, &problems) && problems.Error() == err.Error() {
		for i := range problems {
			t.problem(&problems[i])
		}
	} else {
		t.Lines(visibleArguments(err.Error(), args))
	}
	return strings.TrimRight(b.String(), "\n")
}

// visibleArguments makes the arguments in a text visible.
func visibleArguments(text string, args []string) string {
	for _, a := range args {
		if v := Visible(a); v != a {
			text = strings.ReplaceAll(text, a, v)
		}
	}
	return text
}

func (t Text) problem(p *policy.Problem) {
	t.Line("%s: %s", p.Place.String(), p.Text)
	if p.Line != "" {
		number := fmt.Sprint(p.Place.Line)
		most := 98
		if t.Width > 0 {
			most = max(20, min(most, t.Width-len(number)-5))
		}
		e := excerptOf(p.Line, p.Place.Column-1, p.Width, most)
		t.Line("  %s | %s", number, painted(e.text))
		t.Line("  %s | %s%s", strings.Repeat(" ", len(number)), strings.Repeat(" ", e.before), strings.Repeat("^", e.width))
	}
	if p.Help != "" {
		t.Line("  %s", p.Help)
	}
}

// An excerpt is a line of a file, or a part of it, as it shows, and how many columns of it
// are before what is meant and in it.
type excerpt struct {
	text          string
	before, width int
}

// excerptOf cuts a line to the part of so many columns around what is meant, which begins
// with a character by its number and has so many bytes.
func excerptOf(line string, first, bytes, most int) excerpt {
	var cells []string
	var widths []int
	last := first // the character after what is meant
	for _, r := range line {
		cell := Visible(string(r))
		if r == '\t' {
			cell = " "
		}
		if n := len(cells); n >= first && bytes > 0 {
			bytes -= utf8.RuneLen(max(r, 0))
			last = n + 1
		}
		cells, widths = append(cells, cell), append(widths, runewidth.StringWidth(cell))
	}
	first = min(max(first, 0), len(cells))
	if first < len(cells) && (cells[first] == `"` || cells[first] == "'") { // what is quoted, to the end of the quotes
		if n := slices.Index(cells[first+1:], cells[first]); n >= 0 && last > first {
			last = first + n + 2
		}
	}
	last = min(max(last, first), len(cells))
	sum := func(from, to int) (n int) {
		for _, w := range widths[from:to] {
			n += w
		}
		return n
	}
	from, to := 0, len(cells)
	if sum(0, to) > most {
		most -= 2 // the dots
		for from = first; from > 0 && sum(from-1, first) <= most/2; from-- {
		}
		for to = max(first, from); to < len(cells) && sum(from, to+1) <= most; to++ {
		}
		for from > 0 && sum(from-1, to) <= most {
			from--
		}
	}
	e := excerpt{text: strings.Join(cells[from:to], ""), before: sum(from, first), width: max(1, sum(first, max(first, min(last, to))))}
	if from > 0 {
		e.text, e.before = "…"+e.text, e.before+1
	}
	if to < len(cells) {
		e.text += "…"
	}
	return e
}
