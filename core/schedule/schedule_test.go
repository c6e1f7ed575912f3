package schedule

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"imbrel.example/imbrel/core/fluid"
	"imbrel.example/imbrel/core/unit"
)

const maxPacket = 1538

// sizes draws packet sizes with a rich mixture of small and large.
func sizes(r *rand.Rand) func() int {
	return func() int {
		if r.IntN(3) == 0 {
			return 84
		}
		return 84 + r.IntN(maxPacket-84)
	}
}

// leavesOf returns the numbers of a tree's leaves.
func leavesOf(tree *Tree) []int {
	var leaves []int
	for id := range tree.first {
		if tree.node(id).inner == nil {
			leaves = append(leaves, id)
		}
	}
	return leaves
}

// drive serves leaves that always have more, at a line rate, and returns the
// bytes each entry sent in the time.
func drive(tree *Tree, leaves []int, line unit.Rate, lasts time.Duration, size func() int) []int {
	var clock unit.Clock
	sent, next := make([]int, len(tree.first)), make([]int, len(tree.first))
	for _, l := range leaves {
		next[l] = size()
		tree.Ready(0, l, next[l])
	}
	for now := time.Duration(0); now < lasts; {
		leaf, again := tree.Next(now)
		if leaf < 0 {
			now = again
			continue
		}
		n := next[leaf]
		next[leaf] = size()
		tree.Sent(now, leaf, n, next[leaf])
		sent[leaf] += n
		clock.NotBefore(now)
		clock.Advance(n, line)
		now = clock.Ready()
	}
	return sent
}

// Leaves that all want everything get the fluid allocation, at any depth.
func TestFollowsTheFluidAllocation(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 11))
	const line = 20 * unit.MbitPerSecond
	const lasts = 4 * time.Second
	for trial := range 120 {
		var leaves []*fluid.Entry
		var grow func(depth int, promise unit.Rate) (Entry, *fluid.Entry)
		grow = func(depth int, promise unit.Rate) (Entry, *fluid.Entry) {
			d := Entry{Weight: 1000 * (1 + r.Int64N(20)), Credit: 2 * maxPacket, Guarantee: promise}
			f := &fluid.Entry{Weight: d.Weight, Guarantee: promise}
			if r.IntN(5) == 0 && depth < 3 {
				d.Ceiling = max(promise, unit.Rate(1_000_000+r.IntN(4_000_000)))
				f.Ceiling = d.Ceiling
			}
			if depth == 0 || depth < 3 && r.IntN(3) == 0 {
				f.Demand = fluid.Greedy
				leaves = append(leaves, f)
				return d, f
			}
			for n := 1 + r.IntN(4); n > 0; n-- {
				c, g := grow(depth-1, promise/unit.Rate(5))
				d.Children = append(d.Children, c)
				f.Children = append(f.Children, g)
			}
			return d, f
		}
		d, f := grow(3, line)
		d.Guarantee, d.Ceiling = 0, line
		fluid.Allocate(f, line)
		tree := New(d, maxPacket)
		all := leavesOf(tree)
		sent := drive(tree, all, 10*line, lasts, sizes(r))
		for i, l := range leaves {
			want := float64(l.Gets.Bytes(lasts))
			if off := float64(sent[all[i]]) - want; off > 0.01*want+4*4*maxPacket || -off > 0.01*want+4*4*maxPacket {
				t.Errorf("trial %d, leaf %d of %d: sent %d B, the fluid %.0f B (%+.2f packets)", trial, i, len(leaves), sent[all[i]], want, off/maxPacket)
			}
		}
	}
}

