package packet

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"

	"imbrel.example/imbrel/core/codepoint"
)

// Tags and labels put on and taken off in any order: the frame's own bytes, read again
// here and by an independent library, have what a plain list of them has, and the IP
// packet below is untouched.
func TestLayersPutOnAndTakenOff(t *testing.T) {
	for trial := range 2000 {
		r := rand.New(rand.NewPCG(12, uint64(trial)))
		flow := Flow{From: netip.MustParseAddr("10.1.0.1"), To: netip.MustParseAddr("10.2.0.1"), FromPort: 1000, ToPort: 2000, Protocol: UDP}
		if r.IntN(2) == 0 {
			flow.From, flow.To = netip.MustParseAddr("2001:db8::1"), netip.MustParseAddr("2001:db8::2")
		}
		var p Packet
		p.Build(make([]byte, HeaderRoom), flow, codepoint.EF, 200, 12)
		whole := slices.Clone(p.Network())
		var tags []Tag
		var classes []uint8 // the topmost first
		for range 1 + r.IntN(12) {
			switch r.IntN(4) {
			case 0:
				tags = make([]Tag, r.IntN(3))
				for i := range tags {
					tags[i] = Tag{VLAN: uint16(r.IntN(4096)), PCP: uint8(r.IntN(8)), DEI: r.IntN(2) == 0}
				}
				p.SetTags(tags)
			case 1:
				if len(classes) < 6 {
					classes = append([]uint8{uint8(r.IntN(8))}, classes...)
					p.PushLabel(classes[0])
				}
			case 2:
				tc, ok := p.PopLabel()
				if ok != (len(classes) > 0) || ok && tc != classes[0] {
					t.Fatalf("trial %d: popped %d, %t of %v", trial, tc, ok, classes)
				}
				classes = classes[min(1, len(classes)):]
			case 3:
				if r.IntN(3) == 0 {
					classes = nil
					p.DropLabels()
				}
			}
			var again Packet
			if err := again.Parse(slices.Clone(p.Bytes), p.WireLength()); err != nil {
				t.Fatalf("trial %d: %v", trial, err)
			}
			for _, q := range []*Packet{&p, &again} {
				if fmt.Sprint(q.Tags()) != fmt.Sprint(tags) || fmt.Sprint(q.LabelClasses()) != fmt.Sprint(classes) || !bytes.Equal(q.Network(), whole) || q.Flow != flow || q.Length != 200 {
					t.Fatalf("trial %d: tags %v, labels %v, %v of %d bytes; want %v, %v", trial, q.Tags(), q.LabelClasses(), q.Flow, q.Length, tags, classes)
				}
			}
			d := gopacket.NewPacket(p.Bytes, layers.LayerTypeEthernet, gopacket.Default)
			var theirTags []Tag
			var theirClasses []uint8
			for _, l := range d.Layers() {
				switch l := l.(type) {
				case *layers.Dot1Q:
					theirTags = append(theirTags, Tag{l.VLANIdentifier, l.Priority, l.DropEligible})
				case *layers.MPLS:
					theirClasses = append(theirClasses, l.TrafficClass)
					if l.StackBottom != (len(theirClasses) == len(classes)) {
						t.Fatalf("trial %d: the bottom of the stack is at label %d of %d", trial, len(theirClasses), len(classes))
					}
				}
			}
			if fmt.Sprint(theirTags) != fmt.Sprint(tags) || fmt.Sprint(theirClasses) != fmt.Sprint(classes) || d.TransportLayer() == nil {
				t.Fatalf("trial %d: the library reads tags %v, labels %v; want %v, %v", trial, theirTags, theirClasses, tags, classes)
			}
		}
	}
}

// An outer header around a packet is what an independent library reads.
func TestEncapsulate(t *testing.T) {
	inner := Flow{From: netip.MustParseAddr("10.1.0.1"), To: netip.MustParseAddr("10.2.0.1"), FromPort: 1000, ToPort: 2000, Protocol: UDP}
	for _, c := range []struct {
		outer  Flow
		length int
		want   string
	}{
		{Flow{From: netip.MustParseAddr("192.0.2.1"), To: netip.MustParseAddr("192.0.2.2"), Protocol: GRE}, 224, "[Ethernet IPv4 GRE IPv4 UDP]"},
		{Flow{From: netip.MustParseAddr("2001:db8::1"), To: netip.MustParseAddr("2001:db8::2"), Protocol: GRE}, 244, "[Ethernet IPv6 GRE IPv4 UDP]"},
		{Flow{From: netip.MustParseAddr("192.0.2.1"), To: netip.MustParseAddr("192.0.2.2"), Protocol: ESP}, 20 + ESPLength(200), "[Ethernet IPv4 IPSecESP]"},
	} {
		var p, q Packet
		p.Build(make([]byte, HeaderRoom), inner, codepoint.AF(4, 1), 200, 0)
		p.SetECN(2)
		q.Encapsulate(&p, c.outer, c.length)
		d := gopacket.NewPacket(q.Bytes, layers.LayerTypeEthernet, gopacket.Default)
		var kinds []string
		for _, l := range d.Layers() {
			if k := l.LayerType().String(); k != "Payload" && k != "DecodeFailure" {
				kinds = append(kinds, k)
			}
		}
		if fmt.Sprint(kinds) != c.want || q.Length != c.length || q.TrafficClass() != p.TrafficClass() || q.Flow.From != c.outer.From {
			t.Errorf("%v in %s: %v, %d bytes, class 0x%02x; want %s, %d, 0x%02x", inner, nameOf(c.outer), kinds, q.Length, q.TrafficClass(), c.want, c.length, p.TrafficClass())
		}
		var back Packet
		if c.outer.Protocol == GRE && (!q.Inner(&back) || back.Flow != inner || back.Length != 200) {
			t.Errorf("what is inside reads as %v of %d bytes", back.Flow, back.Length)
		}
	}
	// AES-GCM by hand: 200 and two bytes of trailer are 202, padded to 204; 8 + 8 + 204 + 16.
	if got := ESPLength(200); got != 236 {
		t.Errorf("ESP around 200 bytes is %d; want 236", got)
	}
}

func nameOf(f Flow) string { return map[uint8]string{GRE: "GRE", ESP: "ESP"}[f.Protocol] }
