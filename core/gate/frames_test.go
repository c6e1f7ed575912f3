package gate_test

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"
	"time"

	"imbrel.example/imbrel/core/gate"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/simulate"
	"imbrel.example/imbrel/core/traffic"
)

// v6 is a packet of IPv6 in a frame, with what it carries; an ICMPv6 checksum is made right.
func v6(from, to string, next, hops byte, carried []byte) []byte {
	b := make([]byte, 54, 54+len(carried))
	b[5], b[11], b[12], b[13], b[14] = 2, 1, 0x86, 0xdd, 0x60
	binary.BigEndian.PutUint16(b[18:], uint16(len(carried)))
	b[20], b[21] = next, hops
	copy(b[22:], netip.MustParseAddr(from).AsSlice())
	copy(b[38:], netip.MustParseAddr(to).AsSlice())
	b = append(b, carried...)
	if next == packet.ICMPv6 && len(carried) >= 4 {
		b[56], b[57] = 0, 0
		pseudo := append(bytes.Clone(b[22:54]), 0, 0, byte(len(carried)>>8), byte(len(carried)), 0, 0, 0, next)
		binary.BigEndian.PutUint16(b[56:], packet.Checksum(append(pseudo, b[54:]...)))
	}
	return b
}

// asks is a neighbour solicitation for an address, with options.
func asks(target string, options ...byte) []byte {
	return append(append([]byte{135, 0, 0, 0, 0, 0, 0, 0}, netip.MustParseAddr(target).AsSlice()...), options...)
}

// ether is a frame of a type.
func ether(kind uint16, payload ...byte) []byte {
	b := make([]byte, 60)
	b[5], b[11] = 2, 1
	binary.BigEndian.PutUint16(b[12:], kind)
	copy(b[14:], payload)
	return b
}

const own = "2001:db8:1::5"

