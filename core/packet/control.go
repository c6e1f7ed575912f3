package packet

import (
	"encoding/binary"
	"net/netip"
)

// A Standing says whether a frame is one for the classes of a policy.
type Standing uint8

// The standings. Those after Unreadable are of link control, each a kind of its own.
const (
	Classified Standing = iota // an IP packet, as far as it can be read
	Unreadable                 // neither IP nor link control
	firstControl
)

// controls lists the link control that links need to work: never IP that a router forwards.
var controls = [...]struct {
	name string
	is   func(*Packet) bool
}{
	{"neighbour discovery", (*Packet).discovers},
	{"address resolution", ofType(TypeARP, 0x8035)}, // RFC 826, RFC 903
	{"port access", ofType(0x888e)},                 // EAPOL, IEEE 802.1X
	{"link layer discovery", ofType(0x88cc)},        // LLDP, IEEE 802.1AB
	{"link aggregation", ofType(0x8809)},            // LACP and the other slow protocols, IEEE 802.3 annex 57A
	{"link supervision", ofType(0x8902)},            // ITU-T Y.1731, IEEE 802.1ag
	{"PPPoE discovery", ofType(0x8863)},             // RFC 2516
	{"PPP control", (*Packet).controlsPPP},
	{"bridge control", (*Packet).controlsBridges}, // spanning tree and what else bridges say among themselves
}

// Standings is how many there are.
const Standings = int(firstControl) + len(controls)

// Control reports whether the frame is of link control.
func (s Standing) Control() bool { return s >= firstControl }

// String returns the name of a kind of link control, "classified" or "unreadable".
func (s Standing) String() string {
	switch {
	case s == Classified:
		return "classified"
	case s.Control() && int(s) < Standings:
		return controls[s-firstControl].name
	}
	return "unreadable"
}

// Standing returns that of a packet after Parse, whatever error that returned.
func (p *Packet) Standing() Standing {
	if p.IsIP() {
		if p.Flow.Protocol == ICMPv6 && p.discovers() {
			return firstControl
		}
		return Classified
	}
	for i := 1; i < len(controls); i++ {
		if controls[i].is(p) {
			return firstControl + Standing(i)
		}
	}
	return Unreadable
}

func ofType(kinds ...uint16) func(*Packet) bool {
	return func(p *Packet) bool {
		for _, k := range kinds {
			if p.EtherType == k {
				return true
			}
		}
		return false
	}
}

// controlsPPP reports whether a PPPoE session's frame is of the link or of a network control
// protocol: those from 0x8000 on (RFC 1661 §2).
func (p *Packet) controlsPPP() bool {
	at := p.typeAt()
	return p.EtherType == TypePPPoE && len(p.Bytes) >= at+10 && p.Bytes[at+8]&0x80 != 0
}

// controlsBridges reports whether a frame is to one of the addresses that bridges keep for themselves
// (IEEE 802.1Q §8.6.3).
func (p *Packet) controlsBridges() bool {
	return len(p.Bytes) >= EthernetHeader && binary.BigEndian.Uint32(p.Bytes) == 0x0180c200 && p.Bytes[4] == 0 && p.Bytes[5]&0xf0 == 0
}

// Neighbour discovery's messages (RFC 4861 §4): the shortest, and where their options begin.
var discoveries = [...]int{8, 16, 24, 24, 40}

// discovers reports whether a packet is of neighbour discovery, as every node must check before it
// believes it (RFC 4861 §6.1, §7.1, §8.1): no router can have forwarded it.
func (p *Packet) discovers() bool {
	const (
		firstType, solicitation, routers, neighbour, answer, redirect = 133, 133, 134, 135, 136, 137
		sourceLinkLayer                                               = 1
	)
	ip := p.Network()
	if p.network == 0 || len(ip) < 40 || ip[0]>>4 != 6 || ip[6] != ICMPv6 || ip[7] != 255 { // the hop limit
		return false
	}
	b := ip[40:min(len(ip), max(40, p.Length))]
	if len(b) < 8 || len(b) != p.Length-40 || b[0] < firstType || int(b[0]) >= firstType+len(discoveries) || b[1] != 0 {
		return false
	}
	kind := b[0]
	options := discoveries[kind-firstType]
	if len(b) < options {
		return false
	}
	tells := false // an option with the sender's own link-layer address
	for o := b[options:]; len(o) > 0; {
		if len(o) < 8 || o[1] == 0 || len(o) < 8*int(o[1]) {
			return false
		}
		tells = tells || o[0] == sourceLinkLayer
		o = o[8*int(o[1]):]
	}
	from, to := p.Flow.From, p.Flow.To
	if from.IsMulticast() || to.IsUnspecified() || !to.IsLinkLocalMulticast() && to.IsMulticast() {
		return false
	}
	var target netip.Addr
	if len(b) >= 24 {
		target = netip.AddrFrom16([16]byte(b[8:24]))
	}
	right := true
	switch kind {
	case solicitation:
		right = !(from.IsUnspecified() && tells)
	case routers:
		right = from.IsLinkLocalUnicast()
	case neighbour:
		right = !target.IsMulticast() && (to == target || to == solicitedNode(target)) && !(from.IsUnspecified() && (tells || !to.IsMulticast()))
	case answer:
		right = !target.IsMulticast() && !(to.IsMulticast() && b[4]&0x40 != 0)
	case redirect:
		about := netip.AddrFrom16([16]byte(b[24:40]))
		right = from.IsLinkLocalUnicast() && !to.IsMulticast() && !about.IsMulticast() && (target == about || target.IsLinkLocalUnicast())
	}
	return right && p.checked(b)
}

// solicitedNode returns the group in which a node is asked for an address (RFC 4291 §2.7.1).
func solicitedNode(a netip.Addr) netip.Addr {
	b := a.As16()
	return netip.AddrFrom16([16]byte{0: 0xff, 1: 2, 11: 1, 12: 0xff, 13: b[13], 14: b[14], 15: b[15]})
}

// checked reports whether the checksum of what an IPv6 packet carries is right (RFC 8200 §8.1).
func (p *Packet) checked(carried []byte) bool {
	sum := uint32(len(carried)) + uint32(p.Flow.Protocol)
	for _, part := range [][]byte{p.Network()[8:40], carried} {
		sum += uint32(^Checksum(part))
	}
	for sum > 0xffff {
		sum = sum&0xffff + sum>>16
	}
	return sum == 0xffff
}
