// Package recognise tells the applications of flows by more than ports: by the
// server name of a TLS ClientHello, an HTTP Host, the address that a DNS answer
// gave for a name, or the look of RTP and the RTCP beside it. A conversation keeps what was recognised,
// in both directions. It also lends the ports of a packet's first fragment to the
// later ones.
//
// All memory is bounded; what does not fit is not recognised, and counted.
package recognise

import (
	"net/netip"
	"strings"

	"imbrel/core/classify"
	"imbrel/core/packet"
	"imbrel/core/policy"
)

// Bounds of what a Recogniser remembers.
const (
	maxConversations = 1 << 16
	maxFragments     = 1 << 12
	maxNames         = 1 << 14
	maxPending       = 1 << 10 // conversations whose first bytes are being collected
	maxHello         = 1 << 14 // bytes of each
)

// A Recogniser watches packets in the order of time.
type Recogniser struct {
	apps          []policy.App
	words         int
	conversations map[packet.Flow]*conversation
	fragments     map[packet.FragmentKey][2]uint16
	names         map[netip.Addr]string
	pending       int
	before        *conversation // of the packet before
	beforeKey     packet.Flow
	looks         []int // applications that look like RTP

	Fragments  int64 // later fragments whose ports were found
	Strays     int64 // later fragments whose first was not seen
	Unwatched  int64 // packets of conversations that no longer fitted
	ServerSeen int64 // conversations whose server name was seen
}

// A conversation is what is known of both directions of a flow.
type conversation struct {
	name string
	apps []uint64
	// The client's first bytes, until a name is found or cannot be.
	hello    []byte
	next     uint32
	watching bool
	done     bool
	rtp      [2]rtpState
	isRTP    bool
}

// New returns a recogniser of the applications of a policy file.
func New(apps []policy.App) *Recogniser {
	r := &Recogniser{apps: apps, words: (len(apps) + 63) / 64, conversations: make(map[packet.Flow]*conversation),
		fragments: make(map[packet.FragmentKey][2]uint16), names: make(map[netip.Addr]string)}
	for i := range apps {
		if apps[i].LooksLike == "rtp" {
			r.looks = append(r.looks, i)
		}
	}
	return r
}

// key returns the conversation of a flow, whichever direction it is, and the
// direction: 0 or 1.
func key(f packet.Flow) (packet.Flow, int) {
	if c := f.From.Compare(f.To); c > 0 || c == 0 && f.FromPort > f.ToPort {
		return f.Reverse(), 1
	}
	return f, 0
}

// Watch takes note of a packet and sets what is recognised of it: Apps, and the
// ports of a later fragment.
func (r *Recogniser) Watch(p *packet.Packet) {
	if !p.IsIP() {
		return
	}
	if p.Fragment {
		r.fragment(p)
	}
	inner := p
	var carried packet.Packet
	if p.Flow.Protocol == packet.GRE || p.Flow.Protocol == packet.IPv4in || p.Flow.Protocol == packet.IPv6in {
		if p.Inner(&carried) {
			inner = &carried
		}
	}
	if !inner.HasPorts {
		return
	}
	k, direction := key(inner.Flow)
	c := r.before
	if c == nil || k != r.beforeKey { // packets of one conversation often come in a row
		c = r.conversations[k]
		r.before, r.beforeKey = c, k
	}
	if c == nil {
		if len(r.conversations) >= maxConversations {
			r.Unwatched++
			return
		}
		c = &conversation{}
		r.conversations[k] = c
		r.byAddress(c, inner)
	}
	if !p.LaterFragment {
		switch inner.Flow.Protocol {
		case packet.UDP:
			r.udp(c, inner, direction)
		case packet.TCP:
			r.tcp(c, inner)
		}
	}
	p.Apps = c.apps
}

// Name returns the server name that was recognised of a flow's conversation, and
// whether it looks like RTP.
func (r *Recogniser) Name(f packet.Flow) (name string, rtp bool) {
	k, _ := key(f)
	if c := r.conversations[k]; c != nil {
		return c.name, c.isRTP
	}
	return "", false
}

