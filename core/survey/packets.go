package survey

import (
	"time"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/recognise"
	"imbrel.example/imbrel/core/traffic"
)

// A Watch makes records of packets: one for each direction of a conversation, each second, and each marking.
type Watch struct {
	*Survey
	recogniser *recognise.Recogniser
	apps       *Apps
	takes      func(*packet.Packet) bool
	streams    map[mediaKey]*stream
	second     int64
	dirty      []*flow // with packets of this second that are not booked
	noted      [5]int64
	mixes      []*sum // with something pending
	out        int64  // packets that takes leaves out
	backwards  int64
	last       time.Duration
}

// What packets are not summed for, in the order of noted.
const (
	notIP = iota
	cut
	short
	deep
	malformed
)

// conversation is both directions.
type conversation struct {
	ways     [2]flow
	app      uint16 // number plus one; 0: unknown
	lowFirst bool   // the end that is first in the flow's order is the client
	known    recognise.Known
	ends     [2]held // client and server
	renamed  bool
}

// held is a sum that is not looked up again, as long as it has the same key.
type held struct {
	*sum
	life uint32
}

func hold(n *sum) held { return held{n, n.life} }

func (h held) valid() bool { return h.sum != nil && h.life == h.sum.life }

// mixed is what of a flow's mix can change.
type mixed struct {
	app    uint16
	vlan   uint16
	dscp   codepoint.DSCP
	tagged bool
}

// flow is one direction, with what is not booked yet. What each packet touches comes first.
type flow struct {
	packets, bytes int64
	last, first    time.Duration
	conversation   *conversation
	began          int64
	begun, pending bool
	tagged         bool
	dscp           codepoint.DSCP
	vlan           uint16
	mixed          mixed
	mix            held
	stream         *stream
	flow           packet.Flow
}

// Watch returns a watch that adds packets to the survey. takes, when not nil, says which packets count.
func (s *Survey) Watch(apps []policy.App, takes func(*packet.Packet) bool) *Watch {
	return &Watch{Survey: s, recogniser: recognise.New(apps), apps: NewApps(apps), takes: takes, streams: make(map[mediaKey]*stream)}
}

// Run adds every packet that a reader yields, with its time since 1970. more is called now and then: false ends it.
func (w *Watch) Run(r traffic.Reader, more func() bool) error {
	var p packet.Packet
	for n := 0; ; n++ {
		frame, wire, at, ok, err := r.ReadFrame()
		if err != nil || !ok || n&0xfff == 0 && !more() {
			w.flush()
			return err
		}
		w.Packet(at, &p, frame, wire)
	}
}

// Packet adds a frame that was seen at a time since 1970. Frames come in the order of time; one that does not counts with the one before.
func (w *Watch) Packet(now time.Duration, p *packet.Packet, frame []byte, wire int) {
	if now < w.last {
		w.backwards++
		now = w.last
	}
	w.last = now
	err := p.Parse(frame, wire)
	switch {
	case err == nil && !p.IsIP():
		w.noted[notIP]++
	case err == packet.ErrCut && p.IsIP():
		w.noted[short]++
	case err == packet.ErrCut:
		w.noted[cut]++
	case err == packet.ErrTooDeep:
		w.noted[deep]++
	case err != nil:
		w.noted[malformed]++
	}
	if !p.IsIP() {
		return
	}
	w.recogniser.Watch(now, p)
	if w.takes != nil && !w.takes(p) {
		w.out++
		return
	}
	if second := int64(now / time.Second); second != w.second {
		w.flush()
		w.second = second
	}
	here := w.recogniser.Here(now, p)
	c, _ := (*here.Kept).(*conversation)
	if c == nil {
		c = &conversation{}
		c.ways[0].conversation, c.ways[1].conversation = c, c
		c.ways[0].flow, c.ways[1].flow = here.Flow, here.Flow.Reverse()
		c.lowFirst = clientSends(p, &here) == here.Forward
		*here.Kept = c
		w.name(c, &here)
	} else if here.Known != c.known {
		w.name(c, &here)
	}
	f := &c.ways[1]
	if here.Forward {
		f = &c.ways[0]
	}
	dscp := p.DSCP()
	if f.pending && (dscp != f.dscp || p.Tagged != f.tagged || p.Tagged && p.VLAN != f.vlan) {
		w.record(f)
	}
	if !f.pending {
		f.pending, f.dscp, f.tagged, f.vlan, f.first = true, dscp, p.Tagged, p.VLAN, now
		w.dirty = append(w.dirty, f)
	}
	if !f.begun {
		f.begun, f.began = true, 1
	}
	f.last = now
	f.packets++
	f.bytes += int64(p.Length)
	if c.known.RTP && p.Flow.Protocol == packet.UDP && !p.LaterFragment {
		w.media(now, f, p)
	}
}

