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
	Stream    TrafficKind = iota // packets at a rate, one way
	Calls                        // calls, both ways
	TCPFlows                     // flows of TCP, one way
	Exchanges                    // requests and their answers, over TCP
	Pages                        // pages of several objects, over TCP
	Replay                       // a capture
)

// OverTCP reports whether the kind's packets are those of TCP flows at work.
func (k TrafficKind) OverTCP() bool { return k == TCPFlows || k == Exchanges || k == Pages }

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

	// Of flows of TCP
	Flows         int       // or clients, of Exchanges and Pages
	Bytes         unit.Size // of each flow, 0: for ever; of each answer or object, the mean
	AppRate       unit.Rate // that the application writes at; 0: as fast as it goes
	NewReno       bool      // otherwise CUBIC
	Paced         bool
	EveryACK      bool      // otherwise every other segment is acknowledged
	ReceiveWindow unit.Size // 0: the usual one
	InitialWindow int       // segments; 0: the usual one
	Request       unit.Size // of Exchanges and Pages
	Think         time.Duration
	Objects       int // of a page
	Connections   int // that fetch them at a time

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

// BothWays reports whether the traffic sends in both directions.
func (t *Traffic) BothWays() bool { return t.Kind == Calls || t.Kind.OverTCP() }

// Back reports whether its data goes from To to From.
func (t *Traffic) Back() bool { return t.Kind == Exchanges || t.Kind == Pages }

// Tagged reports whether the traffic's hosts put a VLAN tag on what they send.
func (t *Traffic) Tagged() bool { return t.VLAN != nil || t.PCP != nil }

// FirstEphemeral is the first of the ports that connections are opened from (RFC 6335 §6).
const FirstEphemeral = 49152

// FromOpens reports whether the end at From opens the connections of a traffic over TCP: the
// end whose port is given waits for them.
func (t *Traffic) FromOpens() bool { return t.Back() || t.FromPort == 0 || t.ToPort != 0 }

// FirstPorts returns the ports of its first flow.
func (t *Traffic) FirstPorts() (from, to uint16) {
	from, to = t.FromPort, t.ToPort
	if t.Kind.OverTCP() {
		if open := t.FromOpens(); open && from == 0 {
			from = FirstEphemeral
		} else if !open && to == 0 {
			to = FirstEphemeral
		}
	}
	return from, to
}

// FirstCallPort is the port of the first call when the traffic does not say.
const FirstCallPort = 16384

// DefaultPlayout is the listener's playout buffer when the traffic does not
// say.
const DefaultPlayout = 40 * time.Millisecond

// DefaultVLAN is the VLAN of a tag that nothing names.
const DefaultVLAN = 1
