package simulate

import (
	"math/rand/v2"
	"slices"
	"time"

	"imbrel.example/imbrel/core/datapath"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/traffic"
)

// A medium is what a link does to the packets of one direction beyond its delay: it loses
// some, and delays each by a little more.
type medium struct {
	loss   policy.LinkLoss
	jitter policy.LinkJitter
	random *rand.Rand
	losing bool          // of losses in bursts: the state in which all is lost
	last   time.Duration // when the packet before arrives
	bytes  uint64        // that came to it in the measured time, as the interface counts
	lost   uint64
}

// newMedium returns the medium of a port's link, or nil where it is perfect.
func newMedium(r *run, p *port) *medium {
	l := p.iface.Link
	changes := slices.ContainsFunc(r.plan.Events, func(e policy.Event) bool {
		return e.End != nil && e.End.Link == l && (e.Loss != nil || e.Delay != nil || e.Down)
	})
	if l.Loss.Part == 0 && l.Jitter.Mean == 0 && !changes {
		return nil
	}
	return &medium{loss: l.Loss, jitter: l.Jitter, random: traffic.Random(r.options.Seed, p.iface.Path()+" link", 0)}
}

// loses draws whether the next packet gets lost. Bursts have two states (Gilbert 1960): in
// one all is lost and in the other nothing. With a mean burst of b packets the first ends
// with 1/b after each packet; with p/(p+1/b) lost on average, it begins with
// p = part/(b·(1-part)).
func (m *medium) loses() bool {
	part := m.loss.Part
	if part == 0 {
		return false
	}
	u := m.random.Float64()
	if m.loss.Burst == 0 {
		return u < part
	}
	if m.losing {
		m.losing = u >= 1/m.loss.Burst
	} else {
		m.losing = u*m.loss.Burst*(1-part) < part
	}
	return m.losing
}

// wait draws by how much the next packet takes longer than the link's delay.
func (m *medium) wait() time.Duration {
	mean := m.jitter.Mean
	switch {
	case mean == 0:
		return 0
	case m.jitter.Kind == policy.Even:
		return time.Duration(m.random.Int64N(2*int64(mean) + 1))
	case m.jitter.Kind == policy.Exponential:
		return time.Duration(traffic.Exponential(m.random) * float64(mean))
	}
	return time.Duration(traffic.HeavyTail(m.random, int64(mean)))
}

// travel takes a packet over the link of a port.
func (r *run) travel(p *port, f *flight) {
	if p.down {
		r.lostOnCut(p, f)
		return
	}
	if p.bought != nil && !r.takes(p, p.bought, f) {
		return
	}
	f.cuts = p.cuts
	at := r.now + p.delay
	if m := p.medium; m != nil {
		size := p.iface.Framing.Size(f.Length, f.Labels())
		if r.measured() {
			m.bytes += uint64(size)
		}
		if m.loses() {
			if r.counts(f) {
				m.lost++
			}
			f.steps = append(f.steps, measure.Step{Place: p.linkPlace, Slot: f.prediction.first, Reason: datapath.OnLink})
			r.gone(f)
			return
		}
		if at += m.wait(); !m.jitter.Overtake {
			at = max(at, m.last)
			m.last = at
		}
		if wait := at - r.now - p.delay; wait > 0 {
			f.steps = append(f.steps, measure.Step{Place: p.linkPlace, Slot: f.prediction.first, Wait: wait})
		}
	}
	r.arrival(p, f, at)
}

// gone loses a packet after it has left an interface, and follows it on as if it had not.
func (r *run) gone(f *flight) {
	if !r.options.WithoutPolicy {
		r.beyond(f, 2*f.at+2)
	}
	r.lose(f)
}
