package survey

import (
	"math"
	"net/netip"
	"time"

	"imbrel.example/imbrel/core/codec"
	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/rtp"
)

// A stream is what one source of RTP sent in one direction, as seen here (RFC 3550 appendix A).
type stream struct {
	flow           packet.Flow
	source         uint32
	payload        uint8
	clock          float64 // ticks of its timestamps in a second; 0: not known yet
	firstStamp     uint32
	dscp           codepoint.DSCP
	began, last    time.Duration
	base, highest  uint32
	received, late int64
	bytes          int64
	timestamp      uint32
	step           uint32 // of timestamps from one packet to the next, the least seen
	jitter         float64
	timed          bool
	transit        float64       // of the packet before, in seconds
	least          [2]float64    // transit of this window and the one before: the clocks drift
	window         time.Duration // when this one ends
	reported       *rtp.Block    // by the far end, the last
	roundTrip      time.Duration // from here to the far end and back; 0: unknown
	sent           [4]sentReport // the last reports of this source, by which the far end's answers are timed
}

type sentReport struct {
	middle uint32
	at     time.Duration
}

// What a listener is taken to have.
const (
	playout = policy.DefaultPlayout
	drift   = 10 * time.Second // a window in which clocks drift by nothing that matters
)

// audio is the codecs of the static payload types (RFC 3551 §6).
var audio = map[uint8]string{0: "g711", 8: "g711", 9: "g722", 18: "g729"}

// clocks are those of media whose payload type is agreed by signalling: which one it is shows after a while.
var clocks = []float64{8000, 16000, 32000, 44100, 48000, videoClock}

const videoClock = 90000

// clockOf returns the clock of a static payload type; 0: it is agreed by signalling.
func clockOf(payload uint8) float64 {
	switch {
	case payload >= 96:
		return 0
	case payload >= 25 && payload <= 34 || payload == 14:
		return videoClock
	}
	return 8000
}

// media counts a packet of a flow that is RTP, or RTCP beside it.
func (w *Watch) media(now time.Duration, f *flow, p *packet.Packet) {
	b := p.Payload()
	if len(b) >= 2 && b[1] >= 192 && b[1] <= 223 {
		if r, err := rtp.ParseReport(b); err == nil {
			w.report(now, &f.flow, &r)
		}
		return
	}
	h, _, err := rtp.Parse(b)
	if err != nil {
		return
	}
	s := f.stream
	if s == nil || s.source != h.Source || s.payload != h.Type {
		if len(w.calls) >= MaxCalls {
			w.lost++
			f.stream = nil
			return
		}
		s = &stream{clock: clockOf(h.Type), flow: f.flow, source: h.Source, payload: h.Type, dscp: p.DSCP(), began: now, base: uint32(h.Sequence), highest: uint32(h.Sequence), least: [2]float64{math.Inf(1), math.Inf(1)}, window: now + drift}
		f.stream = s
		w.calls = append(w.calls, s)
		w.streams[mediaKey{f.flow.From, f.flow.To, h.Source}] = s
	}
	s.take(now, &h, p.Length)
}

func (s *stream) take(now time.Duration, h *rtp.Header, length int) {
	if step := int16(h.Sequence - uint16(s.highest)); step > 0 {
		s.highest += uint32(step)
		if d := h.Timestamp - s.timestamp; step == 1 && s.received > 0 && d > 0 && d < 1<<20 && (s.step == 0 || d < s.step) {
			s.step = d
		}
	}
	if s.received == 0 {
		s.firstStamp = h.Timestamp
	}
	s.timestamp, s.last = h.Timestamp, now
	s.received++
	s.bytes += int64(length)
	if s.clock == 0 {
		s.guess(now)
		return
	}
	transit := (now - s.began).Seconds() - float64(int32(h.Timestamp-s.firstStamp))/s.clock
	if s.timed {
		s.jitter += (math.Abs(transit-s.transit) - s.jitter) / 16
	}
	if now >= s.window {
		s.least, s.window = [2]float64{math.Inf(1), s.least[0]}, now+drift
	}
	s.least[0] = min(s.least[0], transit)
	if transit-min(s.least[0], s.least[1]) > playout.Seconds() {
		s.late++
	}
	s.transit, s.timed = transit, true
}

