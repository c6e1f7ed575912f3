package simulate

import (
	"fmt"
	"slices"
	"time"

	"imbrel.example/imbrel/core/datapath"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
)

// series collects what happens over time. Its memory is bounded: at most MaxIntervals
// intervals.
type series struct {
	run      *run
	every    time.Duration
	length   int
	first    int // the interval in which the warm-up ends
	paths    map[*path]*pathSeries
	carriers map[*carrier]*pathSeries
	ways     map[wayKey]*waySeries
	steps    int // of all classes and instances
	whens    []measure.WhenActive
	open     map[heldKey]int // of whens, those in force
}

// A wayKey is a traffic by its number, in a direction.
type wayKey struct {
	index   int
	reverse bool
}

// A waySeries is what arrived of one traffic in one direction, and was lost.
type waySeries struct {
	received, lost, late, goodput []int64
	delay                         measure.TimesBuilder
}

type heldKey struct {
	entry *plan.Entry
	limit datapath.Limit
}

// MaxIntervals bounds the intervals of a series.
const MaxIntervals = 100_000

// maxSteps bounds the intervals of all classes and instances together: they take 32
// bytes each.
const maxSteps = 10_000_000

// maxSeriesInstances bounds the instances of an entry whose series is kept: the first.
const maxSeriesInstances = 64

type pathSeries struct {
	slots []*slotSeries
}

type slotSeries struct {
	name                         string
	offered, sent, drops, queues []int64
	waiting                      int64
	waits                        measure.TimesBuilder
	instances                    map[string]*slotSeries
	listed                       []*slotSeries
}

func newSeries(r *run) *series {
	n := int((r.plan.Lasts + r.options.Every - 1) / r.options.Every)
	return &series{run: r, every: r.options.Every, length: n, paths: make(map[*path]*pathSeries), carriers: make(map[*carrier]*pathSeries), ways: make(map[wayKey]*waySeries), open: make(map[heldKey]int)}
}

// grow counts the intervals of another class, instance or traffic.
func (s *series) grow(n int) {
	if s.steps += n; s.steps > maxSteps && s.run.failed == nil {
		s.run.failed = fmt.Errorf("a series of %d steps for each class and instance comes to more than %d: take longer steps", n, maxSteps)
	}
}

func (s *series) newSlot(name string) *slotSeries {
	n := s.length
	s.grow(n)
	all := make([]int64, 4*n)
	return &slotSeries{name: name, offered: all[:n:n], sent: all[n : 2*n : 2*n], drops: all[2*n : 3*n : 3*n], queues: all[3*n:]}
}

// slotsOf calls do with the series of a packet's entry, of those around it, and of their
// instances, while the rehearsal lasts.
func (s *series) slotsOf(p *path, f *flight, do func(at int, k *slotSeries)) {
	at := int(s.run.now / s.every)
	if !s.run.measured() {
		return
	}
	ps := s.paths[p]
	if ps == nil {
		ps = &pathSeries{slots: make([]*slotSeries, len(p.names))}
		s.paths[p] = ps
	}
	for i := int(f.Slot); i >= 0; i = p.Parent(i) {
		if ps.slots[i] == nil {
			ps.slots[i] = s.newSlot(p.names[i])
		}
		k := ps.slots[i]
		do(at, k)
		if p.config.Plan == nil || p.attached.Entries[i].Each == 0 {
			continue
		}
		value := p.InstanceOf(i, &f.Packet)
		in := k.instances[value]
		if in == nil {
			if len(k.instances) >= maxSeriesInstances {
				continue
			}
			if k.instances == nil {
				k.instances = make(map[string]*slotSeries)
			}
			in = s.newSlot(value)
			k.instances[value] = in
			k.listed = append(k.listed, in)
		}
		do(at, in)
	}
}

func (s *series) offered(p *path, f *flight, reason datapath.Reason) {
	s.slotsOf(p, f, func(at int, k *slotSeries) { k.offer(at, int64(f.Size), reason == datapath.Passed) })
}

// offer books a packet that came, and whether it was taken.
func (k *slotSeries) offer(at int, size int64, taken bool) {
	k.offered[at] += size
	if !taken {
		k.drops[at]++
		return
	}
	k.waiting += size
	k.queues[at] = max(k.queues[at], k.waiting)
}

