package cli_test

import (
	"encoding/binary"
	"flag"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/explain"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/simulate"
	"imbrel.example/imbrel/core/traffic"
	"imbrel.example/imbrel/internal/files"
)

var networks = flag.Int("networks", 150, "through how many random networks TestExplainedAsRehearsed sends a hundred packets each")

// A world is a random network with policies and tunnels, as a document.
type world struct {
	r     *rand.Rand
	nodes int
	green bool // no policers: explain meters, and what is foreseen is green

	carries string   // what is said of a link's end
	lans    []string // node names with hosts
	b       strings.Builder
}

func pick[T any](r *rand.Rand, from ...T) T { return from[r.IntN(len(from))] }

// framing draws one, tagged more often than not.
func (w *world) framing() string {
	return pick(w.r, "ethernet", "ethernet-vlan", "ethernet-vlan", "ethernet-vlan-vlan", "ethernet-frame-vlan-mpls", "ip", "aal5-bridged-llc")
}

func (w *world) iface(name, more string) string {
	framing, vlan := w.framing(), ""
	if strings.Contains(framing, "vlan") && w.r.IntN(3) == 0 {
		vlan = fmt.Sprintf(", vlan: %d", 10+w.r.IntN(3))
	}
	return fmt.Sprintf("{name: %s, rate: 1Gbit/s, framing: %s%s%s}", name, framing, vlan, more)
}

func (w *world) document() string {
	r := w.r
	w.nodes = 2 + r.IntN(5)
	// A random tree of nodes, and perhaps a link that closes a circle.
	links := make([][]string, w.nodes)
	var joined []string
	neighbours := make([][]int, w.nodes)
	join := func(a, b int) {
		ab, ba := fmt.Sprintf("to%d", b), fmt.Sprintf("to%d", a)
		links[a], links[b] = append(links[a], w.iface(ab, "")), append(links[b], w.iface(ba, ""))
		joined = append(joined, fmt.Sprintf("    - {ends: [{at: n%d/%s}, {at: n%d/%s}], delay: %dms}\n", a, ab+w.carries, b, ba+w.carries, r.IntN(5)))
		neighbours[a], neighbours[b] = append(neighbours[a], b), append(neighbours[b], a)
	}
	for n := 1; n < w.nodes; n++ {
		join(n, r.IntN(n))
	}
	if w.nodes > 3 && r.IntN(2) == 0 && !slices.Contains(neighbours[0], w.nodes-1) {
		join(0, w.nodes-1)
	}
	fmt.Fprint(&w.b, "imbrel: 1\napps: {odd: {udp: 1000-1004}}\nmaps: {md: {af41: af42, ef: cs5, af11: le}}\nclasses:\n")
	for c := range 8 {
		fmt.Fprintf(&w.b, "  - {name: c%d, match: [%s, %s]%s}\n", c, w.condition(), w.condition(), pick(r, "", "", ", except: ["+w.condition()+"]"))
	}
	fmt.Fprint(&w.b, "policies:\n")
	for p := range 4 {
		fmt.Fprintf(&w.b, "  - {name: p%d, treat: [%s]}\n", p, w.entries(2))
	}
	fmt.Fprint(&w.b, "network:\n  nodes:\n")
	var places []string
	for n := range w.nodes {
		ifaces := links[n]
		ifaces = append(ifaces, w.iface("lan", fmt.Sprintf(", subnets: [10.%d.0.0/16, \"2001:db8:%d::/48\"]", n, n)))
		w.lans = append(w.lans, fmt.Sprint("n", n))
		places = append(places, fmt.Sprintf("n%d/lan", n))
		for _, other := range neighbours[n] {
			places = append(places, fmt.Sprintf("n%d/to%d", n, other))
		}
		fmt.Fprintf(&w.b, "    - {name: n%d, interfaces: [%s]}\n", n, strings.Join(ifaces, ", "))
	}
	fmt.Fprint(&w.b, "  links:\n", strings.Join(joined, ""))
	w.tunnels(neighbours)
	fmt.Fprint(&w.b, "attach:\n")
	for _, at := range places {
		for _, d := range []string{"in", "out"} {
			if r.IntN(2) == 0 {
				fmt.Fprintf(&w.b, "  - {policy: p%d, at: %s %s}\n", r.IntN(4), at, d)
			}
		}
	}
	fmt.Fprint(&w.b, "rehearsals: [{name: r, lasts: 24h, starts-at: 2026-03-02T08:30, traffic: [{name: t, capture: c, enters: n0/lan}]}]\n")
	return w.b.String()
}

