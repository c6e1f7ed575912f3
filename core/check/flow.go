package check

import (
	"math"
	"slices"
	"time"

	"imbrel.example/imbrel/core/explain"
	"imbrel.example/imbrel/core/fluid"
	"imbrel.example/imbrel/core/meter"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
)

// A stream is what one direction of a traffic comes to when all the traffic of its rehearsal
// flows like a fluid, shared out at each interface as its policy says. Rates are of IP.
type stream struct {
	route       *route
	rate        float64
	certainRate bool // no tunnel carries it, and neither a policer that marks nor a load changes its rate
	steps       []*passage
}

// A passage is a stream at an interface.
type passage struct {
	stream *stream
	hop    *explain.Step
	iface  *policy.Interface
	plan   *plan.Plan  // nil: no policy
	leaf   *plan.Entry // that takes it
	key    [2]string   // of the instance it is in: the addresses
	wire   float64     // of an IP bit, as the interface counts

	in, out float64
	sent    float64 // by the interface, before the carrier
	offered float64 // to the queue that it waits in, as the interface counts
	drained float64 // out of that queue
	credit  float64 // bits that may pass beyond the rates

	lossy []*passage // of a queue that drops what several send, in parts that nobody knows
}

// flow returns the streams of a rehearsal, nil where it cannot be estimated: something begins
// or ends on the way, follows what it meets, or is spread over several ways.
func (s *survey) flow(h *policy.Rehearsal) []*stream {
	if h.Lasts < time.Second || h.WarmUp > 0 {
		return nil
	}
	for _, l := range s.f.Network.Links {
		if l.Loss.Part > 0 {
			return nil
		}
	}
	for i := range h.Traffic {
		t := &h.Traffic[i]
		if !t.Steady() || t.Starts > 0 || t.Lasts > 0 && t.Lasts < h.Lasts {
			return nil
		}
	}
	var streams []*stream
	type place struct{ interfaceName, direction string }
	places := make(map[place][]*passage)
	var order []place
	for i := range s.routes {
		w := s.routes[i]
		if w.rehearsal != h {
			continue
		}
		if w.spread() {
			return nil
		}
		t, length := w.traffic, float64(w.length)
		f := &stream{route: w, rate: float64(t.Rate), certainRate: true}
		if t.Kind == policy.Calls {
			f.rate = float64(t.Codec.Rate(t.Calls * w.length))
		}
		for j := range w.answer.Hops {
			hop := &w.answer.Hops[j]
			p := &passage{stream: f, hop: hop, iface: s.interfaces[hop.Node+"/"+hop.Interface], in: f.rate}
			f.certainRate = f.certainRate && hop.Tunnel == "" && len(hop.Labels) == 0 && p.iface != nil
			if p.iface == nil {
				continue
			}
			p.wire = float64(p.iface.Framing.Size(w.length, 0)) / length
			if hop.Policy != "" {
				p.plan, p.leaf = hop.Plan, hop.Entry
				f.certainRate = f.certainRate && p.leaf != nil
				p.key = [2]string{w.from().String(), w.to().String()}
			}
			f.steps = append(f.steps, p)
			k := place{hop.Node + "/" + hop.Interface, hop.Direction}
			if places[k] == nil {
				order = append(order, k)
			}
			places[k] = append(places[k], p)
		}
		streams = append(streams, f)
	}
	for round := range maxRounds {
		moved := false
		for _, k := range order {
			cross(h, places[k])
		}
		for _, f := range streams {
			in := f.rate
			for _, p := range f.steps {
				moved = moved || math.Abs(p.in-in) > 1+in*1e-4
				p.in = in
				in = p.out
			}
		}
		if !moved {
			break
		}
		if round == maxRounds-1 {
			return nil
		}
	}
	return streams
}

