package bound

import (
	"encoding/binary"
	"math"
	"slices"
	"time"

	"imbrel.example/imbrel/core/explain"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/route"
	"imbrel.example/imbrel/core/traffic"
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
	limit   int64      // bits that may wait in a plain FIFO, at most
	least   int64      // and at least
	ring    int64      // packets of the hardware's ring
	turn    int64      // of a medium that both directions of a link use: what a change of the direction takes, in bits
	why     words.Fact // nothing can be said of it

	visits    []*visit
	maxPacket int64 // bits of a packet that may come
	queues    map[*plan.Entry]*classQueue
	out       Curve // of all that leaves
	first     *station
	circle    []string // the names of the stations in a circle that it is in, or behind
	single    bool     // all of its packets come from `first`
}

// A classQueue is the queue of an entry at a station. A plain FIFO has one, without an entry.
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
	allBits              int64       // of all parts of its largest packet
	minBits              int64       // and of its smallest
	linkDelay            time.Duration
	linkJitter           time.Duration // what the link takes beyond fixed, at most
	reorders             bool          // packets may overtake others on the link
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
	length    int // of its longest packet
	shortest  int
	parts     int               // that its longest packet may come in, beyond one
	host      *policy.Interface // where its sender is; nil: of a capture
	count     int               // of calls, or of flows of TCP
	last      int               // of these, the number of the last
	reports   bool              // of calls
	replayed  bool              // of a capture, which has no bounds of its own
	slowest   time.Duration     // that one of its packets takes anywhere
	visits    []*visit
	uncertain words.Fact     // why its way, or its classes, are not known
	lossy     words.Fact     // what may lose packets beyond the queues and policers
	replay    *policy.Tunnel // of IPsec on its way, which drops what is overtaken by too many; nil: there is none
	begins    association    // of that
	stopped   bool           // it never arrives
}

// An association is the packets that have a sequence of their own in a tunnel of IPsec: all that enter it at a node, or those of an entry there.
type association struct {
	node  *policy.Node
	entry *plan.Entry
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
	tunnels   map[string]*policy.Tunnel
	why       words.Fact // nothing can be said of anything
	open      func(name string) (traffic.Reader, error)
}

type place struct {
	iface     *policy.Interface
	direction policy.Direction
	carrier   bool
}

