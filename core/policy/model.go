package policy

import (
	"net/netip"
	"time"

	"imbrel/core/codepoint"
	"imbrel/core/packet"
	"imbrel/core/unit"
)

// Rest is the name of the default class: it takes what no class matches.
const Rest = "rest"

// A File is a whole policy file, validated. It is only read once Read has
// returned it.
type File struct {
	Source
	Version    int
	Title      string
	Groups     []Group
	Apps       []App // the file's own, then those of the catalogue
	Maps       []Map
	Times      []Span
	Classes    []Class
	Policies   []Policy
	Attach     []Attachment
	Network    Network
	Rehearsals []Rehearsal

	classes map[string]int // index by name
}

// A Group is a named set of addresses.
type Group struct {
	Source
	Name      string
	Addresses Addresses
}

// Addresses are addresses, prefixes and groups as written, and the prefixes
// they come to.
type Addresses struct {
	Given    []Ref
	Prefixes []netip.Prefix
}

// An App is what an application looks like on the wire.
type App struct {
	Source
	Name        string
	Number      int // in File.Apps
	TCP, UDP    []PortRange
	Protocols   []uint8  // of the catalogue: applications without ports
	ServerNames []string // patterns: "*.weather.example" is any name below, not the name itself
	LooksLike   string   // "rtp" or ""
	What        string   // of the catalogue: what it is
}

// Recognised reports whether the application is told by more than a packet's
// protocol and ports.
func (a *App) Recognised() bool { return len(a.ServerNames) > 0 || a.LooksLike != "" }

// A Map turns one DSCP into another; those it does not name stay.
type Map struct {
	Source
	Name string
	To   [codepoint.MaxDSCP + 1]codepoint.DSCP
}

// A Span is a named time: on the given days, from one minute of the day to
// another (over midnight when To is not later), in a time zone.
type Span struct {
	Source
	Name     string
	Days     [7]bool // by time.Weekday
	From, To int     // minutes
	Zone     *time.Location

	zone Ref
}

// A PortRange is the ports from First to Last, both included.
type PortRange struct{ First, Last uint16 }

// A Class is a predicate on packets: any of Match holds and none of Except.
type Class struct {
	Source
	Name   string
	Match  []Condition
	Except []Condition
}

// A Condition holds for a packet when every part that was given does.
type Condition struct {
	Source
	From, To               *Addresses
	Protocol               []uint8
	Port, FromPort, ToPort []PortRange
	App                    []Ref
	DSCP                   []codepoint.DSCP
	Precedence, PCP, TC    []uint8
	VLAN                   []PortRange
	InName                 []Ref
	Length                 []PortRange // of the IP packet
	EtherType              []uint16

	Apps []*App       // what App names
	In   []*Interface // what InName names
}

// A Policy is an ordered list of entries and the rate they share.
type Policy struct {
	Source
	Name  string
	Shape unit.Rate // 0: the interface's rate
	Treat []Entry
}

// An Entry is what a policy does with one class.
type Entry struct {
	Source
	ClassName Ref
	Class     *Class // nil for the rest
	Mark      *Mark
	Priority  int // 0: none; 1 is the most urgent
	Police    *Police
	AtLeast   unit.Share
	AtMost    unit.Share
	Above     *Burst // above AtMost, for a while
	Weight    int    // 0: not given
	Queue     QueueSpec
	Each      []string
	When      *When
	Block     bool
	Treat     []Entry // within this entry
	Inside    Ref     // or the policy whose entries are
	Within    *Policy // what Inside names
}

// Inner returns the entries within this one.
func (e *Entry) Inner() []Entry {
	if e.Within != nil {
		return e.Within.Treat
	}
	return e.Treat
}

// A Mark is what a packet is marked with: at each layer a value or nothing.
type Mark struct {
	Source
	DSCP       *codepoint.DSCP
	Precedence *uint8 // the upper three bits of the DSCP; the lower stay
	PCP, TC    *uint8
	DEI        *bool
	MapName    Ref
	Map        *Map // of DSCPs
}

// Police is a meter and what is done with each colour. Without Peak and Excess
// it is a token bucket.
type Police struct {
	Source
	Rate      unit.Share
	Burst     unit.Size
	Excess    unit.Size  // of the second bucket: srTCM
	Peak      unit.Share // of the second bucket: trTCM
	PeakBurst unit.Size
	Aware     bool // of the colour packets arrive with
	Green     Action
	Yellow    Action
	Red       Action // when not given: drop
}

