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
	run    *run
	every  time.Duration
	length int
	paths  map[*path]*pathSeries
	steps  int // of all classes and instances
	whens  []measure.WhenActive
	open   map[heldKey]int // of whens, those in force
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
	instances                    map[string]*slotSeries
	listed                       []*slotSeries
}

func newSeries(r *run) *series {
	n := int((r.plan.Lasts + r.options.Every - 1) / r.options.Every)
	return &series{run: r, every: r.options.Every, length: n, paths: make(map[*path]*pathSeries), open: make(map[heldKey]int)}
}

func (s *series) newSlot(name string) *slotSeries {
	if s.steps += s.length; s.steps > maxSteps && s.run.failed == nil {
		s.run.failed = fmt.Errorf("a series of %d steps for each class and instance comes to more than %d: take longer steps", s.length, maxSteps)
	}
	n := s.length
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
	size := int64(f.Size)
	s.slotsOf(p, f, func(at int, k *slotSeries) {
		k.offered[at] += size
		if reason != datapath.Passed {
			k.drops[at]++
			return
		}
		k.waiting += size
		k.queues[at] = max(k.queues[at], k.waiting)
	})
}

func (s *series) dropped(p *path, f *flight) {
	s.slotsOf(p, f, func(at int, k *slotSeries) {
		k.drops[at]++
		k.waiting -= int64(f.Size)
	})
}

func (s *series) sent(p *path, f *flight) {
	s.slotsOf(p, f, func(at int, k *slotSeries) {
		k.queues[at] = max(k.queues[at], k.waiting)
		k.waiting -= int64(f.Size)
		k.sent[at] += int64(f.Size)
	})
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
	s.length = int((s.run.lasts + s.every - 1) / s.every)
	for _, i := range s.open {
		s.whens[i].ToS = s.run.lasts.Seconds()
	}
	out := &measure.Series{IntervalS: s.every.Seconds(), Interfaces: []measure.SeriesInterface{}, Whens: s.whens}
	if out.Whens == nil {
		out.Whens = []measure.WhenActive{}
	}
	for _, port := range s.run.network.ports {
		for _, d := range []policy.Direction{policy.In, policy.Out} {
			p := port.path(d)
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

// interval returns how long the i-th interval is: the last may be shorter.
func (s *series) interval(i int) time.Duration {
	return min(s.every, s.run.lasts-time.Duration(i)*s.every)
}

func (s *series) class(k *slotSeries) measure.SeriesClass {
	c := measure.SeriesClass{Class: k.name, Drops: k.drops[:s.length], QueueBytes: k.queues[:s.length]}
	for i := range s.length {
		c.OfferedBps = append(c.OfferedBps, over(uint64(k.offered[i]), s.interval(i)))
		c.SentBps = append(c.SentBps, over(uint64(k.sent[i]), s.interval(i)))
	}
	return c
}

// wakes finds when a class that was silent for an interval began again, and the end of
// the first interval from there in which it sent its promise, to 5 %, or dropped nothing
// and left nothing waiting beyond what it was offered.
func (s *series) wakes(k *slotSeries, promise int64) []measure.Wake {
	var out []measure.Wake
	for i := range s.length {
		if k.offered[i] == 0 || i > 0 && k.offered[i-1] > 0 {
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
