package simulate

import (
	"encoding/binary"
	"fmt"
	"slices"
	"time"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/tcp"
	"imbrel.example/imbrel/core/traffic"
)

// closedLoop returns the rehearsal with the TCP conversations of each capture as a traffic of
// its own, beside the capture's other packets.
func closedLoop(h *policy.Rehearsal) *policy.Rehearsal {
	out := *h
	out.Traffic = slices.Clone(h.Traffic)
	for _, t := range h.Traffic {
		if t.Kind != policy.Replay {
			continue
		}
		t.Name += "-tcp"
		for slices.ContainsFunc(out.Traffic, func(o policy.Traffic) bool { return o.Name == t.Name }) {
			t.Name += "-"
		}
		t.Kind, t.Protocol, t.Packet = policy.Conversations, packet.TCP, 1500
		out.Traffic = append(out.Traffic, t)
	}
	return &out
}

// A conversation is a TCP conversation of a capture: when it begins, and how many bytes each
// end sends.
type conversation struct {
	flow  packet.Flow // of its first packet
	at    time.Duration
	bytes [2]int64 // of flow, and of the other direction
	next  [2]uint32
	seen  [2]bool
	marks [2]uint8 // traffic class of the first packet of each direction
	begun bool     // a SYN of it was seen
}

// maxConversations bounds the conversations of a capture, each of which becomes a flow at work.
const maxConversations = 20_000

// conversationsOf reads a capture, as often as it is replayed until end, and returns its TCP
// conversations in the order in which they begin.
func (r *run) conversationsOf(t *policy.Traffic, end time.Duration) ([]*conversation, error) {
	reader, err := r.options.Capture(t.Capture)
	if err != nil {
		return nil, err
	}
	known := make(map[packet.Flow]*conversation)
	var again func() (traffic.Reader, error)
	if t.Loop {
		again = func() (traffic.Reader, error) {
			clear(known)
			return r.options.Capture(t.Capture)
		}
	}
	replay := &traffic.Replay{Reader: reader, Start: t.Starts, End: end, Speed: t.Speed, Again: again, Admit: func(_ time.Duration, p *packet.Packet, err error) bool {
		return err == nil && isTCP(p)
	}}
	var out []*conversation
	var p packet.Packet
	room := make([]byte, 0, 1<<11)
	for {
		at, ok, err := replay.Next(&p, room)
		if err != nil || !ok {
			return out, err
		}
		way, c := 0, known[p.Flow]
		if c == nil {
			if c = known[p.Flow.Reverse()]; c != nil {
				way = 1
			}
		}
		if h := p.Transport(); c == nil || h[13]&(tcp.SYN|tcp.ACK) == tcp.SYN && c.next[way] != 0 && binary.BigEndian.Uint32(h[4:])+1 != c.next[way] && c.begun {
			if len(out) == maxConversations {
				return nil, fmt.Errorf("the capture %s has more than %d TCP conversations: replay a part of it", t.Capture, maxConversations)
			}
			if c != nil {
				delete(known, c.flow)
			}
			c, way = &conversation{flow: p.Flow, at: at}, 0
			known[p.Flow] = c
			out = append(out, c)
		}
		c.note(way, &p)
	}
}

// isTCP reports whether a packet is a TCP segment whose header is at hand.
func isTCP(p *packet.Packet) bool {
	if !p.IsIP() || p.Flow.Protocol != packet.TCP || p.LaterFragment {
		return false
	}
	h := p.Transport()
	return len(h) >= tcp.Header && int(h[12]>>4)*4 >= tcp.Header
}

