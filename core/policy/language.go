package policy

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"imbrel/core/codepoint"
	"imbrel/core/packet"
	"imbrel/core/unit"
)

// Protocols are the protocol words of the language with their numbers.
var Protocols = []struct {
	Name   string
	Number uint8
}{
	{"icmp", packet.ICMP}, {"tcp", packet.TCP}, {"udp", packet.UDP}, {"gre", packet.GRE}, {"esp", packet.ESP},
	{"ah", packet.AH}, {"icmpv6", packet.ICMPv6}, {"ospf", 89}, {"sctp", packet.SCTP},
}

// ProtocolName returns the word for a protocol number, or the number.
func ProtocolName(n uint8) string {
	for _, p := range Protocols {
		if p.Number == n {
			return p.Name
		}
	}
	return strconv.Itoa(int(n))
}

// The single values of the language.
var (
	aText = value("a text", func(s string) (string, error) {
		if len(s) > 1000 {
			return "", fmt.Errorf("a text of %d characters is too long: the most is 1000", len(s))
		}
		return s, nil
	})
	aRate     = value("a rate such as 11.4Mbit/s", unit.ParseRate)
	aSize     = value("a size such as 3kB", unit.ParseSize)
	aDuration = value("a duration such as 40ms", unit.ParseDuration)
	someTime  = value("a duration such as 40ms, more than zero", func(s string) (time.Duration, error) {
		d, err := unit.ParseDuration(s)
		if err == nil && d == 0 {
			err = fmt.Errorf("%q is no time at all", s)
		}
		return d, err
	})
	aShare    = value("a rate such as 2Mbit/s or a percentage such as 30%", unit.ParseShare)
	aDSCP     = value("a DSCP: a name such as ef or af41, or a number from 0 to 63", codepoint.ParseDSCP)
	anAddress = value("an address such as 10.44.8.20", func(s string) (netip.Addr, error) {
		a, err := netip.ParseAddr(s)
		if err != nil || a.Zone() != "" {
			return a, fmt.Errorf("%.60q is not an address", s)
		}
		return a.Unmap(), nil
	})
	aPrefix   = value("a prefix such as 10.44.8.0/22", parsePrefix)
	aProtocol = value("a protocol: udp, tcp, icmp, … or a number from 0 to 255", parseProtocol)
	ports     = value("a port such as 5060 or a range such as 7400-7410", parsePorts)
	aFraming  = value("a framing: ip, ethernet or ethernet-frame", parseFraming)
	direction = value("in or out", func(s string) (Direction, error) {
		switch s {
		case "in":
			return In, nil
		case "out":
			return Out, nil
		}
		return 0, fmt.Errorf("%.40q is not a direction", s)
	})
)

// count describes a whole number from low to high.
func count(what string, low, high int) shape[int] {
	return value(fmt.Sprintf("%s, a whole number from %d to %d", what, low, high), func(s string) (int, error) {
		n, err := strconv.Atoi(s)
		if err != nil || n < low || n > high {
			return 0, fmt.Errorf("%.40q is not a whole number from %d to %d", s, low, high)
		}
		return n, nil
	})
}

func parsePrefix(s string) (netip.Prefix, error) {
	if p, err := netip.ParsePrefix(s); err == nil {
		if p.Masked() != p {
			return p, fmt.Errorf("%s has address bits behind its length: the prefix is %s", s, p.Masked())
		}
		return p, nil
	}
	return netip.Prefix{}, fmt.Errorf("%.60q is not a prefix", s)
}

func parseProtocol(s string) (uint8, error) {
	names := make([]string, 0, len(Protocols))
	for _, p := range Protocols {
		if s == p.Name {
			return p.Number, nil
		}
		names = append(names, p.Name)
	}
	n, err := strconv.ParseUint(s, 10, 8)
	if err != nil {
		return 0, fmt.Errorf("%.40q is not a protocol; %sknown by name: %s", s, didYouMean(s, names), strings.Join(names, ", "))
	}
	return uint8(n), nil
}

func parsePorts(s string) (PortRange, error) {
	a, b, ranged := strings.Cut(s, "-")
	if !ranged {
		b = a
	}
	first, err1 := strconv.ParseUint(strings.TrimSpace(a), 10, 16)
	last, err2 := strconv.ParseUint(strings.TrimSpace(b), 10, 16)
	switch {
	case err1 != nil || err2 != nil:
		return PortRange{}, fmt.Errorf("%.40q is not a port or a range of ports from 0 to 65535", s)
	case first > last:
		return PortRange{}, fmt.Errorf("the range %s runs backwards: write %d-%d", s, last, first)
	}
	return PortRange{uint16(first), uint16(last)}, nil
}

