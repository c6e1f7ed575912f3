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
	// Relative, when it is not 0, makes guarantees within the entry parts of what
	// it gets, not of time: they hold in full when it gets this rate, and in
	// proportion when it gets less.
	Relative unit.Rate
	// Open says that entries are added within the entry later, by Add.
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
	removed   map[int32][]int32 // first leaves of what was removed, by the node they were within
	throttled heap              // the nodes that their ceiling holds back, by until when
	packet    uint64            // the size the deadlines reckon with
}

// node is an entry. Two cache lines, of which those that are served without a
// guarantee or a ceiling use one.
type node struct {
	parent     int32
	index      int32 // among its parent's children
	leaf       int32 // -1: has children
	priority   int8
	mode       uint8 // how its parent chose it last
	backlogged bool  // a leaf: has something to send; otherwise some child competes
	competes   bool  // stands in its parent's contest
	held       bool
	weight     uint64
	step       uint64 // of the virtual time, at its weight
	within     *within
	free       unit.Clock // of the ceiling

	ceiling   unit.Pace
	credit    time.Duration
	peak      *peak
	guarantee unit.Pace
	due       unit.Clock // of the guarantee
}

// within is the contest between the children of an entry.
type within struct {
	children []int32
	active   int // children that compete
	urgent   uint32
	levels   []contest // by priority - 1
	promised set
	left     contest
	relative unit.Pace
	served   unit.Clock // how long it takes at relative to send what was sent
}

// peak is the clock of a rate above the ceiling.
type peak struct {
	rate   unit.Pace
	free   unit.Clock
	credit time.Duration
}

const (
	byPriority = iota
	byGuarantee
	byWeight
)

// New builds the tree of a description. The packets it will serve should not be
// larger than maxPacket bytes, as the interface counts: its bounds are in these.
func New(root Node, maxPacket unit.Size) *Tree {
	t := &Tree{packet: uint64(maxPacket)}
	t.add(&root, -1, 0)
	return t
}

func (t *Tree) add(d *Node, parent, index int32) int32 {
	id := int32(len(t.nodes))
	t.nodes = append(t.nodes, node{parent: parent, index: index, leaf: -1})
	t.nodes[id].set(d, int(t.packet))
	t.throttled.at = append(t.throttled.at, 0)
	if d.Open {
		t.opens = append(t.opens, id)
		t.nodes[id].within = &within{}
		return id
	}
	if len(d.Children) == 0 {
		t.nodes[id].leaf = int32(len(t.leaves))
		t.leaves = append(t.leaves, id)
		return id
	}
	n := len(d.Children)
	in := &within{children: make([]int32, n), promised: newSet(n), left: contest{set: newSet(n)}, relative: unit.NewPace(d.Relative)}
	t.nodes[id].within = in
	most := 0
	for i := range d.Children {
		in.children[i] = t.add(&d.Children[i], id, int32(i))
		most = max(most, d.Children[i].Priority)
	}
	in.levels = make([]contest, most)
	for i := range in.levels {
		in.levels[i].set = newSet(n)
	}
	return id
}

// set makes an entry as described, and as it is before anything was sent.
func (n *node) set(d *Node, packet int) {
	*n = node{parent: n.parent, index: n.index, leaf: n.leaf, within: n.within,
		priority: int8(d.Priority), weight: uint64(max(d.Weight, 1)), ceiling: unit.NewPace(d.Ceiling), guarantee: unit.NewPace(d.Guarantee)}
	n.step = step(n.weight)
	if d.Ceiling > 0 {
		n.credit = d.Ceiling.Time(d.Credit)
		n.free.Set(-n.credit) // the bucket starts full
		if d.Peak > 0 {
			n.peak = &peak{rate: unit.NewPace(d.Peak), credit: d.Peak.Time(unit.Size(2 * packet))}
			n.peak.free.Set(-n.peak.credit)
		}
	}
}

