package datapath

import (
	"time"

	"imbrel.example/imbrel/core/packet"
)

// StoppedBy returns the number of the entry that policed or blocked the last packet for which Enqueue or Pass returned
// Policed or Blocked: the packet's own, or one around it.
func (p *Path) StoppedBy(pkt *packet.Packet) int32 {
	return p.elements[pkt.Slot].acts[p.stopped].number
}

// HeldBy returns the number of the entry whose upper limit holds the queue of a packet back now: the packet's own, or
// one around it; -1: no limit does.
func (p *Path) HeldBy(now time.Duration, pkt *packet.Packet) int32 {
	if !p.limits {
		return -1
	}
	e := &p.elements[pkt.Slot]
	var own *instance
	if e.instances != nil {
		own = e.instances.find(pkt)
	}
	for n := pkt.Slot; n >= 0; n = p.parents[n] {
		o := &p.elements[n]
		node := o.node
		if o.instances != nil {
			if own == nil {
				return -1
			}
			node = o.state(own).node
		}
		if p.tree.Held(now, node) {
			return n
		}
	}
	return -1
}
