package language

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// A path names a value of a document by the keys from the top down, joined with dots:
// policies.up.treat.voice.police.rate. An item of a list is named by its `name` or its
// `class`; the second of one name by voice#2.

// Lookup returns the value at a path, and whether it is written.
func (v *Value) Lookup(path string) (*Value, bool) {
	at := v
	for _, key := range strings.Split(path, ".") {
		i := at.find(key)
		if i < 0 {
			return nil, false
		}
		at = &at.Items[i]
	}
	return at, true
}

// find returns the number of the item of a key, or -1.
func (v *Value) find(key string) int {
	if v.Kind == Keyed {
		return slices.IndexFunc(v.Keys, func(k Value) bool { return k.Text == key })
	}
	name, number, _ := strings.Cut(key, "#")
	nth, err := strconv.Atoi(number)
	if err != nil {
		nth = 1
	}
	for i := range v.Items {
		for _, by := range []string{"name", "class"} {
			if k, ok := v.Items[i].Lookup(by); ok && v.Items[i].Kind == Keyed && k.Text == name {
				if nth--; nth == 0 {
					return i
				}
			}
		}
	}
	return -1
}

// With returns the document with a value at a path replaced, or written where it is not
// yet; the document itself stays. A single value that stands where keys are needed, as
// in `at-most: 3Mbit/s` for at-most.rate, is replaced as well.
func (v *Value) With(path, text string) (Value, error) {
	return v.with(strings.Split(path, "."), text)
}

func (v *Value) with(path []string, text string) (Value, error) {
	if len(path) == 0 {
		return Value{Kind: Scalar, At: v.At, Text: text}, nil
	}
	out := *v
	i := v.find(path[0])
	switch {
	case v.Kind == Null:
		out.Kind = Keyed
	case v.Kind == Scalar:
		return out, fmt.Errorf("%s: %q has no %s within", v.At, v.Text, path[0])
	}
	if i < 0 && out.Kind == List {
		return out, fmt.Errorf("%s: the list has no %s", v.At, path[0])
	}
	if i < 0 {
		inner, err := (&Value{At: v.At}).with(path[1:], text)
		out.Keys = append(slices.Clone(v.Keys), Value{Kind: Scalar, At: v.At, Text: path[0]})
		out.Items = append(slices.Clone(v.Items), inner)
		return out, err
	}
	inner, err := v.Items[i].with(path[1:], text)
	out.Items = slices.Clone(v.Items)
	out.Items[i] = inner
	return out, err
}
