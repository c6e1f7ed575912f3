package plan_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"imbrel.example/imbrel/core/allocation"
	"imbrel.example/imbrel/core/codec"
	"imbrel.example/imbrel/core/fluid"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
)

const mbit = unit.MbitPerSecond

func percent(n float64) unit.Share {
	return unit.Share{Percent: unit.Percent(n * 10_000), Nothing: n == 0}
}
func rate(r unit.Rate) unit.Share       { return unit.Share{Rate: r} }
func most(s unit.Share) *policy.Ceiling { return &policy.Ceiling{Rate: s} }
func police(s unit.Share, drop bool) *policy.Police {
	return &policy.Police{Rate: s, Burst: 3000, Red: policy.Action{Drop: drop}}
}

// level names the entries of one level c1, c2, …, all of classes of their own.
func level(entries ...policy.Entry) []policy.Entry {
	for i := range entries {
		if entries[i].ClassName.Text == "" {
			entries[i].Class = &policy.Class{Name: fmt.Sprint("c", i+1)}
			entries[i].ClassName.Text = entries[i].Class.Name
		}
	}
	return entries
}

func promises(p *plan.Plan) string {
	var out []string
	for _, e := range p.Entries {
		out = append(out, fmt.Sprintf("%s %d", e.Name, e.Promise/1000))
	}
	return strings.Join(out, ", ")
}

// What a level of 10 Mbit/s promises, by hand, in kbit/s.
func TestPromises(t *testing.T) {
	when := &policy.When{Starts: policy.Pressure{Load: percent(80)}, Ends: policy.Pressure{Load: percent(60)}}
	named := func(name string, e policy.Entry) policy.Entry {
		if e.ClassName.Text = name; name != policy.Rest {
			e.Class = &policy.Class{Name: name}
		}
		return e
	}
	for _, c := range []struct {
		name  string
		treat []policy.Entry
		want  string
	}{
		{"signalling with 3 % is promised 3 %, an unsaid rest the others' rest",
			level(policy.Entry{Priority: 1, AtMost: most(rate(mbit))}, policy.Entry{AtLeast: percent(3)}), "c1 1000, c2 300, rest 8700"},
		{"20 and 80 % of what voice leaves",
			level(policy.Entry{Priority: 1, AtMost: most(rate(mbit))}, policy.Entry{Weight: 20}, named(policy.Rest, policy.Entry{Weight: 80})), "c1 1000, c2 1800, rest 7200"},
		{"what is left of at-leasts goes by at-least", level(policy.Entry{AtLeast: percent(30)}, policy.Entry{AtLeast: percent(20)}, named(policy.Rest, policy.Entry{AtLeast: percent(0)})), "c1 6000, c2 4000, rest 0"},
		{"or by weight, in per cent", level(policy.Entry{AtLeast: percent(30), Weight: 10}, policy.Entry{AtLeast: percent(20), Weight: 40}, named(policy.Rest, policy.Entry{AtLeast: percent(0)})), "c1 4000, c2 6000, rest 0"},
		{"up to the ceilings; the remainder is nobody's", level(policy.Entry{AtLeast: percent(30), AtMost: most(percent(35))}, named(policy.Rest, policy.Entry{AtMost: most(percent(20))})), "c1 3500, rest 2000"},
		{"a policer that drops is a ceiling", level(policy.Entry{Police: police(rate(mbit), true)}), "c1 1000, rest 9000"},
		{"one that only marks is not", level(policy.Entry{Police: police(rate(mbit), false)}), "c1 5000, rest 5000"},
		{"where yellow passes, the peak is", level(policy.Entry{Police: &policy.Police{Rate: rate(mbit), Burst: 3000, Peak: rate(2 * mbit), PeakBurst: 3000, Red: policy.Action{Drop: true}}}), "c1 2000, rest 8000"},
		{"where yellow is dropped, the rate is", level(policy.Entry{Police: &policy.Police{Rate: rate(mbit), Burst: 3000, Peak: rate(2 * mbit), PeakBurst: 3000, Yellow: policy.Action{Drop: true}, Red: policy.Action{Drop: true}}}), "c1 1000, rest 9000"},
		{"limits that are in force sometimes do not count", level(policy.Entry{AtMost: &policy.Ceiling{Rate: rate(mbit), When: when}}, policy.Entry{Block: true, BlockWhen: when}), "c1 3333, c2 3333, rest 3333"},
		{"what is blocked is promised nothing", level(policy.Entry{Block: true}), "c1 0, rest 10000"},
		{"a priority without a bound is not counted", level(policy.Entry{Priority: 1, AtMost: most(rate(2 * mbit))}, policy.Entry{Priority: 2}, policy.Entry{AtLeast: percent(40)}), "c1 2000, c2 8000, c3 4000, rest 4000"},
		{"per cent of a priority are of what its parent is promised", level(policy.Entry{AtLeast: percent(50), AtMost: most(percent(80)), Treat: level(
			policy.Entry{Priority: 1, AtMost: most(percent(10))}, policy.Entry{AtMost: most(percent(10))})}, named(policy.Rest, policy.Entry{})), "c1 5000, c1/c1 500, c1/c2 800, c1/rest 3700, rest 5000"},
		{"inside an instance the whole is its ceiling", level(policy.Entry{Each: policy.BySource, AtMost: most(rate(4 * mbit)), Treat: level(policy.Entry{AtLeast: percent(50)})}), "c1 5000, c1/c1 2000, c1/rest 2000, rest 5000"},
		{"never more than what is around it", level(policy.Entry{AtMost: most(rate(mbit)), Treat: level(policy.Entry{Each: policy.BySource, AtMost: most(rate(5 * mbit)), Treat: level(policy.Entry{AtLeast: percent(80)})})}),
			"c1 1000, c1/c1 500, c1/c1/c1 800, c1/c1/rest 200, c1/rest 500, rest 9000"},
		{"nothing within a policer that drops is promised, at any depth", level(policy.Entry{Police: police(rate(mbit), true), Treat: level(policy.Entry{Treat: level(policy.Entry{AtLeast: percent(50)})})}),
			"c1 1000, c1/c1 0, c1/c1/c1 0, c1/c1/rest 0, c1/rest 0, rest 9000"},
		{"a strict instance counts as one", level(policy.Entry{Priority: 1, Each: policy.BySource, AtMost: most(rate(2 * mbit))}), "c1 2000, rest 8000"},
		{"alternatives count once", level(named("a", policy.Entry{AtLeast: percent(10), When: when}), named("a", policy.Entry{AtLeast: percent(40)}), named(policy.Rest, policy.Entry{AtLeast: percent(60)})), "a 1000, a 4000, rest 6000"},
		{"an alternative without an at-least has what the other reserves", level(named("a", policy.Entry{AtLeast: percent(40), When: when}), named("a", policy.Entry{}), named(policy.Rest, policy.Entry{AtLeast: percent(60)})), "a 4000, a 4000, rest 6000"},
	} {
		p := plan.New(&policy.Policy{Treat: c.treat}, 10*mbit, packet.FramingIP())
		if got := promises(p); got != c.want || len(p.Problems) > 0 {
			t.Errorf("%s: %s; want %s; problems %v", c.name, got, c.want, p.Problems)
		}
	}
}

