// Package explain follows a packet through the network hop by hop: which entry
// of each policy takes it and why, how it is marked when it leaves, what it is
// promised there, and what of it a tunnel hides.
package explain

import (
	"fmt"
	"strings"
	"time"

	"imbrel/core/classify"
	"imbrel/core/codepoint"
	"imbrel/core/datapath"
	"imbrel/core/packet"
	"imbrel/core/policy"
	"imbrel/core/recognise"
	"imbrel/core/route"
)

// A Question is a packet to follow.
type Question struct {
	Flow       packet.Flow
	DSCP       codepoint.DSCP
	PCP        *uint8  // of the tag it arrives with
	VLAN       *uint16 // of the tag it arrives with
	Length     int
	ServerName string            // what the recogniser would know of its flow
	RTP        bool              // that it looks like RTP
	Enter      *policy.Interface // nil: the one that its sender is behind
	At         time.Time         // zero: entries with a `when` are taken as in force
}

// Marks are the markings that can be seen of a packet on a link.
type Marks struct {
	DSCP string `json:"dscp"` // of the outermost IP header
	PCP  *uint8 `json:"pcp"`
	TC   *uint8 `json:"tc"`
}

// A Try is an entry that was tried and did not take the packet.
type Try struct {
	Class      string   `json:"class"`
	Line       int      `json:"line"`
	Reason     string   `json:"reason"`               // the first condition that failed, of the last alternative
	Conditions []string `json:"conditions,omitempty"` // every alternative and what failed of it
}

// A Step is one interface in one direction.
type Step struct {
	Node      string   `json:"node"`
	Interface string   `json:"interface"`
	Direction string   `json:"direction"`
	Policy    string   `json:"policy,omitempty"`
	Class     string   `json:"class,omitempty"` // with those around it: "sales/voice"
	File      string   `json:"file,omitempty"`
	Line      int      `json:"line,omitempty"`
	Because   string   `json:"because,omitempty"`
	Tried     []Try    `json:"tried,omitempty"`
	MarksIn   Marks    `json:"marks_in"`
	MarksOut  Marks    `json:"marks_out"`
	Labels    []uint8  `json:"labels"` // the traffic classes of the label stack when it leaves, topmost first
	Tunnel    string   `json:"tunnel,omitempty"`
	Outer     string   `json:"outer,omitempty"` // the outer IP header when it leaves
	Meter     string   `json:"meter,omitempty"`
	Queue     string   `json:"queue,omitempty"`
	Priority  int      `json:"priority,omitempty"`
	Promise   int64    `json:"promised_bps,omitempty"`
	Blocked   bool     `json:"blocked,omitempty"`
	Notes     []string `json:"notes,omitempty"`

	in, out codepoint.DSCP
	onLink  bool // leaves by a link, where it may have to wait
	rest    bool
}

// An Answer is the packet's way.
type Answer struct {
	Hops    []Step `json:"hops"`
	Arrives *Marks `json:"arrives"` // nil: it is blocked on the way
	Summary string `json:"summary"`
}

// A Follower follows packets through the network of a file.
type Follower struct {
	file     *policy.File
	table    *route.Table
	levels   map[*policy.Entry]*level // of each entry with entries within
	policies map[*policy.Policy]*level
	promises map[attachment][]*datapath.Promise
}

type attachment struct {
	policy *policy.Policy
	at     *policy.Interface
}

// A level is the entries of one level with their matcher.
type level struct {
	entries []policy.Entry
	matcher *classify.Matcher
}

// New returns a follower for a file.
func New(f *policy.File) *Follower {
	return &Follower{file: f, table: route.New(f), levels: make(map[*policy.Entry]*level), policies: make(map[*policy.Policy]*level),
		promises: make(map[attachment][]*datapath.Promise)}
}

// Table returns the ways of the file's network.
func (f *Follower) Table() *route.Table { return f.table }

