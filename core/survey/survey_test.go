package survey_test

import (
	"cmp"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"net/netip"
	"reflect"
	"runtime"
	"slices"
	"testing"
	"time"

	"imbrel.example/imbrel/core/codec"
	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/survey"
)

const began = 1_790_000_000 * time.Second

// A seen packet, as a test makes it.
type seen struct {
	at     time.Duration
	flow   packet.Flow
	dscp   codepoint.DSCP
	length int
}

// random packets of clients and servers, in the order of time.
func random(r *rand.Rand, n int, over time.Duration) (out []seen) {
	ports := []uint16{443, 873, 5060, 1234}
	for i := range n {
		client := netip.AddrFrom4([4]byte{10, 1, 0, byte(r.IntN(40))})
		server := netip.AddrFrom4([4]byte{10, 2, 0, byte(r.IntN(20))})
		port := ports[r.IntN(len(ports))]
		f := packet.Flow{From: client, To: server, Protocol: packet.UDP, FromPort: uint16(50000 + r.IntN(3)), ToPort: port}
		if r.IntN(2) == 0 {
			f = f.Reverse()
		}
		out = append(out, seen{began + time.Duration(float64(over)*float64(i)/float64(n)), f, codepoint.DSCP(r.IntN(3) * 10), 40 + r.IntN(1400)})
	}
	return out
}

func watch(s *survey.Survey, packets []seen) *survey.Result {
	w := s.Watch(policy.Catalogue(), nil)
	var p, built packet.Packet
	room := make([]byte, packet.HeaderRoom)
	for _, k := range packets {
		built.Build(room, k.flow, k.dscp, k.length, 0)
		w.Packet(k.at, &p, built.Bytes, k.length+packet.EthernetHeader)
	}
	w.Finish()
	return s.Result()
}

// A plain count of all groupings, a map each, agrees to the byte: sums, flows, busiest seconds and minutes, and the part of the busiest minute.
func TestAgainstPlainCounts(t *testing.T) {
	for seed := range uint64(2) {
		packets := random(rand.New(rand.NewPCG(26, seed)), 8000, 9*time.Minute+3*time.Second)
		res := watch(survey.New([]netip.Prefix{netip.MustParsePrefix("10.1.0.0/16")}), packets)
		type count struct {
			bytes, packets int64
			flows          map[packet.Flow]bool
			seconds        map[int64]int64
			minutes        map[int64]int64
		}
		counts, total := make(map[[2]string]*count), make(map[int64]int64)
		apps := map[uint16]string{443: "https", 873: "", 5060: "sip", 1234: ""} // rsync is of TCP
		for _, k := range packets {
			client, server, port, direction := k.flow.From, k.flow.To, k.flow.ToPort, "out"
			if port >= 50000 {
				client, server, port, direction = k.flow.To, k.flow.From, k.flow.FromPort, "in"
			}
			for _, key := range [][2]string{{"app", apps[port]}, {"client", client.String()}, {"server", server.String()}, {"dscp", k.dscp.Name()}, {"vlan", ""}, {"protocol", "udp"}, {"direction", direction}} {
				c := counts[key]
				if c == nil {
					c = &count{0, 0, make(map[packet.Flow]bool), make(map[int64]int64), make(map[int64]int64)}
					counts[key] = c
				}
				c.bytes += int64(k.length)
				c.packets++
				c.flows[k.flow] = true
				c.seconds[int64(k.at/time.Second)] += int64(k.length)
				c.minutes[int64(k.at/time.Minute)] += int64(k.length)
			}
			total[int64(k.at/time.Minute)] += int64(k.length)
		}
		most := func(m map[int64]int64) (n int64) {
			for _, v := range m {
				n = max(n, v)
			}
			return n
		}
		sums := 0
		for _, g := range res.Groups {
			for i := range g.Sums {
				s := &g.Sums[i]
				c := counts[[2]string{g.By, s.Name}]
				if sums++; c == nil {
					t.Fatalf("%s %q: no such packet was sent", g.By, s.Name)
				}
				if g.By == "dscp" { // a flow counts with the marking that it began with
					s.Flows = int64(len(c.flows))
				}
				if s.Bytes != c.bytes || s.Packets != c.packets || s.Flows != int64(len(c.flows)) || s.Error != 0 {
					t.Errorf("%s %q: %d bytes, %d packets, %d flows, error %d; want %d, %d, %d", g.By, s.Name, s.Bytes, s.Packets, s.Flows, s.Error, c.bytes, c.packets, len(c.flows))
				}
				if s.BusiestSecond.Bps != 8*most(c.seconds) || s.BusiestMinute.Bps != most(c.minutes)*8/60 {
					t.Errorf("%s %q: busiest second %d, minute %d; want %d, %d", g.By, s.Name, s.BusiestSecond.Bps, s.BusiestMinute.Bps, 8*most(c.seconds), most(c.minutes)*8/60)
				}
				var all []int64
				for m := packets[0].at / time.Minute; m <= packets[len(packets)-1].at/time.Minute; m++ {
					all = append(all, c.minutes[int64(m)])
				}
				slices.Sort(all)
				if want := all[(len(all)*95+99)/100-1] * 8 / 60; *s.P95MinuteBps != want {
					t.Errorf("%s %q: 95 %% of minutes %d, want %d", g.By, s.Name, *s.P95MinuteBps, want)
				}
				busiest, at := int64(0), int64(0)
				for m, n := range total {
					if n > busiest || n == busiest && m < at {
						busiest, at = n, m
					}
				}
				if want := float64(c.minutes[at]) / float64(busiest); math.Abs(*s.Part-want) > 1e-12 {
					t.Errorf("%s %q: part of the busiest minute %v, want %v", g.By, s.Name, *s.Part, want)
				}
			}
		}
		if sums != len(counts) {
			t.Errorf("%d sums, want %d", sums, len(counts))
		}
	}
}

