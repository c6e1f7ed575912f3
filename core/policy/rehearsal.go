package policy

import (
	"net/netip"
	"time"

	"imbrel.example/imbrel/core/codec"
	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/unit"
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
	WarmUp  time.Duration // from the start, in which nothing is measured
	StartAt time.Time     // zero when not given
	Traffic []Traffic     // its own and that of the loads it takes, in the order of the file
	Events  []Event
	Fails   *Link // it carries nothing all the time, and the routes know it; nil: none; not of the language
	Expect  []Expectation
}

// A TrafficKind is what a traffic sends.
type TrafficKind uint8

// The kinds of traffic.
const (
	Stream        TrafficKind = iota // packets at a rate, one way
	Calls                            // calls, both ways
	TCPFlows                         // flows of TCP, one way
	Exchanges                        // requests and their answers, over TCP
	Pages                            // pages of several objects, over TCP
	Video                            // frames of a picture, one way
	Hellos                           // hellos between two nodes, both ways
	Conversations                    // the TCP conversations of a capture, at work; not of the language
	Replay                           // a capture
)

// A TrafficKindRow holds what all traffic of one kind has in common.
type TrafficKindRow struct {
	Name     string // for people
	Protocol uint8  // of its packets; 0: the file or the capture says
	BothWays bool   // it sends in both directions
	Answers  bool   // its data goes from To to From
	OverTCP  bool   // its packets are those of TCP flows at work
	RTP      bool   // its packets carry RTP
	OwnClock bool   // its senders have clocks of their own
	Ends     string // what begins and ends, where that is more than the traffic itself
}

var trafficKinds = [...]TrafficKindRow{
	Stream:        {Name: "stream", OwnClock: true},
	Calls:         {Name: "calls", Protocol: packet.UDP, BothWays: true, RTP: true, OwnClock: true},
	TCPFlows:      {Name: "tcp", Protocol: packet.TCP, BothWays: true, OverTCP: true, Ends: "transfers"},
	Exchanges:     {Name: "requests", Protocol: packet.TCP, BothWays: true, Answers: true, OverTCP: true, Ends: "requests"},
	Pages:         {Name: "pages", Protocol: packet.TCP, BothWays: true, Answers: true, OverTCP: true, Ends: "pages"},
	Video:         {Name: "video", Protocol: packet.UDP, RTP: true, OwnClock: true},
	Hellos:        {Name: "hellos", BothWays: true},
	Conversations: {Name: "conversations", Protocol: packet.TCP, BothWays: true, OverTCP: true, Ends: "conversations"},
	Replay:        {Name: "capture"},
}

// TrafficKinds returns the number of kinds: they are 0 to TrafficKinds()-1.
func TrafficKinds() TrafficKind { return TrafficKind(len(trafficKinds)) }

// Row returns what all traffic of the kind has in common.
func (k TrafficKind) Row() *TrafficKindRow { return &trafficKinds[k] }

// OverTCP reports whether the kind's packets are those of TCP flows at work.
func (k TrafficKind) OverTCP() bool { return k.Row().OverTCP }