func TestWhatCannotBeKept(t *testing.T) {
	for _, c := range []struct {
		name  string
		treat []policy.Entry
		want  string // "": it can
	}{
		{"promises and bounds above the whole", level(policy.Entry{Priority: 1, AtMost: most(rate(3 * mbit))}, policy.Entry{AtLeast: percent(80)}), "with at-least 80% (8Mbit/s) for `c2` the promises come to 11Mbit/s, and there is 10Mbit/s"},
		{"a bound above what its parent is promised", level(policy.Entry{AtLeast: percent(10), Treat: level(policy.Entry{Priority: 1, AtMost: most(rate(2 * mbit))})}, policy.Entry{AtLeast: percent(90)}), "with a bound of 2Mbit/s for `c1` the promises within `c1` come to 2Mbit/s, and it is promised 1Mbit/s"},
		{"a promise above the ceiling", level(policy.Entry{AtLeast: percent(40), AtMost: most(rate(3 * mbit))}), "at-least 40% (4Mbit/s) is above its at-most 3Mbit/s"},
		{"a promise above the policer", level(policy.Entry{AtLeast: percent(40), Police: police(rate(3*mbit), true)}), "at-least 40% (4Mbit/s) is above its policer's 3Mbit/s"},
		{"two per cents of different bases that fit", level(policy.Entry{AtLeast: percent(10), Treat: level(policy.Entry{AtLeast: percent(30), AtMost: most(percent(20))})}, policy.Entry{AtLeast: percent(90)}), ""},
		{"a policer that only marks bounds nothing", level(policy.Entry{AtLeast: percent(40), Police: police(rate(3*mbit), false)}), ""},
		{"each: the ceiling is one instance's", level(policy.Entry{AtLeast: percent(40), Each: policy.BySource, AtMost: most(rate(3 * mbit))}), ""},
		{"per cent of nothing", level(policy.Entry{AtLeast: percent(100)}, policy.Entry{AtLeast: percent(0), Treat: level(policy.Entry{Priority: 1, AtMost: most(percent(10))})}), "`at-most` 10% of `c1` is of 0bit/s"},
		{"a peak below the rate", level(policy.Entry{Police: &policy.Police{Rate: rate(3 * mbit), Burst: 1, Peak: percent(20), PeakBurst: 1}}), "the peak 20% (2Mbit/s) is below the rate 3Mbit/s"},
		{"a pressure that never rests", level(policy.Entry{When: &policy.When{Starts: policy.Pressure{Load: percent(50)}, Ends: policy.Pressure{Load: rate(6 * mbit)}}}), "it would end at 6Mbit/s and start at 50% (5Mbit/s)"},
	} {
		p := plan.New(&policy.Policy{Treat: c.treat}, 10*mbit, packet.FramingIP())
		got := ""
		if len(p.Problems) > 0 {
			got = p.Problems[0].Text
		}
		if (got == "") != (c.want == "") || !strings.Contains(got, c.want) {
			t.Errorf("%s: %q; want %q", c.name, got, c.want)
		}
	}
}

// An entry knows each of its conditions, whatever has it, and what it is within.
func TestConditionsAndDepth(t *testing.T) {
	var whens []*policy.When
	when := func() *policy.When {
		whens = append(whens, &policy.When{Starts: policy.Pressure{Load: percent(80)}, Ends: policy.Pressure{Load: percent(60)}})
		return whens[len(whens)-1]
	}
	limited, policed := most(rate(3*mbit)), police(rate(3*mbit), true)
	limited.When, policed.When = when(), when()
	p := plan.New(&policy.Policy{Treat: level(policy.Entry{AtMost: limited}, policy.Entry{Police: policed}, policy.Entry{When: when()}, policy.Entry{Block: true, BlockWhen: when()},
		policy.Entry{Treat: level(policy.Entry{Treat: level(policy.Entry{})})})}, 10*mbit, packet.FramingIP())
	for i, want := range whens {
		if got := p.Entries[i].Whens(); len(got) != 1 || got[0].Spec != want {
			t.Errorf("entry %d has the conditions %v", i, got)
		}
	}
	outer, middle, inner := p.Entries[4], p.Entries[5], p.Entries[6]
	if len(outer.Whens()) > 0 || !inner.IsWithin(outer) || !inner.IsWithin(middle) || inner.IsWithin(inner) || outer.IsWithin(inner) || inner.IsWithin(p.Entries[0]) {
		t.Errorf("%s, %s and %s are not within each other as they are written", outer.Name, middle.Name, inner.Name)
	}
}

// A policer's buckets fill at their rates, and one byte more; the second of a single rate begins when the first is full.
func TestFills(t *testing.T) {
	second := func(bytes unit.Size, rate unit.Rate) time.Duration { return rate.Time(bytes) }
	for name, c := range map[string]struct {
		meter plan.Meter
		want  time.Duration
	}{
		"one bucket":          {plan.Meter{Rate: 8 * mbit, Burst: 1e6 - 1}, second(1e6, 8*mbit)},
		"two rates":           {plan.Meter{Kind: policy.TwoRate, Rate: 8 * mbit, Burst: 1e6 - 1, Peak: 16 * mbit, Second: 4e6}, second(4e6, 16*mbit)},
		"two rates, excess":   {plan.Meter{Kind: policy.TwoRateExcess, Rate: 8 * mbit, Burst: 1e6 - 1, Peak: 10 * mbit, Second: 4e6}, second(4e6, 2*mbit)},
		"one rate, two parts": {plan.Meter{Kind: policy.SingleRate, Rate: 8 * mbit, Burst: 1e6 - 1, Second: 4e6}, second(1e6, 8*mbit) + second(4e6, 8*mbit)},
	} {
		if got := c.meter.Fills(); got != c.want {
			t.Errorf("%s: %v; want %v", name, got, c.want)
		}
	}
}

