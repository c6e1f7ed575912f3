package simulate

import (
	"fmt"
	"time"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/tunnel"
)

// A flight is a packet in the network.
type flight struct { // what every hop touches is in the first four cache lines
	route      []hop
	prediction *prediction
	steps      []measure.Step
	at         int // the hop it is at

	in         measure.Set    // what it counts for so far
	first      int32          // the first class that took it, or the rest
	held       int32          // the number of the entry to blame, plus 1: its upper limit held the queue back, or it dropped the packet; 0: none
	divide     int32          // as it leaves, into parts so long at most; 0: it is not
	generation uint32         // of the routes by which it goes
	left, more bool           // it has been through Leave; another part leaves right after it
	inside     *tunnel.Inside // what an outer header hides; nil until there is one
	whole      *whole         // that it is a part of; nil: none
	order      *order         // of the IPsec tunnel that it is in
	source     *source
	flow       *measure.Flow

	number int64 // in its flow
	sent   time.Duration
	packet.Packet

	room     []byte
	token    uint32        // of one that is, or was, outside; 0: none
	where    location      // of that
	sequence uint32        // in its order
	cuts     uint32        // of the link, when it was put on it
	ringed   time.Duration // when it was put into the ring
}

// room is how many bytes of a packet's headers there is room for before it takes
// more: those that are built, and two tags and four labels.
const room = packet.HeaderRoom + 2*4 + 4*4

// flight returns a packet that is not under way. The fields of its Packet are those of an earlier packet, and the caller sets them all.
func (r *run) flight() *flight {
	if n := len(r.spare); n > 0 {
		p := r.spare[n-1]
		r.spare = r.spare[:n-1]
		p.source, p.flow, p.route, p.prediction, p.inside, p.whole = nil, nil, nil, nil, nil, nil
		p.order = nil
		p.divide, p.left, p.more, p.generation = 0, false, false, r.network.generation
		p.number, p.sent, p.at, p.in, p.first, p.steps = 0, 0, 0, 0, int32(r.rest), p.steps[:0]
		return p
	}
	if r.made++; r.made > maxUnderWay && r.failed == nil {
		r.failed = r.tooManyInFlight()
	}
	p := &flight{room: make([]byte, room), first: int32(r.rest), generation: r.network.generation}
	p.Owner = p
	return p
}

// maxSpare is how many packets are kept to be used again where most are not under way.
const maxSpare = 1 << 14

// done takes back a packet that is not under way any more.
func (r *run) done(f *flight) {
	if n := len(r.spare); n >= maxSpare && n > r.made/2 {
		r.made--
		return
	}
	r.spare = append(r.spare, f)
}

// maxUnderWay bounds the packets that are under way at a time, and with them memory: they
// take 0.5 kB each.
const maxUnderWay = 2_000_000

// crowded says where most of the packets under way wait.
func (r *run) tooManyInFlight() error {
	where, most := "on the links", 0
	for _, p := range r.network.ports {
		for _, d := range []policy.Direction{policy.In, policy.Out} {
			if path := p.path(d); path.Path != nil && path.waiting() > most {
				where, most = "at "+p.iface.Path()+" "+d.String(), path.waiting()
			}
		}
		if p.carrier != nil && p.carrier.packets() > most {
			where, most = "at the carrier of "+p.iface.Path(), p.carrier.packets()
		}
	}
	return fmt.Errorf("%s: in `%s` more than %d packets are under way at a time, most of them %s: let less wait there, or send less", r.plan.At, r.plan.Name, maxUnderWay, where)
}

// waiting returns how many packets wait in a data path.
func (p *path) waiting() (n int) {
	for i, c := range p.Counters() {
		if p.Parent(i) >= 0 {
			continue
		}
		n += int(c.OfferedPackets - c.SentPackets)
		for _, d := range c.Drops {
			n -= int(d)
		}
	}
	return n
}