// tunnels draws tunnels over paths that the links make.
func (w *world) tunnels(neighbours [][]int) {
	r := w.r
	var lines []string
	for t := range r.IntN(4) {
		path := []int{r.IntN(w.nodes)}
		for len(path) < 4 {
			next := pick(r, neighbours[path[len(path)-1]]...)
			if slices.Contains(path, next) {
				break
			}
			path = append(path, next)
		}
		if len(path) < 2 {
			continue
		}
		names := strings.ReplaceAll(strings.Trim(fmt.Sprint(path), "[]"), " ", ", n")
		kind := pick(r, "mpls", "mpls", "mpls", "gre", "ipsec")
		more := ""
		if kind == "mpls" {
			more = fmt.Sprintf(", labels: %d, pop: %s", 1+r.IntN(3), pick(r, "penultimate", "ultimate"))
		} else if r.IntN(2) == 0 {
			more = pick(r, ", from: 192.0.2.1, to: 192.0.2.2", `, from: "2001:db8:ffff::1", to: "2001:db8:ffff::2"`)
		}
		lines = append(lines, fmt.Sprintf("    - {name: t%d, kind: %s, through: [n%s], model: %s%s}\n", t, kind, names, pick(r, "uniform", "pipe", "short-pipe"), more))
	}
	if len(lines) > 0 {
		fmt.Fprint(&w.b, "  tunnels:\n", strings.Join(lines, ""))
	}
}

func (w *world) condition() string {
	r := w.r
	keys := []string{
		pick(r, fmt.Sprintf("from: 10.%d.0.0/16", r.IntN(w.nodes)), "from: 10.0.0.0/8", "from: here", "from: 192.0.2.0/24"), pick(r, fmt.Sprintf("to: \"2001:db8:%d::/48\"", r.IntN(w.nodes)), "to: here"),
		fmt.Sprintf("dscp: [%d, ef]", r.IntN(64)), fmt.Sprintf("precedence: %d", r.IntN(8)), "app: odd", "protocol: " + pick(r, "udp", "tcp", "esp", "gre"),
		fmt.Sprintf("pcp: [%d, 0]", r.IntN(8)), fmt.Sprintf("tc: [%d, 5]", r.IntN(8)), fmt.Sprintf("vlan: %d-%d", 1+r.IntN(10), 10+r.IntN(3)),
		"length: 20B-" + fmt.Sprint(100+r.IntN(600)) + "B", fmt.Sprintf("in: n%d/to%d", 1, 0), "ethertype: " + pick(r, "ipv4", "ipv6"),
		fmt.Sprintf("to-port: %d-1009", 1000+r.IntN(10)), fmt.Sprintf("port: %d", 1000+r.IntN(10)),
	}
	r.Shuffle(len(keys), func(a, b int) { keys[a], keys[b] = keys[b], keys[a] })
	return "{" + strings.Join(keys[:1+r.IntN(2)], ", ") + "}"
}

func (w *world) entries(depth int) string {
	r := w.r
	var out []string
	for _, c := range r.Perm(8)[:1+r.IntN(4)] {
		more := ""
		if r.IntN(2) == 0 {
			more += ", mark: " + pick(r, "ef", "af41", "{map: md}", "{precedence: 3}", "{pcp: 6}", "{tc: 3}", "{dscp: cs3, pcp: 2, tc: 1, dei: true}")
		}
		if r.IntN(4) == 0 && !w.green {
			more += ", police: {rate: 1Mbit/s, burst: 400B" + pick(r, "", ", excess-burst: 900B, yellow: {mark: le}", ", red: {mark: af13}", ", green: {map: md}, aware: true") + "}"
		}
		switch {
		case depth > 1 && r.IntN(3) == 0:
			more += ", treat: [" + w.entries(depth-1) + "]"
		case r.IntN(15) == 0:
			more = ", block: true"
		}
		out = append(out, fmt.Sprintf("{class: c%d%s}", c, more))
	}
	return strings.Join(out, ", ")
}

