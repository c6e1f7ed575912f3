// Package render turns results into what people and programs read. It computes
// nothing that a result does not hold.
package render

import (
	"fmt"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
)

// A Text writes for people. Colour marks what words say too.
type Text struct {
	W     io.Writer
	Color bool
	Width int // columns of the terminal; 0: as many as it takes
}

// Line writes a line; what is in its arguments is made visible.
func (t Text) Line(format string, args ...any) {
	for i, a := range args {
		args[i] = shown(a)
	}
	line := fmt.Sprintf(format, args...)
	for t.Width > 0 && text.StringWidthWithoutEscSequences(line) > t.Width {
		first, rest, ok := t.broken(line)
		if !ok {
			break
		}
		fmt.Fprintln(t.W, first)
		line = rest
	}
	fmt.Fprintln(t.W, line)
}

// broken breaks a line at the last space that fits; what is left begins as far in as the
// line does, and two more. It returns false for a line of one word.
func (t Text) broken(line string) (first, rest string, ok bool) {
	in := len(line) - len(strings.TrimLeft(line, " "))
	at := -1
	for i := in; i < len(line); i++ {
		if line[i] != ' ' {
			continue
		}
		if at >= 0 && text.StringWidthWithoutEscSequences(line[:i]) > t.Width {
			break
		}
		at = i
	}
	if at < 0 || in+2 >= t.Width/2 {
		return line, "", false
	}
	return strings.TrimRight(line[:at], " "), strings.Repeat(" ", in+2) + strings.TrimLeft(line[at:], " "), true
}

// Lines writes a text of our own, of several lines.
func (t Text) Lines(text string) {
	for line := range strings.SplitSeq(text, "\n") {
		t.Line("%s", line)
	}
}

// Prose writes paragraphs, whose lines are joined and broken anew; a line that begins with a space stays.
func (t Text) Prose(text string) {
	var words []string
	flush := func() {
		if len(words) > 0 {
			t.paragraph("", strings.Join(words, " "))
		}
		words = nil
	}
	for line := range strings.SplitSeq(text, "\n") {
		if line != "" && line[0] != ' ' {
			words = append(words, line)
			continue
		}
		flush()
		t.Line("%s", line)
	}
	flush()
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

// warn paints a warning: magenta can be read on light and on dark.
func (t Text) warn(s string) painted { return t.paint(s, text.FgMagenta, text.Bold) }
