package meter

import (
	"time"

	"imbrel.example/imbrel/core/unit"
)

// A Need finds how large a bucket of a rate would have to be for all that came to
// conform: as long as the longest queue would be that the rate empties. The zero Need
// counts nothing; nor does one that comes to more than a day at its rate.
type Need struct {
	pace  unit.Pace
	clock unit.Clock
	most  time.Duration
}

// NewNeed returns the need of a rate.
func NewNeed(r unit.Rate) Need { return Need{pace: unit.NewPace(r)} }

// Add counts a packet of size bytes that came at a time, not before the last.
func (n *Need) Add(now time.Duration, size int) {
	if n.pace.IsZero() {
		return
	}
	n.clock.NotBefore(now)
	n.pace.Advance(&n.clock, size)
	if n.most = max(n.most, n.clock.Ready()-now); n.most > maxNeeded {
		*n = Need{} // nobody has a bucket of a day
	}
}

// maxNeeded is beyond which a need is not counted.
const maxNeeded = 24 * time.Hour

// Burst returns the size, rounded up.
func (n *Need) Burst() unit.Size {
	if n.most == 0 {
		return 0
	}
	return n.pace.Rate().Bytes(n.most) + 1
}