// clientSends reports whether a packet, the first of its conversation, goes to the server: by the handshake of TCP, or to the lower port, or
// else because it is the first.
func clientSends(p *packet.Packet, here *recognise.Place) bool {
	f := here.Flow
	if !here.Forward {
		f = f.Reverse()
	}
	if b := p.Transport(); p.Flow.Protocol == packet.TCP && len(b) > 13 && b[13]&2 != 0 {
		return b[13]&0x10 == 0
	}
	if f.FromPort != f.ToPort && min(f.FromPort, f.ToPort) < policy.FirstEphemeral {
		return f.ToPort < f.FromPort
	}
	return true
}

// name finds the application of a conversation.
func (w *Watch) name(c *conversation, here *recognise.Place) {
	c.known, c.renamed = here.Known, true
	for i, word := range here.Apps {
		for n := range 64 {
			if word&(1<<n) != 0 {
				c.app = uint16(i*64 + n + 1)
				return
			}
		}
	}
	c.app = w.apps.Of(here.Flow.Protocol, here.Flow.FromPort, here.Flow.ToPort)
}

// Finish adds what was seen in the second that has begun.
func (w *Watch) Finish() { w.flush() }

// Notes says what of the packets is not in the survey, and why.
func (w *Watch) Notes() (out []string) {
	for i, what := range [...]string{"frames carry no IP, and are not in the sums", "packets are cut before the end of the IP header", "packets are cut within extension headers, and read as far as they go", "packets have too many headers, and are read as far as they can be", "packets have header lengths that contradict the packet, and are read as far as they can be"} {
		if w.noted[i] > 0 {
			out = append(out, humanize.Count(w.noted[i])+" "+what)
		}
	}
	if w.out > 0 {
		out = append(out, humanize.Count(w.out)+" packets do not meet the condition")
	}
	if w.backwards > 0 {
		out = append(out, humanize.Count(w.backwards)+" packets are earlier than the one before, and count with it")
	}
	conversations, hellos := w.recogniser.Forgotten()
	if conversations > 0 {
		out = append(out, humanize.Count(conversations)+" conversations were forgotten because there were too many at a time: what comes of them later counts as another flow")
	}
	if hellos > 0 {
		out = append(out, humanize.Count(hellos)+" conversations were forgotten before they said a server name, because too many began at a time")
	}
	return out
}

// flush books what was seen in the second that ends.
func (w *Watch) flush() {
	for i, f := range w.dirty {
		w.dirty[i] = nil
		if f.pending {
			w.record(f)
		}
	}
	w.dirty = w.dirty[:0]
	for _, n := range w.mixes {
		w.spread(n)
	}
	w.mixes = w.mixes[:0]
}

func (w *Watch) record(f *flow) {
	c := f.conversation
	k := amount{f.bytes, f.packets, f.began, f.first, f.last}
	f.pending, f.packets, f.bytes, f.began = false, 0, 0, 0
	if !w.span(k.from, k.to) {
		return
	}
	if mixed := (mixed{c.app, f.vlan, f.dscp, f.tagged}); mixed != f.mixed || c.renamed || !f.mix.valid() || !c.ends[0].valid() || !c.ends[1].valid() {
		c.renamed = false
		w.find(f, mixed)
	}
	for i := range c.ends {
		w.book(c.ends[i].sum, &k)
		w.tables[i].sink(c.ends[i].sum)
	}
	n := f.mix.sum
	w.book(n, &k)
	w.mix.sink(n)
	p := n.pending
	if p.Packets == 0 {
		p.From, p.To = k.from, k.to
		w.mixes = append(w.mixes, n)
	}
	p.Packets, p.Bytes, p.Began, p.From, p.To = p.Packets+k.packets, p.Bytes+k.bytes, p.Began+k.began, min(p.From, k.from), max(p.To, k.to)
}

// find looks up the sums that a flow counts for.
func (w *Watch) find(f *flow, now mixed) {
	c := f.conversation
	r := Record{Flow: f.flow, FromClient: (f == &c.ways[0]) == c.lowFirst, ServerName: c.known.Name, DSCP: f.dscp, Tagged: f.tagged, VLAN: f.vlan}
	if c.app > 0 {
		r.App = w.apps.list[c.app-1].Name
	}
	for i := range c.ends { // the second look-up may give up what the first found, when both are new
		k, _ := Groupings[i].of(&r)
		c.ends[i] = hold(w.tables[i].at(w.Survey, k))
	}
	if r.ServerName != "" {
		c.ends[byServer].named = r.ServerName
	}
	r.Direction = w.directed(&r.Flow, r.FromClient)
	n := w.mix.at(w.Survey, mixKey(&r))
	if n.sample(&r); n.pending == nil {
		n.pending = &r
	}
	f.mix, f.mixed = hold(n), now
}
