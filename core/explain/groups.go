package explain

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
)

// A Grouping is by what the packets of a capture are summed.
type Grouping struct {
	Name string // app, client, server, class, dscp, vlan
	Head string // of its column
	None string // what a packet without one is called

	ofFlow   func(w *Watch, r *FlowResult, f *watched) string // nil: it differs between the packets of a flow
	ofPacket func(p *packet.Packet) string
}

// Groupings are those there are. The sums of class are those of each policy on the way.
var Groupings = []Grouping{
	{Name: "app", Head: "application", None: "unknown", ofFlow: func(_ *Watch, r *FlowResult, _ *watched) string { return r.App }},
	{Name: "client", Head: "client", ofFlow: func(w *Watch, _ *FlowResult, f *watched) string {
		if w.towardsServer(f) {
			return f.flow.From.String()
		}
		return f.flow.To.String()
	}},
	{Name: "server", Head: "server", ofFlow: func(w *Watch, r *FlowResult, f *watched) string {
		name := f.flow.From.String()
		if w.towardsServer(f) {
			name = f.flow.To.String()
		}
		if r.ServerName != "" {
			name += " (" + r.ServerName + ")"
		}
		return name
	}},
	{Name: "class", Head: "class at each policy"},
	{Name: "dscp", Head: "DSCP", ofPacket: func(p *packet.Packet) string { return p.DSCP().Name() }},
	{Name: "vlan", Head: "VLAN", None: "untagged", ofPacket: func(p *packet.Packet) string {
		if !p.Tagged {
			return ""
		}
		return fmt.Sprint(p.VLAN)
	}},
}

// GroupingOf returns the grouping of a name; false: there is none.
func GroupingOf(name string) (Grouping, bool) {
	i := slices.IndexFunc(Groupings, func(g Grouping) bool { return g.Name == name })
	if i < 0 {
		return Grouping{}, false
	}
	return Groupings[i], true
}

// A Total is the sum of a group.
type Total struct {
	By         string `json:"by"`
	Name       string `json:"name"` // "": it is not known, or there is none
	Flows      int    `json:"flows,omitempty"`
	Packets    int64  `json:"packets"`
	Bytes      int64  `json:"bytes"`       // of IP packets
	MeanBps    int64  `json:"mean_bps"`    // over the whole capture
	BusiestBps int64  `json:"busiest_bps"` // of its busiest second, on the capture's clock from its first packet
	BusiestAtS int64  `json:"busiest_at_s"`
}

// maxSeconds bounds the seconds of all flows and groups together whose bytes are kept: 16 bytes each.
const maxSeconds = 4 << 20

// seconds are bytes by the second, in the order of time: only those in which there were some.
type bySecond []struct{ second, bytes int64 }

func (s *bySecond) add(second, bytes int64) (grown bool) {
	if n := len(*s); n > 0 && (*s)[n-1].second == second {
		(*s)[n-1].bytes += bytes
		return false
	}
	*s = append(*s, struct{ second, bytes int64 }{second, bytes})
	return true
}

// A grouped sums what a grouping needs to know while packets come.
type grouped struct {
	packets, bytes int64
	seconds        bySecond
}

// Group makes the watch sum by a grouping. It is called before the first packet.
func (w *Watch) Group(g Grouping) { w.groupings = append(w.groupings, g) }

// summed books a packet for the groupings.
func (w *Watch) summed(now time.Duration, f *watched, p *packet.Packet) {
	second := int64(now / time.Second)
	for i := range w.groupings {
		g := &w.groupings[i]
		if g.ofPacket == nil {
			continue
		}
		w.groupOf(g.Name, g.ofPacket(p)).add(w, second, int64(p.Length))
	}
	if f != w.other && w.keptSeconds < maxSeconds {
		if f.seconds.add(second, int64(p.Length)) {
			w.keptSeconds++
		}
	}
}

func (g *grouped) add(w *Watch, second, bytes int64) {
	g.packets++
	g.bytes += bytes
	if w.keptSeconds < maxSeconds && g.seconds.add(second, bytes) {
		w.keptSeconds++
	}
}

func (w *Watch) groupOf(by, name string) *grouped {
	key := [2]string{by, name}
	g := w.groups[key]
	if g == nil {
		if w.groups == nil {
			w.groups = make(map[[2]string]*grouped)
		}
		g = &grouped{}
		w.groups[key] = g
	}
	return g
}

// towardsServer reports whether a flow goes from the client to the server: the server is at the lower port, or else, where the ports
// say nothing, the one that did not send first.
func (w *Watch) towardsServer(f *watched) bool {
	if f.flow.FromPort != f.flow.ToPort && min(f.flow.FromPort, f.flow.ToPort) < policy.FirstEphemeral {
		return f.flow.ToPort < f.flow.FromPort
	}
	back := w.flows[f.flow.Reverse()]
	return back == nil || f.number < back.number
}

// totals returns the sums of all groupings, those with most bytes first.
func (w *Watch) totalsOf(results map[*watched]*FlowResult) []Total {
	var out []Total
	for i := range w.groupings {
		g := &w.groupings[i]
		sums := make(map[string]*Total)
		seconds := make(map[string]map[int64]int64)
		put := func(name string, flows int, packets, bytes int64, s bySecond) {
			t := sums[name]
			if t == nil {
				t = &Total{By: g.Name, Name: name}
				sums[name], seconds[name] = t, make(map[int64]int64)
			}
			t.Flows, t.Packets, t.Bytes = t.Flows+flows, t.Packets+packets, t.Bytes+bytes
			for _, k := range s {
				seconds[name][k.second] += k.bytes
			}
		}
		switch {
		case g.ofFlow != nil:
			for f, r := range results {
				put(g.ofFlow(w, r, f), 1, f.packets, f.bytes, f.seconds)
			}
		case g.ofPacket != nil:
			for key, k := range w.groups {
				if key[0] == g.Name {
					put(key[1], 0, k.packets, k.bytes, k.seconds)
				}
			}
		default: // of classes at their places
			for key, s := range w.totals {
				at := w.attached[key.at]
				put(at.at.Path()+" "+at.direction.String()+": "+key.class, 0, s.packets, s.bytes, s.seconds)
			}
		}
		var list []Total
		for name, t := range sums {
			t.MeanBps = int64(float64(8*t.Bytes) / max(w.last, time.Second).Seconds())
			for second, bytes := range seconds[name] {
				if 8*bytes > t.BusiestBps || 8*bytes == t.BusiestBps && second < t.BusiestAtS {
					t.BusiestBps, t.BusiestAtS = 8*bytes, second
				}
			}
			list = append(list, *t)
		}
		slices.SortFunc(list, func(a, b Total) int { return cmp.Or(cmp.Compare(b.Bytes, a.Bytes), cmp.Compare(a.Name, b.Name)) })
		out = append(out, list...)
	}
	return out
}
