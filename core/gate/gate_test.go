package gate_test

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"
	"weak"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/gate"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/policyfile"
	"imbrel.example/imbrel/core/simulate"
	"imbrel.example/imbrel/core/unit"
)

const house = `{"imbrel": 1,
	"maps": {"down": {"af41": "af42"}},
	"classes": [
		{"name": "voice", "match": [{"to-port": "16384-32767", "protocol": "udp"}]},
		{"name": "films", "match": [{"from": "10.1.2.0/24"}]},
		{"name": "files", "match": [{"protocol": "tcp"}]}],
	"policies": [
		{"name": "edge", "treat": [{"class": "voice", "mark": "ef"}, {"class": "films", "mark": "af41", "each": "source", "police": {"rate": "2Mbit/s", "burst": "8kB", "red": {"map": "down"}}}, {"class": "rest", "mark": "df"}]},
		{"name": "up", "shape": "9Mbit/s", "treat": [
			{"class": "voice", "priority": 1, "police": {"calls": 6, "codec": "g711"}},
			{"class": "films", "at-least": "30%", "queue": {"drop": "red", "limit": "60ms"}},
			{"class": "files", "at-least": "20%", "queue": {"drop": "DROP"}},
			{"class": "rest", "treat": [{"class": "films"}, {"class": "rest"}]}]},
		{"name": "down", "shape": "9Mbit/s", "treat": [{"class": "voice", "priority": 1, "at-most": "1Mbit/s"}, {"class": "rest", "queue": {"drop": "codel"}}]}],
	"attach": [{"policy": "edge", "at": "west/lan in"}, {"policy": "up", "at": "west/wan out"}, {"policy": "down", "at": "west/wan in"}],
	"network": {"nodes": [
		{"name": "west", "interfaces": [{"name": "lan", "rate": "1Gbit/s", "subnets": ["10.1.0.0/16"]}, {"name": "wan", "rate": "100Mbit/s"}]},
		{"name": "east", "interfaces": [{"name": "wan", "rate": "100Mbit/s"}, {"name": "lan", "rate": "1Gbit/s", "subnets": ["10.2.0.0/16"]}]}],
		"links": [{"ends": [{"at": "west/wan"}, {"at": "east/wan"}], "delay": "2ms"}]},
	"rehearsals": [{"name": "r", "lasts": "6s", "traffic": [
		{"name": "calls", "calls": 5, "codec": "g711", "between": ["10.1.0.7", "10.2.0.9"]},
		{"name": "film", "rate": "6Mbit/s", "packet": "1200B", "arrivals": "poisson", "from": "10.1.2.8", "to": "10.2.0.8"},
		{"name": "other", "rate": "2Mbit/s", "packet": "700B", "arrivals": "poisson", "from": "10.1.0.10", "to": "10.2.0.10"},
		{"name": "file", "tcp": 3, "from": "10.1.0.8", "to": "10.2.0.8"},
		{"name": "back", "tcp": 2, "from": "10.2.0.8", "to": "10.1.0.8", "from-port": 443}],
		"expect": ["voice drops at west/wan out = 0", "voice delay p99 at west/wan out <= 5ms", "films drops at west/wan out = 0", "calls loss = 0"]}]}`

func read(t testing.TB, text string) *policy.File {
	t.Helper()
	f, err := policyfile.Parse("house.json", []byte(text), time.LoadLocation)
	if err != nil {
		t.Fatal(err)
	}
	return f
}

func ports(f *policy.File) (*policy.Node, []*policy.Interface) {
	n := &f.Network.Nodes[0]
	return n, n.Interfaces
}

// gateOf returns a gate with the policies of a file, and its ports.
func gateOf(t testing.TB, text string) (*gate.Gate, []*policy.Interface) {
	t.Helper()
	f := read(t, text)
	node, ifaces := ports(f)
	g, err := gate.New(f, node, ifaces, 0, gate.Options{})
	if err != nil {
		t.Fatal(err)
	}
	return g, ifaces
}

// A crossing is a frame at an interface at a time.
type crossing struct {
	at    time.Duration
	port  int
	frame []byte
}

