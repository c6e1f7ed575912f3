package yang

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"imbrel.example/imbrel/core/language"
	"imbrel.example/imbrel/core/policy"
)

// Names of leaves that the module adds to those of the language.
const (
	valueLeaf = "value" // a single value where keys may be written, and the value of a name
	nameLeaf  = "name"  // of an item that the file writes as a name and a value
	idLeaf    = "id"    // of an item without a name
)

// keyLeaf returns the leaf that tells the items of a list apart.
func keyLeaf(f *language.Form) string {
	if f.ID != "" {
		return f.ID
	}
	return idLeaf
}

// Tree returns a part of a policy file as an element. What the form does not have is left out.
func Tree(f *language.Form, v *language.Value) *Element {
	return New(f.Name, inner(f, v)...)
}

// inner returns what is within the element of a set of keys, or of a single value in its place.
func inner(f *language.Form, v *language.Value) (out []*Element) {
	if v.Kind == language.Scalar {
		return []*Element{Leaf(valueLeaf, v.Text)}
	}
	for _, k := range f.Inner {
		for i := range v.Keys {
			if v.Keys[i].Text == k.Name {
				out = append(out, elements(k, &v.Items[i])...)
			}
		}
	}
	return out
}

// elements returns the elements of a key.
func elements(f *language.Form, v *language.Value) (out []*Element) {
	switch f.Kind {
	case language.OneValue:
		return []*Element{Leaf(f.Name, v.Text)}
	case language.Values:
		items := v.Items
		if v.Kind == language.Scalar {
			items = []language.Value{*v}
		}
		seen := make(map[string]bool)
		for i := range items {
			if text := items[i].Text; !seen[text] { // a leaf-list has each value once
				seen[text] = true
				out = append(out, Leaf(f.Name, text))
			}
		}
	case language.Keys:
		return []*Element{New(f.Name, inner(f, v)...)}
	case language.Items:
		seen := make(map[string]int)
		if v.Kind == language.Keyed && !f.Map { // one by itself
			v = &language.Value{Kind: language.List, At: v.At, Items: []language.Value{*v}}
		}
		for i := range v.Items {
			e := New(f.Name)
			switch {
			case f.Map:
				e.Add(Leaf(nameLeaf, v.Keys[i].Text))
			case f.ID == "":
				id := v.ItemName(i, seen)
				if id == "" {
					id = strconv.Itoa(i + 1)
				}
				e.Add(Leaf(idLeaf, id))
			}
			if f.Only != nil {
				only := *f.Only
				only.Name = valueLeaf
				e.Add(elements(&only, &v.Items[i])...)
			} else {
				e.Add(inner(f, &v.Items[i])...)
			}
			out = append(out, e)
		}
	}
	return out
}

// A Reader makes a policy file of elements again. The places of its values are lines, which Path turns into paths of elements.
type Reader struct{ paths []string }

// Path returns where a value was, as a path of elements (RFC 6241 §4.3, error-path).
func (r *Reader) Path(at policy.Place) string {
	if at.Line < 1 || at.Line > len(r.paths) {
		return ""
	}
	return r.paths[at.Line-1]
}

// place returns the place of an element.
func (r *Reader) place(path string) policy.Place {
	r.paths = append(r.paths, path)
	return policy.Place{File: "configuration", Line: len(r.paths), Column: 1}
}

// Value returns the part of a policy file that an element is, or an *Error.
func (r *Reader) Value(f *language.Form, e *Element) (language.Value, error) {
	return r.keys(f, e, "/"+prefix+":"+e.Name)
}

