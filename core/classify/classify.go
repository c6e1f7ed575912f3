// Package classify finds which entry of a policy takes a packet: the entries are
// tried in order, the first match wins, what none matches is the rest, and where
// entries are within the one that takes it, they are asked in turn.
package classify

import (
	"slices"

	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
)

// A Classifier finds the entry of a plan that takes a packet. An entry can be put
// out of force: then it is as if it were not written. Only Take and Number may be
// called from several goroutines at a time.
type Classifier struct {
	levels  []level // by the number of the entry around it plus one
	entries []*plan.Entry
	out     []bool // by the entry's number: it is out of force
}

// A level is the entries of one level.
type level struct {
	choices []choice // of the matcher: the entries in force
	matcher *Matcher
}

// A choice is an entry that takes a packet: its number, and the level within it.
type choice struct{ number, inner int32 }

// leaf is the inner of an entry with nothing within it.
const leaf = -1

// New returns the classifier of a plan, all entries in force.
func New(p *plan.Plan) *Classifier {
	c := &Classifier{levels: make([]level, len(p.Entries)+1), entries: p.Entries, out: make([]bool, len(p.Entries))}
	c.compile(nil)
	for _, e := range p.Entries {
		if !e.Leaf() {
			c.compile(e)
		}
	}
	return c
}

// compile makes the matcher of the entries in force within an entry, or at the top.
func (c *Classifier) compile(around *plan.Entry) {
	at, l := 0, level{}
	if around != nil {
		at = around.Number + 1
	}
	var classes []*policy.Class
	for _, e := range c.level(around) {
		if c.out[e.Number] {
			continue
		}
		o := choice{int32(e.Number), leaf}
		if !e.Leaf() {
			o.inner = o.number + 1
		}
		l.choices, classes = append(l.choices, o), append(classes, e.Class)
	}
	l.matcher = Compile(classes)
	c.levels[at] = l
}

// level returns the entries within an entry, or at the top.
func (c *Classifier) level(around *plan.Entry) []*plan.Entry {
	if around != nil {
		return around.Inner
	}
	var top []*plan.Entry
	for _, e := range c.entries {
		if e.Parent == nil {
			top = append(top, e)
		}
	}
	return top
}

// InForce puts entries in or out of force: force says for each that has changed.
func (c *Classifier) InForce(changed []*plan.Entry, force func(*plan.Entry) bool) {
	for _, e := range changed {
		c.out[e.Number] = !force(e)
	}
	done := make(map[*plan.Entry]bool, 1)
	for _, e := range changed {
		if !done[e.Parent] {
			done[e.Parent] = true
			c.compile(e.Parent)
		}
	}
}

// Number returns the number of the innermost entry that takes the packet.
func (c *Classifier) Number(p *packet.Packet) int32 {
	s := NewSubject(p)
	for l := &c.levels[0]; ; {
		i := l.matcher.MatchSubject(&s)
		if i < 0 { // the last takes the rest, and is always in force
			i = len(l.choices) - 1
		}
		o := l.choices[i]
		if o.inner == leaf {
			return o.number
		}
		l = &c.levels[o.inner]
	}
}

// Take returns the innermost entry that takes the packet.
func (c *Classifier) Take(p *packet.Packet) *plan.Entry { return c.entries[c.Number(p)] }

// Tried returns the entries of the level of the one that took a packet that come
// before it, in their order, whether in force or not.
func (c *Classifier) Tried(taken *plan.Entry) []*plan.Entry {
	siblings := c.level(taken.Parent)
	return siblings[:slices.Index(siblings, taken)]
}

// OutOfForce reports whether an entry is out of force.
func (c *Classifier) OutOfForce(e *plan.Entry) bool { return c.out[e.Number] }

// A Matcher finds the entry of one level that takes a packet. It is only read once
// compiled, so that any number of goroutines may use it.
type Matcher struct {
	rest  int // the first entry for the rest, or -1
	index *index
	few   []rule // in place of the index, when nothing splits them
}

// Compile returns the matcher of the classes of a level's entries, in order;
// nil is the rest.
func Compile(classes []*policy.Class) *Matcher {
	m := &Matcher{rest: slices.Index(classes, nil)}
	var rules []rule
	for i, c := range classes {
		if c == nil {
			break // nothing after the rest is ever reached
		}
		for j := range c.Match {
			rules = append(rules, newRule(i, &c.Match[j], c))
		}
	}
	if m.index = build(rules); m.index != nil {
		m.few = m.index.rules
	}
	return m
}

// Match returns the index of the entry that takes the packet, or -1 when no
// entry does and there is none for the rest.
func (m *Matcher) Match(p *packet.Packet) int {
	s := NewSubject(p)
	return m.MatchSubject(&s)
}

// MatchSubject does what Match does.
func (m *Matcher) MatchSubject(s *Subject) int {
	var i int32
	if m.few != nil {
		i = first(m.few, s, nothing)
	} else {
		i = m.index.find(s, nothing)
	}
	if i != nothing {
		return int(i)
	}
	return m.rest
}

// keys is a set of keys of a condition.
type keys uint32

func bit(k policy.Key) keys { return 1 << k }

// given returns the keys that a condition has.
func given(c *policy.Condition) keys {
	var k keys
	for i := range c.Terms {
		k |= bit(c.Terms[i].Key)
	}
	return k
}

// holds reports whether those of a condition's terms hold that are asked for.
func holds(c *policy.Condition, p *packet.Packet, asked keys) bool {
	for i := range c.Terms {
		if t := &c.Terms[i]; asked&bit(t.Key) != 0 && !t.Holds(p) {
			return false
		}
	}
	return true
}
