package simulate

import (
	"cmp"
	"maps"
	"net/netip"
	"slices"
	"time"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/unit"
)

// divisible reports whether a rehearsal can run in parts. Events, captures, series, conditions on load and recognised applications concern all parts at
// once, and so do callers that watch packets.
func (r *run) divisible() bool {
	o := &r.options
	if o.Cores < 2 || o.everyEvent || o.Tap != nil || o.Classified != nil || o.Every > 0 || r.outside != nil || len(r.plan.Events) > 0 || r.recognises {
		return false
	}
	asks := make(map[[2]netip.Addr]bool) // connections from given ports, which are opened during the run
	for i := range r.plan.Traffic {
		t := &r.plan.Traffic[i]
		if t.Capture != "" || asks[[2]netip.Addr{t.To, t.From}] {
			return false
		}
		if t.Back() && t.FromPort != 0 {
			asks[[2]netip.Addr{t.From, t.To}] = true
		}
	}
	for _, p := range r.network.ports {
		for _, a := range []*plan.Plan{p.in.attached, p.out.attached} {
			if a != nil && slices.ContainsFunc(a.Entries, func(e *plan.Entry) bool { return len(e.Whens()) > 0 }) {
				return false
			}
		}
	}
	return true
}

// expected returns the work of each node, by its number: the packets a second that it is expected to handle.
func (r *run) expected() []float64 {
	w := make([]float64, len(r.file.Network.Nodes))
	add := func(route []hop, packets float64) {
		w[route[0].in.node] += packets
		for i := range route {
			w[route[i].in.node] += packets
		}
	}
	rates := make([]float64, len(r.plan.Traffic)) // of one source of each traffic
	for i := range rates {
		t := &r.plan.Traffic[i]
		lasts := max(r.end(t)-t.Starts, time.Millisecond)
		if packets, sources, err := sourceKinds[t.Kind].count(t, lasts); err == nil && sources > 0 {
			rates[i] = packets / float64(sources) / lasts.Seconds()
		}
	}
	for _, s := range r.sources {
		add(s.route, rates[s.index])
	}
	for _, c := range r.clients {
		for _, way := range [][2]*port{{c.from, c.to}, {c.to, c.from}} {
			if route, err := r.network.route(way[0], way[1], packet.Flow{}); err == nil {
				add(route, c.expected(route))
			}
		}
	}
	return w
}

// expected returns how many packets a second a client may send over a route.
func (c *client) expected(route []hop) float64 {
	rate := c.from.rate
	for i := range route {
		if rate = min(rate, route[i].out.rate); route[i].out.carrier != nil {
			rate = min(rate, route[i].out.carrier.rate)
		}
	}
	if c.AppRate > 0 {
		rate = min(rate, c.AppRate)
	}
	if rate /= unit.Rate(c.Flows); c.Back() && c.Think > 0 {
		rate = min(rate, unit.Rate(8*float64(c.Bytes)*float64(max(1, c.Objects))/c.Think.Seconds()))
	}
	return float64(rate) / 8 / 1500
}

const (
	minGain   = 1.25 // of a division
	minRound  = 300  // packets of all parts in a round, for each core
	minPart   = 100  // the same of each part
	allParts  = 48
	perCore   = 3  // parts, at most
	maxDelays = 12 // at which a division is tried
)

// A division is the part of each node.
type division struct {
	part      []int
	cores     int
	lookahead time.Duration
	gain      float64 // the time of one core, divided by the time of all
}

// divide divides a rehearsal into parts for several cores; nil: it is faster, or only possible, as a whole.
func (r *run) divide() *team {
	if !r.divisible() {
		return nil
	}
	w := r.expected()
	var best, chosen division
	var all []division
	for _, d := range r.delays() {
		all = append(all, r.division(w, d))
		if n := len(all) - 1; all[n].gain > best.gain {
			best = all[n]
		}
	}
	for _, d := range all { // the longest delays first
		if d.gain >= 0.9*best.gain {
			chosen = d
			break
		}
	}
	if chosen.gain == 0 || chosen.gain < minGain && !r.options.alwaysDivide {
		return nil
	}
	return r.inParts(&chosen)
}