// TestGateDoesAsRehearsed: the frames that a rehearsal brings to a node, brought to a gate at
// the same times, leave it at the same times with the same bytes, and its counters are those
// of the rehearsal.
func TestGateDoesAsRehearsed(t *testing.T) {
	for _, drop := range []string{"tail", "codel", "fq-codel"} {
		f := read(t, string(bytes.Replace([]byte(house), []byte("DROP"), []byte(drop), 1)))
		node, ifaces := ports(f)
		var came, left []crossing
		// Frames are captured with all of their bytes' headers; the gate needs them whole.
		whole := func(p *packet.Packet) []byte {
			b := make([]byte, p.WireLength())
			copy(b, p.Bytes)
			return b
		}
		rehearsed, err := simulate.Run(f, &f.Rehearsals[0], simulate.Options{Seed: 1, Tap: func(at *policy.Interface, d policy.Direction, now time.Duration, p *packet.Packet) error {
			n := slices.Index(ifaces, at)
			switch {
			case n < 0:
			case d == policy.In:
				b := whole(p)
				b[5], b[11] = byte(1-n), byte(n) // stations of their own
				came = append(came, crossing{now, n, b})
			case at.Attached[d] != nil:
				left = append(left, crossing{now, n, whole(p)})
			}
			return nil
		}})
		if err != nil {
			t.Fatal(err)
		}
		g, err := gate.New(f, node, ifaces, 0, gate.Options{Seed: 1})
		if err != nil {
			t.Fatal(err)
		}
		var sent []crossing
		now := time.Duration(0)
		send := func(n int, b []byte) {
			if ifaces[n].Attached[policy.Out] != nil {
				sent = append(sent, crossing{now, n, bytes.Clone(b)})
			}
		}
		next := gate.Never
		for _, c := range came {
			for next <= c.at {
				now = next
				next = g.Run(now, send)
			}
			now = c.at
			g.Take(now, c.port, c.frame, send)
			next = g.Run(now, send)
		}
		for next != gate.Never {
			now = next
			next = g.Run(now, send)
		}
		if len(sent) != len(left) || len(left) < 3000 {
			for i, l := range left {
				if i >= len(sent) || !bytes.Equal(sent[i].frame[14:], l.frame[14:]) {
					t.Logf("frame %d at %v", i, l.at)
					break
				}
			}
			t.Fatalf("%s: %d frames left the gate, and %d the rehearsal; %+v", drop, len(sent), len(left), g.Counts())
		}
		for i, l := range left {
			s := sent[i]
			s.frame[5], s.frame[11] = l.frame[5], l.frame[11]
			takes := time.Duration(float64(max(len(l.frame)+24, 84)) * 8 / 100e6 * 1e9) // on the wire at 100 Mbit/s
			if d := l.at - s.at - takes; d < -1 || d > 1 || !bytes.Equal(s.frame, l.frame) {
				t.Fatalf("%s: frame %d leaves at %v with %x; in the rehearsal it is sent at %v with %x", drop, i, s.at, s.frame[:60], l.at, l.frame[:60])
			}
		}
		res := g.Observe(6*time.Second, false).Result(&f.Rehearsals[0], nil)
		for _, r := range rehearsed.Interfaces {
			for _, o := range res.Interfaces {
				if o.Interface != r.Interface || o.Direction != r.Direction || o.Node != r.Node {
					continue
				}
				if d := o.SentBps - r.SentBps; d > r.SentBps/50 || d < -r.SentBps/50 {
					t.Errorf("%s, %s: rehearsed %d bit/s, at the gate %d", drop, o.Interface, r.SentBps, o.SentBps)
				}
				for i := range r.Classes {
					a, b := &r.Classes[i], &o.Classes[i]
					if fmt.Sprint(a.Fullness) != fmt.Sprint(b.Fullness) {
						t.Errorf("%s, %s %s: limits were %+v full in the rehearsal, %+v at the gate", drop, o.Interface, a.Class, a.Fullness, b.Fullness)
					}
					if a.OfferedPackets != b.OfferedPackets || a.SentBytes != b.SentBytes || a.Drops != b.Drops || fmt.Sprint(a.Marks, a.Colors) != fmt.Sprint(b.Marks, b.Colors) || a.MaxQueueBytes != b.MaxQueueBytes {
						t.Errorf("%s, %s %s: rehearsed %+v, at the gate %+v", drop, o.Interface, a.Class, a, b)
					}
				}
			}
		}
		for _, s := range g.Observe(0, true).Samples() {
			n := slices.IndexFunc(res.Interfaces, func(i measure.Interface) bool { return i.Interface == s.Interface && i.Direction == s.Direction })
			k := slices.IndexFunc(res.Interfaces[n].Classes, func(c measure.Class) bool { return c.Class == s.Class })
			c := &res.Interfaces[n].Classes[k]
			if s.SentBytes != c.SentBytes || s.OfferedBytes != c.OfferedBytes || s.Drops != c.Drops.Total() || s.Waits.Count() != int64(c.SentPackets) || s.Direction == "out" && s.QueueBytes != c.MaxQueueBytes {
				t.Errorf("%s: the sample %+v is not of %+v", drop, s, c)
			}
		}
		if again := g.Observe(0, true).Samples(); slices.ContainsFunc(again, func(s measure.Sample) bool { return s.QueueBytes > 0 }) {
			t.Errorf("%s: nothing waits, and the longest queue since the last sample is not empty", drop)
		}
		if len(res.Expectations) != 3 || !res.Expectations[0].Holds || res.Expectations[2].Holds || res.Verdict != "fail" {
			t.Errorf("%s: the expectations of the gate's interfaces: %+v", drop, res.Expectations)
		}
		lost := func(i *policy.Interface, d policy.Direction) uint64 {
			if i.Name == "wan" && d == policy.Out {
				return 7
			}
			return 0
		}
		if o := g.Observe(6*time.Second, false).Result(&f.Rehearsals[0], lost).Expectations[0]; o.Holds || *o.Measured != *res.Expectations[0].Measured+7 {
			t.Errorf("%s: frames that the machine lost are no drops: %+v", drop, o)
		}
		if g.Waiting() != 0 || g.Counts().PassedBy != 0 || g.Counts().Taken != uint64(len(came)) {
			t.Errorf("%s: %d wait, counts %+v", drop, g.Waiting(), g.Counts())
		}
	}
}