// A ceiling holds in every window: of any length, no more than the credit, one
// packet and rate × time is sent; and in 10 s the rate within 0.1 %. Whatever the
// rate, the sizes, the depth, and however long the line was taken by others.
func TestNoWindowExceedsTheCeiling(t *testing.T) {
	r := rand.New(rand.NewPCG(12, 12))
	for trial := range 60 {
		rate := unit.Rate(100_000 + r.Int64N(20_000_000))
		depth := r.IntN(3)
		credit := unit.Size(0) // it takes some to make up for the others' turns
		if depth > 0 {
			credit = unit.Size(2+r.IntN(4)) * maxPacket
		}
		d := Entry{Ceiling: rate, Credit: credit, Weight: 1, Children: []Entry{{Weight: 1 + r.Int64N(9)}, {Priority: 1}}}
		for range depth {
			d = Entry{Weight: 1, Children: []Entry{d, {Weight: 1}}}
		}
		tree := New(Entry{Children: []Entry{{Priority: 1}, d}}, maxPacket)
		leaves := leavesOf(tree)
		others := leaves[0]
		shaped := make(map[int]bool)
		for id := range tree.first {
			n := tree.node(id)
			shaped[id] = n.in != nil && !n.in.of.ceiling.IsZero()
		}
		for _, l := range leaves[1:] {
			tree.Ready(0, l, maxPacket)
		}
		line := 20 * rate
		size := sizes(r)
		// lead is how many bit·s the ceiling is ahead of the rate since the moment
		// since which that is most: the largest window ending now.
		var sent, lead, most float64
		var last time.Duration
		now, taken := time.Duration(0), r.IntN(3) == 0
		for now < 10*time.Second {
			if taken && r.IntN(200) == 0 {
				tree.Ready(now, others, maxPacket)
			}
			leaf, again := tree.Next(now)
			if leaf < 0 {
				now = min(again, now+time.Second)
				continue
			}
			n := size()
			if leaf == others { // for a while the whole line
				n *= 1 + r.IntN(60)
			}
			next := size()
			if leaf == others {
				next = 0
			}
			tree.Sent(now, leaf, n, next)
			if shaped[leaf] {
				lead = max(0, lead-float64(rate)/8*(now-last).Seconds()) + float64(n)
				most, last = max(most, lead), now
				sent += float64(n)
			}
			now += line.Time(unit.Size(n))
		}
		if bound := float64(credit + maxPacket); most > bound+1 {
			t.Errorf("trial %d: in some window %.0f B more than %s × time; the bound is %.0f", trial, most, rate, bound)
		}
		if part := sent*8/(float64(rate)*10) - 1; !taken && (part < -0.001 || part > 0.001+float64(credit+maxPacket)*8/(float64(rate)*10)) {
			t.Errorf("trial %d: in 10 s %s lets %+.3f %% through", trial, rate, part*100)
		}
	}
}

// A class that was silent gets its guarantee at once when it wakes: its first
// packet waits for the one being sent and for those whose deadlines come before
// its own, the time of a packet at its guarantee, whatever the others do.
func TestAWakingClassIsServedAtOnce(t *testing.T) {
	const line = 10 * unit.MbitPerSecond
	for trial := range 300 {
		r := rand.New(rand.NewPCG(14, uint64(trial)))
		d := Entry{}
		left := int64(line) * 95 / 100
		for range 2 + r.IntN(12) {
			n := Entry{Weight: 1 + r.Int64N(30)}
			if r.IntN(3) > 0 {
				n.Guarantee = unit.Rate(1 + r.Int64N(left)/3)
				left -= int64(n.Guarantee)
			}
			d.Children = append(d.Children, n)
		}
		d.Children[0].Guarantee = max(d.Children[0].Guarantee, line/20)
		tree := New(d, maxPacket)
		leaves := leavesOf(tree)
		size := sizes(r)
		woke := time.Duration(r.IntN(2000)) * time.Millisecond
		drive(tree, leaves[1:], line, woke, size)
		// A packet is being sent when it wakes.
		tree.Ready(woke, leaves[0], maxPacket)
		now := woke + time.Duration(r.Int64N(int64(line.Time(maxPacket))))
		bound := woke + d.Children[0].Guarantee.Time(maxPacket) + line.Time(maxPacket)
		for {
			leaf, _ := tree.Next(now)
			if leaf == leaves[0] {
				break
			}
			n := int(tree.node(leaf).size)
			tree.Sent(now, leaf, n, size())
			now += line.Time(unit.Size(n))
			if now > bound {
				t.Fatalf("trial %d: a class with %s of %s waits more than %v for its first packet", trial, d.Children[0].Guarantee, line, bound-woke)
			}
		}
	}
}

