package yang

// Filter returns what a subtree filter selects of the elements within another (RFC 6241 §6): elements of a name with all that is within,
// of those that have the texts that the filter has.
func Filter(filter, of *Element) *Element {
	out := &Element{Space: of.Space, Name: of.Name, Attr: of.Attr, Text: of.Text}
	for _, e := range of.Inner {
		var got *Element
		for _, f := range filter.Inner {
			if selects(f, e) {
				got = join(got, picked(f, e))
			}
		}
		if got != nil {
			out.Add(got)
		}
	}
	return out
}

// join returns two parts of one element as one. Either may be nil.
func join(a, b *Element) *Element {
	if a == nil || b == nil {
		if a == nil {
			return b
		}
		return a
	}
	for _, k := range b.Inner {
		if !a.has(k) {
			a.Add(k)
		}
	}
	return a
}

// has reports whether an element equal to another is within.
func (e *Element) has(other *Element) bool {
	for _, k := range e.Inner {
		if string(k.Append(nil, "", "")) == string(other.Append(nil, "", "")) {
			return true
		}
	}
	return false
}

// selects reports whether a filter is about an element.
func selects(f, e *Element) bool {
	if f.Name != e.Name || f.Space != "" && e.Space != "" && f.Space != e.Space {
		return false
	}
	for _, k := range f.Inner { // content match nodes
		if len(k.Inner) == 0 && k.Text != "" {
			found := false
			for _, v := range e.Inner {
				found = found || v.Name == k.Name && v.Text == k.Text
			}
			if !found {
				return false
			}
		}
	}
	return true
}

// picked returns the part of an element that a filter about it selects, or nil.
func picked(f, e *Element) *Element {
	if len(f.Inner) == 0 {
		if f.Text != "" && f.Text != e.Text {
			return nil
		}
		return e.Clone()
	}
	rest := &Element{Name: f.Name}
	out := &Element{Space: e.Space, Name: e.Name, Attr: e.Attr}
	for _, k := range f.Inner {
		if len(k.Inner) == 0 && k.Text != "" {
			for _, v := range e.Inner {
				if v.Name == k.Name && v.Text == k.Text {
					out.Add(v.Clone())
				}
			}
		} else {
			rest.Add(k)
		}
	}
	if len(rest.Inner) == 0 {
		return e.Clone()
	}
	selected := Filter(rest, e)
	if len(selected.Inner) == 0 {
		return nil
	}
	for _, k := range selected.Inner {
		if !out.has(k) {
			out.Add(k)
		}
	}
	return out
}
