package language

import (
	"fmt"
	"slices"
	"strings"
)

// A path names a value of a document by the keys from the top down, joined with dots:
// policies.up.treat.voice.police.rate. An item of a list is named by its `name`, its
// `class` or its `at`, a link by its ends, as in "a/wan to b/wan"; the second of one name by voice#2.

// Lookup returns the value at a path, and whether it is written.
func (v *Value) Lookup(path string) (*Value, bool) {
	for path != "" {
		i, rest := v.step(path)
		if i < 0 {
			return nil, false
		}
		v, path = &v.Items[i], rest
	}
	return v, true
}

// step returns the number of the item that a path goes on with, and the rest of the path;
// -1 when there is none. A name may have dots: the longest that fits is meant.
func (v *Value) step(path string) (item int, rest string) {
	item = -1
	longest := 0
	seen := make(map[string]int)
	for i := range v.Items {
		name := v.ItemName(i, seen)
		if after, ok := strings.CutPrefix(path, name); ok && len(name) > longest && (after == "" || after[0] == '.') {
			item, longest, rest = i, len(name), strings.TrimPrefix(after, ".")
		}
	}
	return item, rest
}

// Append returns the document with a text added to the list at a path, which is begun where
// it is not there; the document itself stays.
func (v *Value) Append(path, text string) (Value, error) {
	if _, there := v.Lookup(path); !there {
		out, err := v.With(path, text)
		if err != nil {
			return out, err
		}
		list, _ := out.Lookup(path)
		only := *list
		*list = Value{Kind: List, At: only.At, Items: []Value{only}}
		return out, nil
	}
	out := *v
	if path == "" {
		if v.Kind != List {
			return out, fmt.Errorf("%s: this is %s, not a list", v.At, v.Kind)
		}
		out.Items = append(slices.Clone(v.Items), Value{Kind: Scalar, At: v.At, Text: text})
		return out, nil
	}
	i, rest := v.step(path)
	inner, err := v.Items[i].Append(rest, text)
	out.Items = slices.Clone(v.Items)
	out.Items[i] = inner
	return out, err
}

// ItemName returns what the item of a number is called in a path, "" when a path cannot name it; seen counts the names before it.
func (v *Value) ItemName(i int, seen map[string]int) string {
	if v.Kind == Keyed {
		return v.Keys[i].Text
	}
	name := v.Items[i].named()
	if name != "" {
		if seen[name]++; seen[name] > 1 {
			name = fmt.Sprintf("%s#%d", name, seen[name])
		}
	}
	return name
}

// named returns what an item of a list is called.
func (v *Value) named() string {
	if v.Kind == Keyed {
		for i := range v.Keys {
			switch item := &v.Items[i]; v.Keys[i].Text {
			case "name", "class", "at":
				if item.Kind == List && len(item.Items) == 1 {
					item = &item.Items[0]
				}
				return item.Text
			case "ends": // a link is named by its ends
				var ends []string
				for j := range item.Items {
					if end := &item.Items[j]; end.Kind == Scalar {
						ends = append(ends, end.Text)
					} else {
						ends = append(ends, end.named())
					}
				}
				return strings.Join(ends, " to ")
			}
		}
	}
	return ""
}

// Scalars calls visit with each value that is neither a list nor has keys, and with its path. It passes over values that no path
// names.
func (v *Value) Scalars(visit func(path string, v *Value)) { v.scalars("", visit) }

func (v *Value) scalars(path string, visit func(path string, v *Value)) {
	if v.Kind == Scalar {
		visit(path, v)
	}
	seen := make(map[string]int)
	for i := range v.Items {
		name := v.ItemName(i, seen)
		if name != "" {
			v.Items[i].scalars(strings.TrimPrefix(path+"."+name, "."), visit)
		}
	}
}

// Put returns the document with a part of it at a path replaced; the document itself stays. A path that is not there changes nothing.
func (v *Value) Put(path string, part Value) Value {
	if path == "" {
		return part
	}
	i, rest := v.step(path)
	if i < 0 {
		return *v
	}
	out := *v
	out.Items = slices.Clone(v.Items)
	out.Items[i] = v.Items[i].Put(rest, part)
	return out
}

// Remove returns the document without what is at a path; the document itself stays.
func (v *Value) Remove(path string) Value {
	i, rest := v.step(path)
	if i < 0 {
		return *v
	}
	out := *v
	out.Items = slices.Clone(v.Items)
	if rest != "" {
		out.Items[i] = v.Items[i].Remove(rest)
		return out
	}
	out.Items = slices.Delete(out.Items, i, i+1)
	if v.Kind == Keyed {
		out.Keys = slices.Delete(slices.Clone(v.Keys), i, i+1)
	}
	return out
}

// With returns the document with a value at a path replaced, or written where it is not
// yet; the document itself stays.
func (v *Value) With(path, text string) (Value, error) {
	if path == "" {
		return Value{Kind: Scalar, At: v.At, Text: text}, nil
	}
	out := *v
	if i, rest := v.step(path); i >= 0 {
		inner, err := v.Items[i].With(rest, text)
		out.Items = slices.Clone(v.Items)
		out.Items[i] = inner
		return out, err
	}
	if v.Kind == Scalar || v.Kind == List {
		return out, fmt.Errorf("%s: there is no %s within %s", v.At, path, v.Kind)
	}
	key, rest, _ := strings.Cut(path, ".")
	inner, err := (&Value{At: v.At}).With(rest, text)
	out.Kind = Keyed
	out.Keys = append(slices.Clone(v.Keys), Value{Kind: Scalar, At: v.At, Text: key})
	out.Items = append(slices.Clone(v.Items), inner)
	return out, err
}