// order returns the leaves of a tree in the order in which each is served once.
func order(tree *Tree) string {
	leaves := leavesOf(tree)
	for _, l := range leaves {
		tree.Ready(0, l, 100)
	}
	var served []int
	for range leaves {
		leaf, _ := tree.Next(0)
		served = append(served, leaf)
		tree.Sent(0, leaf, 100, 0)
	}
	return fmt.Sprint(served)
}

func TestStrictPriority(t *testing.T) {
	tree := New(Entry{Children: []Entry{{Weight: 1, Guarantee: 9_000_000}, {Priority: 2}, {Priority: 1}}}, maxPacket)
	if got := order(tree); got != "[3 2 1]" {
		t.Errorf("served %v; want the most urgent first", got)
	}
	if leaf, again := tree.Next(0); leaf != -1 || again != Never {
		t.Errorf("an empty tree returns %d, %v", leaf, again)
	}
	// A priority beyond those there are is the least urgent.
	if got := order(New(Entry{Children: []Entry{{Priority: 40}, {Priority: 15}, {Weight: 1}}}, maxPacket)); got != "[2 1 3]" {
		t.Errorf("served %v", got)
	}
}

// Equal entries are served in the order of the policy, however many there are.
func TestTiesGoToTheFirst(t *testing.T) {
	for _, n := range []int{2, 12, 13, 40} {
		for _, d := range []Entry{{Weight: 1}, {Priority: 1}, {Weight: 1, Guarantee: 100_000}} {
			var whole Entry
			var want []int
			for i := range n {
				whole.Children, want = append(whole.Children, d), append(want, i+1)
			}
			if got := order(New(whole, maxPacket)); got != fmt.Sprint(want) {
				t.Errorf("%d entries %+v are served in the order %s", n, d, got)
			}
		}
	}
}

// A packet arrives at a leaf that its ceiling holds back. The tree serves it when the ceiling permits, or immediately without the ceiling.
func TestHeldWhenItBecomesReady(t *testing.T) {
	held := func() *Tree {
		tree := New(Entry{Children: []Entry{{Weight: 1, Ceiling: 800_000}, {Weight: 1}}}, maxPacket)
		tree.Ready(0, 1, 1000)
		if leaf, _ := tree.Next(0); leaf != 1 {
			t.Fatalf("leaf %d is served", leaf)
		}
		tree.Sent(0, 1, 1000, 0)
		tree.Ready(time.Millisecond, 1, 1000)
		return tree
	}
	tree := held()
	if leaf, again := tree.Next(time.Millisecond); leaf != -1 || again != 10*time.Millisecond || !tree.Held(time.Millisecond, 1) {
		t.Errorf("1,000 bytes at 800 kbit/s take 10 ms; leaf %d is served, or one at %v", leaf, again)
	}
	if leaf, _ := tree.Next(10 * time.Millisecond); leaf != 1 {
		t.Errorf("at 10 ms leaf %d is served", leaf)
	}
	tree = held()
	tree.Limit(2*time.Millisecond, 1, 0, 0, 0)
	if leaf, _ := tree.Next(2 * time.Millisecond); leaf != 1 {
		t.Errorf("without its ceiling leaf %d is served", leaf)
	}
}

