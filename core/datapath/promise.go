package datapath

import (
	"imbrel/core/fluid"
	"imbrel/core/policy"
	"imbrel/core/unit"
)

// WithRest returns the policy's entries with one for the rest at the end, which
// promises nothing when the policy has none of its own.
func WithRest(p *policy.Policy) []policy.Entry { return withRest(p.Treat, p.Source) }

func withRest(entries []policy.Entry, at policy.Source) []policy.Entry {
	if n := len(entries); n > 0 && entries[n-1].ClassName.Text == policy.Rest && entries[n-1].When == nil {
		return entries
	}
	rest := policy.Entry{Source: policy.Source{At: at.At}, ClassName: policy.Ref{Text: policy.Rest, At: at.At}}
	return append(entries[:len(entries):len(entries)], rest)
}

// Whole returns the rate a policy has to divide at an interface: its shape,
// never more than the interface's rate.
func Whole(p *policy.Policy, rate unit.Rate) unit.Rate {
	if p.Shape > 0 {
		return min(p.Shape, rate)
	}
	return rate
}

// weight returns an entry's part of what is left over: as given, in per cent of
// the whole by its promise, else 1; in thousandths, so that parts of a per cent
// count too.
func weight(e *policy.Entry, whole unit.Rate) int64 {
	switch {
	case e.Weight > 0:
		return int64(e.Weight) * 1000
	case e.AtLeast.Percent > 0:
		return max(1, int64(e.AtLeast.Percent)/10)
	case e.AtLeast.Rate > 0:
		return max(1, int64(e.AtLeast.Rate)*100_000/int64(whole))
	}
	return 1000
}

// A Promise is what an entry gets when all want everything, and the entries
// within it. That of an entry with instances is all of theirs, or with priority
// one's; the entries within it are those of one that gets all it may.
type Promise struct {
	Entry   *policy.Entry
	Name    string // of its class, with those around it
	Rate    unit.Rate
	AtLeast unit.Rate // of Rate, what it has by its at-least
	Ceiling unit.Rate // what it, or each of its instances, never exceeds: its own at-most or policer, or those around it
	Inner   []*Promise
	node    *fluid.Node
	bounded bool // its own at-most or policer is less than what is around it
}

// Together reports whether Rate is that of as many instances as it takes to use
// it up. Those with priority could take everything, so for them it is one's.
func (o *Promise) Together() bool { return len(o.Entry.Each) > 0 && o.Entry.Priority == 0 }

// Queue returns the rate at which a queue of the entry is emptied when all want
// everything: of an entry with instances, that of one whose limit is its own.
func (o *Promise) Queue() unit.Rate {
	if len(o.Entry.Each) > 0 && o.bounded {
		return o.Ceiling
	}
	return o.Rate
}

// Promises returns what each entry of a policy, and the rest, gets at an
// interface of the given rate when all of them want everything.
func Promises(p *policy.Policy, rate unit.Rate) []*Promise {
	return Shares(p, rate, func(string) unit.Rate { return fluid.Greedy })
}

// Shares returns what each entry gets when the entries without others within
// them want what wants says, given their names with those around them
// ("sales/voice").
func Shares(p *policy.Policy, rate unit.Rate, wants func(name string) unit.Rate) []*Promise {
	whole := Whole(p, rate)
	root := &fluid.Node{}
	promises := grow(root, WithRest(p), "", whole, whole, wants)
	fluid.Allocate(root, whole)
	settle(promises)
	return promises
}

// grow makes the fluid tree of one level. A percentage of a promise is of what
// the parent is promised, one of a ceiling of the parent's ceiling.
func grow(parent *fluid.Node, entries []policy.Entry, prefix string, promise, ceiling unit.Rate, wants func(string) unit.Rate) []*Promise {
	var out []*Promise
	for i := range entries {
		e := &entries[i]
		o := &Promise{Entry: e, Name: prefix + e.ClassName.Text, Ceiling: ceiling}
		n := &fluid.Node{Priority: e.Priority, Guarantee: e.AtLeast.Of(promise), Weight: weight(e, max(promise, 1)), Demand: wants(o.Name)}
		o.node, o.AtLeast = n, n.Guarantee
		if own := e.AtMost.Of(ceiling); own > 0 {
			o.Ceiling = min(o.Ceiling, own)
		}
		if e.Police != nil {
			o.Ceiling = min(o.Ceiling, passes(e.Police, ceiling))
		}
		if o.bounded = o.Ceiling < ceiling; o.bounded && !o.Together() {
			n.Ceiling = o.Ceiling
		}
		if e.Block {
			n.Demand, o.Ceiling = 0, 0
		} else if inner := e.Inner(); len(inner) > 0 {
			within := n
			if len(e.Each) > 0 {
				within = &fluid.Node{}
			}
			o.Inner = grow(within, withRest(inner, e.Source), o.Name+"/", o.whole(), o.Ceiling, wants)
			if len(e.Each) > 0 { // of one that gets all it may
				fluid.Allocate(within, o.Ceiling)
				n.Demand = within.Wants()
			}
		}
		parent.Children = append(parent.Children, n)
		out = append(out, o)
	}
	return out
}

// whole returns what a percentage of an at-least within the entry is of: what
// the entry is promised, or what one of its instances can get.
func (o *Promise) whole() unit.Rate {
	if o.Entry.Priority > 0 || len(o.Entry.Each) > 0 {
		return o.Ceiling
	}
	return o.AtLeast
}

// passes returns the rate that a policer lets through for good: all, when it
// drops nothing.
func passes(p *policy.Police, ceiling unit.Rate) unit.Rate {
	rate := p.Rate.Of(ceiling)
	switch {
	case !p.Red.Drop:
		return ceiling
	case p.Has("peak") && !p.Yellow.Drop:
		return min(p.Peak.Of(ceiling), ceiling)
	}
	return min(rate, ceiling)
}

func settle(promises []*Promise) {
	for _, o := range promises {
		o.Rate = o.node.Gets
		settle(o.Inner)
	}
}

// QueueLimit returns a queue's limit in bytes, or 0 when it is in packets: a
// limit in time is what passes in that time at the promised rate.
func QueueLimit(q *policy.QueueSpec, promise unit.Rate, maxPacket unit.Size) unit.Size {
	switch {
	case q.Packets > 0:
		return 0
	case q.Bytes > 0:
		return q.Bytes
	case q.Time > 0:
		return max(1, promise.Bytes(q.Time))
	}
	return max(promise.Bytes(DefaultQueueTime), leastDefaultPackets*maxPacket)
}
