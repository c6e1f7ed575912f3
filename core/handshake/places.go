package handshake

import (
	"container/list"
	"net/netip"
	"time"
)

// Places are what an answering end remembers of its peers, within a bound. Where there is no place left, that of the peer
// goes which was of use least recently: of the same address where it has more than its part, else of the same network
// where that has, else of all that are not known yet. A peer is known when it comes again after a second.
type Places[K comparable, V any] struct {
	most, perAddress, perNetwork int
	of                           map[K]*seat[K, V]
	new, known                   list.List // the last used first
	addresses                    map[netip.Addr]*list.List
	networks                     map[netip.Prefix]*list.List
}

// A seat is one peer's.
type seat[K comparable, V any] struct {
	key                  K
	value                V
	from                 netip.Addr
	began, used          time.Time
	known                bool
	all, address, within *list.Element
}

// NewPlaces returns so many places, of which an address may have a part, and a network (IPv4: 24 bits, IPv6: 48) another.
func NewPlaces[K comparable, V any](most, perAddress, perNetwork int) *Places[K, V] {
	return &Places[K, V]{most: most, perAddress: perAddress, perNetwork: perNetwork, of: make(map[K]*seat[K, V]), addresses: make(map[netip.Addr]*list.List), networks: make(map[netip.Prefix]*list.List)}
}

// knownAfter is when a peer that comes again is known, and forgottenAfter is for how long one is remembered that does not.
const (
	knownAfter     = time.Second
	forgottenAfter = time.Minute
)

// Len returns how many places are taken.
func (p *Places[K, V]) Len() int { return len(p.of) }

// Peek returns what is remembered of a peer, or nil.
func (p *Places[K, V]) Peek(k K) *V {
	if s := p.of[k]; s != nil {
		return &s.value
	}
	return nil
}

// Get returns what is remembered of a peer of an address, who comes at a time. It is never nil: somebody else may have been forgotten.
func (p *Places[K, V]) Get(k K, from netip.Addr, now time.Time) *V {
	s := p.of[k]
	if s == nil {
		p.makeRoom(from, now)
		s = &seat[K, V]{key: k, from: from, began: now}
		s.all, s.address, s.within = p.new.PushFront(s), lists(p.addresses, from).PushFront(s), lists(p.networks, network(from)).PushFront(s)
		p.of[k] = s
	}
	s.used = now
	if !s.known && now.Sub(s.began) >= knownAfter {
		s.known = true
		p.new.Remove(s.all)
		s.all = p.known.PushFront(s)
	}
	p.order(s).MoveToFront(s.all)
	p.addresses[from].MoveToFront(s.address)
	p.networks[network(from)].MoveToFront(s.within)
	return &s.value
}

func (p *Places[K, V]) order(s *seat[K, V]) *list.List {
	if s.known {
		return &p.known
	}
	return &p.new
}

// Forget gives a place back. A value with a method Forgotten is told, here and where its place goes to another.
func (p *Places[K, V]) Forget(k K) {
	if s := p.of[k]; s != nil {
		p.remove(s)
	}
}

// makeRoom forgets those who have not come for long, and one more where a peer of an address would have no place.
func (p *Places[K, V]) makeRoom(from netip.Addr, now time.Time) {
	for _, l := range []*list.List{&p.new, &p.known} {
		for e := l.Back(); e != nil && now.Sub(e.Value.(*seat[K, V]).used) > forgottenAfter; e = l.Back() {
			p.remove(e.Value.(*seat[K, V]))
		}
	}
	least := func(l *list.List) { p.remove(l.Back().Value.(*seat[K, V])) }
	switch own, near := p.addresses[from], p.networks[network(from)]; {
	case own != nil && own.Len() >= p.perAddress:
		least(own)
	case near != nil && near.Len() >= p.perNetwork:
		least(near)
	case len(p.of) < p.most:
	case p.new.Len() > 0:
		least(&p.new)
	default:
		least(&p.known)
	}
}

func (p *Places[K, V]) remove(s *seat[K, V]) {
	if v, ok := any(&s.value).(interface{ Forgotten() }); ok {
		v.Forgotten()
	}
	delete(p.of, s.key)
	p.order(s).Remove(s.all)
	unlist(p.addresses, s.from, s.address)
	unlist(p.networks, network(s.from), s.within)
}

func lists[K comparable](of map[K]*list.List, k K) *list.List {
	l := of[k]
	if l == nil {
		l = list.New()
		of[k] = l
	}
	return l
}

func unlist[K comparable](of map[K]*list.List, k K, e *list.Element) {
	if l := of[k]; l.Len() == 1 {
		delete(of, k)
	} else {
		l.Remove(e)
	}
}

// network returns that of an address.
func network(a netip.Addr) netip.Prefix {
	bits := 48
	if a = a.Unmap(); a.Is4() {
		bits = 24
	}
	p, _ := a.Prefix(bits)
	return p
}
