// Package route finds the route of packets through the network of a policy file:
// at which interface an address is, and which nodes and tunnels a packet crosses
// between two of them.
package route

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"

	"github.com/gaissmai/bart"

	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
)

// A Table finds routes. It computes them when they are asked for and keeps those
// of a few destinations, so that its memory grows with the network and not with
// its square. It is for one goroutine.
type Table struct {
	file  *policy.File
	nodes map[*policy.Node]int
	order []*policy.Node
	// toward lists, for each node, the interfaces whose link ends there.
	toward  [][]edge
	where   *bart.Table[*policy.Interface]
	tunnels map[*policy.Node][]start // by the node at which they begin
	failed  map[*policy.Link]bool    // which carry nothing, as the routes know
	kept    map[int]*tree            // by destination
	recent  []int                    // destinations kept, the one used last at the end
	bundles map[*policy.Link]*policy.Bundle
	best    []int32   // while a tree is made, the cost from each node; -1: none is known
	rings   [][]int32 // nodes by what is reached next
}

// keptTrees is for how many destinations the next hops of all nodes are kept.
const keptTrees = 64

// A tree is the next hops of every node towards one: the first, and all of them where there are several of one cost.
type tree struct {
	next    []*policy.Interface
	several map[int][]*policy.Interface
}

// An edge is an interface whose link ends at a node, with the number of the node that it is of and the cost of the link.
type edge struct {
	iface      *policy.Interface
	from, cost int32
}

// A start is a tunnel and the nodes it goes through, in the direction in which it
// begins at a node.
type start struct {
	tunnel *policy.Tunnel
	nodes  []*policy.Node
}

// New returns the table of a file's network.
func New(f *policy.File) *Table {
	t := &Table{file: f, nodes: make(map[*policy.Node]int), where: &bart.Table[*policy.Interface]{}, kept: make(map[int]*tree), failed: make(map[*policy.Link]bool), tunnels: make(map[*policy.Node][]start),
		bundles: make(map[*policy.Link]*policy.Bundle), best: make([]int32, len(f.Network.Nodes))}
	costs := make(map[*policy.Link]int32) // of links in bundles: that of the cheapest of each
	for i := range f.Network.Bundles {
		b := &f.Network.Bundles[i]
		for _, iface := range b.Members {
			t.bundles[iface.Link] = b
			costs[iface.Link] = int32(slices.MinFunc(b.Members, func(x, y *policy.Interface) int { return x.Link.Costs() - y.Link.Costs() }).Link.Costs())
		}
	}
	nodes, most := f.Network.Nodes, int32(1)
	t.toward = make([][]edge, len(nodes))
	for i := range nodes {
		t.nodes[&nodes[i]] = i
		t.order = append(t.order, &nodes[i])
	}
	for i := range nodes {
		for _, iface := range nodes[i].Interfaces {
			for _, p := range iface.Subnets {
				t.where.Insert(p, iface)
			}
			if peer := iface.Peer(); peer != nil {
				at, cost := t.nodes[peer.Node], cmp.Or(costs[iface.Link], int32(iface.Link.Costs()))
				t.toward[at] = append(t.toward[at], edge{iface, int32(i), cost})
				most = max(most, cost)
			}
		}
	}
	t.rings = make([][]int32, most+1)
	for i := range f.Network.Tunnels {
		tunnel := &f.Network.Tunnels[i]
		through := tunnel.Through
		if len(through) < 2 {
			continue
		}
		t.tunnels[through[0]] = append(t.tunnels[through[0]], start{tunnel, through})
		if tunnel.Kind != policy.MPLS { // both ways
			back := slices.Clone(through)
			slices.Reverse(back)
			t.tunnels[back[0]] = append(t.tunnels[back[0]], start{tunnel, back})
		}
	}
	return t
}

// Fail lets the routes avoid a link, or use it again.
func (t *Table) Fail(l *policy.Link, failed bool) {
	t.failed[l] = failed
	clear(t.kept)
	t.recent = t.recent[:0]
}

