// Package schedule decides which packet goes next, and when: a tree of
// entries with strict priorities, guarantees, ceilings and weights that serves
// packets as close to the fluid allocation (package fluid) as whole packets
// allow.
//
// At every level the tree serves, in this order: the most urgent priority; the
// guarantees that are due; what is left over, by weight. A guarantee is a clock
// in real time that advances by size/guarantee with each packet served under
// it; of those whose clock is due, the least deadline goes first (service
// curves: Stoica, Zhang & Ng 1997). What is left over follows a virtual time,
// smallest eligible finish first (WF2Q+: Bennett & Zhang 1996). A ceiling is a
// clock too: until it is due, the entry and all below it are not there.
//
// The tree knows nothing of packets: its leaves are numbers, and the caller
// says which leaf has something to send and how large what it sent was.
package schedule

import (
	"math"
	"math/bits"
	"time"

	"imbrel/core/unit"
)

// A Node describes an entry of the tree to be built.
type Node struct {
	Priority  int       // 0: none; 1 to MaxPriority, 1 the most urgent
	Guarantee unit.Rate // 0: none
	Ceiling   unit.Rate // 0: none
	// Credit is how many bytes beyond one packet an entry under its ceiling may
	// send at once to make up for having waited its turn.
	Credit unit.Size
	// Peak bounds what Credit lets it send at once; 0: nothing does.
	Peak     unit.Rate
	Weight   int64 // of what is left over, 1 to 1<<30
	Children []Node
	// Open says that leaves are added within the entry later, by Add.
	Open bool
}

// MaxPriority is the least urgent priority.
const MaxPriority = 16

// Never is the time at which nothing happens.
const Never = time.Duration(math.MaxInt64)

// A Tree serves the leaves of a description. Times given to it must not run
// backwards. Leaves are numbered from 0 in the order of the description.
type Tree struct {
	nodes     []node
	leaves    []int32           // node of each leaf
	opens     []int32           // node of each open entry
	removed   map[int32][]int32 // leaves, by the node they were within
	maxPacket unit.Size
	throttled throttleHeap
	packet    uint64 // the size the deadlines reckon with
}

// node is an entry and, when it has children, the contest between them.
type node struct {
	parent int32
	index  int32 // among its parent's children
	leaf   int32 // -1: has children
	mode   uint8 // how its parent chose it last

	backlogged bool // a leaf: has something to send; otherwise some child competes
	competes   bool // stands in its parent's contest
	held       bool
	priority   int32
	weight     uint64
	guarantee  unit.Rate
	ceiling    unit.Rate
	due        unit.Clock // of the guarantee
	lag        time.Duration
	free       unit.Clock // of the ceiling
	credit     time.Duration
	peak       unit.Rate
	atPeak     unit.Clock
	peakCredit time.Duration

	children []int32
	active   int // children that compete
	urgent   uint32
	levels   []contest // by priority - 1
	promised set
	left     contest
}

// A contest shares by weight along a virtual time.
type contest struct {
	set     set
	weights uint64 // of those who compete
	virtual uint64
}

const (
	byPriority = iota
	byGuarantee
	byWeight
)

// virtualScale is the virtual time that a byte takes at weight 1. Weights reach
// 1<<30, so the smallest packet still moves it.
const virtualScale = 1 << 36

// New builds the tree of a description. The packets it will serve should not be
// larger than maxPacket bytes, as the interface counts: its bounds are in these.
func New(root Node, maxPacket unit.Size) *Tree {
	t := &Tree{packet: uint64(maxPacket), maxPacket: maxPacket}
	t.add(&root, -1, 0)
	return t
}

func (t *Tree) add(d *Node, parent, index int32) int32 {
	id := int32(len(t.nodes))
	n := t.node(d, parent, index)
	t.nodes = append(t.nodes, n)
	if d.Open {
		t.opens = append(t.opens, id)
		return id
	}
	if len(d.Children) == 0 {
		t.nodes[id].leaf = int32(len(t.leaves))
		t.leaves = append(t.leaves, id)
		return id
	}
	children := make([]int32, len(d.Children))
	most := 0
	for i := range d.Children {
		children[i] = t.add(&d.Children[i], id, int32(i))
		most = max(most, d.Children[i].Priority)
	}
	in := &t.nodes[id]
	in.children = children
	in.promised = newSet(len(children))
	in.left.set = newSet(len(children))
	in.levels = make([]contest, most)
	for i := range in.levels {
		in.levels[i].set = newSet(len(children))
	}
	return id
}

// node returns the entry of a description, without what is within it.
func (t *Tree) node(d *Node, parent, index int32) node {
	n := node{parent: parent, index: index, leaf: -1, priority: int32(d.Priority), weight: uint64(max(d.Weight, 1)),
		guarantee: d.Guarantee, ceiling: d.Ceiling}
	if d.Ceiling > 0 {
		n.credit = d.Ceiling.Time(d.Credit)
		n.free.Set(-n.credit) // the bucket starts full
		if n.peak = d.Peak; n.peak > 0 {
			n.peakCredit = d.Peak.Time(2 * t.maxPacket)
			n.atPeak.Set(-n.peakCredit)
		}
	}
	if d.Guarantee > 0 {
		n.lag = d.Guarantee.Time(4 * t.maxPacket)
	}
	return n
}