// randomLevel draws entries whose promises fit: priorities, at-leasts, ceilings,
// weights, alternatives, and sometimes entries within.
func randomLevel(r *rand.Rand, depth int, unbounded bool) []policy.Entry {
	var entries []policy.Entry
	left := 100.0
	for range 1 + r.IntN(6) {
		e := policy.Entry{}
		part := r.Float64() * left / 2
		switch r.IntN(5) {
		case 0:
			e.Priority = 1 + r.IntN(3)
			if e.AtMost = most(percent(part + 0.1)); unbounded && r.IntN(3) == 0 {
				e.AtMost = nil
			}
			left -= part + 0.1
		case 1, 2:
			e.AtLeast = percent(part)
			left -= part
			if r.IntN(3) == 0 {
				e.AtMost = most(percent(part + r.Float64()*(100-part)))
			}
			if r.IntN(3) == 0 {
				e.Weight = 1 + r.IntN(50)
			}
		default:
			e.Weight = r.IntN(20)
			if r.IntN(3) == 0 {
				e.AtMost = most(percent(1 + 99*r.Float64()))
			}
		}
		if depth > 1 && r.IntN(3) == 0 {
			e.Treat = randomLevel(r, depth-1, unbounded)
		}
		entries = append(entries, e)
	}
	return level(entries...)
}

// Ten thousand random levels: what is promised sums to at most W; it does not depend
// on what is within or on the order in which levels are read; and it is the fluid
// allocation with all greedy, where no inner ceiling binds and every priority has a
// bound.
func TestPromisesOfRandomLevels(t *testing.T) {
	compared := 0
	for trial := range 10_000 {
		r := rand.New(rand.NewPCG(80, uint64(trial)))
		unbounded := r.IntN(4) == 0
		whole := unit.Rate(1_000_000 + r.Int64N(1e9))
		treat := randomLevel(r, 2, unbounded)
		p := plan.New(&policy.Policy{Treat: treat}, whole, packet.FramingIP())
		sums := map[*plan.Entry]unit.Rate{}
		for _, e := range p.Entries {
			if e.Priority == 0 || e.Bounded {
				sums[e.Parent] += e.Promise
			}
			if e.Promise > e.Ceiling {
				t.Fatalf("trial %d: %s is promised %s, and never exceeds %s", trial, e.Name, e.Promise, e.Ceiling)
			}
		}
		if len(p.Problems) > 0 {
			continue // an inner bound below the least rate
		}
		for parent, sum := range sums {
			w := whole
			if parent != nil {
				w = parent.Promise
			}
			if sum > w {
				t.Fatalf("trial %d: %s in all of %s", trial, sum, w)
			}
		}
		bare := make([]policy.Entry, len(treat))
		for i := range treat {
			bare[i] = treat[i]
			bare[i].Treat = nil
		}
		q := plan.New(&policy.Policy{Treat: bare}, whole, packet.FramingIP())
		for i, e := range p.Top {
			if e.Promise != q.Top[i].Promise {
				t.Fatalf("trial %d: %s is promised %s, and without what is within it %s", trial, e.Name, e.Promise, q.Top[i].Promise)
			}
		}
		if unbounded {
			continue
		}
		compared++
		for i, gets := range allocation.Allocate(q, func(*plan.Entry) unit.Rate { return fluid.Greedy }) {
			if off := gets - q.Entries[i].Promise; off < -10 || off > 10 {
				t.Fatalf("trial %d: %s is promised %s and gets %s when all are greedy", trial, q.Entries[i].Name, q.Entries[i].Promise, gets)
			}
		}
	}
	if compared < 5000 {
		t.Errorf("only %d levels held against the fluid", compared)
	}
}

// What there is to share is the least of the shape, the interface's rate and what its
// link carries, in either direction; and it is said when nothing is kept.
func TestWhatThereIsToShare(t *testing.T) {
	for _, c := range []struct {
		name      string
		shape     unit.Share
		direction policy.Direction
		framing   *packet.Framing // of the carrier
		whole     unit.Rate
		kept      bool
	}{
		{"a shape below the link", rate(11 * mbit), policy.Out, nil, 11 * mbit, true},
		{"95 % of what the link carries", percent(95), policy.Out, nil, 11_400_000, true},
		{"a shape above the link", rate(14 * mbit), policy.Out, nil, 12 * mbit, false},
		{"none", unit.Share{}, policy.Out, nil, 12 * mbit, false},
		{"incoming, what the far end sends", percent(50), policy.In, nil, 17 * mbit, true},
		{"incoming without a shape", unit.Share{}, policy.In, nil, 34 * mbit, false},
	} {
		near := &policy.Interface{Name: "wan", Rate: 100 * mbit, Framing: packet.FramingEthernet(), Node: &policy.Node{Name: "near"}}
		far := &policy.Interface{Name: "wan", Rate: 50 * mbit, Framing: packet.FramingEthernet(), Node: &policy.Node{Name: "far"}}
		l := &policy.Link{Ends: []policy.LinkEnd{{Sends: 12 * mbit, Interface: near, Framing: c.framing}, {Sends: 34 * mbit, Interface: far}}}
		near.Link, far.Link, far.End = l, l, 1
		p := plan.Attached(&policy.Attachment{Policy: &policy.Policy{Shape: c.shape}, Interface: near, Direction: c.direction})
		if p.Whole != c.whole || p.Kept() != c.kept {
			t.Errorf("%s: %s to share, kept %t (%s); want %s, %t", c.name, p.Whole, p.Kept(), p.NotKept(), c.whole, c.kept)
		}
	}
}