// works reports whether no link of a tunnel has failed.
func (t *Table) works(s *start) bool {
	for i := 1; len(t.failed) > 0 && i < len(s.nodes); i++ {
		if t.failed[s.nodes[i-1].Towards(s.nodes[i]).Link] {
			return false
		}
	}
	return true
}

// to returns the next hops towards a node.
func (t *Table) to(node int) *tree {
	if known := t.kept[node]; known != nil {
		if last := len(t.recent) - 1; t.recent[last] != node {
			at := slices.Index(t.recent, node)
			copy(t.recent[at:], t.recent[at+1:])
			t.recent[last] = node
		}
		return known
	}
	var next []*policy.Interface
	if len(t.recent) >= keptTrees {
		oldest := t.recent[0]
		next = t.kept[oldest].next
		clear(next)
		delete(t.kept, oldest)
		t.recent = append(t.recent[:0], t.recent[1:]...)
	} else {
		next = make([]*policy.Interface, len(t.order))
	}
	found := &tree{next: next}
	t.flood(node, found)
	t.kept[node] = found
	t.recent = append(t.recent, node)
	return found
}

// flood finds the next hops from every node to one, in the order of their costs (Dijkstra 1959, with a list for each cost that is near as in Dial 1969). Of
// next hops of one cost the first is that of the first node in the file.
func (t *Table) flood(to int, found *tree) {
	for i := range t.best {
		t.best[i] = -1
	}
	t.best[to], t.rings[0] = 0, append(t.rings[0], int32(to))
	for cost, waiting := int32(0), 1; waiting > 0; cost++ {
		ring := &t.rings[int(cost)%len(t.rings)]
		for i := 0; i < len(*ring); i++ {
			at := int((*ring)[i])
			if waiting--; t.best[at] != cost {
				continue // it was reached for less
			}
			for _, e := range t.toward[at] {
				if len(t.failed) > 0 && t.failed[e.iface.Link] {
					continue
				}
				from, c := int(e.from), cost+e.cost
				switch was := t.best[from]; {
				case was < 0 || c < was:
					t.best[from], found.next[from] = c, e.iface
					delete(found.several, from)
					t.rings[int(c)%len(t.rings)] = append(t.rings[int(c)%len(t.rings)], int32(from))
					waiting++
				case c == was:
					if found.several == nil {
						found.several = make(map[int][]*policy.Interface)
					}
					if found.several[from] == nil {
						found.several[from] = []*policy.Interface{found.next[from]}
					}
					found.several[from] = append(found.several[from], e.iface)
				}
			}
		}
		*ring = (*ring)[:0]
	}
}

// A Key is what the nodes choose by between next hops of one cost: hashes of what packets of one flow have in common.
type Key struct{ flow, pair uint64 }

// KeyOf returns the key of a flow.
func KeyOf(f packet.Flow) Key {
	from, to := f.From.As16(), f.To.As16()
	h := uint64(14695981039346656037)
	for _, b := range [][]byte{from[:], to[:]} {
		for _, v := range b {
			h = (h ^ uint64(v)) * 1099511628211
		}
	}
	k := Key{pair: h}
	for _, v := range []byte{f.Protocol, byte(f.FromPort >> 8), byte(f.FromPort), byte(f.ToPort >> 8), byte(f.ToPort)} {
		h = (h ^ uint64(v)) * 1099511628211
	}
	k.flow = h
	return k
}

// mixed mixes a hash with the number of a node (the finaliser of MurmurHash3): two nodes in a row then make independent choices.
func mixed(h uint64, node int) uint32 {
	h ^= uint64(node+1) * 0x9e3779b97f4a7c15
	h = (h ^ h>>33) * 0xff51afd7ed558ccd
	h = (h ^ h>>33) * 0xc4ceb9fe1a85ec53
	return uint32(h >> 32)
}

// choose returns the next hop of a flow at a node, by regions of its hash (RFC 2992 §2).
func (t *Table) choose(hops []*policy.Interface, node int, key Key) *policy.Interface {
	h := key.flow
	if b := t.bundles[hops[0].Link]; b != nil && b.ByPair {
		h = key.pair
	}
	return hops[uint64(mixed(h, node))*uint64(len(hops))>>32]
}

