package datapath

import (
	"testing"
	"time"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
)

func ptr[T any](v T) *T { return &v }

// A mark changes the layers that it names, where the packet has them.
func TestMarks(t *testing.T) {
	table := &policy.MarkTable{}
	for i := range table.To {
		table.To[i] = codepoint.DSCP(63 - i)
	}
	type marks struct {
		dscp    codepoint.DSCP
		pcp, tc uint8
		dei     bool
	}
	for name, c := range map[string]struct {
		mark     policy.Mark
		switched bool
		want     marks
	}{
		"nothing":         {policy.Mark{}, false, marks{codepoint.EF, 5, 0, false}},
		"a DSCP":          {policy.Mark{DSCP: ptr(codepoint.AF(4, 1))}, false, marks{codepoint.AF(4, 1), 5, 0, false}},
		"a map":           {policy.Mark{Map: table}, false, marks{63 - codepoint.EF, 5, 0, false}},
		"a precedence":    {policy.Mark{Precedence: ptr(uint8(2))}, false, marks{2<<3 | codepoint.EF&7, 5, 0, false}},
		"a PCP":           {policy.Mark{PCP: ptr(uint8(3))}, false, marks{codepoint.EF, 3, 0, false}},
		"a DEI":           {policy.Mark{DEI: ptr(true)}, false, marks{codepoint.EF, 5, 0, true}},
		"a traffic class": {policy.Mark{TC: ptr(uint8(6))}, true, marks{codepoint.EF, 5, 6, false}},
		"an IP header at a node that does not look below the label": {policy.Mark{DSCP: ptr(codepoint.AF(4, 1)), PCP: ptr(uint8(1))}, true, marks{codepoint.EF, 1, 0, false}},
	} {
		p := (&pool{}).get(1, 200)
		p.SetDSCP(codepoint.EF)
		p.SetTags([]packet.Tag{{VLAN: 7, PCP: 5}})
		if c.switched {
			p.PushLabel(0)
			p.LabelSwitched = true
		}
		Mark(&c.mark, p)
		p.LabelSwitched = false
		got := marks{dscp: p.DSCP(), dei: p.DEI()}
		got.pcp, _ = p.PCP()
		got.tc, _ = p.TC()
		if got != c.want {
			t.Errorf("%s: %+v; want %+v", name, got, c.want)
		}
	}
	bare := (&pool{}).get(1, 200)
	Mark(&policy.Mark{PCP: ptr(uint8(3)), DEI: ptr(true), TC: ptr(uint8(6))}, bare)
	if _, tagged := bare.PCP(); tagged || bare.Labels() != 0 || bare.DSCP() != codepoint.DF {
		t.Errorf("a frame without a tag or a label: %+v", bare)
	}
}

// Drain returns the packets of all queues in their order of arrival.
func TestDrain(t *testing.T) {
	policed := plan.New(&policy.Policy{Treat: []policy.Entry{treats(1, policy.Entry{Priority: 1}), treats(2, policy.Entry{Treat: []policy.Entry{treats(2, policy.Entry{}), treats(3, policy.Entry{})}})}}, 10_000_000, packet.FramingEthernet())
	for name, p := range map[string]*Path{"a policy": New(Config{Plan: policed}), "a FIFO": New(Config{Rate: 10_000_000, Framing: packet.FramingEthernet()})} {
		l := &pool{}
		var in []*packet.Packet
		for i, n := range []int{2, 1, 7, 2, 1} {
			pkt := l.get(n, 100+i)
			if got := p.Enqueue(time.Duration(i)*time.Millisecond, pkt); got != Passed {
				t.Fatalf("%s: packet %d: %v", name, i, got)
			}
			in = append(in, pkt)
		}
		if p.Idle() {
			t.Errorf("%s: five packets wait, and it is idle", name)
		}
		out := p.Drain()
		for i, pkt := range out {
			if i >= len(in) || pkt != in[i] {
				t.Errorf("%s: number %d comes out in the place of another", name, i)
			}
		}
		if len(out) != len(in) {
			t.Errorf("%s: %d of %d packets come out", name, len(out), len(in))
		}
	}
}

