// Package packetset is set algebra over packets: which packets a class takes that no entry
// before it takes, and which change from one entry to another when a policy is edited. What
// it says is exact, and each answer is a packet that can exist.
//
// A set of packets is a list of boxes: for each property of a packet, the values it may
// have. A property that a packet need not have, such as a VLAN tag, has a value of its own
// for that. Some properties go together, such as a tag and its PCP: a box in which no packet
// can exist is empty (see worlds).
package packetset

import (
	"net/netip"
	"slices"
	"strings"

	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
)

// The properties of a packet are what the keys of conditions ask for, by the keys' numbers, and what is recognised. In each
// but the addresses, 0 is to have none and n+1 is n. A key that asks for other keys has no property of its own.
const (
	from      = int(policy.KeyFrom)
	to        = int(policy.KeyTo)
	protocol  = int(policy.KeyProtocol)
	fromPort  = int(policy.KeyFromPort)
	toPort    = int(policy.KeyToPort)
	dscp      = int(policy.KeyDSCP)
	length    = int(policy.KeyLength)
	vlan      = int(policy.KeyVLAN)
	in        = int(policy.KeyIn)
	etherType = int(policy.KeyEtherType)
	pcp       = int(policy.KeyPCP)
	tc        = int(policy.KeyTC)
)

// What is recognised of a packet's conversation.
const (
	name = int(policy.NumKeys) + iota // what server name: a number of Space.names, plus one
	rtp                               // whether as RTP
	numProperties
)

// none is the value of a property that a packet does not have.
const none = 0

// A Box is the packets of which each property is in a set.
type Box [numProperties]set

// A Space knows the values that the conditions of some files speak of. It is not for several
// goroutines.
type Space struct {
	edges  []netip.Addr // where the intervals of addresses begin that no condition divides
	names  []string     // the patterns of server names
	inputs [][]uint32   // by file and interface number, the number here
	paths  []string     // of the interfaces, by their number here less one
	hosts  []netip.Addr // two of each subnet of the networks, for examples
	most   [numProperties]uint32
	worlds []Box
	spent  int // pieces that searches looked at

	numbers map[string]int // of takings
}

// New returns the space of the conditions of files.
func New(files ...*policy.File) *Space {
	s := &Space{}
	s.edges = []netip.Addr{{}, netip.IPv4Unspecified(), netip.IPv6Unspecified()}
	byPath := make(map[string]uint32)
	for _, f := range files {
		s.divide(f)
		for i := range f.Apps {
			s.names = append(s.names, f.Apps[i].ServerNames...)
		}
		numbers := []uint32{none}
		for i := range f.Network.Nodes {
			for _, iface := range f.Network.Nodes[i].Interfaces {
				path := iface.Path()
				if byPath[path] == 0 {
					s.paths = append(s.paths, path)
					byPath[path] = uint32(len(s.paths))
				}
				for len(numbers) <= iface.Number {
					numbers = append(numbers, none)
				}
				numbers[iface.Number] = byPath[path]
				for _, p := range iface.Subnets {
					s.hosts = append(s.hosts, p.Masked().Addr().Next(), lastOf(p).Prev())
				}
			}
		}
		s.inputs = append(s.inputs, numbers)
	}
	slices.SortFunc(s.edges, netip.Addr.Compare)
	s.edges = slices.Compact(s.edges)
	slices.Sort(s.names)
	s.names = slices.Compact(s.names)
	addresses := uint32(len(s.edges) - 1)
	for _, k := range policy.Keys() {
		s.most[k] = k.Row().Max + 1
	}
	s.most[from], s.most[to], s.most[in], s.most[name], s.most[rtp] = addresses, addresses, uint32(len(s.paths)), uint32(len(s.names)), 1
	s.worlds = s.allWorlds()
	return s
}

// divide notes where the prefixes of a file begin and end.
func (s *Space) divide(f *policy.File) {
	add := func(prefixes []netip.Prefix) {
		for _, p := range prefixes {
			s.edges = append(s.edges, p.Masked().Addr())
			if end := lastOf(p).Next(); end.IsValid() {
				s.edges = append(s.edges, end)
			}
		}
	}
	here := false
	for i := range f.Classes {
		c := &f.Classes[i]
		here = here || c.UsesHere()
		for _, list := range [][]policy.Condition{c.Match, c.Except} {
			for j := range list {
				for k := range list[j].Terms {
					if a := list[j].Terms[k].Addresses; a != nil {
						add(a.Prefixes)
					}
				}
			}
		}
	}
	for i := range f.Network.Nodes {
		if here {
			add(f.Network.Nodes[i].Subnets())
		}
	}
}

