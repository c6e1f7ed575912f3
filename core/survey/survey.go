// Package survey sums traffic: who talks, how much, and when. It takes packets, or records of flows, in any number, and keeps
// bounded memory: up to MaxSums of each grouping are exact; beyond that the sums are those of Space-Saving (Metwally, Agrawal and
// El Abbadi 2005): what is shown was sent, less at most the error that stands beside it, and who sent more than a
// MaxSums-th part of everything is never missing.
package survey

import (
	"cmp"
	"container/heap"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
)

// A Grouping is by what traffic is summed.
type Grouping struct {
	Name string // app, client, …
	Head string // of its column
	None string // what traffic without one is called

	of func(r *Record) (key, bool) // false: the record has nothing to say of it
}

// Groupings are those there are. The first two are by address; what the others need is in the mix.
var Groupings = []Grouping{
	{"client", "client", "", func(r *Record) (key, bool) { return key{addr: r.client()}, r.Class == "" }},
	{"server", "server", "", func(r *Record) (key, bool) { return key{addr: r.server()}, r.Class == "" }},
	{"app", "application", "unknown", func(r *Record) (key, bool) { return key{name: r.App}, r.Class == "" }},
	{"dscp", "DSCP", "", func(r *Record) (key, bool) { return key{name: r.DSCP.Name()}, r.Class == "" }},
	{"vlan", "VLAN", "untagged", func(r *Record) (key, bool) {
		if !r.Tagged {
			return key{}, r.Class == ""
		}
		return key{name: vlanNames[r.VLAN&0xfff]}, true
	}},
	{"protocol", "protocol", "", func(r *Record) (key, bool) { return key{name: policy.ProtocolName(r.Flow.Protocol)}, r.Class == "" }},
	{"direction", "direction", "", func(r *Record) (key, bool) { return key{name: r.Direction.String()}, r.Class == "" }},
	{"class", "class at the gate", "", func(r *Record) (key, bool) { return key{name: r.Class}, r.Class != "" }},
}

const (
	byClient = iota
	byServer
	byMix // the first that is in the mix
)

var vlanNames = func() (names [4096]string) {
	for i := range names {
		names[i] = fmt.Sprint(i)
	}
	return names
}()

// A Direction is that of traffic: by the addresses inside, where these are known, or else by client and server.
type Direction uint8

// The directions.
const (
	ToServer Direction = iota
	ToClient
	Out
	In
	Within
	Passing
)

var directionWords = [...]string{"to server", "to client", "out", "in", "within", "passing"}

// String returns a direction as words.
func (d Direction) String() string { return directionWords[d] }

// A Record is what was seen of a flow.
type Record struct {
	Flow          packet.Flow
	FromClient    bool // it goes from the client to the server
	App           string
	ServerName    string
	DSCP          codepoint.DSCP
	Tagged        bool
	VLAN          uint16
	Class         string // of a gate's counters, which know nothing else
	Direction     Direction
	Packets       int64
	Bytes         int64         // of IP packets
	Began         int64         // flows that begin with it
	From, To      time.Duration // since 1970: the bytes are taken to be spread evenly between
	SecondUnknown bool          // it is not known in which seconds the bytes were
}

func (r *Record) client() netip.Addr {
	if r.FromClient {
		return r.Flow.From
	}
	return r.Flow.To
}

func (r *Record) server() netip.Addr {
	if r.FromClient {
		return r.Flow.To
	}
	return r.Flow.From
}

// port returns the server's port; 0 when both are above the registered ones.
func (r *Record) port() uint16 {
	port := r.Flow.FromPort
	if r.FromClient {
		port = r.Flow.ToPort
	}
	if port >= policy.FirstEphemeral {
		return 0
	}
	return port
}

// Bounds of a survey's memory.
const (
	MaxSums    = 1 << 16             // sums of each grouping
	MaxMinutes = 1 << 21             // minutes with traffic that are kept, of all sums together
	MaxCalls   = 1 << 14             // streams of RTP
	MaxSpan    = 24 * time.Hour      // of one record
	MaxLength  = 40 * 24 * time.Hour // of a survey
)

// A key is what one sum is of.
type key struct {
	addr   netip.Addr
	name   string
	number uint64
}

// A minute is what was sent in one, counted since 1970.
type minute struct{ at, bytes int64 }