// A survey that is saved and added to another is as if one had seen all.
func TestAdded(t *testing.T) {
	packets := random(rand.New(rand.NewPCG(26, 9)), 8000, 10*time.Minute)
	whole := watch(survey.New(nil), packets)
	cut := slices.IndexFunc(packets, func(k seen) bool { return k.at >= began+5*time.Minute })
	joined := survey.New(nil)
	for _, part := range [][]seen{packets[cut:], packets[:cut]} {
		text, err := json.Marshal(watch(survey.New(nil), part))
		if err != nil {
			t.Fatal(err)
		}
		var saved survey.Result
		if err := json.Unmarshal(text, &saved); err != nil {
			t.Fatal(err)
		}
		if err := joined.Merge(&saved); err != nil {
			t.Fatal(err)
		}
	}
	res := joined.Result()
	for i, g := range whole.Groups {
		for k, want := range g.Sums {
			got := res.Groups[i].Sums[k]
			want.Flows, got.Flows = 0, 0 // a flow that goes on is counted in both
			if !reflect.DeepEqual(got, want) {
				t.Fatalf("%s: %+v\nwant %+v", g.By, got, want)
			}
		}
	}
	if res.Total.Bytes != whole.Total.Bytes || !reflect.DeepEqual(res.Total.Minutes, whole.Total.Minutes) {
		t.Errorf("total %+v\nwant %+v", res.Total, whole.Total)
	}
	for what, r := range map[string]*survey.Result{"nothing": {}, "another version": {Survey: 7, From: whole.From, To: whole.To}, "two months": {Survey: survey.Version, From: whole.From.AddDate(0, -2, 0), To: whole.To}} {
		if survey.New(nil).Merge(r) == nil {
			t.Errorf("%s is added", what)
		}
	}
}

