package bound

import (
	"encoding/binary"
	"slices"
	"time"

	"imbrel.example/imbrel/core/explain"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/route"
	"imbrel.example/imbrel/core/traffic"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/words"
)

// A station is where packets may wait: the queues of an interface in one direction, or those of the carrier behind it.
type station struct {
	iface     *policy.Interface
	direction policy.Direction
	carrier   bool

	plan    *plan.Plan     // nil: a plain FIFO
	framing packet.Framing // by which it counts
	line    int64          // bit/s at which packets leave; 0: at once
	rate    int64          // of the whole: the shape, or the line; 0: nothing holds packets up
	maxLine int64          // what both are at most, where events change them
	maxRate int64
	keeps   bool       // its shape follows its link so soon that it is never above what that carries
	credit  int64      // bits that the shape lets leave at once, beyond a packet
	limit   int64      // bits that may wait in a plain FIFO
	ring    int64      // packets of the hardware's ring
	why     words.Fact // nothing can be said of it

	visits    []*visit
	maxPacket int64 // bits of a packet that may come
	queues    map[*plan.Entry]*classQueue
	out       Curve // of all that leaves
	first     *station
	circle    []string // the names of the stations in a circle that it is in, or behind
	single    bool     // all of its packets come from `first`
}

// A classQueue is an entry of a station, nil for a plain FIFO, and what is known of it.
type classQueue struct {
	entry     *plan.Entry
	offered   Curve      // before the policers around it
	arrivals  Curve      // into the queue
	starved   words.Fact // why it is promised nothing for certain
	unbound   words.Fact
	anyClass  bool      // a packet may come of which nobody knows the class
	services  []service // of which each holds
	why       words.Fact
	unordered bool // packets do not keep their order: a packet may wait for as long as anything does
	out       Curve
	flows     int
	minBits   int64 // bits of its smallest packet
	maxBits   int64 // and of its largest
	delay     time.Duration
	backlog   int64 // bits
}

// A visit is a flow at a station.
type visit struct {
	flow                 *flow
	number               int // in the flow
	at                   *station
	entry                *plan.Entry // nil: of a plain FIFO
	anyClass             bool        // nobody knows which entry takes its packets
	prev                 *station    // where they were before; nil: at their sender, or nobody knows
	maxBits              int64       // of its largest packet, as the station counts
	minBits              int64       // and of its smallest
	linkDelay            time.Duration
	linkJitter           time.Duration // what the link takes beyond fixed, at most
	arriveMax, arriveMin time.Duration // from the sender until it comes here
	leaveMax             time.Duration // from the sender until it has left, at most
	since                int           // the visit from which on done counts bursts once; its own number: it does not
	result               Hop
	jitter               time.Duration // sum over the stations before
	serviceMin           time.Duration // at the station, at least
}

// A flow is one direction of a traffic, all of whose packets go the same way and are in the same classes.
type flow struct {
	traffic   *policy.Traffic
	reverse   bool
	send      sender
	length    int
	count     int           // of calls, or of flows of TCP
	last      int           // of these, the number of the last
	reports   bool          // of calls
	replayed  bool          // of a capture, which has no bounds of its own
	slowest   time.Duration // that one of its packets takes anywhere
	visits    []*visit
	uncertain words.Fact // why its way, or its classes, are not known
	lossy     words.Fact // what may lose packets beyond the queues and policers
	stopped   bool       // it never arrives
}

// A network is the flows of a rehearsal and the stations that they visit.
type network struct {
	file      *policy.File
	rehearsal *policy.Rehearsal
	follower  *explain.Follower
	table     *route.Table
	stations  []*station
	known     map[place]*station
	flows     []*flow
	changed   map[*policy.Link][2]span // what events make of the links, at their ends
	why       words.Fact               // nothing can be said of anything
	open      func(name string) (traffic.Reader, error)
}

type place struct {
	iface     *policy.Interface
	direction policy.Direction
	carrier   bool
}

func newNetwork(f *policy.File, h *policy.Rehearsal, open func(string) (traffic.Reader, error)) *network {
	n := &network{file: f, rehearsal: h, open: open, follower: explain.New(f), table: route.New(f), known: make(map[place]*station)}
	n.events()
	for i := range h.Traffic {
		n.add(&h.Traffic[i])
	}
	for _, s := range n.stations {
		s.gather()
	}
	return n
}

