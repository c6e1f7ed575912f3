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
	aRate     = matching(ratePattern, value("a rate such as 11.4Mbit/s", unit.ParseRate))
	aSize     = matching(sizePattern, value("a size such as 3kB", unit.ParseSize))
	aDuration = matching(timePattern, value("a duration such as 40ms", unit.ParseDuration))
	someTime  = value("a duration such as 40ms, more than zero", func(s string) (time.Duration, error) {
		d, err := unit.ParseDuration(s)
		if err == nil && d == 0 {
			err = fmt.Errorf("%q is no time at all", s)
		}
		return d, err
	})
	aShare    = matching(sharePattern, value("a rate such as 2Mbit/s or a percentage such as 30%", unit.ParseShare))
	aDSCP     = value("a DSCP: a name such as ef or af41, or a number from 0 to 63", codepoint.ParseDSCP)
	anAddress = value("an address such as 10.44.8.20", func(s string) (netip.Addr, error) {
		a, err := netip.ParseAddr(s)
		if err != nil || a.Zone() != "" {
			return a, fmt.Errorf("%.60q is not an address", s)
		}
		return a.Unmap(), nil
	})
	aPrefix   = value("a prefix such as 10.44.8.0/22", parsePrefix)
	aProtocol = value("a protocol: udp, tcp, icmp, … or a number from 0 to 255", ParseProtocol)
	ports     = value("a port such as 5060 or a range such as 7400-7410", parsePorts)
	anOctet   = func(what string) shape[uint8] { // of three bits
		return as(count(what, 0, 7), func(n int) uint8 { return uint8(n) })
	}
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