// lastOf returns the last address of a prefix.
func lastOf(p netip.Prefix) netip.Addr {
	b := p.Masked().Addr().AsSlice()
	for i := p.Bits(); i < 8*len(b); i++ {
		b[i/8] |= 0x80 >> (i % 8)
	}
	a, _ := netip.AddrFromSlice(b)
	return a
}

// interval returns the number of the interval that an address is in.
func (s *Space) interval(a netip.Addr) uint32 {
	i, found := slices.BinarySearchFunc(s.edges, a, netip.Addr.Compare)
	if !found {
		i--
	}
	return uint32(i)
}

func (s *Space) addresses(prefixes []netip.Prefix) set {
	ranges := make([]policy.Range, 0, len(prefixes))
	for _, p := range prefixes {
		ranges = append(ranges, policy.Range{First: s.interval(p.Masked().Addr()), Last: s.interval(lastOf(p))})
	}
	return setOf(ranges...)
}

// allWorlds returns the boxes of packets that can exist: IP of either version or something
// whose IP header is not looked at; with ports or without; with a tag and its PCP or without.
// Names and RTP are recognised of conversations with ports, and of those within a tunnel.
func (s *Space) allWorlds() []Box {
	number := func(n uint32) policy.Range { return policy.One(n + 1) }
	no, v6 := setOf(policy.One(none)), s.interval(netip.IPv6Unspecified())
	some := func(property int) set { return setOf(policy.Range{First: 1, Last: s.most[property]}) }
	tunnels := setOf(number(packet.GRE), number(packet.IPv4in), number(packet.IPv6in))
	var worlds []Box
	add := func(b Box) {
		b[vlan], b[pcp] = no, no
		worlds = append(worlds, b)
		b[vlan], b[pcp] = some(vlan), some(pcp)
		worlds = append(worlds, b)
	}
	for _, v := range []struct {
		version, header uint32
		addresses       policy.Range
	}{
		{packet.TypeIPv4, 20, policy.Range{First: s.interval(netip.IPv4Unspecified()), Last: v6 - 1}},
		{packet.TypeIPv6, 40, policy.Range{First: v6, Last: s.most[from]}},
	} {
		b := Box{from: setOf(v.addresses), to: setOf(v.addresses), etherType: setOf(number(v.version)), dscp: some(dscp), length: setOf(policy.Range{First: 1 + v.header, Last: s.most[length]})}
		b[fromPort], b[toPort] = some(fromPort), some(toPort)
		b[protocol] = setOf(number(packet.UDP))
		add(b)
		b[protocol], b[rtp] = setOf(number(packet.TCP), number(packet.SCTP)), no
		add(b)
		b[fromPort], b[toPort], b[name] = no, no, no
		b[protocol] = some(protocol).without(tunnels, 0)
		add(b)
		b[protocol], b[name], b[rtp] = tunnels, nil, nil
		add(b)
	}
	hidden := Box{from: no, to: no, protocol: no, fromPort: no, toPort: no, dscp: no, length: no, etherType: some(etherType), name: no, rtp: no}
	labelled := setOf(number(packet.TypeIPv4), number(packet.TypeIPv6), number(packet.TypeMPLS), number(packet.TypeMPLSm))
	hidden[tc], hidden[etherType] = some(tc), labelled // forwarded by its label
	add(hidden)
	tags := setOf(number(packet.TypeVLAN), number(packet.TypeQinQ))
	hidden[tc], hidden[etherType] = no, some(etherType).without(labelled, 0).without(tags, 0)
	add(hidden)
	return worlds
}

// and returns the packets of both boxes.
func (b *Box) and(o *Box) Box {
	var out Box
	for i := range b {
		out[i] = b[i].and(o[i])
	}
	return out
}

// meets reports whether the boxes have something in common.
func (b *Box) meets(o *Box) bool {
	for i := range b {
		if (o[i] != nil || b[i] != nil) && !b[i].meets(o[i]) {
			return false
		}
	}
	return true
}