// Weight-only leaves share within one packet of the ideal at every moment, and
// the virtual time survives being moved back.
func TestWeightedSharesAtEveryMoment(t *testing.T) {
	weights := []int64{1, 5, 20, 1 << 20}
	var total float64
	d := Entry{}
	for _, w := range weights {
		d.Children = append(d.Children, Entry{Weight: w})
		total += float64(w)
	}
	tree := New(d, maxPacket)
	for i := range weights {
		tree.Ready(0, i+1, maxPacket)
	}
	sent, all := make([]float64, len(weights)), 0.0
	r := rand.New(rand.NewPCG(13, 13))
	for step := range 400_000 {
		leaf, _ := tree.Next(0)
		n := int(tree.node(leaf).size)
		tree.Sent(0, leaf, n, 84+r.IntN(maxPacket-84))
		sent[leaf-1] += float64(n)
		all += float64(n)
		for i, w := range weights {
			if off := sent[i] - all*float64(w)/total; off > 2*maxPacket || off < -2*maxPacket {
				t.Fatalf("step %d: leaf %d is %+.1f packets from its share", step, i, off/maxPacket)
			}
		}
	}
}

func BenchmarkTree(b *testing.B) {
	for _, leaves := range []int{8, 100, 1000} {
		b.Run(fmt.Sprint(leaves), func(b *testing.B) {
			d := Entry{}
			for i := range leaves {
				d.Children = append(d.Children, Entry{Guarantee: unit.Rate(int64(unit.GbitPerSecond) / int64(2*leaves)), Weight: int64(1 + i%7)})
			}
			tree := New(d, maxPacket)
			for _, l := range leavesOf(tree) {
				tree.Ready(0, l, 1000)
			}
			b.ReportAllocs()
			now := time.Duration(0)
			for b.Loop() {
				leaf, _ := tree.Next(now)
				tree.Sent(now, leaf, 1000, 1000)
				now += 8000
			}
		})
	}
}

func ExampleTree() {
	tree := New(Entry{Ceiling: 8 * unit.MbitPerSecond, Children: []Entry{{Priority: 1}, {Weight: 1}}}, 1538)
	tree.Ready(0, 2, 1000)
	leaf, _ := tree.Next(0)
	tree.Sent(0, leaf, 1000, 1000)
	_, again := tree.Next(0)
	fmt.Println("leaf", leaf, "then not before", again)
	// Output: leaf 2 then not before 1ms
}

// An entry of small packets that leaves after each and comes back at once is never ahead of its weight by more than two of them, and
// gets no more than its part in the end: what it had is not forgotten.
func TestComingBackGainsNothing(t *testing.T) {
	tree := New(Entry{Children: []Entry{{Weight: 1}, {Weight: 1}}}, maxPacket)
	tree.Ready(0, 1, 100)
	tree.Ready(0, 2, 1500)
	sent := [3]int{}
	for sent[2] < 1_500_000 {
		leaf, _ := tree.Next(0)
		if leaf == 1 {
			if sent[1] += 100; sent[1] > sent[2]+200 {
				t.Fatalf("%d bytes, when the other has %d", sent[1], sent[2])
			}
			tree.Sent(0, 1, 100, 0)
			tree.Ready(0, 1, 100)
			continue
		}
		sent[2] += 1500
		tree.Sent(0, 2, 1500, 1500)
	}
	if sent[1] < sent[2]/2 {
		t.Errorf("%d and %d bytes at equal weights", sent[1], sent[2])
	}
}

// What a credit lets an entry send at once goes at its peak rate, and two packets at most go faster.
func TestPeakBoundsACredit(t *testing.T) {
	for _, c := range []struct {
		peak  unit.Rate
		bytes int
	}{{2 * unit.MbitPerSecond, 25_000 + 3*maxPacket}, {0, 112_500 + 3*maxPacket}} {
		tree := New(Entry{Children: []Entry{{Ceiling: unit.MbitPerSecond, Credit: 100_000, Peak: c.peak, Weight: 1}}}, maxPacket)
		now, sent := 10*time.Second, 0
		tree.Ready(now, 1, 1000)
		for now < 10*time.Second+100*time.Millisecond {
			leaf, again := tree.Next(now)
			if leaf < 0 {
				now = again
				continue
			}
			sent += 1000
			tree.Sent(now, leaf, 1000, 1000)
		}
		if sent > c.bytes || sent < c.bytes-6*maxPacket {
			t.Errorf("peak %v: %d bytes in 100 ms, want about %d", c.peak, sent, c.bytes)
		}
	}
}

