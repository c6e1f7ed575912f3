// Package traffic has the sources of a rehearsal: calls, constant and random
// streams, and replayed captures. A source yields its packets in the order of
// time; everything random comes from the generator it is given.
package traffic

import (
	"hash/fnv"
	"math"
	"math/bits"
	"math/rand/v2"
	"time"

	"imbrel.example/imbrel/core/codec"
	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/unit"
)

// A Source yields packets. Next fills p, using room for its bytes where it
// makes them itself, and returns when it is sent; false means there are no
// more. An error ends the rehearsal.
type Source interface {
	Next(p *packet.Packet, room []byte) (at time.Duration, ok bool, err error)
}

// A Planned source knows when it sends its next packet before it makes it.
type Planned interface {
	Source
	// Due returns when the next packet is sent; false means there are no more. It is called once before each Make.
	Due() (at time.Duration, ok bool)
	// Make fills p with that packet, using room for its bytes.
	Make(p *packet.Packet, room []byte)
}

// PlannedOf returns a source as a planned one; nil: it is none.
func PlannedOf(s Source) Planned {
	if d, is := s.(*Dressed); is {
		if d.planned, is = d.Source.(Planned); !is {
			return nil
		}
	}
	p, _ := s.(Planned)
	return p
}

// nextOf is Next of a planned source.
func nextOf(s Planned, p *packet.Packet, room []byte) (time.Duration, bool, error) {
	at, ok := s.Due()
	if ok {
		s.Make(p, room)
	}
	return at, ok, nil
}

// Random returns the generator of one source: the same for the same seed, name
// and number, and independent of every other source's.
func Random(seed uint64, name string, number int) *rand.Rand {
	h := fnv.New64a()
	h.Write([]byte(name))
	var both struct { // in one place: they are used together
		source rand.PCG
		rand   rand.Rand
	}
	b := &both
	b.source.Seed(seed, h.Sum64()^uint64(number)*0x9e3779b97f4a7c15)
	b.rand = *rand.New(&b.source)
	return &b.rand
}

// A Call is one direction of one call.
type Call struct { // what every packet touches comes first
	Flow       packet.Flow
	Start, End time.Duration
	Speech     *Speech       // nil: all the time
	every      time.Duration // what of the codec each packet needs
	ticks      uint32
	sent       uint32
	interval   uint32 // of the next packet, from the first
	ID         uint32 // the RTP synchronisation source
	length     int32
	DSCP       codepoint.DSCP
	kind       uint8
	like       like

	Codec *codec.Codec
}

// Next yields a packet every interval from Start to End, in which there is speech.
func (c *Call) Next(p *packet.Packet, room []byte) (time.Duration, bool, error) {
	return nextOf(c, p, room)
}

// Due returns when the next packet is sent.
func (c *Call) Due() (time.Duration, bool) {
	if c.every == 0 {
		c.every, c.ticks, c.length, c.kind = c.Codec.Interval, c.Codec.Ticks(), int32(c.Codec.Length(c.Flow.From.Is6())), c.Codec.PayloadType
	}
	at := c.Start + time.Duration(c.interval)*c.every
	if c.Speech != nil && at < c.End {
		at = c.Speech.next(at, c.every)
		c.interval = uint32((at - c.Start) / c.every)
	}
	return at, at < c.End
}

// Make makes the packet that is due.
func (c *Call) Make(p *packet.Packet, room []byte) {
	c.like.next(p, room, &c.Flow, c.DSCP, int(c.length), packet.RTPHeader)
	p.PutRTP(c.kind, uint16(c.sent), c.interval*c.ticks, c.ID)
	c.sent++
	c.interval++
}

// like is what the packets of a source are like that differ in nothing, or in their payload
// alone: the bytes of the first, which is made once.
type like struct {
	length int16 // at hand; 0: there was none yet
	cast   bool  // the mould says all that is in them
	mould  packet.Mould
	bytes  [packet.EthernetHeader + packet.IPv6Header + 20]byte // 20: TCP without options, or UDP and RTP
}

// next makes p the next packet.
func (l *like) next(p *packet.Packet, room []byte, flow *packet.Flow, dscp codepoint.DSCP, length, extra int) {
	switch {
	case l.length == 0:
		p.Build(room, *flow, dscp, length, extra)
		l.length = int16(copy(l.bytes[:], p.Bytes))
		l.mould, l.cast = p.Mould()
		l.cast = l.cast && p.Flow == *flow && p.Length == length
	case l.cast:
		p.Cast(&l.mould, append(room[:0], l.bytes[:l.length]...), length, flow)
	default: // it was made here, so the parse cannot fail
		_ = p.Parse(append(room[:0], l.bytes[:l.length]...), packet.EthernetHeader+length)
	}
}

// Dressed is a source whose packets have what their hosts put around or into them.
type Dressed struct {
	Source
	Tag *packet.Tag // nil: none
	ECN bool        // ECT(0)

	MayFragment bool // without the DF bit

	planned Planned // Source, where it is
}

// Next yields the source's next packet.
func (d *Dressed) Next(p *packet.Packet, room []byte) (time.Duration, bool, error) {
	at, ok, err := d.Source.Next(p, room)
	if ok && err == nil {
		d.dress(p)
	}
	return at, ok, err
}

// Due returns when the source's next packet is sent.
func (d *Dressed) Due() (time.Duration, bool) { return d.planned.Due() }

// Make makes the packet that is due.
func (d *Dressed) Make(p *packet.Packet, room []byte) {
	d.planned.Make(p, room)
	d.dress(p)
}