// Add adds an entry within an open one, given by its number in the order of the
// description, and returns the number of its first leaf; its others follow. All
// that are added within one must have the same shape. Priority and Guarantee of
// d itself do not count, and nothing within it can be open.
func (t *Tree) Add(open int, d Node) int {
	parent := t.opens[open]
	d.Priority, d.Guarantee = 0, 0
	in := t.nodes[parent].within
	if free := t.removed[parent]; len(free) > 0 {
		leaf := free[len(free)-1]
		t.removed[parent] = free[:len(free)-1]
		id := t.added(leaf)
		in.left.set.members[t.nodes[id].index] = member{}
		t.reset(id, &d)
		return int(leaf)
	}
	leaf, index := len(t.leaves), int32(len(in.children))
	in.left.set.grow()
	in.children = append(in.children, t.add(&d, parent, index))
	return leaf
}

// added returns the entry within an open one whose first leaf is given.
func (t *Tree) added(leaf int32) int32 {
	id := t.leaves[leaf]
	for w := t.nodes[t.nodes[id].parent].within; w.promised.members != nil; w = t.nodes[t.nodes[id].parent].within {
		id = t.nodes[id].parent
	}
	return id
}

// reset makes an entry that has nothing to send, and those within it, as new.
func (t *Tree) reset(id int32, d *Node) {
	n := &t.nodes[id]
	n.set(d, int(t.packet))
	if n.within == nil {
		return
	}
	clear(n.within.promised.members)
	clear(n.within.left.set.members)
	for i := range n.within.levels {
		clear(n.within.levels[i].set.members)
	}
	for i, c := range n.within.children {
		t.reset(c, &d.Children[i])
	}
}

// Remove takes out what Add added, given by its first leaf. None of its leaves
// may have anything to send.
func (t *Tree) Remove(leaf int) {
	if t.removed == nil {
		t.removed = make(map[int32][]int32)
	}
	parent := t.nodes[t.added(int32(leaf))].parent
	t.removed[parent] = append(t.removed[parent], int32(leaf))
}

// Idle reports whether a leaf has nothing to send.
func (t *Tree) Idle(leaf int) bool {
	n := &t.nodes[t.leaves[leaf]]
	return !n.backlogged && !n.held
}

// heldUntil returns until when the entry's ceiling, and the peak above it, hold
// it back.
func (n *node) heldUntil() time.Duration {
	if n.ceiling.IsZero() {
		return 0
	}
	if n.peak != nil {
		return max(n.free.Ready(), n.peak.free.Ready())
	}
	return n.free.Ready()
}

// hold keeps an entry out until its ceiling lets it go.
func (t *Tree) hold(id int32, until time.Duration) {
	t.nodes[id].held = true
	t.throttled.put(id, uint64(until))
}

// clock returns the time by which guarantees within an entry go.
func (in *within) clock(now time.Duration) time.Duration {
	if in.relative.IsZero() {
		return now
	}
	return in.served.Ready()
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
		if until := n.heldUntil(); until > now {
			t.hold(id, until)
			return
		}
		n.competes = true
		if n.parent < 0 {
			return
		}
		p := &t.nodes[n.parent]
		in := p.within
		if n.priority > 0 {
			in.levels[n.priority-1].enter(n.index, 1, step(1), t.packet)
			in.urgent |= 1 << n.priority
		} else {
			if !n.guarantee.IsZero() {
				clock := in.clock(now)
				n.due.NotBefore(clock)
				in.promise(n, clock, t.packet)
			}
			in.left.enter(n.index, n.weight, n.step, t.packet)
		}
		in.active++
		if in.active > 1 {
			return
		}
		p.backlogged = true
		id = n.parent
	}
}

// promise puts a child among those that have a guarantee, due when its clock
// says, with the deadline of the largest packet.
func (in *within) promise(n *node, clock time.Duration, packet uint64) {
	start := uint64(max(n.due.Ready(), 0))
	in.promised.put(n.index, start, start+uint64(n.guarantee.Time(int(packet))), uint64(clock))
}

