package language

import (
	"maps"
	"slices"
	"strings"
	"sync"
)

// A FormKind is how a part of the file is built.
type FormKind uint8

// The kinds of forms.
const (
	OneValue FormKind = iota // a single value
	Values                   // single values in an order
	Keys                     // a set of keys
	Items                    // sets of keys in an order, each with a name or a number
)

// A Form is the part of the language's description that says how a part of the file is built, for those who write it in another
// notation than YAML. Forms may contain themselves.
type Form struct {
	Kind FormKind
	Name string // of the key
	Doc  string
	Say  string // what may be written there
	Need bool

	Words   []string // the only values there are
	Pattern string   // what a value looks like, as an ECMA regular expression
	Bounds  [2]int   // of a whole number; both 0: it is none
	Flag    bool     // true or false

	List   bool    // of Values: one by itself is a list, too
	Single bool    // of Keys: a single value may be written in their place
	ID     string  // of Items: the key that tells them apart, or "" where their order does
	Map    bool    // of Items: the file writes them as names, each followed by its value
	Inner  []*Form // of Keys and Items
	Only   *Form   // of Items of a Map whose value has no keys: what the value is
	Type   string  // the name of the definition that the keys are of
}

// KeyOf returns the form of a key, or nil.
func (f *Form) KeyOf(name string) *Form {
	for _, k := range f.Inner {
		if k.Name == name {
			return k
		}
	}
	return nil
}

// elsewhere are the keys of a policy file that no device is given: they are for those who plan.
var elsewhere = []string{"title", "include", "loads", "rehearsals", "devices"}

// DeviceForm returns the form of a policy file as a device has it: without traffic, rehearsals and names of other files. Its name is
// policy-file. It is made once, and is not to be changed.
var DeviceForm = sync.OnceValue(func() *Form {
	d := make(definitions)
	root := aFile.schema(d)
	f := (&forms{d: d, made: make(map[string]*Form)}).of(root)
	f.Inner = slices.DeleteFunc(f.Inner, func(k *Form) bool { return slices.Contains(elsewhere, k.Name) })
	f.Name = f.Type
	return f
})

// forms makes forms from a schema.
type forms struct {
	d    definitions
	made map[string]*Form // by definition
}

// of returns the form that a schema describes.
func (m *forms) of(s schema) *Form {
	f := &Form{}
	f.Say, _ = s["title"].(string)
	f.Doc, _ = s["description"].(string)
	if ref, is := s["$ref"].(string); is {
		f.Kind, f.Type = Keys, strings.TrimPrefix(ref, "#/$defs/")
		f.Inner = m.keys(f.Type)
		return f
	}
	if any, is := s["anyOf"].([]schema); is {
		m.either(f, any)
		return f
	}
	switch kind, _ := s["type"].(string); kind {
	case "array":
		item := m.of(s["items"].(schema))
		f.Kind, f.Inner, f.Type, f.Say, f.List = Values, item.Inner, item.Type, item.Say, true
		if item.Kind == Keys {
			f.Kind, f.ID = Items, idOf(item)
		}
	case "object":
		value, is := s["additionalProperties"].(schema)
		if !is { // what is written in another way when the file is read
			return nil
		}
		of := m.of(value)
		f.Kind, f.Map, f.ID = Items, true, "name"
		if f.Inner, f.Type = of.Inner, of.Type; of.Kind != Keys {
			f.Only = of
		}
	case "boolean":
		f.Flag = true
	case "integer":
		f.Bounds[0], _ = s["minimum"].(int)
		f.Bounds[1], _ = s["maximum"].(int)
	}
	f.Words, _ = s["enum"].([]string)
	f.Pattern, _ = s["pattern"].(string)
	return f
}

// either makes the form of what may be written in one of several ways.
func (m *forms) either(f *Form, any []schema) {
	for n, s := range any {
		one := m.of(s)
		switch {
		case one == nil:
		case one.Kind == Keys:
			f.Kind, f.Single, f.Inner, f.Type = Keys, true, one.Inner, one.Type
		case one.Kind == Items: // or one by itself
			f.Kind, f.Single, f.Inner, f.Type, f.ID = Items, false, one.Inner, one.Type, one.ID
		case one.Kind == Values:
			f.Kind, f.Words, f.Pattern = Values, one.Words, one.Pattern
		case one.Bounds != [2]int{}:
			f.Bounds = one.Bounds
		case n == 0 && len(any) == 1:
			f.Words, f.Pattern = one.Words, one.Pattern
		}
		if one != nil && f.Say == "" {
			f.Say = one.Say
		}
	}
}

// keys returns the forms of the keys of a definition: first those that cannot be left out.
func (m *forms) keys(name string) []*Form {
	if f := m.made[name]; f != nil {
		return f.Inner
	}
	s := m.d[name]
	properties := s["properties"].(schema)
	required, _ := s["required"].([]string)
	order := slices.Clone(required)
	for _, key := range slices.Sorted(maps.Keys(properties)) {
		if !slices.Contains(order, key) {
			order = append(order, key)
		}
	}
	all := make([]*Form, len(order))
	m.made[name] = &Form{Inner: all} // it may contain itself
	for i, key := range order {
		k := m.of(properties[key].(schema))
		k.Name, k.Need = key, slices.Contains(required, key)
		all[i] = k
	}
	return all
}

// idOf returns the key that tells the items of a list apart.
func idOf(item *Form) string {
	if len(item.Inner) > 0 && item.Inner[0].Name == "name" {
		return "name"
	}
	return ""
}