func TestLimitsOfQueues(t *testing.T) {
	for _, c := range []struct {
		name  string
		queue policy.Queue
		least unit.Share
		want  plan.Queue
	}{
		{"40 ms at 3.42 Mbit/s", policy.Queue{Time: 40 * time.Millisecond}, rate(3_420_000), plan.Queue{Bytes: 17_100, Rate: 3_420_000}},
		{"bytes are bytes", policy.Queue{Bytes: 5000}, rate(3_420_000), plan.Queue{Bytes: 5000, Rate: 3_420_000}},
		{"packets", policy.Queue{Packets: 5, Drop: policy.RED}, rate(3_420_000), plan.Queue{Packets: 5, Drop: policy.RED, Rate: 3_420_000}},
		{"none given: 100 ms", policy.Queue{}, rate(8_000_000), plan.Queue{Bytes: 100_000, Rate: 8_000_000}},
		{"a time comes to ten packets at least", policy.Queue{Time: time.Millisecond}, rate(8_000_000), plan.Queue{Bytes: 15_380, Rate: 8_000_000}},
		{"nothing promised: ten packets", policy.Queue{}, percent(0), plan.Queue{Bytes: 15_380}},
	} {
		p := plan.New(&policy.Policy{Treat: level(policy.Entry{AtLeast: c.least, Queue: c.queue})}, 10*mbit, packet.FramingEthernet())
		got := p.Top[0].Queue
		if c.want.Rate > 0 { // an unsaid rest takes what is left, so the promise is the at-least
			c.want.Rate = p.Top[0].Promise
		}
		if got != c.want || p.Top[0].Promise != c.least.Of(10*mbit) {
			t.Errorf("%s: %+v; want %+v", c.name, got, c.want)
		}
	}
}

// A policer of calls is their rate in the interface's framing and two packets a call.
func TestPoliceCalls(t *testing.T) {
	g711, _ := codec.ByName("g711")
	pppoe, _ := packet.ParseFraming("ethernet-pppoe")
	for _, c := range []struct {
		framing packet.Framing
		ipv6    bool
		rate    unit.Rate
		burst   unit.Size
	}{
		{packet.FramingEthernet(), false, 9 * 95_200, 2 * 9 * 238},
		{pppoe, false, 9 * 98_400, 2 * 9 * 246},
		{packet.FramingIP(), true, 9 * 88_000, 2 * 9 * 220},
	} {
		p := plan.New(&policy.Policy{Treat: level(policy.Entry{Priority: 1, Police: &policy.Police{Calls: 9, Codec: g711, IPv6: c.ipv6, Red: policy.Action{Drop: true}}})}, 10*mbit, c.framing)
		if m := p.Top[0].Meter; m.Rate != c.rate || m.Burst != c.burst || p.Top[0].Promise != c.rate {
			t.Errorf("nine calls in %s, IPv6 %t: %s and %s; want %s and %s", c.framing.Name, c.ipv6, m.Rate, m.Burst, c.rate, c.burst)
		}
	}
}

// A policer built in Go is the one that its fields say.
func TestMetersBuiltInGo(t *testing.T) {
	for want, p := range map[policy.MeterKind]policy.Police{
		policy.OneBucket:     {Rate: rate(mbit), Burst: 3000},
		policy.SingleRate:    {Rate: rate(mbit), Burst: 3000, Excess: 3000},
		policy.TwoRate:       {Rate: rate(mbit), Burst: 3000, Peak: rate(2 * mbit), PeakBurst: 3000},
		policy.TwoRateExcess: {Rate: rate(mbit), Burst: 3000, Peak: rate(2 * mbit), Excess: 3000},
	} {
		if got := p.Kind(); got != want {
			t.Errorf("%+v is of kind %d; want %d", p, got, want)
		}
		m := plan.New(&policy.Policy{Treat: level(policy.Entry{Police: &p})}, 10*mbit, packet.FramingIP()).Top[0].Meter
		fresh := m.New()
		for range 2 { // two packets of 3000 bytes: the second only where there is a second bucket
			fresh.Measure(0, 3000, 0)
		}
		if second := fresh.Measure(0, 1, 0); second != 2 {
			t.Errorf("kind %d: after all its bursts a packet is %v; want red", want, second)
		}
	}
}

func ExampleNew() {
	voice := &policy.Class{Name: "voice", Match: []policy.Condition{policy.All(policy.KeyDSCP.In(policy.One(46)))}}
	p := plan.New(&policy.Policy{Name: "wan", Treat: []policy.Entry{
		{Class: voice, ClassName: policy.Ref{Text: "voice"}, Priority: 1, AtMost: &policy.Ceiling{Rate: unit.Share{Percent: 100_000}}},
	}}, 10*unit.MbitPerSecond, packet.FramingEthernet())
	for _, e := range p.Entries {
		fmt.Println(e.Name, e.Promise)
	}
	// Output:
	// voice 1Mbit/s
	// rest 9Mbit/s
}

// linked returns an interface at an end of a link.
func linked(rate unit.Rate, end policy.LinkEnd) *policy.Interface {
	near := &policy.Interface{Name: "wan", Rate: rate, Framing: packet.FramingEthernet(), Node: &policy.Node{Name: "near"}}
	end.Interface = near
	far := &policy.Interface{Name: "wan", Rate: rate, Framing: packet.FramingEthernet(), Node: &policy.Node{Name: "far"}}
	near.Link = &policy.Link{Ends: []policy.LinkEnd{end, {Interface: far}}}
	far.Link, far.End = near.Link, 1
	return near
}

