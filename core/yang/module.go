package yang

import (
	"fmt"
	"strings"

	"imbrel.example/imbrel/core/language"
)

// The names of the module.
const (
	Module    = "imbrel-policy"
	Namespace = "https://imbrel.example/yang/policy"
	Revision  = "2026-11-29"
	prefix    = "imbrel"
)

// Text returns the YANG module of the language (RFC 7950): the policy file of a device, and what a device says of itself.
func Text() string {
	w := &writer{groupings: make(map[string]bool)}
	f := language.DeviceForm()
	var body strings.Builder
	w.out = &body
	w.node(f, 1, nil, false)
	w.out = &w.head
	return header + w.head.String() + body.String() + device
}

const header = `module ` + Module + ` {
  yang-version 1.1;
  namespace "` + Namespace + `";
  prefix ` + prefix + `;

  organization "Imbrel";
  contact "docs/deliver.md of the program";
  description
    "A policy file as a device has it: what its classes, policies, interfaces and
     attachments are, in the words of the language; and what the device counted.
     Lists are in the order of the file.";

  revision ` + Revision + ` {
    description "The first.";
  }
`

// device is what a device says of itself, and tells.
const device = `
  container device {
    config false;
    description "What the device says of itself.";
    leaf node { type string; description "The node of the network that it is."; }
    leaf program { type string; description "What runs, and its version."; }
    leaf commits { type uint64; description "How often its configuration was put in force since it started."; }
    leaf renews { type boolean; description "Whether packets of flows that are under way go to their new class at once."; }
    list limit {
      key "name";
      description "What the device cannot do beyond.";
      leaf name { type string; description "Of the limit."; }
      leaf value { type string; mandatory true; description "The most, the least, or the step."; }
    }
    list place {
      key "at";
      description "An interface and a direction with a policy.";
      leaf at { type string; description "As in the policy file: node/interface out, or in."; }
      leaf policy { type string; description "The policy that is in force."; }
      list class {
        key "name";
        description "Counters of an entry since the device started.";
        leaf name { type string; description "Of the class; of an entry within another, with the outer's before it."; }
        leaf offered-packets { type uint64; description "That came to it."; }
        leaf offered-bytes { type uint64; description "As the interface counts them."; }
        leaf sent-packets { type uint64; description "That left."; }
        leaf sent-bytes { type uint64; description "As the interface counts them."; }
        list dropped {
          key "reason";
          description "Packets that were dropped.";
          leaf reason { type string; description "Why."; }
          leaf packets { type uint64; mandatory true; description "How many."; }
        }
      }
    }
  }

  rpc renew {
    description "Puts flows that are under way into the classes of the configuration in force.";
  }

  notification committed {
    description "The configuration in force has changed.";
    leaf by { type string; description "Who changed it: a user, or the device itself."; }
    leaf session { type uint32; description "Of the user."; }
    leaf what { type enumeration { enum commit; enum confirmed-commit; enum confirmed; enum taken-back; } mandatory true;
      description "A commit, one that waits to be confirmed, its confirmation, or a return to what was before it."; }
    leaf commits { type uint64; description "As in /device."; }
  }
}
`

// A writer writes a module.
type writer struct {
	head      strings.Builder // groupings
	out       *strings.Builder
	groupings map[string]bool // those that are written
}

func (w *writer) line(depth int, format string, args ...any) {
	fmt.Fprintf(w.out, "%s%s\n", strings.Repeat("  ", depth), fmt.Sprintf(format, args...))
}

// describe writes what a node means.
func (w *writer) describe(depth int, f *language.Form) {
	text := f.Doc
	if f.Say != "" && f.Say != f.Doc {
		text = strings.TrimPrefix(text+"; "+f.Say, "; ")
	}
	if text != "" {
		w.line(depth, "description %q;", text)
	}
}

