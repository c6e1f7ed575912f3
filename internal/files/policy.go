// Package files reads policy files and captures, and writes captures.
package files

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"time"
	_ "time/tzdata" // the same time zones on every machine
	"unicode/utf8"

	"go.yaml.in/yaml/v3"

	"imbrel.example/imbrel/core/language"
	"imbrel.example/imbrel/core/policy"
)

// What a policy file may come to; with the YAML library's own bound on nesting,
// this bounds the memory that reading takes.
const maxPolicyBytes = 4 << 20

// A Place to read files from: the operating system's, or an embedded one.
type Place struct {
	FS   fs.FS    // nil: the operating system's files
	In   string   // the folder that relative names start from
	Also []string // other folders from which files may be included

	texts map[string][]byte // of the policy files read, by name
	doc   *language.Value   // what was read, with what it includes
	name  string            // of the file that was read first
	over  map[string][]byte // texts to take in place of those of the files, by name
}

// Number returns the text at a path of the policy file that was read, "" where nothing
// is written, and the place where it is, or would be.
func (p Place) Number(path string) (string, policy.Place) {
	v, ok := p.doc.Lookup(path)
	if ok {
		if v.Kind == language.Scalar {
			return v.Text, v.At
		}
		return "", v.At
	}
	for !ok {
		cut := strings.LastIndexByte(path, '.')
		if cut < 0 {
			return "", p.doc.At
		}
		path = path[:cut]
		v, ok = p.doc.Lookup(path)
	}
	return "", v.At
}

// With returns the policy file with another text at a path.
func (p Place) With(path, text string) (*policy.File, error) {
	doc, err := p.doc.With(path, text)
	if err != nil {
		return nil, err
	}
	f, err := language.Read(doc, time.LoadLocation)
	return f, p.WithLines(err)
}

// Expecting returns the policy file with one more expectation of a rehearsal, and the place
// from which it can be changed further.
func (p Place) Expecting(rehearsal, text string) (*policy.File, Place, error) {
	doc, err := p.doc.Append("rehearsals."+rehearsal+".expect", text)
	if err != nil {
		return nil, p, err
	}
	p.doc = &doc
	f, err := language.Read(doc, time.LoadLocation)
	return f, p, p.WithLines(err)
}

// open opens a file by a name as a policy file gives it.
func (p Place) open(name string) (fs.File, error) {
	if p.FS != nil {
		return p.FS.Open(name)
	}
	if !filepath.IsAbs(name) {
		name = filepath.Join(p.In, name)
	}
	return os.Open(name)
}

// WithLines puts the lines of the policy files themselves into an error about
// them.
func (p Place) WithLines(err error) error {
	var problems policy.Problems
	if !errors.As(err, &problems) {
		return err
	}
	for i, q := range problems {
		problems[i].Line = lineOf(string(p.texts[q.Place.File]), q.Place.Line)
	}
	return err
}

var acceptance = regexp.MustCompile(`#\s*imbrel:\s*accept\s+([a-z0-9-]+)\s+because\s+\S`)

// Accepted reports whether the line at a place says that a finding is accepted there, and
// why: `# imbrel: accept NAME because REASON`.
func (p Place) Accepted(at policy.Place, name string) bool {
	m := acceptance.FindStringSubmatch(lineOf(string(p.texts[at.File]), at.Line))
	return m != nil && m[1] == name
}

// lineOf returns a line of a text, by what YAML takes for a line break (YAML 1.1 §5.4); ""
// when there is none.
func lineOf(text string, number int) string {
	for ; number > 0; number-- {
		end := strings.IndexAny(text, "\n\r\u0085\u2028\u2029")
		line, rest := text, ""
		if end >= 0 {
			_, width := utf8.DecodeRuneInString(text[end:])
			if strings.HasPrefix(text[end:], "\r\n") {
				width = 2
			}
			line, rest = text[:end], text[end+width:]
		}
		if number == 1 {
			return line
		}
		if text = rest; end < 0 {
			break
		}
	}
	return ""
}

// controls returns the control characters of a text, which YAML does not have (YAML 1.1
// §5.1), the first of each line.
func controls(name, text string) (ps policy.Problems) {
	line, column, said := 1, 1, 0
	for i, r := range text {
		switch {
		case r == '\n' || r == '\r' && !strings.HasPrefix(text[i:], "\r\n") || r == '\u0085' || r == '\u2028' || r == '\u2029':
			line, column = line+1, 1
			continue
		case r == '\t' || r == '\r' || r >= 0x20 && r <= 0x7e || r >= 0xa0 && r != 0xfeff && r < 0xfffe || r >= 0x10000 || r == 0xfeff && i == 0:
		case said != line && len(ps) < 20:
			said = line
			ps = append(ps, policy.Problem{Place: policy.Place{File: name, Line: line, Column: column}, Width: utf8.RuneLen(r),
				Text: fmt.Sprintf("the control character U+%04X is not allowed", r), Help: "remove it"})
		}
		column++
	}
	return ps
}