// keys reads a set of keys, or a single value in its place.
func (r *Reader) keys(f *language.Form, e *Element, path string) (v language.Value, err error) {
	v.Kind, v.At = language.Keyed, r.place(path)
	seen := make(map[string]int)
	for _, k := range e.Inner {
		if f.Single && k.Name == valueLeaf && len(e.Inner) == 1 {
			return language.Value{Kind: language.Scalar, At: v.At, Text: k.Text}, nil
		}
		if (f.ID == "" && k.Name == idLeaf || f.Map && k.Name == nameLeaf) && f.Kind == language.Items {
			continue
		}
		form := f.KeyOf(k.Name)
		if form == nil {
			return v, unknown(f, path, k)
		}
		at, again := seen[k.Name]
		if again && form.Kind != language.Values && form.Kind != language.Items {
			return v, &Error{Type: "application", Tag: "bad-element", Path: path, Element: k.Name, Message: "`" + k.Name + "` is given twice"}
		}
		if !again {
			at, seen[k.Name] = len(v.Keys), len(v.Keys)
			v.Keys = append(v.Keys, language.Value{Kind: language.Scalar, At: r.place(path + "/" + prefix + ":" + k.Name), Text: k.Name})
			v.Items = append(v.Items, language.Value{})
		}
		if err := r.into(form, k, path+"/"+prefix+":"+k.Name, &v.Items[at]); err != nil {
			return v, err
		}
	}
	for i := range v.Items { // a list of one becomes that value
		if form := f.KeyOf(v.Keys[i].Text); form.Kind == language.Values {
			v.Items[i] = alone(form, v.Items[i])
		}
	}
	for _, k := range f.Inner { // an empty list has no element
		if _, there := seen[k.Name]; k.Need && !there && k.Kind == language.Items {
			v.Keys = append(v.Keys, language.Value{Kind: language.Scalar, At: v.At, Text: k.Name})
			v.Items = append(v.Items, language.Value{Kind: language.List, At: v.At})
		}
	}
	return v, nil
}

// into reads one element of a key.
func (r *Reader) into(f *language.Form, e *Element, path string, v *language.Value) error {
	if (f.Kind == language.OneValue || f.Kind == language.Values) && len(e.Inner) > 0 {
		return unknown(f, path, e.Inner[0])
	}
	var err error
	switch f.Kind {
	case language.OneValue:
		*v = language.Value{Kind: language.Scalar, At: r.place(path), Text: e.Text}
	case language.Values:
		v.Kind, v.At = language.List, r.place(path)
		v.Items = append(v.Items, language.Value{Kind: language.Scalar, At: v.At, Text: e.Text})
	case language.Keys:
		*v, err = r.keys(f, e, path)
	case language.Items:
		key := keyLeaf(f)
		id := e.Find(key)
		if id == nil {
			return &Error{Type: "application", Tag: "missing-element", Path: path, Element: key, Message: "`" + f.Name + "` needs the element `" + key + "`"}
		}
		path += "[" + prefix + ":" + key + "=" + quoted(id.Text) + "]"
		v.At = r.place(path)
		v.Kind = language.List
		if f.Map {
			v.Kind = language.Keyed
			v.Keys = append(v.Keys, language.Value{Kind: language.Scalar, At: v.At, Text: id.Text})
		}
		item := language.Value{}
		if f.Only == nil {
			item, err = r.keys(f, e, path)
		} else {
			only := *f.Only
			only.Name = valueLeaf
			for _, k := range e.Inner {
				switch k.Name {
				case nameLeaf:
				case valueLeaf:
					if err := r.into(&only, k, path+"/"+prefix+":"+valueLeaf, &item); err != nil {
						return err
					}
				default:
					return unknown(f, path, k)
				}
			}
			if only.Kind == language.Values {
				item = alone(&only, item)
			}
			if item.Kind == language.Null {
				item = language.Value{Kind: language.List, At: v.At}
				if only.Map {
					item.Kind = language.Keyed
				}
			}
		}
		v.Items = append(v.Items, item)
	}
	return err
}

// alone returns the one value of a list of one, where it may be written so.
func alone(f *language.Form, v language.Value) language.Value {
	if !f.List && v.Kind == language.List && len(v.Items) == 1 {
		return v.Items[0]
	}
	return v
}

// quoted returns a text as XPath writes it.
func quoted(s string) string {
	if strings.Contains(s, "'") {
		return `"` + s + `"`
	}
	return "'" + s + "'"
}

// unknown says that a form has no such element.
func unknown(f *language.Form, path string, e *Element) error {
	var names []string
	for _, k := range f.Inner {
		names = append(names, k.Name)
	}
	slices.Sort(names)
	help := policy.DidYouMean(e.Name, names)
	if len(names) > 0 {
		help += "there are " + strings.Join(names, ", ")
	}
	return &Error{Type: "application", Tag: "unknown-element", Path: path, Element: e.Name, Message: strings.TrimSuffix(fmt.Sprintf("there is no element `%.60s` here; %s", e.Name, help), "; ")}
}

// An Error is what is wrong with a message, as RFC 6241 §4.3 says it.
type Error struct {
	Type    string // transport, rpc, protocol or application
	Tag     string // of RFC 6241 appendix A
	Path    string
	Element string // of the tags that name one
	Message string
	Info    []*Element // more, within error-info
}

func (e *Error) Error() string {
	if e.Path == "" {
		return e.Message
	}
	return e.Message + " (" + e.Path + ")"
}
