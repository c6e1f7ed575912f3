package fluid

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"imbrel.example/imbrel/core/unit"
)

// slow finds the allocation by pouring: small portions, each to whoever is
// owed one by the rules. It is the slow twin of Allocate for one level.
func slow(root *Entry, capacity float64) []float64 {
	gets := make([]float64, len(root.Children))
	limit := func(c *Entry) float64 {
		if c.Ceiling > 0 {
			return math.Min(float64(c.Demand), float64(c.Ceiling))
		}
		return float64(c.Demand)
	}
	const portions = 200_000
	portion := capacity / portions
	for range portions {
		best := -1
		rank := func(i int) (int, float64) { // the stage, and how far along it
			c := root.Children[i]
			switch {
			case gets[i]+portion/2 >= limit(c):
				return 99, 0
			case c.Priority > 0:
				return c.Priority, gets[i]
			case gets[i]+portion/2 < float64(c.Guarantee):
				return 50, gets[i] / float64(c.Guarantee)
			}
			return 60, (gets[i] - float64(c.Guarantee)) / float64(c.Weight)
		}
		for i := range root.Children {
			if s, v := rank(i); s < 99 {
				if best < 0 {
					best = i
					continue
				}
				if bs, bv := rank(best); s < bs || s == bs && v < bv {
					best = i
				}
			}
		}
		if best < 0 {
			break
		}
		gets[best] += portion
	}
	return gets
}

func TestAgainstPouring(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 9))
	for trial := range 60 {
		root := &Entry{}
		capacity := unit.Rate(10_000_000)
		for range 1 + r.IntN(6) {
			c := &Entry{Weight: 1 + r.Int64N(10), Demand: unit.Rate(r.IntN(12_000_000))}
			switch r.IntN(3) {
			case 0:
				c.Priority = 1 + r.IntN(2)
			case 1:
				c.Guarantee = unit.Rate(500_000 + r.IntN(2_500_000)) // perhaps more than the whole
			}
			if r.IntN(3) == 0 {
				c.Ceiling = max(c.Guarantee, unit.Rate(500_000+r.IntN(5_000_000)))
			}
			root.Children = append(root.Children, c)
		}
		Allocate(root, capacity)
		want := slow(root, float64(capacity))
		for i, c := range root.Children {
			if math.Abs(float64(c.Gets)-want[i]) > 2000 {
				t.Errorf("trial %d, child %d %+v gets %d; pouring gives %.0f", trial, i, *c, c.Gets, want[i])
			}
		}
	}
}

// What no rule forbids must be used, and nobody may get more than it wants.
func TestHierarchiesUseWhatThereIs(t *testing.T) {
	r := rand.New(rand.NewPCG(10, 10))
	for range 500 {
		var leaves []*Entry
		var grow func(depth int, promise unit.Rate) *Entry
		grow = func(depth int, promise unit.Rate) *Entry {
			n := &Entry{Weight: 1 + r.Int64N(5), Guarantee: promise}
			if depth == 0 {
				n.Demand = unit.Rate(r.IntN(40_000_000))
				leaves = append(leaves, n)
				return n
			}
			for range 1 + r.IntN(4) {
				n.Children = append(n.Children, grow(depth-1, promise/4))
			}
			return n
		}
		capacity := unit.Rate(20_000_000)
		root := grow(3, capacity)
		Allocate(root, capacity)
		var wants, gets unit.Rate
		for _, l := range leaves {
			wants, gets = wants+l.Demand, gets+l.Gets
			if l.Gets > l.Demand {
				t.Fatalf("a leaf that wants %d gets %d", l.Demand, l.Gets)
			}
			if l.Gets < min(l.Guarantee, l.Demand)-64 {
				t.Fatalf("a leaf promised %d that wants %d gets %d", l.Guarantee, l.Demand, l.Gets)
			}
		}
		if want := min(wants, capacity); gets > want || gets < want-200 {
			t.Fatalf("%d leaves want %d of %d and get %d", len(leaves), wants, capacity, gets)
		}
	}
}

func ExampleAllocate() {
	voice := &Entry{Priority: 1, Demand: 900_000}
	radar := &Entry{Guarantee: 3_420_000, Weight: 30, Demand: Greedy}
	rest := &Entry{Guarantee: 2_280_000, Weight: 20, Demand: Greedy}
	Allocate(&Entry{Children: []*Entry{voice, radar, rest}}, 11_400_000)
	fmt.Println(voice.Gets, radar.Gets, rest.Gets)
	// Output: 900kbit/s 6.3Mbit/s 4.2Mbit/s
}
