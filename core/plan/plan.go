// Package plan says what an attached policy means: a tree of entries with
// absolute rates, computed once. The data path enforces it, `shares` divides by
// it, `explain` and `rehearse` quote it; none of them computes a percentage.
//
// A Promise is what an entry can count on when everybody wants everything. It is
// computed from the top down and from the keys of one level alone: it depends
// neither on what is within the entry nor on what anybody wants.
package plan

import (
	"slices"
	"time"

	"imbrel.example/imbrel/core/meter"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/words"
)

// A Plan is a policy at one interface in one direction.
type Plan struct {
	Policy    *policy.Policy
	Interface *policy.Interface // nil: none in particular
	Direction policy.Direction
	Framing   packet.Framing
	MaxPacket unit.Size // a full packet of 1500 bytes, as the interface counts

	Rate    unit.Rate // of the interface
	Carries unit.Rate // what the interface can really pass on: its rate, or its link's
	Shape   unit.Rate // of the policy; 0: none
	Whole   unit.Rate // what there is to share: the least of the three
	Burst   unit.Size // that the shape lets leave at once, at Rate; 0: a packet

	Top     []*Entry
	Entries []*Entry // all, in the order of the file, each before those within it

	Problems []Problem
}

// An Entry is what an entry of the policy comes to.
type Entry struct {
	Spec   *policy.Entry
	Number int    // in Plan.Entries
	Name   string // of its class, with those of the entries around it: "sales/voice"
	Class  *policy.Class
	Parent *Entry   // nil at the top
	Inner  []*Entry // the last takes the rest

	// Promise is what the entry can count on; with Each and a priority, what one
	// instance can.
	Promise unit.Rate
	// Part is how the scheduler serves what reaches its queues: at Promise, or, where the policer
	// of an entry around it drops before, at what it would be promised without that.
	Part unit.Rate
	// Policed is the nearest entry around this one whose policer drops, whatever of its entries a
	// packet is of, so that those are promised nothing; nil: there is none.
	Policed *Entry
	// Ceiling is what the entry never exceeds; with Each, one instance. Limits that
	// are in force only sometimes do not count.
	Ceiling unit.Rate
	// Bounded says that the entry has a bound of its own, and not only what is around
	// it.
	Bounded bool
	AtLeast unit.Rate // what its `at-least` comes to
	Weight  int64     // its part of what is lent, in thousandths of a per cent

	Priority  int
	Each      policy.Each
	When      *When // nil: the entry is always in force
	Block     bool  // always
	BlockWhen *When // only then
	AtMost    *AtMost
	Meter     *Meter
	Queue     Queue // of an entry with nothing within it
}

// A When is a named time, or a pressure with absolute loads.
type When struct {
	Spec         *policy.When
	Time         *policy.Span // nil: under pressure
	Starts, Ends Threshold
}

// A Threshold is a load of the interface that lasts.
type Threshold struct {
	Load unit.Rate
	For  time.Duration
}

// Whens returns what says when the entry, and its limits, are in force.
func (e *Entry) Whens() []*When {
	var out []*When
	add := func(w *When) {
		if w != nil {
			out = append(out, w)
		}
	}
	add(e.When)
	add(e.BlockWhen)
	if e.AtMost != nil {
		add(e.AtMost.When)
	}
	if e.Meter != nil {
		add(e.Meter.When)
	}
	return out
}

// AtMost is a ceiling by which packets wait.
type AtMost struct {
	Rate   unit.Rate
	Peak   unit.Rate // 0: no burst above Rate
	Credit unit.Size // how much may go at once beyond one packet
	When   *When     // nil: always in force
}

// A Meter is a policer with absolute rates.
type Meter struct {
	Kind    policy.MeterKind
	Rate    unit.Rate
	Burst   unit.Size
	Peak    unit.Rate
	Second  unit.Size // the excess burst, or the peak's
	Aware   bool
	Actions [3]policy.Action // by meter.Color
	When    *When            // nil: always in force
}

// New returns the meter, its buckets full.
func (m *Meter) New() meter.Meter {
	switch m.Kind {
	case policy.SingleRate:
		return meter.NewSingleRate(m.Rate, m.Burst, m.Second, m.Aware)
	case policy.TwoRate:
		return meter.NewTwoRate(m.Peak, m.Second, m.Rate, m.Burst, m.Aware)
	case policy.TwoRateExcess:
		return meter.NewTwoRateExcess(m.Rate, m.Burst, max(m.Peak-m.Rate, unit.MinRate), m.Second, m.Aware)
	}
	return meter.New(m.Rate, m.Burst, m.Aware)
}