func newNetwork(f *policy.File, h *policy.Rehearsal, open func(string) (traffic.Reader, error)) *network {
	n := &network{file: f, rehearsal: h, open: open, follower: explain.New(f), table: route.New(f), known: make(map[place]*station), tunnels: make(map[string]*policy.Tunnel)}
	n.events()
	for i := range f.Network.Tunnels {
		n.tunnels[f.Network.Tunnels[i].Name] = &f.Network.Tunnels[i]
	}
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
	if l := p.iface.Link; p.carrier && l != nil && l.HalfDuplex > 0 { // one for both directions
		p.iface = l.Ends[0].Interface
	}
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
		s.least = s.limit
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
	least := limit
	if l.HalfDuplex > 0 {
		other := rate.Bytes(l.Ends[1-s.iface.End].Buffer)
		limit, least = limit+other, min(limit, other)
		s.turn = mulUp(int64(rate), int64(l.TurnAround), 1e9)
	} else if c := n.changes(s.iface); c.touched {
		s.maxLine = int64(max(s.iface.Rate, c.most)) // a full queue empties at the rate of the link
		other := s.iface.Rate.Bytes(end.Buffer)      // of one that an event makes
		rate, limit, least = min(rate, c.least), max(limit, other), min(least, other)
		slower = slower || end.SlowerAt(rate)
	}
	if !slower {
		return nil
	}
	s.framing, s.line, s.rate, s.limit = framing, int64(rate), int64(rate), max(8, bitsOf(limit))
	s.least = max(8, bitsOf(least))
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
	first, count, step := 0, 1, uint16(0)
	switch {
	case t.Kind == policy.Calls:
		first, count = n.portPairs(t)
		step = 2
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
	for i := first; i < min(count, first+maxWays); i++ {
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
			f := &flow{traffic: t, reverse: reverse, length: longest, shortest: shortest, host: from, stopped: !arrives, count: 1, last: i, reports: reports}
			known[way] = f
			n.way(f, steps)
		}
	}
	for _, f := range n.flows[len(n.flows)-len(known):] {
		if t.Kind == policy.Calls {
			f.count = min(f.count, max(t.Calls, 1))
		}
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

// portPairs returns which pairs of ports, counted from the first, the calls of a traffic may have: those of others between its
// addresses are passed over. Of calls that come at random, more than this come in one rehearsal of 10²⁰.
func (n *network) portPairs(t *policy.Traffic) (first, end int) {
	pairs := func(t *policy.Traffic) int {
		if t.Erlangs == 0 {
			return max(t.Calls, 1)
		}
		mean := t.Erlangs * (1 + n.rehearsal.Lasts.Seconds()/t.Holding.Seconds())
		return int(mean + 12*math.Sqrt(mean) + 30)
	}
	given := func(t *policy.Traffic) bool {
		return t.FromPort != policy.FirstCallPort || t.ToPort != policy.FirstCallPort
	}
	end = pairs(t)
	for i := range n.rehearsal.Traffic {
		o := &n.rehearsal.Traffic[i]
		if o.Name == t.Name || given(t) {
			break
		}
		if o.Kind == policy.Calls && (o.From == t.From && o.To == t.To || o.From == t.To && o.To == t.From) {
			if end += pairs(o); o.Erlangs == 0 && !given(o) {
				first += pairs(o)
			}
		}
	}
	last := int(65534-max(t.FromPort, t.ToPort))/2 + 1
	return min(first, last), min(end, last)
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
func (n *network) way(f *flow, steps []explain.Step) {
	t := f.traffic
	wild := false
	several := false
	if f.parts = f.divided(steps); f.parts > 0 {
		f.shortest = f.header() + 8
	}
	for i := range steps {
		s := &steps[i]
		direction := policy.In
		if s.Direction == policy.Out.String() {
			direction = policy.Out
		}
		if s.Several && !n.single(t) {
			f.uncertain, several = words.UnboundWays.With(s.At.Node.Name), true
		}
		if t := n.tunnels[s.Tunnel]; t != nil && t.Kind == policy.IPsec && t.Window > 0 && f.replay != t {
			f.replay, f.begins = t, association{s.At.Node, nil}
			if t.SAPerClass {
				f.begins.entry = s.Entry
			}
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
		v := f.visit(at, s, s.Entry)
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
			v = f.visit(c, s, nil)
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

// header returns the length of the headers that each part of a packet has.
func (f *flow) header() int {
	if f.traffic.From.Is6() {
		return packet.IPv6Header + 8
	}
	return packet.IPv4Header
}

// divided returns how many parts more than one the longest packet of a flow may have. Its host, a node or the start of a tunnel divides a
// packet that is too long. A host that learns the length that fits divides its later packets.
func (f *flow) divided(steps []explain.Step) (more int) {
	into := func(most int) { more += (f.length - 1) / max((most-f.header())&^7, 8) }
	if f.host != nil && f.length > f.host.Longest() {
		into(f.host.Longest())
		f.uncertain = words.UnboundLength.With(f.host.Path())
	}
	for i := range steps {
		if l := steps[i].TooLong; l != nil {
			into(l.Most)
		}
	}
	return more
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

// visit adds a station to the way of a flow. The step gives the lengths of the packets there.
func (f *flow) visit(at *station, s *explain.Step, e *plan.Entry) *visit {
	in := at.framing
	if at.carrier { // a medium of both directions is one station
		in = s.At.Link.Ends[s.At.End].Counts()
	}
	bits := int64(8 * s.SizeIn(in))
	v := &visit{flow: f, number: len(f.visits), at: at, entry: e, maxBits: bits + at.turn, minBits: bits, allBits: bits + at.turn}
	if f.shortest < f.length {
		v.minBits = int64(8 * in.Size(f.shortest, 0))
	}
	if f.parts > 0 { // each with its headers, and a last cell that it fills
		grows := s.SizeIn(packet.FramingIP()) - f.length
		v.allBits += int64(f.parts) * (int64(8*in.Size(f.header()+grows+max(int(in.Payload)-1, 0), 0)) + at.turn)
	}
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
	switch {
	case s.carrier && s.iface.Link.HalfDuplex > 0:
		return "the medium of " + s.iface.Path()
	case s.carrier:
		return "the carrier of " + s.iface.Path()
	}
	return s.iface.Path() + " " + s.direction.String()
}