// frame draws a captured frame from a host of the first node: with and without tags and
// labels, of several protocols and lengths. Its number is its IPv4 or IPv6 sender.
func (w *world) frame(n int) (frame []byte, wire int) {
	r := w.r
	to := strings.TrimPrefix(pick(r, w.lans[1:]...), "n")
	flow := packet.Flow{From: netip.AddrFrom4([4]byte{10, 0, byte(n >> 8), byte(n)}), To: netip.MustParseAddr("10." + to + ".0.1"),
		FromPort: uint16(1000 + r.IntN(10)), ToPort: uint16(1000 + r.IntN(10)), Protocol: pick[uint8](r, packet.UDP, packet.TCP, packet.ESP)}
	if r.IntN(3) == 0 {
		flow.From = netip.MustParseAddr(fmt.Sprintf("2001:db8:0::%x", n+1))
		flow.To = netip.MustParseAddr("2001:db8:" + to + "::1")
	}
	var p packet.Packet
	p.Build(make([]byte, packet.HeaderRoom), flow, 0, 80+r.IntN(1200), 0)
	p.SetDSCP(randomDSCP(r))
	p.SetECN(uint8(r.IntN(4)))
	var tags []packet.Tag
	for range max(0, r.IntN(5)-2) {
		tags = append(tags, packet.Tag{VLAN: uint16(1 + r.IntN(20)), PCP: uint8(r.IntN(8)), DEI: r.IntN(2) == 0})
	}
	p.SetTags(tags)
	for range max(0, r.IntN(5)-2) {
		p.PushLabel(uint8(r.IntN(8)))
	}
	return p.Bytes, p.WireLength()
}

// A tape is a capture in memory, a packet every ten minutes.
type tape struct {
	frames [][]byte
	wires  []int
	at     int
	apart  time.Duration // 0: ten minutes
}

func (c *tape) ReadFrame() ([]byte, int, time.Duration, bool, error) {
	if c.at == len(c.frames) {
		return nil, 0, 0, false, nil
	}
	if c.at++; c.apart == 0 {
		c.apart = 10 * time.Minute
	}
	return c.frames[c.at-1], c.wires[c.at-1], time.Duration(c.at) * c.apart, true, nil
}

// tape draws so many frames.
func (w *world) tape(packets int) *tape {
	c := &tape{}
	for n := range packets {
		frame, wire := w.frame(n)
		c.frames, c.wires = append(c.frames, frame), append(c.wires, wire)
	}
	return c
}

// file reads what the world comes to.
func (w *world) file(t *testing.T) (f *policy.File, text string) {
	t.Helper()
	text = w.document()
	f, _, err := files.ReadPolicy("-", strings.NewReader(text))
	if err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	return f, text
}

// again returns the tape from its beginning.
func (c *tape) again(string) (traffic.Reader, error) {
	return &tape{frames: c.frames, wires: c.wires, apart: c.apart}, nil
}

// packet returns the packet of a number.
func (c *tape) packet(t *testing.T, n int) *packet.Packet {
	t.Helper()
	var p packet.Packet
	if err := p.Parse(slices.Clone(c.frames[n]), c.wires[n]); err != nil {
		t.Fatal(err)
	}
	return &p
}

