package packet

import (
	"encoding/binary"
	"flag"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"testing"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"

	"imbrel.example/imbrel/core/codepoint"
)

func randomFlow(r *rand.Rand) Flow {
	var f Flow
	if r.IntN(2) == 0 {
		f.From = netip.AddrFrom4([4]byte{10, byte(r.Uint32()), byte(r.Uint32()), 1})
		f.To = netip.AddrFrom4([4]byte{10, byte(r.Uint32()), byte(r.Uint32()), 2})
	} else {
		f.From = netip.AddrFrom16([16]byte{0x20, 1, 0xd, 0xb8, 15: byte(r.Uint32())})
		f.To = netip.AddrFrom16([16]byte{0x20, 1, 0xd, 0xb8, 14: 1, 15: byte(r.Uint32())})
	}
	f.Protocol = []uint8{UDP, TCP}[r.IntN(2)]
	f.FromPort, f.ToPort = uint16(r.Uint32()), uint16(r.Uint32())
	return f
}

// pushTags puts VLAN tags or MPLS labels between the Ethernet header and the
// payload of a frame.
func pushTags(r *rand.Rand, frame []byte) []byte {
	out := append([]byte{}, frame[:12]...)
	kind := binary.BigEndian.Uint16(frame[12:])
	if kind == TypeIPv6 && r.IntN(2) == 0 { // hop-by-hop and destination options
		ext := []byte{60, 0, 1, 4, 0, 0, 0, 0, frame[20], 1, 1, 12}
		ext = append(ext, make([]byte, 12)...)
		frame = append(append(append([]byte{}, frame[:54]...), ext...), frame[54:]...)
		frame[20] = 0
		binary.BigEndian.PutUint16(frame[18:], binary.BigEndian.Uint16(frame[18:])+uint16(len(ext)))
	}
	if r.IntN(4) == 0 { // a PPPoE session
		out = append(out, 0x88, 0x64, 0x11, 0, 0, 7)
		out = binary.BigEndian.AppendUint16(out, uint16(len(frame)-14+2))
		if kind == TypeIPv4 {
			out = append(out, 0, 0x21)
		} else {
			out = append(out, 0, 0x57)
		}
		return append(out, frame[14:]...)
	}
	for range r.IntN(3) {
		out = binary.BigEndian.AppendUint16(out, TypeVLAN)
		out = binary.BigEndian.AppendUint16(out, uint16(r.Uint32()))
	}
	if n := r.IntN(3); n > 0 {
		out = binary.BigEndian.AppendUint16(out, TypeMPLS)
		for i := range n {
			label := r.Uint32()&^0x1ff | 64
			if i == n-1 {
				label |= 0x100
			}
			out = binary.BigEndian.AppendUint32(out, label)
		}
	} else {
		out = binary.BigEndian.AppendUint16(out, kind)
	}
	return append(out, frame[14:]...)
}

