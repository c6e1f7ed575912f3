// Package explain follows a packet through the network hop by hop: which entry
// of each policy takes it and why, how it is marked when it leaves, what it is
// promised there, and what a tunnel hides.
package explain

import (
	"fmt"
	"strings"
	"time"

	"imbrel.example/imbrel/core/classify"
	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/datapath"
	"imbrel.example/imbrel/core/meter"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/recognise"
	"imbrel.example/imbrel/core/route"
	"imbrel.example/imbrel/core/tunnel"
	"imbrel.example/imbrel/core/words"
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
	Enter      *policy.Interface // nil: the one at which its sender is
	At         time.Time         // zero: every `when` is assumed to hold
	// MayFragment says that the packet of IPv4 may be fragmented, and AnyLength that it goes on though it is too long for a link: the Fit of a step
	// says so all the same.
	MayFragment, AnyLength bool
}

// Marks are the markings that can be seen of a packet on a link.
type Marks struct {
	DSCP string  `json:"dscp"` // of the outermost IP header
	PCP  *uint8  `json:"pcp"`  // of the outermost VLAN tag
	TC   *uint8  `json:"tc"`   // of the topmost label
	VLAN *uint16 `json:"vlan"` // of the outermost tag
}

// A Try is an entry that was tried and did not take the packet.
type Try struct {
	Class      string       `json:"class"`
	Line       int          `json:"line"`
	Reason     words.Fact   `json:"reason"`               // the first condition that failed, of the last alternative
	Conditions []words.Fact `json:"conditions,omitempty"` // every alternative and what failed
}

// A Step is one interface in one direction.
type Step struct {
	Node      string       `json:"node"`
	Interface string       `json:"interface"`
	Direction string       `json:"direction"`
	Policy    string       `json:"policy,omitempty"`
	Class     string       `json:"class,omitempty"` // with those around it: "sales/voice"
	File      string       `json:"file,omitempty"`
	Line      int          `json:"line,omitempty"`
	Because   words.Fact   `json:"because,omitzero"`
	Tried     []Try        `json:"tried,omitempty"`
	MarksIn   Marks        `json:"marks_in"`
	MarksOut  Marks        `json:"marks_out"`
	Labels    []int        `json:"labels"` // the traffic classes of the label stack when it leaves, topmost first
	Tunnel    string       `json:"tunnel,omitempty"`
	Outer     words.Fact   `json:"outer,omitzero"` // the outer IP header when it leaves
	Meter     words.Fact   `json:"meter,omitzero"`
	Queue     words.Fact   `json:"queue,omitzero"`
	Priority  int          `json:"priority,omitempty"`
	Promise   int64        `json:"promised_bps,omitempty"`
	Blocked   bool         `json:"blocked,omitempty"`
	Policed   bool         `json:"policed,omitempty"`      // dropped by a policer whose burst cannot hold it
	TooLong   *Fit         `json:"too_long,omitempty"`     // for the interface; nil: it is not
	Several   bool         `json:"several_ways,omitempty"` // of one cost lead on; flows are spread over them
	Notes     []words.Fact `json:"notes,omitempty"`

	At      *policy.Interface `json:"-"`
	Plan    *plan.Plan        `json:"-"`                 // in force here; nil: no policy
	Entry   *plan.Entry       `json:"-"`                 // that took the packet
	Remarks bool              `json:"remarks,omitempty"` // a policer here marks some packets of the flow otherwise
	Assumed bool              `json:"assumed,omitempty"` // a `when` is assumed to hold

	number  int32 // of the interface by which the packet entered the node
	in, out codepoint.DSCP
	size    int // of the packet, as the interface counts
	length  int // of the IP packet as it leaves, and its labels
	labels  int
	onLink  bool // leaves by a link, where it may have to wait
	rest    bool
}

// A Fit is what becomes of a packet that is longer than an interface sends.
type Fit struct {
	Length     int  `json:"bytes"`         // of the packet as it would leave, with labels and outer headers
	MTU        int  `json:"mtu_bytes"`     // of the interface
	Most       int  `json:"longest_bytes"` // that the packet may be, before what this node puts around it
	Fragmented bool `json:"fragmented"`    // otherwise it is dropped
}

// Comes returns the packet's DSCP before the interface.
func (s *Step) Comes() codepoint.DSCP { return s.in }

// InNumber returns the number of the interface by which the packet entered the node.
func (s *Step) InNumber() int32 { return s.number }

// Size returns how large the packet is at the interface, as that counts; 0 where there is no policy.
func (s *Step) Size() int { return s.size }