func parseFraming(s string) (packet.Framing, error) {
	var names []string
	for _, f := range packet.Framings() {
		if f.Name == s {
			return f, nil
		}
		names = append(names, f.Name)
	}
	return packet.Framing{}, fmt.Errorf("%.40q is not a framing%s", s, strings.TrimRight("; "+didYouMean(s, names), "; "))
}

// Codecs are the codec words of the language.
var Codecs = []string{"g711", "g729"}

var (
	addresses = shape[*Addresses]{say: "an address, a prefix or a group's name, or a list of them", read: func(r *reader, n Node) (*Addresses, bool) {
		given, ok := oneOrMany(ref("an address, a prefix or a group's name")).read(r, n)
		return &Addresses{Given: given}, ok
	}}

	aGroup = shape[Group]{say: addresses.say, read: func(r *reader, n Node) (Group, bool) {
		a, ok := addresses.read(r, n)
		return Group{Source: Source{At: n.At}, Addresses: *a}, ok
	}}

	anApp = object("an application", slices.Concat([]key[App]{
		on("tcp", "its TCP ports", oneOrMany(ports), func(a *App, v []PortRange) { a.TCP = v }),
		on("udp", "its UDP ports", oneOrMany(ports), func(a *App, v []PortRange) { a.UDP = v }),
	}, later[App]("server-name", "looks-like"))...)

	aCondition = object("a condition", slices.Concat([]key[Condition]{
		on("from", "where the packet comes from", addresses, func(c *Condition, v *Addresses) { c.From = v }),
		on("to", "where the packet goes", addresses, func(c *Condition, v *Addresses) { c.To = v }),
		on("protocol", "the IP protocol", oneOrMany(aProtocol), func(c *Condition, v []uint8) { c.Protocol = v }),
		on("port", "the port at either end", oneOrMany(ports), func(c *Condition, v []PortRange) { c.Port = v }),
		on("from-port", "the sender's port", oneOrMany(ports), func(c *Condition, v []PortRange) { c.FromPort = v }),
		on("to-port", "the receiver's port", oneOrMany(ports), func(c *Condition, v []PortRange) { c.ToPort = v }),
		on("app", "an application of `apps`", oneOrMany(ref("the name of an application")), func(c *Condition, v []Ref) { c.App = v }),
		on("dscp", "the packet's DSCP", oneOrMany(aDSCP), func(c *Condition, v []codepoint.DSCP) { c.DSCP = v }),
	}, later[Condition]("precedence", "pcp", "tc", "vlan", "in", "length", "ethertype"))...)

	aClass = object("a class",
		must("name", "a name to use in `treat`", identifier("class"), func(c *Class, v Ref) { c.Name = v.Text }),
		must("match", "a list of conditions: the class takes a packet for which one of them holds", list(aCondition), func(c *Class, v []Condition) { c.Match = v }),
		on("except", "conditions under which it does not", list(aCondition), func(c *Class, v []Condition) { c.Except = v }),
	)

	aPolice = object("a policer", slices.Concat([]key[Police]{
		must("rate", "the sustained rate", aShare, func(p *Police, v unit.Share) { p.Rate = v }),
		must("burst", "the size of the token bucket: how much may come at once", aSize, func(p *Police, v unit.Size) { p.Burst = v }),
	}, later[Police]("excess-burst", "peak", "peak-burst", "aware", "green", "yellow", "red"))...)

	aQueue = object("a queue", slices.Concat([]key[QueueSpec]{
		on("limit", "how much may wait: a time such as 40ms, a size such as 30kB, or a number of packets such as 50", aLimit, func(q *QueueSpec, v QueueSpec) {
			q.Time, q.Bytes, q.Packets = v.Time, v.Bytes, v.Packets
		}),
	}, later[QueueSpec]("drop", "ecn"))...)

	aLimit = value("a time such as 40ms, a size such as 30kB, or a number of packets such as 50", func(s string) (QueueSpec, error) {
		if n, err := strconv.Atoi(s); err == nil {
			if n < 1 || n > 10_000_000 {
				return QueueSpec{}, fmt.Errorf("a limit of %d packets is out of range: 1 to 10000000", n)
			}
			return QueueSpec{Packets: n}, nil
		}
		if strings.HasSuffix(s, "B") {
			n, err := unit.ParseSize(s)
			return QueueSpec{Bytes: n}, err
		}
		d, err := unit.ParseDuration(s)
		if err == nil && d == 0 {
			err = fmt.Errorf("a limit of %s lets nothing wait; the least is one packet", s)
		}
		return QueueSpec{Time: d}, err
	})

	anEntry = object("an entry of `treat`", slices.Concat([]key[Entry]{
		must("class", "the class it treats, or `rest`", ref("the name of a class, or `rest`"), func(e *Entry, v Ref) { e.ClassName = v }),
		on("mark", "the DSCP that its packets leave with", aDSCP, func(e *Entry, v codepoint.DSCP) { e.Mark = &v }),
		on("priority", "strict priority; 1 is the most urgent", count("a priority", 1, 16), func(e *Entry, v int) { e.Priority = v }),
		on("police", "a token bucket; what exceeds it is dropped", aPolice, func(e *Entry, v Police) { e.Police = &v }),
		on("at-least", "what it is promised when everybody wants everything", aShare, func(e *Entry, v unit.Share) { e.AtLeast = v }),
		on("at-most", "a ceiling: it waits rather than send faster", aShare, func(e *Entry, v unit.Share) { e.AtMost = v }),
		on("weight", "its part of what is left over, against its neighbours'", count("a weight", 1, 1_000_000), func(e *Entry, v int) { e.Weight = v }),
		on("queue", "how much of it may wait", aQueue, func(e *Entry, v QueueSpec) { e.Queue = v }),
	}, later[Entry]("each", "when", "block", "treat", "inside"))...)

	aPolicy = object("a policy",
		must("name", "a name to use in `attach`", identifier("policy"), func(p *Policy, v Ref) { p.Name = v.Text }),
		on("shape", "the rate all its entries share; below what the link really carries", aRate, func(p *Policy, v unit.Rate) { p.Shape = v }),
		must("treat", "the list of entries, tried in order", list(anEntry), func(p *Policy, v []Entry) { p.Treat = v }),
	)

	anAttachment = object("an attachment",
		must("policy", "the name of a policy", ref("the name of a policy"), func(a *Attachment, v Ref) { a.PolicyName = v }),
		must("at", "the interface, as node/interface", ref("an interface, as node/interface"), func(a *Attachment, v Ref) { a.AtName = v }),
		must("direction", "in (towards the node) or out (away from it)", direction, func(a *Attachment, v Direction) { a.Direction = v }),
	)

	anInterface = object("an interface",
		must("name", "its name at this node", identifier("interface"), func(i *Interface, v Ref) { i.Name = v.Text }),
		must("rate", "the rate it sends at", aRate, func(i *Interface, v unit.Rate) { i.Rate = v }),
		on("framing", "what every rate on it counts: ip, ethernet (default) or ethernet-frame", aFraming, func(i *Interface, v packet.Framing) { i.Framing = v }),
		on("subnets", "the prefixes of the hosts behind it", oneOrMany(aPrefix), func(i *Interface, v []netip.Prefix) { i.Subnets = v }),
	)

	aNode = object("a node",
		must("name", "its name", identifier("node"), func(n *NetworkNode, v Ref) { n.Name = v.Text }),
		must("interfaces", "the list of its interfaces", list(anInterface), func(n *NetworkNode, v []Interface) { n.Interfaces = v }),
	)

	aLinkEnd = object("an end of a link",
		must("at", "the interface, as node/interface", ref("an interface, as node/interface"), func(e *LinkEnd, v Ref) { e.AtName = v }),
		on("sends", "what the link really carries from here; the interface's rate when not given", aRate, func(e *LinkEnd, v unit.Rate) { e.Sends = v }),
		on("buffer", "how much the carrier's queue holds, 100ms when not given", someTime, func(e *LinkEnd, v time.Duration) { e.Buffer = v }),
	)

	aLink = object("a link",
		must("ends", "a list of its two ends", list(aLinkEnd), func(l *Link, v []LinkEnd) { l.Ends = v }),
		on("delay", "the propagation delay one way", aDuration, func(l *Link, v time.Duration) { l.Delay = v }),
	)

	aNetwork = object("the network", slices.Concat([]key[Network]{
		must("nodes", "the list of nodes", list(aNode), func(n *Network, v []NetworkNode) { n.Nodes = v }),
		on("links", "the list of links", list(aLink), func(n *Network, v []Link) { n.Links = v }),
	}, later[Network]("tunnels"))...)

	aTraffic = object("traffic", slices.Concat([]key[Traffic]{
		must("name", "its name in results", identifier("traffic"), func(t *Traffic, v Ref) { t.Name = v.Text }),
		on("calls", "a number of calls", count("a number of calls", 1, 100_000), func(t *Traffic, v int) { t.Calls = v }),
		on("codec", "of the calls", words(Codecs...), func(t *Traffic, v string) { t.Codec = v }),
		on("between", "the two addresses of the calls", list(anAddress), func(t *Traffic, v []netip.Addr) { t.Between = v }),
		on("playout", "the listener's playout buffer, 40ms when not given", aDuration, func(t *Traffic, v time.Duration) { t.Playout = v }),
		on("rate", "of a stream, in IP bytes", aRate, func(t *Traffic, v unit.Rate) { t.Rate = v }),
		on("packet", "the length of its IP packets", aSize, func(t *Traffic, v unit.Size) { t.Packet = v }),
		on("arrivals", "constant (evenly spaced) or poisson", words("constant", "poisson"), func(t *Traffic, v string) { t.Poisson = v == "poisson" }),
		on("from", "the sender", anAddress, func(t *Traffic, v netip.Addr) { t.From = v }),
		on("to", "the receiver", anAddress, func(t *Traffic, v netip.Addr) { t.To = v }),
		on("protocol", "udp when not given", aProtocol, func(t *Traffic, v uint8) { t.Protocol = v }),
		on("from-port", "the sender's port", aPort, func(t *Traffic, v uint16) { t.FromPort = v }),
		on("to-port", "the receiver's port", aPort, func(t *Traffic, v uint16) { t.ToPort = v }),
		on("capture", "a pcap or pcapng file to replay, relative to this file", aText, func(t *Traffic, v string) { t.Capture = v }),
		on("enters", "the interface where the capture's packets arrive, as node/interface", ref("an interface, as node/interface"), func(t *Traffic, v Ref) { t.EntersName = v }),
		on("dscp", "the marking its packets arrive with; none when not given", aDSCP, func(t *Traffic, v codepoint.DSCP) { t.DSCP = v }),
		on("starts", "when, from the start of the rehearsal", aDuration, func(t *Traffic, v time.Duration) { t.Starts = v }),
		on("lasts", "for how long; to the end when not given", someTime, func(t *Traffic, v time.Duration) { t.Lasts = v }),
	}, later[Traffic]("tcp"))...)

	aPort = value("a port from 0 to 65535", func(s string) (uint16, error) {
		n, err := strconv.ParseUint(s, 10, 16)
		if err != nil {
			return 0, fmt.Errorf("%.40q is not a port from 0 to 65535", s)
		}
		return uint16(n), nil
	})

	anExpectation = shape[Expectation]{say: expectationForm, read: func(r *reader, n Node) (Expectation, bool) {
		e, ok := value(expectationForm, ParseExpectation).read(r, n)
		e.At = n.At
		return e, ok
	}}

	aRehearsal = object("a rehearsal",
		must("name", "its name, for the command line", identifier("rehearsal"), func(h *Rehearsal, v Ref) { h.Name = v.Text }),
		must("lasts", "how long the traffic runs", someTime, func(h *Rehearsal, v time.Duration) { h.Lasts = v }),
		must("traffic", "the list of traffic", list(aTraffic), func(h *Rehearsal, v []Traffic) { h.Traffic = v }),
		on("expect", "the list of expectations", list(anExpectation), func(h *Rehearsal, v []Expectation) { h.Expect = v }),
	)

	aFile = object("a policy file", slices.Concat([]key[File]{
		must("imbrel", "the version of the language: `imbrel: 1` stands at the top", count("the version of the language", 1, 1), func(f *File, v int) { f.Version = v }),
		on("title", "for people", aText, func(f *File, v string) { f.Title = v }),
		on("groups", "named address sets", named("group", aGroup, func(g *Group, id Ref) { g.Name, g.At = id.Text, id.At }), func(f *File, v []Group) { f.Groups = v }),
		on("apps", "what applications look like on the wire", named("application", anApp, func(a *App, id Ref) { a.Name, a.At = id.Text, id.At }), func(f *File, v []App) { f.Apps = v }),
		on("classes", "the list of classes", list(aClass), func(f *File, v []Class) { f.Classes = v }),
		on("policies", "the list of policies", list(aPolicy), func(f *File, v []Policy) { f.Policies = v }),
		on("attach", "where each policy stands", list(anAttachment), func(f *File, v []Attachment) { f.Attach = v }),
		on("network", "nodes and links", aNetwork, func(f *File, v Network) { f.Network = v }),
		on("rehearsals", "the list of rehearsals", list(aRehearsal), func(f *File, v []Rehearsal) { f.Rehearsals = v }),
	}, later[File]("include"))...)
)