// Ask follows one packet. An error is about the question.
func (f *Follower) Ask(q Question) (*Answer, error) {
	from, to := q.Enter, f.table.Where(q.Flow.To)
	if from == nil {
		from = f.table.Where(q.Flow.From)
	}
	switch {
	case from == nil:
		return nil, fmt.Errorf("the sender %s is in no subnet of the network: add its subnet to an interface's `subnets`, or say where the packet enters", q.Flow.From)
	case to == nil:
		return nil, fmt.Errorf("the receiver %s is in no subnet of the network: add its subnet to an interface's `subnets`", q.Flow.To)
	case from != nil && to != nil && from == to:
		return nil, f.table.Check(from, to)
	}
	way, err := f.table.Way(from, to)
	if err != nil {
		return nil, err
	}
	c := &carried{detail: true, at: q.At}
	c.inner.Build(make([]byte, packet.HeaderRoom), q.Flow, q.DSCP, q.Length, 0)
	if q.PCP != nil || q.VLAN != nil {
		c.tagged = true
		if q.PCP != nil {
			c.pcp = *q.PCP
		}
		if q.VLAN != nil {
			c.vlan = *q.VLAN
		}
	}
	c.apps = appsOf(f.file, q.ServerName, q.RTP)
	a := &Answer{Hops: f.follow(c, way)}
	if !c.blocked {
		m := c.marks()
		m.DSCP = c.inner.DSCP().Name()
		a.Arrives = &m
	}
	a.Summary = summarise(a)
	return a, nil
}

// appsOf returns the applications that are recognised by a server name, or by
// looking like RTP.
func appsOf(f *policy.File, name string, rtp bool) []uint64 {
	var bits []uint64
	for i := range f.Apps {
		app := &f.Apps[i]
		if name != "" && recognise.NameMatches(app.ServerNames, strings.ToLower(name)) || rtp && app.LooksLike == "rtp" {
			if bits == nil {
				bits = make([]uint64, (len(f.Apps)+63)/64)
			}
			bits[i/64] |= 1 << (i % 64)
		}
	}
	return bits
}

// follow takes a packet along its way and returns a step for each interface in
// each direction.
func (f *Follower) follow(c *carried, way []route.Hop) []Step {
	var steps []Step
	var before *policy.Tunnel
	for i := range way {
		h := &way[i]
		after := h.Tunnel
		ends := before != nil && before != after
		c.switched = before != nil && !ends && before.Kind == "mpls"
		c.in = int32(h.In.Number)
		steps = append(steps, f.cross(c, h.In, policy.In))
		if c.blocked {
			return steps
		}
		if ends && before.Model != "pipe" {
			c.unwrap(before)
		}
		if c.captured {
			c.labels, c.captured = nil, false
		}
		begins := after != nil && after != before
		if begins {
			c.begin = after
		}
		step := f.cross(c, h.Out, policy.Out)
		step.onLink = i < len(way)-1
		if c.blocked {
			return append(steps, step)
		}
		if ends && before.Model == "pipe" {
			c.unwrap(before)
		}
		popped := false
		if begins {
			c.wrap(after, h.Out.Node != after.Through[0])
		}
		if after != nil && after.Kind == "mpls" && after.Pop == "penultimate" && i+1 < len(way) && way[i+1].Tunnel != after {
			c.pop(after.Model == "uniform")
			popped = true
		}
		if ends || begins || popped {
			step.MarksOut = c.marks()
			if begins && c.tagged && !c.pcpMarked {
				step.MarksOut.PCP = &c.pcp
			}
		}
		step.Labels = c.stack()
		if after != nil {
			step.Tunnel = after.Name
		}
		step.Outer = c.outerHeader()
		steps = append(steps, step)
		before = after
	}
	return steps
}

