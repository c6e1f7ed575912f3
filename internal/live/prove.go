package live

import (
	"time"

	"imbrel.example/imbrel/core/bound"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/simulate"
)

// A StageConfig says what is staged with real packets.
type StageConfig struct {
	File      *policy.File
	Rehearsal *policy.Rehearsal
	Options   simulate.Options // Stop, Progress and Capture are used too
}

// Staged is what was measured of a rehearsal with real packets.
type Staged struct {
	Result  *measure.Result        `json:"measured"`
	Outside simulate.OutsideCounts `json:"outside"`
	Late    *measure.Milliseconds  `json:"late_ms"`  // how long after it was due each thing was done
	TooLate float64                `json:"too_late"` // the part of that later than a millisecond
	// For how long the machine held the program up, in all and at most at a time: the clock stopped
	// meanwhile.
	HeldUpMs    float64  `json:"held_up_ms"`
	MaxHeldUpMs float64  `json:"held_up_most_ms"`
	Homes       int      `json:"namespaces"` // of hosts
	Sockets     int      `json:"sockets"`    // of UDP and TCP
	Frames      uint64   `json:"frames"`     // that came to the network
	Overrun     uint64   `json:"overrun"`    // frames that came faster than they were read
	NotReal     []string `json:"not_as_the_file_says"`

	Passages []simulate.Passage `json:"in_network"`
}

// Passage returns how long a packet of a path's traffic and direction was in the network at most; 0: there was none.
func (s *Staged) Passage(p *bound.Path) time.Duration {
	for _, o := range s.Passages {
		if o.Traffic == p.Traffic && o.Direction == policy.DirectionOf(p.Reverse) {
			return time.Duration(o.MaxMs*1e6 + 0.5)
		}
	}
	return 0
}

// HeldUpPart returns for which part of its run the machine held the program up.
func (s *Staged) HeldUpPart() float64 {
	lasts := s.Result.DurationS + s.Result.WarmUpS + s.HeldUpMs/1000
	if lasts <= 0 {
		return 0
	}
	return s.HeldUpMs / 1000 / lasts
}