// However many sources there are, memory is bounded, nothing of the total is lost, and who sends most is found with at most the error that
// is stated.
func TestManySources(t *testing.T) {
	s := survey.New(nil)
	r := rand.New(rand.NewPCG(26, 3))
	heavy := netip.MustParseAddr("10.9.9.9")
	var sent, all int64
	for i := range 4 * survey.MaxSums {
		at := began + time.Duration(i)*time.Millisecond
		from := netip.AddrFrom4([4]byte{byte(11 + i>>20), byte(i >> 12), byte(i >> 4), byte(i<<4) | byte(r.IntN(16))})
		if i%50 == 0 {
			from = heavy
			sent += 500
		}
		all += 500
		s.Add(&survey.Record{Flow: packet.Flow{From: from, To: netip.AddrFrom4([4]byte{byte(20 + i>>16), byte(i >> 8), byte(i), 1}), Protocol: packet.UDP, FromPort: uint16(i), ToPort: 53}, FromClient: true, App: "dns", Packets: 1, Bytes: 500, Began: 1, From: at, To: at})
	}
	res := s.Result()
	if res.Total.Bytes != all || res.Of("app")[0].Bytes != all || res.Of("app")[0].Error != 0 {
		t.Errorf("total %d, application %+v; want %d", res.Total.Bytes, res.Of("app")[0], all)
	}
	clients := res.Of("client")
	if len(clients) != survey.MaxSums {
		t.Errorf("%d clients are kept, want %d", len(clients), survey.MaxSums)
	}
	first := clients[0]
	if first.Name != heavy.String() || first.Bytes < sent || first.Bytes-first.Error > sent || first.Error > all/survey.MaxSums {
		t.Errorf("the heaviest is %+v; %d were sent, and the error is at most %d", first, sent, all/survey.MaxSums)
	}
	var m runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&m)
	if m.HeapAlloc > 200<<20 {
		t.Errorf("%d MB are in use", m.HeapAlloc>>20)
	}
	runtime.KeepAlive(s)
}

// A flow record is spread evenly over its time, to the byte.
func TestSpread(t *testing.T) {
	s := survey.New(nil)
	from := began + 20*time.Second // the first minute begins before
	s.Add(&survey.Record{Flow: packet.Flow{From: netip.MustParseAddr("10.1.0.1"), To: netip.MustParseAddr("10.2.0.1"), Protocol: packet.TCP, ToPort: 443}, FromClient: true, Packets: 10, Bytes: 1_000_001, From: from, To: from + 3*time.Minute, SecondUnknown: true})
	res := s.Result()
	var sum int64
	for _, run := range res.Total.Minutes {
		for k, bytes := range run[1:] {
			begin, end := time.Duration(run[0]+int64(k))*time.Minute, time.Duration(run[0]+int64(k)+1)*time.Minute
			part := float64(min(end, from+3*time.Minute)-max(begin, from)) / float64(3*time.Minute)
			if math.Abs(float64(bytes)-part*1_000_001) > 1.5 {
				t.Errorf("minute %d has %d bytes, want %.1f", k, bytes, part*1_000_001)
			}
			sum += bytes
		}
	}
	if sum != 1_000_001 || !res.Coarse || res.Total.BusiestSecond != nil {
		t.Errorf("%d bytes, seconds unknown %v, busiest second %v", sum, res.Coarse, res.Total.BusiestSecond)
	}
	before := res.Total.Bytes
	for _, r := range []survey.Record{{From: 5, To: 3}, {From: began, To: began + 25*time.Hour}, {From: began + 41*24*time.Hour, To: began + 41*24*time.Hour}, {}} {
		r.Bytes = 7
		s.Add(&r)
	}
	if after := s.Result(); after.Total.Bytes != before || len(after.Notes) != 1 {
		t.Errorf("records without sense count: %+v, %v", after.Total, after.Notes)
	}
}

