// Package route finds the route of packets through the network of a policy file:
// at which interface an address is, and which nodes and tunnels a packet crosses
// between two of them.
package route

import (
	"fmt"
	"net/netip"
	"slices"
	"time"

	"github.com/gaissmai/bart"

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
	toward  [][]*policy.Interface
	where   *bart.Table[*policy.Interface]
	tunnels map[*policy.Node][]start // by the node at which they begin
	failed  map[*policy.Link]bool    // which carry nothing, as the routes know
	kept    map[int]*tree            // by destination
	recent  []int                    // destinations kept, the one used last at the end
}

// keptTrees is for how many destinations the next hops of all nodes are kept.
const keptTrees = 64

// A tree is the next hop of every node towards one.
type tree struct {
	next []*policy.Interface
}

// A start is a tunnel and the nodes it goes through, in the direction in which it
// begins at a node.
type start struct {
	tunnel *policy.Tunnel
	nodes  []*policy.Node
}

// New returns the table of a file's network.
func New(f *policy.File) *Table {
	t := &Table{file: f, nodes: make(map[*policy.Node]int), where: &bart.Table[*policy.Interface]{}, kept: make(map[int]*tree), failed: make(map[*policy.Link]bool), tunnels: make(map[*policy.Node][]start)}
	nodes := f.Network.Nodes
	t.toward = make([][]*policy.Interface, len(nodes))
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
				at := t.nodes[peer.Node]
				t.toward[at] = append(t.toward[at], iface)
			}
		}
	}
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
	found := &tree{next}
	t.flood(node, next)
	t.kept[node] = found
	t.recent = append(t.recent, node)
	return found
}

// flood finds the next hop from every node to one, ring by ring outward: fewest
// links, then least delay, then the order of the file.
func (t *Table) flood(to int, next []*policy.Interface) {
	type cost struct {
		hops  int
		delay time.Duration
	}
	costs := make(map[int]cost)
	costs[to] = cost{}
	ring := []int{to}
	for hops := 1; len(ring) > 0; hops++ {
		var outer []int
		for _, at := range ring {
			for _, iface := range t.toward[at] {
				if t.failed[iface.Link] {
					continue
				}
				from := t.nodes[iface.Node]
				c := cost{hops, costs[at].delay + iface.Link.Delay}
				was, reached := costs[from]
				switch {
				case !reached:
					outer = append(outer, from)
				case was.hops < hops || was.delay <= c.delay:
					continue
				}
				costs[from], next[from] = c, iface
			}
		}
		ring = outer
	}
}

// Where returns the interface at which an address is, by the longest prefix, or nil.
func (t *Table) Where(a netip.Addr) *policy.Interface {
	iface, _ := t.where.Lookup(a)
	return iface
}

// next returns the interface by which packets leave a node towards another, or nil
// when there is no route.
func (t *Table) next(from, to *policy.Node) *policy.Interface {
	return t.to(t.nodes[to]).next[t.nodes[from]]
}

// Check finds out whether packets can cross the network from one interface to
// another.
func (t *Table) Check(from, to *policy.Interface) error {
	switch {
	case from == to:
		return fmt.Errorf("both addresses are at %s, so nothing between them crosses the network", from.Path())
	case from.Node != to.Node && t.next(from.Node, to.Node) == nil:
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

// Route returns the hops from one interface to another. A tunnel is taken where the
// route passes both of its ends, by the nodes that it names.
func (t *Table) Route(from, to *policy.Interface) ([]Hop, error) {
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
		s := t.tunnelAt(in.Node, to.Node)
		if s == nil {
			step(t.next(in.Node, to.Node), nil, false)
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
func (t *Table) tunnelAt(at, to *policy.Node) *start {
	for i := range t.tunnels[at] {
		s := &t.tunnels[at][i]
		if t.works(s) && t.passes(at, to, s.nodes[len(s.nodes)-1]) {
			return s
		}
	}
	return nil
}

// passes reports whether the route between two nodes goes through a third.
func (t *Table) passes(from, to, through *policy.Node) bool {
	for n := 0; from != to && n <= len(t.order); n++ {
		out := t.next(from, to)
		if out == nil {
			return false
		}
		if from = out.Peer().Node; from == through {
			return true
		}
	}
	return false
}
