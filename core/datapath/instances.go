package datapath

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"imbrel.example/imbrel/core/meter"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/schedule"
)

// Bounds of the instances of one entry. Beyond MaxInstances those that are new
// share one; where an instance has several queues, they are as many fewer, and
// one with fq-codel counts as nine. An instance that has idled, and whose buckets
// are full again, goes.
const (
	MaxInstances = 1 << 17
	minIdle      = time.Minute
)

// A key is what the packets of one instance have in common.
type key struct {
	outer               *instance // that it is within, or nil
	source, destination [16]byte
	in                  int32
	fromPort, toPort    uint16 // with protocol, of a flow
	vlan                uint16
	protocol            uint8
	parts               parts
}

// parts says which parts of a key there are: those of policy.Each, and more.
type parts uint8

const (
	bySource      = parts(policy.BySource)
	byDestination = parts(policy.ByDestination)
	byFlow        = parts(policy.ByFlow)
	byVLAN        = parts(policy.ByVLAN)
	byInterface   = parts(policy.ByInterface)
	is6           = parts(1 << 5)
	isOthers      = parts(1 << 6) // the instance that those beyond the bound share
)

// newKey returns the key of a packet by the parts that each wants. A part that
// the packet has not is not in it.
func newKey(by parts, pkt *packet.Packet) key {
	var k key
	f := &pkt.Flow
	if by&(bySource|byDestination|byFlow) != 0 && pkt.IsIP() {
		k.parts = by & (bySource | byDestination | byFlow)
		if f.From.Is6() {
			k.parts |= is6
		}
		if by&(bySource|byFlow) != 0 {
			k.source = f.From.As16()
		}
		if by&(byDestination|byFlow) != 0 {
			k.destination = f.To.As16()
		}
		if by&byFlow != 0 {
			k.fromPort, k.toPort, k.protocol = f.FromPort, f.ToPort, f.Protocol
		}
	}
	if by&byVLAN != 0 && pkt.Tagged {
		k.vlan = pkt.VLAN
		k.parts |= byVLAN
	}
	if by&byInterface != 0 {
		k.in = pkt.In
		k.parts |= byInterface
	}
	return k
}

// text returns a key in words, for an entry that has instances by so much.
func (k *key) text(by parts, inName func(int32) string) string {
	if k.parts&isOthers != 0 {
		return "all others"
	}
	address := func(a [16]byte) string {
		ip := netip.AddrFrom16(a)
		if k.parts&is6 == 0 {
			ip = ip.Unmap()
		}
		return ip.String()
	}
	var words []string
	for i, name := range policy.EachWords() {
		part := parts(1) << i
		switch {
		case by&part == 0:
		case k.parts&part == 0 && part == byVLAN:
			words = append(words, "no vlan")
		case k.parts&part == 0:
			words = append(words, "not IP")
		case part == bySource:
			words = append(words, name+" "+address(k.source))
		case part == byDestination:
			words = append(words, name+" "+address(k.destination))
		case part == byFlow:
			words = append(words, fmt.Sprintf("flow %s, %s port %d to %s port %d", policy.ProtocolName(k.protocol),
				address(k.source), k.fromPort, address(k.destination), k.toPort))
		case part == byVLAN:
			words = append(words, fmt.Sprint(name, " ", k.vlan))
		case part == byInterface:
			words = append(words, name+" "+inName(k.in))
		}
	}
	return strings.Join(slices.Compact(words), ", ")
}

// An instanceSet is the instances of an entry: separate policers, limits and queues for
// every value.
type instanceSet struct {
	by         parts
	first, end int32          // the elements of which an instance has a state
	outer      *instanceSet   // that it is within, or nil
	inner      []*instanceSet // within it
	open       int            // the scheduler's entry within which they are, or from the first of the outer instance
	node       schedule.Entry // of an instance
	cost       int            // of an instance, in queues
	instances  map[key]*instance
	// In the order in which it was last looked whether they idle.
	oldest, newest *instance
	ranks          []*instance       // those that were offered most, in no order
	floor          uint64            // no more than the least of them was offered; 0: not all ranks are taken
	gone           map[key]*instance // of those with a rank, the ones that were removed
	spare          []*instance
	forgotten      uint64 // packets offered to the others that were removed
	most           int
	idle           time.Duration // after which an instance is as a new one: its buckets are full
	shared         uint64        // packets of the instance that those beyond the bound share
}

// An instance is one value's. It is removed when it has idled.
type instance struct {
	set    *instanceSet
	key    key
	inner  int           // how many there are within it
	seen   time.Duration // when its last packet came
	looked time.Duration
	next   *instance
	node   int  // the scheduler's
	ranked bool // it is among the set's ranks

	Counts

	states []state
	only   [1]state // states, when it has no more: beside what else is used with it
}