// station returns what is at a place, or nil where nothing waits.
func (n *network) station(p place) *station {
	if s, known := n.known[p]; known {
		return s
	}
	s := &station{iface: p.iface, direction: p.direction, carrier: p.carrier, framing: p.iface.Framing, queues: make(map[*plan.Entry]*classQueue)}
	if a := p.iface.Attached[p.direction]; a != nil && !p.carrier {
		s.plan = n.follower.Plan(a)
	}
	switch {
	case p.carrier:
		s = n.carrier(s)
	case p.direction == policy.Out:
		s.line = int64(p.iface.Rate)
		s.rate, s.ring = s.line, int64(p.iface.Ring)
		s.limit = bitsOf(plan.FIFO(p.iface.Rate, p.iface.Framing))
	}
	if s != nil && s.plan != nil {
		if s.plan.Shape > 0 {
			s.credit = bitsOf(s.plan.Credit())
			if s.rate == 0 || int64(s.plan.Shape) < s.rate {
				s.rate = int64(s.plan.Shape)
			}
		}
		if slices.ContainsFunc(s.plan.Entries, func(e *plan.Entry) bool { return e.When != nil }) {
			s.why = words.UnboundWhen.With(s.plan.Policy.Name)
		}
		s.maxRate = s.rate
		n.follows(s)
	}
	if s != nil {
		s.maxLine, s.maxRate = max(s.maxLine, s.line), max(s.maxRate, s.rate)
	}
	n.known[p] = s
	if s != nil {
		n.stations = append(n.stations, s)
	}
	return s
}

// carrier makes a station the carrier's queue behind an interface; nil: there is none.
func (n *network) carrier(s *station) *station {
	l := s.iface.Link
	if l == nil {
		return nil
	}
	end := &l.Ends[s.iface.End]
	rate, framing, slower := end.Carrier()
	limit := rate.Bytes(end.Buffer)
	if c := n.changes(s.iface); c.touched {
		s.maxLine = int64(s.iface.Rate)
		rate, limit = min(rate, c.least), max(limit, s.iface.Rate.Bytes(end.Buffer))
		slower = slower || rate < s.iface.Rate
	}
	if !slower {
		return nil
	}
	s.framing, s.line, s.rate, s.limit = framing, int64(rate), int64(rate), max(8, bitsOf(limit))
	if l.HalfDuplex > 0 {
		s.why = words.UnboundMedium.With(s.iface.Path())
	}
	return s
}

// add adds the flows of a traffic.
func (n *network) add(t *policy.Traffic) {
	if t.Kind == policy.Replay || t.Kind == policy.Conversations {
		n.capture(t)
		return
	}
	ways := []bool{false}
	if t.BothWays() {
		ways = append(ways, true)
	}
	fromPort, toPort := t.FirstPorts()
	for _, reverse := range ways {
		ask := packet.Flow{From: t.From, To: t.To, FromPort: fromPort, ToPort: toPort, Protocol: t.Protocol}
		if reverse {
			ask = ask.Reverse()
		}
		n.ways(t, reverse, ask, false)
		if t.RTCP {
			ask.FromPort++
			ask.ToPort++
			n.ways(t, reverse, ask, true)
		}
	}
}

// maxWays is of how many calls or flows of a traffic the ways are looked for, each by its ports.
const maxWays = 20_000

