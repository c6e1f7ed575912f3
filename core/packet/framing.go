package packet

import (
	"fmt"
	"slices"
	"strings"
)

// A Framing says how many bytes an IP packet takes on a link. The zero Framing
// adds nothing: it counts the IP packet alone.
type Framing struct {
	Name    string
	Bytes   int // added to every packet
	Minimum int // the least a packet takes, padding included
	// Where the link carries cells, what stands above is cut into Payload bytes a
	// cell, the last one filled up, and each takes Cell bytes.
	Payload, Cell int
}

// The framings of IEEE 802.3: a frame is a 14-byte header, the payload and a
// 4-byte check sequence, at least 64 bytes; on the wire a preamble of 8 and a
// gap of 12 go with it.
var (
	FramingIP            = Framing{Name: "ip"}
	FramingEthernet      = Framing{Name: "ethernet", Bytes: 38, Minimum: 84}
	FramingEthernetFrame = Framing{Name: "ethernet-frame", Bytes: 18, Minimum: 64}
)

// What stands between the Ethernet header and the IP packet: an 802.1Q tag, a
// PPPoE session header (RFC 2516), an MPLS label (RFC 3032).
var between = []struct {
	word  string
	bytes int
}{{"vlan", 4}, {"vlan-vlan", 8}, {"pppoe", 8}, {"vlan-pppoe", 12}, {"mpls", 4}, {"mpls-mpls", 8}, {"vlan-mpls", 8}, {"vlan-mpls-mpls", 12}}

// What AAL5 carries before the IP packet (RFC 2684, 2364, 2516), without its
// trailer of 8: multiplexed by circuit (vc) or by an LLC header (llc).
var overATM = []struct {
	word  string
	bytes int
}{
	{"ip-vc", 0}, {"ip-llc", 8}, {"pppoa-vc", 2}, {"pppoa-llc", 6},
	{"ethernet-vc", 2 + 14}, {"ethernet-llc", 10 + 14}, {"pppoe-vc", 2 + 14 + 8}, {"pppoe-llc", 10 + 14 + 8},
}

// Framings lists the framings that have a name.
func Framings() []Framing {
	all := []Framing{FramingIP, FramingEthernet, FramingEthernetFrame}
	for _, base := range all[1:3] {
		for _, b := range between {
			all = append(all, Framing{Name: base.Name + "-" + b.word, Bytes: base.Bytes + b.bytes, Minimum: base.Minimum})
		}
	}
	for _, a := range overATM {
		all = append(all, Framing{Name: "atm-" + a.word, Bytes: a.bytes + 8, Payload: 48, Cell: 53})
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

// HasVLAN reports whether frames carry a VLAN tag, and so a priority code point.
func (f Framing) HasVLAN() bool { return strings.Contains(f.Name, "-vlan") }

// Size returns the bytes an IP packet of the given length takes.
func (f Framing) Size(length int) int {
	n := max(length+f.Bytes, f.Minimum)
	if f.Payload > 0 {
		n = (n + f.Payload - 1) / f.Payload * f.Cell
	}
	return n
}