// A plain FIFO counts packets by the class that ClassOf returns.
func TestPlainFIFOCounts(t *testing.T) {
	p := New(Config{Rate: 10_000_000, Framing: packet.FramingIP(), Classes: 3, ClassOf: func(p *packet.Packet) int { return int(p.Flow.ToPort) - 1 }})
	l := &pool{}
	for _, n := range []int{1, 3, 3} {
		pkt := l.get(n, 100*n)
		pkt.SetDSCP(codepoint.DSCP(8 * n))
		p.Enqueue(0, pkt)
	}
	for range 2 {
		if pkt, again := p.Dequeue(5); pkt == nil || again != 5 {
			t.Fatalf("%v, %v", pkt, again)
		}
	}
	for i, want := range []struct{ offered, offeredBytes, sent, sentBytes uint64 }{{1, 100, 1, 100}, {}, {2, 600, 1, 300}} {
		c := p.Counters()[i]
		if c.OfferedPackets != want.offered || c.OfferedBytes != want.offeredBytes || c.SentPackets != want.sent || c.SentBytes != want.sentBytes || c.Marks[codepoint.DSCP(8*(i+1))] != want.sent || p.Parent(i) != -1 {
			t.Errorf("class %d: %+v; want %+v", i, c, want)
		}
	}
	if p.Offered() != 3 {
		t.Errorf("%d packets were offered", p.Offered())
	}
	p.Dequeue(6)
	if pkt, again := p.Dequeue(7); pkt != nil || again <= 7 || !p.Idle() {
		t.Errorf("when it is empty: %v, %v, idle %t", pkt, again, p.Idle())
	}
}

// The counters of an entry are the sums of its nested entries. Add adds the counters of another path.
func TestCountersAddUp(t *testing.T) {
	p := New(Config{Plan: plan.New(&policy.Policy{Treat: []policy.Entry{
		{Class: &policy.Class{Name: "both", Match: []policy.Condition{policy.All(policy.KeyToPort.In(policy.Range{First: 1, Last: 2}))}}, ClassName: policy.Ref{Text: "both"},
			Treat: []policy.Entry{treats(1, policy.Entry{Queue: policy.Queue{Packets: 2}, Police: &policy.Police{Rate: unit.Share{Rate: 1_000_000}, Burst: 700, Red: policy.Action{Drop: true}}}), treats(2, policy.Entry{Mark: &policy.Mark{DSCP: ptr(codepoint.EF)}})}},
	}}, 10_000_000, packet.FramingIP())})
	l := &pool{}
	for _, n := range []int{1, 1, 1, 1, 2, 2, 9} {
		p.Enqueue(0, l.get(n, 200))
	}
	for range 2 {
		p.Dequeue(0)
	}
	c := p.Counters()
	both, one, two := c[0], c[1], c[2]
	if one.OfferedPackets != 4 || one.Drops[Policed] != 1 || one.Drops[QueueFull] != 1 || one.Colors[0] != 3 || one.Colors[2] != 1 || two.OfferedPackets != 2 {
		t.Errorf("those within: %+v and %+v", one, two)
	}
	for name, v := range map[string][3]uint64{"offered": {both.OfferedPackets, one.OfferedPackets, two.OfferedPackets}, "offered bytes": {both.OfferedBytes, one.OfferedBytes, two.OfferedBytes},
		"sent": {both.SentPackets, one.SentPackets, two.SentPackets}, "sent bytes": {both.SentBytes, one.SentBytes, two.SentBytes}, "policed": {both.Drops[Policed], one.Drops[Policed], two.Drops[Policed]},
		"full": {both.Drops[QueueFull], one.Drops[QueueFull], two.Drops[QueueFull]}, "marked EF": {both.Marks[codepoint.EF], one.Marks[codepoint.EF], two.Marks[codepoint.EF]}, "marked DF": {both.Marks[0], one.Marks[0], two.Marks[0]}} {
		if v[0] != v[1]+v[2] {
			t.Errorf("%s: %d, and within %d and %d", name, v[0], v[1], v[2])
		}
	}
	sum := one
	sum.Add(&two)
	if sum.OfferedPackets != 6 || sum.OfferedBytes != 1200 || sum.Colors[0] != 3 || sum.Drops[Policed] != 1 || sum.MaxQueueBytes != max(one.MaxQueueBytes, two.MaxQueueBytes) {
		t.Errorf("both together: %+v", sum)
	}
}