// A sum is of one key. What each booking touches comes first.
type sum struct {
	bytes, packets, flows int64
	second, inSecond      int64 // that it is in, since 1970
	busiest, busiestAt    int64
	now                   minute // that it is in, and not yet among the minutes
	life                  uint32 // how many keys it had before
	unminuted             bool   // its minutes were given up
	index                 int    // in the heap
	minutes               []minute
	over                  int64 // of bytes, at most so many were another's
	key                   key
	named                 string  // a server's name
	pending               *Record // of a mix: what the groupings have not got of this second
	sampleFrom, sampleTo  netip.Addr
}

// A table is the sums of a grouping.
type table struct {
	sums   map[key]*sum
	least  leastFirst // all of them, once some were given up
	heaped bool
	last   *sum // looked up
}

type leastFirst []*sum

func (h leastFirst) Len() int           { return len(h) }
func (h leastFirst) Less(a, b int) bool { return h[a].bytes < h[b].bytes }
func (h leastFirst) Swap(a, b int)      { h[a], h[b] = h[b], h[a]; h[a].index, h[b].index = a, b }
func (h *leastFirst) Push(any)          {} // never: its length is that of the table
func (h *leastFirst) Pop() any          { return nil }

// at returns the sum of a key, if need be in the place of the least one.
func (t *table) at(s *Survey, k key) *sum {
	if t.last != nil && t.last.key == k {
		return t.last
	}
	i := t.sums[k]
	switch {
	case i != nil:
	case len(t.sums) < MaxSums:
		i = &sum{key: k, index: len(t.least)}
		t.sums[k] = i
		t.least = append(t.least, i)
	default:
		if !t.heaped {
			heap.Init(&t.least)
			t.heaped = true
		}
		i = t.least[0]
		delete(t.sums, i.key)
		s.spread(i)
		s.minutes -= int64(len(i.minutes))
		*i = sum{key: k, bytes: i.bytes, over: i.bytes, minutes: i.minutes[:0], index: i.index, life: i.life + 1}
		t.sums[k] = i
	}
	t.last = i
	return i
}

// sink puts a sum that has grown where it belongs.
func (t *table) sink(n *sum) {
	if t.heaped {
		heap.Fix(&t.least, n.index)
	}
}

// A Survey sums records.
type Survey struct {
	tables   []table // a grouping each
	mix      table   // by application, protocol, port, direction and marking at once
	total    sum
	from, to time.Duration
	calls    []*stream
	lost     int64 // streams that found no room
	minutes  int64 // kept
	coarse   bool  // some records did not say in which seconds they were
	refused  int64 // records whose times make no sense
	merged   []Call
	sources  []string
	inside   []netip.Prefix
}

// New returns an empty survey. inside is the addresses of the site, by which directions are out, in and within; nil: by client and server.
func New(inside []netip.Prefix) *Survey {
	s := &Survey{tables: make([]table, len(Groupings)), inside: inside}
	for i := range s.tables {
		s.tables[i].sums = make(map[key]*sum)
	}
	s.mix.sums = make(map[key]*sum)
	return s
}

// Directed returns the direction of a flow.
func (s *Survey) directed(f *packet.Flow, fromClient bool) Direction {
	if len(s.inside) == 0 {
		if fromClient {
			return ToServer
		}
		return ToClient
	}
	in := func(a netip.Addr) bool {
		return slices.ContainsFunc(s.inside, func(p netip.Prefix) bool { return p.Contains(a) })
	}
	switch from, to := in(f.From), in(f.To); {
	case from && to:
		return Within
	case from:
		return Out
	case to:
		return In
	}
	return Passing
}

// Add sums a record. Its Direction is set.
func (s *Survey) Add(r *Record) {
	k := r.amount()
	if !s.span(r.From, r.To) {
		return
	}
	s.coarse = s.coarse || r.SecondUnknown
	if r.Class == "" {
		r.Direction = s.directed(&r.Flow, r.FromClient)
	}
	for i := range Groupings[:byMix] {
		if id, told := Groupings[i].of(r); told {
			s.into(i, id, r)
		}
	}
	if r.Class == "" {
		n := s.mix.at(s, mixKey(r))
		n.sample(r)
		s.book(n, &k)
		s.mix.sink(n)
	}
	s.inGroups(r)
}

// span notes from when to when records are; false: the times of this one make no sense.
func (s *Survey) span(from, to time.Duration) bool {
	if to < from || from <= 0 || to-from > MaxSpan || s.from > 0 && (to-s.from > MaxLength || s.to-from > MaxLength) {
		s.refused++
		return false
	}
	if s.from == 0 || from < s.from {
		s.from = from
	}
	s.to = max(s.to, to)
	return true
}