// ways adds a flow for those of the calls or TCP flows of a traffic that go the same way, through the same entries. Reports
// says that these are the control packets of calls.
func (n *network) ways(t *policy.Traffic, reverse bool, ask packet.Flow, reports bool) {
	from, to := n.table.Where(ask.From), n.table.Where(ask.To)
	if from == nil || to == nil {
		return // an error of the rehearsal
	}
	count, step := 1, uint16(0)
	switch {
	case t.Kind == policy.Calls:
		count, step = max(t.Calls, 1), 2
	case t.Kind.OverTCP():
		count, step = max(t.Flows, 1), 1
	}
	shortest, longest := lengths(t, reverse, from, to)
	if reports {
		longest = reportLength(t.From.Is6())
		shortest = longest
	}
	q := explain.Question{Flow: ask, DSCP: t.DSCP, Length: longest, At: n.rehearsal.StartAt, RTP: t.Kind.Row().RTP && !reports, ServerName: t.ServerName, MayFragment: t.MayFragment, AnyLength: true}
	if !reverse {
		q.PCP, q.VLAN = t.PCP, t.VLAN
	}
	recognised := []bool{true}
	if n.file.Recognises() && (q.RTP || q.ServerName != "") {
		recognised = append(recognised, false)
	}
	known := make(map[string]*flow)
	for i := range min(count, maxWays) {
		if i > 0 {
			own := step * uint16(i)
			switch {
			case t.Kind == policy.Calls:
				q.Flow.FromPort, q.Flow.ToPort = ask.FromPort+own, ask.ToPort+own
			case t.FromOpens() != reverse:
				q.Flow.FromPort = ask.FromPort + own
			default:
				q.Flow.ToPort = ask.ToPort + own
			}
		}
		// Its first packets are not recognised yet: of applications by more than ports, they may be of another class.
		for _, seen := range recognised {
			own := q
			if !seen {
				own.RTP, own.ServerName = false, ""
			}
			steps, arrives, err := n.follower.Walk(own)
			if err != nil {
				return
			}
			way := wayOf(steps)
			if f := known[way]; f != nil {
				if f.last != i {
					f.count, f.last = f.count+1, i
				}
				continue
			}
			f := &flow{traffic: t, reverse: reverse, length: longest, stopped: !arrives, count: 1, last: i, reports: reports}
			known[way] = f
			n.way(f, steps, shortest)
		}
	}
	for _, f := range n.flows[len(n.flows)-len(known):] {
		switch {
		case reports && t.Erlangs > 0:
			f.send = sender{why: words.UnboundCalls.With(t.Name)}
		case reports:
			f.send = reportsOf(f.count)
		default:
			f.send = senderOf(t, f.count, n.rehearsal.Lasts, min(max(f.slowest, 1), maxJitter))
		}
	}
}

// wayOf names a way and the entries that take its packets.
func wayOf(steps []explain.Step) string {
	var b []byte
	for i := range steps {
		s := &steps[i]
		b = binary.LittleEndian.AppendUint32(b, uint32(s.At.Number))
		e := -1
		if s.Entry != nil {
			e = s.Entry.Number
		}
		b = binary.LittleEndian.AppendUint32(b, uint32(e))
	}
	return string(b)
}

// way adds a flow that takes some steps.
func (n *network) way(f *flow, steps []explain.Step, shortest int) {
	t, longest := f.traffic, f.length
	wild := false
	several := false
	for i := range steps {
		s := &steps[i]
		least := s.SizeIn(s.At.Framing)
		if shortest < longest {
			least = s.At.Framing.Size(shortest, 0)
		}
		direction := policy.In
		if s.Direction == policy.Out.String() {
			direction = policy.Out
		}
		if s.Several && !n.single(t) {
			f.uncertain, several = words.UnboundWays.With(s.At.Node.Name), true
		}
		if s.TooLong != nil && f.uncertain.IsZero() {
			f.uncertain = words.UnboundLength.With(s.At.Path())
		}
		if direction == policy.In && s.Plan == nil {
			continue
		}
		at := n.station(place{s.At, direction, false})
		if s.Blocked || s.Policed {
			break
		}
		v := f.visit(at, s.Entry, int64(8*s.SizeIn(at.framing)), int64(8*least))
		v.anyClass = wild && at.plan != nil
		f.slowest = max(f.slowest, at.slowest(s.Entry, v.maxBits))
		if f.lossy.IsZero() && s.TooLong != nil {
			f.lossy = words.UnboundLength.With(s.At.Path())
		}
		wild = f.remarked(s.Entry, at) || wild
		if direction == policy.In {
			continue
		}
		if c := n.station(place{s.At, direction, true}); c != nil && i < len(steps)-1 {
			v = f.visit(c, nil, int64(8*s.SizeIn(c.framing)), 0)
			if v.minBits = v.maxBits; shortest < longest {
				v.minBits = int64(8 * c.framing.Size(shortest, 0))
			}
			f.slowest = max(f.slowest, timeOf(v.maxBits, c.rate))
		}
		if i < len(steps)-1 {
			n.link(f, v, s.At)
		}
	}
	n.flows = append(n.flows, f)
	if several {
		n.everywhere(f)
	}
}

