package measure

import (
	"cmp"
	"slices"
	"strings"

	"imbrel.example/imbrel/core/policy"
)

// A PlaceUse is how full one place was: an interface, or the carrier's queue after it.
type PlaceUse struct {
	Policy           string // where an event puts others in force there
	Where            string
	SentBps, RateBps int64 // as the interface counts
	Drops            uint64
	LongestMs        float64 // the longest wait
	Blamed           bool    // the reason of a failed expectation
}

// Ratio returns the part of the rate that was sent.
func (u *PlaceUse) Ratio() float64 { return part(u.SentBps, u.RateBps) }

// fullRatio is the part of its rate from which on a place counts as full.
const fullRatio = 0.9

// minWait is the longest wait, in milliseconds, from which on a place that sent nearly its rate counts as full.
const minWait = 1

// Full reports whether the place is worth a look: it dropped packets, or packets waited there and it sent nearly its rate or made
// an expectation fail.
func (u *PlaceUse) Full() bool {
	return u.Drops > 0 || u.LongestMs >= minWait && (u.Blamed || u.Ratio() >= fullRatio)
}

// Places returns how full each interface and each carrier's queue was: first those by which an expectation failed, then those
// that dropped packets, then the fullest.
func (r *Result) Places() []PlaceUse {
	blamed := r.blamed()
	var out []PlaceUse
	for i := range r.Interfaces {
		f := &r.Interfaces[i]
		u := PlaceUse{Where: f.Node + "/" + f.Interface + " " + f.Direction, SentBps: f.SentBps, RateBps: f.RateBps, Drops: f.drops(true), LongestMs: f.wait(func(d *Milliseconds) float64 { return d.Max })}
		u.Blamed = blamed[[2]string{f.Node + "/" + f.Interface, f.Direction}]
		if f.FromS > 0 || f.UntilS > 0 { // one of several policies
			u.Policy = f.PolicyAt
		}
		out = append(out, u)
	}
	for i := range r.Links {
		l := &r.Links[i]
		u := PlaceUse{Where: "carrier of " + l.From, SentBps: l.CarriedBps, RateBps: l.SendsBps, Drops: l.Drops + l.Lost, Blamed: blamed[[2]string{l.From, "carrier"}] || blamed[[2]string{l.From, byLink}]}
		if l.QueueDelay != nil {
			u.LongestMs = l.QueueDelay.Max
		}
		out = append(out, u)
	}
	rank := func(u *PlaceUse) int {
		switch {
		case u.Blamed:
			return 0
		case u.Drops > 0:
			return 1
		}
		return 2
	}
	slices.SortStableFunc(out, func(a, b PlaceUse) int {
		return cmp.Or(rank(&a)-rank(&b), cmp.Compare(b.Ratio(), a.Ratio()))
	})
	return out
}

// blamed returns the places, as interface and direction, that the reasons of failed expectations name.
func (r *Result) blamed() map[[2]string]bool {
	out := make(map[[2]string]bool)
	for i := range r.Expectations {
		if w := r.Expectations[i].Why; w != nil && w.Node != "" && w.Reason != byMark { // a mark makes nothing wait
			out[[2]string{w.Node + "/" + w.Interface, w.Direction}] = true
		}
	}
	return out
}

// drops returns the packets that an interface dropped; without the rest, those of its other classes.
func (i *Interface) drops(rest bool) (n uint64) {
	for j := range i.Classes {
		if c := i.Classes[j].Class; !strings.Contains(c, "/") && (rest || c != policy.Rest) { // the others are within these
			n += i.Classes[j].Drops.Total()
		}
	}
	return n
}

// wait returns the longest of a figure of its classes' waits, in milliseconds.
func (i *Interface) wait(of func(*Milliseconds) float64) (ms float64) {
	for j := range i.Classes {
		if d := i.Classes[j].QueueDelay; d != nil {
			ms = max(ms, of(d))
		}
	}
	return ms
}

// A PromiseUse compares the rate that a class sent with its promised rate, at the place where the ratio is highest.
type PromiseUse struct {
	Where                string
	SentBps, PromisedBps int64
}

// PromiseUse returns the highest ratio of a class, or nil where it has no promise.
func (r *Result) PromiseUse(class string) (most *PromiseUse) {
	for i := range r.Interfaces {
		f := &r.Interfaces[i]
		for j := range f.Classes {
			c := &f.Classes[j]
			if c.PromisedBps == nil || *c.PromisedBps <= 0 || c.PerInstance || f.Direction != policy.Out.String() || c.Class != class && !strings.HasSuffix(c.Class, "/"+class) {
				continue
			}
			if most == nil || part(c.SentBps, *c.PromisedBps) > part(most.SentBps, most.PromisedBps) {
				most = &PromiseUse{f.Node + "/" + f.Interface + " " + f.Direction, c.SentBps, *c.PromisedBps}
			}
		}
	}
	return most
}

