package measure

import (
	"cmp"
	"maps"
	"math"
	"slices"
	"time"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/datapath"
	"imbrel.example/imbrel/core/policy"
)

// A Key names a tally: a traffic by its number in the rehearsal, a direction, the
// first class that took the packet by its number in policy.File.ClassNames, and all
// that it was in.
type Key struct {
	Traffic int32
	Reverse bool
	First   int32
	In      Set
}

// A Tally collects what happened to the packets of one key. A call has tallies of its
// own until it is known which classes it counts for.
type Tally struct { // what every packet touches comes first, in whole cache lines
	Key
	sent   int64
	bytes  int64          // delivered in the measured time
	wanted int64          // bytes sent
	marked int64          // as many arrived with a mark in a row, and are not in arrived yet
	slow   time.Duration  // above this a packet's waits count as Slow
	judged Set            // what its packets count for: of a call, all that any packet of it was in
	mark   codepoint.DSCP // with which the last packet arrived
	call   bool

	delay, jitter Distribution

	hops      []Hop
	least     time.Duration // delay of a packet that arrived without what it waited, plus 1; 0: none did
	late      int64
	slowed    int64 // packets
	reordered int64
	arrived   []arrivals
	flows     []*Flow
	seconds   float64
}

// received returns how many packets arrived.
func (t *Tally) received() int64 { return t.delay.count }

// arrivals are how many packets arrived with a DSCP.
type arrivals struct {
	dscp    codepoint.DSCP
	packets int64
}

// A Step is what a packet met at one place on its way.
type Step struct {
	Place  int32 // the caller's number of an interface in a direction, or of a carrier
	Slot   int32 // the entry that took it there, or the class in a plain FIFO
	Wait   time.Duration
	Reason datapath.Reason // why it was dropped there; or Passed
	// By is the entry that policed or blocked it, or whose upper limit held its queue back, plus 1; 0: none did.
	By int32
}

// A Hop sums the steps of a tally's packets at one place in one slot.
type Hop struct {
	Place, Slot int32
	Packets     int64
	Wait        float64 // sum, in ns: no sum of times is too long for it
	Max         time.Duration

	causes *causes // nil: none, which most hops have
}

// causes are why packets of a hop were dropped or late, and who is to blame.
type causes struct {
	slow  float64 // sum of the waits of packets that came too late for an expectation or to be played
	drops [datapath.Reasons]int64
	by    []culprit
}

// caused returns the causes of a hop, made when the first is booked.
func (h *Hop) caused() *causes {
	if h.causes == nil {
		h.causes = &causes{}
	}
	return h.causes
}

// A culprit is an entry whose policer, block or upper limit dropped packets of a hop or let them wait.
type culprit struct {
	by      int32 // its number plus 1
	reason  datapath.Reason
	packets int64
	wait    float64 // sum in ns
}

// blame books a packet to a culprit.
func (h *Hop) blame(c culprit) {
	all := h.caused()
	for i := range all.by {
		if o := &all.by[i]; o.by == c.by && o.reason == c.reason {
			o.packets += c.packets
			o.wait += c.wait
			return
		}
	}
	all.by = append(all.by, c)
}

// culprit returns the number of the entry that is to blame for most of the drops for a reason, or for most of the waits;
// -1: none is.
func (h *Hop) culprit(reason datapath.Reason) int32 {
	all, most, by := float64(h.Drops(reason)), 0.0, int32(-1)
	if reason == datapath.Passed {
		all = h.Wait
	}
	if h.causes == nil {
		return -1
	}
	for _, c := range h.causes.by {
		n := float64(c.packets)
		if reason == datapath.Passed {
			n = c.wait
		}
		if c.reason == reason && n > most {
			most, by = n, c.by-1
		}
	}
	if 2*most < all {
		return -1
	}
	return by
}

// Slow returns the sum of the waits of packets that came too late for an expectation or to be played, in ns.
func (h *Hop) Slow() float64 {
	if h.causes == nil {
		return 0
	}
	return h.causes.slow
}

