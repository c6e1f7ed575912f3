package bound

import (
	"slices"
	"time"
)

// finish bounds when the packets of a visit have left: as the sum over the stations so far, or with the last of them taken
// together where that is less. Stations whose queues the same flows share one after the other are one server, in which a burst
// waits once (Le Boudec & Thiran 2001, §1.4.3).
func (v *visit) finish(q *classQueue) {
	v.leaveMax, v.since = later(v.arriveMax, v.result.Max), v.number
	if v.result.Max == Never || q.unordered {
		return
	}
	way := []*visit{v}
	queues := []*classQueue{q}
	for i := v.number - 1; i >= 0; i-- {
		p := v.flow.visits[i]
		before := p.at.queues[p.entry]
		if p.anyClass || p.reorders || before == nil || before.unordered || before.anyClass || len(before.services) == 0 || !queues[0].sameFlows(before, p.at, way[0].at) {
			return
		}
		way, queues = append([]*visit{p}, way...), append([]*classQueue{before}, queues...)
		if d := later(p.arriveMax, together(way, queues)); d < v.leaveMax {
			v.leaveMax, v.since = d, i
		}
	}
}

// sameFlows reports whether a queue at a station and the one before it have the same flows.
func (q *classQueue) sameFlows(before *classQueue, from, at *station) bool {
	if q.anyClass || before.anyClass {
		return false
	}
	n := 0
	for _, v := range at.visits {
		if v.entry != q.entry {
			continue
		}
		if v.prev != from || v.number <= 0 || v.flow.visits[v.number-1].entry != before.entry {
			return false
		}
		n++
	}
	return n == before.flows
}

// together bounds the delay over stations in a row, from the arrival at the first until the last has sent.
func together(way []*visit, queues []*classQueue) time.Duration {
	last := len(way) - 1
	best := Never
	for _, better := range []func(a, b service) bool{
		func(a, b service) bool { return a.Rate > b.Rate || a.Rate == b.Rate && a.Wait < b.Wait },
		func(a, b service) bool { return a.Wait < b.Wait || a.Wait == b.Wait && a.Rate > b.Rate },
	} {
		all := Service{Rate: Endless}
		grown := int64(perMille)
		for i, v := range way {
			if i > 0 {
				most := int64(0)
				for _, o := range v.at.visits {
					if o.entry == v.entry {
						most = max(most, o.grows())
					}
				}
				grown = wide(grown, most).over(perMille)
			}
			s := slices.MinFunc(queues[i].services, func(a, b service) int {
				if better(a, b) {
					return -1
				}
				return 1
			})
			own := Service{s.Rate, s.Wait}
			if s.Rate != Endless {
				own.Rate = int64(wide(s.Rate, perMille).over(grown)) - 1
			}
			if own.Rate <= 0 {
				return Never
			}
			if i < last { // a packet goes on when all of it is there
				own.Wait = later(own.Wait, later(timeOf(queues[i].maxBits, s.Rate), later(v.linkDelay, v.linkJitter)))
			}
			all = all.Concat(Service{own.Rate, own.Wait + 4})
		}
		d := queues[0].arrivals.Delay(all)
		if s, v := way[last].at, way[last]; d != Never && s.rate > 0 && s.rate != s.line {
			d -= min(d, s.lineGain(v))
		}
		best = min(best, d)
	}
	return best
}