// A guarantee that a priority kept from being served is made up for by a few packets and no more.
func TestAStarvedGuaranteeTakesLittle(t *testing.T) {
	tree := New(Entry{Children: []Entry{{Priority: 1}, {Guarantee: unit.MbitPerSecond, Weight: 1}, {Weight: 1000}}}, 1000)
	takes := unit.Rate(10 * unit.MbitPerSecond).Time(1000)
	now := time.Duration(0)
	for leaf := 1; leaf <= 3; leaf++ {
		tree.Ready(0, leaf, 1000)
	}
	serve := func(n, priority int) (guaranteed int) {
		for i := range n {
			leaf, _ := tree.Next(now)
			next := 1000
			if leaf == 1 && i >= priority {
				next = 0
			}
			tree.Sent(now, leaf, 1000, next)
			if leaf == 2 {
				guaranteed++
			}
			now += takes
		}
		return guaranteed
	}
	if got := serve(5000, 4999); got != 0 {
		t.Fatalf("%d packets passed a priority", got)
	}
	if got := serve(100, 0); got < 10 || got > 10+6 {
		t.Errorf("%d of 100 packets after the priority ended, want 10 and at most 6 to make up for the past", got)
	}
}

// What goes beside the tree is taken from the ceiling of the whole: the leaves get what is left of it, whether they wait just then or not.
func TestCharge(t *testing.T) {
	for _, waits := range []bool{true, false} {
		tree := New(Entry{Ceiling: 8_000_000, Children: []Entry{{Weight: 1}}}, 1500) // 1 byte a microsecond
		sent, waiting := 0, 0
		for now := time.Duration(0); now < time.Second; now += 100 * time.Microsecond {
			if now%(10*time.Millisecond) == 0 {
				tree.Charge(now, 5000) // half of it
			}
			if waits || now%(5*time.Millisecond) == 0 {
				waiting++
				tree.Ready(now, 1, 1000)
			}
			for {
				leaf, again := tree.Next(now)
				if leaf < 0 {
					if again <= now {
						t.Fatalf("at %v it is to be asked again at %v", now, again)
					}
					break
				}
				waiting--
				tree.Sent(now, leaf, 1000, min(waiting, 1)*1000)
				sent += 1000
			}
		}
		if want := map[bool]int{true: 500_000, false: 200_000}[waits]; sent < want*97/100 || sent > want*103/100 {
			t.Errorf("with a leaf that always waits (%t) %d bytes are sent beside 500,000; want %d", waits, sent, want)
		}
	}
}

// An entry competes with the packet that it would send next: one of 100 bytes that comes, more urgent than one of 1,500 that waits, goes
// before one of 500 beside them, for it ends first.
func TestCompetesWithItsNextPacket(t *testing.T) {
	tree := New(Entry{Children: []Entry{{Children: []Entry{{}, {Priority: 1}}}, {}}}, 1500)
	const large, urgent, beside = 2, 3, 4
	tree.Ready(0, large, 1500)
	tree.Ready(0, beside, 500)
	tree.Ready(0, urgent, 100)
	var order []int
	for range 3 {
		n, _ := tree.Next(0)
		order = append(order, n)
		if n >= 0 {
			tree.Sent(0, n, map[int]int{large: 1500, beside: 500, urgent: 100}[n], 0)
		}
	}
	if !slices.Equal(order, []int{urgent, beside, large}) {
		t.Errorf("they are served as %v", order)
	}
}

