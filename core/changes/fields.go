package changes

import (
	"cmp"
	"crypto/sha256"
	"fmt"
	"net/netip"
	"reflect"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode"

	"imbrel.example/imbrel/core/codec"
	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
)

// A Field is a value of a file that differs, by its path: "policies.up.treat.voice.police.rate". Old is "" where it was
// not written, New where it is no longer.
type Field struct {
	Path string `json:"path"`
	Old  string `json:"old"`
	New  string `json:"new"`
}

// There is the value of a named part that is new or gone.
const There = "there"

// fields returns the values in which two files differ. It walks the whole model, so that a field that nobody thought of is
// among them. Spelling, order of keys, comments and includes make no difference, and neither do the names of times and groups:
// their values are compared where they are used.
func fields(before, after *policy.File) []Field {
	var a *model
	var beside sync.WaitGroup
	beside.Go(func() { a = newModel(before) })
	b := newModel(after)
	beside.Wait()
	out := []Field{}
	hidden := make(map[string]bool) // of a part that is new or gone, what is within
	within := func(path string) bool {
		for i := range path {
			if (path[i] == '.' || path[i] == ' ') && hidden[path[:i]] {
				return true
			}
		}
		return hidden[path]
	}
	add := func(path string) {
		if within(path) {
			return
		}
		x, old := a.values[path]
		y, now := b.values[path]
		switch {
		case old && now && x == y:
		case !old && a.named[path] == y && a.named[path] != "", !now && b.named[path] == x && b.named[path] != "": // the other file uses it
		case a.parts[path] || b.parts[path]:
			hidden[path] = true
			f := Field{Path: cmp.Or(a.shown[path], b.shown[path], path), Old: There}
			if now {
				f.Old, f.New = "", There
			}
			out = append(out, f)
		default:
			out = append(out, Field{Path: path, Old: x, New: y})
		}
	}
	for _, path := range a.order {
		add(path)
	}
	for _, path := range b.order {
		if _, known := a.values[path]; !known {
			add(path)
		}
	}
	return out
}

// A model is the values of a file by their paths.
type model struct {
	order  []string
	values map[string]string
	parts  map[string]bool   // paths of named items of lists, whose value is ""
	shown  map[string]string // of paths that are shown in another way
	named  map[string]string // groups that classes use: their values are those of the classes
	fields map[reflect.Type][]walkedField
}

func newModel(f *policy.File) *model {
	m := &model{values: make(map[string]string), parts: make(map[string]bool), shown: make(map[string]string), named: make(map[string]string), fields: make(map[reflect.Type][]walkedField)}
	m.walk("", reflect.ValueOf(f).Elem())
	used := make(map[string]bool) // groups that a class names, or a group that one does
	var use func(a *policy.Addresses)
	use = func(a *policy.Addresses) {
		for _, given := range a.Given {
			if n := slices.IndexFunc(f.Groups, func(g policy.Group) bool { return g.Name == given.Text }); n >= 0 && !used[given.Text] {
				used[given.Text] = true
				use(&f.Groups[n].Addresses)
			}
		}
	}
	for i := range f.Classes {
		for _, c := range slices.Concat(f.Classes[i].Match, f.Classes[i].Except) {
			for j := range c.Terms {
				if a := c.Terms[j].Addresses; a != nil {
					use(a)
				}
			}
		}
	}
	for i := range f.Groups {
		g := &f.Groups[i]
		if path, value := "groups."+g.Name, prefixes(g.Addresses.Prefixes); used[g.Name] {
			m.named[path] = value
		} else {
			m.set(path, value)
		}
	}
	return m
}

// Hash returns a hexadecimal number that is equal for files with equal values, however they are spelled.
func Hash(f *policy.File) string {
	m := newModel(f)
	slices.Sort(m.order)
	sum := sha256.New()
	for _, path := range m.order {
		fmt.Fprintf(sum, "%s\x00%s\x00", path, m.values[path])
	}
	for i := range f.Attach {
		a := &f.Attach[i]
		fmt.Fprintf(sum, "%s %s %s\x00", a.Interface.Path(), a.Direction, a.Policy.Name)
	}
	return fmt.Sprintf("%x", sum.Sum(nil)[:8])
}

func (m *model) set(path, value string) {
	if _, known := m.values[path]; !known {
		m.order = append(m.order, path)
	}
	m.values[path] = value
}