// leave takes an entry out of its parent's contest.
func (t *Tree) leave(n *node) {
	n.competes = false
	if n.parent < 0 {
		return
	}
	p := &t.nodes[n.parent]
	in := p.within
	if n.priority > 0 {
		c := &in.levels[n.priority-1]
		c.leave(n.index, 1)
		if c.set.empty() {
			in.urgent &^= 1 << n.priority
		}
	} else {
		if !n.guarantee.IsZero() {
			in.promised.remove(n.index)
		}
		in.left.leave(n.index, n.weight)
	}
	in.active--
	p.backlogged = in.active > 0
}

// Next returns the leaf to serve now. When there is none it returns -1 and the
// time to ask again, or Never; a leaf becoming ready is another such time.
func (t *Tree) Next(now time.Duration) (leaf int, again time.Duration) {
	again = Never
	for len(t.throttled.entries) > 0 {
		first := t.throttled.entries[0]
		if again = time.Duration(first.key); again > now {
			break
		}
		again = Never
		t.throttled.remove(first.member)
		n := &t.nodes[first.member]
		n.held = false
		if n.backlogged {
			t.enter(now, first.member)
		}
	}
	n := &t.nodes[0]
	if !n.competes {
		return -1, again
	}
	for n.leaf < 0 {
		n = &t.nodes[n.within.choose(t.nodes, now)]
	}
	return int(n.leaf), now
}

// choose returns the child to serve now; one competes.
func (in *within) choose(nodes []node, now time.Duration) int32 {
	var child int32
	mode := uint8(byWeight)
	if in.urgent != 0 {
		child, mode = in.levels[bits.TrailingZeros32(in.urgent)-1].next(), byPriority
	} else if child = in.promised.next(uint64(in.clock(now))); child >= 0 {
		mode = byGuarantee
	} else {
		child = in.left.next()
	}
	id := in.children[child]
	nodes[id].mode = mode
	return id
}

// Sent tells the tree that the leaf which Next returned sent a packet of size
// bytes, and whether it has more. A size of 0 is right when the leaf turned out
// to have nothing.
func (t *Tree) Sent(now time.Duration, leaf, size int, more bool) {
	id := t.leaves[leaf]
	n := &t.nodes[id]
	n.backlogged = more
	for {
		until := time.Duration(0)
		if !n.ceiling.IsZero() {
			until = n.spend(now, size)
		}
		stays := n.backlogged && until <= now
		if n.parent >= 0 {
			t.nodes[n.parent].within.charge(now, n, size, t.packet, stays)
		}
		if !stays {
			t.leave(n)
			if n.backlogged {
				t.hold(id, until)
			}
		}
		if id = n.parent; id < 0 {
			return
		}
		n = &t.nodes[id]
	}
}

// spend books a packet to the ceiling and returns until when it holds.
func (n *node) spend(now time.Duration, size int) time.Duration {
	n.free.NotBefore(now - n.credit)
	n.ceiling.Advance(&n.free, size)
	if n.peak != nil {
		n.peak.free.NotBefore(now - n.peak.credit)
		n.peak.rate.Advance(&n.peak.free, size)
	}
	return n.heldUntil()
}

// lagging is how many packets' time a guarantee that was not served may be
// made up for.
const lagging = 4

// charge books a packet to the round in which the child was chosen. If it stays
// it goes on competing; otherwise it is about to leave.
func (in *within) charge(now time.Duration, n *node, size int, packet uint64, stays bool) {
	if !in.relative.IsZero() {
		in.relative.Advance(&in.served, size)
	}
	switch n.mode {
	case byPriority:
		in.levels[n.priority-1].charge(n.index, step(1), uint64(size), packet, stays)
	case byGuarantee:
		clock := in.clock(now)
		n.guarantee.Advance(&n.due, size)
		n.due.NotBefore(clock - lagging*n.guarantee.Time(int(packet)))
		if stays {
			in.promise(n, clock, packet)
		}
	case byWeight:
		in.left.charge(n.index, n.step, uint64(size), packet, stays)
	}
}
