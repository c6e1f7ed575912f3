package policyfile

import (
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"imbrel.example/imbrel/core/language"
	"imbrel.example/imbrel/core/policy"
)

// Part returns the part of a policy file that a node needs to put its policies in force, as a file of its own: the interfaces of the node, its attachments,
// the policies attached there, the definitions that those name, and the far ends of its links. It has no traffic. Measured lines are written as rates. The file
// was read from this source, and the node is one of its nodes.
func (s *Source) Part(f *policy.File, node *policy.Node) language.Value {
	at := s.doc.At
	out := keyed(at)
	put(&out, "imbrel", text(at, "1"))
	uses := make(map[string]bool) // texts that may be names
	policies := s.attached(f, node, uses)
	section := func(key string) *language.Value {
		v, ok := s.doc.Lookup(key)
		if !ok {
			return &language.Value{At: at}
		}
		return v
	}
	// What names something is read for whatever it names: sections from the last that is named to the first.
	kept := make(map[string]language.Value)
	kept["policies"] = picked(section("policies"), func(name string) bool { return slices.Contains(policies, name) }, uses)
	kept["classes"] = picked(section("classes"), func(name string) bool { return uses[name] }, uses)
	for _, key := range []string{"maps", "times", "apps"} {
		kept[key] = picked(section(key), func(name string) bool { return uses[name] }, uses)
	}
	for n := -1; n != len(uses); { // groups name groups
		n = len(uses)
		kept["groups"] = picked(section("groups"), func(name string) bool { return uses[name] }, uses)
	}
	for _, key := range []string{"groups", "apps", "maps", "times", "classes", "policies"} {
		if v := kept[key]; len(v.Items) > 0 {
			put(&out, key, v)
		}
	}
	attach := language.Value{Kind: language.List, At: at}
	for i := range f.Attach {
		if a := &f.Attach[i]; a.Interface.Node == node {
			line := keyed(a.At)
			put(&line, "policy", text(a.At, a.Policy.Name))
			put(&line, "at", text(a.At, a.Interface.Path()+" "+a.Direction.String()))
			attach.Items = append(attach.Items, line)
		}
	}
	if len(attach.Items) > 0 {
		put(&out, "attach", attach)
	}
	put(&out, "network", s.around(f, node, uses))
	return out
}

// attached returns the names of the policies that are attached at a node, and of those inside them.
func (s *Source) attached(f *policy.File, node *policy.Node, uses map[string]bool) (names []string) {
	var add func(p *policy.Policy)
	var entries func(list []policy.Entry)
	entries = func(list []policy.Entry) {
		for i := range list {
			if e := &list[i]; e.Within != nil {
				add(e.Within)
			} else {
				entries(e.Treat)
			}
		}
	}
	add = func(p *policy.Policy) {
		if !slices.Contains(names, p.Name) {
			names = append(names, p.Name)
			entries(p.Treat)
		}
	}
	for i := range f.Attach {
		if f.Attach[i].Interface.Node == node {
			add(f.Attach[i].Policy)
		}
	}
	return names
}

// around returns the network as far as a node needs it: its interfaces, those that its classes name, and the far ends of their links.
func (s *Source) around(f *policy.File, node *policy.Node, uses map[string]bool) language.Value {
	wanted := make(map[string]bool)
	add := func(i *policy.Interface) {
		wanted[i.Path()] = true
		if peer := i.Peer(); peer != nil {
			wanted[peer.Path()] = true
		}
	}
	for n := range f.Network.Nodes {
		for _, i := range f.Network.Nodes[n].Interfaces {
			if i.Node == node || uses[i.Path()] {
				add(i)
			}
		}
	}
	near := make(map[string]bool) // nodes
	for path := range wanted {
		name, _, _ := strings.Cut(path, "/")
		near[name] = true
	}
	at := s.doc.At
	out := keyed(at)
	nodes := language.Value{Kind: language.List, At: at}
	all, _ := s.doc.Lookup("network.nodes")
	for i := range all.Items {
		written := &all.Items[i]
		name := field(written, "name")
		if !near[name] {
			continue
		}
		k := keyed(written.At)
		put(&k, "name", text(written.At, name))
		interfaces := language.Value{Kind: language.List, At: written.At}
		list, _ := written.Lookup("interfaces")
		for j := range list.Items {
			path := name + "/" + field(&list.Items[j], "name")
			switch {
			case !wanted[path]:
			case name == node.Name || uses[path]:
				interfaces.Items = append(interfaces.Items, list.Items[j])
			default: // the far end of a link: nobody is there
				interfaces.Items = append(interfaces.Items, without(&list.Items[j], "subnets"))
			}
		}
		put(&k, "interfaces", interfaces)
		nodes.Items = append(nodes.Items, k)
	}
	put(&out, "nodes", nodes)
	links := language.Value{Kind: language.List, At: at}
	if all, ok := s.doc.Lookup("network.links"); ok {
		for i := range all.Items {
			ends, _ := all.Items[i].Lookup("ends")
			if slices.ContainsFunc(ends.Items, func(e language.Value) bool { return wanted[field(&e, "at")] }) {
				links.Items = append(links.Items, all.Items[i])
			}
		}
	}
	if len(links.Items) > 0 {
		put(&out, "links", links)
	}
	return out
}