// Several reports whether there may be several routes of one cost towards an interface.
func (t *Table) Several(to *policy.Interface) bool { return len(t.to(t.nodes[to.Node]).several) > 0 }

// Nexts returns the interfaces by which packets leave a node towards another: none where there is no route.
func (t *Table) Nexts(from, to *policy.Node) []*policy.Interface {
	tree, at := t.to(t.nodes[to]), t.nodes[from]
	if hops := tree.several[at]; hops != nil {
		return hops
	}
	if tree.next[at] == nil {
		return nil
	}
	return tree.next[at : at+1]
}

// Where returns the interface at which an address is, by the longest prefix, or nil.
func (t *Table) Where(a netip.Addr) *policy.Interface {
	iface, _ := t.where.Lookup(a)
	return iface
}

// next returns the interface by which packets of a flow leave a node towards another, or nil
// when there is no route.
func (t *Table) next(from, to *policy.Node, key Key) *policy.Interface {
	tree, at := t.to(t.nodes[to]), t.nodes[from]
	if hops := tree.several[at]; hops != nil {
		return t.choose(hops, at, key)
	}
	return tree.next[at]
}

// Check finds out whether packets can cross the network from one interface to
// another.
func (t *Table) Check(from, to *policy.Interface) error {
	switch {
	case from == to:
		return fmt.Errorf("both addresses are at %s, so nothing between them crosses the network", from.Path())
	case from.Node != to.Node && t.next(from.Node, to.Node, Key{}) == nil:
		return fmt.Errorf("no route through the network from node `%s` to node `%s`: join them with an entry in `links`", from.Node.Name, to.Node.Name)
	}
	return nil
}

// A Hop is a node that a packet crosses: the interfaces by which it enters and
// leaves, and the tunnel it is in when it leaves.
type Hop struct {
	In, Out *policy.Interface
	Tunnel  *policy.Tunnel
	Back    bool // the tunnel is gone through from its end to its start
}

// Route returns the hops of a flow from one interface to another. A tunnel is taken where the
// route passes both of its ends, by the nodes that it names.
func (t *Table) Route(from, to *policy.Interface, key Key) ([]Hop, error) {
	if err := t.Check(from, to); err != nil {
		return nil, err
	}
	var hops []Hop
	in := from
	step := func(out *policy.Interface, tunnel *policy.Tunnel, back bool) {
		hops = append(hops, Hop{In: in, Out: out, Tunnel: tunnel, Back: back})
		in = out.Peer()
	}
	for in.Node != to.Node {
		if len(hops) > 4*len(t.order)+4 {
			return nil, fmt.Errorf("a loop in the network: the tunnels send packets from %s to %s around for ever, last at node `%s`", from.Path(), to.Path(), in.Node.Name)
		}
		s := t.tunnelAt(in.Node, to.Node, key)
		if s == nil {
			step(t.next(in.Node, to.Node, key), nil, false)
			continue
		}
		for i := 1; i < len(s.nodes); i++ {
			step(s.nodes[i-1].Towards(s.nodes[i]), s.tunnel, s.nodes[0] != s.tunnel.Through[0])
		}
	}
	return append(hops, Hop{In: in, Out: to}), nil
}

// tunnelAt returns the tunnel that begins at a node and whose end is further on the
// route, or nil.
func (t *Table) tunnelAt(at, to *policy.Node, key Key) *start {
	for i := range t.tunnels[at] {
		s := &t.tunnels[at][i]
		if t.works(s) && t.passes(at, to, s.nodes[len(s.nodes)-1], key) {
			return s
		}
	}
	return nil
}

// passes reports whether the route between two nodes goes through a third.
func (t *Table) passes(from, to, through *policy.Node, key Key) bool {
	for n := 0; from != to && n <= len(t.order); n++ {
		out := t.next(from, to, key)
		if out == nil {
			return false
		}
		if from = out.Peer().Node; from == through {
			return true
		}
	}
	return false
}