// SizeIn returns how large the packet is as it leaves the interface, in a framing.
func (s *Step) SizeIn(f packet.Framing) int { return f.Size(s.length, s.labels) }

// An Answer is the packet's route.
type Answer struct {
	Hops    []Step     `json:"hops"`
	Arrives *Marks     `json:"arrives"` // nil: it is dropped on its way
	Summary words.Fact `json:"summary"`
}

// A Follower follows packets through the network of a file. It is for one goroutine.
type Follower struct {
	file  *policy.File
	table *route.Table
	sites map[*policy.Attachment]*site
	plans map[*policy.Attachment]*plan.Plan
	at    time.Time // for which the sites are

	anyLength bool
	routes    map[[2]*policy.Interface][]tunnel.Crossing // where there is one for all flows
	room      []Step                                     // for the steps of a walk
}

// A site is a policy where it is attached.
type site struct {
	plan       *plan.Plan
	classifier *classify.Classifier
	meters     map[*plan.Entry]*meter.Meter // as they are before the first packet
}

// New returns a follower for a file.
func New(f *policy.File) *Follower {
	return &Follower{file: f, table: route.New(f), sites: make(map[*policy.Attachment]*site), plans: make(map[*policy.Attachment]*plan.Plan), routes: make(map[[2]*policy.Interface][]tunnel.Crossing)}
}

// route returns what the nodes between two interfaces do with a flow.
func (f *Follower) route(from, to *policy.Interface, flow packet.Flow) ([]tunnel.Crossing, error) {
	if from != to && f.table.Several(to) {
		hops, err := f.table.Route(from, to, route.KeyOf(flow))
		return tunnel.Crossings(hops), err
	}
	key := [2]*policy.Interface{from, to}
	if known, ok := f.routes[key]; ok {
		return known, nil
	}
	hops, err := f.table.Route(from, to, route.Key{})
	if err != nil {
		return nil, err
	}
	f.routes[key] = tunnel.Crossings(hops)
	return f.routes[key], nil
}

// Plan returns what an attached policy means, the same plan each time.
func (f *Follower) Plan(a *policy.Attachment) *plan.Plan {
	p := f.plans[a]
	if p == nil {
		p = plan.Attached(a)
		f.plans[a] = p
	}
	return p
}

// site returns the policy of an attachment as it is at a time.
func (f *Follower) site(a *policy.Attachment) *site {
	s := f.sites[a]
	if s != nil {
		return s
	}
	s = &site{plan: f.Plan(a), meters: make(map[*plan.Entry]*meter.Meter)}
	s.classifier = classify.New(s.plan)
	var sometimes []*plan.Entry
	for _, e := range s.plan.Entries {
		if e.When != nil {
			sometimes = append(sometimes, e)
		}
		if e.Meter != nil {
			m := e.Meter.New()
			s.meters[e] = &m
		}
	}
	s.classifier.InForce(sometimes, func(e *plan.Entry) bool { return inForce(e.When, f.at) })
	f.sites[a] = s
	return s
}

// inForce reports whether a `when` holds at a time; when that is not known, it is
// assumed to.
func inForce(w *plan.When, at time.Time) bool {
	return w == nil || w.Time == nil || at.IsZero() || w.Time.Holds(at)
}

// Ask follows one packet. An error is about the question.
func (f *Follower) Ask(q Question) (*Answer, error) {
	p, crossings, err := f.packet(q)
	if err != nil {
		return nil, err
	}
	return f.answer(p, crossings), nil
}

// Walk follows one packet as Ask does, and says only where it comes and which entry takes it, and whether it arrives. The steps
// are good until the next walk.
func (f *Follower) Walk(q Question) (steps []Step, arrives bool, err error) {
	p, crossings, err := f.packet(q)
	if err != nil {
		return nil, false, err
	}
	f.room, arrives = f.follow(f.room[:0], p, crossings, false)
	return f.room, arrives, nil
}

