package simulate_test

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"testing"
	"time"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/policyfile"
	"imbrel.example/imbrel/core/simulate"
	"imbrel.example/imbrel/core/tcp"
)

// hosts are an outside that takes no time: what they send comes at once, and so does what they are
// given. Connections have the ends of the model.
type hosts struct {
	live  *simulate.Live
	now   time.Duration
	came  []arrived
	loses int           // each so many-th packet does not come; 0: none
	late  time.Duration // by how much everything is asked too late
	sent  int
	ends  map[packet.Flow]*end
	due   []*end
}

type arrived struct {
	at    time.Duration
	iface *policy.Interface
	frame []byte
}

func (h *hosts) Send(token uint32, from *policy.Interface, p *packet.Packet, _ bool) (time.Duration, bool) {
	if h.sent++; h.loses > 0 && h.sent%h.loses == 0 {
		return h.now, true
	}
	frame := make([]byte, p.WireLength())
	copy(frame, p.Bytes)
	frame[6] = 0xfe
	binary.BigEndian.PutUint32(frame[8:], token)
	h.came = append(h.came, arrived{h.now, from, frame})
	return h.now, true
}

func (h *hosts) Token(p *packet.Packet) (uint32, bool) {
	return binary.BigEndian.Uint32(p.Bytes[8:]), p.Bytes[6] == 0xfe
}

// Tell tells nobody: no packet of these tests is too large.
func (h *hosts) Tell(*policy.Interface, []byte) {}

func (h *hosts) Deliver(token uint32, _ *policy.Interface, p *packet.Packet) bool {
	if e := h.ends[p.Flow.Reverse()]; e != nil {
		if s, ok := e.Parse(p); ok {
			e.Receive(h.now, &s)
			h.due = append(h.due, e)
		}
	}
	return false
}

// An end is one of the model's, at a host of the outside.
type end struct {
	*tcp.End
	flow packet.Flow
	over bool
}

func (e *end) Abort() { e.over = true }

func (h *hosts) Connect(c simulate.Connection) [2]simulate.OutsideTransport {
	var out [2]simulate.OutsideTransport
	for way := range out {
		e := &end{End: tcp.NewEnd(c.Config), flow: c.Flow}
		if way == 1 {
			e.flow = c.Flow.Reverse()
		}
		h.ends[e.flow] = e
		out[way] = e
	}
	return out
}

func (h *hosts) Push(t simulate.Transport) { h.due = append(h.due, t.(*end)) }

// pump sends what the ends have to send.
func (h *hosts) pump(where func(packet.Flow) *policy.Interface) {
	for len(h.due) > 0 {
		e := h.due[0]
		h.due = h.due[1:]
		for !e.over {
			s, ok := e.Next(h.now)
			if !ok {
				break
			}
			var p packet.Packet
			e.Build(&p, make([]byte, packet.HeaderRoom), e.flow, &s)
			frame := make([]byte, p.WireLength())
			copy(frame, p.Bytes)
			h.came = append(h.came, arrived{h.now, where(e.flow), frame})
		}
	}
}

// play plays a rehearsal with these hosts.
func (h *hosts) play(t *testing.T, f *policy.File, o simulate.Options) (*measure.Result, simulate.OutsideCounts) {
	t.Helper()
	h.ends = make(map[packet.Flow]*end)
	plan := &f.Rehearsals[0]
	var err error
	if h.live, err = simulate.NewLive(f, plan, o, h); err != nil {
		t.Fatal(err)
	}
	where := func(k packet.Flow) *policy.Interface {
		for i := range f.Network.Nodes {
			for _, p := range f.Network.Nodes[i].Interfaces {
				for _, s := range p.Subnets {
					if s.Contains(k.From) {
						return p
					}
				}
			}
		}
		return nil
	}
	for {
		if h.late > 0 { // applications first, as where a socket is ready before an event is due
			for _, e := range h.ends {
				h.live.Progress(e, h.now)
			}
		}
		next, more, err := h.live.Run(h.now)
		if err != nil {
			t.Fatal(err)
		}
		h.pump(where)
		for len(h.came) > 0 {
			c := h.came[0]
			h.came = h.came[1:]
			if err := h.live.Take(c.at, c.iface, c.frame); err != nil {
				t.Fatal(err)
			}
			h.pump(where)
		}
		for _, e := range h.ends {
			h.live.Progress(e, h.now)
			if at := e.Due(); !e.over && at != tcp.Never && (!more || at < next) {
				next, more = max(at, h.now), true
				h.due = append(h.due, e)
			}
		}
		h.pump(where)
		if next, more2, _ := h.live.Run(h.now); len(h.came) > 0 || more2 && next <= h.now {
			continue
		}
		if !more {
			return h.live.Result(h.now + time.Nanosecond)
		}
		if h.now = max(next+h.late, h.now+1); h.now > plan.Lasts+10*time.Second {
			return h.live.Result(h.now)
		}
	}
}