// crafted are frames by name, and what must become of them: "control" passes at once, "class" is for the classes, "drop" is dropped.
func crafted() map[string]struct {
	frame []byte
	want  string
} {
	type row = struct {
		frame []byte
		want  string
	}
	mac := []byte{1, 1, 2, 0, 0, 0, 0, 1} // the sender's own address
	tell := func(target string, flags byte) []byte {
		b := asks(target, mac...)
		b[0], b[4] = 136, flags
		return b
	}
	to := func(b []byte, address ...byte) []byte { copy(b, address); return b }
	change := func(b []byte, at int, v ...byte) []byte { copy(b[at:], v); return b }
	udp := frame(1, 2, upload(9), 200)
	chain := func(n int) []byte {
		var b []byte
		for range n {
			b = append(b, 60, 0, 1, 4, 0, 0, 0, 0)
		}
		return append(b, make([]byte, 16)...)
	}
	return map[string]row{
		"a question for a neighbour":              {v6("fe80::1", "ff02::1:ff00:2", 58, 255, asks("fe80::2", mac...)), "control"},
		"the same, in a tag":                      {append(append(bytes.Clone(udp[:12]), 0x81, 0, 0, 5), v6("fe80::1", "ff02::1:ff00:2", 58, 255, asks("fe80::2", mac...))[12:]...), "control"},
		"is my own address taken":                 {v6("::", "ff02::1:ff00:2", 58, 255, asks("fe80::2")), "control"},
		"an answer to all":                        {v6("fe80::1", "ff02::1", 58, 255, tell("fe80::1", 0x20)), "control"},
		"a question for a router":                 {v6("::", "ff02::2", 58, 255, []byte{133, 0, 0, 0, 0, 0, 0, 0}), "control"},
		"a router's word":                         {v6("fe80::1", "ff02::1", 58, 255, append(make([]byte, 0, 16), 134, 0, 0, 0, 64, 0, 1, 0, 0, 0, 0, 0, 0, 0, 0, 0)), "control"},
		"a question that was forwarded":           {v6("fe80::1", "ff02::1:ff00:2", 58, 254, asks("fe80::2", mac...)), "class"},
		"a question with a code":                  {v6("fe80::1", "ff02::1:ff00:2", 58, 255, change(asks("fe80::2", mac...), 1, 1)), "class"},
		"a question with an option of length 0":   {v6("fe80::1", "ff02::1:ff00:2", 58, 255, asks("fe80::2", 1, 0, 0, 0, 0, 0, 0, 0)), "class"},
		"a question with half an option":          {v6("fe80::1", "ff02::1:ff00:2", 58, 255, asks("fe80::2", 1, 2, 0, 0, 0, 0, 0, 0)), "class"},
		"a question about a group":                {v6("fe80::1", "ff02::1:ff00:2", 58, 255, asks("ff02::2")), "class"},
		"a question to a stranger":                {v6("fe80::1", "2001:db8:2::9", 58, 255, asks("fe80::2")), "class"},
		"a question of nobody, with his address":  {v6("::", "ff02::1:ff00:2", 58, 255, asks("fe80::2", mac...)), "class"},
		"a question with a wrong checksum":        {change(v6("fe80::1", "ff02::1:ff00:2", 58, 255, asks("fe80::2")), 56, 9, 9), "class"},
		"a question in pieces":                    {v6("fe80::1", "ff02::1:ff00:2", 44, 255, append([]byte{58, 0, 0, 1, 0, 0, 0, 7}, asks("fe80::2")...)), "class"},
		"an answer to all that was asked for":     {v6("fe80::1", "ff02::1", 58, 255, tell("fe80::1", 0x60)), "class"},
		"a router from elsewhere":                 {v6(own, "ff02::1", 58, 255, append(make([]byte, 0, 16), 134, 0, 0, 0, 64, 0, 1, 0, 0, 0, 0, 0, 0, 0, 0, 0)), "class"},
		"an echo":                                 {v6(own, "2001:db8:2::9", 58, 255, []byte{128, 0, 0, 0, 0, 1, 0, 1}), "class"},
		"ARP":                                     {ether(0x0806, 0, 1, 8, 0, 6, 4, 0, 1), "control"},
		"EAPOL":                                   {ether(0x888e), "control"},
		"LLDP":                                    {to(ether(0x88cc), 1, 0x80, 0xc2, 0, 0, 14), "control"},
		"LACP":                                    {to(ether(0x8809), 1, 0x80, 0xc2, 0, 0, 2), "control"},
		"Y.1731":                                  {ether(0x8902), "control"},
		"spanning tree":                           {to(ether(38, 0x42, 0x42, 3), 1, 0x80, 0xc2, 0, 0, 0), "control"},
		"PPPoE discovery":                         {ether(0x8863), "control"},
		"PPP's own":                               {ether(0x8864, 0x11, 0, 0, 7, 0, 10, 0xc0, 0x21), "control"},
		"PPP that carries something else":         {ether(0x8864, 0x11, 0, 0, 7, 0, 10, 0x00, 0x2b), "drop"},
		"LLC to anybody":                          {ether(38, 0x42, 0x42, 3), "drop"},
		"a type that nobody knows":                {ether(0x1234), "drop"},
		"IP of version 5":                         {change(bytes.Clone(udp), 14, 0x55), "drop"},
		"half a header of IP":                     {udp[:30], "drop"},
		"nothing":                                 {nil, "drop"},
		"UDP":                                     {udp, "class"},
		"UDP in PPPoE":                            {append(append(bytes.Clone(udp[:12]), 0x88, 0x64, 0x11, 0, 0, 7, 0, 202, 0, 0x21), udp[14:]...), "class"},
		"UDP under labels":                        {append(append(bytes.Clone(udp[:12]), 0x88, 0x47, 0, 1, 0, 64, 0, 2, 1, 64), udp[14:]...), "class"},
		"a length beyond the frame":               {change(bytes.Clone(udp), 16, 0xff), "class"},
		"a length shorter than the header":        {change(bytes.Clone(udp), 16, 0, 3), "class"},
		"a header of two words":                   {change(bytes.Clone(udp), 14, 0x42), "class"},
		"destination options of a wrong length":   {v6(own, "2001:db8:2::9", 60, 64, append([]byte{17, 200, 1, 4, 0, 0, 0, 0}, make([]byte, 16)...)), "class"},
		"18 extension headers":                    {v6(own, "2001:db8:2::9", 60, 64, chain(18)), "class"},
		"a length of IPv6 beyond the frame":       {change(v6(own, "2001:db8:2::9", 17, 64, make([]byte, 16)), 18, 0x70), "class"},
		"a fragment":                              {v6(own, "2001:db8:2::9", 44, 64, append([]byte{17, 0, 1, 0, 0, 0, 0, 7}, make([]byte, 16)...)), "class"},
		"a tag for nothing":                       {append(bytes.Clone(udp[:12]), 0x81, 0), "drop"},
		"labels without end":                      {append(append(bytes.Clone(udp[:12]), 0x88, 0x47), make([]byte, 100)...), "drop"},
		"labels over something that is not IP":    {append(append(bytes.Clone(udp[:12]), 0x88, 0x47, 0, 1, 1, 64), make([]byte, 60)...), "drop"},
		"link control of IEEE that nobody listed": {to(ether(0x88f5), 1, 0x80, 0xc2, 0, 0, 0x0d), "control"},
	}
}