// A call loses what it loses, is late when it is late, and its MOS follows; reports of the far end are read.
func TestCalls(t *testing.T) {
	s := survey.New(nil)
	w := s.Watch(policy.Catalogue(), nil)
	var p, built packet.Packet
	f := packet.Flow{From: netip.MustParseAddr("10.1.0.1"), To: netip.MustParseAddr("10.2.0.1"), Protocol: packet.UDP, FromPort: 20000, ToPort: 30000}
	send := func(at time.Duration, f packet.Flow, length, extra int, put func(b []byte)) {
		room := make([]byte, 1024)
		built.Build(room[:packet.HeaderRoom], f, codepoint.EF, length, packet.RTPHeader)
		frame := slices.Concat(built.Bytes, make([]byte, extra))
		put(frame[packet.EthernetHeader+28:])
		w.Packet(at, &p, frame, length+packet.EthernetHeader)
	}
	rtp := func(at time.Duration, f packet.Flow, n int, kind byte, step uint32) {
		send(at, f, 200, 0, func(b []byte) {
			b[0], b[1] = 0x80, kind
			binary.BigEndian.PutUint16(b[2:], uint16(65500+n)) // it begins again on the way
			binary.BigEndian.PutUint32(b[4:], uint32(n)*step)
			binary.BigEndian.PutUint32(b[8:], 77)
		})
	}
	lost, late := 0, 0
	type sent struct {
		at time.Duration
		n  int
	}
	var all []sent
	for n := range 1000 {
		at := began + time.Duration(n)*20*time.Millisecond
		switch {
		case n > 10 && n%50 == 7:
			lost++
			continue
		case n > 10 && n%100 == 31:
			late++
			at += 55 * time.Millisecond
		}
		all = append(all, sent{at, n})
	}
	slices.SortFunc(all, func(a, b sent) int { return cmp.Compare(a.at, b.at) })
	for _, k := range all {
		rtp(k.at, f, k.n, 0, 160)
	}
	video := packet.Flow{From: f.To, To: f.From, Protocol: packet.UDP, FromPort: 40000, ToPort: 40002}
	for n := range 200 {
		rtp(began+20*time.Second+time.Duration(n)*40*time.Millisecond, video, n, 96, 3600)
	}
	w.Finish()
	res := s.Result()
	if len(res.Calls) != 2 || res.AtOnce != 1 {
		t.Fatalf("%d calls, %d at a time", len(res.Calls), res.AtOnce)
	}
	c, v := res.Calls[0], res.Calls[1]
	if c.Lost != int64(lost) || c.Late != int64(late) || c.Codec != "g711" || c.Interval != 20 || c.DSCP != "ef" || c.Packets != int64(1000-lost-3) {
		t.Errorf("%+v; want %d lost, %d late", c, lost, late)
	}
	g711, _ := codec.ByName("g711")
	if want := codec.MOS(codec.R(60*time.Millisecond, float64(lost+late)/997, 1, g711.Ie, g711.Bpl)); c.MOS == nil || math.Abs(*c.MOS-want) > 1e-9 {
		t.Errorf("MOS %v, want %v", *c.MOS, want)
	}
	if !v.Video || v.Interval != 40 || v.JitterMs > 0.01 || v.MOS != nil {
		t.Errorf("%+v; want a video every 40 ms", v)
	}
}

// FuzzPackets: whatever frames hold, nothing panics, and bytes add up.
func FuzzPackets(f *testing.F) {
	var built packet.Packet
	built.Build(make([]byte, packet.HeaderRoom), packet.Flow{From: netip.MustParseAddr("10.1.0.1"), To: netip.MustParseAddr("10.2.0.1"), Protocol: packet.UDP, FromPort: 5004, ToPort: 5004}, 46, 100, 12)
	f.Add(built.Bytes, int64(1))
	f.Fuzz(func(t *testing.T, frame []byte, step int64) {
		s := survey.New(nil)
		w := s.Watch(policy.Catalogue(), nil)
		var p packet.Packet
		for i := range 8 {
			w.Packet(began+time.Duration(i)*time.Duration(step%1e12), &p, slices.Clone(frame), len(frame))
		}
		w.Finish()
		res := s.Result()
		var sum int64
		for _, g := range res.Of("app") {
			sum += g.Bytes
		}
		if sum != res.Total.Bytes {
			t.Errorf("applications come to %d bytes of %d", sum, res.Total.Bytes)
		}
	})
}

func ExampleSurvey() {
	s := survey.New(nil)
	at := 1_790_000_000 * time.Second
	s.Add(&survey.Record{Flow: packet.Flow{From: netip.MustParseAddr("192.0.2.1"), To: netip.MustParseAddr("198.51.100.1"), Protocol: packet.TCP, FromPort: 50000, ToPort: 443}, FromClient: true, App: "https", Packets: 2, Bytes: 1500, Began: 1, From: at, To: at})
	for _, c := range s.Result().Of("client") {
		fmt.Println(c.Name, c.Bytes, c.Packets, c.Flows)
	}
	// Output: 192.0.2.1 1500 2 1
}