// An independent decoding library must read from our frames what we read,
// before and after a mark is rewritten, checksums included.
func TestAgainstAnIndependentDecoder(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	for range 100_000 {
		flow, dscp := randomFlow(r), codepoint.DSCP(r.IntN(64))
		length := 60 + r.IntN(1400)
		var p, q Packet
		p.Build(make([]byte, HeaderRoom), flow, dscp, length, 0)
		frame := append(append([]byte{}, p.Bytes...), make([]byte, EthernetHeader+length-len(p.Bytes))...)
		frame = pushTags(r, frame)
		if err := q.Parse(frame, len(frame)); err != nil {
			t.Fatalf("our own frame of %+v: %v", flow, err)
		}
		if extra := q.Length - length; q.Flow != flow || q.DSCP() != dscp || extra != 0 && (extra != 24 || flow.From.Is4()) {
			t.Fatalf("built %+v %s %d, read %+v %s %d", flow, dscp.Name(), length, q.Flow, q.DSCP().Name(), q.Length)
		}
		mark := codepoint.DSCP(r.IntN(64))
		q.SetDSCP(mark)
		decoded := gopacket.NewPacket(frame, layers.LayerTypeEthernet, gopacket.Default)
		if decoded.TransportLayer() == nil { // what it thinks of our zero payload is its own affair
			t.Fatalf("the library cannot read our frame: %v in %x", decoded, frame)
		}
		switch ip := decoded.NetworkLayer().(type) {
		case *layers.IPv4:
			if ip.TOS != mark.ToS() || Checksum(ip.Contents) != 0 {
				t.Fatalf("marked %s: the library reads ToS %d, header sum %04x", mark.Name(), ip.TOS, Checksum(ip.Contents))
			}
		case *layers.IPv6:
			if ip.TrafficClass != mark.ToS() {
				t.Fatalf("marked %s: the library reads traffic class %d", mark.Name(), ip.TrafficClass)
			}
		default:
			t.Fatalf("the library finds no IP in %x", frame)
		}
		switch l4 := decoded.TransportLayer().(type) {
		case *layers.UDP:
			if l4.SrcPort != layers.UDPPort(flow.FromPort) || l4.DstPort != layers.UDPPort(flow.ToPort) {
				t.Fatalf("ports %d %d, want %+v", l4.SrcPort, l4.DstPort, flow)
			}
		case *layers.TCP:
			if l4.SrcPort != layers.TCPPort(flow.FromPort) || l4.DstPort != layers.TCPPort(flow.ToPort) {
				t.Fatalf("ports %d %d, want %+v", l4.SrcPort, l4.DstPort, flow)
			}
		}
		if err, bad := verify(decoded); bad {
			t.Fatalf("the library finds a wrong checksum: %v in %x", err, frame)
		}
	}
}

func verify(p gopacket.Packet) (string, bool) {
	for _, l := range p.Layers() { // below a label stack the library wants to be told
		if c, ok := l.(interface {
			SetNetworkLayerForChecksum(gopacket.NetworkLayer) error
		}); ok {
			_ = c.SetNetworkLayerForChecksum(p.NetworkLayer())
		}
	}
	err, mismatches := p.VerifyChecksums()
	if err != nil {
		return err.Error(), true
	}
	for _, m := range mismatches {
		// What it takes our zero payload for is its own affair.
		if m.Layer == gopacket.Layer(p.NetworkLayer()) || m.Layer == gopacket.Layer(p.TransportLayer()) {
			return fmt.Sprintf("%s: %+v", m.Layer.LayerType(), m.ChecksumVerificationResult), true
		}
	}
	return "", false
}

func TestECNSurvivesAMark(t *testing.T) {
	for _, flow := range []Flow{
		{From: netip.MustParseAddr("10.44.8.1"), To: netip.MustParseAddr("10.44.64.1"), Protocol: UDP},
		{From: netip.MustParseAddr("2001:db8::1"), To: netip.MustParseAddr("2001:db8::2"), Protocol: UDP},
	} {
		for ecn := range uint8(4) {
			var p Packet
			p.Build(make([]byte, HeaderRoom), flow, codepoint.DF, 100, 0)
			b := p.Network()
			if b[0]>>4 == 4 {
				b[1] |= ecn
				binary.BigEndian.PutUint16(b[10:], 0)
				binary.BigEndian.PutUint16(b[10:], Checksum(b[:20]))
			} else {
				b[1] |= ecn << 4
			}
			p.SetDSCP(codepoint.EF)
			if got := p.trafficClass(); got != codepoint.EF.ToS()|ecn {
				t.Errorf("%s, ECN %d: the byte is %08b after marking EF", flow.From, ecn, got)
			}
			if b[0]>>4 == 4 && Checksum(b[:20]) != 0 {
				t.Errorf("ECN %d: wrong header checksum", ecn)
			}
		}
	}
}

