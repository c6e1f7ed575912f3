// Package acceptance tests whether a line passes what was bought: each class of a contract below its rate in steps, all of them together, more than
// was bought, and bursts (after ITU-T Y.1564 §8 and RFC 7640).
package acceptance

import (
	"fmt"
	"time"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/words"
)

// A Kind is what a step tests.
type Kind uint8

// The kinds of steps.
const (
	Below   Kind = iota // all must arrive
	Beyond              // no more than was bought may arrive, and no less
	InBurst             // all packets of bursts must arrive
)

// A Load is what is sent for a line of a contract in one step.
type Load struct {
	Line   int // of the contract
	DSCP   codepoint.DSCP
	Rate   unit.Rate // of IP bytes; in a burst, that at which its packets follow each other
	Burst  int       // packets at once; 0: a stream
	Passes unit.Rate // what the contract passes without bursts, in IP bytes
	Room   unit.Size // what it passes once beyond that, in IP bytes
}

// A Step sends its loads at the same time.
type Step struct {
	Name  string
	Kind  Kind
	Loads []Load
}

// parts are those of the rate at which a class is tested.
var parts = []int{25, 50, 75, 100}

// beyond is the part of what a contract passes at which is tested that it passes no more.
const beyond = 125

// Steps returns the steps that test what was bought for an end of a link, with IP packets of a length, from an interface that sends at a rate.
func Steps(end *policy.LinkEnd, length int) []Step {
	framing, iface := end.Counts(), end.Interface
	ip := func(r unit.Rate, f packet.Framing) unit.Rate {
		return unit.Rate(int64(r) * int64(length) / int64(f.Size(length, 0)))
	}
	var out []Step
	all := Step{Name: "all at their rates", Kind: Below}
	for i := range end.Contract {
		c := &end.Contract[i]
		m := plan.MeterOf(c)
		most := max(m.Rate, m.Peak)
		name, dscp := Marked(end.Contract, i)
		load := Load{Line: i, DSCP: dscp, Passes: ip(most, framing), Room: (m.Burst + m.Second) * unit.Size(length) / unit.Size(framing.Size(length, 0))}
		add := func(what string, kind Kind, rate unit.Rate, burst int) {
			l := load
			l.Rate, l.Burst = rate, burst
			out = append(out, Step{Name: name + what, Kind: kind, Loads: []Load{l}})
		}
		for _, part := range parts {
			add(fmt.Sprintf(" at %d %%", part), Below, ip(c.Rate.Rate, framing)*unit.Rate(part)/100, 0)
		}
		if over := ip(most, framing) * beyond / 100; over <= ip(iface.Rate, iface.Framing) {
			add(fmt.Sprintf(" at %d %%", beyond), Beyond, over, 0)
		}
		if n := int(m.Burst) / framing.Size(length, 0); n > 1 {
			add(fmt.Sprintf(", bursts of %d packets", n), InBurst, ip(iface.Rate, iface.Framing), n)
		}
		load.Rate = ip(c.Rate.Rate, framing)
		all.Loads = append(all.Loads, load)
	}
	if len(all.Loads) > 1 {
		out = append(out, all)
	}
	return out
}

// Marked returns what the packets of a line of a contract are called, and a code point that they have.
func Marked(lines []policy.ContractLine, i int) (string, codepoint.DSCP) {
	if len(lines[i].DSCPs) > 0 {
		return lines[i].DSCPs[0].Name(), lines[i].DSCPs[0]
	}
	named := make(map[codepoint.DSCP]bool)
	for _, l := range lines {
		for _, d := range l.DSCPs {
			named[d] = true
		}
	}
	free := codepoint.DSCP(0)
	for named[free] && free < codepoint.MaxDSCP {
		free++
	}
	return free.Name(), free
}

// Pause returns how long after a burst the buckets of a line are full again.
func Pause(c *policy.ContractLine) time.Duration { return plan.MeterOf(c).Fills() }

// Met is what a load met.
type Met struct {
	Sent, Arrived int64
	Over          time.Duration // for which it was sent
}

// A Result is what came of the steps.
type Result struct {
	At       string    `json:"at"`
	Policies bool      `json:"with_policies"` // of a rehearsal: the policies of the file were in force
	Holds    bool      `json:"holds"`
	Steps    []Outcome `json:"steps"`
}

// An Outcome is what came of one load of a step.
type Outcome struct {
	Step      string     `json:"step"`
	DSCP      string     `json:"dscp"`
	OfferedBs int64      `json:"offered_bps"` // of IP bytes
	Sent      int64      `json:"sent"`
	Arrived   int64      `json:"arrived"`
	Loss      float64    `json:"loss"`
	DelayMs   *float64   `json:"delay_p99_ms,omitempty"`
	Holds     bool       `json:"holds"`
	Why       words.Fact `json:"why,omitzero"`
}

// tolerance is how much more than the contract may seem to pass by counting packets at the ends of a step.
const tolerance = 0.02

// Slow reports whether a load was sent at less than nine tenths of its rate, so that the step says nothing.
func (s *Step) Slow(l *Load, m Met, length int) bool {
	return s.Kind != InBurst && float64(m.Sent)*float64(8*length) < 0.9*float64(l.Rate)*m.Over.Seconds()
}

// Add judges what a load of a step met; lossless is the part that may be lost of what is below the contract. Packets have a length.
func (r *Result) Add(s *Step, l *Load, m Met, length int, lossless float64) *Outcome {
	o := Outcome{Step: s.Name, DSCP: l.DSCP.Name(), OfferedBs: int64(l.Rate), Sent: m.Sent, Arrived: m.Arrived, Holds: true}
	if m.Sent > 0 {
		o.Loss = max(0, float64(m.Sent-m.Arrived)/float64(m.Sent))
	}
	passes := float64(l.Passes) / 8 * m.Over.Seconds()
	switch arrived := float64(m.Arrived) * float64(length); {
	case m.Sent == 0:
		o.Holds, o.Why = false, words.NothingSent.With()
	case s.Slow(l, m, length):
		o.Holds, o.Why = false, words.SentTooSlowly.With(unit.Rate(float64(m.Sent)*float64(8*length)/m.Over.Seconds()))
	case s.Kind != Beyond && o.Loss > lossless:
		o.Holds, o.Why = false, words.LostWithinContract.With(words.Part(o.Loss))
	case s.Kind == Beyond && arrived > (passes+float64(l.Room))*(1+tolerance)+float64(length):
		o.Holds, o.Why = false, words.MoreThanContract.With(unit.Rate(arrived*8/m.Over.Seconds()), l.Passes)
	case s.Kind == Beyond && arrived < passes*(1-tolerance):
		o.Holds, o.Why = false, words.LessThanContract.With(unit.Rate(arrived*8/m.Over.Seconds()), l.Passes)
	}
	if r.Holds = len(r.Steps) == 0 && o.Holds || r.Holds && o.Holds; s.Kind == InBurst {
		o.OfferedBs = 0
	}
	r.Steps = append(r.Steps, o)
	return &r.Steps[len(r.Steps)-1]
}