// Drops returns the drops for a reason.
func (h *Hop) Drops(reason datapath.Reason) int64 {
	if h.causes == nil {
		return 0
	}
	return h.causes.drops[reason]
}

// Dropped returns the drops of every reason.
func (h *Hop) Dropped() int64 {
	n := int64(0)
	for reason := range datapath.Reasons {
		n += h.Drops(reason)
	}
	return n
}

// drop books drops for a reason.
func (h *Hop) drop(reason datapath.Reason, n int64) {
	if n == 0 {
		return
	}
	h.caused().drops[reason] += n
}

// A Collector collects tallies.
type Collector struct {
	Sets    *Sets
	expect  []policy.Expectation
	names   []string // of the traffic
	tallies map[Key]*Tally
	flows   []*Flow
	settled []*Tally // in a fixed order, once Finish was called
	tcp     map[oneWay]*Flows
	until   time.Duration // that Finish was called for
}

// NewCollector returns the collector of a rehearsal.
func NewCollector(sets *Sets, h *policy.Rehearsal) *Collector {
	c := &Collector{Sets: sets, expect: h.Expect, tallies: make(map[Key]*Tally)}
	for i := range h.Traffic {
		c.names = append(c.names, h.Traffic[i].Name)
	}
	return c
}

// Tally returns the tally to book a flow's packet to.
func (c *Collector) Tally(f *Flow, k Key) *Tally {
	if f.last == nil || f.last.Key != k {
		f.settle()
		f.last = c.tallyOf(f, k)
	}
	return f.last
}

// settle books the packets that went to the last tally.
func (f *Flow) settle() {
	n, last := f.Received+f.lost, (*booking)(nil)
	for i := range f.booked {
		b := &f.booked[i]
		if n -= b.packets; b.tally == f.last {
			last = b
		}
	}
	if last != nil {
		last.packets += n
	}
}

// tallyOf returns the tally of a flow's packets of a key, made with the first.
func (c *Collector) tallyOf(f *Flow, k Key) *Tally {
	for i := range f.booked {
		if b := &f.booked[i]; b.tally.Key == k {
			return b.tally
		}
	}
	var t *Tally
	if !f.IsCall() {
		t = c.tallies[k]
	}
	if t == nil {
		t = &Tally{Key: k, judged: k.In, call: f.IsCall(), slow: c.slow(k, f.IsCall())}
		if !f.IsCall() {
			c.tallies[k] = t
		}
	}
	if len(f.booked) == 0 {
		c.flows = append(c.flows, f)
	}
	f.booked = append(f.booked, booking{tally: t})
	return t
}

// Join takes the tallies of collectors that no traffic shares but calls, and their flows in the order given.
func (c *Collector) Join(others []*Collector, flows []*Flow) {
	c.flows = flows
	for _, o := range others {
		maps.Copy(c.tallies, o.tallies)
	}
}

// slow returns the least delay that an expectation of the packets of a key allows. A
// call may come to count for any class.
func (c *Collector) slow(k Key, isCall bool) time.Duration {
	least := time.Duration(math.MaxInt64)
	for i := range c.expect {
		e := &c.expect[i]
		if e.Metric == policy.Delay && e.WhereName == "" && (isCall || e.Subject == c.names[k.Traffic] || c.Sets.Has(k.In, e.Subject)) {
			least = min(least, time.Duration(e.Limit))
		}
	}
	return least
}

