package classify

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"imbrel/core/codepoint"
	"imbrel/core/packet"
	"imbrel/core/policy"
)

func randomAddress(r *rand.Rand, narrow bool) netip.Addr {
	if r.IntN(4) == 0 {
		b := [16]byte{0x20, 1, 0xd, 0xb8}
		for i := 4; i < 16; i++ {
			b[i] = byte(r.Uint32())
			if narrow {
				b[i] &= 1
			}
		}
		return netip.AddrFrom16(b)
	}
	b := [4]byte{10, byte(r.Uint32()), byte(r.Uint32()), byte(r.Uint32())}
	if narrow {
		b[1], b[2], b[3] = b[1]&3, b[2]&3, b[3]&3
	}
	return netip.AddrFrom4(b)
}

func randomPrefix(r *rand.Rand, narrow bool) netip.Prefix {
	a := randomAddress(r, narrow)
	least := 10
	if a.Is6() {
		least = 36
	}
	return netip.PrefixFrom(a, least+r.IntN(a.BitLen()-least+1)).Masked()
}

func randomRanges(r *rand.Rand) []policy.PortRange {
	var out []policy.PortRange
	for range 1 + r.IntN(2) {
		first := uint16(r.IntN(300))
		out = append(out, policy.PortRange{First: first, Last: first + uint16(r.IntN(1+r.IntN(200)))})
	}
	return out
}

// randomCondition draws a condition of some of the keys there are.
func randomCondition(r *rand.Rand, narrow bool) policy.Condition {
	var c policy.Condition
	addresses := func() *policy.Addresses {
		a := &policy.Addresses{}
		for range 1 + r.IntN(3) {
			a.Prefixes = append(a.Prefixes, randomPrefix(r, narrow))
		}
		return a
	}
	for range 1 + r.IntN(3) {
		switch r.IntN(12) {
		case 0, 1:
			c.From = addresses()
		case 2, 3:
			c.To = addresses()
		case 4:
			c.ToPort = randomRanges(r)
		case 5:
			c.FromPort = randomRanges(r)
		case 6:
			c.Port = randomRanges(r)
		case 7:
			c.Protocol = []uint8{packet.UDP, uint8(r.IntN(2) * packet.TCP)}
		case 8:
			c.DSCP = []codepoint.DSCP{codepoint.DSCP(r.IntN(64)), codepoint.EF}
		case 9:
			c.Apps = []*policy.App{{Number: r.IntN(70), TCP: randomRanges(r)}, {Number: 65, UDP: randomRanges(r)}}
		case 10:
			c.VLAN = randomRanges(r)
		case 11:
			switch r.IntN(6) {
			case 0:
				c.Precedence = []uint8{uint8(r.IntN(8))}
			case 1:
				c.PCP = []uint8{uint8(r.IntN(8))}
			case 2:
				c.TC = []uint8{uint8(r.IntN(8))}
			case 3:
				c.Length = []policy.PortRange{{First: 60, Last: uint16(60 + r.IntN(400))}}
			case 4:
				c.In = []*policy.Interface{{Number: 1 + r.IntN(3)}}
			case 5:
				c.EtherType = []uint16{packet.TypeIPv6}
			}
		}
	}
	return c
}