// A leaf that its ceiling holds back has something to send: the tree is not idle.
func TestIdle(t *testing.T) {
	tree := New(Entry{Children: []Entry{{Ceiling: unit.MbitPerSecond}, {}}}, 1500)
	leaf := leavesOf(tree)[0]
	states := []bool{tree.Idle()}
	tree.Ready(0, leaf, 1500)
	for range 2 {
		states = append(states, tree.Idle())
		if n, _ := tree.Next(0); n == leaf {
			tree.Sent(0, leaf, 1500, 1500)
		}
	}
	n, again := tree.Next(0)
	states = append(states, tree.Idle())
	if n >= 0 || again == Never || !states[0] || states[1] || states[2] || states[3] {
		t.Errorf("idle at first and while a leaf waits: %v; it is served: %d, or again at %v", states, n, again)
	}
}

// A packet that is sent alone leaves the tree as Ready, Next and Sent would: of two trees, one of which never sends so, both serve the same
// leaves at the same times.
func TestAlone(t *testing.T) {
	alone := 0
	for trial := range 3000 {
		r := rand.New(rand.NewPCG(27, uint64(trial)))
		var leaves []int
		count := 0
		var describe func(depth int) Entry
		describe = func(depth int) Entry {
			own := count
			count++
			e := Entry{Weight: 1 + r.Int64N(9)}
			switch r.IntN(4) {
			case 0:
				e.Priority = 1 + r.IntN(3)
			case 1:
				e.Guarantee = unit.Rate(100_000 + r.Int64N(4_000_000))
			}
			if r.IntN(4) == 0 {
				e.Ceiling = unit.Rate(500_000 + r.Int64N(8_000_000))
				e.Credit = unit.Size(r.IntN(6000))
				if r.IntN(2) == 0 {
					e.Peak = 2 * e.Ceiling
				}
			}
			if depth < 3 && (depth == 0 || r.IntN(3) == 0) {
				if r.IntN(3) == 0 && depth > 0 {
					e.Relative = unit.Rate(1_000_000 + r.Int64N(5_000_000))
				}
				for range 1 + r.IntN(4) {
					e.Children = append(e.Children, describe(depth+1))
				}
			} else {
				leaves = append(leaves, own)
			}
			return e
		}
		d := describe(0)
		d.Priority, d.Guarantee = 0, 0
		quick, slow := New(d, 1500), New(d, 1500)
		waiting := make(map[int][]int)
		total := 0
		now := time.Duration(0)
		serve := func() {
			for {
				a, again := quick.Next(now)
				b, againB := slow.Next(now)
				if a != b || again != againB {
					t.Fatalf("trial %d at %v: leaf %d, again at %v; without sending alone %d, %v", trial, now, a, again, b, againB)
				}
				if a < 0 {
					return
				}
				q := waiting[a]
				next := 0
				if len(q) > 1 {
					next = q[1]
				}
				quick.Sent(now, a, q[0], next)
				slow.Sent(now, a, q[0], next)
				waiting[a] = q[1:]
				total--
				if r.IntN(3) == 0 {
					return // the port is busy
				}
			}
		}
		for range 300 {
			now += time.Duration(r.IntN(3_000_000))
			leaf, size := leaves[r.IntN(len(leaves))], 40+r.IntN(1460)
			if total == 0 && r.IntN(5) > 0 && quick.Alone(now, leaf, size) {
				alone++
				slow.Ready(now, leaf, size)
				if got, _ := slow.Next(now); got != leaf {
					t.Fatalf("trial %d at %v: leaf %d is sent alone, and %d would be", trial, now, leaf, got)
				}
				slow.Sent(now, leaf, size, 0)
				continue
			}
			waiting[leaf] = append(waiting[leaf], size)
			total++
			quick.Ready(now, leaf, waiting[leaf][0])
			slow.Ready(now, leaf, waiting[leaf][0])
			if r.IntN(2) == 0 {
				serve()
			}
		}
	}
	if alone < 50_000 {
		t.Errorf("only %d packets were alone", alone)
	}
}
