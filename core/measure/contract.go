package measure

import (
	"slices"
	"strings"

	"imbrel.example/imbrel/core/meter"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/words"
)

// A ContractUse is what a line of a contract metered: packets by their colours, and those that the carrier dropped.
type ContractUse struct {
	At         string   `json:"at"`
	DSCPs      []string `json:"dscps,omitempty"` // none: all that no other line names
	RateBps    int64    `json:"rate_bps"`
	BurstBytes int64    `json:"burst_bytes"`
	OfferedBps int64    `json:"offered_bps"` // as the carrier counts
	Green      uint64   `json:"green"`
	Yellow     uint64   `json:"yellow"`
	Red        uint64   `json:"red"`
	Dropped    uint64   `json:"dropped"`

	spec  *policy.ContractLine
	place Place
}

// Of gives the use its line and its place.
func (u *ContractUse) Of(spec *policy.ContractLine, p Place) { u.spec, u.place = spec, p }

// Count counts a packet of a colour.
func (u *ContractUse) Count(c meter.Color) {
	*[...]*uint64{meter.Green: &u.Green, meter.Yellow: &u.Yellow, meter.Red: &u.Red}[c]++
}

// bought returns the line of a contract that dropped packets with some marks at an interface, the one that dropped most; nil: none dropped any.
// Packets with a mark that no line names are in the line for all others.
func (r *Result) bought(p *Place, marks []string) (most *ContractUse) {
	if r == nil {
		return nil
	}
	names := func(u ContractUse) bool {
		return u.place.Interface == p.Interface && slices.ContainsFunc(u.DSCPs, func(d string) bool { return slices.Contains(marks, d) })
	}
	named, fits := slices.ContainsFunc(r.Contracts, names), false
	for i := range r.Contracts {
		u := &r.Contracts[i]
		if u.place.Interface != p.Interface || u.Dropped == 0 {
			continue
		}
		own := names(*u) || !named && len(u.DSCPs) == 0
		if most == nil || own && !fits || own == fits && u.Dropped > most.Dropped {
			most, fits = u, own
		}
	}
	return most
}

// words says what the contract passes, and why more came.
func (u *ContractUse) words(at policy.Place) words.Fact {
	p, why := &u.place, words.Fact{}
	switch {
	case len(u.DSCPs) > 0 && u.OfferedBps > u.RateBps:
		why = words.LineOffered.With(unit.Rate(u.OfferedBps), u.marks())
	case p.Plan != nil:
		why = p.Plan.Exceeds()
	default:
		why = words.UnshapedBought.With(p.Interface.Path(), p.Interface.Rate)
	}
	return words.ContractPasses.With(unit.Rate(u.RateBps), unit.Size(u.BurstBytes), u.marks(), why, at)
}

// marks names the code points of the line; nothing where it is for all.
func (u *ContractUse) marks() words.Fact {
	if len(u.DSCPs) == 0 {
		return words.Fact{}
	}
	return words.MarkedWith.With(u.DSCPs)
}

// contractCause says why a carrier dropped what exceeds its contract.
func contractCause(w *Why, r *Result, p *Place) words.Fact {
	w.Reason, w.Cause, w.Class = byContract, byContract, ""
	w.at(p.Interface.Link.At)
	u := r.bought(p, w.marks)
	if u == nil {
		return words.QueueUnknown.With()
	}
	w.at(u.spec.At)
	return u.words(w.written())
}

// contracts warns of what carriers dropped.
func (r *Result) contracts() {
	for i := range r.Contracts {
		if u := &r.Contracts[i]; u.Dropped > 0 {
			r.warnOf(strings.Join(u.DSCPs, " "), contractExceeded, "warning", u.spec.At, words.ContractDropped.With(u.Dropped, u.At, u.words(policy.Place{})))
		}
	}
}
