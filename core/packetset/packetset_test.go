package packetset

import (
	"encoding/binary"
	"flag"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"testing"

	"imbrel.example/imbrel/core/classify"
	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
)

var policies = flag.Int("policies", 500, "how many random policies TestAgreesWithEveryPacket asks of")

// frame writes the packet of an example as bytes, by the standards alone, and reads it.
func frame(t testing.TB, e *Example, apps []policy.App, in int32) *packet.Packet {
	b := make([]byte, 12, 160)
	put := func(n uint16) { b = binary.BigEndian.AppendUint16(b, n) }
	if e.Tagged {
		put(packet.TypeVLAN)
		put(uint16(e.PCP)<<13 | e.VLAN)
	}
	if e.Labelled {
		put(packet.TypeMPLS)
		b = append(b, 0, 1, 0x01|e.TC<<1, 64)
	} else {
		put(e.Kind)
	}
	ip := e.Flow.From.IsValid()
	switch length := e.Length; {
	case ip && e.Flow.From.Is4():
		b = append(b, 0x45, byte(e.DSCP)<<2)
		put(uint16(length))
		offset := uint16(0)
		if !e.HasPorts && (e.Flow.Protocol == packet.TCP || e.Flow.Protocol == packet.UDP || e.Flow.Protocol == packet.SCTP) {
			offset = 5
		}
		b = append(b, 0, 7, byte(offset>>8), byte(offset), 64, e.Flow.Protocol, 0, 0)
		b = append(append(b, e.Flow.From.AsSlice()...), e.Flow.To.AsSlice()...)
	case ip:
		b = append(b, 0x60|byte(e.DSCP)>>2, byte(e.DSCP)<<6, 0, 0)
		put(uint16(length - 40))
		next := e.Flow.Protocol
		stray := !e.HasPorts // a later fragment may say any protocol
		if stray {
			next = 44
		}
		b = append(b, next, 64)
		b = append(append(b, e.Flow.From.AsSlice()...), e.Flow.To.AsSlice()...)
		if stray {
			b = append(b, e.Flow.Protocol, 0, 0, 8, 0, 0, 0, 7)
		}
	case e.Labelled && e.Kind == packet.TypeIPv6:
		b = append(b, 0x60, 0, 0, 0, 0, 0, 59)
		b = append(b, make([]byte, 33)...)
	case e.Labelled && e.Kind == packet.TypeIPv4:
		b = append(b, 0x45, 0, 0, 20)
		b = append(b, make([]byte, 16)...)
	default:
		b = append(b, 0)
	}
	if e.HasPorts {
		put(e.Flow.FromPort)
		put(e.Flow.ToPort)
	}
	p := &packet.Packet{}
	if err := p.Parse(b, len(b)+e.Length); err != nil {
		t.Fatalf("%+v: %v", e, err)
	}
	p.LabelSwitched = !ip && e.Labelled
	p.In = in
	for i := range apps {
		a := &apps[i]
		taken := e.RTP && a.LooksLike == policy.LooksLikeRTP
		for _, n := range a.ServerNames {
			taken = taken || e.Name != "" && (n == e.Name || n[0] == '*' && len(e.Name) >= len(n) && e.Name[len(e.Name)-len(n)+1:] == n[1:])
		}
		if taken {
			if p.Apps == nil {
				p.Apps = make([]uint64, 1)
			}
			p.Apps[0] |= 1 << a.Number
		}
	}
	return p
}

// A drawn policy asks for a few keys, whose values divide packets into few kinds.
type drawn struct {
	f    *policy.File
	plan *plan.Plan
	keys []policy.Key
}

var prefixes = []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8"), netip.MustParsePrefix("10.1.0.0/16"), netip.MustParsePrefix("10.1.1.0/24"), netip.MustParsePrefix("0.0.0.0/1"), netip.MustParsePrefix("128.0.0.0/1"), netip.MustParsePrefix("2001:db8::/32"), netip.MustParsePrefix("::/0"), netip.MustParsePrefix("10.1.1.9/32")}

