package live

import (
	"time"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/measure"
)

// An AnswerConfig says how an answering end listens.
type AnswerConfig struct {
	Address string // host:port
	Media   int    // the port of calls' packets, and the one after it of their reports; 0: any
	Key     []byte // who does not have it is not answered; empty: none is needed
	Notice  func(text string)
}

// A ProbeConfig says what is probed.
type ProbeConfig struct {
	Address  string // host:port
	DSCPs    []codepoint.DSCP
	Count    int // of probes for each
	Interval time.Duration
	Wait     time.Duration // for the last answers
	Key      []byte
}

// A ProbeReport is what came of probing.
type ProbeReport struct {
	Imbrel int      `json:"imbrel"`
	To     string   `json:"to"`
	Probes []Probed `json:"probes"`
	Wrong  int      `json:"not_accepted"` // packets that were no answers, or not with the key, or say what cannot be
	// Nothing says, when no probe came back, what became of a hello: NothingAnswered, NothingLost or NothingRefused.
	Nothing string `json:"nothing_because,omitempty"`
	Refusal string `json:"refusal,omitempty"` // in the far end's words
}

// Why nothing comes back of probes.
const (
	NothingAnswered = "silence" // a hello is not answered either
	NothingLost     = "network" // the far end answers a hello: probes, or what answers them, are lost
	NothingRefused  = "refused" // the far end says that it does not answer
)

// Probed is what came of the probes with one codepoint.
type Probed struct {
	DSCP      string                `json:"dscp"`
	Sent      int                   `json:"sent"`
	Arrived   int                   `json:"arrived"`  // at the far end, by its own count
	Returned  int                   `json:"returned"` // as answers
	ArrivesAs map[string]int        `json:"arrives_as"`
	ReturnsAs map[string]int        `json:"returns_as"`
	TooMany   bool                  `json:"far_end_counts_too_many,omitempty"` // probes: more than were sent
	Refused   int                   `json:"refused"`                           // answers that the far end does not send with the wanted codepoint
	Hops      int                   `json:"ttl"`                               // with which the last probe arrived, of 255
	RoundTrip *measure.Milliseconds `json:"round_trip_ms"`
	There     *measure.Milliseconds `json:"forward_ms"` // as right as the two clocks agree
	Back      *measure.Milliseconds `json:"reverse_ms"`
}
