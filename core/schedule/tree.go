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
// Deadlines and finishes are those of the packet that would go next: a leaf's first one, and an
// inner entry's that of the child it has chosen. A choice stands until something
// within the entry is served or begins to compete (as in H-PFQ: Bennett & Zhang 1996).
//
// The tree knows nothing of packets: its entries are numbers, and the caller
// says which leaf has something to send, how large what it sent was, and how large
// the next is.
package schedule

import (
	"math"
	"math/bits"
	"time"

	"imbrel.example/imbrel/core/unit"
)

// An Entry describes an entry of the tree to be built.
type Entry struct {
	Priority  int       // 0: none; 1 to MaxPriority, 1 the most urgent; others count as the nearest of these
	Guarantee unit.Rate // 0: none
	// Lag is for how much time a guarantee that was not served is made up for.
	Lag     time.Duration
	Ceiling unit.Rate // 0: none
	// Credit is how many bytes beyond one packet an entry under its ceiling may
	// send at once to make up for having waited its turn.
	Credit unit.Size
	// Peak bounds what Credit lets it send at once; 0: nothing does.
	Peak     unit.Rate
	Weight   int64 // of what is left over, 1 to 1<<30
	Children []Entry
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

// A Tree serves the leaves of a description. Its entries are numbered from 0,
// the whole, in the order of the description, each before those within it. Times
// given to it must not run backwards.
type Tree struct {
	first     []node  // of the description
	added     []*node // by Add; their numbers follow
	throttled heap    // those that their ceiling holds back, by until when
	packet    uint64  // of the largest
}

// node returns the entry of a number.
func (t *Tree) node(entry int) *node {
	if entry < len(t.first) {
		return &t.first[entry]
	}
	return t.added[entry-len(t.first)]
}

// node is an entry. Two cache lines, of which those that are served without a
// guarantee or a ceiling use one.
type node struct {
	in         *siblings // nil: the whole
	size       uint64    // of the packet that it sends next
	id         int32
	index      int32  // among the children there
	weight     uint32 // at least 1
	priority   int8
	mode       uint8     // how it was chosen last
	backlogged bool      // a leaf: has something to send; otherwise some child competes
	competes   bool      // takes part in the contest it is in
	start      uint64    // there, when it competes again
	step       uint64    // of the virtual time, at its weight
	inner      *siblings // nil: a leaf
	limit      *limit    // nil: no ceiling

	free      unit.Clock // of the ceiling
	ceiling   unit.Pace
	guarantee unit.Pace
	due       unit.Clock // of the guarantee
}

// siblings is the contest between the children of an entry.
type siblings struct { // of five cache lines
	of       *node
	levels   []contest // by priority - 1
	relative unit.Pace
	urgent   uint32 // a bit for each level in which some compete
	active   int32  // children that compete
	chosen   *node  // of those, the one to serve next; not kept for the whole

	left     contest
	promised set
	lag      []time.Duration // for how much time the guarantee of each child is made up for
	children []*node
	slack    []time.Duration // of each child: the time of its next packet at its guarantee
	served   unit.Clock      // how long it takes at relative to send what was sent
	removed  []*node         // of those added, to be used again
	_        [24]byte
}

// A limit is how far an entry may go beyond its ceiling.
type limit struct {
	credit     time.Duration // of the ceiling
	peak       unit.Pace     // a rate above the ceiling; zero: none
	free       unit.Clock    // of the peak
	peakCredit time.Duration
}

// limited puts a ceiling in force from a time on, its buckets full; 0 is none.
func (n *node) limited(now time.Duration, ceiling, peak unit.Rate, credit, packet unit.Size) {
	n.ceiling, n.limit = unit.NewPace(ceiling), nil
	if ceiling == 0 {
		return
	}
	n.limit = &limit{credit: ceiling.Time(credit)}
	n.free.Set(now - n.limit.credit)
	if peak > 0 {
		n.limit.peak, n.limit.peakCredit = unit.NewPace(peak), peak.Time(2*packet)
		n.limit.free.Set(now - n.limit.peakCredit)
	}
}

const (
	byPriority = iota
	byGuarantee
	byWeight
)

// New builds the tree of a description. The packets it will serve should not be
// larger than maxPacket bytes, as the interface counts: its bounds are in these.
func New(root Entry, maxPacket unit.Size) *Tree {
	t := &Tree{packet: uint64(maxPacket), first: make([]node, 0, root.count())}
	t.add(&root, nil, 0)
	return t
}

// count returns how many entries there are in a description.
func (d *Entry) count() int {
	n := 1
	for i := range d.Children {
		n += d.Children[i].count()
	}
	return n
}

func (t *Tree) add(d *Entry, in *siblings, index int32) *node {
	id := len(t.first) + len(t.added)
	if id < cap(t.first) {
		t.first = append(t.first, node{})
	} else {
		t.added = append(t.added, &node{})
	}
	n := t.node(id)
	n.in, n.id, n.index = in, int32(id), index
	t.throttled.at = append(t.throttled.at, 0)
	if count := len(d.Children); d.Open {
		n.inner = &siblings{of: n}
	} else if count > 0 {
		own := &siblings{of: n, children: make([]*node, count), slack: make([]time.Duration, count), lag: make([]time.Duration, count), promised: newSet(count), left: contest{set: newSet(count)}}
		n.inner = own
		most := 0
		for i := range d.Children {
			own.children[i] = t.add(&d.Children[i], own, int32(i))
			most = max(most, level(&d.Children[i]))
		}
		own.levels = make([]contest, most)
		for i := range own.levels {
			own.levels[i].set = newSet(count)
		}
	}
	n.set(d, unit.Size(t.packet))
	return n
}

// level returns the priority of an entry as far as there are any.
func level(d *Entry) int { return min(max(d.Priority, 0), MaxPriority) }

// set makes an entry as described, as it is before anything was sent.
func (n *node) set(d *Entry, packet unit.Size) {
	weight := max(d.Weight, 1)
	*n = node{in: n.in, id: n.id, index: n.index, inner: n.inner, priority: int8(level(d)), weight: uint32(weight), step: step(uint64(weight)),
		guarantee: unit.NewPace(d.Guarantee)}
	n.limited(0, d.Ceiling, d.Peak, d.Credit, packet)
	if in := n.inner; in != nil {
		in.relative = unit.NewPace(d.Relative)
		in.served.Set(0)
		for i := range d.Children {
			if g := d.Children[i].Guarantee; g > 0 {
				in.lag[i] = max(d.Children[i].Lag, g.Time(packet))
			}
		}
	}
}

// reset makes an entry that has nothing to send, and those within it, as new.
func (n *node) reset(d *Entry, packet unit.Size) {
	n.set(d, packet)
	for i := range d.Children {
		n.inner.children[i].reset(&d.Children[i], packet)
	}
}

// Add adds an entry within an open one and returns its number; the numbers of
// those within it follow. All that are added within one must have the same shape.
// Priority and Guarantee of d itself do not count.
func (t *Tree) Add(open int, d Entry) int {
	in := t.node(open).inner
	d.Priority, d.Guarantee = 0, 0
	if last := len(in.removed) - 1; last >= 0 {
		n := in.removed[last]
		in.removed = in.removed[:last]
		n.reset(&d, unit.Size(t.packet))
		return int(n.id)
	}
	in.left.set.grow()
	n := t.add(&d, in, int32(len(in.children)))
	in.children = append(in.children, n)
	return int(n.id)
}

// Remove takes out an entry that Add added. Nothing within it may have anything
// to send, and what was added within it must have been removed.
func (t *Tree) Remove(entry int) {
	n := t.node(entry)
	n.in.removed = append(n.in.removed, n)
}

// Limit gives an entry another ceiling, with its credit and peak, from now on; 0
// takes the ceiling off.
func (t *Tree) Limit(now time.Duration, entry int, ceiling, peak unit.Rate, credit unit.Size) {
	n := t.node(entry)
	paid := n.free.Ready() // what was sent is paid for at the rate that was in force then
	if n.limited(now, ceiling, peak, credit, unit.Size(t.packet)); n.limit != nil && paid > now {
		n.free.Set(paid)
	}
	if t.throttled.at[n.id] > 0 {
		t.throttled.remove(n.id)
		if n.backlogged {
			t.enter(now, n)
		}
	}
}

// heldUntil returns until when the entry's ceiling, and the peak above it, hold
// it back.
func (n *node) heldUntil() time.Duration {
	if n.limit == nil {
		return 0
	}
	if !n.limit.peak.IsZero() {
		return max(n.free.Ready(), n.limit.free.Ready())
	}
	return n.free.Ready()
}

// hold keeps an entry out until its ceiling lets it go.
func (t *Tree) hold(n *node, until time.Duration) { t.throttled.put(n.id, uint64(until)) }

// clock returns the time by which guarantees within an entry go.
func (in *siblings) clock(now time.Duration) time.Duration {
	if in.relative.IsZero() {
		return now
	}
	return in.served.Ready()
}

// Ready tells the tree that a leaf has something to send now, and how many bytes the packet
// has that goes first.
func (t *Tree) Ready(now time.Duration, leaf, next int) {
	n := t.node(leaf)
	switch {
	case !n.backlogged:
		n.backlogged = true
		n.resize(uint64(next))
		t.enter(now, n)
	case n.size != uint64(next):
		n.resize(uint64(next))
		if n.competes && n.in != nil {
			n.in.place(now, n)
			n.in.reconsider(now)
		}
	}
}

// Held reports whether an entry's ceiling holds it back at a time.
func (t *Tree) Held(now time.Duration, entry int) bool {
	n := t.node(entry)
	return t.throttled.at[n.id] > 0 && n.heldUntil() > now
}

// enter puts an entry with something to send into the contest it is in, unless
// its ceiling holds it back, and those around it with it.
func (t *Tree) enter(now time.Duration, n *node) {
	for {
		if n.competes || t.throttled.at[n.id] > 0 {
			return
		}
		if until := n.heldUntil(); until > now {
			t.hold(n, until)
			return
		}
		n.competes = true
		in := n.in
		if in == nil {
			return
		}
		if n.inner != nil {
			n.inner.elect(now)
		}
		if n.priority > 0 {
			in.levels[n.priority-1].enter(n.index, n.start, 1, step(1), n.size)
			in.urgent |= 1 << n.priority
		} else {
			if !n.guarantee.IsZero() {
				clock := in.clock(now)
				n.due.NotBefore(clock)
				in.promise(n, clock)
			}
			in.left.enter(n.index, n.start, uint64(n.weight), n.step, n.size)
		}
		in.active++
		if in.active > 1 {
			in.reconsider(now)
			return
		}
		n = in.of
		n.backlogged = true
	}
}

// elect chooses the child to serve next, and reports whether that changes the size of what the
// entry sends next. For the whole it is chosen when it is served.
func (in *siblings) elect(now time.Duration) bool {
	n := in.of
	in.chosen = in.choose(now)
	was := n.size
	n.resize(in.chosen.size)
	return n.size != was
}

// resize notes the size of the packet that an entry sends next.
func (n *node) resize(size uint64) {
	if n.size == size {
		return
	}
	if n.size = size; !n.guarantee.IsZero() {
		n.in.slack[n.index] = n.guarantee.Time(int(size))
	}
}

// reconsider chooses anew after one more child competes or one sends another packet next, and so in
// the entries around for as long as it makes a difference there.
func (in *siblings) reconsider(now time.Duration) {
	for n := in.of; n.in != nil && in.elect(now) && n.competes; n = in.of {
		in = n.in
		in.place(now, n)
	}
}

// place moves a child that competes to where the size of its next packet puts it.
func (in *siblings) place(now time.Duration, n *node) {
	if n.priority > 0 {
		in.levels[n.priority-1].place(n.index, step(1), n.size)
		return
	}
	if !n.guarantee.IsZero() {
		in.promise(n, in.clock(now))
	}
	in.left.place(n.index, n.step, n.size)
}

// promise puts a child among those that have a guarantee, due when its clock
// says, with the deadline of its next packet.
func (in *siblings) promise(n *node, clock time.Duration) {
	start := max(n.due.Ready(), 0)
	in.promised.put(n.index, uint64(start), uint64(start+in.slack[n.index]), uint64(clock))
}

// leave takes an entry out of the contest it is in.
func (n *node) leave() {
	n.competes = false
	in := n.in
	if in == nil {
		return
	}
	if n.priority > 0 {
		c := &in.levels[n.priority-1]
		c.leave(n.index, 1)
		if c.weights == 0 {
			in.urgent &^= 1 << n.priority
		}
	} else {
		if !n.guarantee.IsZero() {
			in.promised.remove(n.index)
		}
		in.left.leave(n.index, uint64(n.weight))
	}
	in.active--
	in.of.backlogged = in.active > 0
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
		if n := t.node(int(first.member)); n.backlogged {
			t.enter(now, n)
		}
	}
	n := t.node(0)
	if !n.competes {
		return -1, again
	}
	if n.inner != nil {
		n = n.inner.choose(now)
	}
	for n.inner != nil {
		in := n.inner
		// What was chosen by weight may have become due since.
		if n = in.chosen; n.mode == byWeight && !n.guarantee.IsZero() && n.due.Ready() <= in.clock(now) {
			n.mode = byGuarantee
		}
	}
	return int(n.id), now
}