// delays returns delays of links at which to try a division, the longest first.
func (r *run) delays() []time.Duration {
	seen := make(map[time.Duration]bool)
	for _, l := range r.file.Network.Links {
		if l.Delay > 0 && l.HalfDuplex == 0 {
			seen[l.Delay] = true
		}
	}
	all := slices.SortedFunc(maps.Keys(seen), func(a, b time.Duration) int { return cmp.Compare(b, a) })
	for len(all) > maxDelays {
		for i := range len(all) / 2 {
			all[i] = all[2*i+1]
		}
		all = all[:len(all)/2]
	}
	return all
}

// division divides the nodes, with the work of each given, at links with at least a delay. Shorter links, and those whose directions share a medium, keep
// nodes together. Parts get such groups, those with the most work first. There are several parts for each core: a core that is ready takes the next.
func (r *run) division(w []float64, delay time.Duration) division {
	d := division{part: make([]int, len(w)), lookahead: never}
	root := make([]int, len(w))
	for i := range root {
		root[i] = i
	}
	find := func(i int) int {
		for root[i] != i {
			root[i] = root[root[i]]
			i = root[i]
		}
		return i
	}
	for _, p := range r.network.ports {
		if p.peer != nil && (p.delay < delay || p.iface.Link.HalfDuplex > 0) {
			root[find(p.node)] = find(p.peer.node)
		}
	}
	groups := make(map[int]float64)
	sum := 0.0
	for i, v := range w {
		groups[find(i)] += v
		sum += v
	}
	order := slices.SortedFunc(maps.Keys(groups), func(a, b int) int { return cmp.Or(cmp.Compare(groups[b], groups[a]), a-b) })
	cores, n := r.options.Cores, min(r.options.Cores*perCore, allParts, len(order))
	if round := sum * delay.Seconds(); !r.options.alwaysDivide {
		cores, n = min(cores, int(round/minRound)), min(n, int(round/minPart))
	}
	if min(cores, n) < 2 {
		return d
	}
	parts := make([]float64, n)
	of := make(map[int]int)
	for _, g := range order {
		least := 0
		for i := range parts {
			if parts[i] < parts[least] {
				least = i
			}
		}
		of[g] = least
		parts[least] += groups[g]
	}
	for i := range w {
		d.part[i] = of[find(i)]
	}
	for _, p := range r.network.ports {
		if p.peer != nil && d.part[p.node] != d.part[p.peer.node] {
			d.lookahead = min(d.lookahead, p.delay)
		}
	}
	if busiest := slices.Max(parts); busiest > 0 && d.lookahead < never {
		d.cores = min(cores, n)
		d.gain = min(sum/busiest, float64(d.cores))
	}
	return d
}

// inParts makes the parts of a division.
func (r *run) inParts(d *division) *team {
	t := &team{whole: r, lookahead: d.lookahead, workers: d.cores - 1}
	n := slices.Max(d.part) + 1
	for i := range n {
		q := new(run)
		*q = *r
		q.team, q.part = t, i
		q.events, q.spare, q.made, q.ports, q.key, q.traveller, q.flowsOpen, q.open = events{}, nil, 0, nil, nil, flight{}, nil, nil
		q.predictions, q.outcomes, q.calling = make(map[string]*prediction), make(map[string]*prediction), maps.Clone(r.calling)
		for i := range q.posts {
			q.posts[i] = make([]post, n)
		}
		q.collectors = nil
		for range r.collectors {
			q.collectors = append(q.collectors, measure.NewCollector(r.sets, r.plan))
		}
		t.parts = append(t.parts, q)
	}
	for _, q := range t.parts {
		q.books, q.first = make([]books, n), make([][]firstBooking, len(r.collectors))
	}
	for _, p := range r.network.ports {
		p.run = t.parts[d.part[p.node]]
		p.run.ports = append(p.run.ports, p)
	}
	for {
		e, w, ok := r.events.next()
		if !ok {
			break
		}
		switch w := w.(type) {
		case *client:
			w.from.run.events.wake(e.at, w)
			continue
		case *calling:
			w.to.run.events.wake(e.at, w)
			continue
		}
		var q *run
		if f := e.flight; f != nil {
			q = f.source.from.run
			q.made++
		} else {
			q = r.sources[e.place()].from.run
		}
		e.order = e.order >> countBits << countBits
		q.events.plan(e)
	}
	for _, q := range t.parts {
		q.soonest = never
		if at, ok := q.events.due(); ok {
			q.soonest = at
		}
	}
	return t
}
