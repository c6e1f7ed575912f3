package packet

import (
	"encoding/binary"
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"
)

// Parts put together by their offsets give the packet again, in any order. This holds for parts of parts, and for packets of which only the first bytes are there.
func TestFragments(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 4))
	for range 400 {
		v6 := r.IntN(2) == 0
		flow := Flow{From: netip.MustParseAddr("192.0.2.1"), To: netip.MustParseAddr("192.0.2.2"), Protocol: UDP, FromPort: 5000, ToPort: 6000}
		header := IPv4Header
		if v6 {
			flow.From, flow.To, header = netip.MustParseAddr("2001:db8::1"), netip.MustParseAddr("2001:db8::2"), IPv6Header
		}
		length := header + 8 + r.IntN(4000)
		var p Packet
		p.Build(make([]byte, HeaderRoom), flow, 46, length, 0)
		data := make([]byte, length-header-8)
		for i := range data {
			data[i] = byte(r.Uint32())
		}
		held := len(data)
		if r.IntN(3) == 0 {
			held = r.IntN(len(data) + 1)
		}
		p.Bytes = append(slices.Clone(p.Bytes), data[:held]...)
		if r.IntN(2) == 0 {
			p.SetTags([]Tag{{VLAN: 7, PCP: 5}})
		}
		p.MayFragment()
		p.In, p.LabelSwitched, p.Apps = 9, true, []uint64{6}
		limit := header + 16 + r.IntN(1500)
		parts := p.Fragments(limit, 77)
		if !v6 && len(parts) > 1 { // the last part again
			again := parts[len(parts)-1].Fragments(header+16, 1)
			parts = append(parts[:len(parts)-1], again...)
		}
		got, end, bytes := make([]byte, length-header), -1, 0
		known := make([]bool, length-header)
		r.Shuffle(len(parts), func(i, j int) { parts[i], parts[j] = parts[j], parts[i] })
		for i := range parts {
			q := &parts[i]
			if q.Length > limit || q.DSCP() != 46 || q.Tagged != p.Tagged || q.In != 9 || !q.LabelSwitched || len(q.Apps) != 1 || q.Flow.From != p.Flow.From {
				t.Fatalf("a part of %d bytes, of at most %d: %+v", q.Length, limit, q)
			}
			ip := q.Network()
			at, more, body := int(binary.BigEndian.Uint16(ip[6:])&0x1fff)*8, ip[6]&0x20 != 0, header
			if v6 {
				flags := binary.BigEndian.Uint16(ip[IPv6Header+2:])
				at, more, body = int(flags&^7), flags&1 != 0, IPv6Header+8
				if ip[6] != 44 || ip[IPv6Header] != UDP || binary.BigEndian.Uint32(ip[IPv6Header+4:]) != 77 {
					t.Fatal("the fragment header is wrong")
				}
			} else if Checksum(ip[:header]) != 0 || binary.BigEndian.Uint16(ip[4:]) != 77 {
				t.Fatal("the header's checksum or identification is wrong")
			}
			if q.Fragment != (len(parts) > 1 || v6) || q.LaterFragment != (at > 0) || q.HasPorts != (at == 0) {
				t.Fatalf("offset %d of %d parts: %v %v %v", at, len(parts), q.Fragment, q.LaterFragment, q.HasPorts)
			}
			n := q.Length - body
			bytes += n
			for k, c := range ip[body:] {
				got[at+k], known[at+k] = c, true
			}
			if !more {
				end = at + n
			}
		}
		if end != length-header || bytes != length-header {
			t.Fatalf("the parts have %d bytes and end at %d of %d", bytes, end, length-header)
		}
		want := p.Network()[header:]
		for k := range want {
			if !known[k] || got[k] != want[k] {
				t.Fatalf("byte %d of %d is not as it was", k, len(want))
			}
		}
	}
	var p Packet
	p.Build(make([]byte, HeaderRoom), Flow{From: netip.MustParseAddr("192.0.2.1"), To: netip.MustParseAddr("192.0.2.2"), Protocol: UDP}, 0, 500, 0)
	if p.Fragments(IPv4Header+7, 1) != nil || !p.DontFragment() {
		t.Error("parts without room, or a built packet without DF")
	}
}