// notWalked are the fields that repeat what is elsewhere, or are names of what is compared by its values. An attachment
// is compared where it is; times, groups and loads where they are used.
var notWalked = map[string]bool{
	"File.Groups": true, "File.Times": true, "File.Maps": true, "File.Loads": true, "File.Attach": true,
	"Event.End": true, "Event.Attach": true, "Interface.Node": true, "Interface.Attached": true, "Interface.Link": true, "Interface.End": true, "Interface.Number": true,
	"Entry.Class": true, "Entry.ClassName": true, "Entry.Inside": true, "When.TimeName": true, "Mark.MapName": true,
	"LinkEnd.AtName": true, "Tunnel.ThroughName": true, "Bundle.Members": true, "Traffic.EntersName": true, "App.Number": true, "App.What": true,
}

// keys are words of the language where they are not those of the model.
var keys = map[string]string{"part": "", "start-at": "starts-at", "server-names": "server-name", "within": "inside"}

// A walkedField is a field of a type of the model, by its number, with its key.
type walkedField struct {
	number int
	key    string
}

// walked returns the fields of a type that are walked.
func (m *model) walked(t reflect.Type) []walkedField {
	known, is := m.fields[t]
	if !is {
		for i := range t.NumField() {
			if field := t.Field(i); field.IsExported() && !notWalked[t.Name()+"."+field.Name] {
				known = append(known, walkedField{i, word(field.Name)})
			}
		}
		m.fields[t] = known
	}
	return known
}

// walk notes the values of a part of the model.
func (m *model) walk(path string, v reflect.Value) {
	if v.Kind() == reflect.Float64 && v.Float() > 0 && strings.HasSuffix(path, ".loss") {
		m.set(path, fmt.Sprintf("%g%%", 100*v.Float()))
		return
	}
	if text, is := leaf(v); is {
		if text != "" {
			m.set(path, text)
		}
		return
	}
	switch v.Kind() {
	case reflect.Pointer:
		if !v.IsNil() {
			m.walk(path, v.Elem())
		}
	case reflect.Struct:
		for _, f := range m.walked(v.Type()) {
			m.walk(join(path, f.key), v.Field(f.number))
		}
	case reflect.Slice, reflect.Array:
		m.list(path, v)
	default:
		if !v.IsZero() {
			m.set(path, fmt.Sprint(v.Interface()))
		}
	}
}

// list notes the items of a list: by their names where they have some.
func (m *model) list(path string, v reflect.Value) {
	if v.Len() == 0 {
		return
	}
	switch list := v.Interface().(type) {
	case []policy.Condition:
		var words []string
		for i := range list {
			words = append(words, condition(&list[i]))
		}
		slices.Sort(words)
		m.set(path, strings.Join(words, " or "))
		return
	case []policy.Expectation:
		for i := range list {
			at := join(path, expectation(&list[i]))
			m.set(at, "")
			m.parts[at], m.shown[at] = true, join(path, list[i].Text)
		}
		return
	case []netip.Prefix:
		m.set(path, prefixes(list))
		return
	}
	known := make(map[string]int)
	for i := range v.Len() {
		item := v.Index(i)
		name := itemName(item)
		if name == "-" { // of the catalogue
			continue
		}
		if name == "" {
			name = fmt.Sprint(i + 1)
		}
		if known[name]++; known[name] > 1 {
			name = fmt.Sprintf("%s#%d", name, known[name])
		}
		at := join(path, name)
		if text, is := leaf(item); is && itemName(item) == "" {
			m.set(at, text)
			continue
		}
		m.set(at, "")
		m.parts[at] = true
		m.walk(at, reflect.Indirect(item))
	}
}

// itemName returns what an item of a list is called; "": it has no name.
func itemName(v reflect.Value) string {
	switch x := reflect.Indirect(v).Interface().(type) {
	case policy.Entry:
		return x.ClassName.Text
	case policy.App:
		if x.At == (policy.Place{}) {
			return "-"
		}
		return x.Name
	case policy.Link:
		var ends []string
		for _, e := range x.Ends {
			ends = append(ends, e.Interface.Path())
		}
		return strings.Join(ends, " to ")
	case policy.LinkEnd:
		return x.Interface.Path()
	}
	if name := reflect.Indirect(v); name.Kind() == reflect.Struct {
		if field := name.FieldByName("Name"); field.IsValid() && field.Kind() == reflect.String {
			return field.String()
		}
	}
	return ""
}