// send books a packet that left after a wait.
func (k *slotSeries) send(at int, size int64, wait time.Duration) {
	k.queues[at] = max(k.queues[at], k.waiting)
	k.waiting -= size
	k.sent[at] += size
	k.waits.Add(at, wait)
}

func (s *series) dropped(p *path, f *flight) {
	s.slotsOf(p, f, func(at int, k *slotSeries) {
		k.drops[at]++
		k.waiting -= int64(f.Size)
	})
}

func (s *series) sent(p *path, f *flight) {
	s.slotsOf(p, f, func(at int, k *slotSeries) { k.send(at, int64(f.Size), s.run.now-f.Arrived) })
}

// atCarrier does with the series of a packet's class at a carrier, where there is a series.
func (r *run) atCarrier(c *carrier, f *flight, do func(at int, k *slotSeries)) {
	if r.series != nil {
		r.series.carrier(c, f, do)
	}
}

// carrier does with the series of a packet's class at a carrier, while the rehearsal lasts.
func (s *series) carrier(c *carrier, f *flight, do func(at int, k *slotSeries)) {
	if !s.run.measured() {
		return
	}
	cs := s.carriers[c]
	if cs == nil {
		cs = &pathSeries{slots: make([]*slotSeries, len(s.run.classes))}
		s.carriers[c] = cs
	}
	k := &cs.slots[f.prediction.first]
	if *k == nil {
		*k = s.newSlot(s.run.classes[f.prediction.first])
	}
	do(int(s.run.now/s.every), *k)
}

// way does with the series of a traffic in one direction, while the rehearsal lasts.
func (s *series) way(index int, reverse bool, do func(at int, w *waySeries)) {
	if !s.run.measured() {
		return
	}
	w := s.ways[wayKey{index, reverse}]
	if w == nil {
		n := s.length
		s.grow(n)
		all := make([]int64, 4*n)
		w = &waySeries{received: all[:n:n], lost: all[n : 2*n : 2*n], late: all[2*n : 3*n : 3*n], goodput: all[3*n:]}
		s.ways[wayKey{index, reverse}] = w
	}
	do(int(s.run.now/s.every), w)
}

// turned notes that something with a `when` came into force or went out of it.
func (r *run) turned(at *port, d policy.Direction, e *plan.Entry, l datapath.Limit, when time.Duration, inForce bool) {
	p := at.path(d)
	p.turns = append(p.turns, turn{e, l, when, inForce})
	s := r.series
	if s == nil || when >= r.plan.Lasts {
		return
	}
	k := heldKey{e, l}
	if i, known := s.open[k]; known && !inForce {
		s.whens[i].ToS = when.Seconds()
		delete(s.open, k)
	} else if inForce {
		s.open[k] = len(s.whens)
		s.whens = append(s.whens, measure.WhenActive{Node: at.iface.Node.Name, Interface: at.iface.Name, Direction: d.String(), Class: e.Name, Limit: l.String(),
			FromS: when.Seconds(), ToS: r.lasts.Seconds()})
	}
}