// choose returns the child to serve now; one competes.
func (in *siblings) choose(now time.Duration) *node {
	var child int32
	mode := uint8(byWeight)
	if in.urgent != 0 {
		child, mode = in.levels[bits.TrailingZeros32(in.urgent)-1].next(), byPriority
	} else if child = in.promised.next(uint64(in.clock(now))); child >= 0 {
		mode = byGuarantee
	} else {
		child = in.left.next()
	}
	n := in.children[child]
	n.mode = mode
	return n
}

// Sent tells the tree that the leaf which Next returned sent a packet of size
// bytes, and how many its next one has; 0: there is none. A size of 0 is right when the
// leaf turned out to have nothing.
func (t *Tree) Sent(now time.Duration, leaf, size, next int) {
	n := t.node(leaf)
	was := n.size
	if n.backlogged = next > 0; next > 0 {
		n.resize(uint64(next))
	}
	for {
		stays := n.backlogged
		until := time.Duration(0)
		if n.limit != nil {
			until = n.spend(now, size)
			stays = stays && until <= now
		}
		if n.in != nil {
			n.charge(now, size, stays, n.size != was)
		}
		if !stays {
			n.leave()
			if n.backlogged {
				t.hold(n, until)
			}
		}
		if n.in == nil {
			return
		}
		in := n.in
		n = in.of
		if was = n.size; in.active > 0 && n.in != nil {
			in.elect(now)
		}
	}
}