// leaf returns a value as text, and whether it is one: not a part with parts of its own. A zero value has no text.
func leaf(v reflect.Value) (string, bool) {
	if !v.CanInterface() {
		return "", true
	}
	switch kind := v.Kind(); {
	case kind == reflect.Pointer && v.IsNil():
		return "", true
	case (kind == reflect.Slice || kind == reflect.Bool || kind == reflect.String) && v.Type().PkgPath() == "":
		return "", false
	}
	switch x := v.Interface().(type) {
	case policy.Source, policy.Place, policy.Ref:
		return "", true
	case *policy.Policy:
		return x.Name, true
	case *policy.Interface:
		return x.Path(), true
	case *policy.Node:
		return x.Name, true
	case *policy.Span:
		return x.String(), true
	case *policy.MarkTable:
		var words []string
		for from, to := range x.To {
			if int(to) != from {
				words = append(words, fmt.Sprintf("%s as %s", codepoint.DSCP(from).Name(), to.Name()))
			}
		}
		return strings.Join(words, ", "), true
	case codepoint.DSCP:
		return x.Name(), true
	case time.Duration:
		if x == 0 {
			return "", true
		}
		return unit.FormatDuration(x), true
	case time.Time:
		if x.IsZero() {
			return "", true
		}
		return x.Format("2006-01-02T15:04:05"), true
	case packet.Framing:
		if x == (packet.Framing{}) {
			return "", true
		}
		return strings.TrimSpace(fmt.Sprintf("%s %d bytes, at least %d, cells %d of %d, %d tags, %d labels", x.Name, x.Bytes, x.Minimum, x.Payload, x.Cell, x.Tags, x.Labels)), true
	case codec.Codec:
		if x == (codec.Codec{}) {
			return "", true
		}
		return fmt.Sprintf("%s, %d bytes each %s", x.Name, x.Payload, unit.FormatDuration(x.Interval)), true
	case netip.Addr:
		if !x.IsValid() {
			return "", true
		}
		return x.String(), true
	case fmt.Stringer:
		if v.IsZero() {
			return "", true
		}
		return x.String(), true
	}
	if v.Kind() == reflect.Float64 && !v.IsZero() {
		return fmt.Sprintf("%g", v.Float()), true
	}
	return "", false
}

// expectation writes an expectation so that equal ones are equal texts, however their numbers are spelled.
func expectation(e *policy.Expectation) string {
	plain := *e
	plain.Text, plain.At, plain.Where = "", policy.Place{}, nil
	return fmt.Sprintf("%+v", plain)
}

// condition writes a condition so that equal ones are equal texts: groups as their addresses, lists in order.
func condition(c *policy.Condition) string {
	var terms []string
	for i := range c.Terms {
		t := &c.Terms[i]
		row := t.Key.Row()
		var words []string
		switch {
		case t.Addresses != nil:
			if text := prefixes(t.Addresses.Prefixes); text != "" {
				words = append(words, text)
			}
			if t.Addresses.Here {
				words = append(words, "here")
			}
		case row.Print != nil && len(t.Ranges) > 0:
			for _, r := range t.Ranges {
				words = append(words, row.Print(r))
			}
			slices.Sort(words)
		default:
			for _, r := range t.Given {
				words = append(words, r.Text)
			}
			slices.Sort(words)
		}
		terms = append(terms, row.Name+" "+strings.Join(words, ", "))
	}
	slices.Sort(terms)
	return strings.Join(terms, " and ")
}

func prefixes(list []netip.Prefix) string {
	var words []string
	for _, p := range list {
		if p.IsSingleIP() {
			words = append(words, p.Addr().String())
		} else {
			words = append(words, p.String())
		}
	}
	slices.Sort(words)
	return strings.Join(slices.Compact(words), ", ")
}

func join(path, name string) string {
	switch "" {
	case path:
		return name
	case name:
		return path
	}
	return path + "." + name
}

// word makes a key of the language of a field's name: "AtLeast" is "at-least".
func word(name string) string {
	var b strings.Builder
	for i, r := range name {
		if unicode.IsUpper(r) && i > 0 && unicode.IsLower(rune(name[i-1])) {
			b.WriteByte('-')
		}
		b.WriteRune(unicode.ToLower(r))
	}
	if k, known := keys[b.String()]; known {
		return k
	}
	return b.String()
}
