package changes

import (
	"cmp"
	"slices"

	"imbrel.example/imbrel/core/explain"
)

// Flows are the flows of a capture that are in another class than before.
type Flows struct {
	Capture string     `json:"capture"`
	Flows   int        `json:"flows"`   // of the capture
	Changed int        `json:"changed"` // that are in another class somewhere
	Moves   []FlowMove `json:"moves"`   // most bytes first
}

// A FlowMove is the flows that change from one class to another at one place.
type FlowMove struct {
	Interface string             `json:"interface"`
	Direction string             `json:"direction"`
	From      string             `json:"from"` // "": no policy
	To        string             `json:"to"`
	Flows     int                `json:"flows"`
	Bytes     int64              `json:"bytes"`
	Largest   explain.FlowResult `json:"largest"`
}

// OfCapture compares what two files make of the flows of one capture.
func OfCapture(name string, before, after *explain.CaptureResult) *Flows {
	type flow struct {
		from, to, protocol string
		fromPort, toPort   uint16
	}
	type place struct{ at, direction string }
	type move struct {
		place
		from, to string
	}
	key := func(f *explain.FlowResult) flow { return flow{f.From, f.To, f.Protocol, f.FromPort, f.ToPort} }
	classes := func(f *explain.FlowResult) map[place]string {
		out := make(map[place]string)
		for _, a := range f.At {
			out[place{a.Interface, a.Direction}] = a.Class
		}
		return out
	}
	news := make(map[flow]*explain.FlowResult)
	for i := range after.Flows {
		news[key(&after.Flows[i])] = &after.Flows[i]
	}
	r := &Flows{Capture: name, Flows: len(before.Flows), Moves: []FlowMove{}}
	known := make(map[move]int)
	for i := range before.Flows {
		old := &before.Flows[i]
		now := news[key(old)]
		if now == nil {
			continue
		}
		was, is := classes(old), classes(now)
		changed := false
		visit := func(p place) {
			if was[p] == is[p] {
				return
			}
			changed = true
			k := move{p, was[p], is[p]}
			n, met := known[k]
			if !met {
				n = len(r.Moves)
				known[k] = n
				r.Moves = append(r.Moves, FlowMove{Interface: p.at, Direction: p.direction, From: k.from, To: k.to, Largest: *now})
			}
			m := &r.Moves[n]
			m.Flows++
			m.Bytes += now.Bytes
			if now.Bytes > m.Largest.Bytes {
				m.Largest = *now
			}
		}
		for _, a := range old.At {
			visit(place{a.Interface, a.Direction})
		}
		for _, a := range now.At {
			if _, met := was[place{a.Interface, a.Direction}]; !met {
				visit(place{a.Interface, a.Direction})
			}
		}
		if changed {
			r.Changed++
		}
	}
	slices.SortStableFunc(r.Moves, func(a, b FlowMove) int { return cmp.Compare(b.Bytes, a.Bytes) })
	return r
}