const staged = `{"imbrel": 1,
	"classes": [{"name": "voice", "match": [{"to-port": "16384-32767", "protocol": "udp"}]}, {"name": "film", "match": [{"to-port": 7000}]}],
	"policies": [{"name": "up", "shape": "4Mbit/s", "treat": [{"class": "voice", "mark": "ef", "priority": 1, "police": {"calls": 4, "codec": "g711"}},
		{"class": "film", "at-least": "30%", "queue": {"drop": "red"}}, {"class": "rest", "queue": {"drop": "fq-codel"}}]}],
	"attach": [{"policy": "up", "at": "west/wan out"}],
	"network": {"nodes": [
		{"name": "west", "interfaces": [{"name": "lan", "rate": "1Gbit/s", "subnets": ["10.1.0.0/16", "2001:db8:1::/64"]}, {"name": "wan", "rate": "100Mbit/s", "framing": "ethernet-vlan"}]},
		{"name": "east", "interfaces": [{"name": "wan", "rate": "100Mbit/s"}, {"name": "lan", "rate": "1Gbit/s", "subnets": ["10.2.0.0/16", "2001:db8:2::/64"]}]}],
		"links": [{"ends": [{"at": "west/wan", "sends": "5Mbit/s"}, {"at": "east/wan"}], "delay": "3ms", "loss": "0.5%", "jitter": "1ms"}]},
	"rehearsals": [{"name": "r", "lasts": "5s", "warm-up": "500ms", "traffic": [TRAFFIC
		{"name": "calls", "calls": 5, "codec": "g711", "between": ["10.1.0.7", "10.2.0.9"], "rtcp": true, "speech": "40%"},
		{"name": "six", "rate": "1Mbit/s", "packet": "300B", "arrivals": "poisson", "from": "2001:db8:1::8", "to": "2001:db8:2::8", "to-port": 9},
		{"name": "reel", "video": "3Mbit/s", "frames": 25, "from": "10.1.2.8", "to": "10.2.0.8", "to-port": 7000}],
		"expect": ["voice delay p99 <= 20ms", "calls mos >= 4", "reel loss = 0", "film loss <= 5% from 1s to 2s"]}]}`

func stagedFile(t *testing.T, traffic string) *policy.File {
	t.Helper()
	f, err := policyfile.Parse("staged.json", bytes.Replace([]byte(staged), []byte("TRAFFIC"), []byte(traffic), 1), time.LoadLocation)
	if err != nil {
		t.Fatal(err)
	}
	return f
}

// TestLiveIsTheRehearsal: with hosts that take no time, a network under a clock from outside
// measures what the rehearsal measures, to the last figure.
func TestLiveIsTheRehearsal(t *testing.T) {
	f := stagedFile(t, "")
	for _, without := range []bool{false, true} {
		o := simulate.Options{Seed: 3, WithoutPolicy: without, Hops: true}
		want, err := simulate.Run(f, &f.Rehearsals[0], o)
		if err != nil {
			t.Fatal(err)
		}
		got, background := (&hosts{}).play(t, f, o)
		a, _ := json.Marshal(want)
		b, _ := json.Marshal(got)
		if !bytes.Equal(a, b) || background != (simulate.OutsideCounts{}) || len(want.Traffic) < 4 {
			t.Errorf("without policies %v: the rehearsal measured\n%s\nand from outside\n%s\nbeside it %+v", without, a, b, background)
		}
	}
}

