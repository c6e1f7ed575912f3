package files

import (
	"fmt"
	"io"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"imbrel/core/policy"
)

// What includes may come to.
const (
	maxIncludeDepth = 8
	maxIncludes     = 100
)

// An includer reads a policy file and, in its place, the files it includes.
type includer struct {
	in    Place
	chain []string // of the files being read, the outermost first
	count int
	bytes int
}

// read reads one document and everything it includes. dir is the folder of the
// file, relative to the outermost file's.
func (c *includer) read(name, dir string, r io.Reader) (policy.Node, error) {
	text, err := io.ReadAll(io.LimitReader(r, int64(maxPolicyBytes-c.bytes)+1))
	if err != nil {
		return policy.Node{}, fmt.Errorf("cannot read %s: %w", name, err)
	}
	if c.bytes += len(text); c.bytes > maxPolicyBytes {
		return policy.Node{}, fmt.Errorf("%s is larger than 4 MiB, with what it includes; no policy is", name)
	}
	c.in.texts[name] = text
	doc, err := Document(name, text)
	if err != nil || doc.Kind != policy.Keyed {
		return doc, err
	}
	c.chain = append(c.chain, name)
	defer func() { c.chain = c.chain[:len(c.chain)-1] }()
	if dir != "" {
		moveCaptures(&doc, dir)
	}
	at := find(&doc, "include")
	if at < 0 || doc.Items[at].Kind != policy.List {
		return doc, nil // none, or the language's own error
	}
	for _, item := range doc.Items[at].Items {
		if item.Kind != policy.Scalar {
			continue
		}
		part, err := c.include(item, dir)
		if err != nil {
			return doc, err
		}
		if err := merge(&doc, &part); err != nil {
			return doc, err
		}
	}
	return doc, nil
}

// include reads a file named in another.
func (c *includer) include(item policy.Node, dir string) (policy.Node, error) {
	fail := func(help, format string, args ...any) (policy.Node, error) {
		return policy.Node{}, policy.Problems{{Place: item.At, Width: len(item.Text), Text: fmt.Sprintf(format, args...), Help: help}}
	}
	name := item.Text
	if !filepath.IsAbs(name) {
		name = path.Join(dir, name)
	}
	shown := name
	if c.in.FS == nil && !filepath.IsAbs(name) && c.in.In != "." {
		shown = filepath.Join(c.in.In, name)
	}
	if slices.Contains(c.chain, shown) {
		return fail("take one of them out of the circle", "%s includes itself: %s", shown, strings.Join(append(c.chain, shown), " → "))
	}
	if len(c.chain) > maxIncludeDepth {
		return fail("include the files nearer to the top", "files are included more than %d deep", maxIncludeDepth)
	}
	if c.count++; c.count > maxIncludes {
		return fail("join some of them", "more than %d files are included", maxIncludes)
	}
	file, err := openRegular(c.in, name)
	if err != nil {
		return fail("names are relative to the file they stand in", "cannot include: %s", err)
	}
	defer file.Close()
	return c.read(shown, path.Dir(name), file)
}

func find(n *policy.Node, key string) int {
	return slices.IndexFunc(n.Keys, func(k policy.Node) bool { return k.Text == key })
}

// merge puts the parts of an included document into another: lists and names
// are joined, the included ones first; what only one file can say stays.
func merge(into, part *policy.Node) error {
	if part.Kind != policy.Keyed {
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
		old := &into.Items[at]
		if old.Kind != v.Kind || k.Text == "network" || v.Kind != policy.List && v.Kind != policy.Keyed {
			return policy.Problems{{Place: k.At, Width: len(k.Text), Text: "`" + k.Text + "` cannot be joined with that of " + old.At.String(),
				Help: "say it in one file"}}
		}
		joined := policy.Node{Kind: v.Kind, At: old.At}
		joined.Keys = append(slices.Clone(v.Keys), old.Keys...)
		joined.Items = append(slices.Clone(v.Items), old.Items...)
		*old = joined
	}
	return nil
}

// moveCaptures makes the captures that a file in another folder names relative
// to the outermost file.
func moveCaptures(doc *policy.Node, dir string) {
	each := func(n *policy.Node, key string, f func(*policy.Node)) {
		if i := find(n, key); n.Kind == policy.Keyed && i >= 0 {
			f(&n.Items[i])
		}
	}
	each(doc, "rehearsals", func(rehearsals *policy.Node) {
		for i := range rehearsals.Items {
			each(&rehearsals.Items[i], "traffic", func(traffic *policy.Node) {
				for j := range traffic.Items {
					each(&traffic.Items[j], "capture", func(c *policy.Node) {
						if !filepath.IsAbs(c.Text) {
							c.Text = path.Join(dir, c.Text)
						}
					})
				}
			})
		}
	})
}