// What explain says of a packet a rehearsal does: random networks, policies, tunnels
// and packets; the class and the marks at every hop, and the frames as they leave, are
// the same.
func TestExplainedAsRehearsed(t *testing.T) {
	t.Parallel()
	const packets = 100
	followed, hops, wrapped, labelled, dropped := 0, 0, 0, 0, 0
	for trial := range *networks {
		w := &world{r: rand.New(rand.NewPCG(8, uint64(trial)))}
		f, text := w.file(t)
		c := w.tape(packets)
		// What a rehearsal did with each packet, in order.
		did := make([][]string, packets)
		now := 0
		_, err := simulate.Run(f, &f.Rehearsals[0], simulate.Options{
			Capture: c.again,
			Classified: func(at *policy.Interface, d policy.Direction, class string, _ *packet.Packet) {
				did[now] = append(did[now], at.Path()+" "+d.String()+" "+class)
			},
			Tap: func(at *policy.Interface, d policy.Direction, when time.Duration, p *packet.Packet) error {
				if now = int(when / (10 * time.Minute)); d == policy.Out {
					did[now] = append(did[now], at.Path()+" "+frameMarks(p))
				}
				return nil
			},
		})
		if err != nil {
			t.Fatalf("trial %d: %v\n%s", trial, err, text)
		}
		follower := explain.New(f)
		for n := range packets {
			p := c.packet(t, n)
			from := p.Flow
			a, err := follower.Frame(p, f.Rehearsals[0].Traffic[0].Enters)
			if err != nil {
				continue // tunnels that send packets around for ever
			}
			followed++
			var said []string
			for i := range a.Hops {
				s := &a.Hops[i]
				hops++
				if s.Policy != "" {
					said = append(said, s.Node+"/"+s.Interface+" "+s.Direction+" "+s.Class)
				}
				if s.Direction == "out" && !s.Blocked && !s.Policed {
					said = append(said, s.Node+"/"+s.Interface+" "+stepMarks(s))
				}
				if !s.Outer.IsZero() {
					wrapped++
				}
				labelled += min(1, len(s.Labels))
			}
			if a.Arrives == nil {
				dropped++
			}
			if got, want := strings.Join(did[n], "\n"), strings.Join(said, "\n"); got != want {
				t.Fatalf("trial %d, packet %d (%v):\nrehearsed\n%s\nexplained\n%s\n%s", trial, n, from, got, want, text)
			}
		}
	}
	t.Logf("%d packets over %d interfaces: %d times in a tunnel's outer header, %d times under labels, %d dropped on their way", followed, hops, wrapped, labelled, dropped)
	if followed < 90**networks || wrapped < *networks || labelled < *networks || dropped < *networks {
		t.Errorf("the test tests little")
	}
}

// What a run without policies counts a packet as is what explain says of it: at each
// outgoing policy on its way, until one blocks it.
func TestForeseenAsExplained(t *testing.T) {
	t.Parallel()
	const packets = 40
	compared, blocked := 0, 0
	for trial := range *networks / 4 {
		w := &world{r: rand.New(rand.NewPCG(9, uint64(trial))), green: true}
		f, text := w.file(t)
		c := w.tape(packets)
		did := make([][]string, packets)
		now := -1
		_, err := simulate.Run(f, &f.Rehearsals[0], simulate.Options{WithoutPolicy: true,
			Capture: c.again,
			Tap: func(_ *policy.Interface, _ policy.Direction, when time.Duration, _ *packet.Packet) error {
				now = int(when / (10 * time.Minute))
				return nil
			},
			Classified: func(at *policy.Interface, d policy.Direction, class string, _ *packet.Packet) {
				did[now] = append(did[now], at.Path()+" "+class)
			},
		})
		if err != nil {
			t.Fatalf("trial %d: %v\n%s", trial, err, text)
		}
		follower := explain.New(f)
		for n := range packets {
			a, err := follower.Frame(c.packet(t, n), f.Rehearsals[0].Traffic[0].Enters)
			if err != nil {
				continue
			}
			var said []string
			for i := range a.Hops {
				if s := &a.Hops[i]; s.Policy != "" && s.Direction == "out" {
					said = append(said, s.Node+"/"+s.Interface+" "+s.Class)
				}
			}
			if a.Arrives == nil {
				blocked++
				did[n] = did[n][:len(said)]
			}
			compared++
			if got, want := strings.Join(did[n], "\n"), strings.Join(said, "\n"); got != want {
				t.Fatalf("trial %d, packet %d:\nforeseen\n%s\nexplained\n%s\n%s", trial, n, got, want, text)
			}
		}
	}
	t.Logf("%d packets, %d of them blocked", compared, blocked)
	if compared < 9**networks || blocked < *networks/10 && !testing.Short() {
		t.Errorf("the test tests little")
	}
}

