package policy

import (
	"cmp"
	"net/netip"
	"time"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/unit"
)

// A Network is nodes and the links between their interfaces.
type Network struct {
	Source
	Nodes   []Node
	Links   []*Link
	Tunnels []Tunnel
	Bundles []Bundle
}

// A Bundle is links between the same two nodes that are one to the routes. The flows are spread over them by a hash.
type Bundle struct {
	Source
	Name        string
	MemberNames []Ref
	ByPair      bool // the hash is of the addresses alone

	Members []*Interface // all of one node
}

// A Node is a router or a switch: packets cross it from one interface to another.
type Node struct {
	Source
	Name       string
	Interfaces []*Interface
	Filters    bool // it sends no ICMP and lets none pass, so senders do not learn that a packet is too large
}

// Subnets returns the prefixes of all hosts at the node: what `here` means there.
func (n *Node) Subnets() []netip.Prefix {
	var all []netip.Prefix
	for _, iface := range n.Interfaces {
		if !iface.Own {
			all = append(all, iface.Subnets...)
		}
	}
	return all
}

// A NAT says where an interface translates addresses, seen from its policies. The zero NAT is nowhere.
type NAT uint8

// Where addresses are translated.
const (
	NoNAT        NAT = iota
	BeforePolicy     // before the outgoing policy, which sees the interface's address, and after the incoming one
	AfterPolicy      // on the link's side of both, which see the hosts' own addresses
)

// NATWords are the words of the language for where addresses are translated, in their order from BeforePolicy on.
func NATWords() []string { return []string{"before-policy", "after-policy"} }

// Translated returns the address that stands for hosts beyond the interface, of the version of an address, and whether there is one.
func (i *Interface) Translated(a netip.Addr) (netip.Addr, bool) {
	if i.NAT == NoNAT {
		return a, false
	}
	for _, own := range i.Address {
		if own.Is4() == a.Is4() {
			return own, true
		}
	}
	return a, false
}

// Self is the name of the interface that leads to a node itself, and SelfRate what it sends: it is no bottleneck.
const (
	Self     = "self"
	SelfRate = 10 * unit.GbitPerSecond
)

// An Interface belongs to a node and sends at its rate, counting bytes as its
// framing says.
type Interface struct {
	Source
	Name    string
	Rate    unit.Rate
	Framing packet.Framing
	VLAN    *uint16 // it routes: what leaves has this tag; nil: it switches, tags are kept
	Subnets []netip.Prefix
	Address []netip.Addr // of the node itself, by which it speaks
	NAT     NAT          // of what it sends the source, of what comes back the destination
	Own     bool         // it leads to the node itself, which has the addresses of all its interfaces; not of the language
	Ring    int          // packets that it takes out of the policy's queues before it sends them, first come, first served; 0: the one that it sends
	MTU     int          // the longest IP packet that it sends, labels and outer headers included; 0: DefaultMTU

	Number   int // of all interfaces of the file, from 1
	Node     *Node
	Attached [2]*Attachment // by Direction; nil: no policy
	Link     *Link          // nil when hosts are all there is at it
	End      int            // which end of Link it is
}

// DefaultMTU is the longest IP packet where the file does not say: that of Ethernet (RFC 894).
const DefaultMTU = 1500

// Longest returns the length of the longest IP packet that the interface sends.
func (i *Interface) Longest() int { return cmp.Or(i.MTU, DefaultMTU) }

// Path returns the interface's name in the file, "node/interface".
func (i *Interface) Path() string { return i.Node.Name + "/" + i.Name }

// Peer returns the interface at the other end of the link, or nil.
func (i *Interface) Peer() *Interface {
	if i.Link == nil {
		return nil
	}
	return i.Link.Ends[1-i.End].Interface
}

