package datapath

import (
	"flag"
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"imbrel.example/imbrel/core/allocation"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
)

// A random tree of entries: to depth 4, up to 20 leaves, guarantees that fit,
// ceilings, weights and, at any level, a bounded priority. Each leaf is a class
// of its own; an entry around others takes the classes of all its leaves.
type randomTree struct {
	r      *rand.Rand
	leaves int
}

func (g *randomTree) level(depth int, promise, ceiling unit.Rate) []policy.Entry {
	n := 1 + g.r.IntN(4)
	if depth == 4 {
		n = 2 + g.r.IntN(3)
	}
	var entries []policy.Entry
	left := int64(promise)
	for k := range n {
		if g.leaves >= 20 {
			break
		}
		e := policy.Entry{Weight: 1 + g.r.IntN(20), Queue: policy.Queue{Bytes: 6000}}
		first := g.leaves + 1
		bound := ceiling
		if k == 0 && g.r.IntN(3) == 0 {
			e.Priority, e.Weight = 1, 0
			most := max(unit.Rate(float64(promise)*(0.05+0.2*g.r.Float64())), 20_000)
			e.AtMost = &policy.Ceiling{Rate: unit.Share{Rate: most}}
			left -= int64(most)
			bound = min(bound, most)
		} else {
			if part := unit.Rate(g.r.Float64() * float64(left) / 2); g.r.IntN(2) == 0 && part > 20_000 {
				e.AtLeast.Rate = part
				left -= int64(part)
			}
			if g.r.IntN(4) == 0 {
				most := max(e.AtLeast.Rate, unit.Rate(g.r.Float64()*float64(ceiling)), 50_000)
				e.AtMost = &policy.Ceiling{Rate: unit.Share{Rate: most}}
				bound = min(bound, most)
			}
		}
		if depth > 1 && g.r.IntN(3) > 0 && g.leaves < 18 {
			own := e.AtLeast.Rate
			if e.Priority > 0 {
				own = bound
			}
			e.Treat = g.level(depth-1, own, bound)
		}
		if len(e.Treat) == 0 {
			g.leaves++
		}
		c := &policy.Class{Name: fmt.Sprint("t", first, "-", g.leaves, "-", depth), Match: []policy.Condition{policy.All(policy.KeyToPort.In(policy.Range{First: uint32(first), Last: uint32(g.leaves)}))}}
		e.Class, e.ClassName.Text = c, c.Name
		entries = append(entries, e)
	}
	return entries
}

var trees = flag.Int("trees", 150, "how many random trees TestRandomTreesFollowTheFluid holds against the fluid")

// Every leaf of many random trees gets the fluid allocation within 4 maximum
// packets per level or 1 % over 2 s, while some start and stop.
func TestRandomTreesFollowTheFluid(t *testing.T) {
	const line, shape = 20 * unit.MbitPerSecond, 2 * unit.MbitPerSecond
	const settling, lasts = 1200 * time.Millisecond, 3200 * time.Millisecond
	worst, failures := 0.0, 0
	for trial := range *trees {
		r := rand.New(rand.NewPCG(50, uint64(trial)))
		g := &randomTree{r: r}
		p := plan.New(&policy.Policy{Shape: unit.Share{Rate: shape}, Treat: g.level(4, shape, shape)}, line, packet.FramingIP())
		// Two phases, 2 s of each measured; in each a leaf wants everything, a constant rate, or nothing.
		wants := make([][2]unit.Rate, g.leaves+1)
		for i := range wants {
			for phase := range 2 {
				switch r.IntN(4) {
				case 0:
				case 1:
					wants[i][phase] = unit.Rate(50_000 + r.IntN(600_000))
				default:
					wants[i][phase] = shape + shape/10
				}
			}
		}
		length := make([]int, g.leaves+1)
		var fs []flood
		for i := 1; i <= g.leaves; i++ {
			length[i] = 64 + r.IntN(1437)
			for phase := range 2 {
				if w := wants[i][phase]; w > 0 {
					start := time.Duration(phase) * lasts
					fs = append(fs, flood{i, length[i], w, start, start + lasts})
				}
			}
		}
		sent := make([][2]float64, g.leaves+1)
		serve(New(Config{Plan: p}), line, floods(fs...), func(now time.Duration, pkt *packet.Packet) {
			// What waited when the phase changed belongs to the one before.
			if phase := int(now / lasts); phase < 2 && now%lasts >= settling {
				sent[pkt.Flow.ToPort][phase] += float64(pkt.Size)
			}
		})
		for phase := range 2 {
			// A leaf that wants less than before still has what waited: its bytes
			// beyond what it wants now belong to the phase before.
			drained := 0.0
			if phase == 1 {
				for i := 1; i <= g.leaves; i++ {
					if w := wants[i][1]; w < shape {
						drained += max(0, sent[i][1]-float64(w.Bytes(lasts-settling))-float64(length[i]))
					}
				}
			}
			gets := allocation.Allocate(p, func(e *plan.Entry) unit.Rate {
				if leaf, ok := leafOf(e); ok {
					return wants[leaf][phase]
				}
				return 0
			})
			for _, e := range p.Entries {
				leaf, ok := leafOf(e)
				if !ok {
					continue
				}
				level := 1 + strings.Count(e.Name, "/")
				want := float64(gets[e.Number].Bytes(lasts - settling))
				off := math.Abs(sent[leaf][phase] - want)
				allowed := max(0.01*want, float64(4*level*1500)) + drained
				worst = max(worst, off/allowed)
				if off > allowed {
					if failures++; failures <= 5 {
						t.Errorf("tree %d, phase %d, leaf %d at level %d: sent %.0f B, the fluid is %.0f B (%.1f packets off)", trial, phase, leaf, level, sent[leaf][phase], want, off/1500)
					}
				}
			}
		}
	}
	t.Logf("%d trees: the worst leaf used %.2f of what is allowed; %d beyond", *trees, worst, failures)
}

// leafOf returns the number of an entry that is a leaf of a random tree.
func leafOf(e *plan.Entry) (first int, ok bool) {
	var last, depth int
	_, err := fmt.Sscanf(e.Spec.ClassName.Text, "t%d-%d-%d", &first, &last, &depth)
	return first, err == nil && e.Leaf()
}