func (s *Space) within(b, o *Box) bool {
	for i := range b {
		if o[i] != nil && !b[i].within(o[i], s.most[i]) {
			return false
		}
	}
	return true
}

// possible reports whether a packet of the box can exist.
func (s *Space) possible(b *Box) bool {
	return slices.ContainsFunc(s.worlds, func(w Box) bool { return b.meets(&w) })
}

// Conditions returns the boxes of the packets for which one of the conditions of the file of
// a number holds; those in which no packet can exist are left out.
func (s *Space) Conditions(file int, list []policy.Condition) []Box {
	var out []Box
	for i := range list {
		out = append(out, s.condition(file, &list[i])...)
	}
	return out
}

func (s *Space) condition(file int, c *policy.Condition) []Box {
	out := []Box{{}}
	and := func(alternatives ...Box) {
		var next []Box
		for i := range out {
			for j := range alternatives {
				if b := out[i].and(&alternatives[j]); s.possible(&b) {
					next = append(next, b)
				}
			}
		}
		out = next
	}
	for i := range c.Terms {
		t := &c.Terms[i]
		switch row := t.Key.Row(); {
		case row.Kind == policy.AddressSets:
			var b Box
			b[t.Key] = s.addresses(t.Addresses.Prefixes)
			and(b)
		case row.Kind == policy.AppNames:
			and(s.apps(t.Apps)...)
		case row.Kind == policy.InterfaceNames:
			var ranges []policy.Range
			for _, r := range t.Ranges {
				for n := r.First; n <= r.Last && int(n) < len(s.inputs[file]); n++ {
					ranges = append(ranges, policy.One(s.inputs[file][n]))
				}
			}
			var b Box
			b[t.Key] = setOf(ranges...)
			and(b)
		case row.Either != nil:
			ranges := slices.Clone(t.Ranges)
			for j := range ranges {
				if row.Spread != nil {
					ranges[j] = row.Spread(ranges[j])
				}
			}
			alternatives := make([]Box, len(row.Either))
			for j, k := range row.Either {
				alternatives[j][k] = shifted(ranges)
			}
			and(alternatives...)
		default:
			var b Box
			b[t.Key] = shifted(t.Ranges)
			and(b)
		}
	}
	return out
}

// shifted returns the set of numbers as values of a property.
func shifted(ranges []policy.Range) set {
	out := make([]policy.Range, len(ranges))
	for i, r := range ranges {
		out[i] = policy.Range{First: r.First + 1, Last: r.Last + 1}
	}
	return setOf(out...)
}

// apps returns the boxes of the packets of any of the applications.
func (s *Space) apps(list []*policy.App) []Box {
	var out []Box
	var names, protocols []policy.Range
	var tcp, udp []policy.Range
	isRTP := false
	for _, a := range list {
		isRTP = isRTP || a.LooksLike == policy.LooksLikeRTP
		for i, n := range s.names {
			if slices.ContainsFunc(a.ServerNames, func(p string) bool { return below(n, p) }) {
				names = append(names, policy.One(uint32(i)+1))
			}
		}
		for _, p := range a.Protocols {
			protocols = append(protocols, policy.One(uint32(p)+1))
		}
		tcp, udp = append(tcp, a.TCP...), append(udp, a.UDP...)
	}
	if len(protocols) > 0 {
		out = append(out, Box{protocol: setOf(protocols...)})
	}
	with := func(n uint32, ports []policy.Range) {
		if len(ports) > 0 {
			own := setOf(policy.One(n + 1))
			out = append(out, Box{protocol: own, fromPort: shifted(ports)}, Box{protocol: own, toPort: shifted(ports)})
		}
	}
	with(packet.TCP, tcp)
	with(packet.UDP, udp)
	if len(names) > 0 {
		out = append(out, Box{name: setOf(names...)})
	}
	if isRTP {
		out = append(out, Box{rtp: setOf(policy.One(1))})
	}
	return out
}

// below reports whether all names of one pattern are of another: "*.x" is every name below x.
func below(pattern, of string) bool {
	under, wild := strings.CutPrefix(of, "*")
	return pattern == of || wild && strings.HasSuffix(pattern, under)
}