// maxJitter is how late a sender's own clock is at most, as package simulate has it.
const maxJitter = 100 * time.Millisecond

// single reports whether a traffic is one flow, whose way is known where flows are spread over several.
func (n *network) single(t *policy.Traffic) bool {
	return t.Kind == policy.Stream || t.Kind == policy.Video || t.Kind == policy.Calls && t.Erlangs == 0 || t.Kind == policy.TCPFlows
}

// slowest returns how long a packet takes at the least of the rates that hold an entry's packets up.
func (s *station) slowest(e *plan.Entry, bits int64) time.Duration {
	rate := s.line
	if s.rate > 0 && (rate == 0 || s.rate < rate) {
		rate = s.rate
	}
	for ; e != nil; e = e.Parent {
		if e.AtMost != nil && (rate == 0 || int64(e.AtMost.Rate) < rate) {
			rate = int64(e.AtMost.Rate)
		}
	}
	if rate == 0 {
		return 0
	}
	return timeOf(bits, rate)
}

// visit adds a station to a flow's way.
func (f *flow) visit(at *station, e *plan.Entry, bits, least int64) *visit {
	v := &visit{flow: f, number: len(f.visits), at: at, entry: e, maxBits: bits, minBits: least}
	if v.number > 0 {
		v.prev = f.visits[v.number-1].at
	}
	f.visits = append(f.visits, v)
	at.visits = append(at.visits, v)
	return v
}

// remarked reports whether a policer marks some packets of a flow, whose class further on is then not known.
func (f *flow) remarked(e *plan.Entry, at *station) bool {
	for ; e != nil; e = e.Parent {
		if e.Meter != nil && slices.ContainsFunc(e.Meter.Actions[:], func(a policy.Action) bool { return a.Mark != nil }) {
			if f.uncertain.IsZero() {
				f.uncertain = words.UnboundRemarked.With(e.Name, at.name())
			}
			return true
		}
	}
	return false
}

// takes returns what the link of an interface takes at least, away from it, and how much more at most.
func (n *network) takes(at *policy.Interface) (fixed, varies time.Duration) {
	l := at.Link
	if l == nil {
		return 0, 0
	}
	fixed = l.Delay
	if c := n.changes(at); c.touched {
		fixed = min(l.Delay, c.quick)
		varies = max(l.Delay, c.slow) - fixed
	}
	switch {
	case l.Jitter.Mean == 0:
	case l.Jitter.Kind == policy.Even:
		varies += 2*l.Jitter.Mean + 1
	case l.Jitter.Kind == policy.Exponential:
		varies = Never
	default: // heavy-tailed, which has an end
		varies += 100*l.Jitter.Mean + 1
	}
	return fixed, varies
}

// link books to a visit what the link behind it takes.
func (n *network) link(f *flow, v *visit, at *policy.Interface) {
	l := at.Link
	c := n.changes(at)
	if v.linkDelay, v.linkJitter = n.takes(at); v.linkJitter == Never && f.uncertain.IsZero() {
		f.uncertain = words.UnboundLinkJitter.With(at.Path())
	}
	if f.lossy.IsZero() && (l.Loss.Part > 0 || c.loses) {
		f.lossy = words.UnboundLinkLoss.With(at.Path())
	}
	if f.lossy.IsZero() && l.Ends[at.End].Contract != nil {
		f.lossy = words.UnboundContract.With(at.Path())
	}
}

// capture adds the flows of a capture. Where it cannot be read, nobody knows where its packets go and of which class they are: they
// may go to every host that they can reach.
func (n *network) capture(t *policy.Traffic) {
	if n.read(t) {
		return
	}
	f := &flow{traffic: t, replayed: true, send: senderOf(t, 1, n.rehearsal.Lasts, 0)}
	f.uncertain = f.send.why
	if t.Enters == nil { // the conversations of a capture
		n.everywhere(f)
	} else {
		n.reaches(f, t.Enters)
	}
	n.flows = append(n.flows, f)
}

// maxFrames is how many frames of a capture are read.
const maxFrames = 500_000