// Bound returns the rate that the policer lets pass for good, and whether there is
// one: there is none when it drops nothing, or is in force only sometimes.
func (m *Meter) Bound() (unit.Rate, bool) {
	switch {
	case m.When != nil || !m.Actions[meter.Red].Drop:
		return 0, false
	case m.Peak > 0 && !m.Actions[meter.Yellow].Drop:
		return m.Peak, true
	}
	return m.Rate, true
}

// bounds reports whether the policer bounds an entry to a rate.
func (m *Meter) bounds(to unit.Rate) bool {
	rate, ok := m.Bound()
	return ok && rate == to
}

// Fills returns how long the policer's buckets take to fill.
func (m *Meter) Fills() time.Duration {
	slowest := max(m.Rate, unit.MinRate).Time(m.Burst + 1)
	if m.Second > 0 {
		second := m.Rate
		switch m.Kind {
		case policy.TwoRate:
			second = m.Peak
		case policy.TwoRateExcess:
			second = m.Peak - m.Rate
		case policy.SingleRate: // it fills when the first is full
			return slowest + max(second, unit.MinRate).Time(m.Second)
		}
		slowest = max(slowest, max(second, unit.MinRate).Time(m.Second))
	}
	return slowest
}

// A Queue is how much may wait, and what is dropped.
type Queue struct {
	Drop    policy.Dropper
	Bytes   unit.Size // 0: the limit is in packets
	Packets int       // 0: the limit is in bytes
	ECN     bool
	Rate    unit.Rate // at which it is emptied when everybody wants everything
	RED     RED       // of a RED queue
}

// RED is the numbers of a RED queue. From and To are bytes, or packets where the limit is in packets; 0: what is usual.
type RED struct {
	From, To, Probability, Weight float64
}

// DefaultQueueTime is how much may wait in a queue whose limit the policy does
// not give, at the rate promised to it: 100 ms, a common depth.
const DefaultQueueTime = 100 * time.Millisecond

// MinPackets is the least number of full packets that a limit in time comes to,
// so that a class that is promised little can still send a window at a time.
const MinPackets = 10

// limit returns a queue's limit in bytes, or 0 when it is in packets.
func limit(q *policy.Queue, rate unit.Rate, maxPacket unit.Size) unit.Size {
	switch {
	case q.Packets > 0:
		return 0
	case q.Bytes > 0:
		return q.Bytes
	}
	t := q.Time
	if t == 0 {
		t = DefaultQueueTime
	}
	return max(rate.Bytes(t), MinPackets*maxPacket)
}

// FIFO returns the limit in bytes of a plain queue at a rate, as a policy that says
// nothing has it.
func FIFO(rate unit.Rate, framing packet.Framing) unit.Size {
	return limit(&policy.Queue{}, rate, FullPacket(framing))
}

// FullPacket returns the size of a full IP packet of 1500 bytes in a framing.
func FullPacket(framing packet.Framing) unit.Size { return unit.Size(framing.Size(fullPacket, 0)) }

// fullPacket is the length of a full IP packet.
const fullPacket = 1500

// A Problem is a reason why a policy cannot be kept at an interface.
type Problem struct {
	At   policy.Place
	Text string // to go before " at INTERFACE"
	Help string
}

// Attached returns the plan of an attachment.
func Attached(a *policy.Attachment) *Plan {
	p := &Plan{Policy: a.Policy, Interface: a.Interface, Direction: a.Direction, Framing: a.Interface.Framing,
		Rate: a.Interface.Rate, Carries: a.Interface.Carries(a.Direction)}
	p.resolve(a.Interface.Node)
	return p
}

// New returns the plan of a policy at a rate, for an interface that is not part of
// a network.
func New(pol *policy.Policy, rate unit.Rate, framing packet.Framing) *Plan {
	p := &Plan{Policy: pol, Direction: policy.Out, Framing: framing, Rate: rate, Carries: rate}
	p.resolve(nil)
	return p
}

// Kept reports whether the policy keeps what it promises: packets wait in its own
// queues, not in those of a carrier or of the sender.
func (p *Plan) Kept() bool { return p.NotKept().IsZero() }

// limitsFit reports whether the upper limits of all entries together are within what the link carries, so that no queue
// builds at the carrier.
func (p *Plan) limitsFit() bool {
	sum := unit.Rate(0)
	for _, e := range p.Top {
		if e.Block {
			continue
		}
		if !e.Bounded || e.Each != 0 || len(e.Whens()) > 0 || e.AtMost != nil && e.AtMost.Peak > e.AtMost.Rate {
			return false
		}
		sum += e.Ceiling
	}
	framing := p.Interface.Link.Ends[p.Interface.End].Counts()
	return sum <= p.Carries && framing == p.Framing
}