// types writes the type of a leaf.
func (w *writer) types(depth int, f *language.Form) {
	switch {
	case f.Flag:
		w.line(depth, "type boolean;")
	case len(f.Words) > 0:
		w.line(depth, "type enumeration {")
		for _, word := range f.Words {
			w.line(depth+1, "enum %q;", word)
		}
		w.line(depth, "}")
	case f.Bounds != [2]int{}:
		w.line(depth, "type uint32 { range \"%d..%d\"; }", f.Bounds[0], f.Bounds[1])
	case f.Pattern != "":
		w.line(depth, "type string { pattern '%s'; }", strings.TrimSuffix(strings.TrimPrefix(f.Pattern, "^"), "$"))
	default:
		w.line(depth, "type string { length \"0..1000\"; }")
	}
}

// node writes a node. within are the definitions around it; key says that it is the key of a list.
func (w *writer) node(f *language.Form, depth int, within []string, key bool) {
	switch f.Kind {
	case language.OneValue:
		w.line(depth, "leaf %s {", f.Name)
		w.types(depth+1, f)
		if f.Need && !key {
			w.line(depth+1, "mandatory true;")
		}
	case language.Values:
		w.line(depth, "leaf-list %s {", f.Name)
		w.types(depth+1, f)
		w.line(depth+1, "ordered-by user;")
		if f.Need {
			w.line(depth+1, "min-elements 1;")
		}
	case language.Keys:
		w.line(depth, "container %s {", f.Name)
		w.line(depth+1, "presence %q;", "it is given")
		if !f.Single {
			w.uses(depth+1, f, within)
			break
		}
		w.line(depth+1, "choice form {")
		if f.Need {
			w.line(depth+2, "mandatory true;")
		}
		w.line(depth+2, "description %q;", "One value, or keys.")
		w.line(depth+2, "leaf %s { type string { length \"1..1000\"; } description %q; }", valueLeaf, "One value: "+f.Say)
		w.line(depth+2, "case keys {")
		w.uses(depth+3, f, within)
		w.line(depth+2, "}")
		w.line(depth+1, "}")
	case language.Items:
		w.line(depth, "list %s {", f.Name)
		w.line(depth+1, "key %q;", keyLeaf(f))
		w.line(depth+1, "ordered-by user;")
		if f.Map {
			w.line(depth+1, "leaf %s { type string; description %q; }", nameLeaf, "Its name.")
		} else if f.ID == "" {
			w.line(depth+1, "leaf %s { type string; description %q; }", idLeaf, "What tells it from the others: its class or place, or a number.")
		}
		if f.Only != nil {
			only := *f.Only
			only.Name, only.Doc = valueLeaf, "What it stands for"
			w.node(&only, depth+1, within, false)
		} else {
			w.uses(depth+1, f, within)
		}
	}
	w.describe(depth+1, f)
	w.line(depth, "}")
}

// uses writes the use of a grouping, and the grouping itself where that has not been done. A definition within itself has a grouping for each level, for
// YANG has none that contains itself (RFC 7950 §7.12).
func (w *writer) uses(depth int, f *language.Form, within []string) {
	level := 1
	for _, name := range within {
		if name == f.Type {
			level++
		}
	}
	name := f.Type
	if level > 1 {
		name = fmt.Sprintf("%s-%d", f.Type, level)
	}
	w.line(depth, "uses %s;", name)
	if w.groupings[name] {
		return
	}
	w.groupings[name] = true
	out := w.out
	var own strings.Builder
	w.out = &own
	w.line(0, "\n  grouping %s {", name)
	w.line(2, "description %q;", "The keys of "+strings.ReplaceAll(f.Type, "-", " ")+".")
	for _, k := range f.Inner {
		if k.Type == f.Type && level == language.MaxLevels {
			continue
		}
		w.node(k, 2, append(within, f.Type), f.Kind == language.Items && k.Name == keyLeaf(f))
	}
	w.line(1, "}")
	w.out = out
	w.head.WriteString(own.String())
}