// Class returns what the interface of a series did with a class, or nil.
func (r *Result) Class(f *SeriesInterface, class string) *Class {
	for i := range r.Interfaces {
		g := &r.Interfaces[i]
		if g.Node != f.Node || g.Interface != f.Interface || g.Direction != f.Direction {
			continue
		}
		for j := range g.Classes {
			if g.Classes[j].Class == class {
				return &g.Classes[j]
			}
		}
	}
	return nil
}

// WorstRows returns the rows of traffic whose class is shown: all in their order, or, of more than a number, the worst: those
// by which an expectation failed, then those of classes that lost packets, then the others. left is how many it leaves out.
func (r *Result) WorstRows(shows func(class string) bool, most int) (rows []*Row, left int) {
	for i := range r.Traffic {
		if shows(r.Traffic[i].Class) {
			rows = append(rows, &r.Traffic[i])
		}
	}
	if len(rows) <= most {
		return rows, 0
	}
	failed := make(map[string]bool)
	for i := range r.Expectations {
		if o := &r.Expectations[i]; !o.Holds && o.Of != "" {
			failed[o.Of] = true
		}
	}
	harm := func(r *Row) float64 {
		h := r.Loss
		if r.OverTCP {
			h = 0 // it is how TCP finds its rate
		}
		if r.Late != nil {
			h += *r.Late
		}
		switch {
		case failed[r.Title()]:
			return 20 + h
		case h > 0 && r.Class != policy.Rest:
			return 10 + h
		}
		return h
	}
	p99 := func(r *Row) float64 {
		if r.Delay == nil {
			return 0
		}
		return r.Delay.P99
	}
	slices.SortStableFunc(rows, func(a, b *Row) int {
		return cmp.Or(cmp.Compare(harm(b), harm(a)), cmp.Compare(p99(b), p99(a)))
	})
	return rows[:most], len(rows) - most
}

// WorstInterfaces returns the interfaces with a policy or with drops, the worst first where there are more than a number: those
// by which an expectation failed, then by drops and waits. left are those beyond the number, idle those with neither.
func (r *Result) WorstInterfaces(most int) (shown, left, idle []*Interface) {
	blamed := make(map[string]int)
	for at := range r.blamed() {
		blamed[at[0]] = 1
	}
	for i := range r.Interfaces {
		if f := &r.Interfaces[i]; f.PolicyAt != "" || f.drops(true) > 0 {
			shown = append(shown, f)
		} else {
			idle = append(idle, f)
		}
	}
	if len(shown) <= most {
		return shown, nil, idle
	}
	p99 := func(d *Milliseconds) float64 { return d.P99 }
	slices.SortStableFunc(shown, func(a, b *Interface) int {
		return cmp.Or(blamed[b.Node+"/"+b.Interface]-blamed[a.Node+"/"+a.Interface], cmp.Compare(b.drops(false), a.drops(false)),
			cmp.Compare(b.drops(true), a.drops(true)), cmp.Compare(b.wait(p99), a.wait(p99)))
	})
	return shown[:most], shown[most:], idle
}

// Title names a traffic in one direction.
func (r *Row) Title() string { return policy.Directed(r.Name, r.Direction == "reverse") }

// Only leaves in the result what is at a place, and of a class, that is asked for.
func (r *Result) Only(at func(iface, direction string) bool, shows func(class string) bool) {
	keep := func(f *Interface) bool {
		f.Classes = slices.DeleteFunc(f.Classes, func(c Class) bool { return !shows(c.Class) })
		return at(f.Node+"/"+f.Interface, f.Direction)
	}
	var kept []Interface
	for i := range r.Interfaces {
		if keep(&r.Interfaces[i]) {
			kept = append(kept, r.Interfaces[i])
		}
	}
	r.Interfaces = slices.Concat([]Interface{}, kept)
	r.Links = slices.DeleteFunc(r.Links, func(l Link) bool { return !at(l.From, policy.Out.String()) })
	r.Traffic = slices.DeleteFunc(r.Traffic, func(t Row) bool { return !shows(t.Class) })
	r.Classes = slices.DeleteFunc(r.Classes, func(c ClassResult) bool { return !shows(c.Class) })
	r.Hops = slices.DeleteFunc(r.Hops, func(h HopRow) bool { return !shows(h.Class) || !at(h.Node+"/"+h.Interface, h.At) })
	if s := r.Series; s != nil {
		s.Interfaces = slices.DeleteFunc(s.Interfaces, func(f SeriesInterface) bool { return !at(f.Node+"/"+f.Interface, f.Direction) })
		for i := range s.Interfaces {
			f := &s.Interfaces[i]
			f.Classes = slices.DeleteFunc(f.Classes, func(c SeriesClass) bool { return !shows(c.Class) })
		}
	}
}
