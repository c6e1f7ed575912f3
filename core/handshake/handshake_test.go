package handshake

import (
	"bytes"
	"net/netip"
	"testing"
	"time"
)

// TestGreeting: what is written is read, with the key alone where there is one, and a welcome is no
// longer than the hello.
func TestGreeting(t *testing.T) {
	key := []byte("a key of sixteen b")
	for _, g := range []Greeting{{Nonce: 7}, {Welcome: true, Nonce: 1 << 63, Cookie: 9, Media: 16384}} {
		for _, k := range [][]byte{nil, key} {
			b := g.Message(k)
			if got, err := ParseGreeting(b, k); err != nil || got != g || len(b) != GreetingLength {
				t.Errorf("%+v comes back as %+v, %v", g, got, err)
			}
		}
		if _, err := ParseGreeting(g.Message(nil), key); err == nil {
			t.Error("what is not authenticated is taken for it")
		}
		for i := range GreetingLength {
			b := g.Message(key)
			b[i] ^= 1
			if _, err := ParseGreeting(b, key); err == nil {
				t.Errorf("with byte %d changed it is still taken", i)
			}
		}
	}
}

// TestCookies: a cookie is good for its address, for a quarter of an hour at least and half at most.
func TestCookies(t *testing.T) {
	k := NewBaker([32]byte{1})
	a, b := netip.MustParseAddr("192.0.2.1"), netip.MustParseAddr("2001:db8::1")
	at := time.Unix(1_790_000_000, 0)
	c := k.Bake(a, at)
	if !k.Knows(c, a, at) || !k.Knows(c, a, at.Add(cookieLife)) || k.Knows(c, b, at) || k.Knows(c, a, at.Add(2*cookieLife)) || k.Knows(0, a, at) || NewBaker([32]byte{2}).Knows(c, a, at) {
		t.Error("a cookie is taken where it is not to be, or not where it is")
	}
}

func TestMessages(t *testing.T) {
	at := time.Unix(1_790_000_000, 123_456_789)
	b := make([]byte, 100)
	f := Flood{Cookie: 5, Number: 77, Sent: at}
	f.Put(b)
	if got, err := ParseFlood(b); err != nil || got.Cookie != 5 || got.Number != 77 || at.Sub(got.Sent).Abs() > 1 {
		t.Errorf("%+v, %v", got, err)
	}
	r := Report{Packets: 1, Bytes: 2, Highest: 3, Since: 4, DSCP: 46, Remarked: true}
	if got, err := ParseReport(r.Message()); err != nil || got != r {
		t.Errorf("%+v, %v", got, err)
	}
	v := Voice{Cookie: 6, DSCP: 46}
	v.Put(b)
	if got, err := ParseVoice(b[:VoiceLength], false); err != nil || got != v {
		t.Errorf("%+v, %v", got, err)
	}
	v = Voice{Cookie: 6, Came: at, Held: 123 * time.Microsecond, As: 34}
	v.Put(b)
	if got, err := ParseVoice(b[:VoiceLength], true); err != nil || got.Held != v.Held || got.As != 34 || at.Sub(got.Came).Abs() > 1 {
		t.Errorf("%+v, %v", got, err)
	}
}

func FuzzMessages(f *testing.F) {
	f.Add((&Greeting{Nonce: 1}).Message(nil))
	f.Add((&Greeting{Nonce: 1, Refused: WantsKey}).Message(nil))
	f.Add((&Report{}).Message())
	b := make([]byte, 60)
	(&Flood{Number: 3}).Put(b)
	f.Add(b)
	f.Fuzz(func(t *testing.T, b []byte) {
		if g, err := ParseGreeting(b, nil); err == nil && !bytes.Equal(g.Message(nil)[:24], b[:24]) {
			t.Errorf("%x is read as %+v", b, g)
		}
		if r, err := ParseReport(b); err == nil {
			if again, err := ParseReport(r.Message()); err != nil || again != r {
				t.Errorf("%x is read as %+v, then %+v", b, r, again)
			}
		}
		_, _ = ParseFlood(b)
		_, _ = ParseVoice(b, true)
		_, _ = ParseVoice(b, false)
	})
}
