package simulate

import (
	"encoding/binary"
	"slices"
	"time"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/tunnel"
)

// A prediction is what the policies on the rest of a packet's way would make of it if nothing
// dropped it: the sets it would count for, the first class, and the entry at each data
// path. A run without policies counts by it; in one with policies a packet has it from
// where it was dropped. It is shared by packets and never changed.
type prediction struct {
	in    measure.Set
	first int32  // the class that takes it first, or the rest
	ahead []step // by stage
}

// A step is what the policy attached at a stage would make of the packet: the entry that takes
// it, or unasked, given the marks that it comes with.
type step struct {
	slot  int32
	marks uint32
}

const notAttached = -1

// marks returns the marks of a packet in all layers: all that a policy on its way can have
// changed.
func marks(p *packet.Packet) uint32 {
	m := uint32(p.TrafficClass())
	if p.Tagged {
		pcp, _ := p.PCP()
		m |= uint32(pcp)<<8 | 1<<11
		if p.DEI() {
			m |= 1 << 12
		}
	}
	if p.Labels() > 0 {
		tc, _ := p.TC()
		m |= uint32(tc)<<13 | 1<<16
	}
	return m
}

// known returns the entry that takes a packet at a path, where that follows from what was
// predicted: it arrives there as predicted, and what is in force there never changes.
func (r *run) known(p *path, f *flight, d policy.Direction) (slot int32, ok bool) {
	if !p.ruled || p.sometimes {
		return 0, false
	}
	k := &f.prediction.ahead[f.stage(d)]
	return k.slot, k.slot != notAttached && k.marks == marks(&f.Packet)
}

// A stage is a data path on a route: 2n is the n-th node's incoming one, 2n+1 its
// outgoing one.
func (f *flight) stage(d policy.Direction) int { return 2*f.at + int(d) }

// predictedEntry returns the number of the entry that the attached policy would have for a
// packet at the path it comes to; for one that a policy on its way would have blocked,
// the last.
func (r *run) predictedEntry(f *flight, d policy.Direction) int {
	if n := f.prediction.ahead[f.stage(d)].slot; n != notAttached {
		return int(n)
	}
	return len(f.hop().path(d).members) - 1
}

// path returns the hop's path in a direction.
func (h *hop) path(d policy.Direction) *path {
	if d == policy.In {
		return &h.in.in
	}
	return &h.out.out
}

// predict gives a packet that leaves its source the prediction for its whole route. Packets of a source are alike, but for those of a capture, for their lengths
// and for what is recognised of them.
func (r *run) predict(f *flight) {
	s := f.source
	epoch := r.epochNow()
	if s.flow != nil && s.prediction != nil && s.epoch == epoch && int(s.length) == f.Length && (!s.hasApps && len(f.Apps) == 0 || slices.Equal(s.apps, f.Apps)) {
		f.prediction = s.prediction
		return
	}
	if s.flow != nil && (s.prediction == nil || s.epoch != epoch) { // the first of its flow: no packet before was like it
		f.prediction = r.walked(f, 0)
	} else {
		f.prediction = r.predictFrom(f, 0, epoch)
	}
	s.prediction, s.epoch, s.apps, s.hasApps, s.length = f.prediction, epoch, f.Apps, len(f.Apps) > 0, int32(f.Length)
}

// An epoch is a time in which what is in force does not change.
type epoch struct {
	turns  uint64
	minute int64 // named times begin and end with one
}

func (r *run) epochNow() epoch {
	e := epoch{turns: r.epoch}
	if !r.plan.StartAt.IsZero() {
		e.minute = int64((time.Duration(r.plan.StartAt.Nanosecond()) + time.Duration(r.plan.StartAt.Second())*time.Second + r.now) / time.Minute)
	}
	return e
}

// maxFates bounds how many predictions are kept.
const maxFates = 1 << 16

// predictFrom returns the prediction for a packet from a stage of its route on. The packet is
// left as it is.
func (r *run) predictFrom(f *flight, stage int, now epoch) *prediction {
	r.key = appendKey(r.key[:0], f, stage, now)
	if known := r.predictions[string(r.key)]; known != nil {
		return known
	}
	key := string(r.key)
	result := r.walked(f, stage)
	if len(r.predictions) >= maxFates {
		clear(r.predictions)
	}
	r.predictions[key] = result
	return result
}

// walked returns the prediction for a packet from a stage of its route on, worked out anew. The packet is left as it is.
func (r *run) walked(f *flight, stage int) *prediction {
	g := &r.traveller
	room := append(g.room[:0], f.Bytes...)
	*g = *f
	g.room, g.Bytes, g.Next = room, room, nil
	g.inside = f.inside.Clone()
	return r.unique(r.walkRoute(g, stage))
}

// unique returns an equal prediction that was made before, or else the one given: few are different, so packets of many flows share one.
func (r *run) unique(p *prediction) *prediction {
	b := binary.LittleEndian.AppendUint32(r.key[:0], uint32(p.in))
	b = binary.LittleEndian.AppendUint32(b, uint32(p.first))
	for _, s := range p.ahead {
		b = binary.LittleEndian.AppendUint32(binary.LittleEndian.AppendUint32(b, uint32(s.slot)), s.marks)
	}
	r.key = b
	if known := r.outcomes[string(b)]; known != nil {
		return known
	}
	if len(r.outcomes) >= maxFates {
		clear(r.outcomes)
	}
	r.outcomes[string(b)] = p
	return p
}

