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
	if at := p.clock.Ready(); r.now < at { // busy with a packet whose departure was computed
		p.sending = true
		r.events.plan(happens(at, sent, p.number, nil))
		return
	}
	if f := r.nextOf(p); f != nil {
		r.begin(p, f)
	}
}

// begin begins to send a packet from a port that is free.
func (r *run) begin(p *port, f *flight) {
	p.clock.NotBefore(r.now)
	if f.divide > 0 && r.sendParts(p, f) {
		p.sending = true
		return
	}
	p.clock.Advance(int(f.Size), p.rate)
	if r.departs(p, f, p.clock.Ready()) {
		if p.out.Idle() {
			return
		}
		f = nil
	}
	p.sending = true
	r.events.plan(happens(p.clock.Ready(), sent, p.number, f))
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