// TestWhatNoClassHolds: link control passes at once, whatever waits; what has an IP header waits with its class; the rest is
// dropped, or with PassUnreadable waits too.
func TestWhatNoClassHolds(t *testing.T) {
	f := read(t, strings.Replace(house, "DROP", "tail", 1))
	node, ifaces := ports(f)
	for name, c := range crafted() {
		for _, pass := range []bool{false, true} {
			g, _ := gate.New(f, node, ifaces, 0, gate.Options{PassUnreadable: pass})
			sent := 0
			var last []byte
			send := func(n int, b []byte) { sent, last = sent+1, bytes.Clone(b) }
			for range 40 {
				g.Take(0, 0, frame(1, 2, upload(9), 1000), send)
			}
			before, waiting := sent, g.Waiting()
			g.Take(0, 0, bytes.Clone(c.frame), send)
			got := "drop"
			switch counts := g.Counts(); {
			case sent > before && bytes.Equal(last, c.frame) && counts.PassedBy == 1:
				got = "control"
			case g.Waiting() == waiting+1:
				got = "class"
			case counts.Unreadable != 1:
				got = "lost"
			}
			want := c.want
			if pass && want == "drop" && len(c.frame) >= packet.EthernetHeader {
				want = "class"
			}
			if got != want {
				t.Errorf("%s, unreadable passes %t: %s; want %s. %+v", name, pass, got, want, g.Counts())
			}
		}
	}
}

// A flood of link control is no way past the shape: what passes at once is little, it is charged, and the rest of it waits in a class.
func TestControlIsBounded(t *testing.T) {
	f := read(t, strings.Replace(house, "DROP", "tail", 1))
	node, ifaces := ports(f)
	for name, c := range crafted() {
		if c.want == "drop" {
			continue
		}
		g, _ := gate.New(f, node, ifaces, 0, gate.Options{})
		bits := 0.0
		send := func(n int, b []byte) { bits += float64(max(len(b), 60)+24) * 8 }
		const seconds = 2
		padded := append(bytes.Clone(c.frame), make([]byte, 1000)...) // the packet says that it is shorter than its frame
		for at := time.Duration(0); at < seconds*time.Second; at += 100 * time.Microsecond {
			g.Take(at, 0, bytes.Clone(padded), send) // 80 Mbit/s and more
			if at%time.Millisecond == 0 {
				g.Take(at, 0, frame(1, 2, upload(9), 1000), send)
			}
			g.Run(at, send)
		}
		if r := bits / seconds; r > 9.1e6 || r < 8.5e6 {
			t.Errorf("%s: the shape of 9 Mbit/s sends %.3f; %+v", name, r/1e6, g.Counts())
		}
	}
}

// A list of frames is a capture.
type list struct {
	frames [][]byte
	next   int
}

func (l *list) ReadFrame() ([]byte, int, time.Duration, bool, error) {
	if l.next == len(l.frames) {
		return nil, 0, 0, false, nil
	}
	l.next++
	b := l.frames[l.next-1]
	return bytes.Clone(b), len(b), time.Duration(l.next) * 20 * time.Millisecond, true, nil
}

