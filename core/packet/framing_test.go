package packet

import "testing"

// One G.711 call at 20 ms is 80.0 kbit/s in IPv4, 87.2 in Ethernet frames, 95.2
// on the wire; G.729 24.0, 31.2 and 39.2. In cells, by hand: 200 + 8 + 8 of an
// LLC header and a trailer are 216 bytes, 5 cells.
func TestFramings(t *testing.T) {
	for name, want := range map[string][2]int{ // of 200 and of 60 bytes, in bit/s at 50 a second
		"ip": {80_000, 24_000}, "ethernet-frame": {87_200, 31_200}, "ethernet": {95_200, 39_200},
		"ethernet-vlan": {96_800, 40_800}, "ethernet-frame-vlan-pppoe": {92_000, 36_000},
		"aal5-routed-llc": {5 * 53 * 400, 2 * 53 * 400}, "aal5-ppp-vc": {5 * 53 * 400, 2 * 53 * 400}, "aal5-pppoe-llc": {5 * 53 * 400, 3 * 53 * 400},
	} {
		f, err := ParseFraming(name)
		if err != nil || f.Size(200, 0)*400 != want[0] || f.Size(60, 0)*400 != want[1] {
			t.Errorf("%s: %d and %d bit/s, %v; want %v", name, f.Size(200, 0)*400, f.Size(60, 0)*400, err, want)
		}
	}
	if FramingEthernet().Size(28, 0) != 84 || FramingEthernetFrame().Size(20, 0) != 64 {
		t.Error("small packets are padded")
	}
	if own := (Framing{Bytes: 22, Payload: 48, Cell: 53, Minimum: 84}); own.Size(20, 0) != 106 || own.Size(100, 0) != 159 {
		t.Errorf("22 bytes in cells, at least 84: %d and %d", own.Size(20, 0), own.Size(100, 0))
	}
	mpls, _ := ParseFraming("ethernet-vlan-mpls")
	for labels, want := range []int{246, 246, 250, 254} { // its own label is a minimum
		if got := mpls.Size(200, labels); got != want {
			t.Errorf("200 bytes under %d labels in ethernet-vlan-mpls: %d bytes; want %d", labels, got, want)
		}
	}
}