// packet makes the packet of a question, and finds its route.
func (f *Follower) packet(q Question) (*packet.Packet, []tunnel.Crossing, error) {
	from, to := q.Enter, f.table.Where(q.Flow.To)
	if from == nil {
		from = f.table.Where(q.Flow.From)
	}
	switch {
	case from == nil:
		return nil, nil, fmt.Errorf("the sender %s is in no subnet of the network: add its subnet to an interface's `subnets`, or say where the packet enters", q.Flow.From)
	case to == nil:
		return nil, nil, fmt.Errorf("the receiver %s is in no subnet of the network: add its subnet to an interface's `subnets`", q.Flow.To)
	}
	least := map[uint8]int{packet.UDP: 8, packet.TCP: 20}[q.Flow.Protocol] + 20
	if q.Flow.From.Is6() {
		least += 20
	}
	if q.Length < least || q.Length > 65535 {
		return nil, nil, fmt.Errorf("a packet of %d bytes does not hold its headers, or is longer than an IP packet can be", q.Length)
	}
	crossings, err := f.route(from, to, q.Flow)
	if err != nil {
		return nil, nil, err
	}
	if !q.At.Equal(f.at) {
		f.at = q.At
		clear(f.sites)
	}
	var p packet.Packet
	p.Build(make([]byte, packet.HeaderRoom), q.Flow, q.DSCP, q.Length, 0)
	if q.PCP != nil || q.VLAN != nil {
		tag := packet.Tag{VLAN: policy.DefaultVLAN}
		if q.PCP != nil {
			tag.PCP = *q.PCP
		}
		if q.VLAN != nil {
			tag.VLAN = *q.VLAN
		}
		p.SetTags([]packet.Tag{tag})
	}
	p.Apps = AppsOf(f.file, q.ServerName, q.RTP)
	if q.MayFragment {
		p.MayFragment()
	}
	f.anyLength = q.AnyLength
	return &p, crossings, nil
}

// Frame follows a packet that was captured where it enters the network.
func (f *Follower) Frame(p *packet.Packet, enter *policy.Interface) (*Answer, error) {
	crossings, err := f.captured(p, enter)
	if err != nil {
		return nil, err
	}
	return f.answer(p, crossings), nil
}

// WalkFrame follows such a packet as Walk does.
func (f *Follower) WalkFrame(p *packet.Packet, enter *policy.Interface) ([]Step, error) {
	crossings, err := f.captured(p, enter)
	if err != nil {
		return nil, err
	}
	f.room, _ = f.follow(f.room[:0], p, crossings, false)
	return f.room, nil
}

// captured finds the route of a packet that was captured where it enters the network.
func (f *Follower) captured(p *packet.Packet, enter *policy.Interface) ([]tunnel.Crossing, error) {
	to := f.table.Where(p.Flow.To)
	f.anyLength = false
	if enter == nil || to == nil {
		return nil, fmt.Errorf("the packet from %s to %s has an end in no subnet of the network", p.Flow.From, p.Flow.To)
	}
	return f.route(enter, to, p.Flow)
}

func (f *Follower) answer(p *packet.Packet, crossings []tunnel.Crossing) *Answer {
	steps, arrives := f.follow(make([]Step, 0, 2*len(crossings)), p, crossings, true)
	a := &Answer{Hops: steps}
	if arrives {
		m := marksOf(p)
		a.Arrives = &m
	}
	a.Summary = summarise(a)
	return a
}

// AppsOf returns the applications that are recognised by a server name, or by
// looking like RTP.
func AppsOf(f *policy.File, name string, rtp bool) []uint64 {
	var bits []uint64
	for i := range f.Apps {
		app := &f.Apps[i]
		if name != "" && recognise.NameMatches(app.ServerNames, strings.ToLower(name)) || rtp && app.LooksLike == policy.LooksLikeRTP {
			if bits == nil {
				bits = make([]uint64, (len(f.Apps)+63)/64)
			}
			bits[i/64] |= 1 << (i % 64)
		}
	}
	return bits
}

// follow takes a packet along a route and appends a step for each interface in each
// direction. It reports whether the packet arrives.
func (f *Follower) follow(steps []Step, p *packet.Packet, crossings []tunnel.Crossing, detail bool) (all []Step, arrives bool) {
	inside := &tunnel.Inside{}
	for i := range crossings {
		c := &crossings[i]
		c.Enter(p, inside)
		s := f.cross(p, c.In, policy.In, detail)
		if s.finish(p, inside); s.dropped() {
			return append(steps, s), false
		}
		steps = append(steps, s)
		hidden := inside.Hides()
		c.Forward(p, inside)
		if fit := fitOf(c, p, inside); fit != nil && !fit.Fragmented && !f.anyLength {
			s = Step{Node: c.Out.Node.Name, Interface: c.Out.Name, Direction: policy.Out.String(), MarksIn: marksOf(p), in: p.DSCP(), TooLong: fit}
			s.finish(p, inside)
			return append(steps, s), false
		} else {
			s = f.cross(p, c.Out, policy.Out, detail)
			s.TooLong = fit
		}
		s.onLink = i < len(crossings)-1
		if s.dropped() {
			s.finish(p, inside)
			return append(steps, s), false
		}
		c.Leave(p, inside)
		s.finish(p, inside)
		if c.Tunnel != nil {
			s.Tunnel = c.Tunnel.Name
		}
		if s.onLink && c.Tunnel == nil {
			s.Several = len(f.table.Nexts(c.Out.Node, crossings[len(crossings)-1].Out.Node)) > 1
		}
		if detail {
			s.addressNotes(c, p)
			s.tunnelNotes(c, hidden)
			if s.onLink {
				f.linkNotes(&s, c, crossings[len(crossings)-1].Out.Node)
			}
		}
		steps = append(steps, s)
	}
	return steps, true
}