// TestLiveTCP: connections of an outside are measured as those of the rehearsal: the same model at
// the other side of the fence gets the same goodput.
func TestLiveTCP(t *testing.T) {
	f := stagedFile(t, `{"name": "files", "tcp": 3, "from": "10.1.0.8", "to": "10.2.0.8"}, {"name": "pages", "pages": 2, "objects": 4, "object": "8kB", "think": "300ms", "from": "10.1.0.8", "to": "10.2.0.8", "to-port": 443},`)
	want, err := simulate.Run(f, &f.Rehearsals[0], simulate.Options{Seed: 3})
	if err != nil {
		t.Fatal(err)
	}
	got, background := (&hosts{}).play(t, f, simulate.Options{Seed: 3})
	for i := range want.Traffic {
		a := &want.Traffic[i]
		if a.TCP == nil {
			continue
		}
		for j := range got.Traffic {
			b := &got.Traffic[j]
			if b.Name != a.Name || b.Direction != a.Direction || b.TCP == nil {
				continue
			}
			if r := float64(b.TCP.GoodputBps) / float64(a.TCP.GoodputBps); a.Name == "files" && (r < 0.9 || r > 1.1) || b.TCP.Opened != a.TCP.Opened || b.TCP.Segments == 0 || (a.TCP.Resent > 20) != (b.TCP.Resent > 20) || (a.TCP.Completed > 3) != (b.TCP.Completed > 3) {
				t.Errorf("%s: rehearsed %+v, from outside %+v", a.Name, *a.TCP, *b.TCP)
			}
		}
	}
	if background.Strays > 20 { // what comes after the end
		t.Errorf("%+v", background)
	}
}

// TestLiveCountsWhatIsMissing: packets that are sent and never come are lost, and counted as such;
// frames of nobody's are strays.
func TestLiveCountsWhatIsMissing(t *testing.T) {
	f := stagedFile(t, "")
	h := &hosts{loses: 10}
	got, background := h.play(t, f, simulate.Options{Seed: 3})
	lost := int64(0)
	for _, r := range got.Traffic {
		lost += r.SentPackets - r.ReceivedPackets
	}
	if background.NotTaken == 0 || int(background.NotTaken) != h.sent/10 || lost < int64(background.NotTaken)*8/10 {
		t.Errorf("of %d packets each tenth got lost; %+v, %d are lost in the result", h.sent, background, lost)
	}
	h = &hosts{}
	var err error
	if h.live, err = simulate.NewLive(f, &f.Rehearsals[0], simulate.Options{}, h); err != nil {
		t.Fatal(err)
	}
	iface := f.Network.Nodes[0].Interfaces[0]
	for _, frame := range [][]byte{nil, make([]byte, 13), make([]byte, 60), bytes.Repeat([]byte{0xff}, 2000)} {
		if err := h.live.Take(time.Minute, iface, frame); err != nil {
			t.Error(err)
		}
	}
	if _, background = h.live.Result(time.Minute); background.Strays != 4 {
		t.Errorf("%+v", background)
	}
}

// TestAskedLate: a network that is asked a millisecond late, and by applications before anything
// else, still does all that was due: its classes get what they get of one that is asked in time.
func TestAskedLate(t *testing.T) {
	f := stagedFile(t, `{"name": "files", "tcp": 3, "from": "10.1.0.8", "to": "10.2.0.8"},`)
	sent := func(late time.Duration) map[string]float64 {
		res, background := (&hosts{late: late}).play(t, f, simulate.Options{Seed: 3})
		if background.NotTaken+background.NotSent > 0 {
			t.Errorf("%v late: %+v", late, background)
		}
		out := make(map[string]float64)
		for _, i := range res.Interfaces {
			for _, c := range i.Classes {
				if i.PolicyAt != "" {
					out[c.Class] += float64(c.SentBytes)
				}
			}
		}
		return out
	}
	want, got := sent(0), sent(time.Millisecond)
	for class, n := range want {
		if r := got[class] / n; r < 0.9 || r > 1.1 {
			t.Errorf("%s sends %.0f bytes when asked in time, and %.0f when asked late", class, n, got[class])
		}
	}
}
