// Package words makes sentences of facts. A command finds out facts: a row of a table here, and values (rates, names,
// places). Nobody reads a sentence back: what is compared or counted is the row and the values. Text, JSON and SARIF
// print the same sentences.
package words

import (
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"

	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
)

// A Row is a kind of fact: its sentence with a placeholder for each value, and for a finding what follows from it and
// the way out. A placeholder is {name}; {name!} prints the value as a policy file has it; {name|packet} counts, {name,} and {name;} join a list.
// What is between [[ and ]] is left out where none of its values is there.
type Row struct {
	parts [][]piece
	names []string // of the values, in the order of With
	told  int      // how many of them are in the sentence: the first ones
}

// A piece of a template is text, a value, or where a part that may be left out opens or closes.
type piece struct {
	text  string
	value int // its number; -1: this is text
	form  string
}

const opens, closes = "[[", "]]"

// The parts of a finding's row.
const (
	sentence = iota
	consequence
	fix
)

// row returns a row of one sentence; finding one of a sentence, what follows from it, and the way out.
func row(text string) *Row { return finding(text) }

func finding(templates ...string) *Row {
	r := &Row{}
	for _, t := range templates {
		if r.parts = append(r.parts, r.parse(t)); len(r.parts) == 1 {
			r.told = len(r.names)
		}
	}
	return r
}

// parse takes a template apart. "{{" is a brace.
func (r *Row) parse(t string) (out []piece) {
	for t != "" {
		i := strings.IndexAny(t, "{[]")
		if i < 0 {
			return append(out, piece{text: t, value: -1})
		}
		if i > 0 {
			out = append(out, piece{text: t[:i], value: -1})
		}
		switch t = t[i:]; {
		case strings.HasPrefix(t, "{{"):
			out = append(out, piece{text: "{", value: -1})
			t = t[2:]
		case strings.HasPrefix(t, opens), strings.HasPrefix(t, closes):
			out = append(out, piece{value: -1, form: t[:2]})
			t = t[2:]
		case t[0] == '{':
			name, rest, _ := strings.Cut(t[1:], "}")
			form := ""
			if n := strings.IndexAny(name, "!|,;"); n >= 0 {
				name, form = name[:n], name[n:]
			}
			n := slices.Index(r.names, name)
			if n < 0 {
				n = len(r.names)
				r.names = append(r.names, name)
			}
			out = append(out, piece{value: n, form: form})
			t = rest
		default:
			out = append(out, piece{text: t[:1], value: -1})
			t = t[1:]
		}
	}
	return out
}

// Names returns the names of the values, in the order in which With takes them.
func (r *Row) Names() []string { return slices.Clone(r.names) }

// With returns a fact of the row with its values, in the order of Names.
func (r *Row) With(values ...any) Fact { return Fact{row: r, values: values} }

// A Fact is one thing that a command found out. The zero Fact says nothing.
type Fact struct {
	row    *Row
	values []any
}

// said is the row of a sentence read from a saved result.
var said = row("{sentence}")

// Is reports whether the fact is of a row.
func (f Fact) Is(r *Row) bool { return f.row == r }

// IsZero reports whether the fact says nothing.
func (f Fact) IsZero() bool { return f.row == nil }

// Same reports whether two facts are of one row and have the same values in their sentence, wherever in a file.
func (f Fact) Same(o Fact) bool {
	return f.row == o.row && slices.EqualFunc(f.sentenceValues(), o.sentenceValues(), func(a, b any) bool {
		switch a := a.(type) {
		case policy.Place:
			_, is := b.(policy.Place)
			return is
		case Fact:
			b, is := b.(Fact)
			return is && a.Same(b)
		case []Fact:
			b, is := b.([]Fact)
			return is && slices.EqualFunc(a, b, Fact.Same)
		}
		return reflect.DeepEqual(a, b)
	})
}

// Fingerprint returns the sentence without the lines of the file: it is the same wherever the fact is.
func (f Fact) Fingerprint() string {
	plain := Fact{row: f.row}
	for _, v := range f.sentenceValues() {
		switch x := v.(type) {
		case policy.Place:
			v = policy.Place{}
		case Fact:
			v = x.Fingerprint()
		}
		plain.values = append(plain.values, v)
	}
	return plain.String()
}