func (d *Dressed) dress(p *packet.Packet) {
	if d.ECN {
		p.SetECN(2)
	}
	if d.MayFragment {
		p.MayFragment()
	}
	if d.Tag != nil {
		p.SetTags([]packet.Tag{*d.Tag})
	}
}

// Exponential draws from the exponential distribution of mean 1, with the same
// bits on every machine: the usual library functions may differ in the last bit
// where the processor has a fused multiply-add.
func Exponential(r *rand.Rand) float64 {
	// -ln(u) of u = m/2^53 in (0, 1]: 53 ln 2 - ln(m), m = f·2^e, f in (1/√2, √2].
	m := r.Uint64()>>11 + 1
	e := bits.Len64(m) - 1
	f := float64(m) / float64(uint64(1)<<e)
	if f > math.Sqrt2 {
		f /= 2
		e++
	}
	// ln f = 2 artanh(s), s = (f-1)/(f+1), |s| < 0.172: s + s³/3 + s⁵/5 + … to s²¹.
	s := (f - 1) / (f + 1)
	q := s * s
	sum := 1.0 / 21
	sum = float64(sum*q) + 1.0/19
	sum = float64(sum*q) + 1.0/17
	sum = float64(sum*q) + 1.0/15
	sum = float64(sum*q) + 1.0/13
	sum = float64(sum*q) + 1.0/11
	sum = float64(sum*q) + 1.0/9
	sum = float64(sum*q) + 1.0/7
	sum = float64(sum*q) + 1.0/5
	sum = float64(sum*q) + 1.0/3
	sum = float64(sum*q) + 1
	return max(0, float64(float64(53-e)*math.Ln2)-float64(2*float64(sum*s)))
}

// A Reader yields the frames of a capture with their own times, counted from
// any origin. The bytes are the reader's until the next call. At the end, ok
// is false.
type Reader interface {
	ReadFrame() (frame []byte, wire int, at time.Duration, ok bool, err error)
}

// wild is how far from one another two packets of a capture are not: one of the clocks was
// wrong, or the pause is none that anybody would rehearse.
const wild = 24 * time.Hour

// A Replay feeds the packets of a capture. Only those that Admit admits are
// sent; the rest are its to count.
type Replay struct {
	Reader     Reader
	Start, End time.Duration
	Admit      func(at time.Duration, p *packet.Packet, err error) bool
	Speed      float64 // against the capture's own; 0: the same
	// Again, when not nil, opens the capture anew when it ends, and it is sent again.
	Again func() (Reader, error)

	// Wild counts the packets whose time was more than a day from that of the one before.
	Wild int64

	first, before time.Duration // of the capture's own times: what Base is counted from, the last
	base, last    time.Duration // when first was sent, and the last packet
	packets, sent int64         // of this round
	begun         bool
}

// Skipped is what of a capture could not be used, in the plural, and how many of them.
type Skipped struct {
	Why   string `json:"why"`
	Count int64  `json:"count"`
}

// Next yields the next admitted packet, at its own distance from the first.
// Where the capture's times run backwards, or a day ahead, the packet is sent with
// the one before it; the times after it count from there.
func (r *Replay) Next(p *packet.Packet, room []byte) (time.Duration, bool, error) {
	for {
		frame, wire, at, ok, err := r.Reader.ReadFrame()
		if err == nil && !ok && r.Again != nil && r.sent > 0 {
			if err = r.rewind(); err == nil {
				continue
			}
		}
		if err != nil || !ok {
			return 0, false, err
		}
		switch {
		case !r.begun:
			r.begun, r.first = true, at
			if r.base == 0 {
				r.base, r.last = r.Start, r.Start
			}
		case at > r.before+wild || at < r.before-wild:
			r.Wild++
			r.first, r.base = at, r.last
		}
		r.before = at
		r.packets++
		since := at - r.first
		if r.Speed > 0 {
			since = time.Duration(float64(since) / r.Speed)
		}
		r.last = max(r.base+since, r.last)
		if r.last >= r.End {
			return 0, false, nil
		}
		bytes := append(room[:0], frame...)
		err = p.Parse(bytes, wire)
		if r.Admit(r.last, p, err) {
			r.sent++
			return r.last, true, nil
		}
	}
}

// rewind begins the capture again, after the mean of the distances between its packets.
func (r *Replay) rewind() error {
	reader, err := r.Again()
	if err != nil {
		return err
	}
	gap := time.Millisecond
	if r.packets > 1 {
		gap = max(gap, (r.last-r.base)/time.Duration(r.packets-1))
	}
	r.Reader, r.base, r.begun, r.packets, r.sent = reader, r.last+gap, false, 0, 0
	r.last = r.base
	return nil
}

// HeavyTail draws a size of the given mean from a Pareto distribution of shape 1.5, whose
// tail is cut at a hundred times the mean: a few are much of the whole.
func HeavyTail(r *rand.Rand, mean int64) int64 {
	// x = least · u^(-2/3), u in (0, 1]; least = mean/3 without the cut, which costs 3.8 %.
	u := float64(r.Uint64()>>11+1) / (1 << 53)
	least := float64(mean) / 3 / 0.9616
	x := least / unit.CubeRoot(float64(u*u))
	return max(1, int64(min(x, float64(100*mean))))
}

// heavyTailed draws a time of a mean in the same way.
func heavyTailed(r *rand.Rand, mean time.Duration) time.Duration {
	return time.Duration(HeavyTail(r, int64(mean)))
}