// A packet counts for the same classes whether it arrives or is lost on its way: the same
// packets through the same random network with wide links and with links that lose nearly
// all of them, and with queues of policies that do.
func TestLostPacketsCountAsTheOthers(t *testing.T) {
	t.Parallel()
	lost, sent := int64(0), int64(0)
	for trial := range *networks / 4 {
		var runs [2]*measure.Result
		for i, carries := range []string{"", ", sends: 500bit/s, buffer: 1ms"} {
			w := &world{r: rand.New(rand.NewPCG(10, uint64(trial))), green: true, carries: carries}
			text := w.document()
			if i == 1 && trial%2 == 1 { // the policies' own queues lose them
				text = regexp.MustCompile(`(- \{name: p[0-9]), treat`).ReplaceAllString(text, "$1, shape: 500bit/s, treat")
			}
			f, _, err := files.ReadPolicy("-", strings.NewReader(text))
			if err != nil {
				t.Fatalf("trial %d: %v\n%s", trial, err, text)
			}
			c := w.tape(200)
			c.apart = time.Millisecond
			if runs[i], err = simulate.Run(f, &f.Rehearsals[0], simulate.Options{Capture: c.again}); err != nil {
				t.Fatalf("trial %d: %v\n%s", trial, err, text)
			}
		}
		for i := range runs[1].Traffic {
			lost += runs[1].Traffic[i].SentPackets - runs[1].Traffic[i].ReceivedPackets
			sent += runs[1].Traffic[i].SentPackets
		}
		if a, b := counted(runs[0]), counted(runs[1]); a != b {
			t.Fatalf("trial %d: through wide links\n%s\nthrough narrow ones\n%s", trial, a, b)
		}
	}
	t.Logf("%d of %d packets lost", lost, sent)
	if lost*2 < sent {
		t.Errorf("the test tests little")
	}
}

// counted lists how many packets count for each class, and come first in it.
func counted(r *measure.Result) string {
	var b strings.Builder
	for _, c := range r.Classes {
		fmt.Fprintln(&b, c.Class, c.SentPackets)
	}
	for _, row := range r.Traffic {
		fmt.Fprintln(&b, "first", row.Class, row.SentPackets)
	}
	return b.String()
}

func randomDSCP(r *rand.Rand) codepoint.DSCP {
	return pick(r, codepoint.DF, codepoint.EF, codepoint.AF(4, 1), codepoint.AF(4, 2), codepoint.AF(1, 1), codepoint.CS3, codepoint.DSCP(r.IntN(64)))
}

// frameMarks reads the marks of a frame's bytes.
func frameMarks(p *packet.Packet) string {
	var q packet.Packet
	if err := q.Parse(p.Bytes, p.WireLength()); err != nil {
		return err.Error()
	}
	if sum := q.Network(); q.Flow.From.Is4() && packet.Checksum(sum[:20]) != 0 {
		return "a wrong IPv4 checksum"
	}
	pcp, tagged := q.PCP()
	labels := make([]int, 0)
	for _, tc := range q.LabelClasses() {
		labels = append(labels, int(tc))
	}
	return marks(q.DSCP().Name(), tagged, pcp, q.VLAN, labels) + kindOf(q.Bytes)
}

// kindOf returns the first EtherType, which says what the frame begins with.
func kindOf(b []byte) string {
	return map[uint16]string{packet.TypeVLAN: " tag", packet.TypeQinQ: " tag", packet.TypeMPLS: " label"}[binary.BigEndian.Uint16(b[12:])]
}

func stepMarks(s *explain.Step) string {
	m := s.MarksOut
	kind := ""
	switch {
	case m.PCP != nil:
		kind = " tag"
	case len(s.Labels) > 0:
		kind = " label"
	}
	if m.PCP == nil {
		return marks(m.DSCP, false, 0, 0, s.Labels) + kind
	}
	return marks(m.DSCP, true, *m.PCP, *m.VLAN, s.Labels) + kind
}

func marks(dscp string, tagged bool, pcp uint8, vlan uint16, labels []int) string {
	tag := "-"
	if tagged {
		tag = fmt.Sprintf("%d/%d", vlan, pcp)
	}
	return fmt.Sprint(dscp, " ", tag, " ", labels)
}