func randomPacket(r *rand.Rand, narrow bool) *packet.Packet {
	from := randomAddress(r, narrow)
	to := randomAddress(r, narrow)
	for to.Is4() != from.Is4() {
		to = randomAddress(r, narrow)
	}
	var p packet.Packet
	p.Build(make([]byte, packet.HeaderRoom), packet.Flow{From: from, To: to, FromPort: uint16(r.IntN(400)), ToPort: uint16(r.IntN(400)),
		Protocol: []uint8{packet.UDP, packet.TCP, packet.ESP}[r.IntN(3)]}, codepoint.DSCP(r.IntN(64)), 60+r.IntN(500), 0)
	frame := append([]byte{}, p.Bytes[:12]...)
	if r.IntN(2) == 0 {
		frame = append(frame, 0x81, 0, byte(r.Uint32()&0xe1), byte(r.Uint32()))
	}
	labelled := r.IntN(4) == 0
	if labelled {
		frame = append(frame, 0x88, 0x47, 0, 6, 0x41|byte(r.IntN(8)<<1), 64)
	} else {
		frame = append(frame, p.Bytes[12:14]...)
	}
	frame = append(frame, p.Bytes[14:]...)
	q := &packet.Packet{}
	if err := q.Parse(frame, len(frame)+600); err != nil {
		panic(err)
	}
	q.LabelSwitched = labelled && r.IntN(2) == 0
	q.In = int32(r.IntN(4))
	if r.IntN(3) == 0 {
		q.Apps = []uint64{r.Uint64() & r.Uint64(), r.Uint64() & 0x3f}
	}
	return q
}

// The compiled matcher and a linear scan must take every packet alike.
func TestAgainstALinearScan(t *testing.T) {
	r := rand.New(rand.NewPCG(30, 30))
	taken := 0
	for trial := range 300 {
		var classes []*policy.Class
		narrow := trial%2 == 0
		for range 1 + r.IntN(1<<r.IntN(10+trial%50/49*3)) { // now and then thousands
			c := &policy.Class{}
			for range 1 + r.IntN(2) {
				c.Match = append(c.Match, randomCondition(r, narrow))
			}
			if r.IntN(4) == 0 {
				c.Except = append(c.Except, randomCondition(r, narrow))
			}
			classes = append(classes, c)
		}
		if r.IntN(2) == 0 {
			classes = append(classes, nil)
		}
		m := Compile(classes)
		for range 400 {
			p := randomPacket(r, narrow)
			got, want := m.Match(p), m.Scan(p)
			if got != want {
				t.Fatalf("trial %d, %d classes: Match gives %d, the scan %d, for %+v", trial, len(classes), got, want, p)
			}
			if got >= 0 && classes[got] != nil {
				taken++
			}
		}
	}
	if taken < 10_000 || taken > 110_000 {
		t.Errorf("%d of 120000 packets matched a class: the test tests little", taken)
	}
}

func TestWhatEachKeyMatches(t *testing.T) {
	var p packet.Packet
	p.Build(make([]byte, packet.HeaderRoom), packet.Flow{From: netip.MustParseAddr("10.1.0.1"), To: netip.MustParseAddr("10.2.0.1"),
		FromPort: 1000, ToPort: 5060, Protocol: packet.UDP}, codepoint.CS5, 200, 0)
	later := p
	later.HasPorts, later.LaterFragment = false, true
	labelled := p
	labelled.LabelSwitched = true
	ports := func(a, b uint16) []policy.PortRange { return []policy.PortRange{{First: a, Last: b}} }
	sip := &policy.App{Number: 3, UDP: ports(5060, 5060)}
	for name, c := range map[string]struct {
		c    policy.Condition
		p    *packet.Packet
		want string
	}{
		"precedence 5":                  {policy.Condition{Precedence: []uint8{5}}, &p, ""},
		"precedence 4":                  {policy.Condition{Precedence: []uint8{4}}, &p, "precedence"},
		"either port":                   {policy.Condition{Port: ports(1000, 1000)}, &p, ""},
		"only the receiver's port":      {policy.Condition{ToPort: ports(1000, 1000)}, &p, "to-port"},
		"an application's port":         {policy.Condition{Apps: []*policy.App{sip}}, &p, ""},
		"not over TCP":                  {policy.Condition{Apps: []*policy.App{{TCP: ports(5060, 5060)}}}, &p, "app"},
		"length":                        {policy.Condition{Length: ports(64, 200)}, &p, ""},
		"too long":                      {policy.Condition{Length: ports(64, 199)}, &p, "length"},
		"no tag":                        {policy.Condition{VLAN: ports(0, 4095)}, &p, "vlan"},
		"no tag, no PCP":                {policy.Condition{PCP: []uint8{0}}, &p, "pcp"},
		"no label":                      {policy.Condition{TC: []uint8{0}}, &p, "tc"},
		"a later fragment has no ports": {policy.Condition{ToPort: ports(0, 65535)}, &later, "to-port"},
		"below a label nothing is seen": {policy.Condition{DSCP: []codepoint.DSCP{codepoint.CS5}}, &labelled, "dscp"},
	} {
		if got := Failure(&c.c, c.p); got != c.want {
			t.Errorf("%s: fails at %q; want %q", name, got, c.want)
		}
	}
}

