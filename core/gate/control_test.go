package gate

import (
	"encoding/binary"
	"net/netip"
	"testing"

	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
)

// Neighbour discovery (RFC 4861: types 133 to 137) is control; other ICMPv6 is not.
func TestControl(t *testing.T) {
	flow := packet.Flow{From: netip.MustParseAddr("fe80::1"), To: netip.MustParseAddr("fe80::2"), Protocol: packet.ICMPv6}
	for kind := range 256 {
		for _, protocol := range []uint8{packet.ICMPv6, packet.UDP} {
			flow.Protocol = protocol
			var p packet.Packet
			p.Build(make([]byte, packet.HeaderRoom), flow, 0, 100, 1)
			p.Transport()[0] = byte(kind)
			want := kind >= 133 && kind <= 137 && protocol == packet.ICMPv6
			if got := control(&p); got != want {
				t.Errorf("type %d of protocol %d is control: %t", kind, protocol, got)
			}
		}
	}
}

// A gate learns where stations are from their frames, never from a group address, and keeps a bounded number of them.
func TestStations(t *testing.T) {
	node := &policy.Node{Name: "n"}
	for i, name := range []string{"a", "b", "c"} {
		node.Interfaces = append(node.Interfaces, &policy.Interface{Name: name, Node: node, Number: i, Rate: 1_000_000_000})
	}
	g, err := New(&policy.File{Network: policy.Network{Nodes: []policy.Node{*node}}}, node, node.Interfaces, 0, Options{})
	if err != nil {
		t.Fatal(err)
	}
	left := map[int]int{}
	send := func(port int, _ []byte) { left[port]++ }
	take := func(port int, to, from uint64) {
		b := make([]byte, 64)
		binary.BigEndian.PutUint64(b[6:], from<<16)
		var dst [8]byte
		binary.BigEndian.PutUint64(dst[:], to<<16)
		copy(b, dst[:6])
		b[12], b[13] = 8, 6 // ARP, which waits for nothing
		clear(left)
		g.Take(0, port, b, send)
	}
	const station, group = 0x020000000001, 0x010000000001
	take(0, 0xffffffffffff, station)
	if take(1, station, station+1); left[0] != 1 || len(left) != 1 {
		t.Errorf("to a known station: %v", left)
	}
	take(0, 0xffffffffffff, group)
	if take(1, group, station+1); left[0] != 1 || left[2] != 1 {
		t.Errorf("to a group: %v", left)
	}
	if _, known := g.stations[[6]byte{1, 0, 0, 0, 0, 1}]; known {
		t.Error("a group address was learned")
	}
	for i := range uint64(maxStations + 100) {
		take(0, 0xffffffffffff, 0x020000010000+i)
	}
	if len(g.stations) > maxStations {
		t.Errorf("%d stations are kept", len(g.stations))
	}
}
