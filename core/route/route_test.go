package route_test

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/route"
	"imbrel.example/imbrel/core/unit"
)

// mesh makes a network of nodes a, b, … with a subnet each, and links of a delay.
func mesh(nodes int, links map[string]time.Duration, order []string) *policy.File {
	f := &policy.File{}
	f.Network.Nodes = make([]policy.Node, nodes)
	add := func(n *policy.Node, name string) *policy.Interface {
		iface := &policy.Interface{Name: name, Rate: unit.GbitPerSecond, Framing: packet.FramingEthernet(), Node: n}
		n.Interfaces = append(n.Interfaces, iface)
		return iface
	}
	for i := range f.Network.Nodes {
		n := &f.Network.Nodes[i]
		n.Name = string(rune('a' + i))
		add(n, "lan").Subnets = []netip.Prefix{netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte(i >> 8), byte(i), 0}), 24)}
	}
	for _, name := range order {
		a, b := &f.Network.Nodes[name[0]-'a'], &f.Network.Nodes[name[1]-'a']
		l := &policy.Link{Delay: links[name], Ends: []policy.LinkEnd{{Interface: add(a, "to-"+b.Name)}, {Interface: add(b, "to-"+a.Name)}}}
		for i := range l.Ends {
			l.Ends[i].Interface.Link, l.Ends[i].Interface.End = l, i
		}
		f.Network.Links = append(f.Network.Links, l)
	}
	return f
}

// Fewest links first, then least delay, then the order of the file.
func TestWhichRoute(t *testing.T) {
	const ms = time.Millisecond
	for _, c := range []struct {
		name  string
		links map[string]time.Duration
		order string
		want  string // from a to d
	}{
		{"fewest links, whatever their delay", map[string]time.Duration{"ab": ms, "bd": ms, "ad": 90 * ms}, "ab bd ad", "a d"},
		{"the least delay of two", map[string]time.Duration{"ab": 5 * ms, "bd": 5 * ms, "ac": 2 * ms, "cd": 2 * ms}, "ab bd ac cd", "a c d"},
		{"also the other way round", map[string]time.Duration{"ab": 1 * ms, "bd": 2 * ms, "ac": 2 * ms, "cd": 2 * ms}, "ac cd ab bd", "a b d"},
		{"the order of the file", map[string]time.Duration{"ab": 2 * ms, "bd": 2 * ms, "ac": 2 * ms, "cd": 2 * ms}, "ac cd ab bd", "a b d"}, // of its nodes
	} {
		f := mesh(4, c.links, strings.Fields(c.order))
		table := route.New(f)
		hops, err := table.Route(f.Network.Nodes[0].Interfaces[0], f.Network.Nodes[3].Interfaces[0])
		var nodes []string
		for _, h := range hops {
			nodes = append(nodes, h.In.Node.Name)
		}
		if got := strings.Join(nodes, " "); got != c.want || err != nil {
			t.Errorf("%s: %s, %v; want %s", c.name, got, err, c.want)
		}
	}
}

// Routes to more destinations than are kept are the same when asked for again.
func TestRoutesAreForgottenAndFound(t *testing.T) {
	const n = 90
	f := mesh(n, nil, nil)
	// A star.
	for i := 1; i < n; i++ {
		hub, leaf := &f.Network.Nodes[0], &f.Network.Nodes[i]
		a := &policy.Interface{Name: "x", Node: hub, Rate: unit.GbitPerSecond}
		b := &policy.Interface{Name: "up", Node: leaf, Rate: unit.GbitPerSecond}
		l := &policy.Link{Ends: []policy.LinkEnd{{Interface: a}, {Interface: b}}}
		a.Link, b.Link, b.End = l, l, 1
		hub.Interfaces, leaf.Interfaces = append(hub.Interfaces, a), append(leaf.Interfaces, b)
	}
	table := route.New(f)
	for range 2 {
		for i := 1; i < n; i++ {
			from, to := f.Network.Nodes[1+i%(n-1)].Interfaces[0], f.Network.Nodes[i].Interfaces[0]
			hops, err := table.Route(from, to)
			if err != nil || len(hops) != 3 || hops[1].In.Node != &f.Network.Nodes[0] || hops[2].Out != to {
				t.Fatalf("from %s to %s: %v, %v", from.Path(), to.Path(), hops, err)
			}
		}
	}
}
