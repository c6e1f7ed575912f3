package deliver

import (
	"slices"
	"strings"

	"imbrel.example/imbrel/core/language"
	"imbrel.example/imbrel/core/yang"
)

// A Wish is what a device is to have.
type Wish struct {
	Config *yang.Element
	Kept   []string // items of the device that are not in the file, by their paths: classes.lab
	ByHand []string // items that somebody changed since the last delivery; they are kept unless the wish is to take over
}

// An item is a named part of a configuration: the least that belongs to one or the other.
type item struct {
	path    string
	section []string // the elements around it
	e       *yang.Element
}

// items returns the items of a configuration in their order.
func items(config *yang.Element) (out []item) {
	if config == nil {
		return nil
	}
	for _, e := range config.Inner {
		if e.Name != "network" {
			out = append(out, item{path(e), nil, e})
			continue
		}
		for _, k := range e.Inner {
			out = append(out, item{"network." + path(k), []string{"network"}, k})
		}
	}
	return out
}

// path returns what an item is called.
func path(e *yang.Element) string {
	for _, key := range []string{"name", "id"} {
		if name := e.TextOf(key); name != "" {
			return e.Name + "." + name
		}
	}
	return e.Name
}

// Want returns the configuration that a device is to have. It has all items of the file. Items that the last delivery brought and the file no longer has
// are removed; items that somebody else added are kept. Items that somebody changed since the last delivery are kept too, unless takeOver is set. last is
// nil when no delivery is known.
func Want(f *language.Form, device, last, file *yang.Element, takeOver bool) Wish {
	has, had := index(device), index(last)
	same := func(a, b *yang.Element) bool {
		return a == nil && b == nil || a != nil && b != nil && Same(f, wrapped(f, a), wrapped(f, b))
	}
	var w Wish
	var all []item
	known := make(map[string]bool)
	for _, i := range items(file) {
		known[i.path] = true
		now, before := has[i.path].e, had[i.path].e
		if last != nil && !same(now, before) && !same(now, i.e) && i.path != "imbrel" {
			w.ByHand = append(w.ByHand, i.path)
			if !takeOver {
				if now != nil {
					all = append(all, has[i.path])
				}
				continue
			}
		}
		all = append(all, i)
	}
	for _, i := range items(device) {
		if known[i.path] {
			continue
		}
		before := had[i.path].e
		switch {
		case takeOver:
			continue
		case before != nil && same(i.e, before): // delivered before, and not in the file any more
			continue
		case before != nil:
			w.ByHand = append(w.ByHand, i.path)
		default:
			w.Kept = append(w.Kept, i.path)
		}
		all = append(all, i)
	}
	w.Config = yang.New(f.Name).In(yang.Namespace)
	for _, i := range all {
		into := w.Config
		for _, name := range i.section {
			if into.Find(name) == nil {
				into.Add(yang.New(name))
			}
			into = into.Find(name)
		}
		into.Add(i.e.Clone())
	}
	slices.Sort(w.Kept)
	return w
}

// index returns the items of a configuration by their paths.
func index(config *yang.Element) map[string]item {
	out := make(map[string]item)
	for _, i := range items(config) {
		out[i.path] = i
	}
	return out
}

// wrapped returns a configuration with one item alone.
func wrapped(f *language.Form, e *yang.Element) *yang.Element {
	out := yang.New(f.Name)
	if f.KeyOf(e.Name) == nil {
		return out.Add(yang.New("network", e))
	}
	return out.Add(e)
}

// Section returns the kind of an item and its name, as people say it: "the class `voice`".
func Section(path string) (kind, name string) {
	path = strings.TrimPrefix(path, "network.")
	section, name, _ := strings.Cut(path, ".")
	for _, row := range []struct{ section, kind string }{{"classes", "class"}, {"policies", "policy"}, {"groups", "group"}, {"apps", "application"}, {"maps", "map"}, {"times", "time"},
		{"attach", "attachment at"}, {"nodes", "node"}, {"links", "link"}, {"tunnels", "tunnel"}} {
		if row.section == section {
			return row.kind, name
		}
	}
	return "key", section
}
