package policy

import (
	"fmt"
	"net/netip"
	"slices"

	"imbrel/core/packet"
)

func (s *resolver) network() {
	n := &s.f.Network
	unique(s, "nodes", n.Nodes, func(n *NetworkNode) (string, Place) { return n.Name, n.PlaceOf("name") })
	s.interfaces = make(map[string]*Interface)
	subnets := make(map[netip.Prefix]*Interface)
	number := 0
	for i := range n.Nodes {
		node := &n.Nodes[i]
		unique(s, "interfaces of `"+node.Name+"`", node.Interfaces, func(i *Interface) (string, Place) { return i.Name, i.PlaceOf("name") })
		for j := range node.Interfaces {
			face := &node.Interfaces[j]
			number++
			face.Node, face.Number = node, number
			if !face.Has("framing") {
				face.Framing = packet.FramingEthernet
			}
			if _, twice := s.interfaces[face.Path()]; !twice && face.Name != "" {
				s.interfaces[face.Path()] = face
				s.paths = append(s.paths, face.Path())
			}
			for _, p := range face.Subnets {
				if other, twice := subnets[p]; twice {
					s.problem(face.PlaceOf("subnets"), 0, "a subnet is behind one interface", "the subnet %s is already behind %s", p, other.Path())
				}
				subnets[p] = face
			}
		}
	}
	for i := range n.Links {
		s.link(&n.Links[i])
	}
	s.tunnels()
	for _, path := range s.paths {
		if face := s.interfaces[path]; face.Link == nil && len(face.Subnets) == 0 {
			s.problem(face.At, 0, "join it to another with an entry in `links`, or say which `subnets` are behind it", "the interface %s leads nowhere", path)
		}
	}
}

func (s *resolver) link(l *Link) {
	if len(l.Ends) != 2 {
		if l.Has("ends") {
			s.problem(l.PlaceOf("ends"), 0, "a link joins two interfaces", "a link has two ends, not %d", len(l.Ends))
		}
		return
	}
	for i := range l.Ends {
		end := &l.Ends[i]
		if end.Buffer == 0 {
			end.Buffer = DefaultBuffer
		}
		face := s.interfaces[end.AtName.Text]
		if face == nil {
			s.unknown(end.AtName, "interface", s.paths)
			continue
		}
		if face.Link != nil {
			s.problem(end.AtName.At, len(end.AtName.Text), fmt.Sprintf("the other stands in line %d; an interface has one link", face.Link.At.Line), "%s is already the end of a link", face.Path())
			continue
		}
		end.Interface, face.Link, face.End = face, l, i
	}
}

func (s *resolver) tunnels() {
	n := &s.f.Network
	unique(s, "tunnels", n.Tunnels, func(t *Tunnel) (string, Place) { return t.Name, t.PlaceOf("name") })
	var names []string
	for i := range n.Nodes {
		names = append(names, n.Nodes[i].Name)
	}
	for i := range n.Tunnels {
		t := &n.Tunnels[i]
		for _, ref := range t.ThroughName {
			k := slices.IndexFunc(n.Nodes, func(n NetworkNode) bool { return n.Name == ref.Text })
			switch {
			case k < 0:
				s.unknown(ref, "node", names)
				t.Through = nil
			case slices.Contains(t.Through, &n.Nodes[k]):
				s.problem(ref.At, len(ref.Text), "name each node once", "the tunnel `%s` goes through `%s` twice", t.Name, ref.Text)
			default:
				t.Through = append(t.Through, &n.Nodes[k])
			}
		}
		if len(t.Through) != len(t.ThroughName) {
			t.Through = nil
			continue
		}
		if t.Has("through") && len(t.Through) < 2 {
			s.problem(t.PlaceOf("through"), 0, "name the nodes from its start to its end", "the tunnel `%s` has no two ends", t.Name)
		}
		for j := 1; j < len(t.Through); j++ {
			if t.Through[j-1].Towards(t.Through[j]) == nil {
				s.problem(t.ThroughName[j].At, len(t.ThroughName[j].Text), "join them with an entry in `links`, or name the nodes between them", "no link joins `%s` and `%s`", t.Through[j-1].Name, t.Through[j].Name)
			}
		}
		s.tunnelKeys(t)
	}
}

// tunnelKeys checks that each key belongs to the kind, and sets what is not
// given.
func (s *resolver) tunnelKeys(t *Tunnel) {
	mpls := t.Kind == "mpls"
	for key, ofMPLS := range map[string]bool{"labels": true, "pop": true, "from": false, "to": false} {
		if t.Has(key) && ofMPLS != mpls {
			s.problem(t.PlaceOf(key), 0, "remove it", "`%s` means nothing to a tunnel of kind %s", key, t.Kind)
		}
	}
	if t.Model == "" {
		t.Model = "pipe"
	}
	if mpls {
		t.Labels = max(t.Labels, 1)
		if t.Pop == "" {
			t.Pop = "penultimate"
		}
	}
}

// Towards returns the node's interface whose link ends at another node, the
// first in the order of the file, or nil.
func (n *NetworkNode) Towards(other *NetworkNode) *Interface {
	for i := range n.Interfaces {
		if f := &n.Interfaces[i]; f.Link != nil {
			if end := f.Link.Ends[1-f.End].Interface; end != nil && end.Node == other {
				return f
			}
		}
	}
	return nil
}
