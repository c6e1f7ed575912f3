// Package route finds the way of packets through the network of a policy file:
// which interface an address is behind, and by which interfaces a packet
// crosses the nodes between two of them.
package route

import (
	"fmt"
	"net/netip"
	"time"

	"github.com/gaissmai/bart"

	"imbrel/core/policy"
)

// A Table holds the ways between all nodes. It is only read once made.
type Table struct {
	file  *policy.File
	nodes map[*policy.NetworkNode]int
	next  [][]*policy.Interface // by node and destination node
	where *bart.Table[*policy.Interface]
}

// New computes the ways: fewest links, then least delay, then the order of the
// file.
func New(f *policy.File) *Table {
	t := &Table{file: f, nodes: make(map[*policy.NetworkNode]int), where: &bart.Table[*policy.Interface]{}}
	nodes := f.Network.Nodes
	toward := make([][]*policy.Interface, len(nodes)) // whose link ends at a node
	for i := range nodes {
		t.nodes[&nodes[i]] = i
	}
	for i := range nodes {
		for j := range nodes[i].Interfaces {
			face := &nodes[i].Interfaces[j]
			for _, p := range face.Subnets {
				t.where.Insert(p, face)
			}
			if other := Peer(face); other != nil {
				at := t.nodes[other.Node]
				toward[at] = append(toward[at], face)
			}
		}
	}
	t.next = make([][]*policy.Interface, len(nodes))
	for i := range nodes {
		t.next[i] = make([]*policy.Interface, len(nodes))
	}
	for to := range nodes {
		t.flood(to, toward)
	}
	return t
}

// flood finds the way from every node to one, ring by ring outward.
func (t *Table) flood(to int, toward [][]*policy.Interface) {
	type cost struct {
		hops  int
		delay time.Duration
	}
	costs := make([]cost, len(t.next))
	reached := make([]bool, len(t.next))
	reached[to] = true
	ring := []int{to}
	for hops := 1; len(ring) > 0; hops++ {
		var outer []int
		for _, at := range ring {
			for _, face := range toward[at] {
				from := t.nodes[face.Node]
				c := cost{hops, costs[at].delay + face.Link.Delay}
				switch was := costs[from]; {
				case !reached[from]:
					reached[from] = true
					outer = append(outer, from)
				case was.hops < hops || was.delay <= c.delay:
					continue
				}
				costs[from], t.next[from][to] = c, face
			}
		}
		ring = outer
	}
}

// Peer returns the interface at the other end of an interface's link, or nil.
func Peer(face *policy.Interface) *policy.Interface {
	if face.Link == nil {
		return nil
	}
	return face.Link.Ends[1-face.End].Interface
}

// Where returns the interface behind which an address is, by the longest prefix,
// or nil.
func (t *Table) Where(a netip.Addr) *policy.Interface {
	face, _ := t.where.Lookup(a)
	return face
}

// Next returns the interface by which packets leave a node towards another, or
// nil when there is no way.
func (t *Table) Next(from, to *policy.NetworkNode) *policy.Interface {
	return t.next[t.nodes[from]][t.nodes[to]]
}

// Check finds out whether packets can cross the network from one interface to
// another.
func (t *Table) Check(from, to *policy.Interface) error {
	switch {
	case from == to:
		return fmt.Errorf("both addresses are behind %s, so nothing between them crosses the network", from.Path())
	case from.Node != to.Node && t.Next(from.Node, to.Node) == nil:
		return fmt.Errorf("no way through the network from node `%s` to node `%s`: join them with an entry in `links`", from.Node.Name, to.Node.Name)
	}
	return nil
}

// A Hop is a node that a packet crosses: the interfaces by which it enters and
// leaves, and the tunnel it is in when it leaves.
type Hop struct {
	In, Out *policy.Interface
	Tunnel  *policy.Tunnel
}

// Way returns the hops from one interface to another. A tunnel whose ends the
// way passes is taken, by the nodes that it names.
func (t *Table) Way(from, to *policy.Interface) ([]Hop, error) {
	if err := t.Check(from, to); err != nil {
		return nil, err
	}
	var hops []Hop
	in := from
	step := func(out *policy.Interface, tunnel *policy.Tunnel) {
		hops = append(hops, Hop{In: in, Out: out, Tunnel: tunnel})
		in = Peer(out)
	}
	for in.Node != to.Node {
		if len(hops) > 4*len(t.next)+4 {
			return nil, fmt.Errorf("a loop in the network: the tunnels send packets from %s to %s around for ever, last at node `%s`", from.Path(), to.Path(), in.Node.Name)
		}
		tunnel, nodes := t.tunnelAt(in.Node, to.Node)
		if tunnel == nil {
			step(t.Next(in.Node, to.Node), nil)
			continue
		}
		for i := 1; i < len(nodes); i++ {
			step(nodes[i-1].Towards(nodes[i]), tunnel)
		}
	}
	return append(hops, Hop{In: in, Out: to}), nil
}

// tunnelAt returns the tunnel that begins at a node and whose end is on the way
// on, and its nodes in that direction.
func (t *Table) tunnelAt(at, to *policy.NetworkNode) (*policy.Tunnel, []*policy.NetworkNode) {
	for i := range t.file.Network.Tunnels {
		tunnel := &t.file.Network.Tunnels[i]
		nodes := tunnel.Through
		if len(nodes) < 2 {
			continue
		}
		if tunnel.Kind != "mpls" && nodes[len(nodes)-1] == at {
			nodes = reversed(nodes)
		}
		if nodes[0] == at && t.passes(at, to, nodes[len(nodes)-1]) {
			return tunnel, nodes
		}
	}
	return nil, nil
}

func reversed(nodes []*policy.NetworkNode) []*policy.NetworkNode {
	out := make([]*policy.NetworkNode, len(nodes))
	for i, n := range nodes {
		out[len(nodes)-1-i] = n
	}
	return out
}

// passes reports whether the way between two nodes goes through a third.
func (t *Table) passes(from, to, through *policy.NetworkNode) bool {
	for n := 0; from != to && n <= len(t.next); n++ {
		out := t.Next(from, to)
		if out == nil {
			return false
		}
		if from = Peer(out).Node; from == through {
			return true
		}
	}
	return false
}