// Finish gives each flow to the tally that has most of its packets, which judges it,
// and each call to all classes that any of its packets was in. It is called once, when
// all packets until a time are booked.
func (c *Collector) Finish(until time.Duration) {
	c.until = until
	for _, f := range c.flows {
		f.settle()
		most := &f.booked[0]
		for i := range f.booked {
			b := &f.booked[i]
			b.tally.seconds = max(b.tally.seconds, min(f.lasts, max(until-f.from, time.Millisecond)).Seconds())
			if b.packets > most.packets {
				most = b
			}
		}
		most.tally.flows = append(most.tally.flows, f)
		if f.IsCall() {
			for _, way := range []*Flow{f, f.opposite()} {
				if way == nil { // nothing was sent that way
					continue
				}
				for i := range way.booked {
					for j := range f.booked {
						t := f.booked[j].tally
						t.judged = c.Sets.Union(t.judged, way.booked[i].tally.In)
					}
				}
			}
		}
	}
	type whole struct {
		Key
		judged Set
	}
	calls := make(map[whole]*Tally)
	for _, f := range c.flows {
		if !f.IsCall() {
			continue
		}
		for i := range f.booked {
			t := f.booked[i].tally
			k := whole{t.Key, t.judged}
			if into := calls[k]; into != nil {
				into.merge(t)
			} else {
				calls[k] = t
			}
		}
		f.booked = nil
	}
	all := make([]*Tally, 0, len(c.tallies)+len(calls))
	for _, t := range c.tallies {
		all = append(all, t)
	}
	for _, t := range calls {
		all = append(all, t)
	}
	for _, t := range all {
		t.settle()
	}
	slices.SortFunc(all, func(a, b *Tally) int {
		back := func(t *Tally) int {
			if t.Reverse {
				return 1
			}
			return 0
		}
		return cmp.Or(cmp.Compare(a.Traffic, b.Traffic), back(a)-back(b), cmp.Compare(a.First, b.First), c.Sets.compare(a.judged, b.judged), c.Sets.compare(a.In, b.In))
	})
	c.settled = all
}

// merge adds another tally of the same key.
func (t *Tally) merge(o *Tally) {
	t.sent += o.sent
	t.late += o.late
	t.reordered += o.reordered
	t.slowed += o.slowed
	if o.least > 0 {
		t.quickest(o.least)
	}
	t.bytes += o.bytes
	t.wanted += o.wanted
	t.seconds = max(t.seconds, o.seconds)
	t.delay.Merge(&o.delay)
	t.jitter.Merge(&o.jitter)
	t.flows = append(t.flows, o.flows...)
	for i := range o.hops {
		t.hop(0, o.hops[i].Place, o.hops[i].Slot).add(&o.hops[i])
	}
	o.settle()
	for _, a := range o.arrived {
		t.arrives(a.dscp, a.packets)
	}
}

// add adds what another hop of the same place and slot has.
func (h *Hop) add(o *Hop) {
	h.Packets += o.Packets
	h.Wait += o.Wait
	h.Max = max(h.Max, o.Max)
	for reason := range datapath.Reasons {
		h.drop(reason, o.Drops(reason))
	}
	if o.causes != nil {
		h.caused().slow += o.causes.slow
		for _, c := range o.causes.by {
			h.blame(c)
		}
	}
}

// hop returns the hop of a place and slot, which is likely the i-th.
func (t *Tally) hop(i int, place, slot int32) *Hop {
	if i < len(t.hops) && t.hops[i].Place == place && t.hops[i].Slot == slot {
		return &t.hops[i]
	}
	for i := range t.hops {
		if h := &t.hops[i]; h.Place == place && h.Slot == slot {
			return h
		}
	}
	t.hops = append(t.hops, Hop{Place: place, Slot: slot})
	return &t.hops[len(t.hops)-1]
}

// walked books the steps of a packet and returns how long it waited in all.
func (t *Tally) addPath(steps []Step, slow bool) (waited time.Duration) {
	for i := range steps {
		s := &steps[i]
		waited += s.Wait
		h := t.hop(i, s.Place, s.Slot)
		h.Packets++
		h.Wait += float64(s.Wait)
		h.Max = max(h.Max, s.Wait)
		if slow && s.Wait > 0 {
			h.caused().slow += float64(s.Wait)
		}
		if s.Reason != datapath.Passed {
			h.drop(s.Reason, 1)
		}
		if s.By > 0 && (s.Wait > 0 || s.Reason != datapath.Passed) {
			h.blame(culprit{s.By, s.Reason, 1, float64(s.Wait)})
		}
	}
	return waited
}

