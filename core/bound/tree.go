package bound

import (
	"slices"
	"time"

	"imbrel.example/imbrel/core/meter"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/words"
)

// A service is what a queue is sure to get, and what its wait is made of.
type service struct {
	Service               // from when something begins to wait
	any     time.Duration // the wait from any moment at which something waits
	urgent  time.Duration // of the wait: for more urgent packets, or others
	packet  time.Duration // of the wait: for one packet that had begun
	limit   time.Duration // of the wait: for an upper limit
	by      *plan.Entry   // of the more urgent, the one that takes most; nil: none
	strict  bool          // it holds at any moment, and so for a queue that is full
}

// A tree is the queues of a station's policy, with what comes into them.
type tree struct {
	*station
	at     map[*plan.Entry]Curve // what comes into an entry, after its policer
	num    int64                 // of a policy whose shape follows its link, the part of each promise that is left
	den    int64
	packet int64      // bits of a full packet, by which the scheduler's bounds are
	why    words.Fact // why an entry may get nothing
}

// newTree prepares the tree of a station whose queues know what comes.
func newTree(s *station) *tree {
	t := &tree{station: s, at: make(map[*plan.Entry]Curve), num: 1, den: 1, packet: bitsOf(s.plan.MaxPacket)}
	if whole := int64(s.plan.Whole); s.plan.Policy.Follows && s.rate < whole {
		t.num, t.den = s.rate, whole
	}
	for i := len(s.plan.Entries) - 1; i >= 0; i-- { // what is within an entry before it
		e := s.plan.Entries[i]
		if e.Block {
			t.at[e] = Nothing()
			continue
		}
		if e.Leaf() {
			if q := s.queues[e]; q != nil {
				t.at[e] = q.arrivals
			} else {
				t.at[e] = Nothing()
			}
			continue
		}
		sum := Nothing()
		for _, o := range e.Inner {
			sum = sum.Add(t.at[o])
		}
		t.at[e] = sum.Min(policed(e)...)
	}
	return t
}

// policed returns what the policer of an entry lets pass, for all of its packets together; nothing where it drops none for certain.
func policed(e *plan.Entry) Curve {
	m := e.Meter
	if m == nil || e.Each != 0 || e.Instances() != nil {
		return nil
	}
	return bucketOf(m)
}

// bucketOf returns what a policer lets pass (RFC 2697, 2698, 4115).
func bucketOf(m *plan.Meter) Curve {
	if _, ok := m.Bound(); !ok {
		return nil
	}
	rate, burst := m.Rate, m.Burst
	if !m.Actions[meter.Yellow].Drop {
		switch m.Kind {
		case policy.SingleRate:
			burst += m.Second
		case policy.TwoRate:
			rate, burst = m.Peak, m.Second
		case policy.TwoRateExcess:
			rate, burst = m.Rate+max(m.Peak-m.Rate, unit.MinRate), m.Burst+m.Second
		}
	}
	return Curve{{bitsOf(burst) + 1, int64(rate)}}
}

// ceiling returns what leaves an entry with an upper limit: nothing where it has none.
func (t *tree) ceiling(e *plan.Entry) Curve {
	m := e.AtMost
	if m == nil || m.When != nil || e.Each != 0 || e.Instances() != nil {
		return nil
	}
	return Curve{{bitsOf(m.Credit) + t.maxPacket + 1, int64(m.Rate)}}
}

// sends returns what an entry can send in any time.
func (t *tree) sends(e *plan.Entry) Curve { return t.at[e].Min(t.ceiling(e)...) }

// part returns the rate at which the scheduler serves an entry for certain, beside those with priority.
func (t *tree) part(e *plan.Entry) int64 {
	if t.num == t.den {
		return int64(e.Part)
	}
	return int64(wide(int64(e.Part), t.num).over(t.den)) - 1
}

// services returns what a queue is sure to get, in several ways of which each holds, and what comes to all that shares it; where
// there is none, the reason.
func (t *tree) services(e *plan.Entry) (out []service, comes Curve, why words.Fact) {
	if t.rate == 0 { // what comes in waits for upper limits alone
		out = []service{{Service: Service{Rate: Endless}, strict: true}}
		for _, o := range e.Chain() {
			out = t.limited(out, o)
		}
		return out, t.at[e], words.Fact{}
	}
	t.why = words.Fact{}
	around := []service{{Service: Service{Rate: t.rate}, any: 0, strict: true}}
	siblings := t.plan.Top
	for depth, o := range e.Chain() {
		around = t.level(around, siblings, o, depth > 0)
		if o.Each != 0 { // its instances share what it gets as they like
			for _, i := range t.plan.Entries {
				if (i == o || i.IsWithin(o)) && i.AtMost != nil {
					return nil, nil, words.UnboundEach.With(words.Quote(o.Name), t.name(), o.Each)
				}
			}
			return t.orRest(around, o), t.at[o], words.Fact{}
		}
		siblings = o.Inner
	}
	out = t.orRest(around, e)
	if len(out) == 0 {
		return nil, nil, t.why
	}
	return out, t.at[e], words.Fact{}
}