func (s *series) result() *measure.Series {
	s.first = int(s.run.plan.WarmUp / s.every)
	s.length = max(int((s.run.until()+s.every-1)/s.every), s.first+1)
	for _, i := range s.open {
		s.whens[i].ToS = s.run.until().Seconds()
	}
	out := &measure.Series{IntervalS: s.every.Seconds(), FromS: (time.Duration(s.first) * s.every).Seconds(), Interfaces: []measure.SeriesInterface{}, Whens: s.whens}
	if out.Whens == nil {
		out.Whens = []measure.WhenActive{}
	}
	for _, port := range s.run.network.ports {
		paths := []formerPath{}
		for _, o := range s.run.former {
			if o.at == port {
				paths = append(paths, o)
			}
		}
		for _, d := range []policy.Direction{policy.In, policy.Out} {
			paths = append(paths, formerPath{path: port.path(d), direction: d})
		}
		for _, o := range paths {
			p, d := o.path, o.direction
			ps := s.paths[p]
			if ps == nil {
				continue
			}
			rate := int64(port.iface.Rate)
			if p.config.Plan != nil {
				rate = int64(p.config.Plan.Whole)
			}
			k := measure.SeriesInterface{Node: port.iface.Node.Name, Interface: port.iface.Name, Direction: d.String(), RateBps: rate}
			for i, slot := range ps.slots {
				if slot == nil {
					continue
				}
				c := s.class(slot)
				if p.config.Plan != nil {
					c.Wakes = s.wakes(slot, int64(p.attached.Entries[i].Promise))
				}
				slices.SortStableFunc(slot.listed, func(a, b *slotSeries) int { return int(total(b.offered) - total(a.offered)) })
				for _, in := range slot.listed[:min(5, len(slot.listed))] {
					c.Instances = append(c.Instances, s.class(in))
				}
				k.Classes = append(k.Classes, c)
			}
			out.Interfaces = append(out.Interfaces, k)
		}
		if cs := s.carriers[port.carrier]; cs != nil {
			k := measure.SeriesInterface{Node: port.iface.Node.Name, Interface: port.iface.Name, Direction: "carrier", RateBps: int64(port.carrier.rate)}
			for _, slot := range cs.slots {
				if slot != nil {
					k.Classes = append(k.Classes, s.class(slot))
				}
			}
			out.Interfaces = append(out.Interfaces, k)
		}
	}
	out.Traffic = []measure.SeriesTraffic{}
	for i := range s.run.plan.Traffic {
		t := &s.run.plan.Traffic[i]
		for _, reverse := range []bool{false, true} {
			if w := s.ways[wayKey{i, reverse}]; w != nil {
				out.Traffic = append(out.Traffic, s.traffic(t.Name, reverse, w))
			}
		}
	}
	out.Calls = s.run.collectors[0].CallScores()
	return out
}

// traffic returns what arrived of a traffic in one direction.
func (s *series) traffic(name string, reverse bool, w *waySeries) measure.SeriesTraffic {
	t := measure.SeriesTraffic{Name: name, Direction: "forward", Lost: w.lost[s.first:s.length], Delay: w.delay.Times(s.first, s.length), ReceivedBps: s.rates(w.received)}
	if reverse {
		t.Direction = "reverse"
	}
	if total(w.late) > 0 {
		t.Late = w.late[s.first:s.length]
	}
	if total(w.goodput) > 0 {
		t.GoodputBps = s.rates(w.goodput)
	}
	return t
}

// rates returns bytes in each interval as rates.
func (s *series) rates(bytes []int64) []int64 {
	out := make([]int64, s.length-s.first)
	for i := range out {
		out[i] = over(uint64(bytes[s.first+i]), s.interval(s.first+i))
	}
	return out
}

func total(v []int64) int64 {
	n := int64(0)
	for _, x := range v {
		n += x
	}
	return n
}

// interval returns for how long of the i-th interval was measured: the last may be shorter, and the one in which the warm-up ends.
func (s *series) interval(i int) time.Duration {
	from, to := time.Duration(i)*s.every, time.Duration(i+1)*s.every
	return min(to, s.run.until()) - max(from, s.run.plan.WarmUp)
}

func (s *series) class(k *slotSeries) measure.SeriesClass {
	return measure.SeriesClass{Class: k.name, OfferedBps: s.rates(k.offered), SentBps: s.rates(k.sent), Drops: k.drops[s.first:s.length],
		QueueBytes: k.queues[s.first:s.length], Waits: k.waits.Times(s.first, s.length)}
}

// wakes finds when a class that was silent for an interval began again, and the end of
// the first interval from there in which it sent its promise, to 5 %, or dropped nothing
// and left nothing waiting beyond what it was offered.
func (s *series) wakes(k *slotSeries, promise int64) []measure.Wake {
	var out []measure.Wake
	for i := s.first; i < s.length; i++ {
		if k.offered[i] == 0 || i > s.first && k.offered[i-1] > 0 {
			continue
		}
		at := time.Duration(i) * s.every
		w := measure.Wake{AtS: at.Seconds()}
		for j := i; j < s.length; j++ {
			d := s.interval(j)
			enough := over(uint64(k.sent[j]), d) >= promise*95/100
			if enough || k.drops[j] == 0 && k.sent[j] >= k.offered[j]*95/100 {
				after := (time.Duration(j)*s.every + d - at).Seconds()
				w.PromiseAfter = &after
				break
			}
		}
		out = append(out, w)
	}
	return out
}