// The segment size that a SYN offers is lowered, never raised, wherever the option is, and its checksum stays right.
func TestLimitMSS(t *testing.T) {
	for _, padding := range []int{0, 1, 2, 3} {
		var p Packet
		p.Build(make([]byte, HeaderRoom), Flow{From: netip.MustParseAddr("192.0.2.1"), To: netip.MustParseAddr("192.0.2.2"), Protocol: TCP}, 0, 48, 8)
		b := p.Transport()
		b[12], b[13] = 7<<4, 0x02
		for i := range padding {
			b[20+i] = 1
		}
		copy(b[20+padding:], []byte{2, 4, 0x05, 0xb4})
		p.Seal()
		sum := binary.BigEndian.Uint16(b[16:])
		p.LimitMSS(1460)
		if binary.BigEndian.Uint16(b[16:]) != sum {
			t.Error("it changes what is small enough")
		}
		p.LimitMSS(1300)
		lowered := binary.BigEndian.Uint16(b[16:])
		p.Seal()
		if mss := binary.BigEndian.Uint16(b[22+padding:]); mss != 1300 || binary.BigEndian.Uint16(b[16:]) != lowered {
			t.Errorf("after %d bytes of padding the size is %d, and the checksum %x, not %x", padding, mss, lowered, b[16:18])
		}
	}
}

// What was divided is put together to the same bytes, in whatever order the parts come; with one missing, it is not.
func TestReassemble(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 8))
	for range 300 {
		flow := Flow{From: netip.MustParseAddr("10.1.0.1"), To: netip.MustParseAddr("10.2.0.1"), FromPort: 5000, ToPort: 5001, Protocol: UDP}
		header := IPv4Header
		if random.IntN(2) == 0 {
			flow.From, flow.To, header = netip.MustParseAddr("2001:db8::1"), netip.MustParseAddr("2001:db8::2"), IPv6Header
		}
		length := header + 8 + random.IntN(4000)
		var p Packet
		p.Build(make([]byte, HeaderRoom), flow, 0, length, 0)
		for range length - header - 8 {
			p.Bytes = append(p.Bytes, byte(random.Uint32()))
		}
		p.Seal()
		p.MayFragment()
		limit := header + 8 + 8 + random.IntN(1500)
		parts := p.Fragments(limit, 77)
		random.Shuffle(len(parts), func(i, j int) { parts[i], parts[j] = parts[j], parts[i] })
		if len(parts) < 2 {
			continue
		}
		if frame, ok := Reassemble(parts[1:]); ok {
			t.Fatalf("%d of %d parts make a packet: %x", len(parts)-1, len(parts), frame)
		}
		frame, ok := Reassemble(parts)
		if !ok {
			t.Fatalf("%d parts make no packet", len(parts))
		}
		var whole Packet
		if err := whole.Parse(frame, len(frame)); err != nil || whole.Flow != p.Flow || whole.Length != p.Length || whole.Fragment || string(whole.Payload()) != string(p.Payload()) {
			t.Fatalf("%v: %+v, want %+v", err, whole.Flow, p.Flow)
		}
	}
}

// The word that a packet is too large quotes its headers, says what fits, and has right checksums.
func TestTooBig(t *testing.T) {
	for _, c := range []struct {
		from, to    string
		kind        byte
		mtu, header int
	}{{"10.1.0.1", "10.2.0.1", 3, 6, IPv4Header}, {"2001:db8::1", "2001:db8::2", 2, 4, IPv6Header}} {
		var p, word Packet
		p.Build(make([]byte, HeaderRoom), Flow{From: netip.MustParseAddr(c.from), To: netip.MustParseAddr(c.to), FromPort: 5000, ToPort: 5001, Protocol: UDP}, 0, 1500, 0)
		frame := p.TooBig(1373)
		if err := word.Parse(frame, len(frame)); err != nil {
			t.Fatal(err)
		}
		b := word.Network()[c.header:word.Length]
		sum := uint32(^Checksum(b))
		if c.header == IPv6Header {
			sum += pseudoSum(word.Flow.From) + pseudoSum(word.Flow.To) + 58 + uint32(len(b))
		} else if Checksum(word.Network()[:c.header]) != 0 {
			t.Errorf("%s: the header's checksum is wrong", c.from)
		}
		for sum > 0xffff {
			sum = sum&0xffff + sum>>16
		}
		quoted := p.Network()[:c.header+8]
		if sum != 0xffff || b[0] != c.kind || word.Flow.To.String() != c.from || int(b[c.mtu])<<8|int(b[c.mtu+1]) != 1373&0xffff && c.mtu == 6 || string(b[8:8+len(quoted)]) != string(quoted) {
			t.Errorf("%s: %x", c.from, b)
		}
		if c.mtu == 4 && (b[6] != 1373>>8 || b[7] != 1373&0xff) {
			t.Errorf("%s: says that %d fit", c.from, b[4:8])
		}
	}
}