// TestFramesFareAlike: 10^5 frames, crafted and damaged, meet the same class and the same fate at a gate as when a rehearsal replays them.
func TestFramesFareAlike(t *testing.T) {
	text := strings.NewReplacer("DROP", "tail", `["10.1.0.0/16"]`, `["10.1.0.0/16", "2001:db8:1::/48"]`, `["10.2.0.0/16"]`, `["10.2.0.0/16", "2001:db8:2::/48", "fe80::/10", "ff02::/16"]`,
		`"traffic": [`, `"traffic": [{"name": "seen", "capture": "seen", "enters": "west/lan"}], "unused": [`, `"lasts": "6s"`, `"lasts": "30s"`).Replace(house)
	text = text[:strings.Index(text, `, "unused"`)] + `}]}`
	f := read(t, text)
	node, ifaces := ports(f)
	var base [][]byte
	for _, c := range crafted() {
		base = append(base, c.frame)
	}
	for _, flow := range []packet.Flow{upload(20_000), {From: netip.MustParseAddr("10.1.2.8"), To: netip.MustParseAddr("10.2.0.8"), Protocol: packet.TCP, FromPort: 5, ToPort: 80},
		{From: netip.MustParseAddr(own), To: netip.MustParseAddr("2001:db8:2::9"), Protocol: packet.UDP, FromPort: 5, ToPort: 20_000}} {
		base = append(base, frame(1, 2, flow, 200), frame(1, 2, flow, 1200))
	}
	const batch = 500
	classes, other := 0, 0
	trials := 200
	if testing.Short() { // for the race detector
		trials = 20
	}
	for trial := range trials {
		r := rand.New(rand.NewPCG(27, uint64(trial)))
		var frames [][]byte
		g, _ := gate.New(f, node, ifaces, 0, gate.Options{Seed: 1})
		for len(frames) < batch {
			b := bytes.Clone(base[r.IntN(len(base))])
			for range r.IntN(3) {
				switch {
				case len(b) == 0:
				case r.IntN(3) == 0:
					b = b[:r.IntN(len(b))+1]
				default:
					b[r.IntN(min(len(b), 80))] = byte(r.IntN(256))
				}
			}
			var p packet.Packet
			_ = p.Parse(b, len(b))
			if to := p.Flow.To; p.IsIP() && (!to.IsValid() || !within(to) || !p.Standing().Control() && p.Flow.From == to) {
				continue // a network has no way there, a wire has
			}
			frames = append(frames, b)
		}
		for i, b := range frames {
			at := time.Duration(i+1) * 20 * time.Millisecond
			g.Run(at, func(int, []byte) {})
			g.Take(at, 0, bytes.Clone(b), func(int, []byte) {})
		}
		for next := time.Duration(0); next != gate.Never; {
			next = g.Run(next, func(int, []byte) {})
		}
		rehearsed, err := simulate.Run(f, &f.Rehearsals[0], simulate.Options{Seed: 1, Capture: func(string) (traffic.Reader, error) { return &list{frames: frames}, nil }})
		if err != nil {
			t.Fatal(err)
		}
		counts, capture := g.Counts(), rehearsed.Captures[0]
		if int64(counts.PassedBy+counts.ControlOver) != capture.Control || int64(counts.Unreadable) != capture.NotIP+capture.Malformed || int64(counts.Taken) != capture.Packets {
			t.Fatalf("trial %d: the gate %+v, the rehearsal %+v", trial, counts, capture)
		}
		other += int(counts.PassedBy + counts.Unreadable)
		at := g.Observe(10*time.Second, false).Result(nil, nil)
		for _, i := range rehearsed.Interfaces {
			if i.Node != "west" || i.Interface == "wan" && i.Direction == "in" || i.Interface == "lan" && i.Direction == "out" {
				continue
			}
			k := of(at, i.Interface, i.Direction)
			if k == nil {
				continue
			}
			for n, c := range i.Classes {
				o := k.Classes[n]
				classes += int(c.OfferedPackets)
				over := counts.ControlOver // link control that a rehearsal leaves on its link
				if c.Class == "rest" || strings.HasPrefix(c.Class, "rest/") || over == 0 {
					if o.OfferedPackets-c.OfferedPackets > over {
						t.Fatalf("trial %d, %s %s: %d offered at the gate, %d in the rehearsal, %d of link control", trial, i.Interface, c.Class, o.OfferedPackets, c.OfferedPackets, over)
					}
				}
				if over == 0 && (fmt.Sprint(o.Drops, o.Marks) != fmt.Sprint(c.Drops, c.Marks) || o.SentPackets != c.SentPackets) {
					t.Fatalf("trial %d, %s %s: %+v at the gate, %+v in the rehearsal", trial, i.Interface, c.Class, o, c)
				}
			}
		}
	}
	if classes < 300*trials || other < 100*trials {
		t.Errorf("only %d packets met a class, and %d none", classes, other)
	}
}