// Without a shape a policy keeps what it promises where the upper limits of all its entries are within what the link carries.
func TestLimitsInPlaceOfAShape(t *testing.T) {
	pppoe, _ := packet.ParseFraming("ethernet-pppoe")
	rest := func(e policy.Entry) policy.Entry { e.ClassName.Text = policy.Rest; return e }
	for _, c := range []struct {
		name    string
		treat   []policy.Entry
		framing *packet.Framing
		kept    bool
	}{
		{"limits of exactly the link", level(policy.Entry{AtMost: most(rate(7 * mbit))}, rest(policy.Entry{AtMost: most(rate(5 * mbit))})), nil, true},
		{"a bit more", level(policy.Entry{AtMost: most(rate(7 * mbit))}, rest(policy.Entry{AtMost: most(rate(5*mbit + 1))})), nil, false},
		{"a class without a limit", level(policy.Entry{AtMost: most(rate(7 * mbit))}), nil, false},
		{"a blocked class needs none", level(policy.Entry{Block: true}, rest(policy.Entry{AtMost: most(rate(5 * mbit))})), nil, true},
		{"a policer bounds as well", level(policy.Entry{Police: police(rate(7*mbit), true)}, rest(policy.Entry{AtMost: most(rate(5 * mbit))})), nil, true},
		{"a limit of each instance bounds no sum", level(policy.Entry{Each: policy.BySource, AtMost: most(rate(mbit))}, rest(policy.Entry{AtMost: most(rate(5 * mbit))})), nil, false},
		{"a limit that is in force sometimes", level(policy.Entry{AtMost: most(rate(mbit)), Police: &policy.Police{Rate: rate(mbit), Burst: 3000, When: &policy.When{}}}, rest(policy.Entry{AtMost: most(rate(5 * mbit))})), nil, false},
		{"a burst above the limit", level(policy.Entry{AtMost: &policy.Ceiling{Rate: rate(mbit), Burst: &policy.Burst{To: rate(2 * mbit), For: time.Second}}}, rest(policy.Entry{AtMost: most(rate(5 * mbit))})), nil, false},
		{"a burst to the limit itself", level(policy.Entry{AtMost: &policy.Ceiling{Rate: rate(mbit), Burst: &policy.Burst{To: rate(mbit), For: time.Second}}}, rest(policy.Entry{AtMost: most(rate(5 * mbit))})), nil, true},
		{"a carrier that counts more", level(policy.Entry{AtMost: most(rate(7 * mbit))}, rest(policy.Entry{AtMost: most(rate(5 * mbit))})), &pppoe, false},
	} {
		near := linked(100*mbit, policy.LinkEnd{Sends: 12 * mbit, Framing: c.framing})
		if p := plan.Attached(&policy.Attachment{Policy: &policy.Policy{Treat: c.treat}, Interface: near, Direction: policy.Out}); p.Kept() != c.kept {
			t.Errorf("%s: kept %t, %s", c.name, p.Kept(), p.NotKept())
		}
	}
}

// A policy can exceed a contract by its rate, by its burst, or by the overhead that the carrier counts.
func TestExceedsAContract(t *testing.T) {
	pppoe, _ := packet.ParseFraming("ethernet-pppoe")
	line := func(r unit.Rate, burst unit.Size) policy.ContractLine {
		return policy.ContractLine{Police: policy.Police{Rate: rate(r), Burst: burst, Red: policy.Action{Drop: true}}}
	}
	bought := []policy.ContractLine{line(4*mbit, 5000), line(6*mbit, 50_000)}
	limited := level(policy.Entry{AtMost: most(rate(6 * mbit))}, policy.Entry{Block: true})
	limited = append(limited, policy.Entry{ClassName: policy.Ref{Text: policy.Rest}, AtMost: most(rate(4 * mbit))})
	for _, c := range []struct {
		name              string
		pol               policy.Policy
		interfaceRate     unit.Rate
		framing           *packet.Framing
		in                bool
		rate, burst, more bool // what is exceeded
	}{
		{"a shape of what was bought", policy.Policy{Shape: rate(10 * mbit)}, 100 * mbit, nil, false, false, false, false},
		{"a shape above it", policy.Policy{Shape: rate(10*mbit + 1)}, 100 * mbit, nil, false, true, false, true},
		{"no shape on a faster interface", policy.Policy{}, 100 * mbit, nil, false, true, false, true},
		{"no shape on an interface of that rate", policy.Policy{}, 10 * mbit, nil, false, false, false, false},
		{"limits in place of a shape", policy.Policy{Treat: limited}, 100 * mbit, nil, false, false, false, false},
		{"a burst of which nine tenths need the room", policy.Policy{Shape: rate(10 * mbit), Burst: policy.ShapeBurst{Bytes: 55_555}}, 100 * mbit, nil, false, false, false, false},
		{"a burst beyond the last line's", policy.Policy{Shape: rate(10 * mbit), Burst: policy.ShapeBurst{Bytes: 55_558}}, 100 * mbit, nil, false, false, true, true},
		{"a burst at the rate of the interface needs none", policy.Policy{Shape: rate(10 * mbit), Burst: policy.ShapeBurst{Bytes: 500_000}}, 10 * mbit, nil, false, false, false, false},
		{"a carrier that counts more", policy.Policy{Shape: rate(10 * mbit)}, 100 * mbit, &pppoe, false, false, false, true},
		{"what comes in is not ours to bound", policy.Policy{Shape: rate(50 * mbit)}, 100 * mbit, nil, true, false, false, false},
	} {
		near := linked(c.interfaceRate, policy.LinkEnd{Contract: bought, Framing: c.framing})
		direction := policy.Out
		if c.in {
			direction = policy.In
		}
		p := plan.Attached(&policy.Attachment{Policy: &c.pol, Interface: near, Direction: direction})
		if r, b, m := !p.ExceedsRate().IsZero(), !p.ExceedsBurst().IsZero(), !p.Exceeds().IsZero(); r != c.rate || b != c.burst || m != c.more {
			t.Errorf("%s: exceeds the rate %t, the burst %t, anything %t (%s)", c.name, r, b, m, p.Exceeds())
		}
		if c.in == false && p.Kept() == c.rate {
			t.Errorf("%s: kept %t", c.name, p.Kept())
		}
	}
	bare := plan.New(&policy.Policy{Shape: rate(mbit), Burst: policy.ShapeBurst{Bytes: 50_000}}, 10*mbit, packet.FramingEthernet())
	if !bare.Exceeds().IsZero() || !bare.Kept() {
		t.Errorf("at no interface there is nothing to exceed: %s, %s", bare.Exceeds(), bare.NotKept())
	}
}