// picked returns the items of a list, or of names and values, whose names are wanted, and notes the texts within them.
func picked(v *language.Value, wanted func(name string) bool, uses map[string]bool) language.Value {
	out := language.Value{Kind: v.Kind, At: v.At}
	for i := range v.Items {
		name := field(&v.Items[i], "name")
		if v.Kind == language.Keyed {
			name = v.Keys[i].Text
		}
		if !wanted(name) {
			continue
		}
		if v.Kind == language.Keyed {
			out.Keys = append(out.Keys, v.Keys[i])
		}
		out.Items = append(out.Items, v.Items[i])
		texts(&v.Items[i], uses)
	}
	return out
}

// texts notes the single values of a part of a file.
func texts(v *language.Value, into map[string]bool) {
	if v.Kind == language.Scalar {
		into[v.Text] = true
	}
	for i := range v.Items {
		texts(&v.Items[i], into)
	}
}

func keyed(at policy.Place) language.Value { return language.Value{Kind: language.Keyed, At: at} }

func text(at policy.Place, s string) language.Value {
	return language.Value{Kind: language.Scalar, At: at, Text: s}
}

// put adds a key to a set of keys.
func put(v *language.Value, key string, item language.Value) {
	v.Keys, v.Items = append(v.Keys, text(v.At, key)), append(v.Items, item)
}

// field returns the text of a key.
func field(v *language.Value, key string) string {
	if i := find(v, key); i >= 0 && v.Kind == language.Keyed {
		return v.Items[i].Text
	}
	return ""
}

// without returns a set of keys without one.
func without(v *language.Value, key string) language.Value {
	out := keyed(v.At)
	for i := range v.Keys {
		if v.Keys[i].Text != key {
			out.Keys, out.Items = append(out.Keys, v.Keys[i]), append(out.Items, v.Items[i])
		}
	}
	return out
}

// FromValue validates a policy file that is not read from a text. What is wrong with it is a policy.Problems.
func FromValue(doc language.Value, zones Zones) (*policy.File, *Source, error) {
	s := &Source{from: none, zones: zones, doc: &doc}
	f, err := language.Read(doc, zones.lookup())
	return f, s, err
}

// Value returns what was read, with what it includes.
func (s *Source) Value() *language.Value { return s.doc }

// Write returns a policy file as YAML.
func Write(v *language.Value) ([]byte, error) { return yaml.Marshal(node(v)) }

// node returns a value as the YAML library has it. What is short stands in a line.
func node(v *language.Value) *yaml.Node {
	switch v.Kind {
	case language.Scalar:
		n := &yaml.Node{Kind: yaml.ScalarNode, Value: v.Text}
		if n.ShortTag() == "!!null" {
			n.Style = yaml.DoubleQuotedStyle
		}
		return n
	case language.List, language.Keyed:
		n := &yaml.Node{Kind: yaml.SequenceNode}
		if v.Kind == language.Keyed {
			n.Kind = yaml.MappingNode
		}
		for i := range v.Items {
			if v.Kind == language.Keyed {
				n.Content = append(n.Content, node(&v.Keys[i]))
			}
			n.Content = append(n.Content, node(&v.Items[i]))
		}
		if width(v) <= 100 {
			n.Style = yaml.FlowStyle
		}
		return n
	}
	return &yaml.Node{Kind: yaml.ScalarNode, Value: "null", Tag: "!!null"}
}

// width returns about how many characters a value takes in a line.
func width(v *language.Value) int {
	n := len(v.Text)
	for i := range v.Keys {
		n += len(v.Keys[i].Text) + 2
	}
	for i := range v.Items {
		n += width(&v.Items[i]) + 2
	}
	return n
}

// AsDelivered returns the policy file as its devices would have it. part fits the part of a node to its device, and reports whether it changed. A changed
// policy gets the name NAME.NODE.
func (s *Source) AsDelivered(f *policy.File, part func(node *policy.Node, part language.Value) (language.Value, bool, error)) (*policy.File, *Source, error) {
	doc := *s.doc
	policies, _ := s.doc.Lookup("policies")
	if policies == nil || len(f.Attach) == 0 {
		return f, s, nil
	}
	more := *policies
	more.Items = slices.Clone(policies.Items)
	own := make(map[*policy.Node]map[string]string) // new names
	for i := range f.Network.Nodes {
		node := &f.Network.Nodes[i]
		fitted, differs, err := part(node, s.Part(f, node))
		if err != nil {
			return nil, nil, err
		}
		if !differs {
			continue
		}
		own[node] = make(map[string]string)
		list, _ := fitted.Lookup("policies")
		for k := range list.Items {
			name := field(&list.Items[k], "name")
			renamed, err := list.Items[k].With("name", name+"."+node.Name)
			if err != nil {
				return nil, nil, err
			}
			own[node][name] = name + "." + node.Name
			more.Items = append(more.Items, renamed)
		}
	}
	attach := language.Value{Kind: language.List, At: doc.At}
	for i := range f.Attach {
		a := &f.Attach[i]
		name := a.Policy.Name
		if to := own[a.Interface.Node][name]; to != "" {
			name = to
		}
		line := keyed(a.At)
		put(&line, "policy", text(a.At, name))
		put(&line, "at", text(a.At, a.Interface.Path()+" "+a.Direction.String()))
		attach.Items = append(attach.Items, line)
	}
	again := *s
	doc = doc.Put("policies", more)
	doc = doc.Put("attach", attach)
	again.doc = &doc
	out, err := language.Read(doc, s.zones.lookup())
	return out, &again, again.WithLines(err)
}