func within(a netip.Addr) bool {
	for _, p := range []string{"10.2.0.0/16", "2001:db8:2::/48", "fe80::/10", "ff02::/16"} {
		if netip.MustParsePrefix(p).Contains(a) {
			return true
		}
	}
	return false
}

func of(r *measure.Result, iface, direction string) *measure.Interface {
	for n := range r.Interfaces {
		if i := &r.Interfaces[n]; i.Interface == iface && i.Direction == direction {
			return i
		}
	}
	return nil
}

// What waits when a file is read again is given to the new policies a little at a time; a call beside it is not held up, and the
// frames of a conversation stay in their order, those that come meanwhile as well.
func TestReloadInSlices(t *testing.T) {
	f := read(t, strings.Replace(house, `{"drop": "DROP"}`, `{"limit": 1000000}`, 1))
	node, ifaces := ports(f)
	g, _ := gate.New(f, node, ifaces, 0, gate.Options{})
	var order []uint16
	calls := 0
	send := func(_ int, b []byte) {
		if b[23] == packet.TCP {
			order = append(order, binary.BigEndian.Uint16(b[18:]))
		} else {
			calls++
		}
	}
	file := upload(80)
	file.Protocol = packet.TCP
	number := uint16(0)
	take := func(at time.Duration) {
		b := frame(1, 2, file, 100)
		number++
		binary.BigEndian.PutUint16(b[18:], number)
		g.Take(at, 0, b, send)
	}
	for range 5000 {
		take(0)
	}
	now := time.Duration(0)
	for round := range 3 {
		now += 10 * time.Millisecond
		before := g.Waiting()
		g.Put(g.Prepare(f, node, ifaces), now, send)
		steps := 0
		for g.Lanes[0].Moving() {
			steps++
			take(now)
			was := calls
			if steps%10 == 0 { // within what a call may
				g.Take(now, 0, frame(1, 2, upload(20_000), 200), send)
			}
			g.Run(now+500*time.Microsecond, send)
			if now += time.Millisecond; calls == was && steps%10 == 0 {
				t.Fatalf("round %d, step %d: a call's packet is held up by what waits", round, steps)
			}
		}
		if steps < before/64 || steps > before/32 {
			t.Errorf("round %d: %d frames are moved in %d steps", round, before, steps)
		}
	}
	for next := g.Run(time.Second, send); next != gate.Never; {
		next = g.Run(next, send)
	}
	if len(order) != int(number) || g.Waiting() != 0 {
		t.Errorf("%d of %d frames leave, %d wait", len(order), number, g.Waiting())
	}
	for i, n := range order {
		if int(n) != i+1 {
			t.Fatalf("frame %d leaves in the place of frame %d", n, i+1)
		}
	}
	// Policies that are gone: what waited goes on at once.
	none := read(t, strings.Replace(strings.Replace(house, "DROP", "tail", 1), `"attach": [{"policy": "edge", "at": "west/lan in"}, {"policy": "up", "at": "west/wan out"}, {"policy": "down", "at": "west/wan in"}]`, `"attach": []`, 1))
	node, ifaces = ports(none)
	for range 100 {
		take(2 * time.Second)
	}
	sent := g.Counts().Sent
	g.Put(g.Prepare(none, node, ifaces), 2*time.Second, send)
	for g.Run(2*time.Second, send) != gate.Never {
	}
	if g.Waiting() != 0 || g.Counts().Sent-sent < 90 {
		t.Errorf("%d wait after the policies are gone", g.Waiting())
	}
}

