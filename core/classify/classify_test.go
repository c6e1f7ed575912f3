package classify

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
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

func randomRanges(r *rand.Rand) []policy.Range {
	var out []policy.Range
	for range 1 + r.IntN(2) {
		first := uint32(r.IntN(300))
		out = append(out, policy.Range{First: first, Last: first + uint32(r.IntN(1+r.IntN(200)))})
	}
	return out
}

// randomCondition draws a condition of some of the keys there are.
func randomCondition(r *rand.Rand, narrow bool) policy.Condition {
	terms := make(map[policy.Key]policy.Term)
	add := func(t policy.Term) { terms[t.Key] = t }
	prefixes := func() []netip.Prefix {
		var ps []netip.Prefix
		for range 1 + r.IntN(3) {
			ps = append(ps, randomPrefix(r, narrow))
		}
		if r.IntN(20) == 0 { // so many that they are looked up
			for range 20 {
				ps = append(ps, randomPrefix(r, narrow))
			}
		}
		return ps
	}
	one := func(n int) policy.Range { return policy.One(uint32(r.IntN(n))) }
	for range 1 + r.IntN(3) {
		switch r.IntN(12) {
		case 0, 1:
			add(policy.KeyFrom.Within(prefixes()...))
		case 2, 3:
			add(policy.KeyTo.Within(prefixes()...))
		case 4:
			add(policy.KeyToPort.In(randomRanges(r)...))
		case 5:
			add(policy.KeyFromPort.In(randomRanges(r)...))
		case 6:
			add(policy.KeyPort.In(randomRanges(r)...))
		case 7:
			add(policy.KeyProtocol.In(policy.One(packet.UDP), policy.One(uint32(r.IntN(2)*packet.TCP))))
		case 8:
			add(policy.KeyDSCP.In(one(64), policy.One(uint32(codepoint.EF))))
		case 9:
			add(policy.Term{Key: policy.KeyApp, Apps: []*policy.App{{Number: r.IntN(70), TCP: randomRanges(r)}, {Number: 65, UDP: randomRanges(r)}}})
		case 10:
			add(policy.KeyVLAN.In(randomRanges(r)...))
		case 11:
			switch r.IntN(6) {
			case 0:
				add(policy.KeyPrecedence.In(one(8)))
			case 1:
				add(policy.KeyPCP.In(one(8)))
			case 2:
				add(policy.KeyTC.In(one(8)))
			case 3:
				add(policy.KeyLength.In(policy.Range{First: 60, Last: uint32(60 + r.IntN(400))}))
			case 4:
				add(policy.KeyIn.In(policy.One(uint32(1 + r.IntN(3)))))
			case 5:
				add(policy.KeyEtherType.In(policy.One(packet.TypeIPv6)))
			}
		}
	}
	var list []policy.Term
	for _, k := range policy.Keys() {
		if t, ok := terms[k]; ok {
			list = append(list, t)
		}
	}
	return policy.All(list...)
}

// slowly is the slow twin of Match: every entry in turn, every key of every condition
// read from the packet here, with nothing of the fast one's.
func slowly(classes []*policy.Class, p *packet.Packet) int {
	for i, c := range classes {
		if c == nil || someHolds(c.Match, p) && !someHolds(c.Except, p) {
			return i
		}
	}
	return -1
}

func someHolds(conditions []policy.Condition, p *packet.Packet) bool {
	for i := range conditions {
		holds := true
		for _, t := range conditions[i].Terms {
			holds = holds && termHolds(&t, p)
		}
		if holds {
			return true
		}
	}
	return false
}