// read adds a flow for the packets of a capture that take the same way through the same entries, and reports whether it could: not
// where what is known of a packet depends on those before.
func (n *network) read(t *policy.Traffic) bool {
	if n.open == nil || t.Enters == nil || n.file.Recognises() {
		return false
	}
	reader, err := n.open(t.Capture)
	if err != nil {
		return false
	}
	type way struct {
		steps             []explain.Step // of the longest packet
		shortest, longest int
	}
	known := make(map[string]*way)
	var order []*way
	var p packet.Packet
	var room []byte
	for frames := 0; ; frames++ {
		frame, wire, _, ok, err := reader.ReadFrame()
		if err != nil || frames == maxFrames {
			return false
		}
		if !ok {
			break
		}
		room = append(room[:0], frame...)
		_ = p.Parse(room, wire) // what cannot be read is no IP
		if p.Standing().Control() || !p.IsIP() {
			continue
		}
		to := n.table.Where(p.Flow.To)
		if to == nil || to == t.Enters {
			continue
		}
		length := p.Length
		if p.Fragment {
			return false
		}
		steps, err := n.follower.WalkFrame(&p, t.Enters)
		if err != nil {
			continue // there is no route
		}
		for i := range steps {
			if steps[i].TooLong != nil || steps[i].Several && n.table.Several(to) {
				return false
			}
		}
		key := wayOf(steps)
		w := known[key]
		if w == nil {
			w = &way{steps: steps, shortest: length, longest: length}
			known[key] = w
			order = append(order, w)
		}
		if w.shortest = min(w.shortest, length); length > w.longest {
			w.steps, w.longest = steps, length
		}
	}
	for _, w := range order {
		f := &flow{traffic: t, length: w.longest, count: 1, replayed: true, send: senderOf(t, 1, n.rehearsal.Lasts, 0)}
		n.way(f, w.steps, w.shortest)
		f.uncertain = f.send.why
	}
	return true
}

// everywhere adds a wild flow to every station of the network.
func (n *network) everywhere(f *flow) {
	for i := range n.file.Network.Nodes {
		for _, iface := range n.file.Network.Nodes[i].Interfaces {
			n.wild(f, iface, policy.In, nil)
			n.wild(f, iface, policy.Out, nil)
		}
	}
}

// reaches adds a wild flow to every station on a way from an interface.
func (n *network) reaches(f *flow, from *policy.Interface) {
	for i := range n.file.Network.Nodes {
		for _, to := range n.file.Network.Nodes[i].Interfaces {
			if to == from || len(to.Subnets) == 0 && !to.Own {
				continue
			}
			if n.table.Several(to) {
				n.everywhere(f)
				return
			}
			hops, err := n.table.Route(from, to, route.Key{})
			if err != nil {
				continue
			}
			var prev *station
			for _, h := range hops {
				prev = n.wild(f, h.In, policy.In, prev)
				prev = n.wild(f, h.Out, policy.Out, prev)
			}
		}
	}
}

// wild adds a flow that may be of any class to the stations of an interface in one direction, and returns the last of them.
func (n *network) wild(f *flow, at *policy.Interface, d policy.Direction, prev *station) *station {
	add := func(s *station) {
		if s == nil {
			return
		}
		if !slices.ContainsFunc(s.visits, func(v *visit) bool { return v.flow == f && v.number < 0 && v.prev == prev }) {
			s.visits = append(s.visits, &visit{flow: f, number: -1, at: s, anyClass: s.plan != nil, prev: prev, maxBits: int64(8 * s.framing.Size(at.Longest(), 0)), minBits: int64(8 * s.framing.Size(20, 0))})
		}
		prev = s
	}
	if d == policy.In && at.Attached[d] == nil {
		return prev
	}
	add(n.station(place{at, d, false}))
	if d == policy.Out {
		add(n.station(place{at, d, true}))
	}
	return prev
}

// gather finds the largest packet of a station, what its line lets leave, and whether all that come were at one station before.
func (s *station) gather() {
	s.single = true
	for i, v := range s.visits {
		s.maxPacket = max(s.maxPacket, v.maxBits)
		if i == 0 {
			s.first = v.prev
		}
		s.single = s.single && v.prev != nil && v.prev == s.first
	}
	if s.line > 0 {
		s.out = s.out.Min(Bucket{s.maxPacket, s.maxLine})
	}
	if s.rate > 0 && s.rate != s.line {
		s.out = s.out.Min(Bucket{plus(s.credit, s.maxPacket), s.maxRate})
	}
}

