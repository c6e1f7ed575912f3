// Package policyfile reads policy files: YAML text with what it includes, from any reader and any file system.
package policyfile

import (
	"bytes"
	"errors"
	"io"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"imbrel.example/imbrel/core/language"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
)

// MaxBytes bounds a policy file with what it includes. With the YAML library's own bound on nesting it bounds the memory
// that reading takes.
const MaxBytes = 4 << 20

// Includes says where the files are that a policy file includes.
type Includes interface {
	// Join returns the name, from the folder of the first file, of a file that a file in the folder dir names.
	Join(dir, name string) string
	// Open opens a file by its name from the folder of the first file. An *Outside error says that it may not be read.
	Open(name string) (io.ReadCloser, error)
	// Shown returns the name of a file as people are told it.
	Shown(name string) string
}

// An Outside says that a file is outside the folder of the first file.
type Outside struct{ Folder string }

func (o *Outside) Error() string { return "it is outside the folder of the first file, " + o.Folder }

// Opened are the files that a function opens by their names from a root, such as the Open of a file system.
func Opened[F io.ReadCloser](open func(name string) (F, error)) Includes {
	return opened(func(name string) (io.ReadCloser, error) { return open(name) })
}

// none opens nothing.
var none = Opened(func(name string) (io.ReadCloser, error) {
	return nil, errors.New("open " + name + ": there are no files")
})

type opened func(name string) (io.ReadCloser, error)

func (o opened) Open(name string) (io.ReadCloser, error) { return o(name) }

func (opened) Join(dir, name string) string {
	if path.IsAbs(name) {
		return name
	}
	return path.Join(dir, name)
}

func (opened) Shown(name string) string { return name }

// A Zones looks up a time zone by its name, as time.LoadLocation does. With nil a file may name none but UTC.
type Zones func(name string) (*time.Location, error)

// lookup returns the function that the language asks.
func (z Zones) lookup() func(string) (*time.Location, error) {
	if z != nil {
		return z
	}
	return func(name string) (*time.Location, error) {
		if name == "UTC" {
			return time.UTC, nil
		}
		return nil, errors.New("no time zones are known here")
	}
}

// A Source is the text of a policy file with what it includes: values can be looked up, and the file can be read again
// with other values. The zero Source has no text.
type Source struct {
	name  string // of the file that was read first
	from  Includes
	zones Zones
	texts map[string][]byte // of the files read, by name
	doc   *language.Value   // what was read, with what it includes
	over  map[string][]byte // texts to take in place of those of the files, by name
}

// ReadOpened reads and validates a policy file that a function opens by its name, and what it includes by the same function, such as the
// Open of a file system. What is wrong with it is a policy.Problems.
func ReadOpened[F io.ReadCloser](open func(name string) (F, error), name string, zones Zones) (*policy.File, *Source, error) {
	file, err := open(name)
	if err != nil {
		return nil, &Source{}, err
	}
	defer file.Close()
	return Read(name, file, Opened(open), zones)
}

// Read reads and validates a policy file, and what it includes; from may be nil when it includes nothing. The name is for places in messages. What is wrong with the
// file is a policy.Problems; the Source is there then, too.
func Read(name string, r io.Reader, from Includes, zones Zones) (*policy.File, *Source, error) {
	if from == nil {
		from = none
	}
	return read(&Source{name: name, from: from, zones: zones}, r)
}

func read(s *Source, r io.Reader) (*policy.File, *Source, error) {
	s.texts = make(map[string][]byte)
	inc := includer{in: s}
	doc, err := inc.read(s.name, "", r)
	switch {
	case err != nil:
	case len(inc.problems) > 0: // and what is wrong with the files that can be read
		if doc.Kind != language.Null {
			inc.problems = append(inc.problems, language.ReadParts(doc)...)
		}
		inc.problems.Sort(inc.names...)
		err = inc.problems
	default:
		s.doc = &doc
		var f *policy.File
		if f, err = language.Read(doc, s.zones.lookup()); err == nil {
			return f, s, nil
		}
	}
	return nil, s, s.WithLines(err)
}

