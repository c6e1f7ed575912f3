package schedule

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"imbrel/core/fluid"
	"imbrel/core/unit"
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
	for id := range tree.nodes {
		if tree.nodes[id].within == nil {
			leaves = append(leaves, id)
		}
	}
	return leaves
}

// drive serves leaves that always have more, at a line rate, and returns the
// bytes each entry sent in the time.
func drive(tree *Tree, leaves []int, line unit.Rate, lasts time.Duration, size func() int) []int {
	var clock unit.Clock
	for _, l := range leaves {
		tree.Ready(0, l)
	}
	sent := make([]int, len(tree.nodes))
	for now := time.Duration(0); now < lasts; {
		leaf, again := tree.Next(now)
		if leaf < 0 {
			now = again
			continue
		}
		n := size()
		tree.Sent(now, leaf, n, true)
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
		var leaves []*fluid.Node
		var grow func(depth int, promise unit.Rate) (Node, *fluid.Node)
		grow = func(depth int, promise unit.Rate) (Node, *fluid.Node) {
			d := Node{Weight: 1000 * (1 + r.Int64N(20)), Credit: 2 * maxPacket, Guarantee: promise}
			f := &fluid.Node{Weight: d.Weight, Guarantee: promise}
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

// The tree's ceiling holds in every window: never more than one packet ahead of
// the rate.
func TestShapeInEveryWindow(t *testing.T) {
	const shape = 8_000_000 // 1 byte a microsecond
	tree := New(Node{Ceiling: shape, Children: []Node{{Weight: 1}, {Priority: 1}}}, maxPacket)
	tree.Ready(0, 1)
	tree.Ready(0, 2)
	r := rand.New(rand.NewPCG(12, 12))
	size := sizes(r)
	var sum, latest time.Duration // bytes so far as time at the rate, and the largest lead
	for now := time.Duration(0); now < 10*time.Second; {
		leaf, again := tree.Next(now)
		if leaf < 0 {
			now = again
			continue
		}
		n := size()
		if lead := sum - now; lead > latest {
			latest = lead
		}
		tree.Sent(now, leaf, n, true)
		sum += time.Duration(n) * time.Microsecond
	}
	if latest > 0 {
		t.Errorf("a packet left %v before its time", latest)
	}
	if off := sum - 10*time.Second; off < -10*time.Millisecond || off > 10*time.Millisecond {
		t.Errorf("in 10 s it sent %v worth of bytes", sum)
	}
}

// A class that was silent gets its guarantee at once when it wakes.
func TestAWakingClassIsServedAtOnce(t *testing.T) {
	const line = 10 * unit.MbitPerSecond
	tree := New(Node{Children: []Node{{Guarantee: line * 3 / 10, Weight: 30_000}, {Guarantee: line / 10, Weight: 10_000}, {Weight: 1000}}}, maxPacket)
	drive(tree, []int{2, 3}, line, 5*time.Second, func() int { return maxPacket })
	now := 5*time.Second + line.Time(maxPacket)
	tree.Ready(now, 1)
	var before int
	for {
		leaf, _ := tree.Next(now)
		tree.Sent(now, leaf, maxPacket, true)
		if leaf == 1 {
			break
		}
		before++
		now += line.Time(maxPacket)
	}
	if before > 1 {
		t.Errorf("%d packets of others went before the first of a class that woke", before)
	}
}

func TestStrictPriority(t *testing.T) {
	tree := New(Node{Children: []Node{{Weight: 1, Guarantee: 9_000_000}, {Priority: 2}, {Priority: 1}}}, maxPacket)
	for _, l := range leavesOf(tree) {
		tree.Ready(0, l)
	}
	var order []int
	for range 3 {
		leaf, _ := tree.Next(0)
		order = append(order, leaf)
		tree.Sent(0, leaf, 100, false)
	}
	if fmt.Sprint(order) != "[3 2 1]" {
		t.Errorf("served %v; want the most urgent first", order)
	}
	if leaf, again := tree.Next(0); leaf != -1 || again != Never {
		t.Errorf("an empty tree returns %d, %v", leaf, again)
	}
}

// Weight-only leaves share within one packet of the ideal at every moment, and
// the virtual time survives being moved back.
func TestWeightedSharesAtEveryMoment(t *testing.T) {
	weights := []int64{1, 5, 20, 1 << 20}
	var total float64
	d := Node{}
	for _, w := range weights {
		d.Children = append(d.Children, Node{Weight: w})
		total += float64(w)
	}
	tree := New(d, maxPacket)
	for i := range weights {
		tree.Ready(0, i+1)
	}
	sent, all := make([]float64, len(weights)), 0.0
	r := rand.New(rand.NewPCG(13, 13))
	for step := range 400_000 {
		leaf, _ := tree.Next(0)
		n := 84 + r.IntN(maxPacket-84)
		tree.Sent(0, leaf, n, true)
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
			d := Node{}
			for i := range leaves {
				d.Children = append(d.Children, Node{Guarantee: unit.Rate(int64(unit.GbitPerSecond) / int64(2*leaves)), Weight: int64(1 + i%7)})
			}
			tree := New(d, maxPacket)
			for _, l := range leavesOf(tree) {
				tree.Ready(0, l)
			}
			b.ReportAllocs()
			now := time.Duration(0)
			for b.Loop() {
				leaf, _ := tree.Next(now)
				tree.Sent(now, leaf, 1000, true)
				now += 8000
			}
		})
	}
}

func ExampleTree() {
	tree := New(Node{Ceiling: 8 * unit.MbitPerSecond, Children: []Node{{Priority: 1}, {Weight: 1}}}, 1538)
	tree.Ready(0, 2)
	leaf, _ := tree.Next(0)
	tree.Sent(0, leaf, 1000, true)
	_, again := tree.Next(0)
	fmt.Println("leaf", leaf, "then not before", again)
	// Output: leaf 2 then not before 1ms
}