// Ahead gives the limits and bursts of the more urgent entries; Lag follows from them.
func TestAheadAndLag(t *testing.T) {
	full := unit.Size(1500)
	voice := policy.Entry{Priority: 1, Police: &policy.Police{Rate: rate(mbit), Burst: 4000, Excess: 2000, Red: policy.Action{Drop: true}}}
	video := policy.Entry{Priority: 2, AtMost: most(rate(2 * mbit))}
	promise := policy.Entry{AtLeast: rate(4 * mbit)}
	for _, c := range []struct {
		name         string
		treat        []policy.Entry
		of           int
		left, bursts int64
		ok           bool
	}{
		{"before the first priority goes nothing", level(voice, video, promise), 0, 10_000_000, 0, true},
		{"before the second the first, with both its bursts", level(voice, video, promise), 1, 9_000_000, 6000 + 1500, true},
		{"before the others both priorities", level(voice, video, promise), 2, 7_000_000, 7500 + 3000 + 1500, true},
		{"one of the same priority as well", level(voice, policy.Entry{Priority: 1, AtMost: most(rate(2 * mbit))}), 0, 8_000_000, 3000 + 1500, true},
		{"a blocked one does not count", level(voice, policy.Entry{Priority: 1, Block: true}, promise), 2, 9_000_000, 7500, true},
		{"one without a bound leaves nothing sure", level(policy.Entry{Priority: 1}, promise), 1, 0, 0, false},
		{"nor does one of instances", level(policy.Entry{Priority: 1, Each: policy.BySource, AtMost: most(rate(mbit))}, promise), 1, 0, 0, false},
		{"nor priorities of all there is", level(policy.Entry{Priority: 1, AtMost: most(rate(10 * mbit))}, promise), 1, 0, 3000 + 1500, false},
		{"of alternatives the largest counts", level(
			policy.Entry{ClassName: policy.Ref{Text: "v"}, Class: &policy.Class{Name: "v"}, Priority: 1, AtMost: most(rate(mbit)), When: &policy.When{}},
			policy.Entry{ClassName: policy.Ref{Text: "v"}, Class: &policy.Class{Name: "v"}, Priority: 1, AtMost: most(rate(3 * mbit))}, promise), 2, 7_000_000, 3000 + 1500, true},
	} {
		p := plan.New(&policy.Policy{Treat: c.treat}, 10*mbit, packet.FramingIP())
		around, left, bursts, ok := p.Ahead(p.Top[c.of], full)
		if ok != c.ok || around != 10*mbit && ok || int64(left) != c.left || int64(bursts) != c.bursts {
			t.Errorf("%s: of %s %s is left, bursts %d, bounded %t", c.name, around, left, bursts, ok)
		}
	}
	within := plan.New(&policy.Policy{Treat: level(policy.Entry{AtLeast: rate(6 * mbit), AtMost: most(rate(6 * mbit)), Treat: level(voice, promise)})}, 10*mbit, packet.FramingIP())
	if around, left, _, ok := within.Ahead(within.Top[0].Inner[1], full); around != 6*mbit || left != 5*mbit || !ok {
		t.Errorf("within 6 Mbit/s: of %s %s is left, bounded %t", around, left, ok)
	}

	p := plan.New(&policy.Policy{Treat: level(voice, promise)}, 10*mbit, packet.FramingIP())
	// The burst of voice and a packet of each entry, at the 9 Mbit/s that voice leaves, or the time of four packets where that is longer.
	if got, want := p.Lag(p.Top[1]), max(unit.Rate(9*mbit).Time(7500+1500), 4*p.Top[1].Part.Time(1500)); got != want {
		t.Errorf("a promise is made up for %v; want %v", got, want)
	}
	if p.Lag(p.Top[0]) != 0 {
		t.Error("a priority has no promise to make up for")
	}
	slow := plan.New(&policy.Policy{Treat: level(policy.Entry{Priority: 1, Police: &policy.Police{Rate: rate(9 * mbit), Burst: 20_000, Red: policy.Action{Drop: true}}}, policy.Entry{AtLeast: rate(mbit)})}, 10*mbit, packet.FramingIP())
	if got, want := slow.Lag(slow.Top[1]), unit.Rate(mbit).Time(20_000+2*1500); got != want {
		t.Errorf("behind a large priority it is made up for %v; want %v", got, want)
	}
	if got := slow.Lag(&plan.Entry{Part: 0}); got != 0 {
		t.Errorf("nothing promised is made up for %v", got)
	}
}

// Policing returns the rate and burst of a policer that drops; the second bucket counts where yellow packets pass.
func TestPolicing(t *testing.T) {
	drop := policy.Action{Drop: true}
	for _, c := range []struct {
		police *policy.Police
		rate   unit.Rate
		burst  unit.Size
	}{
		{nil, 0, 0},
		{&policy.Police{Rate: rate(mbit), Burst: 3000}, 0, 0},
		{&policy.Police{Rate: rate(mbit), Burst: 3000, Red: drop}, mbit, 3000},
		{&policy.Police{Rate: rate(mbit), Burst: 3000, Excess: 500, Red: drop}, mbit, 3500},
		{&policy.Police{Rate: rate(mbit), Burst: 3000, Excess: 500, Yellow: drop, Red: drop}, mbit, 3000},
		{&policy.Police{Rate: rate(mbit), Burst: 3000, Peak: rate(2 * mbit), PeakBurst: 900, Red: drop}, 2 * mbit, 3900},
		{&policy.Police{Rate: rate(mbit), Burst: 3000, Red: drop, When: &policy.When{}}, 0, 0},
	} {
		p := plan.New(&policy.Policy{Treat: level(policy.Entry{Police: c.police})}, 10*mbit, packet.FramingIP())
		if r, b := p.Top[0].Policing(); r != c.rate || b != c.burst {
			t.Errorf("%+v: %s and %s; want %s and %s", c.police, r, b, c.rate, c.burst)
		}
	}
}

