package packet

import "testing"

// One G.711 call at 20 ms is 80.0 kbit/s in IPv4, 87.2 in Ethernet frames, 95.2
// on the wire; G.729 24.0, 31.2 and 39.2. Over ATM by hand: 200 + 8 + 8 of an
// LLC header and a trailer are 216 bytes, 5 cells.
func TestFramings(t *testing.T) {
	for name, want := range map[string][2]int{ // of 200 and of 60 bytes, in bit/s at 50 a second
		"ip": {80_000, 24_000}, "ethernet-frame": {87_200, 31_200}, "ethernet": {95_200, 39_200},
		"ethernet-vlan": {96_800, 40_800}, "ethernet-frame-vlan-pppoe": {92_000, 36_000},
		"atm-ip-llc": {5 * 53 * 400, 2 * 53 * 400}, "atm-pppoa-vc": {5 * 53 * 400, 2 * 53 * 400}, "atm-pppoe-llc": {5 * 53 * 400, 3 * 53 * 400},
	} {
		f, err := ParseFraming(name)
		if err != nil || f.Size(200)*400 != want[0] || f.Size(60)*400 != want[1] {
			t.Errorf("%s: %d and %d bit/s, %v; want %v", name, f.Size(200)*400, f.Size(60)*400, err, want)
		}
	}
	if FramingEthernet.Size(28) != 84 || FramingEthernetFrame.Size(20) != 64 {
		t.Error("small packets are padded")
	}
	if own := (Framing{Bytes: 22, Payload: 48, Cell: 53, Minimum: 84}); own.Size(20) != 106 || own.Size(100) != 159 {
		t.Errorf("22 bytes in cells, at least 84: %d and %d", own.Size(20), own.Size(100))
	}
}