func draw(r *rand.Rand) *drawn {
	d := &drawn{f: &policy.File{}}
	for i := range 3 {
		a := policy.App{Name: fmt.Sprint("a", i), Number: i}
		switch r.IntN(4) {
		case 0:
			a.LooksLike = policy.LooksLikeRTP
		case 1:
			a.ServerNames = [][]string{{"*.x.example"}, {"a.x.example"}, {"x.example", "*.b.x.example"}}[r.IntN(3)]
		case 2:
			a.TCP = []policy.Range{{First: 100, Last: 200}}
			a.UDP = []policy.Range{{First: uint32(50 + 100*r.IntN(2)), Last: 200}}
		case 3:
			a.Protocols = []uint8{packet.ICMP, packet.TCP}[:1+r.IntN(2)]
		}
		d.f.Apps = append(d.f.Apps, a)
	}
	node := policy.Node{Name: "n", Interfaces: []*policy.Interface{{Name: "a", Number: 1}, {Name: "b", Number: 2}}}
	d.f.Network.Nodes = []policy.Node{node}
	for _, iface := range node.Interfaces {
		iface.Node = &d.f.Network.Nodes[0]
	}
	all := policy.Keys()
	r.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	d.keys = all[:1+r.IntN(3)]
	for i := range 1 + r.IntN(4) {
		c := policy.Class{Name: fmt.Sprint("c", i)}
		for range 1 + r.IntN(2) {
			c.Match = append(c.Match, d.condition(r))
		}
		if r.IntN(3) == 0 {
			c.Except = append(c.Except, d.condition(r))
		}
		d.f.Classes = append(d.f.Classes, c)
	}
	d.f.Policies = []policy.Policy{{Name: "p", Treat: d.level(r, 0)}}
	d.plan = plan.New(&d.f.Policies[0], unit.MaxRate, packet.Framing{})
	return d
}

func (d *drawn) level(r *rand.Rand, depth int) []policy.Entry {
	var out []policy.Entry
	for range 1 + r.IntN(3) {
		c := &d.f.Classes[r.IntN(len(d.f.Classes))]
		e := policy.Entry{ClassName: policy.Ref{Text: c.Name}, Class: c}
		if depth == 0 && r.IntN(3) == 0 {
			e.Treat = d.level(r, 1)
		}
		out = append(out, e)
	}
	return out
}

// ranges returns two of the ranges that divide 0 to most.
func ranges(r *rand.Rand, most uint32) []policy.Range {
	cuts := []policy.Range{{First: 0, Last: most / 2}, {First: most/2 + 1, Last: most}, policy.One(most / 4), {First: most / 4, Last: most}, {First: 0, Last: most}}
	return []policy.Range{cuts[r.IntN(len(cuts))], cuts[r.IntN(3)]}[:1+r.IntN(2)]
}

func (d *drawn) condition(r *rand.Rand) policy.Condition {
	var terms []policy.Term
	for _, k := range d.keys {
		if len(terms) > 0 && r.IntN(3) == 0 {
			continue
		}
		switch row := k.Row(); {
		case row.Kind == policy.AddressSets:
			terms = append(terms, k.Within(prefixes[r.IntN(len(prefixes))], prefixes[r.IntN(len(prefixes))]))
		case row.Kind == policy.AppNames:
			terms = append(terms, policy.Term{Key: k, Apps: []*policy.App{&d.f.Apps[r.IntN(3)], &d.f.Apps[r.IntN(3)]}})
		case k == policy.KeyProtocol:
			terms = append(terms, k.In([]policy.Range{policy.One(packet.UDP), policy.One(packet.TCP), {First: 0, Last: 255}, policy.One(packet.GRE), {First: 2, Last: 200}}[r.IntN(5)]))
		case k == policy.KeyEtherType:
			terms = append(terms, k.In([]policy.Range{policy.One(packet.TypeIPv4), policy.One(packet.TypeIPv6), policy.One(packet.TypeARP)}[r.IntN(3)]))
		default:
			most := map[policy.Key]uint32{policy.KeyDSCP: 63, policy.KeyPrecedence: 7, policy.KeyPCP: 7, policy.KeyTC: 7, policy.KeyVLAN: 4095, policy.KeyIn: 2}[k]
			if most == 0 {
				most = 65535
			}
			terms = append(terms, k.In(ranges(r, most)...))
		}
	}
	return policy.All(terms...)
}