// held returns how many bits of a stream, or of what shares its queues, may be on their way or
// waiting at the end, or have passed beyond the rates.
func (f *stream) held() (bits float64) {
	if t := f.route.traffic; t.Arrivals == policy.Poisson { // as many as four times the standard deviation more or fewer
		bits = 4 * math.Sqrt(f.rate*f.route.rehearsal.Lasts.Seconds()*float64(8*f.route.length))
	}
	for _, p := range f.steps {
		bits += p.credit
		if p.leaf != nil {
			bits += float64(p.leaf.Queue.Bytes+unit.Size(p.leaf.Queue.Packets)*p.plan.MaxPacket) * 8
		}
		if l := p.iface.Link; l != nil {
			bits += 8*float64(p.iface.Carries(policy.Out).Bytes(l.Ends[p.iface.End].Buffer)) + p.out*l.Delay.Seconds()
		}
	}
	return bits
}

// maxRounds is after how many rounds streams that pass each other are given up.
const maxRounds = 24

// cross computes what of the passages at one interface and direction gets out.
func cross(h *policy.Rehearsal, all []*passage) {
	for _, p := range all {
		p.out, p.credit, p.lossy = p.in, 0, nil
		p.offered, p.drained = p.in*p.wire, p.in*p.wire
	}
	if p := all[0].plan; p != nil {
		c := crossing{rehearsal: h, plan: p}
		defer func() { // what is not known of one changes what the others get
			if slices.ContainsFunc(all, func(p *passage) bool { return !p.stream.certainRate }) {
				for _, p := range all {
					p.stream.certainRate = false
				}
			}
		}()
		root := &fluid.Entry{}
		c.grow(root, p.Top, all)
		room := p.Rate // where the queue is the carrier's, the port sends what it can
		if p.Shape > 0 {
			room = min(room, p.Shape)
		} else if p.Direction == policy.In { // nothing waits
			room = unit.MaxRate
		}
		fluid.Allocate(root, room)
		c.distribute()
	}
	for _, p := range all {
		p.sent = p.out
	}
	if all[0].hop.Direction != policy.Out.String() {
		return
	}
	total, room := 0.0, float64(all[0].iface.Carries(policy.Out))
	for _, p := range all {
		total += p.out * p.wire
	}
	for _, p := range all {
		if total > room { // the carrier's queue, which knows no classes
			p.out *= room / total
			p.lossy = all
		}
	}
}

// A crossing is a plan at work.
type crossing struct {
	rehearsal *policy.Rehearsal
	plan      *plan.Plan
	leaves    []leaf
}

// A leaf is a queue and what is in it.
type leaf struct {
	node  *fluid.Entry
	entry *plan.Entry
	in    []*passage
}

// holds reports whether a limit is in force, and whether that is known.
func (c *crossing) holds(w *plan.When) (holds, known bool) {
	switch {
	case w == nil:
		return true, true
	case w.Time == nil || c.rehearsal.StartAt.IsZero():
		return false, false
	}
	return w.Time.Holds(c.rehearsal.StartAt), true
}

// grow makes the fluid tree of entries and of the passages that they take.
func (c *crossing) grow(parent *fluid.Entry, entries []*plan.Entry, all []*passage) {
	for _, e := range entries {
		var own []*passage
		for _, p := range all {
			if p.leaf == e || p.leaf != nil && p.leaf.IsWithin(e) {
				own = append(own, p)
			}
		}
		if len(own) == 0 {
			continue
		}
		n := &fluid.Entry{Priority: e.Priority, Weight: e.Weight}
		if e.Priority == 0 {
			n.Guarantee = e.Part
		}
		parent.Children = append(parent.Children, n)
		if e.Each == 0 {
			c.fill(n, e, own)
			continue
		}
		groups := instances(e, own)
		for _, g := range groups {
			one := &fluid.Entry{Weight: 1, Guarantee: e.Part / unit.Rate(len(groups))}
			if e.Priority > 0 {
				one.Guarantee = 0
			}
			n.Children = append(n.Children, one)
			c.fill(one, e, g)
		}
	}
}