// Idle reports whether no leaf has anything to send, nor had when a ceiling began to hold it back.
func (t *Tree) Idle() bool { return !t.node(0).competes && len(t.throttled.entries) == 0 }

// Alone sends a packet of a leaf at once, when nothing in the tree has anything to send and no ceiling holds the leaf back, and
// reports whether it did. All is then as after Ready, Next and Sent.
func (t *Tree) Alone(now time.Duration, leaf, size int) bool {
	if t.node(0).competes || len(t.throttled.entries) > 0 {
		return false
	}
	for n := t.node(leaf); ; n = n.in.of {
		if n.limit != nil && n.heldUntil() > now {
			return false
		}
		if n.in == nil {
			break
		}
	}
	for n := t.node(leaf); ; n = n.in.of {
		n.resize(uint64(size))
		if n.limit != nil {
			n.spend(now, size)
		}
		in := n.in
		if in == nil {
			return true
		}
		clock := in.clock(now)
		if !in.relative.IsZero() {
			in.relative.Advance(&in.served, size)
		}
		switch {
		case n.priority > 0:
			c := &in.levels[n.priority-1]
			if n.start = c.alone(n.start, 1, step(1), uint64(size)); c.full() {
				in.rebase(c, n.priority)
			}
		case !n.guarantee.IsZero() && n.due.Ready() <= clock:
			n.due.NotBefore(clock)
			n.guarantee.Advance(&n.due, size)
			n.due.NotBefore(in.clock(now) - in.lag[n.index])
		default:
			if n.start = in.left.alone(n.start, uint64(n.weight), n.step, uint64(size)); in.left.full() {
				in.rebase(&in.left, 0)
			}
		}
	}
}