// kinds calls visit with a packet of each kind that the policy can tell from others: of
// each key it asks for, a value in each part that its values divide.
func (d *drawn) kinds(visit func(e *Example, in int32)) {
	asks := make(map[policy.Key]bool)
	for _, k := range d.keys {
		asks[k] = true
	}
	of := func(asked bool, values ...int) []int {
		if !asked {
			return values[:1]
		}
		return values
	}
	quarters := func(k policy.Key, most int) []int { return of(asks[k], 0, most/4, most/4+1, most/2+1, most) }
	addresses := [][]string{{"10.1.1.9", "10.1.1.8", "10.1.2.1", "10.2.1.1", "11.1.1.1", "192.0.2.1"}, {"2001:db8::1", "2001:db9::1"}}
	ports := func(k policy.Key) []int {
		return of(asks[k] || asks[policy.KeyPort] || asks[policy.KeyApp], 0, 50, 100, 150, 200, 201, 16383, 16384, 32767, 32768, 65535)
	}
	names := []string{"", "x.example", "a.x.example", "c.x.example", "d.b.x.example"}
	for _, tagged := range of(asks[policy.KeyVLAN] || asks[policy.KeyPCP], 0, 1) {
		for _, vlan := range quarters(policy.KeyVLAN, 4095)[:1+tagged*(len(quarters(policy.KeyVLAN, 4095))-1)] {
			for _, pcp := range quarters(policy.KeyPCP, 7)[:1+tagged*(len(quarters(policy.KeyPCP, 7))-1)] {
				for _, labelled := range []int{0, 1} {
					for _, tc := range quarters(policy.KeyTC, 7)[:1+labelled*(len(quarters(policy.KeyTC, 7))-1)] {
						for _, in := range of(asks[policy.KeyIn], 0, 1, 2) {
							e := Example{Tagged: tagged == 1, VLAN: uint16(vlan), PCP: uint8(pcp), Labelled: labelled == 1, TC: uint8(tc)}
							for _, kind := range [][]uint16{{packet.TypeARP, 0x88cc}, {packet.TypeMPLS, packet.TypeIPv4, packet.TypeIPv6}}[labelled] {
								e.Kind = kind
								visit(&e, int32(in))
							}
							for version, list := range addresses {
								e.Kind = []uint16{packet.TypeIPv4, packet.TypeIPv6}[version]
								for _, i := range of(asks[policy.KeyFrom], 0, 1, 2, 3, 4, 5) {
									for _, j := range of(asks[policy.KeyTo], 0, 1, 2, 3, 4, 5) {
										if max(i, j) >= len(list) {
											continue
										}
										e.Flow.From, e.Flow.To = netip.MustParseAddr(list[i]), netip.MustParseAddr(list[j])
										d.transports(asks, e, names, ports, of, quarters, func(e *Example) { visit(e, int32(in)) })
									}
								}
							}
						}
					}
				}
			}
		}
	}
}

func (d *drawn) transports(asks map[policy.Key]bool, e Example, names []string, ports func(policy.Key) []int, of func(bool, ...int) []int, quarters func(policy.Key, int) []int, visit func(*Example)) {
	for _, mark := range of(asks[policy.KeyDSCP] || asks[policy.KeyPrecedence], 0, 7, 8, 15, 16, 31, 32, 63) {
		for _, length := range of(asks[policy.KeyLength], 200, 16383, 16384, 32767, 32768, 65535) {
			e.DSCP, e.Length = codepoint.DSCP(mark), length
			for _, proto := range []uint8{packet.UDP, packet.TCP, packet.SCTP, packet.ICMP, packet.GRE, packet.IPv4in, 220} {
				carries := proto == packet.UDP || proto == packet.TCP || proto == packet.SCTP
				for _, with := range []bool{true, false} {
					if with && !carries {
						continue
					}
					e.Flow.Protocol, e.HasPorts, e.Flow.FromPort, e.Flow.ToPort = proto, with, 0, 0
					froms, tos := ports(policy.KeyFromPort), ports(policy.KeyToPort)
					if !with {
						froms, tos = froms[:1], tos[:1]
					}
					for _, a := range froms {
						for _, b := range tos {
							e.Flow.FromPort, e.Flow.ToPort = uint16(a), uint16(b)
							tunnel := proto == packet.GRE || proto == packet.IPv4in
							for i, n := range names {
								if i > 0 && (!asks[policy.KeyApp] || !with && !tunnel) {
									break
								}
								for _, isRTP := range []bool{false, true} {
									if isRTP && (!asks[policy.KeyApp] || !(with && proto == packet.UDP) && !tunnel) {
										continue
									}
									e.Name, e.RTP = n, isRTP
									visit(&e)
								}
							}
						}
					}
				}
			}
		}
	}
}