// frame builds a frame of a length between two stations.
func frame(from, to byte, flow packet.Flow, length int) []byte {
	var p packet.Packet
	p.Build(make([]byte, packet.HeaderRoom), flow, codepoint.DSCP(0), length, 0)
	b := make([]byte, p.WireLength())
	copy(b, p.Bytes)
	b[5], b[11] = to, from
	return b
}

func upload(port uint16) packet.Flow {
	return packet.Flow{From: netip.MustParseAddr("10.1.0.8"), To: netip.MustParseAddr("10.2.0.8"), Protocol: packet.UDP, FromPort: 9, ToPort: port}
}

// A class by what its packets look like takes them at a gate.
func TestRecognisesAtTheGate(t *testing.T) {
	f := read(t, `imbrel: 1
apps: {media: {looks-like: rtp}}
classes: [{name: voice, match: [{app: media}]}]
policies: [{name: up, treat: [{class: voice, priority: 1, police: {rate: 1Mbit/s, burst: 10kB}}]}]
network:
  nodes: [{name: house, interfaces: [{name: lan, rate: 1Gbit/s, subnets: [10.1.0.0/24]}, {name: wan, rate: 100Mbit/s, subnets: [10.2.0.0/24]}]}]
attach: [{policy: up, at: house/wan out}]
`)
	node, ifaces := ports(f)
	g, err := gate.New(f, node, ifaces, 0, gate.Options{Seed: 1})
	if err != nil {
		t.Fatal(err)
	}
	send := func(int, []byte) {}
	for i := range 40 {
		b := frame(1, 2, upload(40_000), 200)
		rtp := b[14+20+8:]
		rtp[0], rtp[3], rtp[7], rtp[11] = 0x80, byte(i), byte(i), 7 // version 2, the next number and time, one source
		now := time.Duration(i) * 20 * time.Millisecond
		g.Take(now, 0, b, send)
		g.Run(now, send)
	}
	c := g.Observe(time.Second, false).Result(nil, nil).Interfaces[0].Classes
	if c[0].Class != "voice" || c[0].OfferedPackets < 20 {
		t.Errorf("of 40 packets of RTP %d are in %s", c[0].OfferedPackets, c[0].Class)
	}
}