func termHolds(t *policy.Term, p *packet.Packet) bool {
	ip := p.IsIP() && !p.LabelSwitched
	in := func(n int) bool {
		for _, r := range t.Ranges {
			if int(r.First) <= n && n <= int(r.Last) {
				return true
			}
		}
		return false
	}
	at := func(a netip.Addr) bool {
		for _, x := range t.Addresses.Prefixes {
			if x.Contains(a) {
				return true
			}
		}
		return false
	}
	switch t.Key {
	case policy.KeyFrom:
		return ip && at(p.Flow.From)
	case policy.KeyTo:
		return ip && at(p.Flow.To)
	case policy.KeyProtocol:
		return ip && in(int(p.Flow.Protocol))
	case policy.KeyPort:
		return ip && p.HasPorts && (in(int(p.Flow.FromPort)) || in(int(p.Flow.ToPort)))
	case policy.KeyFromPort:
		return ip && p.HasPorts && in(int(p.Flow.FromPort))
	case policy.KeyToPort:
		return ip && p.HasPorts && in(int(p.Flow.ToPort))
	case policy.KeyDSCP:
		return ip && in(int(p.DSCP()))
	case policy.KeyPrecedence:
		return ip && in(int(p.DSCP())/8)
	case policy.KeyLength:
		return ip && in(p.Length)
	case policy.KeyVLAN:
		return p.Tagged && in(int(p.VLAN))
	case policy.KeyIn:
		return in(int(p.In))
	case policy.KeyEtherType:
		return in(int(p.EtherType))
	case policy.KeyPCP:
		v, ok := p.PCP()
		return ok && in(int(v))
	case policy.KeyTC:
		v, ok := p.TC()
		return ok && in(int(v))
	}
	for _, a := range t.Apps { // KeyApp
		ports := a.TCP
		if p.Flow.Protocol == packet.UDP {
			ports = a.UDP
		}
		t := policy.Term{Key: policy.KeyPort, Ranges: ports}
		byPort := (p.Flow.Protocol == packet.TCP || p.Flow.Protocol == packet.UDP) && len(ports) > 0 && termHolds(&t, p)
		recognised := a.Number/64 < len(p.Apps) && p.Apps[a.Number/64]>>(a.Number%64)&1 == 1
		if ip && (byPort || recognised) {
			return true
		}
	}
	return false
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

// The compiled matcher and a linear scan must choose the same entry for every packet.
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
			got, want := m.Match(p), slowly(classes, p)
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
	ports := func(a, b uint32) []policy.Range { return []policy.Range{{First: a, Last: b}} }
	sip := &policy.App{Number: 3, UDP: ports(5060, 5060)}
	app := func(a *policy.App) policy.Term { return policy.Term{Key: policy.KeyApp, Apps: []*policy.App{a}} }
	for name, c := range map[string]struct {
		t    policy.Term
		p    *packet.Packet
		want bool
	}{
		"precedence 5":                  {policy.KeyPrecedence.In(policy.One(5)), &p, true},
		"precedence 4":                  {policy.KeyPrecedence.In(policy.One(4)), &p, false},
		"either port":                   {policy.KeyPort.In(policy.One(1000)), &p, true},
		"only the receiver's port":      {policy.KeyToPort.In(policy.One(1000)), &p, false},
		"an application's port":         {app(sip), &p, true},
		"not over TCP":                  {app(&policy.App{TCP: ports(5060, 5060)}), &p, false},
		"length":                        {policy.KeyLength.In(policy.Range{First: 64, Last: 200}), &p, true},
		"too long":                      {policy.KeyLength.In(policy.Range{First: 64, Last: 199}), &p, false},
		"no tag":                        {policy.KeyVLAN.In(policy.Range{First: 0, Last: 4095}), &p, false},
		"no tag, no PCP":                {policy.KeyPCP.In(policy.One(0)), &p, false},
		"no label":                      {policy.KeyTC.In(policy.One(0)), &p, false},
		"a later fragment has no ports": {policy.KeyToPort.In(policy.Range{First: 0, Last: 65535}), &later, false},
		"below a label nothing is seen": {policy.KeyDSCP.In(policy.One(uint32(codepoint.CS5))), &labelled, false},
	} {
		classes := []*policy.Class{{Match: []policy.Condition{policy.All(c.t)}}}
		if got := Compile(classes).Match(c.p) == 0; got != c.want || c.t.Holds(c.p) != c.want {
			t.Errorf("%s: it matches %t; want %t", name, got, c.want)
		}
	}
}

