package route_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
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

// The least cost, which is the number of links where none is written; delays do not matter.
func TestWhichRoute(t *testing.T) {
	const ms = time.Millisecond
	for _, c := range []struct {
		name  string
		links map[string]time.Duration
		costs map[string]int
		order string
		want  string // from a to d
	}{
		{"fewest links, whatever their delay", map[string]time.Duration{"ab": ms, "bd": ms, "ad": 90 * ms}, nil, "ab bd ad", "a d"},
		{"least cost, however many links", nil, map[string]int{"ad": 30, "ab": 10, "bd": 10}, "ab bd ad", "a b d"},
		{"a link without a cost costs 1", nil, map[string]int{"ad": 3}, "ab bd ad", "a b d"},
		{"the same the other way round", nil, map[string]int{"ac": 2, "cd": 4, "ab": 3, "bd": 4}, "ab bd ac cd", "a c d"},
		{"costs that wrap around the lists of the search", nil, map[string]int{"ab": 65535, "bd": 65535, "ac": 65535, "cd": 65534}, "ab bd ac cd", "a c d"},
	} {
		f := mesh(4, c.links, strings.Fields(c.order))
		for i, name := range strings.Fields(c.order) {
			f.Network.Links[i].Cost = c.costs[name]
		}
		table := route.New(f)
		hops, err := table.Route(f.Network.Nodes[0].Interfaces[0], f.Network.Nodes[3].Interfaces[0], route.Key{})
		var nodes []string
		for _, h := range hops {
			nodes = append(nodes, h.In.Node.Name)
		}
		if got := strings.Join(nodes, " "); got != c.want || err != nil {
			t.Errorf("%s: %s, %v; want %s", c.name, got, err, c.want)
		}
	}
}

// The next hops of random networks are those on some way of the least cost, as another algorithm finds it (Floyd 1962).
func TestNextHopsAgainstASlowTwin(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 7))
	several := 0
	for range 200 {
		n := 2 + random.IntN(9)
		var order []string
		for range random.IntN(3 * n) {
			a, b := random.IntN(n), random.IntN(n)
			if a != b {
				order = append(order, string(rune('a'+a))+string(rune('a'+b)))
			}
		}
		f := mesh(n, nil, order)
		least := make([][]int, n)
		for i := range least {
			least[i] = make([]int, n)
			for j := range least[i] {
				if i != j {
					least[i][j] = 1 << 20
				}
			}
		}
		for i, name := range order {
			f.Network.Links[i].Cost = 1 + random.IntN(3)
			a, b := name[0]-'a', name[1]-'a'
			least[a][b] = min(least[a][b], f.Network.Links[i].Cost)
			least[b][a] = least[a][b]
		}
		for k := range n {
			for i := range n {
				for j := range n {
					least[i][j] = min(least[i][j], least[i][k]+least[k][j])
				}
			}
		}
		table := route.New(f)
		for to := range n {
			for from := range n {
				var want, got []string
				for _, iface := range f.Network.Nodes[from].Interfaces {
					if peer := iface.Peer(); from != to && peer != nil && least[from][to] < 1<<20 && iface.Link.Cost+least[peer.Node.Name[0]-'a'][to] == least[from][to] {
						want = append(want, fmt.Sprint(peer.Node.Name, iface.Link.Cost))
					}
				}
				for _, iface := range table.Nexts(&f.Network.Nodes[from], &f.Network.Nodes[to]) {
					got = append(got, fmt.Sprint(iface.Peer().Node.Name, iface.Link.Cost))
				}
				if slices.Sort(want); len(want) > 1 {
					several++
				}
				if slices.Sort(got); !slices.Equal(got, want) {
					t.Fatalf("%v: from %d to %d by %v, want %v", order, from, to, got, want)
				}
			}
		}
	}
	if several < 100 {
		t.Errorf("only %d nodes had several next hops", several)
	}
}

// flow returns a flow from one subnet to another.
func flow(n int) packet.Flow {
	return packet.Flow{From: netip.AddrFrom4([4]byte{10, 0, 0, byte(1 + n%200)}), To: netip.AddrFrom4([4]byte{10, 0, 3, 9}), FromPort: uint16(49152 + n), ToPort: 443, Protocol: packet.TCP}
}

// Flows are spread over ways of one cost within five points, at the second node as at the first; those of a pair stay together where the bundle says so.
func TestSpread(t *testing.T) {
	f := mesh(6, nil, strings.Fields("ab ac be ce ed ed bf fd")) // from a by b or c; then by f, or by e and one of two links
	table := route.New(f)
	ways, first := make(map[string]int), make(map[*policy.Interface]int)
	const flows = 1000
	for n := range flows {
		hops, err := table.Route(f.Network.Nodes[0].Interfaces[0], f.Network.Nodes[3].Interfaces[0], route.KeyOf(flow(n)))
		if err != nil {
			t.Fatal(err)
		}
		way := ""
		for _, h := range hops {
			way += h.In.Node.Name
		}
		ways[way]++
		first[hops[0].Out]++
		again, _ := table.Route(f.Network.Nodes[0].Interfaces[0], f.Network.Nodes[3].Interfaces[0], route.KeyOf(flow(n)))
		for i := range hops {
			if again[i] != hops[i] {
				t.Fatalf("flow %d goes two ways", n)
			}
		}
	}
	for out, n := range first {
		if n < flows/2-50 || n > flows/2+50 {
			t.Errorf("%d of %d flows leave by %s", n, flows, out.Path())
		}
	}
	// At b there are two next hops, f and e; by c all go by e.
	if ways["abfd"] < 200 || ways["abfd"] > 300 || ways["abed"] < 200 || ways["abed"] > 300 || len(ways) != 3 {
		t.Errorf("%v", ways)
	}

	f = mesh(2, nil, strings.Fields("ab ab ab"))
	f.Network.Links[2].Cost = 9 // in the bundle it costs what the others cost
	b := policy.Bundle{Name: "trunk", ByPair: true}
	for _, l := range f.Network.Links {
		b.Members = append(b.Members, l.Ends[0].Interface)
	}
	f.Network.Bundles = []policy.Bundle{b}
	table = route.New(f)
	used, pairs := make(map[*policy.Interface]int), make(map[netip.Addr]*policy.Interface)
	for n := range flows {
		k := flow(n)
		hops, _ := table.Route(f.Network.Nodes[0].Interfaces[0], f.Network.Nodes[1].Interfaces[0], route.KeyOf(k))
		used[hops[0].Out]++
		if other := pairs[k.From]; other != nil && other != hops[0].Out {
			t.Fatalf("flows from %s go by %s and by %s", k.From, other.Path(), hops[0].Out.Path())
		}
		pairs[k.From] = hops[0].Out
	}
	if len(used) != 3 {
		t.Errorf("%d members are used", len(used))
	}
	table.Fail(f.Network.Links[0], true)
	for n := range flows {
		if hops, err := table.Route(f.Network.Nodes[0].Interfaces[0], f.Network.Nodes[1].Interfaces[0], route.KeyOf(flow(n))); err != nil || hops[0].Out.Link == f.Network.Links[0] {
			t.Fatalf("flow %d goes by a member that has failed: %v", n, err)
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
			hops, err := table.Route(from, to, route.Key{})
			if err != nil || len(hops) != 3 || hops[1].In.Node != &f.Network.Nodes[0] || hops[2].Out != to {
				t.Fatalf("from %s to %s: %v, %v", from.Path(), to.Path(), hops, err)
			}
		}
	}
}