// committed returns the bits that nothing can overtake any more: of a packet that is being sent, and of those in the hardware's ring.
func (s *station) committed() int64 { return s.maxPacket * (1 + s.ring) }

// name names a station, such as "ternrock/radio out".
func (s *station) name() string {
	if s.carrier {
		return "the carrier of " + s.iface.Path()
	}
	return s.iface.Path() + " " + s.direction.String()
}

// A span is what events make of a link in one direction: the least it carries, and its delays.
type span struct {
	touched     bool
	least       unit.Rate
	quick, slow time.Duration
	loses       bool
	event       *policy.Event
}

// events notes what the events of the rehearsal change.
func (n *network) events() {
	n.changed = make(map[*policy.Link][2]span)
	for i := range n.rehearsal.Events {
		e := &n.rehearsal.Events[i]
		if e.Attach != nil || e.Down && e.Detected > 0 {
			n.why = words.UnboundEvent.With(e.Name)
			return
		}
		if e.End == nil {
			continue
		}
		l := e.End.Link
		both := n.changed[l]
		for k, rate := range []*unit.Rate{e.Sends, e.Receives} {
			end := e.End.End
			if k == 1 {
				end = 1 - end
			}
			c := &both[end]
			if !c.touched {
				carries, _, _ := l.Ends[end].Carrier()
				*c = span{touched: true, least: carries, quick: l.Delay, slow: l.Delay}
			}
			c.event = e
			if rate != nil {
				c.least = min(c.least, *rate)
			}
			if e.Delay != nil {
				c.quick, c.slow = min(c.quick, *e.Delay), max(c.slow, *e.Delay)
			}
			c.loses = c.loses || e.Down || e.Loss != nil
		}
		n.changed[l] = both
	}
	if l := n.rehearsal.Fails; l != nil {
		n.why = words.UnboundEvent.With(l.Ends[0].Interface.Path())
	}
}

// changes returns what events make of the link of an interface, away from it.
func (n *network) changes(at *policy.Interface) span {
	if at.Link == nil {
		return span{}
	}
	return n.changed[at.Link][at.End]
}

// follows lets the shape of a station be what it is at its least, where events change what its link carries.
func (n *network) follows(s *station) {
	c := n.changes(s.iface)
	if !c.touched || s.direction != policy.Out || s.plan.Shape == 0 || !s.plan.Policy.Follows {
		return
	}
	carries := int64(s.plan.Carries)
	if least := wide(int64(s.plan.Shape), int64(min(c.least, s.iface.Rate))).over(max(carries, 1)) - 1; least < s.rate {
		s.rate, s.keeps = max(least-1, 1), n.keeps(s)
	}
}

// keeps reports whether the shape of a station, which follows its link after a while, is at no time above what the link carries.
func (n *network) keeps(s *station) bool {
	type change struct {
		at   time.Duration
		rate int64
	}
	var links, shapes []change
	at := s.iface
	carries, _, _ := at.Link.Ends[at.End].Carrier()
	shape := func(rate unit.Rate) int64 {
		return int64(float64(s.plan.Shape) * float64(min(rate, at.Rate)) / float64(s.plan.Carries))
	}
	for i := range n.rehearsal.Events {
		e := &n.rehearsal.Events[i]
		if e.End == nil || e.End.Link != at.Link {
			continue
		}
		to := e.Sends
		if e.End != at {
			to = e.Receives
		}
		if to == nil {
			continue
		}
		if len(links) > 0 { // one after the other, or at once: who knows
			return false
		}
		until := e.Until(n.rehearsal.Lasts)
		for _, r := range e.Ramps(carries, *to, until, n.rehearsal.Lasts) {
			links = append(links, change{r.At, int64(r.Rate)})
			shapes = append(shapes, change{r.At + s.plan.Policy.FollowsAfter, shape(r.Rate)})
		}
	}
	link, own := int64(carries), int64(s.plan.Shape)
	for len(links) > 0 || len(shapes) > 0 {
		if len(shapes) == 0 || len(links) > 0 && links[0].at <= shapes[0].at {
			link, links = links[0].rate, links[1:]
		} else {
			own, shapes = shapes[0].rate, shapes[1:]
		}
		if own > link {
			return false
		}
	}
	return true
}