// Carries returns what the interface can really pass on in a direction: outgoing
// the least of its rate, what its link sends and what was bought, incoming the least of its rate,
// the far port's and what the far end sends and bought.
func (i *Interface) Carries(d Direction) unit.Rate {
	rate := i.Rate
	least := func(r unit.Rate) {
		if r > 0 {
			rate = min(rate, r)
		}
	}
	switch peer := i.Peer(); {
	case peer == nil:
	case d == Out:
		least(i.Link.Ends[i.End].Sends)
		least(i.Link.Ends[i.End].Bought())
		least(i.Link.HalfDuplex)
	default:
		least(peer.Rate)
		least(i.Link.Ends[1-i.End].Sends)
		least(i.Link.Ends[1-i.End].Bought())
		least(i.Link.HalfDuplex)
	}
	return rate
}

// A Link joins two interfaces.
type Link struct {
	Source
	Ends   []LinkEnd
	Delay  time.Duration
	Loss   LinkLoss
	Jitter LinkJitter
	MTU    int // of both ends that have none of their own; 0: DefaultMTU
	Cost   int // of the routes over it, in both directions; 0: 1
	// HalfDuplex is the rate that both directions share, one packet at a time, first come, first served, with TurnAround between two of different
	// directions; 0: each direction has a rate of its own.
	HalfDuplex unit.Rate
	TurnAround time.Duration
}

// Costs returns the cost of the routes over the link.
func (l *Link) Costs() int { return max(l.Cost, 1) }

// LinkLoss is how much of what a link carries gets lost on it, in either direction. The zero LinkLoss
// is none.
type LinkLoss struct {
	Source
	Part  float64 // of the packets
	Burst float64 // how many in a row on average; 0: each for itself, at random
}

// LinkJitter is a delay beyond that of the link, of each packet anew, in either direction. The
// zero LinkJitter is none.
type LinkJitter struct {
	Source
	Mean     time.Duration
	Kind     JitterKind
	Overtake bool // packets may overtake others; otherwise each waits for the one before it
}

// A JitterKind is how the delays of a jitter are distributed.
type JitterKind uint8

// The kinds of jitter. Even is the zero JitterKind.
const (
	Even        JitterKind = iota // from 0 to twice the mean, all equally likely
	Exponential                   // most are short
	HeavyTailed                   // most are very short and a few very long
)

// JitterWords are the words of the language for the kinds of jitter, in their order.
func JitterWords() []string { return []string{"even", "exponential", "heavy-tailed"} }

func (k JitterKind) String() string { return JitterWords()[k] }

// A LinkEnd is one end of a link and what the link carries away from it.
type LinkEnd struct {
	Source
	AtName  Ref
	Sends   unit.Rate       // 0: the interface's rate
	Buffer  time.Duration   // of the carrier's queue
	Framing *packet.Framing // how the carrier counts bytes; nil: as the interface
	// Contract is what was bought of the carrier, who meters what comes from this end; nil: it meters nothing.
	Contract []ContractLine

	Interface *Interface
}

// A ContractLine is what was bought for some code points, or for all that the lines before it do not name.
type ContractLine struct {
	Source
	DSCPs  []codepoint.DSCP // empty: the others
	ByDEI  bool             // with Aware, the colour that packets arrive with is their DEI, not the drop precedence of their DSCP
	Police                  // of absolute rates
}

// Marks returns the names of the line's code points.
func (c *ContractLine) Marks() []string {
	var names []string
	for _, d := range c.DSCPs {
		names = append(names, d.Name())
	}
	return names
}

// Bought returns the rate that a contract lets pass for good; 0: there is none.
func (e *LinkEnd) Bought() unit.Rate {
	sum := unit.Rate(0)
	for i := range e.Contract {
		sum += e.Contract[i].Rate.Rate
	}
	return sum
}

// Counts returns how the carrier counts bytes.
func (e *LinkEnd) Counts() packet.Framing {
	if e.Framing != nil {
		return *e.Framing
	}
	return e.Interface.Framing
}

// DefaultBuffer is how much the carrier's queue holds when the file does not
// say: 100 ms is a common depth of provider equipment.
const DefaultBuffer = 100 * time.Millisecond

