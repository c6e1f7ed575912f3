package datapath

import (
	"imbrel.example/imbrel/core/meter"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
)

// A Treatment is what one entry does to a packet before the queue: block it, meter it and mark it.
// A chain of entries treats a packet one after the other, the outermost first (plan.Entry.Chain).
type Treatment struct {
	Block    bool // now
	Metering bool // now
	mark     *policy.Mark
	actions  [3]policy.Action // by colour
}

// TreatmentOf returns the treatment of an entry while the conditions that active reports are true.
// It is not asked about no condition.
func TreatmentOf(e *plan.Entry, active func(*plan.When) bool) Treatment {
	t := Treatment{Block: e.Block || e.BlockWhen != nil && active(e.BlockWhen), mark: e.Spec.Mark}
	if m := e.Meter; m != nil {
		t.Metering, t.actions = m.When == nil || active(m.When), m.Actions
	}
	return t
}

// Apply drops or marks a packet that the entry's meter gave a colour; without a meter the colour does not matter.
func (t *Treatment) Apply(c meter.Color, pkt *packet.Packet) Reason {
	switch {
	case t.Block:
		return Blocked
	case t.Metering && t.actions[c].Drop:
		return Policed
	}
	if t.mark != nil {
		Mark(t.mark, pkt)
	}
	if m := t.actions[c].Mark; t.Metering && m != nil {
		Mark(m, pkt)
	}
	return Passed
}

// withoutLimits treats a packet as if it were green, and reports whether something blocks it.
func (t *Treatment) withoutLimits(pkt *packet.Packet) (blocked bool) {
	return t.Apply(meter.Green, pkt) == Blocked
}