// anywhere draws a prefix from all of the address space, of a length that
// occurs in practice.
func anywhere(r *rand.Rand) netip.Prefix {
	if r.IntN(4) == 0 {
		b := [16]byte{0x20 | byte(r.IntN(16)), byte(r.Uint32()), byte(r.Uint32()), byte(r.Uint32()), byte(r.Uint32()), byte(r.Uint32()), byte(r.Uint32()), byte(r.Uint32()), 15: 1}
		return netip.PrefixFrom(netip.AddrFrom16(b), 24+8*r.IntN(6)).Masked()
	}
	a := netip.AddrFrom4([4]byte{1 + byte(r.IntN(223)), byte(r.Uint32()), byte(r.Uint32()), byte(r.Uint32())})
	return netip.PrefixFrom(a, 12+r.IntN(21)).Masked()
}

// random10k draws n entries over random prefixes and ports, and packets of
// which most are taken by one of them.
func random10k(n int) (*Matcher, []*packet.Packet) {
	r := rand.New(rand.NewPCG(31, 31))
	classes := make([]*policy.Class, n)
	conditions := make([]policy.Condition, n)
	for i := range classes {
		c := &conditions[i]
		c.From = &policy.Addresses{Prefixes: []netip.Prefix{anywhere(r)}}
		if r.IntN(2) == 0 {
			c.To = &policy.Addresses{Prefixes: []netip.Prefix{anywhere(r)}}
		}
		first := uint16(r.IntN(60_000))
		c.ToPort = []policy.PortRange{{First: first, Last: first + uint16(r.IntN(4000))}}
		classes[i] = &policy.Class{Match: []policy.Condition{*c}}
	}
	packets := make([]*packet.Packet, 4096)
	for i := range packets {
		c := &conditions[r.IntN(n)]
		flow := packet.Flow{From: c.From.Prefixes[0].Addr(), To: anywhere(r).Addr(), ToPort: c.ToPort[0].First, Protocol: packet.UDP}
		if c.To != nil && r.IntN(2) == 0 {
			flow.To = c.To.Prefixes[0].Addr()
		}
		for flow.To.Is4() != flow.From.Is4() {
			flow.To = anywhere(r).Addr()
		}
		packets[i] = &packet.Packet{}
		packets[i].Build(make([]byte, packet.HeaderRoom), flow, 0, 200, 0)
	}
	return Compile(classes), packets
}

// The linear twin runs beside each size and the ratio is printed.
func BenchmarkMatch(b *testing.B) {
	for _, n := range []int{100, 10_000, 100_000} {
		m, packets := random10k(n)
		begun := time.Now()
		const scanned = 64
		for _, p := range packets[:scanned] {
			m.Scan(p)
		}
		scan := time.Since(begun).Seconds() / scanned
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			b.ReportAllocs()
			for i := 0; b.Loop(); i++ {
				m.Match(packets[i&4095])
			}
			each := b.Elapsed().Seconds() / float64(b.N)
			b.ReportMetric(1/each/1e6, "Mmatches/s")
			b.ReportMetric(scan/each, "times-the-scan")
		})
	}
}