// note counts the bytes of a segment that its direction had not sent before.
func (c *conversation) note(way int, p *packet.Packet) {
	h := p.Transport()
	seq, data := binary.BigEndian.Uint32(h[4:]), max(0, p.TransportLength()-int(h[12]>>4)*4)
	if h[13]&tcp.SYN != 0 {
		c.begun = true
		seq++
	}
	if !c.seen[way] {
		c.seen[way], c.next[way], c.marks[way] = true, seq, p.TrafficClass()
	}
	if fresh := int32(seq + uint32(data) - c.next[way]); fresh > 0 {
		c.bytes[way] += int64(min(int(fresh), data))
		c.next[way] = seq + uint32(data)
	}
}

// conversations makes the TCP conversations of a capture at work: each is opened when its
// first packet was captured, and each end sends as many bytes as it did. The capture's way in
// is where its own end is, and the other end is where its address is.
func (r *run) conversations(index int, t *policy.Traffic, end time.Duration) error {
	at, err := r.enters(t)
	if err != nil {
		return err
	}
	all, err := r.conversationsOf(t, end)
	if err != nil {
		return err
	}
	type placed struct {
		*conversation
		traffic *tcpTraffic
		number  [2]int // among those with data in a direction
	}
	var count [2]int
	var here []placed
	for _, c := range all {
		// Forward is from the capture's own side.
		if r.network.where(c.flow.To) == at {
			c.flow, c.bytes, c.marks = c.flow.Reverse(), [2]int64{c.bytes[1], c.bytes[0]}, [2]uint8{c.marks[1], c.marks[0]}
		}
		far := r.network.where(c.flow.To)
		if far == nil || far == at {
			continue // counted with the packets of the capture
		}
		_, err1 := r.network.route(at, far, c.flow)
		_, err2 := r.network.route(far, at, c.flow.Reverse())
		if err1 != nil || err2 != nil {
			continue
		}
		here = append(here, placed{c, &tcpTraffic{Traffic: t, index: index, end: end, from: at, to: far}, count})
		for way := range count {
			if c.bytes[way] > 0 {
				count[way]++
			}
		}
	}
	var flows [2][]*measure.Flows
	for way, n := range count {
		if n > 0 {
			flows[way] = r.flowsOf(index, t, way == 1, n, end)
		}
	}
	for n, c := range here {
		w := c.traffic
		w.calls = true
		for way := range flows {
			if c.bytes[way] > 0 {
				w.flows[way] = flows[way]
			}
		}
		w.base = tcp.Config{MSS: int(t.Packet) - packet.IPv4Header - tcp.Header - tcp.Timestamps, ReceiveWindow: tcp.DefaultWindow, InitialWindow: tcp.DefaultInitialWindow}
		if c.flow.From.Is6() {
			w.base.MSS -= packet.IPv6Header - packet.IPv4Header
		}
		k := &client{tcpTraffic: w, numbered: c.number, random: traffic.Random(r.options.Seed, t.Name, n), starts: c.at, sends: c.bytes, number: int32(len(r.clients))}
		k.measures = [2]*measure.Flow{r.newFlow(t, end), r.newFlow(t, end)}
		k.join(r, c.flow, [2]codepoint.DSCP{codepoint.DSCP(c.marks[0] >> 2), codepoint.DSCP(c.marks[1] >> 2)})
		r.wakeAt(&k.timer, k, c.at)
		r.clients = append(r.clients, k)
		r.endsOutside(k)
	}
	return nil
}

// converse lets both ends of a conversation send what they have.
func (c *client) converse(r *run) {
	line := c.lines[0]
	for way, e := range []*endpoint{line.client, line.server} {
		e.Write(c.sends[way])
		e.Close()
		c.begins(r, way == 1)
		r.note(c, c.flows[way], started, c.numbered[way], int64(r.now))
	}
	r.pump(line.client)
}

// conversed sees to the end of one direction of a conversation.
func (c *client) conversed(r *run, e *endpoint) {
	way := e.data()
	if !e.Ended() || c.over[way] {
		return
	}
	c.over[way] = true
	r.note(c, c.flows[way], ended, c.numbered[way], int64(r.now))
	c.completed(r, way)
}
