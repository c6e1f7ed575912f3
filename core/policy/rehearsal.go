package policy

import (
	"net/netip"
	"time"

	"imbrel/core/codec"
	"imbrel/core/codepoint"
	"imbrel/core/unit"
)

// A Load is traffic with a name, for several rehearsals.
type Load struct {
	Source
	Name    string
	Traffic []Traffic
	Taken   bool // by some rehearsal
}

// A Rehearsal is traffic to send through the network and what to expect of it.
type Rehearsal struct {
	Source
	Name    string
	Lasts   time.Duration
	StartAt time.Time // zero when not given
	Traffic []Traffic // its own and that of the loads it takes, in the order of the file
	Expect  []Expectation
}

// A TrafficKind is what a traffic sends.
type TrafficKind uint8

// The kinds of traffic.
const (
	Stream   TrafficKind = iota // packets at a rate, one way
	Calls                       // calls, both ways
	TCPFlows                    // flows of TCP, one way
	Replay                      // a capture
)

// Traffic is one source or a number of like ones. Kind says which of the fields
// count.
type Traffic struct {
	Source
	Name string
	Kind TrafficKind

	Calls   int
	Codec   codec.Codec
	Playout time.Duration

	Rate    unit.Rate // of IP bytes
	Packet  unit.Size // the IP packet's length
	Poisson bool      // arrivals; otherwise evenly spaced

	Flows int // of TCP

	From, To         netip.Addr // of calls, the two ends
	Protocol         uint8
	FromPort, ToPort uint16 // of calls, 0: the even ports from FirstCallPort
	VLAN             *uint16
	PCP              *uint8
	ECN              bool // its packets say that their transport understands congestion marks

	Capture    string // the file, relative to the policy file
	EntersName Ref
	Enters     *Interface

	DSCP   codepoint.DSCP
	Starts time.Duration
	Lasts  time.Duration // 0: to the end of the rehearsal
}

// Tagged reports whether the traffic's hosts put a VLAN tag on what they send.
func (t *Traffic) Tagged() bool { return t.VLAN != nil || t.PCP != nil }

// FirstCallPort is the port of the first call when the traffic does not say.
const FirstCallPort = 16384

// DefaultPlayout is the listener's playout buffer when the traffic does not
// say.
const DefaultPlayout = 40 * time.Millisecond

// DefaultVLAN is the VLAN of a tag that nothing names.
const DefaultVLAN = 1