// TestReload: what waits stays and leaves by the new policies, no frame is lost or made, and the
// counters of entries that remain go on.
func TestReload(t *testing.T) {
	for _, drop := range []string{"tail", "codel", "fq-codel"} {
		text := string(bytes.Replace([]byte(house), []byte("DROP"), []byte(drop), 1))
		f := read(t, text)
		node, ifaces := ports(f)
		g, err := gate.New(f, node, ifaces, 0, gate.Options{})
		if err != nil {
			t.Fatal(err)
		}
		sent := 0
		send := func(n int, b []byte) {
			if n == 1 {
				sent++
			}
		}
		tcp := upload(80)
		tcp.Protocol = packet.TCP
		for i := range 12 {
			g.Take(time.Duration(i)*time.Microsecond, 0, frame(1, 2, tcp, 1500), send)
			g.Take(time.Duration(i)*time.Microsecond, 0, frame(1, 2, upload(9), 1000), send)
		}
		g.Run(time.Millisecond, send)
		waiting, before := g.Waiting(), sent
		if waiting < 15 {
			t.Fatalf("%s: only %d frames wait", drop, waiting)
		}
		// The new policy gives the files nothing of their own: they go to the rest.
		other := read(t, string(bytes.Replace([]byte(text), []byte(`{"class": "files", "at-least": "20%", "queue": {"drop": "`+drop+`"}},`), nil, 1)))
		node2, ifaces2 := ports(other)
		g.Put(g.Prepare(other, node2, ifaces2), 2*time.Millisecond, send)
		if g.Waiting()+sent-before != waiting {
			t.Errorf("%s: %d waited, and after the reload %d wait and %d are sent", drop, waiting, g.Waiting(), sent-before)
		}
		for next := g.Run(2*time.Millisecond, send); next != gate.Never; {
			next = g.Run(next, send)
		}
		res := g.Observe(time.Second, false).Result(nil, nil)
		var rest *measure.Class
		for i := range res.Interfaces {
			for j := range res.Interfaces[i].Classes {
				if k := &res.Interfaces[i].Classes[j]; k.Class == "rest" && res.Interfaces[i].Direction == "out" {
					rest = k
				} else if k.Class == "files" {
					t.Errorf("%s: an entry that is gone still counts: %+v", drop, k)
				}
			}
		}
		if sent != 24 || rest == nil || rest.SentPackets+2 < 24-2 || rest.OfferedPackets != rest.SentPackets+rest.Drops.Total() {
			t.Errorf("%s: %d of 24 frames are sent; rest %+v", drop, sent, rest)
		}
		if g.Counts().Reloads != 1 || g.Waiting() != 0 {
			t.Errorf("%s: %+v, %d wait", drop, g.Counts(), g.Waiting())
		}
	}
}

// What was observed stays as it was while the gate goes on: the waits of a class are those until then.
func TestObservedStays(t *testing.T) {
	f := read(t, string(bytes.Replace([]byte(house), []byte("DROP"), []byte("tail"), 1)))
	node, ifaces := ports(f)
	g, err := gate.New(f, node, ifaces, 0, gate.Options{})
	if err != nil {
		t.Fatal(err)
	}
	send := func(int, []byte) {}
	pass := func(at time.Duration, frames int) {
		for range frames {
			g.Take(at, 0, frame(1, 2, upload(9), 1000), send)
		}
		for next := g.Run(at, send); next != gate.Never; {
			next = g.Run(next, send)
		}
	}
	waits := func(o *gate.Observation) (packets uint64, half float64) {
		for _, i := range o.Result(nil, nil).Interfaces {
			for _, c := range i.Classes {
				if i.Direction == "out" && c.Class == "rest" && c.QueueDelay != nil {
					packets, half = c.SentPackets, c.QueueDelay.P50
				}
			}
		}
		return packets, half
	}
	pass(0, 20)
	early := g.Observe(100*time.Millisecond, false)
	packets, half := waits(early)
	for n := range 30 {
		pass(time.Duration(1+n)*time.Second, 1)
	}
	again, still := waits(early)
	if more, less := waits(g.Observe(time.Minute, false)); packets != 20 || half < 5 || again != packets || still != half || more != 50 || less >= half/2 {
		t.Errorf("half of %d frames waited %.2f ms at most, and later of %d %.2f; at the end of %d %.2f", packets, half, again, still, more, less)
	}
}

