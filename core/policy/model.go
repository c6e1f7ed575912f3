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
	Apps       []App
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
	Name     string
	TCP, UDP []PortRange
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

	Apps []*App // what App names
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
	Mark      *codepoint.DSCP
	Priority  int // 0: none; 1 is the most urgent
	Police    *Police
	AtLeast   unit.Share
	AtMost    unit.Share
	Weight    int // 0: not given
	Queue     QueueSpec
}

// Police is a token bucket: what exceeds it is dropped.
type Police struct {
	Source
	Rate  unit.Share
	Burst unit.Size
}

// A QueueSpec is how much may wait; at most one of the limits is set.
type QueueSpec struct {
	Source
	Time    time.Duration
	Bytes   unit.Size
	Packets int
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
	Nodes []NetworkNode
	Links []Link
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

	Node *NetworkNode
	Link *Link // nil when hosts are all there is behind it
	End  int   // which end of Link it is
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

// DefaultBuffer is how much the carrier's queue holds when the file does not
// say: 100 ms is a common depth of provider equipment.
const DefaultBuffer = 100 * time.Millisecond

// A Rehearsal is traffic to send through the network and what to expect of it.
type Rehearsal struct {
	Source
	Name    string
	Lasts   time.Duration
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