// guess finds the clock of timestamps from a second of them: the one that is nearest, within a tenth.
func (s *stream) guess(now time.Duration) {
	if now-s.began < time.Second {
		return
	}
	ticks := float64(s.timestamp-s.firstStamp) / (now - s.began).Seconds()
	for _, c := range clocks {
		if math.Abs(ticks/c-1) < 0.08 {
			s.clock = c
		}
	}
}

// A mediaKey finds the stream that a report is about.
type mediaKey struct {
	from, to netip.Addr
	source   uint32
}

// report notes what the ends of a call say: when a source sent a report, and what the far end says of it in its own.
func (w *Watch) report(now time.Duration, f *packet.Flow, r *rtp.Report) {
	if s := w.streams[mediaKey{f.From, f.To, r.Source}]; s != nil && r.Time != 0 {
		copy(s.sent[1:], s.sent[:])
		s.sent[0] = sentReport{rtp.Middle(r.Time), now}
	}
	if r.Block == nil {
		return
	}
	s := w.streams[mediaKey{f.To, f.From, r.Block.Source}]
	if s == nil {
		return
	}
	s.reported = r.Block
	for _, sent := range s.sent { // the way from here to the far end and back, without the time there
		if trip := now - sent.at - time.Duration(r.Block.Delay)*time.Second/65536; sent.at > 0 && sent.middle == r.Block.LastSR && trip >= 0 {
			s.roundTrip = trip
		}
	}
}

// A Call is one direction of a call, as seen here.
type Call struct {
	From      string   `json:"from"`
	To        string   `json:"to"`
	FromPort  uint16   `json:"from_port"`
	ToPort    uint16   `json:"to_port"`
	Codec     string   `json:"codec"` // "" where the payload type does not tell
	Video     bool     `json:"video,omitempty"`
	Payload   uint8    `json:"payload_type"`
	DSCP      string   `json:"dscp"`
	FromS     float64  `json:"from_s"` // from the begin of the survey
	LastsS    float64  `json:"lasts_s"`
	Packets   int64    `json:"packets"`
	Bytes     int64    `json:"bytes"` // of IP packets
	Interval  float64  `json:"interval_ms,omitempty"`
	Lost      int64    `json:"lost"`
	Late      int64    `json:"late"`
	JitterMs  float64  `json:"jitter_ms"`
	MOS       *float64 `json:"mos,omitempty"`           // of what a listener here would hear; without it where the codec is unknown
	RoundTrip *float64 `json:"round_trip_ms,omitempty"` // from here to the far end and back, by RTCP
	FarLost   *float64 `json:"far_end_loss,omitempty"`  // the part that the far end reports as lost since the call began
	FarJitter *float64 `json:"far_end_jitter_ms,omitempty"`
}

// call returns what is known of a stream.
func (s *stream) call(from time.Duration) Call {
	expected := int64(s.highest-s.base) + 1
	c := Call{From: s.flow.From.String(), To: s.flow.To.String(), FromPort: s.flow.FromPort, ToPort: s.flow.ToPort, Codec: audio[s.payload], Payload: s.payload, DSCP: s.dscp.Name(),
		FromS: (s.began - from).Seconds(), LastsS: (s.last - s.began).Seconds(), Packets: s.received, Bytes: s.bytes, Lost: max(0, expected-s.received), Late: s.late, JitterMs: 1000 * s.jitter}
	if c.Video = s.clock == videoClock; s.step > 0 && s.clock > 0 {
		c.Interval = 1000 * float64(s.step) / s.clock
	}
	if k, known := codec.ByName(c.Codec); known && s.received > 0 {
		interval := k.Interval
		if c.Interval > 0 {
			interval = time.Duration(c.Interval * float64(time.Millisecond))
		}
		loss := float64(c.Lost+c.Late) / float64(max(expected, 1))
		mos := codec.MOS(codec.R(s.roundTrip/2+playout+interval+k.LookAhead, loss, 1, k.Ie, k.Bpl))
		c.MOS = &mos
	}
	if s.roundTrip > 0 {
		trip := 1000 * s.roundTrip.Seconds()
		c.RoundTrip = &trip
	}
	if b := s.reported; b != nil {
		part, jitter := float64(max(0, b.Lost))/float64(max(int64(b.Highest)-int64(s.base)+1, 1)), 1000*float64(b.Jitter)/max(s.clock, 8000)
		c.FarLost, c.FarJitter = &part, &jitter
	}
	return c
}