// fragment learns the ports from a first fragment and lends them to later ones.
func (r *Recogniser) fragment(p *packet.Packet) {
	k := p.FragmentKey()
	if !p.LaterFragment {
		if !p.HasPorts {
			return
		}
		if len(r.fragments) >= maxFragments {
			clear(r.fragments)
		}
		r.fragments[k] = [2]uint16{p.Flow.FromPort, p.Flow.ToPort}
		return
	}
	if ports, ok := r.fragments[k]; ok {
		p.Flow.FromPort, p.Flow.ToPort, p.HasPorts = ports[0], ports[1], true
		r.Fragments++
	} else {
		r.Strays++
	}
}

// byAddress names a conversation by what a DNS answer said of its server, the
// side with the lower port. Several services may share an address, so this is
// for conversations that could tell a server name themselves, if their beginning
// were seen: TCP, or UDP to port 443, on ports that are not another application's.
func (r *Recogniser) byAddress(c *conversation, p *packet.Packet) {
	f := p.Flow
	server, port := f.To, f.ToPort
	if f.FromPort < f.ToPort {
		server, port = f.From, f.FromPort
	}
	name, ok := r.names[server]
	if !ok || f.Protocol != packet.TCP && port != 443 {
		return
	}
	for i := range r.apps {
		if a := &r.apps[i]; a.Name != "http" && a.Name != "https" && classify.IsApp(a, p) {
			return
		}
	}
	r.call(c, name)
}

// call gives a conversation a server name.
func (r *Recogniser) call(c *conversation, name string) {
	if c.name == name {
		return
	}
	if c.name == "" {
		r.ServerSeen++
	}
	c.name = name
	apps := make([]uint64, r.words)
	found := false
	for i := range r.apps {
		if NameMatches(r.apps[i].ServerNames, name) {
			apps[i/64] |= 1 << (i % 64)
			found = true
		}
	}
	if c.isRTP {
		r.setRTP(apps)
		found = true
	}
	c.apps = nil
	if found {
		c.apps = apps
	}
}

func (r *Recogniser) setRTP(apps []uint64) {
	for _, i := range r.looks {
		apps[i/64] |= 1 << (i % 64)
	}
}

// NameMatches reports whether a server name is one of the patterns: the name
// itself, or "*." and a name that it is below.
func NameMatches(patterns []string, name string) bool {
	for _, p := range patterns {
		if below, ok := strings.CutPrefix(p, "*"); ok {
			if strings.HasSuffix(name, below) && len(name) > len(below) {
				return true
			}
		} else if p == name {
			return true
		}
	}
	return false
}

func (r *Recogniser) udp(c *conversation, p *packet.Packet, direction int) {
	b := p.Payload()
	if p.Flow.FromPort == 53 {
		r.answer(b)
	}
	if !c.isRTP && (c.rtp[direction].watch(b) || isRTCP(b)) {
		c.isRTP = true
		if len(r.looks) > 0 {
			apps := make([]uint64, r.words)
			copy(apps, c.apps)
			r.setRTP(apps)
			c.apps = apps
		}
	}
}

// tcp collects the client's first bytes until they tell a server name.
func (r *Recogniser) tcp(c *conversation, p *packet.Packet) {
	b := p.Payload()
	if c.done || len(b) == 0 {
		return
	}
	sequence := p.Sequence()
	if !c.watching {
		if !looksLikeAStart(b) {
			return // the server's greeting, or the middle of a conversation
		}
		if r.pending >= maxPending {
			c.done = true
			return
		}
		c.watching, c.next = true, sequence
		r.pending++
	}
	skip := c.next - sequence // already seen
	if int32(skip) < 0 || int(skip) >= len(b) {
		return // a gap, the other direction, or nothing new
	}
	b = b[skip:]
	if len(c.hello) == 0 {
		if r.try(c, b) {
			return
		}
	}
	c.hello = append(c.hello, b...)
	c.next += uint32(len(b))
	if r.try(c, c.hello) {
		return
	}
	if len(c.hello) > maxHello {
		r.settle(c, "")
	}
}

// try looks for a name in a conversation's first bytes, and reports whether the
// search is over.
func (r *Recogniser) try(c *conversation, b []byte) bool {
	name, more := serverName(b)
	if name == "" && more {
		return false
	}
	r.settle(c, name)
	return true
}

func (r *Recogniser) settle(c *conversation, name string) {
	c.done, c.hello = true, nil
	r.pending--
	if name != "" {
		r.call(c, name)
	}
}
