package handshake

import (
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"
)

// Whoever invents addresses takes places of other inventions; a peer who is known keeps his, and an address or a network has no more
// than its part.
func TestPlaces(t *testing.T) {
	r := rand.New(rand.NewPCG(27, 6))
	now := time.Unix(1_800_000_000, 0)
	p := NewPlaces[netip.AddrPort, int](1000, 100, 300)
	honest := netip.MustParseAddrPort("192.0.2.9:5000")
	*p.Get(honest, honest.Addr(), now) = 7
	now = now.Add(time.Second)
	p.Get(honest, honest.Addr(), now)
	for n := range 200_000 {
		var a [4]byte
		for i := range a {
			a[i] = byte(r.Uint32())
		}
		k := netip.AddrPortFrom(netip.AddrFrom4(a), uint16(n))
		*p.Get(k, k.Addr(), now) = n
		now = now.Add(100 * time.Microsecond)
		if n%1000 == 0 && *p.Get(honest, honest.Addr(), now) != 7 {
			t.Fatalf("after %d inventions who is known is forgotten", n)
		}
		if p.Len() > 1000 {
			t.Fatalf("%d places are taken", p.Len())
		}
	}
	count := func(in netip.Prefix) (n int) {
		for k := range p.of {
			if in.Contains(k.Addr()) {
				n++
			}
		}
		return n
	}
	for n := range 2000 { // one address, then one network
		k := netip.AddrPortFrom(netip.MustParseAddr("198.51.100.7"), uint16(n))
		p.Get(k, k.Addr(), now)
		k = netip.AddrPortFrom(netip.AddrFrom4([4]byte{203, 0, 113, byte(n)}), uint16(n))
		p.Get(k, k.Addr(), now)
	}
	if own, near := count(netip.MustParsePrefix("198.51.100.7/32")), count(netip.MustParsePrefix("203.0.113.0/24")); own != 100 || near != 300 {
		t.Errorf("an address has %d places of 100, a network %d of 300", own, near)
	}
	if p.Peek(netip.MustParseAddrPort("198.51.100.7:1999")) == nil || p.Peek(netip.MustParseAddrPort("198.51.100.7:0")) != nil {
		t.Error("of an address the last to come keeps its place, and the first goes")
	}
	// Known peers go last, and whoever does not come for a minute is forgotten.
	if p.Peek(honest) == nil {
		t.Error("who is known is forgotten")
	}
	now = now.Add(61 * time.Second)
	p.Get(netip.AddrPortFrom(netip.MustParseAddr("192.0.2.1"), 1), netip.MustParseAddr("192.0.2.1"), now)
	if p.Len() != 1 || len(p.addresses) != 1 || len(p.networks) != 1 || p.new.Len()+p.known.Len() != 1 {
		t.Errorf("%d places are taken after a minute in which nobody came", p.Len())
	}
	if p.Forget(netip.AddrPortFrom(netip.MustParseAddr("192.0.2.1"), 1)); p.Len() != 0 || len(p.addresses) != 0 {
		t.Error("a place that was given back is taken")
	}
}
