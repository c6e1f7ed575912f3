package policy

import (
	"strconv"
	"strings"
	"time"

	"imbrel.example/imbrel/core/unit"
)

// An Event is what happens to a link, or to a policy, in the middle of a rehearsal. What is nil stays as it is.
type Event struct {
	Source
	Name     string // its own, or what happens, such as "ternrock/radio 6Mbit/s"
	At       time.Duration
	Lasts    time.Duration // until the link is as it was; 0: to the end of the rehearsal
	Over     time.Duration // that the change takes, evenly; 0: it is sudden
	LinkName Ref           // one end of the link

	Sends    *unit.Rate // away from that end
	Receives *unit.Rate
	Delay    *time.Duration
	Loss     *LinkLoss
	Down     bool          // it carries nothing for as long as the event lasts
	Detected time.Duration // after it, the routes follow; 0: they never do

	// Of an event that changes the policy of a place, and not a link: the policy that is in force from then on, where it is attached; when the event ends,
	// what is attached there by the file is in force again.
	PolicyName Ref
	PlaceName  Ref
	Direction  Direction // at PlaceName
	Attach     *Attachment

	End *Interface // nil: of no link
}

// Until returns when the event ends, in a rehearsal that lasts so long.
func (e *Event) Until(lasts time.Duration) time.Duration {
	if e.Lasts == 0 {
		return lasts
	}
	return min(e.At+e.Lasts, lasts)
}

// RampParts is in how many parts a change happens that takes a time.
const RampParts = 50

// A RateChange is what a link carries from a moment on.
type RateChange struct {
	At   time.Duration
	Rate unit.Rate
}

// Ramps returns the rates that an event gives a link, in the order of time, from one to another and back.
func (e *Event) Ramps(from, to unit.Rate, until, lasts time.Duration) (out []RateChange) {
	change := func(from, to unit.Rate, at, over time.Duration) {
		parts := int64(1)
		if over > 0 {
			parts = RampParts
		}
		for k := int64(1); k <= parts; k++ {
			out = append(out, RateChange{at + over*time.Duration(k)/time.Duration(parts), from + (to-from)*unit.Rate(k)/unit.Rate(parts)})
		}
	}
	change(from, to, e.At, min(e.Over, until-e.At))
	if e.Lasts > 0 && until < lasts {
		change(to, from, until, e.Over)
	}
	return out
}

// Title returns what happens, for an event without a name of its own.
func (e *Event) Title() string {
	if e.PolicyName.Text != "" {
		return e.PolicyName.Text + " at " + e.PlaceName.Text + " " + e.Direction.String()
	}
	words := []string{e.LinkName.Text}
	if e.Down {
		words = append(words, "down")
	}
	if e.Sends != nil {
		words = append(words, e.Sends.String())
	}
	if e.Receives != nil {
		words = append(words, "receives", e.Receives.String())
	}
	if e.Loss != nil {
		words = append(words, "loss", strconv.FormatFloat(100*e.Loss.Part, 'g', -1, 64)+"%")
	}
	if e.Delay != nil {
		words = append(words, "delay", unit.FormatDuration(*e.Delay))
	}
	return strings.Join(words, " ")
}

// A Phase is a time before, during or after an event.
type Phase string

// The phases of an event.
const (
	Before Phase = "before"
	During Phase = "during"
	After  Phase = "after"
)

// Phases are the words of the language for the phases, in the order of time.
func Phases() []Phase { return []Phase{Before, During, After} }

// Span returns the time of a phase of the rehearsal's event of a number: before it since the one before it ended, and after it until another
// begins. False: there is no such time.
func (h *Rehearsal) Span(n int, p Phase) (from, to time.Duration, ok bool) {
	e := &h.Events[n]
	until := e.Until(h.Lasts)
	switch p {
	case Before:
		from, to = h.WarmUp, e.At
		for i := range h.Events {
			if o := h.Events[i].Until(h.Lasts); o <= e.At {
				from = max(from, o)
			} else if o := &h.Events[i]; o.At < e.At { // which lasts still
				from = max(from, o.At)
			}
		}
	case During:
		from, to = max(e.At, h.WarmUp), until
	default:
		from, to = max(until, h.WarmUp), h.Lasts
		for i := range h.Events {
			if o := h.Events[i].At; o >= until && i != n {
				to = min(to, o)
			}
		}
	}
	return from, to, to > from
}
