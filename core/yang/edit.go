package yang

import (
	"encoding/xml"
	"fmt"
	"slices"
	"strings"

	"imbrel.example/imbrel/core/language"
)

// Namespaces of the protocol.
const (
	Base       = "urn:ietf:params:xml:ns:netconf:base:1.0"
	attributes = "urn:ietf:params:xml:ns:yang:1"
)

// An editor carries out an edit.
type editor struct{ otherwise string } // what is done with elements that say nothing

// Edit returns a configuration after an edit (RFC 6241 §7.2, RFC 7950 §7): the elements of the edit say by their attribute `operation` what is
// done with them; otherwise is what is done where none is given: merge, replace or none. The configuration may be nil; it stays as it is. The error is an *Error.
func Edit(f *language.Form, config, edit *Element, otherwise string) (*Element, error) {
	root := New("config")
	if config != nil {
		root.Add(config.Clone())
	}
	top := &language.Form{Kind: language.Keys, Inner: []*language.Form{f}}
	if err := (&editor{otherwise}).within(top, root, edit, otherwise, ""); err != nil {
		return nil, err
	}
	return root.Find(f.Name), nil
}

// operation returns what is done with an element.
func operation(e *Element, inherited string) (string, error) {
	op := e.Attribute(Base, "operation")
	switch op {
	case "":
		return inherited, nil
	case "merge", "replace", "create", "delete", "remove":
		return op, nil
	}
	return "", &Error{Type: "protocol", Tag: "bad-attribute", Element: e.Name, Message: fmt.Sprintf("%.40q is no operation: there are merge, replace, create, delete and remove", op)}
}

// same reports whether two elements are one and the same, by name, and by the key of a list or the value of a leaf-list.
func same(f *language.Form, a, b *Element) bool {
	if a.Name != b.Name {
		return false
	}
	switch f.Kind {
	case language.Values:
		return a.Text == b.Text
	case language.Items:
		return a.TextOf(keyLeaf(f)) == b.TextOf(keyLeaf(f))
	}
	return true
}

// formOf returns the form of an element within another's, those that the module adds among them.
func formOf(f *language.Form, name string) *language.Form {
	leaf := func(name string) *language.Form { return &language.Form{Kind: language.OneValue, Name: name} }
	switch {
	case f.Only != nil && name == valueLeaf:
		only := *f.Only
		only.Name = valueLeaf
		return &only
	case f.Kind == language.Items && name == keyLeaf(f) && f.KeyOf(name) == nil, f.Kind == language.Keys && f.Single && name == valueLeaf:
		return leaf(name)
	}
	return f.KeyOf(name)
}

// within edits what is within an element.
func (d *editor) within(f *language.Form, target, edit *Element, inherited, path string) error {
	for _, e := range edit.Inner {
		form := formOf(f, e.Name)
		where := path + "/" + prefix + ":" + e.Name
		if form == nil {
			return unknown(f, path, e)
		}
		if form.Kind == language.Items {
			if key := e.Find(keyLeaf(form)); key == nil {
				return &Error{Type: "application", Tag: "missing-element", Path: where, Element: keyLeaf(form), Message: "`" + form.Name + "` needs the element `" + keyLeaf(form) + "`"}
			} else {
				where += "[" + prefix + ":" + key.Name + "=" + quoted(key.Text) + "]"
			}
		}
		op, err := operation(e, inherited)
		if err != nil {
			return err
		}
		if err := d.element(f, form, target, e, op, where); err != nil {
			return err
		}
	}
	return nil
}

// element carries out the edit of one element.
func (d *editor) element(outer, f *language.Form, target, e *Element, op, path string) error {
	at := slices.IndexFunc(target.Inner, func(k *Element) bool { return same(f, k, e) })
	fail := func(tag, format string) error {
		return &Error{Type: "application", Tag: tag, Path: path, Message: fmt.Sprintf(format, e.Name)}
	}
	switch {
	case op == "delete" && at < 0:
		return fail("data-missing", "`%s` cannot be deleted: it is not there")
	case op == "create" && at >= 0:
		return fail("data-exists", "`%s` cannot be created: it is there already")
	case op == "none" && at < 0 && (f.Kind == language.OneValue || f.Kind == language.Values):
		return fail("data-missing", "`%s` is not there")
	case op == "delete", op == "remove":
		if at >= 0 {
			target.Inner = slices.Delete(target.Inner, at, at+1)
		}
		return nil
	case op == "none" && at < 0:
		return fail("data-missing", "`%s` is not there")
	}
	if outer.Single && op != "none" { // one case of a choice takes the place of the other (RFC 7950 §7.9)
		value := e.Name == valueLeaf
		target.Inner = slices.DeleteFunc(target.Inner, func(k *Element) bool { return (k.Name == valueLeaf) != value })
		at = slices.IndexFunc(target.Inner, func(k *Element) bool { return same(f, k, e) })
	}
	into := New(e.Name)
	switch {
	case at >= 0 && op != "replace":
		into = target.Inner[at]
	case at >= 0:
		target.Inner[at] = into
	default:
		at = len(target.Inner)
		target.Add(into)
	}
	if err := d.place(f, target, at, e, path); err != nil {
		return err
	}
	if f.Kind == language.OneValue || f.Kind == language.Values {
		if len(e.Inner) > 0 {
			return unknown(f, path, e.Inner[0])
		}
		if op != "none" {
			into.Text = e.Text
		}
		return nil
	}
	if e.Text != "" {
		return fail("invalid-value", "`%s` holds elements, not a text"+map[bool]string{true: ": write <value> within it"}[f.Single])
	}
	if op == "create" || op == "replace" {
		op = "merge"
	}
	if op == "none" { // the key only names the item
		rest := *e
		rest.Inner = slices.DeleteFunc(slices.Clone(e.Inner), func(k *Element) bool { return f.Kind == language.Items && k.Name == keyLeaf(f) })
		e = &rest
	}
	return d.within(f, into, e, op, path)
}