// Number returns the text at a path of the policy file that was read, "" where nothing
// is written, and the place where it is, or would be.
func (s *Source) Number(path string) (string, policy.Place) {
	v, ok := s.doc.Lookup(path)
	if ok {
		if v.Kind == language.Scalar {
			return v.Text, v.At
		}
		return "", v.At
	}
	for !ok {
		cut := strings.LastIndexByte(path, '.')
		if cut < 0 {
			return "", s.doc.At
		}
		path = path[:cut]
		v, ok = s.doc.Lookup(path)
	}
	return "", v.At
}

// Numbers returns the paths of all numbers of the policy file: rates, sizes, times, percentages and counts.
func (s *Source) Numbers() (out []string) {
	s.doc.Scalars(func(path string, v *language.Value) {
		if _, err := unit.ParseNumber(v.Text); err == nil {
			out = append(out, path)
		}
	})
	return out
}

// With returns the policy file with another text at a path.
func (s *Source) With(path, text string) (*policy.File, error) {
	doc, err := s.doc.With(path, text)
	if err != nil {
		return nil, err
	}
	f, err := language.Read(doc, s.zones.lookup())
	return f, s.WithLines(err)
}

// Expecting returns the policy file with one more expectation of a rehearsal, and the place
// from which it can be changed further.
func (s *Source) Expecting(rehearsal, text string) (*policy.File, *Source, error) {
	doc, err := s.doc.Append("rehearsals."+rehearsal+".expect", text)
	if err != nil {
		return nil, s, err
	}
	again := *s
	again.doc = &doc
	f, err := language.Read(doc, s.zones.lookup())
	return f, &again, again.WithLines(err)
}

// WithLines puts the lines of the policy files themselves into an error about
// them.
func (s *Source) WithLines(err error) error {
	var problems policy.Problems
	if !errors.As(err, &problems) {
		return err
	}
	for i, q := range problems {
		problems[i].Line = lineOf(s.texts[q.Place.File], q.Place.Line)
	}
	return err
}

var acceptance = regexp.MustCompile(`#\s*imbrel:\s*accept\s+([a-z0-9-]+)\s+because\s+\S`)

// Accepted reports whether the line at a place says that a finding is accepted there, and
// why: `# imbrel: accept NAME because REASON`.
func (s *Source) Accepted(at policy.Place, name string) bool {
	m := acceptance.FindStringSubmatch(lineOf(s.texts[at.File], at.Line))
	return m != nil && m[1] == name
}

// lineOf returns a line of a text, by what YAML takes for a line break (YAML 1.1 §5.4); ""
// when there is none.
func lineOf(text []byte, number int) string {
	for ; number > 0; number-- {
		end := bytes.IndexAny(text, "\n\r\u0085\u2028\u2029")
		line, rest := text, []byte(nil)
		if end >= 0 {
			_, width := utf8.DecodeRune(text[end:])
			if bytes.HasPrefix(text[end:], []byte("\r\n")) {
				width = 2
			}
			line, rest = text[:end], text[end+width:]
		}
		if number == 1 {
			return string(line)
		}
		if text = rest; end < 0 {
			break
		}
	}
	return ""
}

// Parse reads and validates the text of a policy file that includes nothing.
func Parse(name string, text []byte, zones Zones) (*policy.File, error) {
	f, _, err := Read(name, bytes.NewReader(text), nil, zones)
	return f, err
}

// A Text is a file that was read.
type Text struct {
	Name string
	Text []byte
}

// Texts returns the files that were read: the policy file first, then what it includes by name.
func (s *Source) Texts() []Text {
	out := []Text{{s.name, s.texts[s.name]}}
	for _, name := range slices.Sorted(maps.Keys(s.texts)) {
		if name != s.name {
			out = append(out, Text{name, s.texts[name]})
		}
	}
	return out
}
