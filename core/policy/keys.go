package policy

import (
	"encoding/binary"
	"fmt"
	"math"
	"net/netip"
	"strconv"
	"strings"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/unit"
)

// A Key is one property of packets that conditions ask for.
type Key uint8

// The keys of a condition, in the order in which they are asked.
const (
	KeyFrom Key = iota
	KeyTo
	KeyProtocol
	KeyPort
	KeyFromPort
	KeyToPort
	KeyDSCP
	KeyApp
	KeyPrecedence
	KeyLength
	KeyVLAN
	KeyIn
	KeyEtherType
	KeyPCP
	KeyTC
	NumKeys // how many there are
)

// A KeyRow is all there is to know of a key: how it is named and described, what
// its values are and how they are read and printed, and what a packet has there.
// Everything else, matching, indexing and comparing, follows from the row.
type KeyRow struct {
	Name  string
	Doc   string
	Value string // what may be written, to go after "expected"
	Kind  ValueKind
	// Of a key whose values are numbers: how one is read and printed, and what a
	// packet has. A packet may have two numbers, of which one must be in a range
	// (either port), or none.
	Parse func(string) (Range, error)
	Print func(Range) string
	Of    func(*packet.Packet) (a, b uint32, ok bool)
	// Address is what a packet has of a key whose values are addresses.
	Address func(*packet.Packet) (netip.Addr, bool)
	// Splits says that an index may split its rules by the key: a packet has one
	// number of it.
	Splits bool
	// Max is the greatest number of a key whose values are numbers of its own.
	Max uint32
	// Either, of a key that asks for others: a packet is in a range where it is in the range of one of these, each
	// range as Spread has it. Nil: the values are the key's own.
	Either []Key
	Spread func(Range) Range // nil: as it is
	// Common are numbers that packets usually have, for examples; NoNumber is to have none.
	Common []uint32
	// Layer is the part of a frame without which no condition on the key holds.
	Layer Layer
	// Source says who decides the value that a packet has.
	Source KeySource
}

// NoNumber, among the common numbers of a key, is to have none.
const NoNumber = math.MaxUint32

// A Layer is a part of a frame.
type Layer uint8

// The layers. Any frame has AnyLayer.
const (
	AnyLayer Layer = iota
	TagLayer
	LabelLayer
)

// String returns what a frame without the layer does not have.
func (l Layer) String() string { return [...]string{"", "tag", "label"}[l] }

// A KeySource says whether the value of a key identifies the sender.
type KeySource uint8

// The sources. A sender's identity is what he cannot choose freely; a marking is what he writes; a
// kind is neither.
const (
	ByIdentity KeySource = iota
	ByMark
	ByKind
)

// Own reports whether the key has values of its own, rather than asking for those of others.
func (r *KeyRow) Own() bool { return r.Either == nil && r.Kind != AppNames }

// AppendValues appends the packet's value of every key that conditions may ask for, except its applications. Two
// packets with the same values and the same applications get the same treatment.
func AppendValues(b []byte, p *packet.Packet) []byte {
	for i := range keyTable {
		row := &keyTable[i]
		switch {
		case !row.Own():
		case row.Kind == AddressSets:
			a, ok := row.Address(p)
			if b = append(b, 0); ok {
				b[len(b)-1] = 1 + byte(a.BitLen()/128)
				address := a.As16()
				b = append(b, address[:]...)
			}
		default:
			n, _, ok := row.Of(p)
			if b = append(b, 0); ok {
				b[len(b)-1] = 1
				b = binary.LittleEndian.AppendUint32(b, n)
			}
		}
	}
	return b
}

// A ValueKind says of what kind the values of a key are.
type ValueKind uint8

// The kinds of values.
const (
	Numbers ValueKind = iota
	AddressSets
	AppNames
	InterfaceNames // numbers of interfaces, written as names
)

// visible reports whether a packet's IP header may be looked at.
func visible(p *packet.Packet) bool { return p.IsIP() && !p.LabelSwitched }

func ofIP(n uint32, p *packet.Packet) (uint32, uint32, bool) { return n, n, visible(p) }