func newInstanceSet(by policy.Each, outer *instanceSet, first int32, open int) *instanceSet {
	e := &instanceSet{by: parts(by), outer: outer, first: first, open: open, idle: minIdle, instances: make(map[key]*instance), gone: make(map[key]*instance)}
	if outer != nil {
		outer.inner = append(outer.inner, e)
	}
	return e
}

// find returns the instance of a packet that has one.
func (e *instanceSet) find(pkt *packet.Packet) *instance {
	k := newKey(e.by, pkt)
	if e.outer != nil {
		k.outer = e.outer.find(pkt)
	}
	if i := e.instances[k]; i != nil {
		return i
	}
	return e.instances[key{parts: isOthers, outer: k.outer}]
}

// instance returns the instance of a packet, made on the first.
func (p *Path) instance(now time.Duration, e *instanceSet, pkt *packet.Packet) *instance {
	k := newKey(e.by, pkt)
	if e.outer != nil {
		k.outer = p.instance(now, e.outer, pkt)
	}
	i := e.instances[k]
	if i == nil {
		p.expire(now, e)
		if len(e.instances) >= MaxInstances/max(e.cost, 1) && !p.giveWay(e) {
			e.shared++
			k = key{parts: isOthers, outer: k.outer}
			i = e.instances[k]
		}
		if i == nil {
			i = p.newInstance(now, e, k)
		}
	}
	i.seen = now
	return i
}

func (p *Path) newInstance(now time.Duration, e *instanceSet, k key) *instance {
	open := e.open
	if k.outer != nil {
		open += k.outer.node
		k.outer.inner++
	}
	var i *instance
	if n := len(e.spare); n > 0 { // where somebody invents values, nothing is made for each
		i = e.spare[n-1]
		e.spare = e.spare[:n-1]
		states := i.states
		clear(states)
		*i = instance{set: e, key: k, looked: now, states: states}
		if len(states) == 1 {
			i.states = i.only[:]
		}
	} else {
		i = &instance{set: e, key: k, looked: now}
		i.states = i.only[:]
		if n := int(e.end - e.first); n > 1 {
			i.states = make([]state, n)
		}
	}
	i.node = p.tree.Add(open, e.node)
	for n := range i.states {
		if el := &p.elements[e.first+int32(n)]; el.instances == e {
			i.states[n].start(el, i.node)
			i.states[n].of = i
			if el.number == e.first && el.entry.Meter != nil {
				i.Need = meter.NewNeed(el.entry.Meter.Rate)
			}
			p.node(&i.states[n])
			if el.limited {
				p.limit(now, el, i.states[n].node)
			}
		}
	}
	if before := e.gone[k]; before != nil { // it goes on counting
		delete(e.gone, k)
		i.Counts, i.ranked = before.Counts, true
		e.ranks[slices.Index(e.ranks, before)] = i
	}
	e.instances[k] = i
	e.most = max(e.most, len(e.instances))
	e.append(i)
	return i
}

func (e *instanceSet) append(i *instance) {
	i.next = nil
	if e.oldest == nil {
		e.oldest = i
	} else {
		e.newest.next = i
	}
	e.newest = i
}

// expire removes instances that have idled. It looks at a few of those not
// looked at for longest, so that no packet waits for it.
func (p *Path) expire(now time.Duration, e *instanceSet) {
	for _, inner := range e.inner {
		p.expire(now, inner)
	}
	for range 16 {
		i := e.oldest
		if i == nil || now-i.looked <= e.idle {
			return
		}
		e.oldest = i.next
		if now-i.seen > e.idle && i.rests() {
			p.remove(i)
			continue
		}
		i.looked = now
		e.append(i)
	}
}

// rests reports whether nothing of an instance waits, nor is there any within it.
func (i *instance) rests() bool {
	return i.inner == 0 && !slices.ContainsFunc(i.states, state.waits)
}

// remove takes out an instance that rests, which is in the order no more.
func (p *Path) remove(i *instance) {
	e := i.set
	if i.key.outer != nil {
		i.key.outer.inner--
	}
	delete(e.instances, i.key)
	p.tree.Remove(i.node)
	if i.ranked {
		e.gone[i.key] = i
	} else {
		e.forgotten += i.Offered
		e.spare = append(e.spare, i)
	}
}

// giveWay removes an instance whose addresses nobody has answered, and reports whether one of a few is such:
// whoever invents addresses takes the places of other inventions.
func (p *Path) giveWay(e *instanceSet) bool {
	if p.answered == nil {
		return false
	}
	for range 64 {
		i := e.oldest
		if i == nil {
			return false
		}
		e.oldest = i.next
		if i.key.parts&isOthers == 0 && i.rests() && !p.isAnswered(&i.key) {
			p.remove(i)
			return true
		}
		e.append(i)
	}
	return false
}