// TestCountersGoByName: a reload changes the order of the entries. Each keeps its own counts, and an observation names the new file.
func TestCountersGoByName(t *testing.T) {
	text := string(bytes.Replace([]byte(house), []byte("DROP"), []byte("tail"), 1))
	g, _ := gateOf(t, text)
	send := func(int, []byte) {}
	sent := map[string]int{"voice": 3, "films": 5, "files": 7, "rest": 11}
	for class, n := range sent {
		flow := upload(9)
		switch class {
		case "voice":
			flow.ToPort = 20000
		case "films":
			flow.From = netip.MustParseAddr("10.1.2.8")
		case "files":
			flow.Protocol = packet.TCP
		}
		for range n {
			g.Take(0, 0, frame(1, 2, flow, 200), send)
		}
	}
	for next := g.Run(0, send); next != gate.Never; {
		next = g.Run(next, send)
	}
	files := `{"class": "files", "at-least": "20%", "queue": {"drop": "tail"}},`
	turned := strings.Replace(strings.Replace(text, files, "", 1), `"shape": "9Mbit/s", "treat": [`, `"shape": "9Mbit/s", "treat": [`+files, 1)
	f := read(t, strings.Replace(turned, `"imbrel": 1,`, `"imbrel": 1, "title": "Turned",`, 1))
	node, ifaces := ports(f)
	g.Put(g.Prepare(f, node, ifaces), 2*time.Second, send)
	res := g.Observe(3*time.Second, false).Result(nil, nil)
	if res.Title != "Turned" {
		t.Errorf("after the reload the title is %q", res.Title)
	}
	seen := 0
	for _, i := range res.Interfaces {
		for _, c := range i.Classes {
			if n, is := sent[c.Class]; is && i.Direction == "out" && i.Interface == "wan" {
				if seen++; c.SentPackets != uint64(n) || c.OfferedPackets != uint64(n) {
					t.Errorf("%s sent %d packets; after the reload it has %d of %d", c.Class, n, c.SentPackets, c.OfferedPackets)
				}
			}
		}
	}
	if seen != len(sent) {
		t.Errorf("%d of %d classes are counted", seen, len(sent))
	}
}

// TestAnIdlePortTakesItsTime: frames that find their port idle leave one after the other, at the rate of the line, where no shape is slower.
func TestAnIdlePortTakesItsTime(t *testing.T) {
	text := strings.NewReplacer("DROP", "tail", `"shape": "9Mbit/s", `, "", `{"name": "wan", "rate": "100Mbit/s"}`, `{"name": "wan", "rate": "10Mbit/s"}`).Replace(house)
	g, ifaces := gateOf(t, text)
	var at []time.Duration
	now := time.Duration(0)
	send := func(int, []byte) { at = append(at, now) }
	for range 4 {
		g.Take(now, 0, frame(1, 2, upload(9), 1000), send)
	}
	for next := g.Run(now, send); next != gate.Never; next = g.Run(now, send) {
		now = next
	}
	one := ifaces[1].Rate.Time(unit.Size(ifaces[1].Framing.Size(1000, 0)))
	for i, a := range at {
		if late := a - time.Duration(i)*one; late < 0 || late > 2*time.Microsecond {
			t.Errorf("frame %d of four at once leaves at %v; each takes %v", i+1, a, one)
		}
	}
	if len(at) != 4 {
		t.Errorf("%d of 4 frames leave", len(at))
	}
}

// A gate on which nothing waits keeps nothing of the policies before, however often it reads them again.
func TestReloadLetsGo(t *testing.T) {
	text := string(bytes.Replace([]byte(house), []byte("DROP"), []byte("tail"), 1))
	g, _ := gateOf(t, text)
	var before []weak.Pointer[policy.Interface]
	for n := range 4 {
		f := read(t, text)
		node, ifaces := ports(f)
		before = append(before, weak.Make(ifaces[0]))
		g.Put(g.Prepare(f, node, ifaces), time.Duration(n)*time.Second, nil)
	}
	runtime.GC()
	for n, p := range before {
		if kept, inForce := p.Value() != nil, n == len(before)-1; kept != inForce {
			t.Errorf("policies %d of %d are kept: %v", n+1, len(before), kept)
		}
	}
	runtime.KeepAlive(g)
}

// TestLate: a gate that is asked late sends as much as one that is asked in time, and after a
// pause that is too long no more than that catches up.
func TestLate(t *testing.T) {
	f := read(t, string(bytes.Replace([]byte(house), []byte("DROP"), []byte("tail"), 1)))
	node, ifaces := ports(f)
	rate := func(step time.Duration) float64 {
		g, _ := gate.New(f, node, ifaces, 0, gate.Options{})
		bits := 0.0
		send := func(n int, b []byte) { bits += float64(len(b)+24) * 8 }
		for at := time.Duration(0); at < 4*time.Second; at += step {
			for range int(step/time.Millisecond) + 1 {
				g.Take(at, 0, frame(1, 2, upload(9), 1500), send)
			}
			g.Run(at, send)
		}
		return bits / 4
	}
	for _, step := range []time.Duration{time.Millisecond, 3 * time.Millisecond, 9 * time.Millisecond} {
		if r := rate(step); r < 0.99*9e6 || r > 1.01*9e6 {
			t.Errorf("asked every %v it sends %.3f Mbit/s; the shape is 9", step, r/1e6)
		}
	}
	if r := rate(50 * time.Millisecond); r > 9e6*0.4 {
		t.Errorf("asked every 50 ms it sends %.3f Mbit/s; ten milliseconds of each fifty can be made up for", r/1e6)
	}
}

