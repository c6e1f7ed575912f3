package packet

import (
	"fmt"
	"slices"
)

// A Framing says how many bytes an IP packet takes on a link, and which headers a
// frame has there. The zero Framing adds nothing: it counts the IP packet alone.
// Framings can be compared.
type Framing struct {
	Bytes   int32 // added to every packet, tags and labels of the framing included
	Minimum int32 // the least a packet takes, padding included
	// Where the link carries cells, what is written above is cut into Payload bytes a
	// cell, the last one filled up, and each takes Cell bytes.
	Payload, Cell int32

	Tags   int8 // VLAN tags of a frame
	Labels int8 // MPLS labels that Bytes counts; a packet with more takes more

	Name string
}

// FramingIP counts the IP packet alone.
func FramingIP() Framing { return Framing{Name: "ip"} }

// FramingEthernet is Ethernet on the wire: a frame, a preamble of 8 and a gap of 12
// (IEEE 802.3).
func FramingEthernet() Framing { return Framing{Name: "ethernet", Bytes: 38, Minimum: 84} }

// FramingEthernetFrame is the Ethernet frame: a header of 14 bytes, the payload and
// a check sequence of 4, at least 64 (IEEE 802.3).
func FramingEthernetFrame() Framing { return Framing{Name: "ethernet-frame", Bytes: 18, Minimum: 64} }

// between lists what comes between the Ethernet header and the IP packet: an 802.1Q
// tag, a PPPoE session header (RFC 2516), an MPLS label (RFC 3032).
var between = [...]struct {
	word         string
	bytes        int32
	tags, labels int8
}{
	{"vlan", 4, 1, 0}, {"vlan-vlan", 8, 2, 0}, {"pppoe", 8, 0, 0}, {"vlan-pppoe", 12, 1, 0},
	{"mpls", 4, 0, 1}, {"mpls-mpls", 8, 0, 2}, {"vlan-mpls", 8, 1, 1}, {"vlan-mpls-mpls", 12, 1, 2},
}

// overAAL5 lists what AAL5 carries before the IP packet (RFC 2684, 2364, 2516),
// without its trailer of 8: multiplexed by circuit (vc) or by an LLC header (llc).
// A bridged frame has its header of 14 and no check sequence.
var overAAL5 = [...]struct {
	word  string
	bytes int32
}{
	{"routed-vc", 0}, {"routed-llc", 8}, {"bridged-vc", 2 + 14}, {"bridged-llc", 10 + 14},
	{"ppp-vc", 2}, {"ppp-llc", 6}, {"pppoe-vc", 2 + 14 + 8}, {"pppoe-llc", 10 + 14 + 8},
}

// Framings lists the framings that have a name.
func Framings() []Framing {
	all := []Framing{FramingIP(), FramingEthernet(), FramingEthernetFrame()}
	for _, base := range all[1:3] {
		for _, b := range between {
			all = append(all, Framing{Name: base.Name + "-" + b.word, Bytes: base.Bytes + b.bytes, Minimum: base.Minimum, Tags: b.tags, Labels: b.labels})
		}
	}
	for _, a := range overAAL5 {
		all = append(all, Framing{Name: "aal5-" + a.word, Bytes: a.bytes + 8, Payload: 48, Cell: 53})
	}
	return all
}

// ParseFraming returns the framing of a name.
func ParseFraming(name string) (Framing, error) {
	all := Framings()
	if i := slices.IndexFunc(all, func(f Framing) bool { return f.Name == name }); i >= 0 {
		return all[i], nil
	}
	return Framing{}, fmt.Errorf("%.40q is not a framing", name)
}

// Size returns the bytes that an IP packet of the given length under so many MPLS
// labels takes. The labels of the framing itself are a minimum.
func (f Framing) Size(length, labels int) int {
	n := max(length+int(f.Bytes)+4*max(labels-int(f.Labels), 0), int(f.Minimum))
	if payload := int(f.Payload); payload > 0 {
		n = (n + payload - 1) / payload * int(f.Cell)
	}
	return n
}