// fitOf returns what becomes of a packet by its length, where it is too long.
func fitOf(c *tunnel.Crossing, p *packet.Packet, inside *tunnel.Inside) *Fit {
	mtu := c.Out.Longest()
	what, most := c.Fit(p, inside, mtu)
	if what == tunnel.Fits {
		return nil
	}
	if what == tunnel.DividedLeaving && c.Begins() != nil {
		most = c.Within(mtu)
	}
	return &Fit{Length: p.Length + int(p.GrowsBy) + 4*(p.Labels()+int(p.GrowsLabels)), MTU: mtu, Most: most, Fragmented: what != tunnel.TooLarge}
}

func (s *Step) dropped() bool { return s.Blocked || s.Policed }

// finish notes how the packet is when it leaves.
func (s *Step) finish(p *packet.Packet, inside *tunnel.Inside) {
	s.MarksOut, s.out = marksOf(p), p.DSCP()
	s.Labels = []int{}
	for _, tc := range p.LabelClasses() {
		s.Labels = append(s.Labels, int(tc))
	}
	s.Outer = words.Fact{}
	if inside.Hides() {
		s.Outer = outerHeader(p)
	}
}

// marksOf returns what can be seen of a packet on the link.
func marksOf(p *packet.Packet) Marks {
	m := Marks{DSCP: p.DSCP().Name()}
	if pcp, ok := p.PCP(); ok {
		vlan := p.VLAN
		m.PCP, m.VLAN = &pcp, &vlan
	}
	if tc, ok := p.TC(); ok {
		m.TC = &tc
	}
	return m
}

// outerHeader describes the outer IP header.
func outerHeader(p *packet.Packet) words.Fact {
	ends := words.EndsNotGiven.With()
	if !p.Flow.From.IsUnspecified() {
		ends = words.FromTo.With(p.Flow.From, p.Flow.To)
	}
	return words.OuterHeader.With(policy.ProtocolName(p.Flow.Protocol), ends, p.Length, DSCP(p.DSCP()))
}

// cross takes the packet through the policy at an interface in one direction.
func (f *Follower) cross(p *packet.Packet, at *policy.Interface, d policy.Direction, detail bool) Step {
	s := Step{Node: at.Node.Name, Interface: at.Name, Direction: d.String(), MarksIn: marksOf(p), in: p.DSCP(),
		At: at, length: p.Length + int(p.GrowsBy), labels: p.Labels() + int(p.GrowsLabels)}
	a := at.Attached[d]
	if a == nil {
		return s
	}
	s.Policy = a.Policy.Name
	where := f.site(a)
	s.Plan = where.plan
	s.number = p.In
	s.size = s.SizeIn(where.plan.Framing)
	e := where.classifier.Take(p)
	if detail {
		f.why(&s, where, e, p)
	}
	s.Class, s.Entry = e.Name, e
	s.Line, s.File = e.Spec.At.Line, e.Spec.At.File
	top := e
	for top.Parent != nil {
		top = top.Parent
	}
	s.rest = top.Class == nil
	f.treat(&s, where, e, p)
	if detail {
		s.detail(where.plan, e, p, f.at)
	}
	return s
}

// treat meters and marks the packet by an entry and those around it, the outermost
// first, as the data path does with the first packet after a pause.
func (f *Follower) treat(s *Step, where *site, e *plan.Entry, p *packet.Packet) {
	for _, o := range e.Chain() {
		t := datapath.TreatmentOf(o, func(w *plan.When) bool { return inForce(w, f.at) })
		var color meter.Color
		if m := where.meters[o]; m != nil && t.Metering {
			fresh := *m
			color = fresh.Measure(0, s.size, datapath.ColorOf(p))
		}
		switch t.Apply(color, p) {
		case datapath.Blocked:
			s.Blocked = true
			return
		case datapath.Policed:
			s.Policed = true
			return
		}
		if o.Priority > 0 && s.Priority == 0 {
			s.Priority = o.Priority
		}
	}
}