// isAnswered reports whether the addresses of a key were seen in the other direction.
func (p *Path) isAnswered(k *key) bool {
	seen := func(a [16]byte) bool {
		ip := netip.AddrFrom16(a)
		if k.parts&is6 == 0 {
			ip = ip.Unmap()
		}
		return p.answered(ip)
	}
	return (k.parts&(bySource|byFlow) == 0 || seen(k.source)) && (k.parts&(byDestination|byFlow) == 0 || seen(k.destination))
}

// maxRanks is how many of the instances that were offered most are known at any time.
const maxRanks = 32

// rank notes an instance that was offered more than the floor, in place of the one that was offered least.
func (e *instanceSet) rank(i *instance) {
	if len(e.ranks) < maxRanks {
		i.ranked = true
		e.ranks = append(e.ranks, i)
		return
	}
	least := 0
	for n, o := range e.ranks {
		if o.OfferedBytes < e.ranks[least].OfferedBytes {
			least = n
		}
	}
	out := e.ranks[least]
	if e.floor = out.OfferedBytes; i.OfferedBytes <= e.floor {
		return
	}
	out.ranked, i.ranked = false, true
	e.ranks[least] = i
	if e.gone[out.key] == out {
		delete(e.gone, out.key)
		e.forgotten += out.Offered
	}
}

// dropped counts a packet of an instance, and of those around it, that went.
func (i *instance) dropped() {
	for ; i != nil; i = i.key.outer {
		i.Dropped++
	}
}

func (s state) waits() bool { return s.waiting != nil && s.waiting.Packets > 0 }

// text returns the value of an instance in words.
func (i *instance) text(inName func(int32) string) string {
	own := i.key.text(i.set.by, inName)
	if i.key.outer != nil {
		return i.key.outer.text(inName) + ", " + own
	}
	return own
}

// An Instance is what was counted for one value of an entry's each.
type Instance struct {
	Value string
	Counts
}

// Counts are what is counted for an instance.
type Counts struct {
	Offered, Dropped, Sent  uint64  // packets
	OfferedBytes, SentBytes uint64  // SentBytes: until rates are over
	Wait                    float64 // of all that were sent together, in ns
	MaxWait                 time.Duration
	Busiest                 Busiest    // of what was sent
	Conforming              Busiest    // metered, and not red
	Red                     uint64     // packets
	Need                    meter.Need // of the entry's own policer
}

func (c *Counts) sent(now time.Duration, pkt *packet.Packet, closed bool) {
	wait := now - pkt.Arrived
	c.Sent++
	c.Wait += float64(wait)
	c.MaxWait = max(c.MaxWait, wait)
	if !closed {
		c.SentBytes += uint64(pkt.Size)
		c.Busiest.Add(now, int(pkt.Size))
	}
}

func (c *Counts) metered(now time.Duration, size int, color meter.Color) {
	c.Need.Add(now, size)
	if color == meter.Red {
		c.Red++
	} else {
		c.Conforming.Add(now, size)
	}
}

// Busiest finds the second of the clock in which most bytes went. The zero Busiest is
// ready.
type Busiest struct {
	Max   int64
	end   time.Duration // of the second that is counted
	bytes int64
}

// Add counts bytes that went at a time, not before the last.
func (b *Busiest) Add(now time.Duration, bytes int) {
	if now >= b.end { // a division a second, not a packet
		b.end, b.bytes = now-now%time.Second+time.Second, 0
	}
	b.bytes += int64(bytes)
	b.Max = max(b.Max, b.bytes)
}

// Instances returns, of the entry of a class, how many instances there were at
// most at a time, how many packets shared one because there were too many, and
// those that were offered most; one that idled and came again counts with what it
// had before. For a few it takes a time that does not depend on how many there are.
func (p *Path) Instances(class, top int) (most int, shared uint64, list []Instance) {
	if p.classifier == nil || p.elements[class].instances == nil || p.elements[class].instances.first != int32(class) {
		return 0, 0, nil
	}
	e := p.elements[class].instances
	add := func(i *instance) { list = append(list, Instance{i.text(p.inName), i.Counts}) }
	if top <= maxRanks {
		for _, i := range e.ranks {
			add(i)
		}
	} else {
		for _, i := range e.instances {
			add(i)
		}
		for _, i := range e.gone {
			add(i)
		}
	}
	slices.SortFunc(list, func(a, b Instance) int {
		return cmp.Or(cmp.Compare(b.OfferedBytes, a.OfferedBytes), strings.Compare(a.Value, b.Value))
	})
	return e.most, e.shared, list[:min(top, len(list))]
}

// InstanceOf returns the value of a packet for an entry with `each`, in words.
func (p *Path) InstanceOf(class int, pkt *packet.Packet) string {
	return p.elements[class].instances.find(pkt).text(p.inName)
}