// The weight of an entry is its part of the promises, or its own weight beside an at-least, in thousandths of a per cent and at least one.
func TestWeights(t *testing.T) {
	weights := func(whole unit.Rate, entries ...policy.Entry) (out []int64) {
		for _, e := range plan.New(&policy.Policy{Treat: level(entries...)}, whole, packet.FramingIP()).Entries {
			out = append(out, e.Weight)
		}
		return out
	}
	for _, c := range []struct {
		name string
		got  []int64
		want []int64
	}{
		{"by what is promised", weights(10*mbit, policy.Entry{AtLeast: percent(30)}, policy.Entry{AtLeast: percent(20)}), []int64{30_000, 20_000, 50_000}},
		{"by weight beside an at-least", weights(10*mbit, policy.Entry{AtLeast: percent(30), Weight: 7}, policy.Entry{AtLeast: percent(20)}), []int64{7000, 20_000, 50_000}},
		{"a weight alone is what is promised", weights(10*mbit, policy.Entry{Weight: 3}, policy.Entry{Weight: 6}), []int64{30_000, 60_000, 10_000}},
		{"a promise of nothing borrows last", weights(10*mbit, policy.Entry{AtLeast: percent(0)}, policy.Entry{}), []int64{1, 50_000, 50_000}},
		{"within a promise of nothing, by the written per cent", weights(10*mbit, policy.Entry{AtLeast: percent(100)}, policy.Entry{AtLeast: percent(0), Treat: level(policy.Entry{AtLeast: percent(60)}, policy.Entry{AtLeast: percent(30)})}),
			[]int64{100_000, 1, 60_000, 30_000, 10_000, 1}},
	} {
		if !slices.Equal(c.got, c.want) {
			t.Errorf("%s: %v; want %v", c.name, c.got, c.want)
		}
	}
}

// The credit of an `at-most` is two packets and its burst. The credit of a shape is its burst without a packet, less what its rate passes meanwhile.
func TestCredits(t *testing.T) {
	p := plan.New(&policy.Policy{Treat: level(policy.Entry{AtMost: most(rate(2 * mbit))},
		policy.Entry{AtMost: &policy.Ceiling{Rate: rate(2 * mbit), Burst: &policy.Burst{To: rate(6 * mbit), For: 500 * time.Millisecond}}})}, 10*mbit, packet.FramingIP())
	if m := p.Top[0].AtMost; m.Credit != 3000 || m.Peak != 0 {
		t.Errorf("an at-most without a burst: %+v", m)
	}
	if m := p.Top[1].AtMost; m.Credit != 3000+250_000 || m.Peak != 6*mbit {
		t.Errorf("4 Mbit/s more for half a second: %+v", m)
	}
	for _, c := range []struct {
		shape unit.Rate
		burst policy.ShapeBurst
		want  unit.Size
	}{
		{5 * mbit, policy.ShapeBurst{}, 0},
		{5 * mbit, policy.ShapeBurst{Bytes: 1500}, 0},
		{5 * mbit, policy.ShapeBurst{Bytes: 11_500}, 5000},
		{7_500_000, policy.ShapeBurst{Time: 10 * time.Millisecond}, 1968},
		{10 * mbit, policy.ShapeBurst{Bytes: 11_500}, 0},
	} {
		p := plan.New(&policy.Policy{Shape: rate(c.shape), Burst: c.burst}, 10*mbit, packet.FramingIP())
		if got := p.Credit(); got != c.want || len(p.Problems) > 0 {
			t.Errorf("a shape of %s with a burst %+v: %s; want %s; %v", c.shape, c.burst, got, c.want, p.Problems)
		}
	}
	if p := plan.New(&policy.Policy{Shape: rate(5 * mbit), Burst: policy.ShapeBurst{Bytes: 1499}}, 10*mbit, packet.FramingIP()); len(p.Problems) != 1 {
		t.Errorf("a burst below a packet: %v", p.Problems)
	}
}

// RED's numbers are in the unit of the limit.
func TestNumbersOfRED(t *testing.T) {
	red := func(q policy.Queue) (*plan.Plan, plan.RED) {
		q.Drop = policy.RED
		p := plan.New(&policy.Policy{Treat: level(policy.Entry{AtLeast: rate(8 * mbit), Queue: q}, policy.Entry{AtLeast: rate(2 * mbit)})}, 10*mbit, packet.FramingIP())
		return p, p.Top[0].Queue.RED
	}
	for _, c := range []struct {
		queue policy.Queue
		want  plan.RED
		wrong string
	}{
		{policy.Queue{Bytes: 50_000, RED: policy.REDNumbers{From: &policy.Queue{Bytes: 10_000}, To: &policy.Queue{Bytes: 50_000}, Probability: 0.2, Weight: 0.01}}, plan.RED{From: 10_000, To: 50_000, Probability: 0.2, Weight: 0.01}, ""},
		{policy.Queue{Time: 50 * time.Millisecond, RED: policy.REDNumbers{From: &policy.Queue{Time: 10 * time.Millisecond}, To: &policy.Queue{Bytes: 20_000}}}, plan.RED{From: 10_000, To: 20_000}, ""},
		{policy.Queue{Packets: 50, RED: policy.REDNumbers{From: &policy.Queue{Packets: 10}, To: &policy.Queue{Packets: 50}}}, plan.RED{From: 10, To: 50}, ""},
		{policy.Queue{Packets: 50, RED: policy.REDNumbers{From: &policy.Queue{Packets: 10}, To: &policy.Queue{Packets: 51}}}, plan.RED{From: 10, To: 51}, "`to` is above its limit"},
		{policy.Queue{Packets: 50, RED: policy.REDNumbers{From: &policy.Queue{Bytes: 10}}}, plan.RED{}, "not of one kind"},
		{policy.Queue{Bytes: 50_000, RED: policy.REDNumbers{To: &policy.Queue{Packets: 10}}}, plan.RED{}, "not of one kind"},
		{policy.Queue{Bytes: 50_000, RED: policy.REDNumbers{From: &policy.Queue{Bytes: 20_000}, To: &policy.Queue{Bytes: 20_000}}}, plan.RED{From: 20_000, To: 20_000}, "which is not below 20000"},
		{policy.Queue{Bytes: 50_000, RED: policy.REDNumbers{From: &policy.Queue{Bytes: 20_000}}}, plan.RED{From: 20_000}, ""},
	} {
		p, got := red(c.queue)
		if got != c.want {
			t.Errorf("%+v: %+v; want %+v", c.queue, got, c.want)
		}
		if (c.wrong == "") != (len(p.Problems) == 0) || c.wrong != "" && !strings.Contains(p.Problems[0].Text, c.wrong) {
			t.Errorf("%+v: problems %v; want %q", c.queue, p.Problems, c.wrong)
		}
	}
}