// instances divides passages by what an entry has instances by.
func instances(e *plan.Entry, own []*passage) [][]*passage {
	var groups [][]*passage
	known := make(map[[4]string]int)
	for _, p := range own {
		var k [4]string
		if e.Each&(policy.BySource|policy.ByFlow) != 0 {
			k[0] = p.key[0]
		}
		if e.Each&(policy.ByDestination|policy.ByFlow) != 0 {
			k[1] = p.key[1]
		}
		if e.Each&policy.ByFlow != 0 {
			k[2] = p.stream.route.name()
			p.stream.certainRate = p.stream.certainRate && p.stream.route.traffic.Calls < 2
		}
		if e.Each&policy.ByInterface != 0 && len(p.stream.route.answer.Hops) > 0 {
			k[3] = p.stream.route.entered(p.hop)
		}
		if e.Each&policy.ByVLAN != 0 {
			p.stream.certainRate = false
		}
		i, met := known[k]
		if !met {
			i = len(groups)
			known[k] = i
			groups = append(groups, nil)
		}
		groups[i] = append(groups[i], p)
	}
	return groups
}

// entered names the interface by which packets came into the node of a hop.
func (w *route) entered(hop *explain.Step) string {
	last := ""
	for i := range w.answer.Hops {
		h := &w.answer.Hops[i]
		if h == hop {
			break
		}
		if h.Node == hop.Node && h.Direction == policy.In.String() {
			last = h.Interface
		}
	}
	return last
}

// fill limits an entry, or one instance of it, and puts what it takes into it.
func (c *crossing) fill(n *fluid.Entry, e *plan.Entry, own []*passage) {
	unsure := func() {
		for _, p := range own {
			p.stream.certainRate = false
		}
	}
	if e.Block {
		for _, p := range own {
			p.in, p.out = 0, 0
		}
	}
	for _, w := range []*plan.When{e.When, e.BlockWhen} {
		if w != nil && (w.Time == nil || c.rehearsal.StartAt.IsZero()) {
			unsure()
		}
	}
	if e.BlockWhen != nil {
		unsure()
	}
	if m := e.AtMost; m != nil {
		holds, known := c.holds(m.When)
		if !known {
			unsure()
		}
		if holds {
			n.Ceiling = m.Rate
			for _, p := range own {
				p.credit += float64(m.Credit) * 8
			}
		}
	}
	if m := e.Meter; m != nil {
		holds, known := c.holds(m.When)
		if !known {
			unsure()
		}
		offered := 0.0
		for _, p := range own {
			offered += p.in * p.wire
		}
		bound, drops := m.Rate, m.Actions[meter.Red].Drop
		if m.Peak > 0 && !m.Actions[meter.Yellow].Drop {
			bound = m.Peak
		}
		switch {
		case !holds || offered <= float64(m.Rate)*0.98:
		case !drops || m.Kind != policy.OneBucket:
			unsure()
		default:
			for _, p := range own {
				p.in *= min(1, float64(bound)/offered)
				p.credit += float64(m.Burst+m.Second) * 8
			}
		}
	}
	if !e.Leaf() {
		c.grow(n, e.Inner, own)
		return
	}
	for _, p := range own {
		n.Demand += unit.Rate(p.in * p.wire)
	}
	c.leaves = append(c.leaves, leaf{n, e, own})
}

// hand gives the passages in each queue what it gets: in proportion to what they send, or
// to each flow the same.
func (c *crossing) distribute() {
	for _, l := range c.leaves {
		gets, total := float64(l.node.Gets), 0.0
		for _, p := range l.in {
			total += p.in * p.wire
		}
		if l.entry.Queue.Drop.Row().Fair {
			l.byShares(gets)
		}
		for _, p := range l.in {
			if !l.entry.Queue.Drop.Row().Fair {
				p.out = p.in * min(1, gets/max(total, 1))
				if total > gets {
					p.lossy = l.in
				}
			}
			p.offered, p.drained = total, gets
		}
	}
}

// fairly gives each flow in a queue the same, and what one does not need to the others.
func (l *leaf) byShares(gets float64) {
	order := slices.Clone(l.in)
	flows := func(p *passage) float64 { return float64(max(1, p.stream.route.traffic.Calls)) }
	left := 0.0
	for _, p := range order {
		left += flows(p)
	}
	slices.SortStableFunc(order, func(a, b *passage) int {
		return int(math.Copysign(1, a.in*a.wire/flows(a)-b.in*b.wire/flows(b)))
	})
	for _, p := range order {
		wire := min(p.in*p.wire, gets*flows(p)/left)
		p.out = wire / p.wire
		gets, left = gets-wire, left-flows(p)
	}
}
