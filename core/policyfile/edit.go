package policyfile

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"imbrel.example/imbrel/core/language"
	"imbrel.example/imbrel/core/policy"
)

// An Edit is a value of a policy file to be written in another way.
type Edit struct {
	At  policy.Place // where the value is
	New string
}

// Edited returns the policy file read again with edits of it and of what it includes: the
// value at each place replaced, and nothing else. An edit of a place at which no single
// value is written, or that another edit of the same place contradicts, is an error.
func (s *Source) Edited(edits []Edit) (*policy.File, *Source, error) {
	texts := make(map[string][]byte)
	for name, text := range s.texts {
		texts[name] = text
	}
	edits = slices.Clone(edits)
	slices.SortStableFunc(edits, func(a, b Edit) int { // the last of a line first
		return (b.At.Line-a.At.Line)*100_000 + b.At.Column - a.At.Column
	})
	for i, e := range edits {
		if i > 0 && edits[i-1].At == e.At {
			if edits[i-1].New != e.New {
				return nil, s, fmt.Errorf("%s: two edits of one value", e.At)
			}
			continue
		}
		changed, err := s.replaced(texts[e.At.File], e)
		if err != nil {
			return nil, s, err
		}
		texts[e.At.File] = changed
	}
	return read(&Source{name: s.name, from: s.from, zones: s.zones, over: texts}, bytes.NewReader(texts[s.name]))
}

// replaced returns a text with the value at a place replaced.
func (s *Source) replaced(text []byte, e Edit) ([]byte, error) {
	_, from, to, err := s.span(text, e.At)
	if err != nil {
		return nil, err
	}
	return slices.Concat(text[:from], []byte(e.New), text[to:]), nil
}

// span returns the value at a place, and from where to where it is written in the text.
func (s *Source) span(text []byte, at policy.Place) (v *language.Value, from, to int, err error) {
	no := fmt.Errorf("%s: there is no single value here", at)
	if v = scalarAt(s.doc, at); v == nil {
		return nil, 0, 0, no
	}
	for range at.Line - 1 {
		n := bytes.IndexByte(text[from:], '\n')
		if n < 0 {
			return nil, 0, 0, no
		}
		from += n + 1
	}
	for column := 1; column < at.Column; column++ {
		if from >= len(text) {
			return nil, 0, 0, no
		}
		_, size := utf8.DecodeRune(text[from:])
		from += size
	}
	for _, written := range []string{v.Text, `"` + v.Text + `"`, "'" + v.Text + "'"} {
		if bytes.HasPrefix(text[from:], []byte(written)) && written != "" {
			return v, from, from + len(written), nil
		}
	}
	return nil, 0, 0, no
}

// End returns the column after the value that is written at a place; 0: no single value is.
func (s *Source) End(at policy.Place) int {
	text, known := s.texts[at.File]
	if !known {
		return 0
	}
	_, from, to, err := s.span(text, at)
	if err != nil {
		return 0
	}
	return at.Column + utf8.RuneCount(text[from:to])
}

// scalarAt returns the value of a document that is written at a place, or nil.
func scalarAt(v *language.Value, at policy.Place) *language.Value {
	if v.Kind == language.Scalar {
		if v.At == at {
			return v
		}
		return nil
	}
	for i := range v.Items {
		if found := scalarAt(&v.Items[i], at); found != nil {
			return found
		}
	}
	return nil
}

// A Changed is a file whose text differs from another reading's.
type Changed struct {
	Name     string
	Old, New []byte
}

// Changed returns the files whose text differs between two readings, by their names.
func (s *Source) Changed(before *Source) []Changed {
	var out []Changed
	for name, text := range s.texts {
		if old, was := before.texts[name]; was && !bytes.Equal(old, text) {
			out = append(out, Changed{name, old, text})
		}
	}
	slices.SortFunc(out, func(a, b Changed) int { return strings.Compare(a.Name, b.Name) })
	return out
}