func (f Fact) sentenceValues() []any {
	if f.row == nil {
		return nil
	}
	return f.values[:min(f.row.told, len(f.values))]
}

// String returns the sentence, without a full stop.
func (f Fact) String() string { return f.part(sentence) }

// Consequence returns what follows from a finding.
func (f Fact) Consequence() string { return f.part(consequence) }

// Fix returns the way out of a finding.
func (f Fact) Fix() string { return f.part(fix) }

// Values returns the values by their names.
func (f Fact) Values() map[string]any {
	out := make(map[string]any)
	if f.row != nil {
		for i, n := range f.row.names {
			if i < len(f.values) {
				out[n] = f.values[i]
			}
		}
	}
	return out
}

// MarshalText returns the sentence.
func (f Fact) MarshalText() ([]byte, error) { return []byte(f.String()), nil }

// UnmarshalText makes a fact of a saved sentence.
func (f *Fact) UnmarshalText(b []byte) error {
	*f = Fact{}
	if len(b) > 0 {
		*f = said.With(string(b))
	}
	return nil
}

// part prints a part of the row. A value that was not given prints as its placeholder.
func (f Fact) part(n int) string {
	if f.row == nil || n >= len(f.row.parts) {
		return ""
	}
	out, begins, some := "", 0, true
	for _, p := range f.row.parts[n] {
		switch {
		case p.form == opens:
			begins, some = len(out), false
		case p.form == closes && !some:
			out = out[:begins]
		case p.value < 0:
			out += p.text
		case p.value >= len(f.values):
			out += "{" + f.row.names[p.value] + "}"
		default:
			some = some || !absent(f.values[p.value])
			out += printed(f.values[p.value], p.form)
		}
	}
	return out
}

func absent(v any) bool {
	of := reflect.ValueOf(v)
	return v == nil || of.IsZero() || of.Kind() == reflect.Slice && of.Len() == 0
}

// A Part of a whole prints as a percentage.
type Part float64

// A Percentage as a file has it prints without digits that carry nothing.
type Percentage float64

// A MOS prints with two decimals.
type MOS float64

// A Quote prints within quotation marks.
type Quote string

// A Decided number is printed with as many digits as show on which side of a limit it is.
type Decided struct {
	Value, Limit float64
	Unit         string // bit/s, s or another
}

// printed prints a value. With the form "!" it is spelled as in a policy file, with "|noun" it counts.
func printed(v any, form string) string {
	asWritten := form == "!"
	switch v := v.(type) {
	case unit.Rate:
		if asWritten {
			return v.String()
		}
		return humanize.Rate(int64(v))
	case unit.Size:
		if asWritten {
			return v.String()
		}
		return humanize.Bytes(int64(v))
	case time.Duration:
		if asWritten {
			return unit.FormatDuration(v)
		}
		return humanize.Milliseconds(float64(v) / 1e6)
	case Part:
		return humanize.Ratio(float64(v))
	case Percentage:
		return fmt.Sprintf("%.3g %%", float64(v))
	case MOS:
		return fmt.Sprintf("%.2f", float64(v))
	case Quote:
		return fmt.Sprintf("%q", string(v))
	case Decided:
		return humanize.Decided(v.Value, v.Limit, v.Unit)
	case float64:
		return humanize.Digits(v)
	case int:
		return count(int64(v), form)
	case int64:
		return count(v, form)
	case uint64:
		return count(int64(v), form)
	case policy.Place:
		if asWritten {
			return fmt.Sprint(v.Line)
		}
		return fmt.Sprintf("%s:%d", v.File, v.Line)
	case []string:
		if form == "," || form == ";" {
			return strings.Join(v, form+" ")
		}
		return humanize.List(v)
	case []Fact:
		var list []string
		for _, f := range v {
			list = append(list, f.String())
		}
		return printed(list, form)
	}
	return fmt.Sprint(v)
}

// count prints a number with the noun of its form, or the first of two verbs for one and the second for more.
func count(n int64, form string) string {
	if form == "" || form[0] != '|' {
		return humanize.Count(n)
	}
	one, more, verbs := strings.Cut(form[1:], "|")
	switch {
	case !verbs:
		return humanize.Plural(int(n), one)
	case n == 1:
		return one
	}
	return more
}
