package simulate

import (
	"net/netip"
	"slices"
	"time"

	"imbrel.example/imbrel/core/datapath"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/tcp"
	"imbrel.example/imbrel/core/tunnel"
)

// A whole is a packet that was divided. It goes on, or ends, when all of its parts have.
type whole struct {
	flight *flight
	left   int  // parts under way
	lost   bool // one of them is
	until  int  // the hop at which they are put together; atHost: at their host
	steps  []measure.Step
}

const atHost = -1

// A tunnelWay is a tunnel in a direction.
type tunnelWay struct {
	tunnel *policy.Tunnel
	back   bool
}

// oversize counts the packets that were longer than an interface sends.
type oversize struct {
	dropped, divided uint64
	untold           uint64 // of the dropped: their sender got no word
	longest          int
}

// pathMTULasts is for how long a sender knows what fits a path (RFC 1191 §6.3).
const pathMTULasts = 10 * time.Minute

// A pathMTU is the length of the longest packet that fits a path, as its sender was told.
type pathMTU struct {
	bytes int
	until time.Duration
}

// fits reports whether a packet that is about to be given to a node's outgoing path goes on as it is. Otherwise it is divided, or dropped.
func (r *run) fits(h *hop, f *flight) bool {
	limit := int(h.out.longest)
	if len(r.tunnelMTU) > 0 && h.Begins() != nil {
		if known, ok := r.tunnelMTU[tunnelWay{h.Begins(), h.Back()}]; ok {
			limit = min(limit, known)
		}
	}
	length := f.Length + int(f.GrowsBy) + 4*(f.Labels()+int(f.GrowsLabels))
	if length <= limit {
		return true
	}
	if r.notInParts() {
		return false
	}
	what, most := h.Fit(&f.Packet, f.inside, limit)
	if r.counts(f) {
		o := &h.out.oversize
		o.longest = max(o.longest, length)
		if what == tunnel.TooLarge {
			o.dropped++
		} else {
			o.divided++
		}
	}
	switch what {
	case tunnel.Divided:
		if parts := f.Fragments(most, r.identify()); parts != nil {
			for _, g := range r.divided(f, parts, atHost) {
				g.GrowsBy, g.GrowsLabels = 0, 0
				r.onward(h, g)
			}
			return false
		}
	case tunnel.DividedLeaving:
		f.divide = int32(most)
		f.GrowsBy += partsGrow(h, f, most)
		return true
	}
	f.steps = append(f.steps, measure.Step{Place: h.out.linkPlace, Slot: f.prediction.first, Reason: datapath.Oversize})
	if !r.tell(f, most) && r.counts(f) {
		h.out.oversize.untold++
	}
	if !r.options.WithoutPolicy {
		r.beyond(f, f.stage(policy.Out))
	}
	r.lose(f)
	return false
}

// identify returns the identification of the next packet that is divided.
func (r *run) identify() uint32 {
	if r.identification++; r.identification&0xffff == 0 {
		r.identification++
	}
	return r.identification
}

// partsGrow returns how many bytes of IP more make a packet, which is divided as it leaves, take the time of its parts.
func partsGrow(h *hop, f *flight, most int) int32 {
	length := f.Length + int(f.GrowsBy)
	header, extra := packet.IPv4Header, 0
	if t := h.Begins(); f.Flow.From.Is6() && t == nil || t != nil && t.From.Is6() && t.To.Is6() {
		header, extra = packet.IPv6Header, 8
	}
	part := (most - header - extra) &^ 7
	if part < 8 {
		return 0
	}
	framing, sum := &h.out.iface.Framing, 0
	for left := length - header; left > 0; left -= part {
		sum += framing.Size(min(left, part)+header+extra, 0)
	}
	whole := length
	for framing.Size(whole, 0) < sum {
		whole += max(1, (sum-framing.Size(whole, 0))*48/53)
	}
	return int32(whole - length)
}

// divided makes the parts of a packet packets under way.
func (r *run) divided(f *flight, parts []packet.Packet, until int) []*flight {
	w := &whole{flight: f, left: len(parts), until: until}
	out := make([]*flight, len(parts))
	for i := range parts {
		g := r.flight()
		room := append(g.room[:0], parts[i].Bytes...)
		g.Packet = parts[i]
		g.Owner, g.room, g.Bytes = g, room, room
		g.source, g.flow, g.route, g.at, g.number, g.sent = f.source, f.flow, f.route, f.at, f.number, f.sent
		g.Slot, g.in, g.first, g.whole = f.Slot, f.in, f.first, w
		if f.inside.Host().IsValid() && !f.inside.Hides() {
			g.inside = f.inside.Clone()
		}
		if until == atHost {
			r.watch(r.now, &g.Packet)
		}
		p := *r.predictFrom(g, g.stage(policy.Out), r.epochNow())
		p.in, p.first = f.prediction.in, f.prediction.first
		g.prediction = &p
		out[i] = g
	}
	return out
}

// sendParts begins to send a packet in parts, one after the other.
func (r *run) sendParts(p *port, f *flight) bool {
	h := f.hop()
	h.Leave(&f.Packet, f.inside)
	if f.order != nil {
		f.SetESP(f.order.index, f.sequence)
	}
	parts := f.Fragments(int(f.divide), r.identify())
	if parts == nil {
		f.left = true
		return false
	}
	until := atHost
	if t := h.Begins(); t != nil {
		until = slices.IndexFunc(f.route[f.at:], func(h hop) bool { return h.Ends() == t }) + f.at
	}
	all := r.divided(f, parts, until)
	for i, g := range all {
		g.left, g.more = true, i < len(all)-1
		g.Size = int32(p.iface.Framing.Size(g.Length, g.Labels()))
		p.clock.Advance(int(g.Size), p.rate)
		r.events.plan(happens(p.clock.Ready(), sent, p.number, g))
	}
	return true
}

