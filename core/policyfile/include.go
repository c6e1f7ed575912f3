package policyfile

import (
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"imbrel.example/imbrel/core/language"
	"imbrel.example/imbrel/core/policy"
)

// What includes may come to.
const (
	maxIncludeDepth = 8
	maxIncludes     = 100
)

// An includer reads a policy file and, in its place, the files it includes.
type includer struct {
	in    *Source
	chain []string // of the files being read, the outermost first
	count int
	bytes int
	names []string // of the files, as they were read

	problems policy.Problems // with the files themselves
}

// note keeps what is wrong with a file, and goes on; it returns any other error.
func (c *includer) note(err error) error {
	var ps policy.Problems
	if errors.As(err, &ps) {
		c.problems = append(c.problems, ps...)
		return nil
	}
	return err
}

// read reads one document and everything it includes. dir is the folder of the
// file, relative to the outermost file's.
func (c *includer) read(name, dir string, r io.Reader) (language.Value, error) {
	text, err := io.ReadAll(io.LimitReader(r, int64(MaxBytes-c.bytes)+1))
	if err != nil {
		return language.Value{}, fmt.Errorf("cannot read %s: %w", name, err)
	}
	if over, edited := c.in.over[name]; edited {
		text = over
	}
	if c.bytes += len(text); c.bytes > MaxBytes {
		return language.Value{}, fmt.Errorf("%s is larger than 4 MiB, with what it includes; no policy is that large", name)
	}
	c.in.texts[name] = text
	c.names = append(c.names, name)
	doc, err := Document(name, text)
	if err != nil || doc.Kind != language.Keyed {
		return doc, c.note(err)
	}
	c.chain = append(c.chain, name)
	defer func() { c.chain = c.chain[:len(c.chain)-1] }()
	if dir != "" {
		moveCaptures(&doc, func(name string) string { return c.in.from.Join(dir, name) })
	}
	if err := c.expand(&doc, dir); err != nil {
		return doc, err
	}
	at := find(&doc, "include")
	if at < 0 || doc.Items[at].Kind != language.List {
		return doc, nil // none, or the language's own error
	}
	for _, item := range doc.Items[at].Items {
		if item.Kind != language.Scalar {
			continue
		}
		part, err := c.include(item, dir)
		if err == nil && part.Kind != language.Null {
			err = merge(&doc, &part)
		}
		if err := c.note(err); err != nil {
			return doc, err
		}
	}
	return doc, nil
}

// include reads a file named in another.
func (c *includer) include(item language.Value, dir string) (language.Value, error) {
	fail := func(help, format string, args ...any) (language.Value, error) {
		return language.Value{}, policy.Problems{{Place: item.At, Width: len(item.Text), Text: fmt.Sprintf(format, args...), Help: help}}
	}
	name := c.in.from.Join(dir, item.Text)
	shown := c.in.from.Shown(name)
	if slices.Contains(c.chain, shown) {
		return fail("take one of them out of the circle", "%s includes itself: %s", shown, strings.Join(append(c.chain, shown), " → "))
	}
	if len(c.chain) > maxIncludeDepth {
		return fail("include the files nearer to the top", "files are included more than %d deep", maxIncludeDepth)
	}
	if c.count++; c.count > maxIncludes {
		return fail("join some of them", "more than %d files are included", maxIncludes)
	}
	file, err := c.in.from.Open(name)
	if outside, ok := errors.AsType[*Outside](err); ok {
		return fail("put it there, or allow its folder with --include-from DIR", "%s is outside the folder of the first file, %s", shown, outside.Folder)
	}
	if err != nil {
		return fail("names are relative to the file that names them", "cannot include: %s", err)
	}
	defer file.Close()
	return c.read(shown, path.Dir(name), file)
}

func find(n *language.Value, key string) int {
	return slices.IndexFunc(n.Keys, func(k language.Value) bool { return k.Text == key })
}

// merge puts the parts of an included document into another: lists and names are
// joined, the included ones first, and so are the parts of the network; what only one
// file can say stays.
func merge(into, part *language.Value) error {
	if part.Kind != language.Keyed {
		return policy.Problems{{Place: part.At, Text: "an included file has the keys of a policy file", Help: "begin it with `imbrel: 1`"}}
	}
	if find(part, "imbrel") < 0 {
		return policy.Problems{{Place: part.At, Text: "an included file needs the key `imbrel` too", Help: "begin it with `imbrel: 1`"}}
	}
	for i, k := range part.Keys {
		v := part.Items[i]
		switch k.Text {
		case "imbrel", "title", "include":
			continue
		}
		at := find(into, k.Text)
		if at < 0 {
			into.Keys, into.Items = append(into.Keys, k), append(into.Items, v)
			continue
		}
		if err := join(&into.Items[at], k, v); err != nil {
			return err
		}
	}
	return nil
}

// join puts an included value of a key before that of the file itself.
func join(own *language.Value, k, included language.Value) error {
	if own.Kind != included.Kind || included.Kind != language.List && included.Kind != language.Keyed {
		return policy.Problems{{Place: k.At, Width: len(k.Text), Text: "`" + k.Text + "` cannot be joined with that of " + own.At.String(),
			Help: "write it in one file"}}
	}
	if k.Text == "network" { // its nodes, links and tunnels
		for i, key := range included.Keys {
			if at := find(own, key.Text); at < 0 {
				own.Keys, own.Items = append(own.Keys, key), append(own.Items, included.Items[i])
			} else if err := join(&own.Items[at], key, included.Items[i]); err != nil {
				return err
			}
		}
		return nil
	}
	joined := language.Value{Kind: included.Kind, At: own.At}
	joined.Keys = append(slices.Clone(included.Keys), own.Keys...)
	joined.Items = append(slices.Clone(included.Items), own.Items...)
	*own = joined
	return nil
}

// moveCaptures makes the captures that a file in another folder names relative
// to the outermost file.
func moveCaptures(doc *language.Value, join func(name string) string) {
	under := func(n *language.Value, key string, f func(*language.Value)) {
		if i := find(n, key); n.Kind == language.Keyed && i >= 0 {
			f(&n.Items[i])
		}
	}
	move := func(traffic *language.Value) {
		for i := range traffic.Items {
			under(&traffic.Items[i], "capture", func(c *language.Value) {
				c.Text = join(c.Text)
			})
		}
	}
	under(doc, "rehearsals", func(rehearsals *language.Value) {
		for i := range rehearsals.Items {
			under(&rehearsals.Items[i], "traffic", move)
		}
	})
	under(doc, "loads", func(loads *language.Value) {
		for i := range loads.Items {
			move(&loads.Items[i])
		}
	})
}