// TestAFloodTakesNoRoom: when as many frames wait as may, a class of which little waits still gets in,
// and what is dropped is counted by the class that has the most.
func TestAFloodTakesNoRoom(t *testing.T) {
	f := read(t, string(bytes.Replace(bytes.Replace([]byte(house), []byte(`{"drop": "DROP"}`), []byte(`{"limit": 1000000}`), 1), []byte(`"9Mbit/s", "treat": [
			{"class": "voice"`), []byte(`"90Mbit/s", "treat": [
			{"class": "voice"`), 1)))
	node, ifaces := ports(f)
	g, _ := gate.New(f, node, ifaces, 0, gate.Options{})
	sent := 0
	send := func(int, []byte) { sent++ }
	file := upload(80)
	file.Protocol = packet.TCP
	big, call := frame(1, 2, file, 100), frame(1, 2, upload(20000), 200)
	const many = 100_000
	for range many {
		g.Take(0, 0, big, send)
	}
	if g.Waiting() > 70_000 || g.Counts().NoRoom == 0 {
		t.Fatalf("%d frames wait, %+v", g.Waiting(), g.Counts())
	}
	before := g.Counts().NoRoom
	for n := range 10 { // as a call sends them
		g.Take(time.Duration(n)*20*time.Millisecond, 0, call, send)
	}
	for next := g.Run(200*time.Millisecond, send); next != gate.Never; {
		next = g.Run(next, send)
	}
	for _, i := range g.Observe(time.Minute, false).Result(nil, nil).Interfaces {
		if i.Direction != "out" {
			continue
		}
		for _, c := range i.Classes {
			switch {
			case c.Class == "voice" && (c.SentPackets != 10 || c.Drops.Total() > 0):
				t.Errorf("voice: %+v", c)
			case c.Class == "files" && (c.Drops.QueueFull != before || c.SentPackets+before != many):
				t.Errorf("files: %+v, of which %d found no room", c, before)
			}
		}
	}
}

// FuzzFrames: no frames make a gate panic, grow or lose count.
func FuzzFrames(f *testing.F) {
	file := read(f, string(bytes.Replace([]byte(house), []byte("DROP"), []byte("fq-codel"), 1)))
	node, ifaces := ports(file)
	f.Add(frame(1, 2, upload(16384), 200), uint64(1))
	f.Add(frame(1, 2, packet.Flow{From: netip.MustParseAddr("2001:db8::1"), To: netip.MustParseAddr("2001:db8::2"), Protocol: packet.TCP}, 1500), uint64(2))
	f.Fuzz(func(t *testing.T, data []byte, seed uint64) {
		g, _ := gate.New(file, node, ifaces, 0, gate.Options{})
		r := rand.New(rand.NewPCG(seed, 1))
		sent := uint64(0)
		send := func(_ int, b []byte) {
			if len(b) == 0 {
				t.Fatal("an empty frame is sent")
			}
			sent++
		}
		at := time.Duration(0)
		for i := range 20 {
			b := bytes.Clone(data)
			if i > 0 && len(b) > 0 {
				b[r.IntN(len(b))] ^= byte(1 << r.IntN(8))
			}
			at += time.Duration(r.IntN(1e7))
			g.Take(at, r.IntN(2), b, send)
			if r.IntN(5) == 0 {
				g.Put(g.Prepare(file, node, ifaces), at, send)
			}
		}
		for next := g.Run(at, send); next != gate.Never; {
			next = g.Run(next, send)
		}
		dropped := uint64(0)
		for _, i := range g.Observe(at, false).Result(nil, nil).Interfaces {
			for j, c := range i.Classes {
				if i.Direction == "out" && j == 0 || c.Class != "rest/films" && c.Class != "rest/rest" {
					dropped += c.Drops.Total()
				}
			}
		}
		if g.Waiting() != 0 || sent != g.Counts().Sent || g.Counts().Sent+g.Counts().SamePort+g.Counts().TooLong+g.Counts().NoRoom > g.Counts().Taken {
			t.Errorf("%d wait, %d sent, %d dropped, %+v", g.Waiting(), sent, dropped, g.Counts())
		}
	})
}