// Charge books bytes that went beside the tree to the ceiling of the whole, and to no entry's share.
func (t *Tree) Charge(now time.Duration, size int) {
	n := t.node(0)
	if n.limit == nil {
		return
	}
	if until := n.spend(now, size); until > now && (n.competes || t.throttled.at[n.id] > 0) {
		n.competes = false
		t.hold(n, until)
	}
}

// spend books a packet to the ceiling and returns until when it holds.
func (n *node) spend(now time.Duration, size int) time.Duration {
	l := n.limit
	n.free.NotBefore(now - l.credit)
	n.ceiling.Advance(&n.free, size)
	if !l.peak.IsZero() {
		l.free.NotBefore(now - l.peakCredit)
		l.peak.Advance(&l.free, size)
	}
	return n.heldUntil()
}

// charge books a packet to the round in which the entry was chosen. If it stays
// it goes on competing, with a next packet that may be of another size; otherwise it is
// about to leave.
func (n *node) charge(now time.Duration, size int, stays, other bool) {
	in := n.in
	if !in.relative.IsZero() {
		in.relative.Advance(&in.served, size)
	}
	switch n.mode {
	case byPriority:
		c := &in.levels[n.priority-1]
		n.start = c.charge(n.index, step(1), uint64(size), n.size, stays)
		if c.full() {
			in.rebase(c, n.priority)
		}
	case byGuarantee:
		clock := in.clock(now)
		n.guarantee.Advance(&n.due, size)
		n.due.NotBefore(clock - in.lag[n.index])
		if stays {
			in.promise(n, clock)
			if other {
				in.left.place(n.index, n.step, n.size)
			}
		}
	case byWeight:
		if stays && other && !n.guarantee.IsZero() {
			in.promise(n, in.clock(now))
		}
		n.start = in.left.charge(n.index, n.step, uint64(size), n.size, stays)
		if in.left.full() {
			in.rebase(&in.left, 0)
		}
	}
}

// rebase moves back the virtual time of a contest, of those of a priority.
func (in *siblings) rebase(c *contest, priority int8) {
	base := c.rebase()
	for _, n := range in.children {
		if n.priority == priority {
			n.start -= min(n.start, base)
		}
	}
}