// into books a record for the key of a grouping.
func (s *Survey) into(grouping int, k key, r *Record) *sum {
	t := &s.tables[grouping]
	n := t.at(s, k)
	if r.ServerName != "" && grouping == byServer {
		n.named = r.ServerName
	}
	a := r.amount()
	s.book(n, &a)
	t.sink(n)
	return n
}

// sample keeps the ends of the first record of a mix.
func (n *sum) sample(r *Record) {
	if n.packets == 0 {
		n.sampleFrom, n.sampleTo = r.client(), r.server()
	}
}

// inGroups books a record for the total, and for all groupings of the mix.
func (s *Survey) inGroups(r *Record) {
	a := r.amount()
	s.book(&s.total, &a)
	for i := byMix; i < len(Groupings); i++ {
		if k, told := Groupings[i].of(r); told {
			s.into(i, k, r)
		}
	}
	if s.minutes > MaxMinutes {
		s.forgetMinutes()
	}
}

// spread books what is pending of a mix for the groupings.
func (s *Survey) spread(n *sum) {
	if r := n.pending; r != nil && r.Packets > 0 {
		s.inGroups(r)
		r.Packets, r.Bytes, r.Began = 0, 0, 0
	}
}

// fromClient is the bit of a mix's key that says who sent it.
const fromClient = 1 << 6

// mixKey is what a record counts for in the mix.
func mixKey(r *Record) key {
	tag, client := uint64(0), uint64(0)
	if r.FromClient {
		client = fromClient
	}
	if r.Tagged {
		tag = uint64(r.VLAN&0xfff) + 1
	}
	return key{name: r.App, number: uint64(r.Flow.Protocol)<<56 | tag<<40 | uint64(r.port())<<16 | uint64(r.Direction)<<8 | client | uint64(r.DSCP)}
}

// An amount is what is booked.
type amount struct {
	bytes, packets, began int64
	from, to              time.Duration
}

func (r *Record) amount() amount { return amount{r.Bytes, r.Packets, r.Began, r.From, r.To} }

// book adds an amount to a sum.
func (s *Survey) book(n *sum, r *amount) {
	n.bytes += r.bytes
	n.packets += r.packets
	n.flows += r.began
	if second := int64(r.from / time.Second); second == n.second {
		n.inSecond += r.bytes
	} else {
		n.second, n.inSecond = second, r.bytes
	}
	if n.inSecond > n.busiest {
		n.busiest, n.busiestAt = n.inSecond, n.second
	}
	if n.unminuted {
		return
	}
	first, last := int64(r.from/time.Minute), int64(r.to/time.Minute)
	if first == last {
		if n.now.at != first {
			s.settle(n)
			n.now.at = first
		}
		n.now.bytes += r.bytes
		return
	}
	span, booked := float64(r.to-r.from), int64(0)
	for m := first; m <= last; m++ { // the part until the minute ends, less what is booked
		until := r.bytes
		if m < last {
			until = int64(float64(r.bytes) * float64(time.Duration(m+1)*time.Minute-r.from) / span)
		}
		if until > booked {
			s.inMinute(n, m, until-booked)
		}
		booked = until
	}
}

// settle puts the minute that a sum is in among its minutes.
func (s *Survey) settle(n *sum) {
	if n.now.bytes > 0 {
		s.inMinute(n, n.now.at, n.now.bytes)
	}
	n.now = minute{}
}

func (s *Survey) inMinute(n *sum, at, bytes int64) {
	i, found := slices.BinarySearchFunc(n.minutes, at, func(m minute, at int64) int { return cmp.Compare(m.at, at) })
	if found {
		n.minutes[i].bytes += bytes
		return
	}
	n.minutes = slices.Insert(n.minutes, i, minute{at, bytes})
	s.minutes++
}

// all returns every sum but the total.
func (s *Survey) all() (all []*sum) {
	for i := range s.tables {
		all = append(all, s.tables[i].least...)
	}
	return append(all, s.mix.least...)
}

// forgetMinutes gives up the minutes of the smaller half of the sums, so that what is kept stays bounded. The total keeps its own.
func (s *Survey) forgetMinutes() {
	all := slices.DeleteFunc(s.all(), func(n *sum) bool { return len(n.minutes) == 0 })
	slices.SortFunc(all, func(a, b *sum) int { return cmp.Compare(a.bytes, b.bytes) })
	for _, n := range all[:(len(all)+1)/2] {
		s.minutes -= int64(len(n.minutes))
		n.minutes, n.unminuted, n.now = nil, true, minute{}
	}
	if len(all) == 0 { // only the total is left
		s.minutes -= int64(len(s.total.minutes))
		s.total.minutes, s.total.unminuted = nil, true
	}
}