// ReadPolicy reads and validates a policy file and what it includes, from its own folder
// and those given; "-" is standard input, given as stdin. It also returns the place that
// names within the file start from.
func ReadPolicy(name string, stdin io.Reader, includeFrom ...string) (*policy.File, Place, error) {
	if name == "-" {
		return readPolicy(Place{In: ".", Also: includeFrom}, "stdin", stdin)
	}
	file, err := openNamed(Place{}, name)
	if err != nil {
		return nil, Place{}, fmt.Errorf("cannot read the policy file: %w", err)
	}
	defer file.Close()
	return readPolicy(Place{In: filepath.Dir(name), Also: includeFrom}, name, file)
}

// ReadPolicyIn reads and validates a policy file of an embedded file system.
func ReadPolicyIn(in fs.FS, name string) (*policy.File, Place, error) {
	file, err := in.Open(name)
	if err != nil {
		return nil, Place{}, err
	}
	defer file.Close()
	return readPolicy(Place{FS: in}, name, file)
}

func readPolicy(in Place, name string, r io.Reader) (*policy.File, Place, error) {
	in.texts, in.name = make(map[string][]byte), name
	inc := includer{in: in}
	doc, err := inc.read(name, "", r)
	switch {
	case err != nil:
	case len(inc.problems) > 0: // and what is wrong with the files that can be read
		if doc.Kind != language.Null {
			inc.problems = append(inc.problems, language.ReadParts(doc)...)
		}
		inc.problems.Sort(inc.names...)
		err = inc.problems
	default:
		in.doc = &doc
		var f *policy.File
		if f, err = language.Read(doc, time.LoadLocation); err == nil {
			return f, in, nil
		}
	}
	return nil, in, in.WithLines(err)
}

// openNamed opens what the user names, which may be a pipe, and says in people's words why
// something cannot be opened.
func openNamed(p Place, name string) (fs.File, error) {
	file, err := p.open(name)
	if err != nil {
		return nil, inWords(name, err)
	}
	if info, err := file.Stat(); err == nil && info.IsDir() {
		file.Close()
		return nil, fmt.Errorf("%s is a directory; name a file in it", name)
	}
	return file, nil
}

// openRegular opens a file that another file names. It is a regular one: to open a pipe or
// a device may wait for ever.
func openRegular(p Place, name string) (fs.File, error) {
	if p.FS == nil {
		full := name
		if !filepath.IsAbs(name) {
			full = filepath.Join(p.In, name)
		}
		info, err := os.Stat(full)
		if err != nil {
			return nil, inWords(name, err)
		}
		if err := regular(name, info); err != nil {
			return nil, err
		}
	}
	return openNamed(p, name)
}

func regular(name string, info fs.FileInfo) error {
	switch {
	case info.IsDir():
		return fmt.Errorf("%s is a directory; name a file in it", name)
	case !info.Mode().IsRegular():
		return fmt.Errorf("%s is a pipe or a device, and no regular file", name)
	}
	return nil
}

func inWords(name string, err error) error {
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return fmt.Errorf("%s does not exist", name)
	case errors.Is(err, fs.ErrPermission):
		return fmt.Errorf("%s may not be read by you", name)
	}
	return err
}

// openIncluded opens a file to be included: a regular one within the folder of the first
// file or one of those that are allowed besides, links followed.
func (p Place) openIncluded(name string) (fs.File, error) {
	if p.FS != nil {
		return openRegular(p, name)
	}
	full := name
	if !filepath.IsAbs(name) {
		full = filepath.Join(p.In, name)
	}
	for _, folder := range append([]string{p.In}, p.Also...) {
		rel, ok := within(folder, full)
		if !ok {
			continue
		}
		root, err := os.OpenRoot(folder)
		if err != nil {
			return nil, fmt.Errorf("cannot include from %s: %w", folder, inWords(folder, err))
		}
		defer root.Close()
		info, err := root.Stat(rel)
		if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) {
			return nil, inWords(name, err)
		}
		if err != nil { // a link that leads out of the folder
			continue
		}
		if err := regular(name, info); err != nil {
			return nil, err
		}
		file, err := root.Open(rel)
		if err != nil {
			return nil, inWords(name, err)
		}
		return file, nil
	}
	return nil, errOutside
}

// errOutside says that a file is in no folder that may be included from.
var errOutside = errors.New("it is outside the folder of the first file")