// PCP and TC are rewritten in place and nothing beside them.
func TestTagsAndLabels(t *testing.T) {
	var p Packet
	p.Build(make([]byte, HeaderRoom), Flow{From: netip.MustParseAddr("10.0.0.1"), To: netip.MustParseAddr("10.0.0.2"), Protocol: UDP, ToPort: 9}, codepoint.EF, 200, 0)
	frame := append([]byte{}, p.Bytes[:12]...)
	frame = append(frame, 0x88, 0xa8, 0x30, 0x1e, 0x81, 0x00, 0xa0, 0x0a) // outer: PCP 1, DEI, VLAN 30; inner: PCP 5, VLAN 10
	frame = append(frame, 0x88, 0x47, 0x00, 0x06, 0x4a, 0x40, 0x00, 0x07, 0xdb, 0x3f)
	frame = append(frame, p.Bytes[14:]...)
	was := append([]byte{}, frame...)
	if err := p.Parse(frame, 214+16); err != nil {
		t.Fatal(err)
	}
	pcp, _ := p.PCP()
	tc, _ := p.TC()
	if p.VLAN != 30 || pcp != 1 || !p.DEI() || tc != 5 || p.Labels() != 2 || p.DSCP() != codepoint.EF || p.Precedence() != 5 || p.Flow.ToPort != 9 {
		t.Fatalf("VLAN %d, PCP %d, DEI %t, TC %d of %d labels, %s, %+v", p.VLAN, pcp, p.DEI(), tc, p.Labels(), p.DSCP().Name(), p.Flow)
	}
	p.SetPCP(6)
	p.SetTC(3)
	decoded := gopacket.NewPacket(frame, layers.LayerTypeEthernet, gopacket.Default)
	tags, labels := decoded.Layer(layers.LayerTypeDot1Q).(*layers.Dot1Q), decoded.Layer(layers.LayerTypeMPLS).(*layers.MPLS)
	if tags.Priority != 6 || !tags.DropEligible || tags.VLANIdentifier != 30 || labels.TrafficClass != 3 || labels.Label != 100 || labels.TTL != 64 {
		t.Errorf("the library reads %+v and %+v", tags, labels)
	}
	p.SetDEI(false)
	if p.DEI() || p.VLAN != 30 {
		t.Error("the drop eligible indicator stays, or more goes with it")
	}
	p.SetDEI(true)
	p.SetPCP(1)
	p.SetTC(5)
	if string(frame) != string(was) {
		t.Errorf("back again, the frame differs:\n%x\n%x", frame, was)
	}
}

func TestWhatATunnelCarries(t *testing.T) {
	inner := Flow{From: netip.MustParseAddr("2001:db8::1"), To: netip.MustParseAddr("2001:db8::2"), Protocol: TCP, FromPort: 1, ToPort: 443}
	var in Packet
	in.Build(make([]byte, HeaderRoom), inner, codepoint.AF(2, 1), 100, 0)
	outer := Flow{From: netip.MustParseAddr("192.0.2.1"), To: netip.MustParseAddr("192.0.2.2")}
	for name, c := range map[string]struct {
		protocol uint8
		header   []byte
	}{
		"IP in IP":                    {IPv6in, nil},
		"GRE":                         {GRE, []byte{0, 0, 0x86, 0xdd}},
		"GRE with a key and sequence": {GRE, []byte{0x30, 0, 0x86, 0xdd, 0, 0, 0, 7, 0, 0, 0, 1}},
	} {
		var p, q Packet
		outer.Protocol = c.protocol
		p.Build(make([]byte, HeaderRoom), outer, codepoint.EF, 20+len(c.header)+100, 0)
		frame := append(append(append([]byte{}, p.Bytes...), c.header...), in.Bytes[EthernetHeader:]...)
		if err := p.Parse(frame, EthernetHeader+20+len(c.header)+100); err != nil {
			t.Fatal(err)
		}
		if !p.Inner(&q) || q.Flow != inner || q.DSCP() != codepoint.AF(2, 1) || p.DSCP() != codepoint.EF {
			t.Errorf("%s: carries %+v, %s", name, q.Flow, q.DSCP().Name())
		}
	}
	if in.Inner(&Packet{}) {
		t.Error("a TCP packet carries no other")
	}
}

