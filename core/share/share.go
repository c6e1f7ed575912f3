// Package share says what the classes of every policy get: each alone, all when
// all are busy, and when only some are.
package share

import (
	"fmt"
	"strings"
	"time"

	"imbrel/core/datapath"
	"imbrel/core/fluid"
	"imbrel/core/packet"
	"imbrel/core/policy"
	"imbrel/core/traffic"
	"imbrel/core/unit"
)

// A Class is what one entry of a policy gets.
type Class struct {
	Class   string `json:"class"`
	Parent  string `json:"parent"` // "" at the top
	Alone   int64  `json:"alone_bps"`
	AllBusy int64  `json:"all_busy_bps"`
	Gets    int64  `json:"gets_bps"` // with what was asked for; all busy when nothing was
	// Reserved is what it is promised before anything is shared out: its at-least,
	// or what bounds its priority. Lent is what it gets beyond AllBusy.
	Reserved int64 `json:"reserved_bps"`
	Lent     int64 `json:"lent_bps"`
	Priority int   `json:"priority,omitempty"`
	// Each is by what the class has instances, EachBps what one of them never
	// exceeds. The classes within it are those of one that gets as much.
	Each    []string `json:"each,omitempty"`
	EachBps int64    `json:"each_bps,omitempty"`
	// Calls is how many G.711 calls fit in AllBusy.
	Calls int64 `json:"calls"`
	// LongestWait is what a full queue means when all are busy, in ms, that of an
	// instance when it gets all it may; nil for a class with others within it, or that
	// gets nothing.
	LongestWait *float64 `json:"longest_wait_ms"`
}

// An Interface is where a policy stands.
type Interface struct {
	Node      string  `json:"node"`
	Interface string  `json:"interface"`
	Direction string  `json:"direction"`
	Policy    string  `json:"policy"`
	Rate      int64   `json:"rate_bps"` // what there is to share
	Reserved  int64   `json:"reserved_bps"`
	Classes   []Class `json:"classes"`
	Note      string  `json:"note,omitempty"`
}

// A Result is the shares of every policy attached in a file.
type Result struct {
	Interfaces []Interface `json:"interfaces"`
}

// A Wish is what a class wants: a rate, or, when that is 0, all it can get.
type Wish struct {
	Class string
	Rate  unit.Rate
}

// Compute returns the shares of every attachment. With wishes, Gets is when
// those classes want what they wish and the others nothing. An error names a
// wish for a class that no attached policy has.
func Compute(f *policy.File, wishes []Wish) (*Result, error) {
	r := &Result{Interfaces: []Interface{}}
	known := make(map[string]bool)
	for i := range f.Attach {
		a := &f.Attach[i]
		r.Interfaces = append(r.Interfaces, compute(a, wishes, known))
	}
	for _, w := range wishes {
		if !known[w.Class] {
			return nil, fmt.Errorf("no attached policy treats a class `%s`", w.Class)
		}
	}
	return r, nil
}

// is reports whether an entry is meant by a class's name: its own, or with the
// classes around it.
func is(entry, class string) bool { return entry == class || strings.HasSuffix(entry, "/"+class) }