// within returns the name of a file as a folder knows it, and whether it is in it.
func within(folder, full string) (string, bool) {
	a, err1 := filepath.Abs(folder)
	b, err2 := filepath.Abs(full)
	if err1 != nil || err2 != nil {
		return "", false
	}
	rel, err := filepath.Rel(a, b)
	return rel, err == nil && filepath.IsLocal(rel)
}

// Document turns the text of a YAML file into a document tree. Anchors,
// aliases and tags are not part of the language.
func Document(name string, text []byte) (language.Value, error) {
	var none language.Value
	at := policy.Place{File: name, Line: 1, Column: 1}
	one := func(p policy.Problem) error { return policy.Problems{p} }
	empty := one(policy.Problem{Place: policy.Place{File: name}, Text: "the file is empty", Help: "a policy file begins with `imbrel: 1`; `imbrel demo --write DIR` writes a whole one"})
	if i := bytes.IndexByte(text, 0); i >= 0 || !utf8.Valid(text) {
		return none, one(policy.Problem{Place: policy.Place{File: name}, Text: "this is not a text file", Help: "a policy file is YAML in UTF-8 that begins with `imbrel: 1`"})
	}
	if ps := controls(name, string(text)); len(ps) > 0 {
		return none, ps
	}
	decoder := yaml.NewDecoder(bytes.NewReader(text))
	var root yaml.Node
	if err := decoder.Decode(&root); errors.Is(err, io.EOF) {
		return none, empty
	} else if err != nil {
		return none, yamlError(name, err)
	}
	var second yaml.Node
	if err := decoder.Decode(&second); err == nil {
		return none, one(policy.Problem{Place: policy.Place{File: name, Line: second.Line, Column: 1}, Text: "a second document begins here", Help: "a policy file is one document: remove the line `---`"})
	} else if !errors.Is(err, io.EOF) {
		return none, yamlError(name, err)
	}
	if root.Kind != yaml.DocumentNode || len(root.Content) != 1 {
		return language.Value{At: at}, nil
	}
	c := converter{file: name}
	n := c.convert(root.Content[0], 0)
	if len(c.problems) > 0 {
		return none, c.problems
	}
	return n, nil
}

var yamlLine = regexp.MustCompile(`line (\d+): `)

// yamlError turns the YAML library's error into a problem with a place.
func yamlError(name string, err error) error {
	text := strings.TrimPrefix(err.Error(), "yaml: ")
	place := policy.Place{File: name}
	if m := yamlLine.FindStringSubmatch(text); m != nil {
		if n, err := strconv.Atoi(m[1]); err == nil {
			place.Line, place.Column = n, 1
			text = strings.Replace(text, m[0], "", 1)
		}
	}
	return policy.Problems{{Place: place, Text: "this is not YAML: " + text,
		Help: "look at this line and the one before it: an indent, a bracket, a colon without a space after it, a quote?"}}
}

// A converter turns YAML nodes into document nodes.
type converter struct {
	file     string
	problems policy.Problems
}

func (c *converter) problem(at policy.Place, text, help string) {
	if len(c.problems) < 20 {
		c.problems = append(c.problems, policy.Problem{Place: at, Text: text, Help: help})
	}
}

func (c *converter) convert(y *yaml.Node, depth int) language.Value {
	n := language.Value{At: policy.Place{File: c.file, Line: y.Line, Column: y.Column}}
	if depth > language.MaxNesting {
		c.problem(n.At, fmt.Sprintf("nested more than %d deep", language.MaxNesting), "no policy is; is this the right file?")
		return n
	}
	if y.Anchor != "" {
		c.problem(n.At, "the anchor `&"+y.Anchor+"` is not part of the language", "write the value where it is used, or name it in `groups` or `apps`")
	}
	if y.Style&yaml.TaggedStyle != 0 {
		c.problem(n.At, "the tag `"+y.Tag+"` is not part of the language", "remove it")
	}
	switch y.Kind {
	case yaml.AliasNode:
		c.problem(n.At, "the alias `*"+y.Value+"` is not part of the language", "write the value here, or name it in `groups` or `apps`")
	case yaml.ScalarNode:
		if y.Tag == "!!null" && y.Style == 0 {
			return n
		}
		n.Kind, n.Text = language.Scalar, y.Value
	case yaml.SequenceNode:
		n.Kind = language.List
		for _, item := range y.Content {
			n.Items = append(n.Items, c.convert(item, depth+1))
		}
	case yaml.MappingNode:
		n.Kind = language.Keyed
		for i := 0; i+1 < len(y.Content); i += 2 {
			k := c.convert(y.Content[i], depth+1)
			if k.Kind == language.Scalar && k.Text == "<<" {
				c.problem(k.At, "the merge key `<<` is not part of the language", "write the keys here")
			}
			n.Keys = append(n.Keys, k)
			n.Items = append(n.Items, c.convert(y.Content[i+1], depth+1))
		}
	}
	return n
}