// place moves an item of a list to where the edit says that it is to be (RFC 7950 §7.8.6).
func (d *editor) place(f *language.Form, target *Element, at int, e *Element, path string) error {
	insert := e.Attribute(attributes, "insert")
	if insert == "" {
		return nil
	}
	moved := target.Inner[at]
	rest := slices.Delete(slices.Clone(target.Inner), at, at+1)
	first := slices.IndexFunc(rest, func(k *Element) bool { return k.Name == e.Name })
	last := len(rest)
	if first < 0 {
		first = last
	}
	to := last
	switch insert {
	case "first":
		to = first
	case "last":
	case "before", "after":
		key := e.Attribute(attributes, "key")
		id := e.Attribute(attributes, "value")
		if f.Kind == language.Items {
			_, id, _ = strings.Cut(key, "=")
			id = strings.Trim(strings.TrimSuffix(id, "]"), `'"`)
		}
		to = slices.IndexFunc(rest, func(k *Element) bool {
			return k.Name == e.Name && (f.Kind == language.Items && k.TextOf(keyLeaf(f)) == id || f.Kind == language.Values && k.Text == id)
		})
		if to < 0 {
			return &Error{Type: "application", Tag: "bad-attribute", Path: path, Element: e.Name, Message: "the item that it is to stand " + insert + " is not there", Info: []*Element{Leaf("bad-attribute", "key")}}
		}
		if insert == "after" {
			to++
		}
	default:
		return &Error{Type: "application", Tag: "bad-attribute", Path: path, Element: e.Name, Message: "insert is first, last, before or after"}
	}
	target.Inner = slices.Insert(rest, to, moved)
	return nil
}

// Difference returns the least edit that makes one configuration of another, or nil when they do not differ. Either may be nil. The order of
// single values makes no difference; that of items does.
func Difference(f *language.Form, from, to *Element) *Element {
	a, b := New("config"), New("config")
	if from != nil {
		a.Add(from)
	}
	if to != nil {
		b.Add(to)
	}
	top := &language.Form{Kind: language.Keys, Inner: []*language.Form{f}}
	return difference(top, a, b)
}

// marked returns an element with an attribute of the protocol.
func marked(e *Element, space, name, value string) *Element {
	e.Attr = append(e.Attr, xml.Attr{Name: xml.Name{Space: space, Local: name}, Value: value})
	return e
}

// named returns an element with what names it alone.
func named(f *language.Form, e *Element) *Element {
	out := New(e.Name)
	switch f.Kind {
	case language.Values:
		out.Text = e.Text
	case language.Items:
		out.Add(Leaf(keyLeaf(f), e.TextOf(keyLeaf(f))))
	}
	return out
}

// difference returns the edit of what is within an element, or nil.
func difference(f *language.Form, from, to *Element) *Element {
	out := New(to.Name)
	var names []string
	for _, e := range slices.Concat(from.Inner, to.Inner) {
		if !slices.Contains(names, e.Name) {
			names = append(names, e.Name)
		}
	}
	for _, name := range names {
		form := formOf(f, name)
		if form == nil {
			continue
		}
		of := func(e *Element) (out []*Element) {
			for _, k := range e.Inner {
				if k.Name == name {
					out = append(out, k)
				}
			}
			return out
		}
		out.Add(differences(form, of(from), of(to))...)
	}
	if len(out.Inner) == 0 {
		return nil
	}
	return out
}

// differences returns the edits of the elements of one name.
func differences(f *language.Form, from, to []*Element) (out []*Element) {
	find := func(list []*Element, e *Element) int {
		return slices.IndexFunc(list, func(k *Element) bool { return same(f, k, e) })
	}
	var now []*Element // as it is when the edits so far are done
	for _, e := range from {
		if find(to, e) < 0 {
			out = append(out, marked(named(f, e), Base, "operation", "delete"))
		} else {
			now = append(now, e)
		}
	}
	for n, e := range to {
		at := find(now, e)
		if at < 0 {
			k := e.Clone()
			if n < len(now) && f.Kind == language.Items {
				k = inserted(f, k, to, n)
			}
			out = append(out, k)
			now = slices.Insert(now, min(n, len(now)), e)
			continue
		}
		var edit *Element
		switch f.Kind {
		case language.OneValue:
			if now[at].Text != e.Text {
				edit = Leaf(e.Name, e.Text)
			}
		case language.Keys, language.Items:
			if edit = difference(f, now[at], e); edit != nil && f.Kind == language.Items {
				edit.Inner = append(named(f, e).Inner, edit.Inner...)
			}
		}
		if at != n && f.Kind == language.Items {
			if edit == nil {
				edit = named(f, e)
			}
			edit = inserted(f, edit, to, n)
			moved := now[at]
			now = slices.Insert(slices.Delete(now, at, at+1), n, moved)
		}
		if edit != nil {
			out = append(out, edit)
		}
	}
	return out
}

// inserted returns the edit of an item that says where it is to stand.
func inserted(f *language.Form, e *Element, order []*Element, n int) *Element {
	if n == 0 {
		return marked(e, attributes, "insert", "first")
	}
	marked(e, attributes, "insert", "after")
	key := keyLeaf(f)
	return marked(e, attributes, "key", "["+prefix+":"+key+"="+quoted(order[n-1].TextOf(key))+"]")
}
