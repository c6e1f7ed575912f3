// Package handshake is how an end that calls or floods, and the end that answers, know each other: a few
// messages of fixed length beside those of open protocols.
//
// A hello is answered by a welcome of the same length, which carries a cookie that only who has
// received it can know; everything that is sent after it carries the cookie. So nobody makes the
// answering end send to an address that did not ask. With a key, hellos and welcomes are
// authenticated by HMAC-SHA256, cut to 16 bytes as in RFC 8762.
package handshake

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"net/netip"
	"time"

	"imbrel.example/imbrel/core/rtp"
)

// Kinds of messages.
const (
	hello   = 1
	welcome = 2
	flood   = 3
	report  = 4
	refused = 5
)

// The lengths of messages.
const (
	GreetingLength = 40 // shorter than any test packet of STAMP
	FloodLength    = 32 // the least of a datagram of a flood
	ReportLength   = 48
)

// A Cookie is what a far end gives to who may send to it.
type Cookie uint64

var magic = [4]byte{'i', 'm', 'b', 0xa7}

// ErrOther says that a message is none of these.
var ErrOther = errors.New("not a message of this kind")

// A Refusal says why a far end does not answer.
type Refusal uint16

// The refusals. NotRefused is the zero Refusal.
const (
	NotRefused Refusal = iota
	WantsKey           // the hello was not made with its key
)

// Error returns what the far end refuses, and what to do.
func (r Refusal) Error() string {
	return "it does not accept this key: give the one it has with --key-file"
}

// A Greeting is a hello, or the welcome or the refusal that answers it. A refusal is not authenticated, for it may be to
// one who has no key; who is refused must have said the nonce.
type Greeting struct {
	Welcome bool
	Refused Refusal
	Nonce   uint64
	Cookie  Cookie // of a welcome
	Media   uint16 // of a welcome: the port that RTP goes to
}

// Bytes returns the message, authenticated where there is a key.
func (g *Greeting) Message(key []byte) []byte {
	b := make([]byte, GreetingLength)
	copy(b, magic[:])
	b[4], b[5] = 1, hello
	binary.BigEndian.PutUint16(b[6:], g.Media)
	switch {
	case g.Refused != NotRefused:
		b[5] = refused
		binary.BigEndian.PutUint16(b[6:], uint16(g.Refused))
	case g.Welcome:
		b[5] = welcome
	}
	binary.BigEndian.PutUint64(b[8:], g.Nonce)
	binary.BigEndian.PutUint64(b[16:], uint64(g.Cookie))
	if len(key) > 0 {
		copy(b[24:], mac(key, b[:24]))
	}
	return b
}

func mac(key, b []byte) []byte {
	m := hmac.New(sha256.New, key)
	m.Write(b)
	return m.Sum(nil)[:16]
}

// ErrKey says that a greeting was not made with the key.
var ErrKey = errors.New("not authenticated with the key")

// ParseGreeting reads a hello, a welcome or a refusal. With a key the first two must be authenticated with that; else it is ErrKey, and
// the greeting has the nonce.
func ParseGreeting(b, key []byte) (g Greeting, err error) {
	if len(b) != GreetingLength || [4]byte(b) != magic || b[4] != 1 || b[5] != hello && b[5] != welcome && b[5] != refused {
		return g, ErrOther
	}
	g.Nonce = binary.BigEndian.Uint64(b[8:])
	if b[5] == refused {
		g.Refused = Refusal(binary.BigEndian.Uint16(b[6:]))
		if g.Refused != WantsKey || [24]byte(b[16:]) != [24]byte{} {
			return Greeting{}, ErrOther
		}
		return g, nil
	}
	if g.Welcome = b[5] == welcome; len(key) > 0 && !hmac.Equal(b[24:], mac(key, b[:24])) {
		return g, ErrKey
	}
	g.Media, g.Cookie = binary.BigEndian.Uint16(b[6:]), Cookie(binary.BigEndian.Uint64(b[16:]))
	return g, nil
}

// A Baker makes cookies, and knows them again for a time, without remembering any.
type Baker struct{ secret [32]byte }

// NewBaker returns a baker with a secret, which is to be random.
func NewBaker(secret [32]byte) *Baker { return &Baker{secret} }

// cookieLife is for how long a cookie is known again, at least.
const cookieLife = 15 * time.Minute

// Bake returns the cookie of an address at a time.
func (k *Baker) Bake(a netip.Addr, at time.Time) Cookie {
	return k.cookie(a, at.Unix()/int64(cookieLife/time.Second))
}

