package queue

import (
	"math/rand/v2"
	"testing"

	"imbrel.example/imbrel/core/packet"
)

// A RED without a limit drops nothing.
func TestREDWithoutALimit(t *testing.T) {
	q := NewRED(Limits{}, 1_000_000, 1500, false, rand.New(rand.NewPCG(1, 1)))
	for n := range 10_000 {
		if v := q.Push(0, &packet.Packet{Size: 1500}); v != Taken {
			t.Fatalf("packet %d: %v", n, v)
		}
	}
}