// walkRoute takes a packet along the rest of its route.
func (r *run) walkRoute(g *flight, stage int) *prediction {
	out := &prediction{first: int32(r.rest), ahead: make([]step, 2*len(g.route))}
	for i := range out.ahead {
		out.ahead[i].slot = notAttached
	}
	for ; stage < len(out.ahead); stage++ {
		g.at = stage / 2
		h, d := g.hop(), policy.Direction(stage%2)
		if h.wraps && g.inside == nil {
			g.inside = &tunnel.Inside{}
		}
		if d == policy.In {
			h.Enter(&g.Packet, g.inside)
		} else {
			h.Forward(&g.Packet, g.inside)
		}
		if p := h.path(d); p.attached != nil {
			k := &out.ahead[stage]
			k.marks = marks(&g.Packet)
			n := p.predictor.Take(r.now, &g.Packet)
			k.slot = n
			in, class := r.countsFor(p.attached.Entries[n].Name)
			out.in = r.sets.Union(out.in, in)
			if out.first == int32(r.rest) {
				out.first = class
			}
			if p.predictor.Mark(r.now, p.attached.Entries[n], &g.Packet) {
				break
			}
		}
		if d == policy.Out {
			h.Leave(&g.Packet, g.inside)
		}
	}
	return out
}

// countsFor returns what the packets of an entry of a name count for, and their class.
func (r *run) countsFor(name string) (measure.Set, int32) {
	return r.sets.Of(name), r.classNumber[measuredAs(name)]
}

// member returns what the packets of an entry count for.
func (r *run) member(p *path, n int32) *member {
	m := &p.members[n]
	if !m.known {
		*m = member{known: true}
		m.in, m.class = r.countsFor(p.attached.Entries[n].Name)
		m.from, m.to = 0, m.in
	}
	return m
}

// join counts a packet for the entry that took it.
func (r *run) join(p *path, f *flight) {
	m := r.member(p, f.Slot)
	if f.in != m.from {
		m.from, m.to = f.in, r.sets.Union(f.in, m.in)
	}
	f.in = m.to
	if f.first == int32(r.rest) {
		f.first = m.class
	}
}

// beyond counts a packet that was dropped for what would have taken it from a stage on.
func (r *run) beyond(f *flight, stage int) {
	if w := f.whole; w != nil && w.until != atHost { // what it hides counts from where it is whole again
		stage, f = max(stage, 2*w.until), w.flight
	}
	if stage >= 2*len(f.route) {
		return
	}
	ahead := r.predictFrom(f, stage, r.epochNow())
	f.in = r.sets.Union(f.in, ahead.in)
	if f.first == int32(r.rest) {
		f.first = ahead.first
	}
}

// appendKey appends everything that a packet's prediction depends on: what conditions may ask for, and what is on it for the
// nodes on its way.
func appendKey(b []byte, f *flight, stage int, now epoch) []byte {
	b = binary.LittleEndian.AppendUint32(b, uint32(f.route[0].number))
	b = binary.LittleEndian.AppendUint16(b, uint16(stage))
	b = binary.LittleEndian.AppendUint64(b, now.turns)
	b = binary.LittleEndian.AppendUint64(b, uint64(now.minute))
	b = appendPacket(b, &f.Packet)
	if f.inside.Hides() {
		b = appendPacket(b, f.inside.Packet())
	}
	if host := f.inside.Host(); host.IsValid() {
		b = append(b, host.AsSlice()...)
	}
	return b
}

func appendPacket(b []byte, p *packet.Packet) []byte {
	b = policy.AppendValues(b, p)
	flags := byte(0)
	for i, on := range []bool{p.HasPorts, p.LabelSwitched, p.Fragment, p.LaterFragment, p.Tagged, p.DEI(), p.Flow.From.Is4(), p.Flow.To.Is4()} {
		if on {
			flags |= 1 << i
		}
	}
	b = append(b, flags, p.TrafficClass(), byte(p.Labels()))
	if p.LabelSwitched { // what is below the label counts again once it is off
		b = append(b, p.Flow.Protocol)
		from, to := p.Flow.From.As16(), p.Flow.To.As16()
		b = append(append(b, from[:]...), to[:]...)
		b = binary.LittleEndian.AppendUint16(b, p.Flow.FromPort)
		b = binary.LittleEndian.AppendUint16(b, p.Flow.ToPort)
		b = binary.LittleEndian.AppendUint32(b, uint32(p.Length))
	}
	if p.Tagged {
		tags := p.Tags()
		b = append(b, byte(len(tags)))
		for _, t := range tags {
			b = binary.LittleEndian.AppendUint16(b, t.VLAN)
			b = append(b, t.PCP)
		}
	}
	if p.Labels() > 0 {
		b = append(b, p.LabelClasses()...)
	}
	b = append(b, p.PushedTC, byte(len(p.Apps)))
	for _, a := range p.Apps {
		b = binary.LittleEndian.AppendUint64(b, a)
	}
	return b
}
