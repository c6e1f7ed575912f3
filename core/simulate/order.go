package simulate

import (
	"imbrel.example/imbrel/core/datapath"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
)

// An association is one of a tunnel's security associations (RFC 4301 §4.1): a direction, and a class where each has its own.
type association struct {
	tunnel *policy.Tunnel
	back   bool
	class  string
}

// An order is what the ends of a security association know: the last number given, and the greatest that came.
type order struct {
	index        uint32
	sent, newest uint32
}

// firstIndex is the first security parameters index that is not reserved (RFC 4303 §2.1).
const firstIndex = 256

// number gives a packet that enters an IPsec tunnel its sequence number: before it waits, as devices do that encrypt before they queue.
func (r *run) number(h *hop, f *flight) {
	t := h.Begins()
	if t == nil || t.Kind != policy.IPsec {
		return
	}
	key := association{tunnel: t, back: h.Back()}
	if p := &h.out.out; t.SAPerClass && p.ruled {
		key.class = p.names[f.Slot]
	}
	if r.notInParts() {
		return
	}
	o := r.orders[key]
	if o == nil {
		o = &order{index: firstIndex + uint32(len(r.orders))}
		r.orders[key] = o
	}
	o.sent++
	f.order, f.sequence = o, o.sent
}

// inOrder reports whether the end of an IPsec tunnel takes a packet: it is within the replay window (RFC 4303 §3.4.3). Otherwise it is dropped.
func (r *run) inOrder(h *hop, f *flight) bool {
	o, t := f.order, h.Ends()
	if t == nil {
		return true
	}
	f.order = nil
	if o.newest = max(o.newest, f.sequence); t.Window == 0 || o.newest-f.sequence < uint32(t.Window) {
		return true
	}
	f.steps = append(f.steps, measure.Step{Place: h.in.peer.linkPlace, Slot: f.prediction.first, Reason: datapath.TooOld})
	if !r.options.WithoutPolicy {
		r.beyond(f, f.stage(policy.Out))
	}
	r.lose(f)
	return false
}