// level returns what an entry gets of what is around it.
func (t *tree) level(around []service, siblings []*plan.Entry, e *plan.Entry, inner bool) []service {
	urgent, most, burst := Nothing(), (*plan.Entry)(nil), int64(0)
	promised := int64(0)
	classes := make(map[string]int64)
	for _, o := range siblings {
		if o.Block {
			continue
		}
		if o.Priority == 0 {
			n := classes[o.Name]
			classes[o.Name] = max(n, t.part(o))
			promised += classes[o.Name] - n
		}
		if o == e || o.Priority == 0 || e.Priority > 0 && o.Priority > e.Priority {
			continue
		}
		c := t.sends(o)
		if n := c.atMost(); most == nil || n > burst {
			most, burst = o, n
		}
		urgent = urgent.Add(c)
	}
	var out []service
	for _, s := range around {
		if !s.strict {
			continue
		}
		from := Service{s.Rate, s.any}
		packet := t.committed()
		switch {
		case inner && e.Priority > 0: // the entry around it has just sent one, which its wait counts
			packet = 0
		case inner:
			packet = t.maxPacket
		}
		for _, u := range urgent {
			left := from.Leftover(u, packet)
			if left.Rate <= 0 {
				continue
			}
			got := service{Service: left, any: left.Wait, strict: true, by: most, urgent: s.urgent + timeOf(u.Burst, left.Rate), packet: s.packet + timeOf(packet, left.Rate), limit: s.limit}
			if e.Priority == 0 {
				own := t.part(e)
				switch {
				case own <= 0:
					continue
				case left.Rate < promised:
					t.why = words.UnboundPromises.With(t.name(), unit.Rate(promised), unit.Rate(left.Rate))
					continue
				}
				// Those that are due are served by their deadlines, and miss none by more than the wait (Stoica, Zhang & Ng 1997).
				one := timeOf(t.maxPacket, own)
				if t.plan.Policy.Follows && !inner {
					// Its clock goes by what was sent, and the packet that is being sent counts as sent.
					more := timeOf(t.maxPacket, t.rate)
					left.Wait, got.Wait, got.packet = later(left.Wait, more), later(got.Wait, more), got.packet+more
				}
				got.Rate, got.any = own, later(left.Wait, one)
				if lag := t.plan.Lag(e); left.Wait > lag {
					t.why = words.UnboundStarved.With(words.Quote(e.Name), t.name(), left.Wait, lag)
					continue
				}
			}
			out = append(out, got)
		}
	}
	return best(t.limited(out, e))
}

// limited returns what of services is left within the upper limit of an entry: it sends no faster, and begins a packet late
// where the one before has not been paid for. What it could not send in its turn it makes up for by its credit.
func (t *tree) limited(all []service, e *plan.Entry) []service {
	m := e.AtMost
	if m == nil { // one that comes and goes may be in force
		return all
	}
	rate := int64(m.Rate)
	one := timeOf(t.maxPacket, rate)
	if m.Peak > 0 {
		one = later(one, timeOf(t.maxPacket, int64(m.Peak)))
	}
	var out []service
	for _, s := range all {
		own := min(s.Rate, rate)
		if credit := bitsOf(m.Credit); e.Priority > 0 || s.Rate > rate {
			if held := timeOf(credit, rate); s.any > held { // it loses what is beyond, each time after it has sent its credit
				own = min(own, int64(wide(credit, 1e9).over(max(int64(s.any), 1)))-1)
			}
		} else if full := timeOf(t.packet, own); s.any > 2*full {
			own = min(own, int64(wide(2*t.packet, 1e9).over(int64(later(full, s.any))))-1)
		}
		if own <= 0 {
			continue
		}
		s.Rate, s.Wait, s.any, s.limit = own, later(s.Wait, one), later(s.any, one), later(s.limit, one)
		out = append(out, s)
	}
	return out
}

// orRest adds what all others leave of the whole, which is sure as well where nothing holds the entry back: whoever is
// served, something is sent (Le Boudec & Thiran 2001, theorem 6.2.1).
func (t *tree) orRest(out []service, e *plan.Entry) []service {
	others, own := Nothing(), (*plan.Entry)(nil)
	for o := e; ; o = o.Parent {
		if o.AtMost != nil {
			return out
		}
		siblings := t.plan.Top
		if o.Parent != nil {
			siblings = o.Parent.Inner
		}
		sum := Nothing()
		for _, s := range siblings {
			if s != o && !s.Block {
				sum = sum.Add(t.sends(s))
			}
		}
		others = others.Add(sum)
		if own = o.Parent; own == nil {
			break
		}
	}
	for _, u := range others {
		if left := (Service{Rate: t.rate}).Leftover(u, 0); left.Rate > 0 {
			out = append(out, service{Service: left, any: Never, urgent: left.Wait})
		}
	}
	return best(out)
}

// best leaves out services that say nothing beside the others.
func best(all []service) []service {
	return slices.DeleteFunc(slices.Clone(all), func(s service) bool {
		return slices.ContainsFunc(all, func(o service) bool {
			better := o.Rate >= s.Rate && o.Wait <= s.Wait && o.any <= s.any && (o.strict || !s.strict)
			return better && (o.Rate > s.Rate || o.Wait < s.Wait || o.any < s.any)
		})
	})
}