// An Action is what is done with the packets of a colour. The zero Action
// passes them on.
type Action struct {
	Source
	Drop bool
	Mark *Mark
}

// A Burst lets an entry go above its at-most up to To for a time.
type Burst struct {
	Source
	To  unit.Share
	For time.Duration
}

// A When says when an entry is there: in a named time, or under pressure.
type When struct {
	Source
	TimeName     Ref
	Time         *Span
	Starts, Ends Pressure // of the load of the interface; both set or none
	Pressed      bool     // Starts and Ends are given
}

// A Pressure is a load of the interface that lasts.
type Pressure struct {
	Source
	Load unit.Share
	For  time.Duration
}

// A QueueSpec is how much may wait, and what is dropped; at most one of the
// limits is set.
type QueueSpec struct {
	Source
	Time    time.Duration
	Bytes   unit.Size
	Packets int
	Drop    string // tail, red, codel, fq-codel; "" is tail
	ECN     bool
}

// Direction is the way packets cross an interface, seen from its node.
type Direction uint8

// In is towards the node, Out away from it.
const (
	In Direction = iota
	Out
)

func (d Direction) String() string { return [...]string{"in", "out"}[d] }

// An Attachment puts a policy on an interface in one direction.
type Attachment struct {
	Source
	PolicyName Ref
	AtName     Ref
	Direction  Direction

	Policy    *Policy
	Interface *Interface
}

// A Network is nodes and the links between their interfaces.
type Network struct {
	Source
	Nodes   []NetworkNode
	Links   []Link
	Tunnels []Tunnel
}

// A NetworkNode is a router: packets cross it from one interface to another.
type NetworkNode struct {
	Source
	Name       string
	Interfaces []Interface
}

// An Interface belongs to a node and sends at its rate, counting bytes as its
// framing says.
type Interface struct {
	Source
	Name    string
	Rate    unit.Rate
	Framing packet.Framing
	Subnets []netip.Prefix

	Number int // of all interfaces of the file, from 1
	Node   *NetworkNode
	Link   *Link // nil when hosts are all there is behind it
	End    int   // which end of Link it is
}

// Path returns the interface's name in the file, "node/interface".
func (i *Interface) Path() string { return i.Node.Name + "/" + i.Name }

// A Link joins two interfaces.
type Link struct {
	Source
	Ends  []LinkEnd
	Delay time.Duration
}

// A LinkEnd is one end of a link and what the link carries away from it.
type LinkEnd struct {
	Source
	AtName Ref
	Sends  unit.Rate     // 0: the interface's rate
	Buffer time.Duration // of the carrier's queue, when Sends is less than the rate

	Interface *Interface
}

// A Tunnel carries packets from the first node of Through to the last under
// another header: a label stack, one way, or an outer IP header, both ways.
type Tunnel struct {
	Source
	Name        string
	Kind        string // mpls, gre or ipsec
	ThroughName []Ref
	Labels      int    // of mpls; 1 when not given
	Model       string // uniform, pipe or short-pipe: RFC 3270 §2.6, RFC 2983 §3
	Pop         string // of mpls: penultimate (when not given) or ultimate
	From, To    netip.Addr

	Through []*NetworkNode
}

// DefaultBuffer is how much the carrier's queue holds when the file does not
// say: 100 ms is a common depth of provider equipment.
const DefaultBuffer = 100 * time.Millisecond

// A Rehearsal is traffic to send through the network and what to expect of it.
type Rehearsal struct {
	Source
	Name    string
	Lasts   time.Duration
	StartAt time.Time // zero when not given
	Traffic []Traffic
	Expect  []Expectation
}

// Traffic is one source or a number of like ones. Which of Calls, Rate and
// Capture is set tells its kind.
type Traffic struct {
	Source
	Name string

	Calls   int
	Codec   string
	Between []netip.Addr
	Playout time.Duration

	Rate     unit.Rate // of IP bytes
	Packet   unit.Size // the IP packet's length
	Poisson  bool      // arrivals; otherwise evenly spaced
	From, To netip.Addr
	Protocol uint8
	FromPort uint16
	ToPort   uint16

	TCP int // a number of flows

	Capture    string // the file, relative to the policy file
	EntersName Ref
	Enters     *Interface

	DSCP   codepoint.DSCP
	Starts time.Duration
	Lasts  time.Duration // 0: to the end of the rehearsal
}

// DefaultPlayout is the listener's playout buffer when the traffic does not
// say.
const DefaultPlayout = 40 * time.Millisecond