// NotKept returns why the policy does not keep what it promises; nothing where it does.
func (p *Plan) NotKept() words.Fact {
	var slower bool
	if p.Interface != nil && p.Interface.Link != nil {
		_, _, slower = p.Interface.Link.Ends[p.Interface.End].Carrier()
	}
	switch {
	case p.contract() != nil:
		return p.ExceedsRate()
	case p.Shape > p.Carries:
		return words.ShapeOverLink.With(p.Shape, p.Carries)
	case p.Shape > 0:
		return words.Fact{}
	case p.Direction == policy.In:
		return words.NoShapeIn.With()
	case slower && !p.limitsFit():
		return words.NoShapeOut.With(p.Carries, p.Rate)
	}
	return words.Fact{}
}

// contract returns what was bought for what the policy sends, or nil.
func (p *Plan) contract() []policy.ContractLine {
	if p.Direction != policy.Out || p.Interface == nil || p.Interface.Link == nil {
		return nil
	}
	return p.Interface.Link.Ends[p.Interface.End].Contract
}

// ExceedsRate returns by what the policy may send more for good than was bought; nothing where it does not, or nothing was.
func (p *Plan) ExceedsRate() words.Fact {
	if p.contract() == nil {
		return words.Fact{}
	}
	switch bought := p.Interface.Link.Ends[p.Interface.End].Bought(); {
	case p.Shape == 0 && p.Rate > bought && !p.limitsFit():
		return words.NoShapeBought.With(p.Policy.Name, p.Rate, bought)
	case p.Shape > bought:
		return words.ShapeOverBought.With(p.Shape, bought)
	}
	return words.Fact{}
}

// ExceedsBurst returns by what the policy may send more at once than was bought; nothing where it does not, or nothing was. Its burst B leaves at the rate L
// of the interface: a contract of the rate R needs a burst of B·(1-R/L) for it.
func (p *Plan) ExceedsBurst() words.Fact {
	lines := p.contract()
	if lines == nil || p.Shape == 0 || p.Burst == 0 {
		return words.Fact{}
	}
	bought, room := p.Interface.Link.Ends[p.Interface.End].Bought(), lines[len(lines)-1].Police.Burst
	need := unit.Size(float64(p.Burst) * (1 - float64(min(bought, p.Rate))/float64(p.Rate)))
	if need <= room {
		return words.Fact{}
	}
	return words.BurstOverBought.With(p.Burst, p.Rate, need, room)
}

// Exceeds returns by what the policy may send more than was bought: a rate, a burst, or bytes that only the carrier counts; nothing where it does not.
func (p *Plan) Exceeds() words.Fact {
	if why := p.ExceedsRate(); !why.IsZero() {
		return why
	}
	if why := p.ExceedsBurst(); !why.IsZero() {
		return why
	}
	if p.contract() != nil {
		if end := &p.Interface.Link.Ends[p.Interface.End]; p.Shape > 0 && end.Counts() != p.Framing {
			return words.ShapeFraming.With(p.Shape, p.Framing.Name, end.Bought(), end.Counts().Name, policy.Place{})
		}
	}
	return words.Fact{}
}

// Where returns "NODE/INTERFACE out", or "" for a plan at no interface.
func (p *Plan) Where() string {
	if p.Interface == nil {
		return ""
	}
	return p.Interface.Path() + " " + p.Direction.String()
}

// Leaf reports whether nothing is within the entry.
func (e *Entry) Leaf() bool { return len(e.Inner) == 0 }

// Together reports whether Promise is that of all instances of the entry.
func (e *Entry) Together() bool { return e.Each != 0 && e.Priority == 0 }

// Chain returns an entry and those around it, the outermost first.
func (e *Entry) Chain() []*Entry {
	var out []*Entry
	for ; e != nil; e = e.Parent {
		out = append(out, e)
	}
	slices.Reverse(out)
	return out
}

// Inside returns the rate that is shared within the entry, or within one instance.
func (e *Entry) Inside() unit.Rate {
	if e.Each != 0 {
		return e.Ceiling
	}
	return e.Part
}

// IsWithin reports whether the entry is within another, at any depth.
func (e *Entry) IsWithin(outer *Entry) bool {
	for o := e.Parent; o != nil; o = o.Parent {
		if o == outer {
			return true
		}
	}
	return false
}

// Instances returns the nearest entry with instances around this one, or nil.
func (e *Entry) Instances() *Entry {
	for o := e.Parent; o != nil; o = o.Parent {
		if o.Each != 0 {
			return o
		}
	}
	return nil
}