func (t *Tally) arrives(dscp codepoint.DSCP, packets int64) {
	if dscp != t.mark {
		t.settle()
		t.mark = dscp
	}
	t.marked += packets
}

// settle books the packets that arrived with one DSCP after the other.
func (t *Tally) settle() {
	dscp, packets := t.mark, t.marked
	if t.marked = 0; packets == 0 {
		return
	}
	for i := range t.arrived {
		if t.arrived[i].dscp == dscp {
			t.arrived[i].packets += packets
			return
		}
	}
	t.arrived = append(t.arrived, arrivals{dscp, packets})
}

// Dropped books a packet that was lost.
func (t *Tally) Dropped(f *Flow, n int64, length int, steps []Step) {
	t.sent++
	t.wanted += int64(length)
	f.Dropped(n)
	t.addPath(steps, false)
}

// An Arrived packet is one of length bytes that arrived Delay after it was sent.
type Arrived struct {
	Number      int64 // in its flow
	Sent, Delay time.Duration
	End         time.Duration // of its source
	Length      int
	DSCP        codepoint.DSCP
}

// Delivered books a packet that arrived. It reports whether the packet is of a call and too late to be played.
func (t *Tally) Delivered(f *Flow, a *Arrived, steps []Step) (late bool) {
	t.sent++
	t.wanted += int64(a.Length)
	counts, late, overtaken := f.Delivered(a.Number, a.Sent, a.Delay, a.End)
	if counts {
		t.bytes += int64(a.Length)
	}
	if late {
		t.late++
	}
	if overtaken {
		t.reordered++
	}
	t.delay.Add(a.Delay)
	if f.Received > 1 {
		t.jitter.Add(f.Jitter())
	}
	t.arrives(a.DSCP, 1)
	slow := late || a.Delay > t.slow
	if slow {
		t.slowed++
	}
	t.quickest(a.Delay - t.addPath(steps, slow) + 1)
	return late
}

// quickest notes the least that a packet's way takes without waits, plus 1.
func (t *Tally) quickest(way time.Duration) {
	if t.least == 0 || way < t.least {
		t.least = way
	}
}

// in returns the tallies that a test chooses, in a fixed order.
func (c *Collector) in(choose func(*Tally) bool) []*Tally {
	var ts []*Tally
	for _, t := range c.settled {
		if choose(t) {
			ts = append(ts, t)
		}
	}
	return ts
}

// ways divides tallies, in their order, into those of each traffic and direction.
func ways(ts []*Tally) [][]*Tally {
	var out [][]*Tally
	for i, t := range ts {
		if i == 0 || t.Traffic != ts[i-1].Traffic || t.Reverse != ts[i-1].Reverse {
			out = append(out, nil)
		}
		out[len(out)-1] = append(out[len(out)-1], t)
	}
	return out
}

// nameOf returns the name of the traffic and direction of a tally.
func (c *Collector) nameOf(t *Tally) string {
	return policy.Directed(c.names[t.Traffic], t.Reverse)
}

// sum is several tallies together.
type sum struct {
	sent, received, late int64
	reordered            int64
	rate, wanted         float64
	pps, wantedPps       float64
	delay, jitter        Distribution
	worstJitter          float64
	calls                bool
	mos                  float64 // of the worst call; 0: there is none
	mosSum               float64 // of all
	mosOf                int
	hellos               bool
	givenUp              int64
}

func add(ts []*Tally) sum {
	var s sum
	for _, t := range ts {
		s.sent += t.sent
		s.received += t.received()
		s.late += t.late
		s.reordered += t.reordered
		s.calls = s.calls || t.call
		if t.seconds > 0 {
			s.rate += float64(t.bytes*8) / t.seconds
			s.wanted += float64(t.wanted*8) / t.seconds
			s.pps += float64(t.received()) / t.seconds
			s.wantedPps += float64(t.sent) / t.seconds
		}
		s.delay.Merge(&t.delay)
		s.jitter.Merge(&t.jitter)
		for _, f := range t.flows {
			s.worstJitter = max(s.worstJitter, f.MeanJitter())
			if f.hellos != nil {
				s.hellos, s.givenUp = true, s.givenUp+f.GivenUp()
			}
			if f.IsCall() {
				m := f.MOS()
				if s.mos == 0 || m < s.mos {
					s.mos = m
				}
				s.mosSum, s.mosOf = s.mosSum+m, s.mosOf+1
			}
		}
	}
	return s
}

