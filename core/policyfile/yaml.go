package policyfile

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"

	"imbrel.example/imbrel/core/language"
	"imbrel.example/imbrel/core/policy"
)

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
		c.problem(n.At, fmt.Sprintf("nested more than %d deep", language.MaxNesting), "no policy needs that; is this the right file?")
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
