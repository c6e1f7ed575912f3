// Package recognise finds the applications of conversations by more than ports: by
// the server name of a TLS ClientHello, an HTTP Host, the address that a DNS answer
// gave for a name, or the look of RTP and the RTCP beside it. A conversation keeps
// what was recognised, in both directions, until a new one begins with a SYN on the
// same ports. It also lends the ports of a packet's first fragment to the later ones.
//
// All memory is bounded: what was not used for longest is forgotten, and counted.
package recognise

import (
	"net/netip"
	"strings"
	"time"

	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
)

// Bounds of what a Recogniser remembers, and for how long what is not used is.
const (
	MaxConversations = 1 << 16
	MaxFragments     = 1 << 12
	MaxNames         = 1 << 14
	MaxHellos        = 1 << 10 // conversations whose first bytes are being collected
	MaxHello         = 1 << 14 // bytes of each

	ConversationLasts = 10 * time.Minute
	FragmentLasts     = 30 * time.Second // RFC 791 §3.2 suggests 15 s and more
	NameLasts         = 6 * time.Hour
	HelloLasts        = 30 * time.Second
)

// A Recogniser watches packets in the order of time.
type Recogniser struct {
	apps          []policy.App
	words         int
	conversations memory[packet.Flow, conversation]
	fragments     memory[packet.FragmentKey, [2]uint16]
	names         memory[netip.Addr, string]
	hellos        memory[packet.Flow, hello]
	portless      memory[packet.Flow, conversation]      // between addresses, by Kept alone
	recent        [1024]*item[packet.Flow, conversation] // of packets before
	before        *item[packet.Flow, conversation]       // of the packet before
	direction     int                                    // of the packet before, in its conversation
	here          bool                                   // the packet before is in that conversation
	looks         []int                                  // applications that look like RTP

	// Fragments and Strays count later fragments whose ports were found, and those
	// whose first was not seen.
	Fragments, Strays int64
}

// Forgotten returns how many conversations, and how many beginnings of one, were
// forgotten because there were too many.
func (r *Recogniser) Forgotten() (conversations, hellos int64) {
	return r.conversations.forgotten, r.hellos.forgotten
}

// Evidence is how the name of a conversation's server was learned.
type Evidence uint8

// How a name is learned. NotLearned is the zero value.
const (
	NotLearned Evidence = iota
	ByTLS
	ByHTTP
	ByDNS
)

// Word returns how a name is learned as one word: "tls", "http", "dns".
func (e Evidence) Word() string { return [...]string{"", "tls", "http", "dns"}[e] }

// A conversation is what is known of both directions of a flow.
type conversation struct {
	name     string
	learned  Evidence
	apps     []uint64
	watching bool // its first bytes are being collected
	done     bool
	rtp      [2]rtpState
	isRTP    bool
	kept     any
}

// A hello is the client's first bytes, until a name is found or cannot be.
type hello struct {
	bytes []byte
	next  uint32
}