// ParseProtocol reads a protocol's name or number.
func ParseProtocol(s string) (uint8, error) {
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

// The forms of quantities, for the schema.
const (
	ratePattern  = `^[0-9.]+ *(bit|kbit|Mbit|Gbit)/s$`
	sizePattern  = `^[0-9.]+ *(B|kB|MB|KiB|MiB)$`
	timePattern  = `^[0-9.]+ *(ns|us|ms|s|min|h)$`
	sharePattern = `^([0-9.]+ *(bit|kbit|Mbit|Gbit)/s|[0-9.]+%)$`
)

func parseFraming(s string) (packet.Framing, error) {
	f, err := packet.ParseFraming(s)
	if err != nil {
		var names []string
		for _, f := range packet.Framings() {
			names = append(names, f.Name)
		}
		err = fmt.Errorf("%w; %sthere are: %s", err, didYouMean(s, names), strings.Join(names, ", "))
	}
	return f, err
}

// parseCells reads "48/53": how much of each cell is payload.
func parseCells(s string) ([2]int, error) {
	a, b, _ := strings.Cut(s, "/")
	payload, err1 := strconv.Atoi(a)
	cell, err2 := strconv.Atoi(b)
	if err1 != nil || err2 != nil || payload < 1 || cell < payload || cell > 9000 {
		return [2]int{}, fmt.Errorf("%.40q is not the payload and the whole of a cell", s)
	}
	return [2]int{payload, cell}, nil
}

// parseLengths reads a size or a range of sizes, "64B-128B".
func parseLengths(s string) (PortRange, error) {
	a, b, ranged := strings.Cut(s, "-")
	if !ranged {
		b = a
	}
	var r [2]unit.Size
	for i, t := range []string{a, b} {
		n, err := unit.ParseSize(strings.TrimSpace(t))
		if err == nil && n > 65535 {
			err = fmt.Errorf("%q is longer than an IP packet can be", s)
		}
		if err != nil {
			return PortRange{}, err
		}
		r[i] = n
	}
	if r[0] > r[1] {
		return PortRange{}, fmt.Errorf("the range %s runs backwards", s)
	}
	return PortRange{uint16(r[0]), uint16(r[1])}, nil
}

// EtherTypes are the EtherType words of the language with their numbers.
var etherTypes = map[string]uint16{"ipv4": packet.TypeIPv4, "ipv6": packet.TypeIPv6, "arp": packet.TypeARP}

func parseEtherType(s string) (uint16, error) {
	if n, ok := etherTypes[s]; ok {
		return n, nil
	}
	n, err := strconv.ParseUint(s, 0, 16)
	if err != nil {
		return 0, fmt.Errorf("%.40q is not an EtherType", s)
	}
	return uint16(n), nil
}

var dayNames = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

// parseDays reads a day or a range of days, "mon-fri".
func parseDays(s string) ([7]bool, error) {
	var days [7]bool
	a, b, ranged := strings.Cut(s, "-")
	if !ranged {
		b = a
	}
	from, to := slices.Index(dayNames, a), slices.Index(dayNames, b)
	if from < 0 || to < 0 {
		return days, fmt.Errorf("%.40q is not a day or a range of days", s)
	}
	for d := from; ; d = (d + 1) % 7 {
		days[d] = true
		if d == to {
			return days, nil
		}
	}
}

// parseMinute reads a time of day.
func parseMinute(s string) (int, error) {
	if s == "24:00" {
		return 24 * 60, nil
	}
	t, err := time.Parse("15:04", s)
	if err != nil {
		return 0, fmt.Errorf("%.40q is not a time of day", s)
	}
	return t.Hour()*60 + t.Minute(), nil
}

// ParseMoment reads a date and time without a zone; the zone is UTC.
func ParseMoment(s string) (time.Time, error) {
	for _, form := range []string{"2006-01-02T15:04", "2006-01-02T15:04:05", time.RFC3339} {
		if t, err := time.Parse(form, s); err == nil {
			return t, nil
		}
	}
	return time.Time{}, fmt.Errorf("%.40q is not a date and time", s)
}

// parseServerName reads a name, or "*." before one.
func parseServerName(s string) (string, error) {
	name := strings.TrimPrefix(s, "*.")
	ok := name != "" && len(s) <= 253
	for _, c := range name {
		ok = ok && (c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.ContainsRune("-_.", c))
	}
	if !ok {
		return "", fmt.Errorf("%.60q is not a server name: write a name such as www.weather.example, or *.weather.example for all below", s)
	}
	return strings.ToLower(s), nil
}

// Codecs are the codec words of the language.
var Codecs = []string{"g711", "g729"}

var (
	addresses = as(oneOrMany(ref("an address, a prefix or a group's name")), func(given []Ref) *Addresses { return &Addresses{Given: given} })

	aGroup = shape[Group]{say: addresses.say, schema: addresses.schema, read: func(r *reader, n Node) (Group, bool) {
		a, ok := addresses.read(r, n)
		return Group{Source: Source{At: n.At}, Addresses: *a}, ok
	}}

	anApp = object("application",
		on("tcp", "its TCP ports", oneOrMany(ports), func(a *App, v []PortRange) { a.TCP = v }),
		on("udp", "its UDP ports", oneOrMany(ports), func(a *App, v []PortRange) { a.UDP = v }),
		on("server-name", "TLS server names and HTTP hosts; *.weather.example is every name below", oneOrMany(value("a server name such as *.weather.example", parseServerName)), func(a *App, v []string) { a.ServerNames = v }),
		on("looks-like", "rtp: recognised by header and sequence over a few packets", words("rtp"), func(a *App, v string) { a.LooksLike = v }),
	)

	aMap = shape[Map]{say: "DSCPs, each followed by another, as in {af41: af42, cs3: le}",
		schema: func(d definitions) schema {
			return schema{"type": "object", "additionalProperties": aDSCP.schema(d)}
		},
		read: func(r *reader, n Node) (Map, bool) {
			m := Map{Source: Source{At: n.At}}
			for d := range m.To {
				m.To[d] = codepoint.DSCP(d)
			}
			if n.Kind != Keyed {
				r.expected(n, "DSCPs, each followed by another, as in {af41: af42, cs3: le}")
				return m, false
			}
			seen := make(map[codepoint.DSCP]bool)
			for i := range n.Keys {
				from, ok1 := aDSCP.read(r, n.Keys[i])
				to, ok2 := aDSCP.read(r, n.Items[i])
				if !ok1 || !ok2 {
					continue
				}
				if seen[from] {
					r.problem(n.Keys[i].At, len(n.Keys[i].Text), "keep one", "%s is mapped twice", from.Name())
				}
				seen[from], m.To[from] = true, to
			}
			return m, true
		}}

	aMinute = matching(`^[0-9]{2}:[0-9]{2}$`, value(`a time of day such as "08:30"`, parseMinute))

	aSpan = object("named time",
		on("days", "mon, tue, … or a range such as mon-fri, or a list; every day when not given", oneOrMany(value("a day such as mon, or a range such as mon-fri", parseDays)), func(s *Span, v [][7]bool) {
			for _, days := range v {
				for d, on := range days {
					s.Days[d] = s.Days[d] || on
				}
			}
		}),
		must("from", `a time of day such as "08:30"`, aMinute, func(s *Span, v int) { s.From = v }),
		must("to", `a time of day; the next day's when not later than from`, aMinute, func(s *Span, v int) { s.To = v }),
		on("zone", "a time zone such as Europe/Oslo; UTC when not given", ref("a time zone such as Europe/Oslo"), func(s *Span, v Ref) { s.zone = v }),
	)

	aCondition = object("condition",
		on("from", "where the packet comes from", addresses, func(c *Condition, v *Addresses) { c.From = v }),
		on("to", "where the packet goes", addresses, func(c *Condition, v *Addresses) { c.To = v }),
		on("protocol", "the IP protocol", oneOrMany(aProtocol), func(c *Condition, v []uint8) { c.Protocol = v }),
		on("port", "the port at either end", oneOrMany(ports), func(c *Condition, v []PortRange) { c.Port = v }),
		on("from-port", "the sender's port", oneOrMany(ports), func(c *Condition, v []PortRange) { c.FromPort = v }),
		on("to-port", "the receiver's port", oneOrMany(ports), func(c *Condition, v []PortRange) { c.ToPort = v }),
		on("app", "an application of `apps` or of the catalogue", oneOrMany(ref("the name of an application")), func(c *Condition, v []Ref) { c.App = v }),
		on("dscp", "the packet's DSCP", oneOrMany(aDSCP), func(c *Condition, v []codepoint.DSCP) { c.DSCP = v }),
		on("precedence", "the IP precedence, 0 to 7", oneOrMany(anOctet("an IP precedence")), func(c *Condition, v []uint8) { c.Precedence = v }),
		on("pcp", "the priority code point of the outermost VLAN tag", oneOrMany(anOctet("a priority code point")), func(c *Condition, v []uint8) { c.PCP = v }),
		on("tc", "the traffic class of the topmost MPLS label", oneOrMany(anOctet("a traffic class")), func(c *Condition, v []uint8) { c.TC = v }),
		on("vlan", "the identifier of the outermost VLAN tag", oneOrMany(value("a VLAN from 0 to 4095, or a range such as 10-19", parseVLANs)), func(c *Condition, v []PortRange) { c.VLAN = v }),
		on("in", "the interface by which the packet entered the node", oneOrMany(ref("an interface, as node/interface")), func(c *Condition, v []Ref) { c.InName = v }),
		on("length", "the IP packet's length, as a size or a range such as 20B-128B", oneOrMany(value("a size such as 1500B, or a range such as 20B-128B", parseLengths)), func(c *Condition, v []PortRange) { c.Length = v }),
		on("ethertype", "ipv4, ipv6, arp or a number such as 0x88cc", oneOrMany(value("ipv4, ipv6, arp or a number such as 0x88cc", parseEtherType)), func(c *Condition, v []uint16) { c.EtherType = v }),
	)

	aClass = object("class",
		must("name", "a name to use in `treat`", identifier("class"), func(c *Class, v Ref) { c.Name = v.Text }),
		must("match", "a list of conditions: the class takes a packet for which one of them holds", list(aCondition), func(c *Class, v []Condition) { c.Match = v }),
		on("except", "conditions under which it does not", list(aCondition), func(c *Class, v []Condition) { c.Except = v }),
	)

	aMark = either(
		as(aDSCP, func(d codepoint.DSCP) *Mark { return &Mark{DSCP: &d} }),
		as(object("marking",
			on("dscp", "the DSCP", aDSCP, func(m *Mark, v codepoint.DSCP) { m.DSCP = &v }),
			on("map", "a map of `maps`, by which the DSCP becomes another", ref("the name of a map"), func(m *Mark, v Ref) { m.MapName = v }),
			on("precedence", "the IP precedence: the upper three bits of the DSCP; the lower stay", anOctet("an IP precedence"), func(m *Mark, v uint8) { m.Precedence = &v }),
			on("dei", "the drop eligible indicator of the VLAN tag", flag, func(m *Mark, v bool) { m.DEI = &v }),
			on("pcp", "the priority code point of the VLAN tag", anOctet("a priority code point"), func(m *Mark, v uint8) { m.PCP = &v }),
			on("tc", "the traffic class of the topmost MPLS label", anOctet("a traffic class"), func(m *Mark, v uint8) { m.TC = &v }),
		), func(m Mark) *Mark { return &m }))

	anAction = either(
		as(words("pass", "drop"), func(w string) Action { return Action{Drop: w == "drop"} }),
		as(object("action",
			on("mark", "what the packets are marked with", aMark, func(a *Action, v *Mark) { a.Mark = v }),
			on("map", "a map of `maps`", ref("the name of a map"), func(a *Action, v Ref) { a.Mark = &Mark{MapName: v} }),
		), func(a Action) Action { return a }))

	aPolice = object("policer",
		must("rate", "the sustained rate (CIR)", aShare, func(p *Police, v unit.Share) { p.Rate = v }),
		must("burst", "the size of the token bucket (CBS): how much may come at once", aSize, func(p *Police, v unit.Size) { p.Burst = v }),
		on("excess-burst", "a second bucket (EBS, RFC 2697): what only it holds is yellow", aSize, func(p *Police, v unit.Size) { p.Excess = v }),
		on("peak", "the peak rate (PIR, RFC 2698): what exceeds it is red, what exceeds only `rate` yellow", aShare, func(p *Police, v unit.Share) { p.Peak = v }),
		on("peak-burst", "the size of the peak's bucket (PBS)", aSize, func(p *Police, v unit.Size) { p.PeakBurst = v }),
		on("aware", "true: packets keep at most the colour they arrive with", flag, func(p *Police, v bool) { p.Aware = v }),
		on("green", "what is done with what conforms: pass (when not given), drop, {mark:} or {map:}", anAction, func(p *Police, v Action) { p.Green = v }),
		on("yellow", "the same for yellow; pass when not given", anAction, func(p *Police, v Action) { p.Yellow = v }),
		on("red", "the same for red; drop when not given", anAction, func(p *Police, v Action) { p.Red = v }),
	)

	aLimit = value("a time such as 40ms, a size such as 30kB, or a number of packets such as 50", parseQueueLimit)

	aQueue = object("queue",
		on("limit", "how much may wait: a time such as 40ms, a size such as 30kB, or a number of packets such as 50", aLimit, func(q *QueueSpec, v QueueSpec) {
			q.Time, q.Bytes, q.Packets = v.Time, v.Bytes, v.Packets
		}),
		on("drop", "what is dropped, and when: tail (when not given), red, codel or fq-codel", words("tail", "red", "codel", "fq-codel"), func(q *QueueSpec, v string) { q.Drop = v }),
		on("ecn", "true: mark instead of dropping where the packet allows it (RFC 3168)", flag, func(q *QueueSpec, v bool) { q.ECN = v }),
	)

	aBurst = object("burst",
		must("to", "the rate it may reach", aShare, func(b *Burst, v unit.Share) { b.To = v }),
		must("for", "for how long at most", someTime, func(b *Burst, v time.Duration) { b.For = v }),
	)

	aCeiling = either(
		as(aShare, func(s unit.Share) ceiling { return ceiling{rate: s} }),
		object("ceiling",
			must("rate", "the sustained ceiling", aShare, func(c *ceiling, v unit.Share) { c.rate = v }),
			on("burst", "above it for a while: {to:, for:}", aBurst, func(c *ceiling, v Burst) { c.burst = &v }),
		))

	aPressure = func(doc string) shape[Pressure] {
		return object("load "+doc,
			must("load", "of the interface, a rate or a percentage of its rate", aShare, func(p *Pressure, v unit.Share) { p.Load = v }),
			on("for", "how long it lasts first", aDuration, func(p *Pressure, v time.Duration) { p.For = v }),
		)
	}

	aWhen = either(
		as(ref("the name of a time"), func(n Ref) *When { return &When{TimeName: n} }),
		as(object("pressure",
			must("starts", "the load at or above which the entry comes into force: {load:, for:}", aPressure("above which"), func(w *When, v Pressure) { w.Starts, w.Pressed = v, true }),
			must("ends", "the load below which it goes out of force again: {load:, for:}", aPressure("below which"), func(w *When, v Pressure) { w.Ends = v }),
		), func(w When) *When { return &w }))

	anEntry = entryShape()

	aPolicy = object("policy",
		must("name", "a name to use in `attach`", identifier("policy"), func(p *Policy, v Ref) { p.Name = v.Text }),
		on("shape", "the rate all its entries share; below what the link really carries", aRate, func(p *Policy, v unit.Rate) { p.Shape = v }),
		must("treat", "the list of entries, tried in order", list(anEntry), func(p *Policy, v []Entry) { p.Treat = v }),
	)

	anAttachment = object("attachment",
		must("policy", "the name of a policy", ref("the name of a policy"), func(a *Attachment, v Ref) { a.PolicyName = v }),
		must("at", "the interface, as node/interface", ref("an interface, as node/interface"), func(a *Attachment, v Ref) { a.AtName = v }),
		must("direction", "in (towards the node) or out (away from it)", direction, func(a *Attachment, v Direction) { a.Direction = v }),
	)

	aFraming = either(value("a framing such as ethernet, ethernet-vlan or atm-pppoe-llc", parseFraming), ownFraming)

	ownFraming = as(object("framing of your own",
		must("bytes", "added to every packet", count("a number of bytes", 0, 1000), func(f *framing, v int) { f.Bytes = v }),
		on("minimum", "the least a packet takes, in bytes", count("a number of bytes", 0, 9000), func(f *framing, v int) { f.Minimum = v }),
		on("cell", "payload and whole of a cell, such as 48/53", value("payload and whole of a cell, such as 48/53", parseCells), func(f *framing, v [2]int) { f.Payload, f.Cell = v[0], v[1] }),
	), func(f framing) packet.Framing { f.Name = "own"; return f.Framing })

	anInterface = object("interface",
		must("name", "its name at this node", identifier("interface"), func(i *Interface, v Ref) { i.Name = v.Text }),
		must("rate", "the rate it sends at", aRate, func(i *Interface, v unit.Rate) { i.Rate = v }),
		on("framing", "what every rate on it counts; ethernet when not given", aFraming, func(i *Interface, v packet.Framing) { i.Framing = v }),
		on("subnets", "the prefixes of the hosts behind it", oneOrMany(aPrefix), func(i *Interface, v []netip.Prefix) { i.Subnets = v }),
	)

	aNode = object("node",
		must("name", "its name", identifier("node"), func(n *NetworkNode, v Ref) { n.Name = v.Text }),
		must("interfaces", "the list of its interfaces", list(anInterface), func(n *NetworkNode, v []Interface) { n.Interfaces = v }),
	)

	aLinkEnd = object("end of a link",
		must("at", "the interface, as node/interface", ref("an interface, as node/interface"), func(e *LinkEnd, v Ref) { e.AtName = v }),
		on("sends", "what the link really carries from here; the interface's rate when not given", aRate, func(e *LinkEnd, v unit.Rate) { e.Sends = v }),
		on("buffer", "how much the carrier's queue holds, 100ms when not given", someTime, func(e *LinkEnd, v time.Duration) { e.Buffer = v }),
	)

	aLink = object("link",
		must("ends", "a list of its two ends", list(aLinkEnd), func(l *Link, v []LinkEnd) { l.Ends = v }),
		on("delay", "the propagation delay one way", aDuration, func(l *Link, v time.Duration) { l.Delay = v }),
	)

	aTunnel = object("tunnel",
		must("name", "its name", identifier("tunnel"), func(t *Tunnel, v Ref) { t.Name = v.Text }),
		must("kind", "mpls (one way), gre or ipsec (both ways)", words("mpls", "gre", "ipsec"), func(t *Tunnel, v string) { t.Kind = v }),
		must("through", "the nodes from its start to its end, each linked to the next", list(ref("the name of a node")), func(t *Tunnel, v []Ref) { t.ThroughName = v }),
		on("labels", "of mpls: how many are pushed, 1 when not given", count("a number of labels", 1, 8), func(t *Tunnel, v int) { t.Labels = v }),
		on("model", "uniform, pipe (when not given) or short-pipe: what of the outer marking the packet keeps (RFC 3270 §2.6, RFC 2983)", words("uniform", "pipe", "short-pipe"), func(t *Tunnel, v string) { t.Model = v }),
		on("pop", "of mpls: penultimate (when not given) or ultimate: which node takes the topmost label off", words("penultimate", "ultimate"), func(t *Tunnel, v string) { t.Pop = v }),
		on("from", "of gre and ipsec: the outer header's address at the start", anAddress, func(t *Tunnel, v netip.Addr) { t.From = v }),
		on("to", "of gre and ipsec: the outer header's address at the end", anAddress, func(t *Tunnel, v netip.Addr) { t.To = v }),
	)

	aNetwork = object("network",
		must("nodes", "the list of nodes", list(aNode), func(n *Network, v []NetworkNode) { n.Nodes = v }),
		on("links", "the list of links", list(aLink), func(n *Network, v []Link) { n.Links = v }),
		on("tunnels", "the list of tunnels", list(aTunnel), func(n *Network, v []Tunnel) { n.Tunnels = v }),
	)

	aTraffic = object("traffic",
		must("name", "its name in results", identifier("traffic"), func(t *Traffic, v Ref) { t.Name = v.Text }),
		on("calls", "a number of calls", count("a number of calls", 1, 100_000), func(t *Traffic, v int) { t.Calls = v }),
		on("codec", "of the calls", words(Codecs...), func(t *Traffic, v string) { t.Codec = v }),
		on("between", "the two addresses of the calls", list(anAddress), func(t *Traffic, v []netip.Addr) { t.Between = v }),
		on("playout", "the listener's playout buffer, 40ms when not given", aDuration, func(t *Traffic, v time.Duration) { t.Playout = v }),
		on("rate", "of a stream, in IP bytes", aRate, func(t *Traffic, v unit.Rate) { t.Rate = v }),
		on("packet", "the length of its IP packets", aSize, func(t *Traffic, v unit.Size) { t.Packet = v }),
		on("arrivals", "constant (evenly spaced) or poisson", words("constant", "poisson"), func(t *Traffic, v string) { t.Poisson = v == "poisson" }),
		on("tcp", "a number of TCP flows", count("a number of flows", 1, 100_000), func(t *Traffic, v int) { t.TCP = v }),
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
	)

	aPort = value("a port from 0 to 65535", func(s string) (uint16, error) {
		n, err := strconv.ParseUint(s, 10, 16)
		if err != nil {
			return 0, fmt.Errorf("%.40q is not a port from 0 to 65535", s)
		}
		return uint16(n), nil
	})

	anExpectation = shape[Expectation]{say: expectationForm, schema: func(definitions) schema { return schema{"type": "string"} }, read: func(r *reader, n Node) (Expectation, bool) {
		e, ok := value(expectationForm, ParseExpectation).read(r, n)
		e.At = n.At
		return e, ok
	}}

	aRehearsal = object("rehearsal",
		must("name", "its name, for the command line", identifier("rehearsal"), func(h *Rehearsal, v Ref) { h.Name = v.Text }),
		must("lasts", "how long the traffic runs", someTime, func(h *Rehearsal, v time.Duration) { h.Lasts = v }),
		on("starts-at", "the date and time it plays at, such as 2026-03-02T08:30, in UTC", value("a date and time such as 2026-03-02T08:30", ParseMoment), func(h *Rehearsal, v time.Time) { h.StartAt = v }),
		must("traffic", "the list of traffic", list(aTraffic), func(h *Rehearsal, v []Traffic) { h.Traffic = v }),
		on("expect", "the list of expectations", list(anExpectation), func(h *Rehearsal, v []Expectation) { h.Expect = v }),
	)

	aFile = object("policy file",
		must("imbrel", "the version of the language: `imbrel: 1` stands at the top", count("the version of the language", 1, 1), func(f *File, v int) { f.Version = v }),
		on("title", "for people", aText, func(f *File, v string) { f.Title = v }),
		on("include", "other policy files, relative to this one, whose parts are read as if they stood here", list(aText), func(*File, []string) {}),
		on("groups", "named address sets", named("group", aGroup, func(g *Group, id Ref) { g.Name, g.At = id.Text, id.At }), func(f *File, v []Group) { f.Groups = v }),
		on("apps", "what applications look like on the wire", named("application", anApp, func(a *App, id Ref) { a.Name, a.At = id.Text, id.At }), func(f *File, v []App) { f.Apps = v }),
		on("maps", "maps of DSCPs for marking anew", named("map", aMap, func(m *Map, id Ref) { m.Name, m.At = id.Text, id.At }), func(f *File, v []Map) { f.Maps = v }),
		on("times", "named times, to use in `when`", named("time", aSpan, func(s *Span, id Ref) { s.Name, s.At = id.Text, id.At }), func(f *File, v []Span) { f.Times = v }),
		on("classes", "the list of classes", list(aClass), func(f *File, v []Class) { f.Classes = v }),
		on("policies", "the list of policies", list(aPolicy), func(f *File, v []Policy) { f.Policies = v }),
		on("attach", "where each policy stands", list(anAttachment), func(f *File, v []Attachment) { f.Attach = v }),
		on("network", "nodes and links", aNetwork, func(f *File, v Network) { f.Network = v }),
		on("rehearsals", "the list of rehearsals", list(aRehearsal), func(f *File, v []Rehearsal) { f.Rehearsals = v }),
	)
)

// A ceiling is an at-most, with a burst above it or without.
type ceiling struct {
	Source
	rate  unit.Share
	burst *Burst
}

// A framing is one of the writer's own.
type framing struct {
	Source
	packet.Framing
}

// eachOf are the words of `each`.
var eachOf = []string{"source", "destination", "flow", "vlan", "interface"}

// entryShape describes an entry, which may contain entries.
func entryShape() shape[Entry] {
	var self shape[Entry]
	nested := shape[[]Entry]{
		say:    "a list of entries within this one",
		schema: func(d definitions) schema { return schema{"type": "array", "items": self.schema(d)} },
		read:   func(r *reader, n Node) ([]Entry, bool) { return list(self).read(r, n) },
	}
	self = object("entry",
		must("class", "the class it treats, or `rest`", ref("the name of a class, or `rest`"), func(e *Entry, v Ref) { e.ClassName = v }),
		on("mark", "the DSCP that its packets leave with, or {dscp:, map:, pcp:, tc:}", aMark, func(e *Entry, v *Mark) { e.Mark = v }),
		on("priority", "strict priority; 1 is the most urgent", count("a priority", 1, 16), func(e *Entry, v int) { e.Priority = v }),
		on("police", "a meter; what exceeds it is dropped, or marked", aPolice, func(e *Entry, v Police) { e.Police = &v }),
		on("at-least", "what it is promised when everybody wants everything", aShare, func(e *Entry, v unit.Share) { e.AtLeast = v }),
		on("at-most", "a ceiling: it waits rather than send faster", aCeiling, func(e *Entry, v ceiling) { e.AtMost, e.Above = v.rate, v.burst }),
		on("weight", "its part of what is left over, against its neighbours'", count("a weight", 1, 1_000_000), func(e *Entry, v int) { e.Weight = v }),
		on("queue", "how much of it may wait, and what is dropped", aQueue, func(e *Entry, v QueueSpec) { e.Queue = v }),
		on("each", "a separate policer, limits and queue for every source, destination, flow, vlan or interface", oneOrMany(words(eachOf...)), func(e *Entry, v []string) { e.Each = v }),
		on("when", "a named time, or {starts:, ends:}: while it is not so, the entry is not there", aWhen, func(e *Entry, v *When) { e.When = v }),
		on("block", "true: all its packets are dropped", flag, func(e *Entry, v bool) { e.Block = v }),
		on("treat", "entries within this one", nested, func(e *Entry, v []Entry) { e.Treat = v }),
		on("inside", "the policy whose entries are within this one", ref("the name of a policy"), func(e *Entry, v Ref) { e.Inside = v }),
	)
	return self
}

func parseVLANs(s string) (PortRange, error) {
	r, err := parsePorts(s)
	if err != nil || r.Last > 4095 {
		return r, fmt.Errorf("%.40q is not a VLAN from 0 to 4095 or a range of them", s)
	}
	return r, nil
}

func parseQueueLimit(s string) (QueueSpec, error) {
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
}

// Schema returns the JSON Schema of the language, from the very description
// that the reader follows.
func Schema() map[string]any {
	d := make(definitions)
	root := aFile.schema(d)
	return schema{
		"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "Imbrel policy file, version 1",
		"$ref": root["$ref"], "$defs": d,
	}
}