func (k *Baker) cookie(a netip.Addr, turn int64) Cookie {
	b := a.As16()
	c := binary.BigEndian.Uint64(mac(k.secret[:], binary.BigEndian.AppendUint64(b[:], uint64(turn))))
	return Cookie(max(c, 1)) // 0 is none
}

// Knows reports whether a cookie is that of an address.
func (k *Baker) Knows(c Cookie, a netip.Addr, at time.Time) bool {
	turn := at.Unix() / int64(cookieLife/time.Second)
	return c == k.cookie(a, turn) || c == k.cookie(a, turn-1)
}

// A Flood is the head of a datagram of a flood.
type Flood struct {
	Cookie Cookie
	Number uint64
	Sent   time.Time
}

// Put writes the head into the first FloodLength bytes of a datagram.
func (f *Flood) Put(b []byte) {
	copy(b, magic[:])
	b[4], b[5], b[6], b[7] = 1, flood, 0, 0
	binary.BigEndian.PutUint64(b[8:], uint64(f.Cookie))
	binary.BigEndian.PutUint64(b[16:], f.Number)
	binary.BigEndian.PutUint64(b[24:], rtp.NTP(f.Sent))
}

// ParseFlood reads the head of a datagram of a flood.
func ParseFlood(b []byte) (f Flood, err error) {
	if len(b) < FloodLength || [4]byte(b) != magic || b[4] != 1 || b[5] != flood {
		return f, ErrOther
	}
	return Flood{Cookie(binary.BigEndian.Uint64(b[8:])), binary.BigEndian.Uint64(b[16:]), rtp.Time(binary.BigEndian.Uint64(b[24:]))}, nil
}

// A Report is what a far end has counted of a flood.
type Report struct {
	Packets, Bytes uint64        // bytes of UDP payload
	Highest        uint64        // number
	Since          time.Duration // the first came
	Remarked       bool          // some came with another DSCP than the first
	DSCP           uint8         // of the first
}

// Bytes returns the message.
func (r *Report) Message() []byte {
	b := make([]byte, ReportLength)
	copy(b, magic[:])
	b[4], b[5], b[6] = 1, report, r.DSCP
	if r.Remarked {
		b[7] = 1
	}
	for i, v := range []uint64{r.Packets, r.Bytes, r.Highest, uint64(r.Since)} {
		binary.BigEndian.PutUint64(b[8+8*i:], v)
	}
	return b
}

// ParseReport reads a report.
func ParseReport(b []byte) (r Report, err error) {
	if len(b) != ReportLength || [4]byte(b) != magic || b[4] != 1 || b[5] != report {
		return r, ErrOther
	}
	v := func(i int) uint64 { return binary.BigEndian.Uint64(b[8+8*i:]) }
	return Report{Packets: v(0), Bytes: v(1), Highest: v(2), Since: time.Duration(v(3)), DSCP: b[6], Remarked: b[7] != 0}, nil
}

// VoiceLength is the length of what a call's packets carry: as much as the smallest payload of a
// codec holds.
const VoiceLength = 20

// A Voice is what a packet of a call carries in its payload, and what its echo does.
type Voice struct {
	Cookie Cookie
	DSCP   uint8 // of a packet: what its echo is to be marked with
	// Of an echo: when the packet came, and for how long it was held.
	Came time.Time
	Held time.Duration
	As   uint8 // the DSCP that it came with
}

// Put writes it into the first VoiceLength bytes of a payload.
func (v *Voice) Put(b []byte) {
	binary.BigEndian.PutUint64(b, uint64(v.Cookie))
	if v.Came.IsZero() {
		clear(b[8:VoiceLength])
		b[8] = v.DSCP
		return
	}
	binary.BigEndian.PutUint64(b[8:], rtp.NTP(v.Came))
	binary.BigEndian.PutUint32(b[16:], uint32(min(v.Held.Microseconds(), 1<<24-1))<<8|uint32(v.As))
}

// ParseVoice reads the payload of a packet of a call, or of an echo.
func ParseVoice(b []byte, echo bool) (v Voice, err error) {
	if len(b) < VoiceLength {
		return v, ErrOther
	}
	v.Cookie = Cookie(binary.BigEndian.Uint64(b))
	if !echo {
		v.DSCP = b[8] & 63
		return v, nil
	}
	v.Came = rtp.Time(binary.BigEndian.Uint64(b[8:]))
	held := binary.BigEndian.Uint32(b[16:])
	v.Held, v.As = time.Duration(held>>8)*time.Microsecond, uint8(held)&63
	return v, nil
}
