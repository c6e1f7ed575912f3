package simulate

import "imbrel.example/imbrel/core/measure"

// send begins to send the next packet of a port that is not sending.
func (r *run) send(p *port) {
	if p.ring != nil {
		r.fill(p)
	}
	if p.sending {
		return
	}
	f := r.nextOf(p)
	if f == nil {
		return
	}
	p.sending = true
	p.clock.NotBefore(r.now)
	if f.divide > 0 && r.sendParts(p, f) {
		return
	}
	p.clock.Advance(int(f.Size), p.rate)
	r.events.plan(event{at: p.clock.Ready(), kind: sent, port: p, flight: f})
}

// nextOf returns the packet that a port is to send next, nil when there is none.
func (r *run) nextOf(p *port) *flight {
	if p.ring == nil {
		return r.take(&p.out, p, askOut)
	}
	if len(p.ring) == 0 {
		return nil
	}
	f := p.ring[0]
	p.ring = p.ring[:copy(p.ring, p.ring[1:])]
	if wait := r.now - f.ringed; wait > 0 {
		f.steps = append(f.steps, measure.Step{Place: p.ringPlace, Slot: f.prediction.first, Wait: wait})
	}
	r.fill(p)
	return f
}

// fill takes packets out of a port's queues for as long as its ring has room.
func (r *run) fill(p *port) {
	for len(p.ring) < cap(p.ring) {
		f := r.take(&p.out, p, askOut)
		if f == nil {
			return
		}
		f.ringed = r.now
		p.ring = append(p.ring, f)
	}
}