// keyTable is the one table of keys, by Key.
var keyTable = [NumKeys]KeyRow{
	KeyFrom: {Name: "from", Doc: "where the packet comes from", Kind: AddressSets,
		Address: func(p *packet.Packet) (netip.Addr, bool) { return p.Flow.From, visible(p) }},
	KeyTo: {Name: "to", Doc: "where the packet goes", Kind: AddressSets,
		Address: func(p *packet.Packet) (netip.Addr, bool) { return p.Flow.To, visible(p) }},
	KeyProtocol: {Name: "protocol", Doc: "the IP protocol", Splits: true, Max: 255, Common: []uint32{packet.UDP, packet.TCP}, Source: ByKind,
		Value: "a protocol: udp, tcp, icmp, … or a number from 0 to 255",
		Parse: func(s string) (Range, error) {
			n, err := ParseProtocol(s)
			return One(uint32(n)), err
		},
		Print: func(r Range) string { return ProtocolName(uint8(r.First)) },
		Of:    func(p *packet.Packet) (uint32, uint32, bool) { return ofIP(uint32(p.Flow.Protocol), p) }},
	KeyPort: {Name: "port", Doc: "the port at either end", Either: []Key{KeyFromPort, KeyToPort}, Value: portValue, Parse: ParsePorts, Print: printRange,
		Of: func(p *packet.Packet) (uint32, uint32, bool) {
			return uint32(p.Flow.FromPort), uint32(p.Flow.ToPort), visible(p) && p.HasPorts
		}},
	KeyFromPort: {Name: "from-port", Doc: "the sender's port", Splits: true, Max: math.MaxUint16, Common: []uint32{50000, 40000, 30000}, Value: portValue, Parse: ParsePorts, Print: printRange,
		Of: func(p *packet.Packet) (uint32, uint32, bool) {
			n := uint32(p.Flow.FromPort)
			return n, n, visible(p) && p.HasPorts
		}},
	KeyToPort: {Name: "to-port", Doc: "the receiver's port", Splits: true, Max: math.MaxUint16, Common: []uint32{40000, 50000, 30000}, Value: portValue, Parse: ParsePorts, Print: printRange,
		Of: func(p *packet.Packet) (uint32, uint32, bool) {
			n := uint32(p.Flow.ToPort)
			return n, n, visible(p) && p.HasPorts
		}},
	KeyDSCP: {Name: "dscp", Doc: "the packet's DSCP", Splits: true, Max: uint32(codepoint.MaxDSCP), Common: []uint32{0}, Source: ByMark,
		Value: "a DSCP: a name such as ef or af41, or a number from 0 to 63",
		Parse: func(s string) (Range, error) {
			d, err := codepoint.ParseDSCP(s)
			return One(uint32(d)), err
		},
		Print: func(r Range) string { return codepoint.DSCP(r.First).Name() },
		Of:    func(p *packet.Packet) (uint32, uint32, bool) { return ofIP(uint32(p.DSCP()), p) }},
	KeyApp: {Name: "app", Doc: "an application of `apps` or of the catalogue", Kind: AppNames, Value: "the name of an application"},
	KeyPrecedence: {Name: "precedence", Doc: "the IP precedence, 0 to 7", Source: ByMark,
		// The upper three bits of the DSCP, RFC 2474 §4.2.2.
		Either: []Key{KeyDSCP}, Spread: func(r Range) Range { return Range{r.First << 3, r.Last<<3 | 7} }, Value: "an IP precedence" + threeBits, Parse: parseThreeBits, Print: printRange,
		Of: func(p *packet.Packet) (uint32, uint32, bool) { return ofIP(uint32(p.Precedence()), p) }},
	KeyLength: {Name: "length", Doc: "the length of the IP packet", Max: math.MaxUint16, Common: []uint32{200, 1000}, Value: "a size or a range such as 64B-128B", Parse: parseLengths,
		Print: func(r Range) string { return unit.Size(r.First).String() + "-" + unit.Size(r.Last).String() },
		Of:    func(p *packet.Packet) (uint32, uint32, bool) { return ofIP(uint32(min(p.Length, math.MaxUint16)), p) }},
	KeyVLAN: {Name: "vlan", Doc: "the identifier of the outermost VLAN tag", Splits: true, Max: 4095, Common: []uint32{NoNumber}, Layer: TagLayer, Value: "a VLAN from 0 to 4095, or a range such as 10-19", Parse: parseVLANs, Print: printRange,
		Of: func(p *packet.Packet) (uint32, uint32, bool) {
			return uint32(p.VLAN), uint32(p.VLAN), p.Tagged
		}},
	KeyIn: {Name: "in", Doc: "the interface by which the packet entered the node", Kind: InterfaceNames, Common: []uint32{NoNumber}, Value: "an interface, as node/interface",
		Of: func(p *packet.Packet) (uint32, uint32, bool) { return uint32(p.In), uint32(p.In), true }},
	KeyEtherType: {Name: "ethertype", Doc: "what the frame carries: ipv4, ipv6, arp or a number", Max: math.MaxUint16, Source: ByKind, Value: "an EtherType such as ipv4 or 0x88cc", Parse: parseEtherType,
		Print: func(r Range) string { return fmt.Sprintf("0x%04x", r.First) },
		Of: func(p *packet.Packet) (uint32, uint32, bool) {
			return uint32(p.EtherType), uint32(p.EtherType), true
		}},
	KeyPCP: {Name: "pcp", Doc: "the priority code point of the outermost VLAN tag", Max: 7, Common: []uint32{NoNumber, 0}, Layer: TagLayer, Source: ByMark, Value: "a priority code point" + threeBits, Parse: parseThreeBits, Print: printRange,
		Of: func(p *packet.Packet) (uint32, uint32, bool) {
			v, ok := p.PCP()
			return uint32(v), uint32(v), ok
		}},
	KeyTC: {Name: "tc", Doc: "the traffic class of the topmost MPLS label", Max: 7, Common: []uint32{NoNumber}, Layer: LabelLayer, Value: "a traffic class" + threeBits, Parse: parseThreeBits, Print: printRange,
		Of: func(p *packet.Packet) (uint32, uint32, bool) {
			v, ok := p.TC()
			return uint32(v), uint32(v), ok
		}},
}