// Headers that lie or stop must be told, and never read beyond the bytes.
func TestBadFrames(t *testing.T) {
	var p Packet
	p.Build(make([]byte, HeaderRoom), Flow{From: netip.MustParseAddr("10.0.0.1"), To: netip.MustParseAddr("10.0.0.2"), Protocol: UDP}, 0, 200, 0)
	good := append([]byte{}, p.Bytes...)
	change := func(at int, b ...byte) []byte {
		f := append([]byte{}, good...)
		copy(f[at:], b)
		return f
	}
	labels := append(append([]byte{}, good[:12]...), 0x88, 0x47)
	for range 100 {
		labels = append(labels, 0, 0, 0, 64)
	}
	hops := append(append([]byte{}, good[:12]...), 0x86, 0xdd, 0x60, 0, 0, 0, 0x10, 0, 0, 64)
	hops = append(hops, make([]byte, 32+4096)...)
	for name, c := range map[string]struct {
		frame []byte
		want  error
	}{
		"nothing":                    {nil, ErrCut},
		"half an Ethernet header":    {good[:10], ErrCut},
		"half an IP header":          {good[:30], ErrCut},
		"IP version 5":               {change(14, 0x55), ErrMalformed},
		"a header of 8 bytes":        {change(14, 0x42), ErrMalformed},
		"longer than the frame":      {change(16, 0xff, 0xff), ErrMalformed},
		"a label stack without end":  {labels, ErrTooDeep},
		"extension headers in a row": {hops, ErrTooDeep},
		"a tag and nothing after it": {append(append([]byte{}, good[:12]...), 0x81, 0x00, 0), ErrCut},
	} {
		if err := p.Parse(c.frame, max(len(c.frame), 214)); err != c.want {
			t.Errorf("%s: %v; want %v", name, err, c.want)
		}
		p.SetDSCP(codepoint.EF) // whatever was read, marking must be safe
	}
}

// The fuzzer's packets must never panic, and a marked packet must read back.
func FuzzParse(f *testing.F) {
	r := rand.New(rand.NewPCG(5, 5))
	for range 20 {
		var p Packet
		p.Build(make([]byte, HeaderRoom), randomFlow(r), 0, 300, 0)
		f.Add(pushTags(r, p.Bytes), 314)
	}
	// A length of 0 beside options, and a frame that claims to be shorter than its bytes.
	var p Packet
	p.Build(make([]byte, HeaderRoom+60), Flow{From: netip.AddrFrom4([4]byte{10, 0, 0, 1}), To: netip.AddrFrom4([4]byte{10, 0, 0, 2}), Protocol: UDP}, 0, 80, 0)
	p.Bytes = append(p.Bytes, make([]byte, 60)...)
	p.Bytes[14], p.Bytes[16], p.Bytes[17] = 0x4f, 0, 0
	f.Add(p.Bytes, 34)
	f.Fuzz(func(t *testing.T, frame []byte, wire int) {
		if p := anyFrame(t, frame, wire); p != nil {
			asTheLibrary(t, p)
		}
	})
}

var mutated = flag.Int("mutated", 100_000, "how many damaged frames TestDamagedFrames parses")

// A damaged frame is refused, or read and marked like any other.
func TestDamagedFrames(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	read := 0
	var frames [64][]byte
	for i := range frames {
		var p Packet
		p.Build(make([]byte, HeaderRoom), randomFlow(r), 0, 300, 0)
		frames[i] = pushTags(r, p.Bytes)
	}
	room := make([]byte, 0, 512)
	for range *mutated {
		room = append(room[:0], frames[r.IntN(len(frames))]...)
		for range 1 + r.IntN(6) {
			room[r.IntN(len(room))] = byte(r.IntN(256))
		}
		if p := anyFrame(t, room[:len(room)-r.IntN(1+r.IntN(len(room)))], r.IntN(1000)); p != nil {
			if read++; read%1000 == 0 {
				asTheLibrary(t, p)
			}
		}
	}
	t.Logf("%d frames, %d of them read", *mutated, read)
	if read < *mutated/20 {
		t.Errorf("the test tests little")
	}
}

