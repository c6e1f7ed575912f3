package schedule

import (
	"math/rand/v2"
	"testing"
)

// A set that is looked through and one with heaps serve the same members, of ties the first: random starts and finishes among few
// values, moves, removals, and time lines that are moved back.
func TestManyAsFew(t *testing.T) {
	for trial := range 300 {
		r := rand.New(rand.NewPCG(31, uint64(trial)))
		n := 1 + r.IntN(32)
		few, many := newSet(n), newSet(n)
		few.heaps, many.heaps = nil, &heaps{newHeap(n), newHeap(n)}
		line, served := uint64(0), 0
		for step := range 2000 {
			i := int32(r.IntN(n))
			switch r.IntN(8) {
			case 0:
				few.remove(i)
				many.remove(i)
			case 1:
				line += r.Uint64N(4)
			case 2:
				if base := r.Uint64N(line + 4); step%10 == 0 {
					few.shift(base)
					many.shift(base)
					line -= min(line, base)
				}
			default:
				start := line + r.Uint64N(8) - min(line, 4)
				finish := start + 1 + r.Uint64N(4)
				few.put(i, start, finish, line)
				many.put(i, start, finish, line)
			}
			if a, b := few.minStart(), many.minStart(); a > line && a != b {
				t.Fatalf("trial %d, step %d: the first of few starts at %d, of many at %d", trial, step, a, b)
			}
			a, b := few.next(line), many.next(line)
			if a != b {
				t.Fatalf("trial %d, step %d: of few %d is next, of many %d", trial, step, a, b)
			}
			if a < 0 {
				continue
			}
			served++
			if m := few.members[a]; m.start > line {
				t.Fatalf("trial %d, step %d: %d starts at %d, and is served at %d", trial, step, a, m.start, line)
			}
			for j, m := range few.members {
				if mine := few.members[a]; m.start <= line && (m.finish < mine.finish || m.finish == mine.finish && int32(j) < a) {
					t.Fatalf("trial %d, step %d: %d comes before %d", trial, step, j, a)
				}
			}
		}
		if served < 500 {
			t.Errorf("trial %d: only %d of 2000 steps served a member", trial, served)
		}
	}
}