const (
	portValue = "a port such as 5060 or a range such as 7400-7410"
	threeBits = ", a whole number from 0 to 7"
)

// Keys returns all keys, in the order in which they are asked.
func Keys() []Key {
	keys := make([]Key, NumKeys)
	for i := range keys {
		keys[i] = Key(i)
	}
	return keys
}

// Row returns what there is to know of the key.
func (k Key) Row() *KeyRow {
	row := keyTable[k]
	return &row
}

// String returns the key as a word of the language.
func (k Key) String() string { return keyTable[k].Name }

// Holds reports whether the term holds for a packet.
func (t *Term) Holds(p *packet.Packet) bool {
	row := &keyTable[t.Key]
	switch row.Kind {
	case AddressSets:
		a, ok := row.Address(p)
		return ok && t.Addresses.Contains(a)
	case AppNames:
		if !visible(p) {
			return false
		}
		for _, a := range t.Apps {
			if a.Takes(p) {
				return true
			}
		}
		return false
	}
	a, b, ok := row.Of(p)
	return ok && (contains(t.Ranges, a) || a != b && contains(t.Ranges, b))
}

func contains(ranges []Range, n uint32) bool {
	for _, r := range ranges {
		if r.First <= n && n <= r.Last {
			return true
		}
	}
	return false
}

// String returns the term as it is written: "from phones".
func (t *Term) String() string {
	row := &keyTable[t.Key]
	var words []string
	given := t.Given
	if t.Addresses != nil {
		given = t.Addresses.Given
	}
	for _, r := range given {
		words = append(words, r.Text)
	}
	if row.Print != nil {
		for _, r := range t.Ranges {
			words = append(words, row.Print(r))
		}
	}
	return row.Name + " " + strings.Join(words, ", ")
}

// Seen returns what a packet has of the term's key: "PCP 0", or "no VLAN tag".
func (t *Term) Seen(p *packet.Packet) string {
	row := &keyTable[t.Key]
	switch {
	case row.Layer == TagLayer && !p.Tagged:
		return "it has no VLAN tag"
	case row.Layer == LabelLayer && p.Labels() == 0:
		return "it has no label"
	}
	switch row.Kind {
	case AddressSets:
		if a, ok := row.Address(p); ok {
			return "it is " + a.String()
		}
	case Numbers:
		if a, b, ok := row.Of(p); ok {
			s := "it has " + row.Print(One(a))
			if t.Key == KeyLength {
				s = "it has " + unit.Size(p.Length).String()
			}
			if a != b {
				s += " and " + row.Print(One(b))
			}
			return s
		}
	default:
		return ""
	}
	switch {
	case p.LabelSwitched:
		return "the node forwards by label"
	case !p.IsIP():
		return "it is not IP"
	case !p.HasPorts:
		return "it has no ports"
	}
	return ""
}

// Covers reports whether every packet for which other holds has the term hold too;
// both are of one key. It may be false where the values are those of several ranges
// or prefixes together.
func (t *Term) Covers(other *Term) bool {
	if t.Key != other.Key {
		return false
	}
	switch keyTable[t.Key].Kind {
	case AddressSets:
		return !other.Addresses.Here && all(other.Addresses.Prefixes, func(b netip.Prefix) bool {
			return some(t.Addresses.Prefixes, func(a netip.Prefix) bool { return a.Bits() <= b.Bits() && a.Contains(b.Addr()) })
		})
	case AppNames:
		return all(other.Apps, func(b *App) bool { return some(t.Apps, func(a *App) bool { return a == b }) })
	}
	return all(other.Ranges, func(b Range) bool {
		return some(t.Ranges, func(a Range) bool { return a.First <= b.First && b.Last <= a.Last })
	})
}