// A level that promises too much is reported at the first entry beyond the rate, at its key.
func TestWhoPromisesTooMuch(t *testing.T) {
	keyed := func(line int, e policy.Entry, keys ...string) policy.Entry {
		e.Begins(policy.Place{Line: line})
		for i, k := range keys {
			e.Written(k, policy.Place{Line: line, Column: 10 * (i + 1)})
		}
		return e
	}
	when := &policy.When{}
	named := func(name string, e policy.Entry) policy.Entry {
		e.ClassName.Text, e.Class = name, &policy.Class{Name: name}
		return e
	}
	for _, c := range []struct {
		name  string
		treat []policy.Entry
		at    policy.Place
		says  string
	}{
		{"an at-least", level(keyed(1, policy.Entry{AtLeast: percent(60)}, "at-least"), keyed(2, policy.Entry{AtLeast: percent(50)}, "at-least"), keyed(3, policy.Entry{AtLeast: percent(5)}, "at-least")),
			policy.Place{Line: 2, Column: 10}, "with at-least 50% (5Mbit/s) for `c2` the promises come to 11.5Mbit/s, and there is 10Mbit/s"},
		{"a bound by at-most", level(keyed(1, policy.Entry{AtLeast: percent(60)}, "at-least"), keyed(2, policy.Entry{Priority: 1, AtMost: most(rate(5 * mbit)), Police: police(rate(8*mbit), true)}, "at-most", "police")),
			policy.Place{Line: 2, Column: 10}, "a bound of 5Mbit/s for `c2`"},
		{"a bound by the policer, below the at-most", level(keyed(1, policy.Entry{AtLeast: percent(60)}, "at-least"), keyed(2, policy.Entry{Priority: 1, AtMost: most(rate(8 * mbit)), Police: police(rate(5*mbit), true)}, "at-most", "police")),
			policy.Place{Line: 2, Column: 20}, "a bound of 5Mbit/s for `c2`"},
		{"a bound by the policer alone", level(keyed(1, policy.Entry{AtLeast: percent(60)}, "at-least"), keyed(2, policy.Entry{Priority: 1, Police: police(rate(5*mbit), true)}, "police")),
			policy.Place{Line: 2, Column: 10}, "a bound of 5Mbit/s for `c2`"},
		{"the alternative that asks for most", level(keyed(1, policy.Entry{AtLeast: percent(60)}, "at-least"), named("a", keyed(2, policy.Entry{AtLeast: percent(20), When: when}, "at-least")), named("a", keyed(3, policy.Entry{AtLeast: percent(50)}, "at-least"))),
			policy.Place{Line: 3, Column: 10}, "at-least 50% (5Mbit/s) for `a`"},
		{"within", level(keyed(1, policy.Entry{AtLeast: percent(60), Treat: level(keyed(2, policy.Entry{AtLeast: rate(7 * mbit)}, "at-least"))}, "at-least")),
			policy.Place{Line: 2, Column: 10}, "the promises within `c1` come to 7Mbit/s, and it is promised 6Mbit/s"},
		{"within each", level(keyed(1, policy.Entry{Each: policy.BySource, AtMost: most(rate(mbit)), Treat: level(keyed(2, policy.Entry{AtLeast: rate(2 * mbit)}, "at-least"))})),
			policy.Place{Line: 2, Column: 10}, "the promises within `c1` come to 2Mbit/s, and each source may have 1Mbit/s"},
	} {
		p := plan.New(&policy.Policy{Treat: c.treat}, 10*mbit, packet.FramingIP())
		if len(p.Problems) == 0 || p.Problems[0].At != c.at || !strings.Contains(p.Problems[0].Text, c.says) {
			t.Errorf("%s: %+v; want %q at %v", c.name, p.Problems, c.says, c.at)
		}
	}
}

// An entry's chain is itself and those around it, the outermost first.
func TestChain(t *testing.T) {
	p := plan.New(&policy.Policy{Treat: level(policy.Entry{Each: policy.BySource, AtMost: most(rate(mbit)), Treat: level(policy.Entry{Treat: level(policy.Entry{})})})}, 10*mbit, packet.FramingIP())
	outer, middle, inner := p.Entries[0], p.Entries[1], p.Entries[2]
	if got := inner.Chain(); !slices.Equal(got, []*plan.Entry{outer, middle, inner}) || len(outer.Chain()) != 1 {
		t.Errorf("the chain of %s has %d entries", inner.Name, len(got))
	}
	if inner.Instances() != outer || outer.Instances() != nil || !outer.Together() || inner.Together() || outer.Leaf() || !inner.Leaf() {
		t.Errorf("%s is not within the instances of %s", inner.Name, outer.Name)
	}
	for i, e := range p.Entries {
		if e.Number != i {
			t.Errorf("entry %d has the number %d", i, e.Number)
		}
	}
}

// A class with `here` has the subnets of its node. A node without subnets is a problem.
func TestHere(t *testing.T) {
	from := policy.Term{Key: policy.KeyFrom, Addresses: &policy.Addresses{Here: true}}
	class := &policy.Class{Name: "local", Match: []policy.Condition{policy.All(from)}}
	treat := []policy.Entry{{Class: class, ClassName: policy.Ref{Text: "local"}, Treat: []policy.Entry{{Class: class, ClassName: policy.Ref{Text: "local"}}}}}
	near := linked(100*mbit, policy.LinkEnd{})
	near.Subnets = []netip.Prefix{netip.MustParsePrefix("10.7.0.0/16")}
	near.Node.Interfaces = []*policy.Interface{near}
	p := plan.Attached(&policy.Attachment{Policy: &policy.Policy{Treat: treat}, Interface: near})
	if len(p.Problems) > 0 || p.Entries[0].Class == class || p.Entries[0].Class != p.Entries[1].Class || p.Entries[0].Class.UsesHere() {
		t.Errorf("%v, the class %+v", p.Problems, p.Entries[0].Class)
	}
	near.Subnets = nil
	if p := plan.Attached(&policy.Attachment{Policy: &policy.Policy{Treat: treat}, Interface: near}); len(p.Problems) != 1 || !strings.Contains(p.Problems[0].Text, "the node has no subnets") {
		t.Errorf("without subnets: %v", p.Problems)
	}
}