// Add adds a leaf within an open entry, by its number in the order of the
// description, and returns the leaf's. Of d only Ceiling, Credit, Peak and Weight
// count.
func (t *Tree) Add(open int, d Node) int {
	parent := t.opens[open]
	d.Priority, d.Guarantee, d.Children, d.Open = 0, 0, nil, false
	if free := t.removed[parent]; len(free) > 0 {
		leaf := free[len(free)-1]
		t.removed[parent] = free[:len(free)-1]
		id := t.leaves[leaf]
		index := t.nodes[id].index
		t.nodes[id] = t.node(&d, parent, index)
		t.nodes[id].leaf = leaf
		t.nodes[parent].left.set.members[index] = member{}
		return int(leaf)
	}
	in := &t.nodes[parent]
	index := int32(len(in.children))
	in.children = append(in.children, int32(len(t.nodes)))
	in.left.set.members = append(in.left.set.members, member{})
	in.promised.members = append(in.promised.members, member{})
	t.add(&d, parent, index)
	return len(t.leaves) - 1
}

// Remove takes a leaf out that Add added and that has nothing to send.
func (t *Tree) Remove(leaf int) {
	if !t.Idle(leaf) {
		return
	}
	if t.removed == nil {
		t.removed = make(map[int32][]int32)
	}
	parent := t.nodes[t.leaves[leaf]].parent
	t.removed[parent] = append(t.removed[parent], int32(leaf))
}

// Idle reports whether a leaf can be removed.
func (t *Tree) Idle(leaf int) bool {
	n := &t.nodes[t.leaves[leaf]]
	return !n.backlogged && !n.held
}

// heldUntil returns until when the entry's ceiling, and the peak above it, hold
// it back.
func (n *node) heldUntil() time.Duration {
	if n.ceiling == 0 {
		return 0
	}
	if n.peak > 0 {
		return max(n.free.Ready(), n.atPeak.Ready())
	}
	return n.free.Ready()
}

// Ready tells the tree that a leaf that had nothing to send has something now.
func (t *Tree) Ready(now time.Duration, leaf int) {
	id := t.leaves[leaf]
	if n := &t.nodes[id]; !n.backlogged {
		n.backlogged = true
		t.enter(now, id)
	}
}

// enter puts an entry with something to send into its parent's contest, unless
// its ceiling holds it back, and its parents with it.
func (t *Tree) enter(now time.Duration, id int32) {
	for {
		n := &t.nodes[id]
		if n.competes || n.held {
			return
		}
		if n.heldUntil() > now {
			t.throttled.push(t.nodes, id)
			return
		}
		n.competes = true
		if n.parent < 0 {
			return
		}
		p := &t.nodes[n.parent]
		if n.priority > 0 {
			c := &p.levels[n.priority-1]
			c.enter(n.index, 1, t.packet)
			p.urgent |= 1 << n.priority
		} else {
			if n.guarantee > 0 {
				n.due.NotBefore(now)
				start := uint64(n.due.Ready())
				p.promised.put(n.index, start, start+t.atGuarantee(n), uint64(now))
			}
			p.left.enter(n.index, n.weight, t.packet)
		}
		p.active++
		if p.active > 1 {
			return
		}
		p.backlogged = true
		id = n.parent
	}
}

// atGuarantee returns the time the largest packet takes at the guarantee.
func (t *Tree) atGuarantee(n *node) uint64 {
	return t.packet * 8 * uint64(time.Second) / uint64(n.guarantee)
}

// leave takes an entry out of its parent's contest.
func (t *Tree) leave(id int32) {
	n := &t.nodes[id]
	n.competes = false
	if n.parent < 0 {
		return
	}
	p := &t.nodes[n.parent]
	if n.priority > 0 {
		c := &p.levels[n.priority-1]
		c.leave(n.index, 1)
		if c.set.empty() {
			p.urgent &^= 1 << n.priority
		}
	} else {
		if n.guarantee > 0 {
			p.promised.remove(n.index)
		}
		p.left.leave(n.index, n.weight)
	}
	p.active--
	p.backlogged = p.active > 0
}

// Next returns the leaf to serve now. When there is none it returns -1 and the
// time to ask again, or Never; a leaf becoming ready is another such time.
func (t *Tree) Next(now time.Duration) (leaf int, again time.Duration) {
	for len(t.throttled.ids) > 0 {
		id := t.throttled.ids[0]
		if t.nodes[id].heldUntil() > now {
			break
		}
		t.throttled.pop(t.nodes)
		if t.nodes[id].backlogged {
			t.enter(now, id)
		}
	}
	if !t.nodes[0].competes {
		if len(t.throttled.ids) > 0 {
			return -1, t.nodes[t.throttled.ids[0]].heldUntil()
		}
		return -1, Never
	}
	n := &t.nodes[0]
	for n.leaf < 0 {
		n = n.choose(t.nodes, now)
	}
	return int(n.leaf), now
}