func all[T any](list []T, holds func(T) bool) bool {
	return !some(list, func(v T) bool { return !holds(v) })
}

func some[T any](list []T, holds func(T) bool) bool {
	for _, v := range list {
		if holds(v) {
			return true
		}
	}
	return false
}

// Covers reports whether every packet for which other holds has the condition hold
// too, as far as Term.Covers tells.
func (c *Condition) Covers(other *Condition) bool {
	return all(c.Terms, func(t Term) bool {
		o := other.Term(t.Key)
		return o != nil && t.Covers(o)
	})
}

func printRange(r Range) string {
	if r.First == r.Last {
		return fmt.Sprint(r.First)
	}
	return fmt.Sprintf("%d-%d", r.First, r.Last)
}

// ParsePorts reads a port or a range of ports.
func ParsePorts(s string) (Range, error) {
	a, b, ranged := strings.Cut(s, "-")
	if !ranged {
		b = a
	}
	first, err1 := strconv.ParseUint(strings.TrimSpace(a), 10, 16)
	last, err2 := strconv.ParseUint(strings.TrimSpace(b), 10, 16)
	switch {
	case err1 != nil || err2 != nil:
		return Range{}, fmt.Errorf("%.40q is not a port or a range of ports from 0 to 65535", s)
	case first > last:
		return Range{}, fmt.Errorf("the range %.40s runs backwards: write %d-%d", s, last, first)
	}
	return Range{uint32(first), uint32(last)}, nil
}

func parseVLANs(s string) (Range, error) {
	r, err := ParsePorts(s)
	if err != nil || r.Last > 4095 {
		return r, fmt.Errorf("%.40q is not a VLAN from 0 to 4095 or a range of them", s)
	}
	return r, nil
}

func parseThreeBits(s string) (Range, error) {
	n, err := strconv.Atoi(s)
	if err != nil || n < 0 || n > 7 {
		return Range{}, fmt.Errorf("%.40q is not a whole number from 0 to 7", s)
	}
	return One(uint32(n)), nil
}

// parseLengths reads a size or a range of sizes, "64B-128B".
func parseLengths(s string) (Range, error) {
	a, b, ranged := strings.Cut(s, "-")
	if !ranged {
		b = a
	}
	var r [2]unit.Size
	for i, t := range []string{a, b} {
		n, err := unit.ParseSize(strings.TrimSpace(t))
		if err == nil && n > 65535 {
			err = fmt.Errorf("%.40q is longer than an IP packet can be", s)
		}
		if err != nil {
			return Range{}, err
		}
		r[i] = n
	}
	if r[0] > r[1] {
		return Range{}, fmt.Errorf("the range %.40s runs backwards", s)
	}
	return Range{uint32(r[0]), uint32(r[1])}, nil
}

func parseEtherType(s string) (Range, error) {
	switch s {
	case "ipv4":
		return One(packet.TypeIPv4), nil
	case "ipv6":
		return One(packet.TypeIPv6), nil
	case "arp":
		return One(packet.TypeARP), nil
	}
	n, err := strconv.ParseUint(s, 0, 16)
	if err != nil {
		return Range{}, fmt.Errorf("%.40q is not an EtherType", s)
	}
	return One(uint32(n)), nil
}

// protocols are the protocol words of the language with their numbers.
var protocols = [...]struct {
	name   string
	number uint8
}{
	{"icmp", packet.ICMP}, {"tcp", packet.TCP}, {"udp", packet.UDP}, {"gre", packet.GRE}, {"esp", packet.ESP},
	{"ah", packet.AH}, {"icmpv6", packet.ICMPv6}, {"ospf", 89}, {"sctp", packet.SCTP},
}

// ProtocolName returns the word for a protocol number, or the number.
func ProtocolName(n uint8) string {
	for _, p := range protocols {
		if p.number == n {
			return p.name
		}
	}
	return strconv.Itoa(int(n))
}

// ParseProtocol reads a protocol's name or number.
func ParseProtocol(s string) (uint8, error) {
	names := make([]string, 0, len(protocols))
	for _, p := range protocols {
		if s == p.name {
			return p.number, nil
		}
		names = append(names, p.name)
	}
	n, err := strconv.ParseUint(s, 10, 8)
	if err != nil {
		return 0, fmt.Errorf("%.40q is not a protocol; %sknown by name: %s", s, DidYouMean(s, names), strings.Join(names, ", "))
	}
	return uint8(n), nil
}
