package plan

import (
	"fmt"
	"net/netip"

	"imbrel.example/imbrel/core/meter"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
)

// resolve computes the plan at a node, or at none.
func (p *Plan) resolve(at *policy.Node) {
	p.MaxPacket = unit.Size(p.Framing.Size(fullPacket, 0))
	p.Whole = min(p.Rate, p.Carries)
	if !p.Policy.Shape.IsZero() {
		p.Shape = min(p.Policy.Shape.Of(p.Carries), p.Rate)
		p.Whole = min(p.Whole, p.Shape)
	}
	r := &resolver{plan: p, classes: make(map[*policy.Class]*policy.Class)}
	if p.Burst = p.Policy.Burst.Of(p.Shape); p.Burst > 0 && p.Burst < p.MaxPacket {
		r.problem(p.Policy.PlaceOf("shape"), "leave `burst` out, or let it hold a packet", "the burst of %s holds no full packet of %s", p.Burst, p.MaxPacket)
	}
	if at != nil {
		r.here = at.Subnets()
	}
	p.Top = r.level(nil, p.Policy.Treat, p.Policy.Source, p.Whole, p.Whole)
}

// A resolver computes the entries of a plan, level by level.
type resolver struct {
	plan    *Plan
	here    []netip.Prefix
	classes map[*policy.Class]*policy.Class // as they are at this node
}

func (r *resolver) problem(at policy.Place, help, format string, args ...any) {
	r.plan.Problems = append(r.plan.Problems, Problem{At: at, Text: fmt.Sprintf(format, args...), Help: help})
}

// class returns a class as it is at this node.
func (r *resolver) class(c *policy.Class) *policy.Class {
	if c == nil || !c.UsesHere() {
		return c
	}
	if known := r.classes[c]; known != nil {
		return known
	}
	if len(r.here) == 0 {
		r.problem(c.PlaceOf("name"), "give an interface of the node `subnets`, or name the addresses", "the class `%s` uses `here`, and the node has no subnets", c.Name)
	}
	r.classes[c] = c.At(r.here)
	return r.classes[c]
}

// level computes the entries of one level, which share whole and never exceed
// ceiling.
func (r *resolver) level(parent *Entry, specs []policy.Entry, at policy.Source, whole, ceiling unit.Rate) []*Entry {
	entries := make([]*Entry, 0, len(specs)+1)
	hasRest := false
	for i := range specs {
		entries = append(entries, r.entry(parent, &specs[i], whole, ceiling))
		hasRest = i == len(specs)-1 && specs[i].Class == nil && specs[i].When == nil
	}
	if !hasRest {
		rest := &policy.Entry{Source: policy.Source{At: at.At}, ClassName: policy.Ref{Text: policy.Rest, At: at.At}}
		entries = append(entries, r.entry(parent, rest, whole, ceiling))
	}
	r.promises(entries, whole, ceiling)
	for _, e := range entries {
		e.Number = len(r.plan.Entries)
		r.plan.Entries = append(r.plan.Entries, e)
		if inner := e.Spec.Inner(); len(inner) > 0 {
			e.Inner = r.level(e, inner, e.Spec.Source, e.Inside(), e.Ceiling)
			continue
		}
		rate := e.Part
		if e.Each != 0 && e.Ceiling < ceiling {
			rate = e.Ceiling
		}
		q := &e.Spec.Queue
		e.Queue = Queue{Drop: q.Drop, Bytes: limit(q, rate, r.plan.MaxPacket), Packets: q.Packets, ECN: q.ECN, Rate: rate}
		r.red(e, e.Spec)
	}
	return entries
}

// entry computes the limits of an entry.
func (r *resolver) entry(parent *Entry, spec *policy.Entry, whole, ceiling unit.Rate) *Entry {
	e := &Entry{Spec: spec, Name: spec.ClassName.Text, Class: r.class(spec.Class), Parent: parent, Ceiling: ceiling,
		Priority: spec.Priority, Each: spec.Each, Block: spec.Block && spec.BlockWhen == nil, AtLeast: spec.AtLeast.Of(whole)}
	if e.When = r.when(spec.When); spec.Block {
		e.BlockWhen = r.when(spec.BlockWhen)
	}
	if parent != nil {
		e.Name = parent.Name + "/" + e.Name
		if e.Policed = parent.Policed; parent.Meter != nil {
			if _, drops := parent.Meter.Bound(); drops {
				e.Policed = parent
			}
		}
	}
	of := ceiling // what a percentage of a limit is of
	if spec.Priority > 0 {
		of = whole
	}
	bound := func(rate unit.Rate) { e.Ceiling, e.Bounded = min(e.Ceiling, rate), true }
	if c := spec.AtMost; c != nil {
		m := &AtMost{Rate: r.rate(c.Rate, of, spec, "at-most"), When: r.when(c.When), Credit: 2 * r.plan.MaxPacket}
		if b := c.Burst; b != nil {
			m.Peak = r.rate(b.To, of, spec, "at-most")
			if m.Peak < m.Rate {
				r.problem(spec.PlaceOf("at-most"), "let the burst reach further than the ceiling", "a burst to %s is below at-most %s", share(b.To, of), share(c.Rate, of))
			}
			m.Credit += max(m.Peak-m.Rate, 0).Bytes(b.For)
		}
		if e.AtMost = m; m.When == nil {
			bound(m.Rate)
		}
	}
	if p := spec.Police; p != nil {
		e.Meter = r.meter(spec, p, of)
		if rate, ok := e.Meter.Bound(); ok {
			bound(rate)
		}
	}
	if e.AtLeast > e.Ceiling && e.Each == 0 && e.Bounded {
		what, help := "what there is to share, ", "promise less"
		if parent != nil {
			what = fmt.Sprintf("the upper limit of `%s` around it, ", parent.Name)
		}
		if m := e.AtMost; m != nil && m.When == nil && m.Rate == e.Ceiling {
			what, help = "its at-most ", "raise the limit or lower the promise"
		} else if m := e.Meter; m != nil && m.bounds(e.Ceiling) {
			what, help = "its policer's ", "raise the limit or lower the promise"
		}
		r.problem(spec.PlaceOf("at-least"), help, "at-least %s is above %s%s", share(spec.AtLeast, whole), what, e.Ceiling)
	}
	return e
}