// cross takes the packet through what stands at an interface in one direction.
func (f *Follower) cross(c *carried, at *policy.Interface, d policy.Direction) Step {
	s := Step{Node: at.Node.Name, Interface: at.Name, Direction: d.String(), Labels: c.stack()}
	if d == policy.Out { // the frame is made anew for this link
		c.tagged, c.vlan = at.Framing.HasVLAN(), 0
		c.pcp = c.defaultPCP()
	}
	c.pcpMarked = false
	s.MarksIn = c.marks()
	s.in = c.visibleDSCP()
	if p := f.file.Attached(at, d); p != nil {
		s.Policy = p.Name
		f.treat(c, &s, p, at, d)
	}
	if d == policy.Out && c.tagged && !c.pcpMarked {
		c.pcp = c.defaultPCP()
	}
	s.MarksOut = c.marks()
	s.out = c.visibleDSCP()
	return s
}

// level returns the compiled entries of a policy.
func (f *Follower) policyLevel(p *policy.Policy) *level {
	l := f.policies[p]
	if l == nil {
		l = newLevel(datapath.WithRest(p))
		f.policies[p] = l
	}
	return l
}

func (f *Follower) innerLevel(e *policy.Entry) *level {
	l := f.levels[e]
	if l == nil {
		l = newLevel(e.Inner())
		f.levels[e] = l
	}
	return l
}

func newLevel(entries []policy.Entry) *level {
	return &level{entries, classify.Compile(classify.Of(entries))}
}

// match returns the entry of a level that takes the packet, or nil.
func (l *level) match(p *packet.Packet, at time.Time) *policy.Entry {
	i := l.matcher.Match(p)
	if i < 0 {
		return nil
	}
	if e := &l.entries[i]; there(e, at) {
		return e
	}
	for i++; i < len(l.entries); i++ { // what is not there now leaves its packets to the others
		e := &l.entries[i]
		if there(e, at) && (e.Class == nil || classify.Holds(e.Class, p)) {
			return e
		}
	}
	return nil
}

// there reports whether an entry is in force at a time; when that is not known,
// it is taken to be.
func there(e *policy.Entry, at time.Time) bool {
	return e.When == nil || e.When.Time == nil || at.IsZero() || e.When.Time.Holds(at)
}

// treat lets a policy classify and mark the packet.
func (f *Follower) treat(c *carried, s *Step, p *policy.Policy, at *policy.Interface, d policy.Direction) {
	pkt := c.frame()
	if c.detail { // marking rewrites pkt; keep what was seen
		c.seen = c.frame()
	}
	l := f.policyLevel(p)
	var names []string
	var taken []*policy.Entry
	for l != nil {
		e := l.match(pkt, c.at)
		if c.detail {
			s.Tried = append(s.Tried, tried(l, e, pkt, c.at)...)
		}
		if e == nil {
			names = append(names, policy.Rest)
			break
		}
		names = append(names, e.ClassName.Text)
		taken = append(taken, e)
		if len(e.Inner()) == 0 || len(taken) > 100 {
			break
		}
		l = f.innerLevel(e)
	}
	s.Class = strings.Join(names, "/")
	if len(taken) == 0 {
		return
	}
	last := taken[len(taken)-1]
	s.rest = taken[0].Class == nil
	s.Line, s.File = last.At.Line, last.At.File
	for _, e := range taken {
		if e.Block {
			c.blocked, s.Blocked = true, true
			return
		}
		if e.Mark != nil {
			datapath.Mark(e.Mark, pkt)
			if e.Mark.PCP != nil && pkt.Tagged {
				c.pcpMarked = true
			}
			if c.begin != nil && c.begin.Kind == "mpls" && d == policy.Out {
				c.topTC = e.Mark.TC // of the label that is about to be pushed
			}
		}
		if e.Priority > 0 && s.Priority == 0 {
			s.Priority = e.Priority
		}
	}
	c.take(pkt)
	if c.detail {
		f.detail(s, taken, pkt, p, at, d, c)
	}
}