// Traffic is one source or a number of like ones. Kind says which of the fields
// count.
type Traffic struct {
	Source
	Name string
	Kind TrafficKind

	Calls   int // with Erlangs, that number rounded
	Codec   codec.Codec
	Playout time.Duration
	// PlayoutMost is up to what the playout buffer grows, from Playout on; 0: it is Playout always.
	PlayoutMost time.Duration
	Admit       int // with Erlangs, how many calls are held at most: others are refused; 0: all are held
	// Erlangs is how many calls there are on average, which come at random and hold for
	// Holding on average; 0: Calls, all the time.
	Erlangs float64
	Holding time.Duration
	Speech  float64 // the part of the time in which each end talks; 0: silence is sent too
	RTCP    bool

	// Every is the time between the hellos of a node, and Dead how long its neighbour waits for one before it gives it up.
	Every, Dead time.Duration

	Rate     unit.Rate // of IP bytes; of Video, the mean
	Packet   unit.Size // the IP packet's length, of Video the longest
	Arrivals Arrivals
	// Skew is by how many parts in a million the clocks of its senders are off at most. Where it is not 0, each
	// packet is late by up to the time of one at the slowest queue on its way. 0: clocks are exact.
	Skew int
	// Phase is how long after Starts its senders begin; nil: each at a moment drawn from the seed.
	Phase   *time.Duration
	On, Off time.Duration // of OnOff: the mean times
	Varied  bool          // lengths are exponentially distributed, and Packet is their mean
	// Frames are those of a Video, a second, and KeyFrames the time from one key frame to the
	// next; 0: there are none.
	Frames    int
	KeyFrames time.Duration
	Ramp      *Ramp // of Calls or Rate, which are where it ends; nil: there is none

	Speed float64 // of a capture, against its own; 0: the same
	Loop  bool    // the capture begins again at its end

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
	// ServerName is what the client of each connection asks for in its first bytes: "" nothing, they are zeros.
	ServerName string

	From, To         netip.Addr // of calls, the two ends
	Protocol         uint8
	FromPort, ToPort uint16 // of calls, 0: the even ports from FirstCallPort
	VLAN             *uint16
	PCP              *uint8
	ECN              bool // its packets say that their transport understands congestion marks
	MayFragment      bool // its packets of IPv4 may be divided on their way: DF is not set

	Capture    string // the file, relative to the policy file
	EntersName Ref
	Enters     *Interface

	DSCP   codepoint.DSCP
	Starts time.Duration
	Lasts  time.Duration // 0: to the end of the rehearsal
}

// A Ramp is a number that rises or falls evenly over a time. Then it stays.
type Ramp struct {
	Source
	FromRate  unit.Rate // of a stream
	FromCalls int       // of calls
	Over      time.Duration
}

// Arrivals say how the packets of a stream are spaced.
type Arrivals uint8

// The arrivals. Constant are the zero Arrivals.
const (
	Constant Arrivals = iota // evenly
	Poisson                  // at random, independent of each other
	OnOff                    // evenly, in bursts with pauses between them, both of heavy-tailed lengths
	Exact                    // evenly, by an exact clock
)

// DefaultSkew is the Skew that the language gives to calls, streams and video: crystals are within 50 parts
// in a million.
const DefaultSkew = 50

// ArrivalsWords are the words of the language for the arrivals, in their order.
func ArrivalsWords() []string { return []string{"constant", "poisson", "on-off", "exact"} }

func (a Arrivals) String() string { return ArrivalsWords()[a] }

// Steady reports whether a stream or calls send evenly for as long as they last: what they
// send in a while is known before.
func (t *Traffic) Steady() bool {
	return (t.Kind == Stream && t.Arrivals != OnOff || t.Kind == Calls && t.Erlangs == 0 && t.Speech == 0 && !t.RTCP) && t.Ramp == nil && !t.Varied
}

// MeanRate returns the rate that a stream, or a video, comes to on average, once its ramp is
// over.
func (t *Traffic) MeanRate() unit.Rate {
	if t.Every > 0 {
		return unit.Rate(float64(8*t.Packet) / t.Every.Seconds())
	}
	if t.Arrivals == OnOff && t.On+t.Off > 0 {
		return unit.Rate(float64(t.Rate) * (float64(t.On) / float64(t.On+t.Off)))
	}
	return t.Rate
}

// BothWays reports whether the traffic sends in both directions.
func (t *Traffic) BothWays() bool { return t.Kind.Row().BothWays }

// Directed names one direction of a traffic: `calls`, or `calls, reverse`.
func Directed(name string, reverse bool) string {
	if reverse {
		return name + ", reverse"
	}
	return name
}

// DirectionOf names a direction in results: forward, or reverse.
func DirectionOf(reverse bool) string {
	if reverse {
		return "reverse"
	}
	return "forward"
}

// Back reports whether its data goes from To to From.
func (t *Traffic) Back() bool { return t.Kind.Row().Answers }

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