// when resolves a `when`, and checks that a pressure comes to rest.
func (r *resolver) when(w *policy.When) *When {
	if w == nil {
		return nil
	}
	out := &When{Spec: w, Time: w.Time}
	if w.Time != nil || w.TimeName.Text != "" {
		return out
	}
	whole := r.plan.Whole
	out.Starts, out.Ends = Threshold{w.Starts.Load.Of(whole), w.Starts.For}, Threshold{w.Ends.Load.Of(whole), w.Ends.For}
	if out.Ends.Load > out.Starts.Load {
		r.problem(w.PlaceOf("ends"), "end below the load at which it starts", "it would end at %s and start at %s, and never come to rest", share(w.Ends.Load, whole), share(w.Starts.Load, whole))
	}
	return out
}

// rate returns what a limit comes to, at least the least rate there is.
func (r *resolver) rate(s unit.Share, of unit.Rate, spec *policy.Entry, key string) unit.Rate {
	rate := s.Of(of)
	if rate < unit.MinRate {
		r.problem(spec.PlaceOf(key), "promise more to the entry around it, or give a rate", "`%s` %s of `%s` is of %s and comes to less than %s", key, s, spec.ClassName.Text, of, unit.MinRate)
	}
	return max(rate, unit.MinRate)
}

// meter computes a policer.
func (r *resolver) meter(spec *policy.Entry, p *policy.Police, of unit.Rate) *Meter {
	m := metered(p)
	m.When = r.when(p.When)
	if p.Calls > 0 {
		size := r.plan.Framing.Size(p.Codec.Length(p.IPv6), 0)
		m.Rate, m.Burst = p.Codec.Rate(p.Calls*size), unit.Size(2*p.Calls*size)
	} else {
		m.Rate = r.rate(p.Rate, of, spec, "police")
	}
	if m.Kind == policy.TwoRate || m.Kind == policy.TwoRateExcess {
		if m.Peak = r.rate(p.Peak, of, spec, "police"); m.Peak < m.Rate {
			r.problem(p.PlaceOf("peak"), "raise the peak", "the peak %s is below the rate %s", share(p.Peak, of), m.Rate)
		}
	}
	return m
}

// metered returns what of a policer is no part of anything.
func metered(p *policy.Police) *Meter {
	m := &Meter{Kind: p.Kind(), Burst: p.Burst, Second: p.Excess, Aware: p.Aware, Actions: [3]policy.Action{meter.Green: p.Green, meter.Yellow: p.Yellow, meter.Red: p.Red}}
	if m.Kind == policy.TwoRate {
		m.Second = p.PeakBurst
	}
	return m
}

// MeterOf returns the meter of a line of a contract.
func MeterOf(c *policy.ContractLine) *Meter {
	m := metered(&c.Police)
	m.Rate, m.Peak = c.Rate.Rate, c.Peak.Rate
	return m
}

// Credit returns how many bytes beyond a packet the shape lets leave at once, so that Burst leaves at the rate of the interface:
// meanwhile the shape passes its part, and the last packet begins while there is still room for it.
func (p *Plan) Credit() unit.Size {
	if p.Burst <= p.MaxPacket || p.Shape >= p.Rate {
		return 0
	}
	return unit.Size(float64(p.Burst-p.MaxPacket) * (1 - float64(p.Shape)/float64(p.Rate)))
}

// share prints a share with what it comes to: "30% (3.42Mbit/s)".
func share(s unit.Share, of unit.Rate) string {
	if s.Rate > 0 {
		return s.Rate.String()
	}
	return fmt.Sprintf("%s (%s)", s, s.Of(of))
}

// red gives a RED queue its numbers, in the unit of its limit.
func (r *resolver) red(e *Entry, spec *policy.Entry) {
	q := &spec.Queue
	e.Queue.RED = RED{Probability: q.RED.Probability, Weight: q.RED.Weight}
	most := float64(e.Queue.Bytes)
	if e.Queue.Packets > 0 {
		most = float64(e.Queue.Packets)
	}
	for _, k := range []struct {
		key   string
		given *policy.Queue
		value *float64
	}{{"from", q.RED.From, &e.Queue.RED.From}, {"to", q.RED.To, &e.Queue.RED.To}} {
		switch g := k.given; {
		case g == nil:
		case (g.Packets > 0) != (e.Queue.Packets > 0):
			r.problem(q.PlaceOf(k.key), "write both as packets, or both as times or sizes", "the queue's `%s` and its `limit` are not of one kind", k.key)
		case g.Packets > 0:
			*k.value = float64(g.Packets)
		case g.Time > 0:
			*k.value = float64(e.Queue.Rate.Bytes(g.Time))
		default:
			*k.value = float64(g.Bytes)
		}
		if *k.value > most {
			r.problem(q.PlaceOf(k.key), "lower it, or raise the limit", "the queue's `%s` is above its limit", k.key)
		}
	}
	if red := &e.Queue.RED; red.To > 0 && red.From >= red.To {
		r.problem(q.PlaceOf("to"), "let `from` be below `to`", "the queue drops from %s on, which is not below %s", number(red.From), number(red.To))
	}
}

func number(v float64) string { return fmt.Sprintf("%.6g", v) }