func (s *sum) loss() float64 { return part(s.sent-s.received, s.sent) }

// lateOrNil returns the ratio of the packets that arrived too late to be played, or nil
// when there is no call.
func (s *sum) lateOrNil() *float64 {
	if !s.calls {
		return nil
	}
	l := part(s.late, s.received)
	return &l
}

// deadOrNil returns how often nodes gave their neighbours up, or nil when there are no hellos.
func (s *sum) deadOrNil() *int64 {
	if !s.hellos {
		return nil
	}
	return &s.givenUp
}

func (s *sum) mosOrNil() *float64 {
	if s.mos == 0 {
		return nil
	}
	m := round(s.mos, 4)
	return &m
}

func (s *sum) meanMOSOrNil() *float64 {
	if s.mosOf == 0 {
		return nil
	}
	m := round(s.mosSum/float64(s.mosOf), 4)
	return &m
}

func part(n, of int64) float64 {
	if of == 0 {
		return 0
	}
	return round(float64(n)/float64(of), 9)
}

func round(v float64, digits int) float64 {
	p := math.Pow10(digits)
	return math.Round(v*p) / p
}

// met is what a row says of a sum.
func (s *sum) met() TrafficFigures {
	return TrafficFigures{SentPackets: s.sent, ReceivedPackets: s.received, Loss: s.loss(), Late: s.lateOrNil(),
		OfferedBps: int64(math.Round(s.wanted)), RateBps: int64(math.Round(s.rate)),
		OfferedPps: round(s.wantedPps, 3), RatePps: round(s.pps, 3), Delay: s.delay.Summary(), JitterMs: inMilliseconds(s.worstJitter), MOS: s.mosOrNil(), MOSMean: s.meanMOSOrNil(), Dead: s.deadOrNil()}
}

// Rows returns a row for each traffic, direction and first class; one without a class for
// a traffic that sent nothing.
func (c *Collector) Rows(h *policy.Rehearsal, classes []string) []Row {
	rows := []Row{}
	sent := 0 // of the traffic, all before
	silent := func(until int) {
		for ; sent < until; sent++ {
			rows = append(rows, Row{Name: c.names[sent], Direction: "forward"})
			if h.Traffic[sent].BothWays() {
				rows = append(rows, Row{Name: c.names[sent], Direction: "reverse"})
			}
		}
	}
	for _, way := range ways(c.settled) {
		silent(int(way[0].Traffic))
		sent = int(way[0].Traffic) + 1
		flows, most := c.ofTCP(way[0]), -1 // nil: what goes this way are acknowledgements
		for len(way) > 0 {
			n := 1
			for n < len(way) && way[n].First == way[0].First {
				n++
			}
			s := add(way[:n])
			rows = append(rows, Row{Name: c.names[way[0].Traffic], Direction: policy.DirectionOf(way[0].Reverse), Class: classes[way[0].First], TrafficFigures: s.met()})
			rows[len(rows)-1].OverTCP = c.overTCP(way[0])
			if most < 0 || s.sent > rows[most].SentPackets {
				most = len(rows) - 1
			}
			way = way[n:]
		}
		if flows != nil {
			rows[most].TCP = flows.met(c.until)
		}
	}
	silent(len(c.names))
	return rows
}

// ClassResults returns a line for each class that any packet counts for.
func (c *Collector) ClassResults(classes []string) []ClassResult {
	results := []ClassResult{}
	for _, name := range classes {
		if ts := c.in(func(t *Tally) bool { return c.Sets.Has(t.judged, name) }); len(ts) > 0 {
			s := add(ts)
			results = append(results, ClassResult{Class: name, TrafficFigures: s.met()})
		}
	}
	return results
}
