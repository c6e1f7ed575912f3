package bound

import (
	"slices"

	"imbrel.example/imbrel/core/explain"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/route"
)

// capture adds the flows of a capture. Where it cannot be read, nobody knows where its packets go and of which class they are: they
// may go to every host that they can reach.
func (n *network) capture(t *policy.Traffic) {
	if n.read(t) {
		return
	}
	f := &flow{traffic: t, replayed: true, send: senderOf(t, 1, n.rehearsal.Lasts, 0)}
	f.uncertain = f.send.why
	if t.Enters == nil { // the conversations of a capture
		n.everywhere(f)
	} else {
		n.reaches(f, t.Enters)
	}
	n.flows = append(n.flows, f)
}

// maxFrames is how many frames of a capture are read.
const maxFrames = 500_000

// read adds a flow for the packets of a capture that take the same way through the same entries, and reports whether it could: not
// where what is known of a packet depends on those before.
func (n *network) read(t *policy.Traffic) bool {
	if n.open == nil || t.Enters == nil || n.file.Recognises() {
		return false
	}
	reader, err := n.open(t.Capture)
	if err != nil {
		return false
	}
	type way struct {
		steps             []explain.Step // of the longest packet
		shortest, longest int
	}
	known := make(map[string]*way)
	var order []*way
	var p packet.Packet
	var room []byte
	for frames := 0; ; frames++ {
		frame, wire, _, ok, err := reader.ReadFrame()
		if err != nil || frames == maxFrames {
			return false
		}
		if !ok {
			break
		}
		room = append(room[:0], frame...)
		_ = p.Parse(room, wire) // what cannot be read is no IP
		if p.Standing().Control() || !p.IsIP() {
			continue
		}
		to := n.table.Where(p.Flow.To)
		if to == nil || to == t.Enters {
			continue
		}
		length := p.Length
		if p.Fragment {
			return false
		}
		steps, err := n.follower.WalkFrame(&p, t.Enters)
		if err != nil {
			continue // there is no route
		}
		for i := range steps {
			if steps[i].TooLong != nil || steps[i].Several && n.table.Several(to) {
				return false
			}
		}
		key := wayOf(steps)
		w := known[key]
		if w == nil {
			w = &way{shortest: length}
			known[key] = w
			order = append(order, w)
		}
		if w.shortest = min(w.shortest, length); length > w.longest {
			w.steps, w.longest = slices.Clone(steps), length
		}
	}
	for _, w := range order {
		f := &flow{traffic: t, length: w.longest, shortest: w.shortest, count: 1, replayed: true, send: senderOf(t, 1, n.rehearsal.Lasts, 0)}
		n.way(f, w.steps)
		f.uncertain = f.send.why
	}
	return true
}

// everywhere adds a wild flow to every station of the network.
func (n *network) everywhere(f *flow) {
	for i := range n.file.Network.Nodes {
		for _, iface := range n.file.Network.Nodes[i].Interfaces {
			n.wild(f, iface, policy.In, nil)
			n.wild(f, iface, policy.Out, nil)
		}
	}
}

// reaches adds a wild flow to every station on a way from an interface.
func (n *network) reaches(f *flow, from *policy.Interface) {
	for i := range n.file.Network.Nodes {
		for _, to := range n.file.Network.Nodes[i].Interfaces {
			if to == from || len(to.Subnets) == 0 && !to.Own {
				continue
			}
			if n.table.Several(to) {
				n.everywhere(f)
				return
			}
			hops, err := n.table.Route(from, to, route.Key{})
			if err != nil {
				continue
			}
			var prev *station
			for _, h := range hops {
				prev = n.wild(f, h.In, policy.In, prev)
				prev = n.wild(f, h.Out, policy.Out, prev)
			}
		}
	}
}

// wild adds a flow that may be of any class to the stations of an interface in one direction, and returns the last of them.
func (n *network) wild(f *flow, at *policy.Interface, d policy.Direction, prev *station) *station {
	add := func(s *station) {
		if s == nil {
			return
		}
		if !slices.ContainsFunc(s.visits, func(v *visit) bool { return v.flow == f && v.number < 0 && v.prev == prev }) {
			s.visits = append(s.visits, &visit{flow: f, number: -1, at: s, anyClass: s.plan != nil, prev: prev, maxBits: int64(8 * s.framing.Size(at.Longest(), 0)), minBits: int64(8 * s.framing.Size(20, 0))})
		}
		prev = s
	}
	if d == policy.In && at.Attached[d] == nil {
		return prev
	}
	add(n.station(place{at, d, false}))
	if d == policy.Out {
		add(n.station(place{at, d, true}))
	}
	return prev
}