func compute(a *policy.Attachment, wishes []Wish, known map[string]bool) Interface {
	p, rate := a.Policy, a.Interface.Rate
	whole := datapath.Whole(p, rate)
	out := Interface{Node: a.Interface.Node.Name, Interface: a.Interface.Name, Direction: a.Direction.String(), Policy: p.Name, Rate: int64(whole)}
	if a.Direction == policy.In && p.Shape == 0 {
		out.Note = "incoming without a shape: nothing ever waits, so nothing is shared out"
	}
	promises := datapath.Promises(p, rate)
	busy := flatten(nil, promises)
	gets := busy
	if len(wishes) > 0 {
		gets = flatten(nil, datapath.Shares(p, rate, func(name string) unit.Rate {
			var wants unit.Rate
			for _, w := range wishes {
				if is(name, w.Class) {
					if w.Rate == 0 {
						return fluid.Greedy
					}
					wants += w.Rate
				}
			}
			return wants
		}))
	}
	framing := a.Interface.Framing
	const headers = 20 + 8 + packet.RTPHeader // IPv4, UDP, RTP
	perCall := int64(framing.Size(headers+traffic.G711.Payload)) * 8 * int64(time.Second/traffic.G711.Interval)
	maxPacket := unit.Size(framing.Size(1500))
	most, places := alone(nil, promises, whole), places(nil, promises, whole)
	for i, o := range busy {
		for _, w := range wishes {
			known[w.Class] = known[w.Class] || is(o.Name, w.Class)
		}
		c := Class{Class: o.Name, Alone: int64(most[i]), AllBusy: int64(o.Rate), Gets: int64(gets[i].Rate), Priority: o.Entry.Priority,
			Lent: max(0, int64(gets[i].Rate-o.Rate)), Calls: int64(o.Rate) / perCall}
		if at := strings.LastIndexByte(o.Name, '/'); at >= 0 {
			c.Parent = o.Name[:at]
		}
		if c.Each = o.Entry.Each; len(c.Each) > 0 && o.Ceiling < whole {
			c.EachBps = int64(o.Ceiling)
		}
		c.Reserved = int64(o.AtLeast)
		if o.Entry.Priority > 0 {
			c.Reserved = int64(o.Rate)
		}
		if c.Parent == "" {
			out.Reserved += c.Reserved
		}
		if len(o.Inner) == 0 && o.Rate > 0 && !o.Entry.Block {
			wait := longestWait(o, places[i], maxPacket)
			c.LongestWait = &wait
		}
		out.Classes = append(out.Classes, c)
	}
	return out
}

// A place is where an entry stands: among siblings that share a rate.
type place struct {
	siblings []*datapath.Promise
	rate     unit.Rate
}

// places lists where entries stand, each before those within it.
func places(out []place, promises []*datapath.Promise, rate unit.Rate) []place {
	for _, o := range promises {
		within := o.Rate
		if len(o.Entry.Each) > 0 {
			within = o.Ceiling
		}
		out = places(append(out, place{promises, rate}), o.Inner, within)
	}
	return out
}

// longestWait returns how long the last packet of a full queue waits, in ms. An
// entry with priority is served at the rate around it less that of the more
// urgent, behind one packet that is being sent; a policer that drops lets no more
// than its burst wait.
func longestWait(o *datapath.Promise, at place, maxPacket unit.Size) float64 {
	e := o.Entry
	limit := datapath.QueueLimit(&e.Queue, o.Queue(), maxPacket)
	if n := e.Queue.Packets; n > 0 {
		limit = unit.Size(n) * maxPacket
	}
	if e.Police != nil && e.Police.Red.Drop {
		limit = min(limit, e.Police.Burst+max(e.Police.Excess, e.Police.PeakBurst))
	}
	rate := o.Queue()
	if e.Priority > 0 && e.AtMost.IsZero() {
		rate, limit = at.rate, limit+maxPacket
		for _, other := range at.siblings {
			if p := other.Entry.Priority; p > 0 && p < e.Priority {
				rate -= min(other.Rate, rate-unit.MinRate)
			}
		}
	}
	return float64(rate.Time(limit)) / 1e6
}

// alone lists what each entry gets when nothing outside it wants anything: what
// its limits and those around it leave, as far as something within it wants it.
func alone(out []unit.Rate, promises []*datapath.Promise, around unit.Rate) []unit.Rate {
	for _, o := range promises {
		at := len(out)
		out = append(out, o.Ceiling)
		if len(o.Inner) > 0 {
			out[at] = 0
		}
		for i := range o.Inner {
			inner := len(out)
			out = alone(out, o.Inner[i:i+1], o.Ceiling)
			out[at] = min(out[at]+out[inner], o.Ceiling)
		}
		if o.Together() && out[at] > 0 {
			out[at] = around // of as many as it takes
		}
	}
	return out
}

// flatten lists promises, each before those within it.
func flatten(out, promises []*datapath.Promise) []*datapath.Promise {
	for _, o := range promises {
		out = flatten(append(out, o), o.Inner)
	}
	return out
}