// One term covers another when no packet can be in the other alone: against packets
// that hold the other.
func TestCovers(t *testing.T) {
	r := rand.New(rand.NewPCG(33, 33))
	covered := 0
	for trial := range 4000 {
		a, b := randomCondition(r, true), randomCondition(r, true)
		if r.IntN(2) == 0 && len(b.Terms) > 1 { // what has a term less covers it
			a = policy.All(b.Terms[:len(b.Terms)-1]...)
		}
		if !a.Covers(&b) {
			continue
		}
		covered++
		for range 200 {
			if p := randomPacket(r, true); b.Holds(p) && !a.Holds(p) {
				t.Fatalf("trial %d: `%v` is said to cover `%v`, and a packet is in the second alone", trial, a, b)
			}
		}
	}
	if covered < 500 {
		t.Errorf("only %d pairs covered", covered)
	}
}

// Nested entries, in force or not, are asked as the plain rule says: at each level the
// first entry in force whose class holds, else the rest.
func TestEntriesInForceAndNot(t *testing.T) {
	r := rand.New(rand.NewPCG(34, 34))
	var level func(depth int) []policy.Entry
	level = func(depth int) []policy.Entry {
		var entries []policy.Entry
		for range 1 + r.IntN(4) {
			c := &policy.Class{Name: fmt.Sprint("c", r.Uint32()), Match: []policy.Condition{randomCondition(r, true)}}
			e := policy.Entry{Class: c, ClassName: policy.Ref{Text: c.Name}}
			if r.IntN(3) == 0 {
				e.When = &policy.When{}
			}
			if depth > 1 && r.IntN(2) == 0 {
				e.Treat = level(depth - 1)
			}
			entries = append(entries, e)
		}
		return entries
	}
	for trial := range 200 {
		p := plan.New(&policy.Policy{Treat: level(3)}, unit.GbitPerSecond, packet.FramingIP())
		c := New(p)
		out := make(map[*plan.Entry]bool)
		for range 5 {
			var changed []*plan.Entry
			for _, e := range p.Entries {
				if e.Spec.When != nil && r.IntN(2) == 0 {
					out[e] = !out[e]
					changed = append(changed, e)
				}
			}
			c.InForce(changed, func(e *plan.Entry) bool { return !out[e] })
			for range 40 {
				pkt := randomPacket(r, true)
				var want *plan.Entry
				for entries := p.Top; entries != nil; entries = want.Inner {
					for _, e := range entries {
						if !out[e] && (e.Class == nil || slowly([]*policy.Class{e.Class}, pkt) == 0) {
							want = e
							break
						}
					}
				}
				if got := c.Take(pkt); got != want {
					t.Fatalf("trial %d: %s takes the packet; want %s", trial, got.Name, want.Name)
				}
			}
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
func random10k(n int) ([]*policy.Class, []*packet.Packet) {
	r := rand.New(rand.NewPCG(31, 31))
	classes := make([]*policy.Class, n)
	type chosen struct {
		from, to netip.Prefix
		port     uint32
	}
	all := make([]chosen, n)
	for i := range classes {
		c := chosen{from: anywhere(r), port: uint32(r.IntN(60_000))}
		terms := []policy.Term{policy.KeyFrom.Within(c.from), policy.KeyToPort.In(policy.Range{First: c.port, Last: c.port + uint32(r.IntN(4000))})}
		if r.IntN(2) == 0 {
			c.to = anywhere(r)
			terms = append(terms, policy.KeyTo.Within(c.to))
		}
		all[i] = c
		classes[i] = &policy.Class{Match: []policy.Condition{policy.All(terms...)}}
	}
	packets := make([]*packet.Packet, 4096)
	for i := range packets {
		c := all[r.IntN(n)]
		flow := packet.Flow{From: c.from.Addr(), To: anywhere(r).Addr(), ToPort: uint16(c.port), Protocol: packet.UDP}
		if c.to.IsValid() && r.IntN(2) == 0 {
			flow.To = c.to.Addr()
		}
		for flow.To.Is4() != flow.From.Is4() {
			flow.To = anywhere(r).Addr()
		}
		packets[i] = &packet.Packet{}
		packets[i].Build(make([]byte, packet.HeaderRoom), flow, 0, 200, 0)
	}
	return classes, packets
}

// The linear twin runs beside each size and the ratio is printed.
func BenchmarkMatch(b *testing.B) {
	for _, n := range []int{100, 10_000, 100_000} {
		classes, packets := random10k(n)
		m := Compile(classes)
		begun := time.Now()
		const scanned = 64
		for _, p := range packets[:scanned] {
			slowly(classes, p)
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
