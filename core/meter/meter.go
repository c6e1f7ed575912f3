package meter

import (
	"fmt"
	"time"

	"imbrel.example/imbrel/core/unit"
)

// Color is what a meter says of a packet. The zero Color is Green.
type Color uint8

// The colours, in the order in which packets are dropped last to first.
const (
	Green Color = iota
	Yellow
	Red
)

// String returns the colour as a word, or the number where it is no colour.
func (c Color) String() string {
	if c > Red {
		return fmt.Sprintf("color %d", uint8(c))
	}
	return [...]string{"green", "yellow", "red"}[c]
}

// Kind is the rule by which a Meter goes.
type Kind uint8

const (
	// SingleBucket is one token bucket: green or red.
	SingleBucket Kind = iota
	// SingleRate is the single rate three color marker, RFC 2697: what the
	// committed bucket cannot hold overflows into the excess bucket.
	SingleRate
	// TwoRate is the two rate three color marker, RFC 2698: a bucket of the peak
	// rate that every packet must pass, and one of the committed rate.
	TwoRate
	// TwoRateExcess is the marker of RFC 4115: the committed rate and, beside
	// it, an excess rate.
	TwoRateExcess
)

// A Meter colours packets. It is made by the constructor of its kind.
type Meter struct {
	Aware     bool // of the colour that packets arrive with
	kind      Kind
	committed TokenBucket // CIR, CBS
	second    TokenBucket // EBS without a rate of its own; PIR and PBS; EIR and EBS
}

// New returns a token bucket: green up to rate and burst, else red.
func New(rate unit.Rate, burst unit.Size, aware bool) Meter {
	return Meter{committed: NewTokenBucket(rate, burst), Aware: aware}
}

// NewSingleRate returns a srTCM (RFC 2697 §3) of CIR, CBS and EBS.
func NewSingleRate(cir unit.Rate, cbs, ebs unit.Size, aware bool) Meter {
	m := Meter{kind: SingleRate, Aware: aware, committed: NewTokenBucket(cir, cbs), second: NewTokenBucket(cir, ebs)}
	m.second.rate = 0 // it has what overflows from the first
	return m
}

// NewTwoRate returns a trTCM (RFC 2698 §3) of PIR, PBS, CIR and CBS.
func NewTwoRate(pir unit.Rate, pbs unit.Size, cir unit.Rate, cbs unit.Size, aware bool) Meter {
	return Meter{kind: TwoRate, Aware: aware, committed: NewTokenBucket(cir, cbs), second: NewTokenBucket(pir, pbs)}
}

// NewTwoRateExcess returns the marker of RFC 4115 of CIR, CBS, EIR and EBS.
func NewTwoRateExcess(cir unit.Rate, cbs unit.Size, eir unit.Rate, ebs unit.Size, aware bool) Meter {
	return Meter{kind: TwoRateExcess, Aware: aware, committed: NewTokenBucket(cir, cbs), second: NewTokenBucket(eir, ebs)}
}

// Measure colours a packet of size bytes. A colour-aware meter never gives a
// better colour than the packet arrives with; a colour-blind one takes every
// packet as green.
func (m *Meter) Measure(now time.Duration, size int, arrives Color) Color {
	if !m.Aware {
		arrives = Green
	}
	switch m.kind {
	case SingleRate:
		return m.singleRate(now, size, arrives)
	case TwoRate:
		m.committed.refill(now)
		m.second.refill(now)
		switch {
		case arrives == Red || !m.second.holds(size):
			return Red
		case arrives == Yellow || !m.committed.holds(size):
			m.second.pay(size)
			return Yellow
		}
		m.second.pay(size)
		m.committed.pay(size)
		return Green
	case TwoRateExcess:
		m.committed.refill(now)
		m.second.refill(now)
		return m.eitherBucket(size, arrives)
	}
	if arrives == Green && m.committed.Take(now, size) {
		return Green
	}
	return Red
}

// Fits reports whether a packet of size bytes can be anything but red, however
// full the buckets are.
func (m *Meter) Fits(size int) bool {
	need := uint64(size) * perByte
	switch m.kind {
	case SingleBucket:
		return need <= m.committed.size
	case TwoRate:
		return need <= m.second.size
	}
	return need <= max(m.committed.size, m.second.size)
}

func (m *Meter) singleRate(now time.Duration, size int, arrives Color) Color {
	over := m.committed.refill(now)
	m.second.tokens = min(m.second.size, m.second.tokens+min(over, m.second.size))
	return m.eitherBucket(size, arrives)
}

// eitherBucket pays from the committed bucket, else from the second.
func (m *Meter) eitherBucket(size int, arrives Color) Color {
	switch {
	case arrives == Green && m.committed.holds(size):
		m.committed.pay(size)
		return Green
	case arrives != Red && m.second.holds(size):
		m.second.pay(size)
		return Yellow
	}
	return Red
}