// choose returns the child to serve now; one competes.
func (n *node) choose(nodes []node, now time.Duration) *node {
	if n.urgent != 0 {
		c := &n.levels[bits.TrailingZeros32(n.urgent)-1]
		child := &nodes[n.children[c.next()]]
		child.mode = byPriority
		return child
	}
	if i := n.promised.next(uint64(now)); i >= 0 {
		child := &nodes[n.children[i]]
		child.mode = byGuarantee
		return child
	}
	child := &nodes[n.children[n.left.next()]]
	child.mode = byWeight
	return child
}

// Sent tells the tree that the leaf which Next returned sent a packet of size
// bytes, and whether it has more. A size of 0 is right when the leaf turned out
// to have nothing.
func (t *Tree) Sent(now time.Duration, leaf, size int, more bool) {
	id := t.leaves[leaf]
	t.nodes[id].backlogged = more
	for id >= 0 {
		n := &t.nodes[id]
		if n.ceiling > 0 {
			n.free.NotBefore(now - n.credit)
			n.free.Advance(size, n.ceiling)
			if n.peak > 0 {
				n.atPeak.NotBefore(now - n.peakCredit)
				n.atPeak.Advance(size, n.peak)
			}
		}
		if n.parent >= 0 {
			t.charge(now, n, size)
		}
		switch early := n.heldUntil() > now; {
		case !n.backlogged:
			t.leave(id)
		case early:
			t.leave(id)
			t.throttled.push(t.nodes, id)
		}
		id = n.parent
	}
}

// charge books a packet to the round in which the entry was chosen.
func (t *Tree) charge(now time.Duration, n *node, size int) {
	p := &t.nodes[n.parent]
	switch n.mode {
	case byPriority:
		p.levels[n.priority-1].charge(n.index, 1, uint64(size), t.packet)
	case byGuarantee:
		n.due.Advance(size, n.guarantee)
		n.due.NotBefore(now - n.lag)
		start := uint64(max(n.due.Ready(), 0))
		p.promised.put(n.index, start, start+t.atGuarantee(n), uint64(now))
	case byWeight:
		p.left.charge(n.index, n.weight, uint64(size), t.packet)
	}
}

// enter lets member i compete from now on.
func (c *contest) enter(i int32, weight, packet uint64) {
	m := &c.set.members[i]
	start := max(m.start, c.virtual)
	c.weights += weight
	c.set.put(i, start, start+packet*virtualScale/weight, c.virtual)
}

func (c *contest) leave(i int32, weight uint64) {
	c.set.remove(i)
	c.weights -= weight
}

// next returns the member to serve; one competes. If none may start yet, the
// virtual time moves on to the first that may.
func (c *contest) next() int32 {
	i := c.set.next(c.virtual)
	if i < 0 {
		c.virtual = c.set.leastStart()
		i = c.set.next(c.virtual)
	}
	return i
}

// charge books size bytes to member i, which still competes.
func (c *contest) charge(i int32, weight, size, packet uint64) {
	c.virtual += size * virtualScale / c.weights
	start := c.set.members[i].start + size*virtualScale/weight
	c.set.put(i, start, start+packet*virtualScale/weight, c.virtual)
	if c.virtual >= 1<<62 {
		c.rebase()
	}
}

// rebase moves the origin of the virtual time up to now, so that it never
// overflows. Starts behind it stay behind it by as much as matters.
func (c *contest) rebase() {
	const keep = 1 << 61 // more than any member lags
	base := c.virtual - keep
	c.virtual = keep
	for i := range c.set.members {
		m := &c.set.members[i]
		m.start -= min(m.start, base)
		m.finish -= min(m.finish, base)
	}
}

// A throttleHeap holds the entries that their ceiling holds back, by the time
// at which it lets them go.
type throttleHeap struct{ ids []int32 }

func (h *throttleHeap) before(nodes []node, a, b int) bool {
	x, y := nodes[h.ids[a]].heldUntil(), nodes[h.ids[b]].heldUntil()
	return x < y || x == y && h.ids[a] < h.ids[b]
}

func (h *throttleHeap) push(nodes []node, id int32) {
	h.ids = append(h.ids, id)
	nodes[id].held = true
	for i := len(h.ids) - 1; i > 0; {
		p := (i - 1) / 2
		if !h.before(nodes, i, p) {
			break
		}
		h.ids[i], h.ids[p] = h.ids[p], h.ids[i]
		i = p
	}
}

func (h *throttleHeap) pop(nodes []node) {
	nodes[h.ids[0]].held = false
	last := len(h.ids) - 1
	h.ids[0] = h.ids[last]
	h.ids = h.ids[:last]
	for i := 0; ; {
		c := 2*i + 1
		if c >= last {
			return
		}
		if c+1 < last && h.before(nodes, c+1, c) {
			c++
		}
		if !h.before(nodes, c, i) {
			return
		}
		h.ids[i], h.ids[c] = h.ids[c], h.ids[i]
		i = c
	}
}