// Carrier returns the rate at which the carrier takes packets from this end and how
// it counts them, and whether that is ever slower than the interface itself.
func (e *LinkEnd) Carrier() (rate unit.Rate, framing packet.Framing, slower bool) {
	iface := e.Interface
	rate, framing = iface.Rate, e.Counts()
	if e.Sends > 0 {
		rate = e.Sends
	}
	if l := iface.Link; l != nil && l.HalfDuplex > 0 {
		return l.HalfDuplex, framing, true
	}
	return rate, framing, e.SlowerAt(rate)
}

// SlowerAt reports whether a carrier that takes packets from this end at a rate is ever slower than the interface itself.
func (e *LinkEnd) SlowerAt(rate unit.Rate) bool {
	iface := e.Interface
	return rate < iface.Rate || rate == iface.Rate && e.Counts() != iface.Framing && e.Contract == nil // a contract counts, and lets nothing wait
}

// A Tunnel carries packets from the first node of Through to the last under
// another header: a label stack, one way, or an outer IP header, both ways.
type Tunnel struct {
	Source
	Name        string
	Kind        TunnelKind
	ThroughName []Ref
	Labels      int // of MPLS; at least 1
	Model       TunnelModel
	Pop         Pop // of MPLS
	From, To    netip.Addr
	MSS         int  // the most that its ends let the SYNs within it offer; 0: they leave them as they are
	Window      int  // of IPsec: how many packets one may come late, by its sequence number; 0: the receiver looks at none
	SAPerClass  bool // of IPsec: each class of the policy where a packet enters has sequence numbers of its own
	ClearDF     bool // its outer packets may be fragmented, whatever those within say

	Through []*Node
}

// DefaultWindow is the replay window where the file does not say (RFC 4303 §3.4.3).
const DefaultWindow = 64

// A TunnelKind is what a tunnel puts around a packet.
type TunnelKind uint8

// The kinds of tunnels.
const (
	MPLS  TunnelKind = iota // labels, RFC 3031
	GRE                     // RFC 2784
	IPsec                   // ESP in tunnel mode, RFC 4303
)

// TunnelKindWords are the words of the language for the kinds, in their order.
func TunnelKindWords() []string { return []string{"mpls", "gre", "ipsec"} }

func (k TunnelKind) String() string { return TunnelKindWords()[k] }

// A TunnelModel is what of the outer marking a packet keeps (RFC 3270 §2.6, RFC
// 2983 §3).
type TunnelModel uint8

// The models. Pipe is the zero TunnelModel.
const (
	Pipe TunnelModel = iota
	ShortPipe
	Uniform
)

// TunnelModelWords are the words of the language for the models, in their order.
func TunnelModelWords() []string { return []string{"pipe", "short-pipe", "uniform"} }

func (m TunnelModel) String() string { return TunnelModelWords()[m] }

// A Pop says which node takes the topmost label off.
type Pop uint8

// Where the topmost label is popped. Penultimate is the zero Pop.
const (
	Penultimate Pop = iota
	Ultimate
)

// PopWords are the words of the language for where a label is popped, in order.
func PopWords() []string { return []string{"penultimate", "ultimate"} }

// Towards returns the node's interface whose link ends at another node, the
// first in the order of the file, or nil.
func (n *Node) Towards(other *Node) *Interface {
	for _, iface := range n.Interfaces {
		if peer := iface.Peer(); peer != nil && peer.Node == other {
			return iface
		}
	}
	return nil
}

// InterfaceName returns the path of the interface of a number, from 1, or the
// number when there is none.
func (f *File) InterfaceName(number int32) string {
	for i := range f.Network.Nodes {
		for _, iface := range f.Network.Nodes[i].Interfaces {
			if iface.Number == int(number) {
				return iface.Path()
			}
		}
	}
	return "interface " + itoa(int(number))
}

// ClassNames returns the names of all classes in the order of the file, the
// rest last.
func (f *File) ClassNames() []string {
	names := make([]string, 0, len(f.Classes)+1)
	for i := range f.Classes {
		names = append(names, f.Classes[i].Name)
	}
	return append(names, Rest)
}