// anyFrame reads and marks a frame, and returns it marked; nil when it is no IP packet.
func anyFrame(t testing.TB, frame []byte, wire int) *Packet {
	t.Helper()
	var p Packet
	if p.Parse(frame, wire) != nil || !p.IsIP() {
		return nil
	}
	if n := p.Headers(); n > len(frame) {
		t.Fatalf("%d bytes of headers in a frame of %d", n, len(frame))
	}
	p.Payload()
	var inner Packet
	if p.Inner(&inner) {
		inner.Payload()
	}
	p.SetTC(5)
	p.SetPCP(5)
	was := p.Flow
	p.SetDSCP(codepoint.AF(4, 1))
	if err := p.Parse(frame, wire); err != nil || p.DSCP() != codepoint.AF(4, 1) || p.Flow != was {
		t.Fatalf("after marking: %v, %s, %+v was %+v", err, p.DSCP().Name(), p.Flow, was)
	}
	return &p
}

// asTheLibrary holds a marked packet against what an independent library reads of it.
func asTheLibrary(t testing.TB, p *Packet) {
	t.Helper()
	// What the independent library reads of the outermost IP header is the same.
	decoded := gopacket.NewPacket(p.Bytes, layers.LayerTypeEthernet, gopacket.DecodeOptions{Lazy: true, NoCopy: true})
	switch ip := decoded.NetworkLayer().(type) {
	case *layers.IPv4:
		if ip.SrcIP == nil { // it stops at options that it does not like
			return
		}
		if from, _ := netip.AddrFromSlice(ip.SrcIP); from != p.Flow.From || ip.TOS>>2 != uint8(codepoint.AF(4, 1)) || uint8(ip.Protocol) != p.Flow.Protocol {
			t.Fatalf("the library reads %v, ToS %d, protocol %d; we %+v", ip.SrcIP, ip.TOS, ip.Protocol, p.Flow)
		}
	case *layers.IPv6:
		if ip.SrcIP == nil {
			return
		}
		if from, _ := netip.AddrFromSlice(ip.SrcIP); from != p.Flow.From || ip.TrafficClass>>2 != uint8(codepoint.AF(4, 1)) {
			t.Fatalf("the library reads %v, class %d; we %+v", ip.SrcIP, ip.TrafficClass, p.Flow)
		}
	}
}

func BenchmarkParseAndMark(b *testing.B) {
	r := rand.New(rand.NewPCG(6, 6))
	frames := make([][]byte, 256)
	for i := range frames {
		var p Packet
		p.Build(make([]byte, HeaderRoom), randomFlow(r), 0, 300, 0)
		frames[i] = p.Bytes
	}
	b.ReportAllocs()
	var p Packet
	for i := 0; b.Loop(); i++ {
		_ = p.Parse(frames[i&255], 314)
		p.SetDSCP(codepoint.DSCP(i & 63))
	}
	b.ReportMetric(float64(b.N)/b.Elapsed().Seconds()/1e6, "Mpackets/s")
}

func ExamplePacket_SetDSCP() {
	var p Packet
	flow := Flow{From: netip.MustParseAddr("10.44.8.20"), To: netip.MustParseAddr("10.44.64.20"), FromPort: 16384, ToPort: 16384, Protocol: UDP}
	p.Build(make([]byte, HeaderRoom), flow, codepoint.DF, 200, RTPHeader)
	p.SetDSCP(codepoint.EF)
	fmt.Printf("%s, ToS byte 0x%02x, header checksum right: %t\n", p.DSCP().Name(), p.Network()[1], Checksum(p.Network()[:20]) == 0)
	// Output: ef, ToS byte 0xb8, header checksum right: true
}