// New returns a recogniser of the applications of a policy file.
func New(apps []policy.App) *Recogniser {
	r := &Recogniser{apps: apps, words: (len(apps) + 63) / 64,
		conversations: newMemory[packet.Flow, conversation](MaxConversations, ConversationLasts),
		fragments:     newMemory[packet.FragmentKey, [2]uint16](MaxFragments, FragmentLasts),
		names:         newMemory[netip.Addr, string](MaxNames, NameLasts),
		portless:      newMemory[packet.Flow, conversation](MaxConversations, ConversationLasts),
		hellos:        newMemory[packet.Flow, hello](MaxHellos, HelloLasts)}
	for i := range apps {
		if apps[i].LooksLike == policy.LooksLikeRTP {
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

// Watch takes note of a packet at a time and sets what is recognised of it: Apps,
// and the ports of a later fragment.
func (r *Recogniser) Watch(now time.Duration, p *packet.Packet) {
	r.here = false
	if !p.IsIP() {
		return
	}
	if p.Fragment {
		r.fragment(now, p)
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
	recent := &r.recent[(uint(k.FromPort)^uint(k.ToPort)*5^uint(k.From.As16()[15])*3^uint(k.To.As16()[15])*7)%uint(len(r.recent))]
	i := *recent
	if i == nil || i.gone || k != i.key || now-i.used > ConversationLasts { // the packets of a few conversations often take turns
		i = r.conversations.find(now, k)
	}
	if i == nil || inner.BeginsTCP() {
		i = r.conversations.put(now, k)
		r.hellos.remove(k)
		r.byAddress(now, &i.value, inner)
	}
	i.used = now
	*recent, r.before, r.direction, r.here = i, i, direction, true
	c := &i.value
	if !p.LaterFragment {
		switch inner.Flow.Protocol {
		case packet.UDP:
			r.udp(now, c, inner, direction)
		case packet.TCP:
			r.tcp(now, c, k, inner)
		}
	}
	p.Apps = c.apps
}

// Known is what is known of a conversation.
type Known struct {
	Name string   // of the server; "" when it is not known
	By   Evidence // how the name was learned
	RTP  bool     // it looks like RTP
}

// Known returns what was recognised of a flow's conversation.
func (r *Recogniser) Known(f packet.Flow) Known {
	k, _ := key(f)
	if c := r.conversations.peek(k); c != nil {
		return Known{c.name, c.learned, c.isRTP}
	}
	return Known{}
}

// A Place is the conversation of a packet, as its Recogniser remembers it.
type Place struct {
	Kept    *any        // room for the caller's own data; nil at first, and forgotten with the conversation
	Flow    packet.Flow // the conversation, in the direction whose lower end is first
	Forward bool        // the packet goes in that direction
	Known
	Apps []uint64 // as a packet's
}

// Here returns the conversation of the packet that was watched last. That of a packet without ports is between its addresses.
func (r *Recogniser) Here(now time.Duration, p *packet.Packet) Place {
	i, direction := r.before, r.direction
	if !r.here {
		k, d := key(p.Flow)
		if i, direction = r.portless.find(now, k), d; i == nil {
			i = r.portless.put(now, k)
		}
		i.used = now
	}
	c := &i.value
	return Place{&c.kept, i.key, direction == 0, Known{c.name, c.learned, c.isRTP}, c.apps}
}

// fragment learns the ports from a first fragment and lends them to later ones.
func (r *Recogniser) fragment(now time.Duration, p *packet.Packet) {
	k := p.FragmentKey()
	if !p.LaterFragment {
		if p.HasPorts {
			r.fragments.put(now, k).value = [2]uint16{p.Flow.FromPort, p.Flow.ToPort}
		}
		return
	}
	if ports := r.fragments.get(now, k); ports != nil {
		p.Flow.FromPort, p.Flow.ToPort, p.HasPorts = ports[0], ports[1], true
		r.Fragments++
	} else {
		r.Strays++
	}
}

// byAddress names a conversation by what a DNS answer said of its server, the
// side with the lower port. Several services may share an address, so this is
// for conversations that would tell a server name themselves, if their beginning
// were seen: those on the ports of http and https that are not another application's.
func (r *Recogniser) byAddress(now time.Duration, c *conversation, p *packet.Packet) {
	f := p.Flow
	server := f.To
	if f.FromPort < f.ToPort {
		server = f.From
	}
	name := r.names.get(now, server)
	if name == nil {
		return
	}
	web := false
	for i := range r.apps {
		if a := &r.apps[i]; a.Takes(p) {
			if a.Name != "http" && a.Name != "https" {
				return
			}
			web = true
		}
	}
	if web {
		r.name(c, *name, ByDNS)
	}
}

// name gives a conversation a server name.
func (r *Recogniser) name(c *conversation, name string, by Evidence) {
	if c.learned = by; c.name == name {
		return
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

func (r *Recogniser) udp(now time.Duration, c *conversation, p *packet.Packet, direction int) {
	b := p.Payload()
	if p.Flow.FromPort == 53 {
		r.answer(now, b)
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

// tcp collects the client's first bytes until they say a server name.
func (r *Recogniser) tcp(now time.Duration, c *conversation, k packet.Flow, p *packet.Packet) {
	b := p.Payload()
	if c.done || len(b) == 0 {
		return
	}
	sequence := p.Sequence()
	var h *hello
	if !c.watching {
		if !looksLikeAStart(b) {
			return // the server's greeting, or the middle of a conversation
		}
		c.watching = true
		h = &r.hellos.put(now, k).value
		h.next = sequence
	} else if h = r.hellos.get(now, k); h == nil {
		c.done = true // forgotten
		return
	}
	skip := h.next - sequence // already seen
	if int32(skip) < 0 || int(skip) >= len(b) {
		return // a gap, the other direction, or nothing new
	}
	b = b[skip:]
	if len(h.bytes) == 0 && r.try(c, k, b) {
		return
	}
	h.bytes = append(h.bytes, b...)
	h.next += uint32(len(b))
	if !r.try(c, k, h.bytes) && len(h.bytes) > MaxHello {
		r.settle(c, k, "", NotLearned)
	}
}

// try looks for a name in a conversation's first bytes, and reports whether the
// search is over.
func (r *Recogniser) try(c *conversation, k packet.Flow, b []byte) bool {
	name, more := serverName(b)
	if name == "" && more {
		return false
	}
	by := ByHTTP
	if b[0] == tlsHandshake {
		by = ByTLS
	}
	r.settle(c, k, name, by)
	return true
}

func (r *Recogniser) settle(c *conversation, k packet.Flow, name string, by Evidence) {
	c.done = true
	r.hellos.remove(k)
	if name != "" {
		r.name(c, name, by)
	}
}