// partEnds takes note of the end of a part's way, at the hop where the parts are put together, at its host, or before.
func (r *run) partEnds(f *flight, lost bool) (complete bool) {
	w := f.whole
	if lost || !w.lost {
		w.steps = append(w.steps[:0], f.steps...)
	}
	w.lost = w.lost || lost
	p := w.flight
	if p.in = r.sets.Union(p.in, f.in); p.first == int32(r.rest) {
		p.first = f.first
	}
	if !lost {
		p.SetDSCP(f.DSCP())
		if f.ECN() == 3 { // RFC 3168 §5.3
			p.CongestionExperienced()
		}
	}
	f.whole = nil
	r.done(f)
	if w.left--; w.left > 0 {
		return false
	}
	p.steps = append(p.steps, w.steps...)
	if w.lost {
		r.lose(p)
	}
	return !w.lost
}

// putTogether lets a packet go on at the end of the tunnel whose outer packet was divided, once all parts are there.
func (r *run) putTogether(at *port, f *flight) {
	p, hop, in, tags := f.whole.flight, f.at, f.In, f.Tags()
	if !r.partEnds(f, false) {
		return
	}
	p.at, p.In, p.divide = hop, in, 0
	p.SetTags(tags)
	r.forward(at, p)
}

// tell lets the sender of a packet that is too large know how long it may be: the host, or the node at which the tunnel begins. The word takes
// the delays of the links back; it does not arrive where a node filters it, or where there is nobody to listen.
func (r *run) tell(f *flight, most int) (told bool) {
	from, tunnel := 0, f.hop().Tunnel
	if tunnel != nil && (tunnel.Kind == policy.MPLS || f.hop().Begins() == tunnel) {
		tunnel = nil
	}
	var back bool
	if tunnel != nil {
		for from = f.at; f.route[from].Begins() != tunnel; from-- {
		}
		back = f.route[from].Back()
	}
	var delay time.Duration
	for i := f.at; i >= from; i-- {
		if f.route[i].In.Node.Filters {
			return false
		}
		if i > from {
			delay += f.route[i].In.Link.Delay
		}
	}
	word := &tooLong{most: most}
	switch {
	case tunnel != nil:
		word.tunnel = tunnelWay{tunnel, back}
	case f.source.replays != nil:
		return false // a capture's senders heed nothing
	default:
		if word.from, word.to = f.Flow.From, f.Flow.To; r.outside != nil {
			word.home, word.frame = f.source.from.iface, f.TooBig(most)
		}
	}
	r.events.wake(r.now+delay, word)
	return true
}

// tooLong is a word on its way that a packet was too large.
type tooLong struct {
	most     int
	tunnel   tunnelWay
	from, to netip.Addr
	home     *policy.Interface // of a sender outside, and the frame that it gets
	frame    []byte
}

func (t *tooLong) wake(r *run) {
	if t.frame != nil {
		r.outside.Tell(t.home, t.frame)
		return
	}
	if t.tunnel.tunnel != nil {
		if known, ok := r.tunnelMTU[t.tunnel]; !ok || t.most < known {
			r.tunnelMTU[t.tunnel] = t.most
		}
		return
	}
	key := [2]netip.Addr{t.from, t.to}
	if known, ok := r.pathMTU[key]; ok && known.bytes <= t.most && known.until > r.now {
		return
	}
	r.pathMTU[key] = pathMTU{t.most, r.now + pathMTULasts}
	for _, c := range r.clients {
		for _, l := range c.lines {
			for _, e := range []*endpoint{l.client, l.server} {
				if e.model != nil && e.flow.From == t.from && e.flow.To == t.to {
					e.model.Fit(t.most - headersOf(t.from))
					r.pump(e)
				}
			}
		}
	}
}

// headersOf returns the length of the headers of a full segment of TCP.
func headersOf(a netip.Addr) int {
	if a.Is6() {
		return packet.IPv6Header + tcp.Header + tcp.Timestamps
	}
	return packet.IPv4Header + tcp.Header + tcp.Timestamps
}

// fromHost brings a packet of a host into the network: in parts where it is longer than its own interface sends, or than the host was told.
func (r *run) fromHost(f *flight) {
	s := f.source
	if s.endpoint != nil || s.planned == nil && s.replays != nil {
		r.enter(s.from, f)
		return
	}
	limit := int(s.from.longest)
	if len(r.pathMTU) > 0 && !(r.plan.Traffic[s.index].MayFragment && f.Flow.From.Is4()) {
		if known, ok := r.pathMTU[[2]netip.Addr{f.Flow.From, f.Flow.To}]; ok && known.until > r.now {
			limit = min(limit, known.bytes)
		}
	}
	if f.Length > limit && !r.notInParts() {
		f.MayFragment()
		if parts := f.Fragments(limit, r.identify()); parts != nil {
			for _, g := range r.divided(f, parts, atHost) {
				r.predictPart(f, g)
				r.enter(s.from, g)
			}
			return
		}
	}
	r.enter(s.from, f)
}

// predictPart gives a part the prediction for its whole route.
func (r *run) predictPart(f, g *flight) {
	p := *r.predictFrom(g, 0, r.epochNow())
	p.in, p.first = f.prediction.in, f.prediction.first
	g.prediction = &p
}
