package report

import (
	"cmp"
	"slices"
	"strings"

	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
)

// A way is the path of one traffic, once for each run.
type way struct {
	Title string
	Runs  []wayRun
}

type wayRun struct {
	Name  string
	Stops []stop
}

// A stop is a node with what happened at its interfaces, or a link.
type stop struct {
	Node  string // "": a link
	Spots []spot
}

// A spot is an interface in a direction, or the carrier or the link after it.
type spot struct {
	Name  string
	Full  float64 // the part of its rate that it sent; below 0: nobody knows
	Said  string  // drops and waits
	Marks string  // what packets leave with, where it changes
	Worst bool
	Chart string
}

// path is the ways of the traffics that expectations were judged by, those that failed first.
func (p *rehearsal) path() []block {
	var titles []string
	for _, failed := range []bool{true, false} {
		for _, r := range slices.Backward(p.runs) {
			for i := range r.Expectations {
				if o := &r.Expectations[i]; o.Of != "" && !o.Holds == failed && !slices.Contains(titles, o.Of) {
					titles = append(titles, o.Of)
				}
			}
		}
	}
	left := max(0, len(titles)-maxWays)
	b := block{ID: "path", Title: "The path"}
	for _, title := range titles[:len(titles)-left] {
		w := way{Title: title}
		for i, r := range p.runs {
			if stops := stops(r, title); stops != nil {
				w.Runs = append(w.Runs, wayRun{p.names[i], stops})
			}
		}
		if w.Runs != nil {
			b.Ways = append(b.Ways, w)
		}
	}
	if b.Ways == nil {
		return nil
	}
	b.Lead = []string{"Where the packets of a traffic pass. The bar is how full the place was with all traffic; drops and waits are those of this traffic. The place with most of both is framed."}
	if left > 0 {
		b.Lead = append(b.Lead, "Expectations are about "+humanize.Plural(left, "more traffic")+".")
	}
	return []block{b}
}

// A passed place sums what a traffic met there in all classes.
type passed struct {
	spot
	node, at      string
	packets       int64
	drops         uint64
	wait, longest float64 // sum over its packets, and the most
	marks         string
}

// stops returns the nodes and links of a traffic's way, in their order.
func stops(r *measure.Result, title string) (out []stop) {
	var places []*passed
	for i := range r.Hops {
		h := &r.Hops[i]
		if policy.Directed(h.Traffic, h.Direction == "reverse") != title {
			continue
		}
		iface := h.Node + "/" + h.Interface
		n := slices.IndexFunc(places, func(p *passed) bool { return p.node == h.Node && p.Name == h.Interface && p.at == h.At })
		if n < 0 {
			n = len(places)
			places = append(places, &passed{spot: spot{Name: h.Interface, Full: -1}, node: h.Node, at: h.At})
			if use := slices.IndexFunc(r.Places(), func(u measure.PlaceUse) bool {
				return u.Where == iface+" "+h.At || u.Where == "carrier of "+iface && h.At != policy.In.String() && h.At != policy.Out.String()
			}); use >= 0 {
				places[n].Full = r.Places()[use].Ratio()
			}
		}
		k := places[n]
		k.packets += h.Packets
		k.drops += h.Drops.Total()
		k.wait += h.MeanMs * float64(h.Packets)
		k.longest = max(k.longest, h.MaxMs)
		if k.marks == "" {
			k.marks = marksOf(r, h)
		}
	}
	if len(places) == 0 {
		return nil
	}
	harm := func(k *passed) float64 {
		return 1000*float64(k.drops)/float64(max(k.packets, 1)) + k.wait/float64(max(k.packets, 1))
	}
	worst := slices.MaxFunc(places, func(a, b *passed) int { return cmp.Compare(harm(a), harm(b)) })
	worst.Worst = worst.drops > 0 || worst.longest >= 1
	before := ""
	for _, k := range places {
		if k.Said = "no wait"; k.longest >= 0.01 {
			k.Said = "waits up to " + ms(k.longest)
		}
		if k.drops > 0 {
			k.Said = humanize.Plural(int(k.drops), "drop") + ", " + k.Said
		}
		if k.marks != "" && k.marks != before {
			k.Marks, before = k.marks, k.marks
		}
		link := k.at != policy.In.String() && k.at != policy.Out.String()
		switch {
		case link:
			k.Name = map[string]string{"carrier": "the carrier's queue", "link": "lost on the link"}[k.at]
			if len(out) == 0 || out[len(out)-1].Node != "" {
				out = append(out, stop{})
			}
		default:
			k.Name += " " + k.at
			if len(out) > 0 && out[len(out)-1].Node != "" && out[len(out)-1].Node != k.node {
				out = append(out, stop{})
			}
			if len(out) == 0 || out[len(out)-1].Node != k.node {
				out = append(out, stop{Node: k.node})
			}
		}
		last := &out[len(out)-1]
		last.Spots = append(last.Spots, k.spot)
	}
	return out
}

// marksOf says with which marks the packets of a class leave the place of a row.
func marksOf(r *measure.Result, h *measure.HopRow) string {
	for i := range r.Interfaces {
		f := &r.Interfaces[i]
		if f.Node != h.Node || f.Interface != h.Interface || f.Direction != h.At {
			continue
		}
		for j := range f.Classes {
			c := &f.Classes[j]
			if c.Class != h.Class {
				continue
			}
			said := []string{most(c.Marks)}
			if len(c.PCPs) > 0 {
				said = append(said, "PCP "+most(c.PCPs))
			}
			if len(c.TCs) > 0 {
				said = append(said, "TC "+most(c.TCs))
			}
			return strings.TrimSuffix(strings.Join(said, ", "), ", ")
		}
	}
	return ""
}

// most names the marks of a class, those with most packets first, two at most.
func most(marks map[string]uint64) string {
	var names []string
	for name := range marks {
		names = append(names, name)
	}
	slices.SortFunc(names, func(a, b string) int {
		return cmp.Or(cmp.Compare(marks[b], marks[a]), cmp.Compare(a, b))
	})
	if len(names) > 2 {
		return strings.Join(names[:2], ", ") + " …"
	}
	return strings.Join(names, ", ")
}