// What an entry is said to take is what it takes of packets of every kind: no entry is said
// to take nothing that takes one, none to take something that takes none, and the example is
// taken by it. The same of pairs of policies: which packets go from one entry to another.
func TestAgreesWithEveryPacket(t *testing.T) {
	empty, changes := 0, 0
	for seed := range *policies {
		r := rand.New(rand.NewPCG(uint64(seed), 11))
		a := draw(r)
		b := &drawn{f: a.f, keys: a.keys}
		a.f.Policies = append(a.f.Policies, policy.Policy{Name: "q", Treat: b.level(r, 0)})
		b.plan = plan.New(&a.f.Policies[1], unit.MaxRate, packet.Framing{})
		s := New(a.f)
		first, second := classify.New(a.plan), classify.New(b.plan)
		taken := make([]bool, len(a.plan.Entries))
		moved := make(map[[2]int32]bool)
		a.kinds(func(e *Example, in int32) {
			p := frame(t, e, a.f.Apps, in)
			x := first.Take(p)
			moved[[2]int32{int32(x.Number), second.Number(p)}] = true
			for ; x != nil; x = x.Parent {
				taken[x.Number] = true
			}
		})
		number := func(e *Example) int32 {
			for i, n := range s.paths {
				if n == e.In {
					return int32(i + 1)
				}
			}
			return 0
		}
		olds, news := s.Entries(0, a.plan, nil), s.Entries(0, b.plan, nil)
		for i, l := range olds {
			search := s.Search()
			box, ok := search.In(&l)
			if ok != taken[i] || search.GaveUp() {
				t.Fatalf("seed %d: entry %d (%s) takes something: %v, and of all packets: %v (gave up: %v)\n%s", seed, i, l.Entry.Name, ok, taken[i], search.GaveUp(), a.describe())
			}
			if !ok {
				empty++
				continue
			}
			e, ok := s.Example(box)
			x := first.Take(frame(t, &e, a.f.Apps, number(&e)))
			for x != nil && x != l.Entry {
				x = x.Parent
			}
			if !ok || x == nil {
				t.Fatalf("seed %d: the example of entry %d, %s, is not taken by it\n%s", seed, i, e, a.describe())
			}
		}
		for i := range olds {
			for j := range news {
				if !olds[i].Entry.Leaf() || !news[j].Entry.Leaf() {
					continue
				}
				search := s.Search()
				box, ok := search.Common(&olds[i], &news[j])
				all := true // what i takes is taken by j
				for k := range b.plan.Entries {
					all = all && (k == j || !moved[[2]int32{int32(i), int32(k)}])
				}
				if taken[i] && s.Search().Leaves(&olds[i], &news[j]) == all {
					t.Fatalf("seed %d: something that %s takes is not of %s: %v\n%s", seed, olds[i].Entry.Name, news[j].Entry.Name, !all, a.describe())
				}
				if ok != moved[[2]int32{int32(i), int32(j)}] || search.GaveUp() {
					t.Fatalf("seed %d: something goes from %s to %s: %v, and of all packets: %v\n%s", seed, olds[i].Entry.Name, news[j].Entry.Name, ok, !ok, a.describe())
				}
				if ok {
					changes++
					e, _ := s.Example(box)
					p := frame(t, &e, a.f.Apps, number(&e))
					if first.Number(p) != int32(i) || second.Number(p) != int32(j) {
						t.Fatalf("seed %d: the example %s does not go from %d to %d", seed, e, i, j)
					}
				}
			}
		}
	}
	t.Logf("%d entries that take nothing, %d pairs with a packet", empty, changes)
	if empty < *policies/10 || changes < *policies {
		t.Error("too few to say something")
	}
}

func (d *drawn) describe() (out string) {
	for i := range d.f.Apps {
		out += fmt.Sprintf("%+v\n", d.f.Apps[i])
	}
	for i := range d.f.Classes {
		c := &d.f.Classes[i]
		out += c.Name + ":"
		for j := range c.Match {
			out += " | " + c.Match[j].String() + fmt.Sprint(c.Match[j].Terms)
		}
		for j := range c.Except {
			out += " except " + c.Except[j].String() + fmt.Sprint(c.Except[j].Terms)
		}
		out += "\n"
	}
	for _, e := range d.plan.Entries {
		out += e.Name + "\n"
	}
	return out
}

// What remains of a box has the part that closed forms say.
func TestShare(t *testing.T) {
	f := &policy.File{Classes: []policy.Class{
		{Match: []policy.Condition{policy.All(policy.KeyFrom.Within(netip.MustParsePrefix("10.0.0.0/9")))}},
		{Match: []policy.Condition{policy.All(policy.KeyFrom.Within(netip.MustParsePrefix("10.0.0.0/8")))}},
		{Match: []policy.Condition{policy.All(policy.KeyDSCP.In(policy.Range{First: 0, Last: 15}))}},
	}}
	s := New(f)
	var takes [3]Taking
	for i := range takes {
		takes[i] = s.Class(0, &f.Classes[i])
	}
	for _, c := range []struct {
		of, less []int
		want     float64
	}{{[]int{1}, []int{0}, 0.5}, {[]int{1}, []int{2}, 0.75}, {[]int{1}, []int{0, 2}, 0.375}, {[]int{0}, []int{1}, 0}, {[]int{2}, nil, 1}} {
		var less []*Taking
		for _, i := range c.less {
			less = append(less, &takes[i])
		}
		if got := s.Search().Share(takes[c.of[0]].Takes[0], less); got < c.want-1e-9 || got > c.want+1e-9 {
			t.Errorf("%v less %v: %v remains, want %v", c.of, c.less, got, c.want)
		}
	}
}