// Sources that somebody invents take the places of other inventions, never those of hosts that were answered.
func TestInventedSources(t *testing.T) {
	f := read(t, `imbrel: 1
classes: [{name: web, match: [{protocol: udp}]}]
policies: [{name: up, shape: 900Mbit/s, treat: [{class: web, each: source, at-most: 1Mbit/s}]}]
network:
  nodes: [{name: house, interfaces: [{name: lan, rate: 1Gbit/s, subnets: [10.1.0.0/16]}, {name: wan, rate: 1Gbit/s, subnets: [10.2.0.0/16]}]}]
attach: [{policy: up, at: house/wan out}]
`)
	node, ifaces := ports(f)
	g, _ := gate.New(f, node, ifaces, 0, gate.Options{})
	send := func(int, []byte) {}
	source := func(n uint32) packet.Flow {
		flow := upload(9)
		flow.From = netip.AddrFrom4([4]byte{10, byte(n >> 16), byte(n >> 8), byte(n)})
		return flow
	}
	now := time.Duration(0)
	const hosts = 500
	for n := range uint32(hosts) {
		g.Take(now, 0, frame(1, 2, source(n), 100), send)
		g.Take(now, 1, frame(2, 1, source(n).Reverse(), 100), send)
	}
	invented := uint32(300_000)
	if testing.Short() {
		invented = 140_000
	}
	for n := range invented {
		g.Take(now, 0, frame(1, 2, source(1<<20+n), 100), send)
		now += 10 * time.Microsecond
	}
	g.Run(now, send)
	for n := range uint32(hosts) {
		g.Take(now, 0, frame(1, 2, source(n), 100), send)
	}
	for _, c := range g.Observe(now, false).Result(nil, nil).Interfaces[0].Classes {
		if c.Class != "web" {
			continue
		}
		if i := c.Instances; i.Max > 131_073 || i.Shared > 200 || len(i.Top) < 10 || i.Top[1].Offered != 2 || i.Top[9].Offered != 2 {
			t.Errorf("%+v", i)
		}
	}
}

// BenchmarkTake is what a gate with the policies of a house costs a frame for an idle port, and one that waits for its turn.
func BenchmarkTake(b *testing.B) {
	f := read(b, strings.NewReplacer("DROP", "tail", "9Mbit/s", "90Gbit/s", "100Mbit/s", "100Gbit/s", "1Gbit/s", "100Gbit/s").Replace(house))
	node, ifaces := ports(f)
	for _, idle := range []bool{true, false} {
		b.Run(map[bool]string{true: "idle", false: "busy"}[idle], func(b *testing.B) {
			g, _ := gate.New(f, node, ifaces, 0, gate.Options{})
			l, now := g.Lanes[0], time.Duration(0)
			send := func(int, []byte) {}
			ring := make([][]byte, 64)
			for i := range ring {
				ring[i] = frame(1, 2, upload(9), 1000)
			}
			b.ReportAllocs()
			for n := 0; b.Loop(); n++ {
				if now += 200; !idle && n%64 > 0 {
					now -= 190
				}
				l.Take(now, 0, ring[n%64], send)
				if n%64 == 63 {
					l.Run(now, send)
					l.Flushed()
				}
			}
		})
	}
}

// BenchmarkHeld is for how long a lane with 131,000 instances moves no frame, because somebody looks at its counters or other policies come
// into force.
func BenchmarkHeld(b *testing.B) {
	f := read(b, `imbrel: 1
classes: [{name: web, match: [{protocol: udp}]}]
policies: [{name: up, shape: 900Mbit/s, treat: [{class: web, each: source, at-most: 1Mbit/s}]}]
network:
  nodes: [{name: house, interfaces: [{name: lan, rate: 1Gbit/s, subnets: [10.1.0.0/16]}, {name: wan, rate: 1Gbit/s, subnets: [10.2.0.0/16]}]}]
attach: [{policy: up, at: house/wan out}]
`)
	node, ifaces := ports(f)
	send := func(int, []byte) {}
	full := func(g *gate.Gate) {
		now := time.Duration(0)
		for n := range uint32(131_000) {
			flow := upload(9)
			flow.From = netip.AddrFrom4([4]byte{10, byte(n >> 16), byte(n >> 8), byte(n)})
			g.Take(now, 0, frame(1, 2, flow, 100), send)
			now += 2 * time.Microsecond
		}
		g.Run(time.Second, send)
	}
	b.Run("observe", func(b *testing.B) {
		g, _ := gate.New(f, node, ifaces, 0, gate.Options{})
		full(g)
		for b.Loop() {
			var o gate.Observation
			g.Lanes[0].Observe(&o, time.Second, false)
		}
	})
	b.Run("put", func(b *testing.B) {
		g, _ := gate.New(f, node, ifaces, 0, gate.Options{})
		full(g)
		for b.Loop() {
			b.StopTimer()
			p := g.Prepare(f, node, ifaces)
			b.StartTimer()
			g.Lanes[0].Put(p, time.Second, send)
		}
	})
}
