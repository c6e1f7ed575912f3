// Package yang writes the language of policy files as a YANG module (RFC 7950), and policy files as the trees of XML elements that
// NETCONF carries: it edits, compares and filters them.
package yang

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"
)

// What a message may hold.
const (
	maxDepth    = 160
	maxElements = 400_000
)

// An Element is an XML element. It has text, or elements within it.
type Element struct {
	Space string // its namespace
	Name  string
	Attr  []xml.Attr
	Text  string
	Inner []*Element
}

// Leaf returns an element with a text.
func Leaf(name, text string) *Element { return &Element{Name: name, Text: text} }

// New returns an element with others within it.
func New(name string, inner ...*Element) *Element { return &Element{Name: name, Inner: inner} }

// In returns the element in a namespace, which those within it that have none are in as well.
func (e *Element) In(space string) *Element {
	e.Space = space
	return e
}

// Add puts elements at the end.
func (e *Element) Add(inner ...*Element) *Element {
	e.Inner = append(e.Inner, inner...)
	return e
}

// Find returns the first element of a name within, or nil.
func (e *Element) Find(name string) *Element {
	if e == nil {
		return nil
	}
	for _, k := range e.Inner {
		if k.Name == name {
			return k
		}
	}
	return nil
}

// At returns the element at a path of names, or nil.
func (e *Element) At(path ...string) *Element {
	for _, name := range path {
		e = e.Find(name)
	}
	return e
}

// TextOf returns the text of the first element of a name within, or "".
func (e *Element) TextOf(path ...string) string {
	if k := e.At(path...); k != nil {
		return k.Text
	}
	return ""
}

// Attribute returns the value of an attribute, or "". The namespace "" is any.
func (e *Element) Attribute(space, name string) string {
	for _, a := range e.Attr {
		if a.Name.Local == name && (space == "" || a.Name.Space == space) {
			return a.Value
		}
	}
	return ""
}

// Clone returns a copy that shares nothing.
func (e *Element) Clone() *Element {
	if e == nil {
		return nil
	}
	out := *e
	out.Inner = make([]*Element, len(e.Inner))
	for i, k := range e.Inner {
		out.Inner[i] = k.Clone()
	}
	return &out
}

// errNoXML is what is wrong with a text that is not one element of XML.
var errNoXML = errors.New("this is not XML")

// Parse reads one XML element with what is within it. Documents with a type definition, or nested or long beyond what a policy can be, are
// errors: nothing is expanded.
func Parse(text []byte) (*Element, error) {
	d := xml.NewDecoder(bytes.NewReader(text))
	d.CharsetReader = func(string, io.Reader) (io.Reader, error) { return nil, errors.New("only UTF-8 is read") }
	var root *Element
	var open []*Element
	count := 0
	for {
		t, err := d.Token()
		if errors.Is(err, io.EOF) && root != nil && len(open) == 0 {
			return root, nil
		}
		if err != nil {
			return nil, fmt.Errorf("%w: %w", errNoXML, err)
		}
		switch t := t.(type) {
		case xml.StartElement:
			if count++; count > maxElements {
				return nil, fmt.Errorf("more than %d elements", maxElements)
			}
			if len(open) >= maxDepth {
				return nil, fmt.Errorf("elements within elements, more than %d deep", maxDepth)
			}
			e := &Element{Space: t.Name.Space, Name: t.Name.Local, Attr: t.Attr}
			switch {
			case len(open) > 0:
				open[len(open)-1].Add(e)
			case root != nil:
				return nil, fmt.Errorf("%w: a second element follows the first", errNoXML)
			default:
				root = e
			}
			open = append(open, e)
		case xml.EndElement:
			e := open[len(open)-1]
			if open = open[:len(open)-1]; len(e.Inner) > 0 {
				e.Text = ""
			}
			e.Text = strings.TrimSpace(e.Text)
		case xml.CharData:
			if len(open) > 0 {
				open[len(open)-1].Text += string(t)
			} else if len(bytes.TrimSpace(t)) > 0 {
				return nil, errNoXML
			}
		case xml.Directive:
			return nil, errors.New("a type definition is not taken")
		}
	}
}

// Append writes an element as XML after what is there; outer is the namespace around it. indent, when not "", puts each element on a line
// of its own.
func (e *Element) Append(b []byte, outer, indent string) []byte {
	space := e.Space
	if space == "" {
		space = outer
	}
	b = append(append(b, '<'), e.Name...)
	if space != outer {
		b = appendAttribute(b, "xmlns", space)
	}
	prefixes := 0
	for _, a := range e.Attr {
		name := a.Name.Local
		switch {
		case a.Name.Space == "xmlns" || name == "xmlns": // written where it is needed
			continue
		case a.Name.Space != "":
			prefixes++
			prefix := fmt.Sprintf("n%d", prefixes)
			b = appendAttribute(b, "xmlns:"+prefix, a.Name.Space)
			name = prefix + ":" + name
		}
		b = appendAttribute(b, name, a.Value)
	}
	if e.Text == "" && len(e.Inner) == 0 {
		return append(b, "/>"...)
	}
	b = append(b, '>')
	if e.Text != "" {
		b = appendEscaped(b, e.Text)
	}
	within := ""
	if indent != "" {
		within = indent + "  "
	}
	for _, k := range e.Inner {
		b = append(b, within...)
		b = k.Append(b, space, within)
	}
	if len(e.Inner) > 0 {
		b = append(b, indent...)
	}
	return append(append(append(b, "</"...), e.Name...), '>')
}

// String returns an element as XML, each element on a line of its own.
func (e *Element) String() string { return string(e.Append(nil, "", "\n")) }

func appendAttribute(b []byte, name, value string) []byte {
	b = append(append(append(b, ' '), name...), `="`...)
	return append(appendEscaped(b, value), '"')
}

func appendEscaped(b []byte, text string) []byte {
	var out bytes.Buffer
	_ = xml.EscapeText(&out, []byte(text)) // a buffer takes all
	return append(b, out.Bytes()...)
}
