package bound

import (
	"time"

	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/traffic"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/words"
)

// A pattern bounds how many packets a traffic sends in any time: so many at once, and Next more in each time Every.
type pattern struct {
	once, next int64
	every      time.Duration
}

// A sender is what is known of what one direction of a traffic sends: patterns that hold at once, each packet late by up to
// a jitter. Without a pattern nothing bounds it, for a reason.
type sender struct {
	patterns []pattern
	jitter   time.Duration
	why      words.Fact
}

// curve returns the bits that come in any time, of packets of so many bits that a way has made late by up to a jitter.
//
// A sender that has exactly as many packets at once as in each Every sends no more than a stair, whose second step comes Every
// less the jitter after the first. The line over the corners of that stair is a second bucket.
func (s *sender) curve(bits int64, late time.Duration) Curve {
	if late == Never {
		return nil
	}
	var out Curve
	for _, p := range s.patterns {
		once, next, every, jitter := p.once*bits, p.next*bits, int64(p.every), int64(s.jitter+late)
		out = append(out, Bucket{plus(once, mulUp(next, jitter, every)), mulUp(next, 1e9, every)})
		if p.once == p.next && jitter < every {
			out = append(out, Bucket{once, mulUp(next, 1e9, every-jitter)})
		}
	}
	return out.envelope()
}

// skewed returns the least time of a clock that is off by up to so many parts in a million in which another shows a time.
func skewed(t time.Duration, ppm int) time.Duration {
	return t - time.Duration(mulUp(int64(t), int64(ppm), 1_000_000)) - 1
}

// senderOf returns what bounds one direction of so many calls or flows of a traffic that lasts no longer than a rehearsal. Slowest is how late its own
// clock may be at most (traffic.Clock).
func senderOf(t *policy.Traffic, count int, lasts, slowest time.Duration) sender {
	s := sender{jitter: 1}
	if t.Kind.Row().OwnClock && t.Skew > 0 {
		// What a slow clock would send after its end is sent at its end.
		s.jitter += slowest + time.Duration(mulUp(int64(lasts), int64(t.Skew), 1_000_000)) + time.Microsecond
	}
	evenly := func(n int64, every time.Duration) {
		s.patterns = []pattern{{n, n, max(skewed(every, t.Skew), 1)}}
	}
	switch t.Kind {
	case policy.Calls:
		if t.Erlangs > 0 {
			s.why = words.UnboundCalls.With(t.Name)
			return s
		}
		evenly(int64(count), t.Codec.Interval)
	case policy.Stream:
		if t.Varied {
			s.why = words.UnboundLengths.With(t.Name)
			return s
		}
		rate := t.Rate
		if t.Ramp != nil {
			rate, s.jitter = max(rate, t.Ramp.FromRate), s.jitter+100
		}
		if t.Arrivals == policy.Poisson {
			s.why = words.UnboundPoisson.With(t.Name)
			return s
		}
		evenly(1, max(rate.Time(t.Packet)-1, 1))
	case policy.Video:
		s.video(t)
	case policy.Hellos:
		evenly(1, t.Every)
	case policy.Replay, policy.Conversations:
		s.why = words.UnboundCapture.With(t.Name)
	default:
		s.why = words.UnboundTCP.With(t.Name)
	}
	return s
}

// video bounds frames, of which each is sent at once: key frames alone, and between them the others.
func (s *sender) video(t *policy.Traffic) {
	mean := float64(t.Rate) / 8 / float64(t.Frames)
	frame := time.Second / time.Duration(t.Frames)
	packets := func(bytes float64) int64 { return int64(bytes*1.3)/int64(t.Packet) + 1 }
	key := max(1, int64(t.KeyFrames)*int64(t.Frames)/int64(time.Second))
	least := max(skewed(frame, t.Skew)-1, 1)
	if t.KeyFrames == 0 || key == 1 {
		n := packets(mean)
		s.patterns = []pattern{{n, n, least}}
	} else {
		other := mean * float64(key) / float64(key-1+traffic.KeyWeight)
		n, large := packets(other), packets(other*traffic.KeyWeight)
		s.patterns = []pattern{{large, large, least}, {large + n, large + n*key, max(skewed(time.Duration(key)*frame, t.Skew)-1, 1)}}
	}
}

// reportsOf bounds the control packets of calls: no call sends two within 2 s (RFC 3550 §6.3.1).
func reportsOf(calls int) sender {
	return sender{jitter: 1, patterns: []pattern{{int64(calls), int64(calls), 2 * time.Second}}}
}

// reportLength is the length of the IP packet of a report, as package traffic sends them.
func reportLength(v6 bool) int {
	if v6 {
		return packet.IPv6Header + 84
	}
	return packet.IPv4Header + 84
}

// lengths returns the shortest and the longest IP packet of one direction of a traffic, between two interfaces.
func lengths(t *policy.Traffic, reverse bool, from, to *policy.Interface) (shortest, longest int) {
	least := packet.IPv4Header
	if t.From.Is6() {
		least = packet.IPv6Header
	}
	switch {
	case t.Kind == policy.Calls:
		n := t.Codec.Length(t.From.Is6())
		return n, n
	case t.Kind == policy.Video:
		return least + 8, int(t.Packet)
	case t.Kind == policy.Stream && t.Varied:
		return least, 65535
	case !t.Kind.OverTCP():
		return int(t.Packet), int(t.Packet)
	case t.Kind == policy.TCPFlows && reverse: // acknowledgements, with options
		return least + 20, least + 60
	}
	return least + 20, min(int(t.Packet), from.Longest(), to.Longest())
}

// bits returns the bits of a size.
func bitsOf(size unit.Size) int64 { return 8 * int64(size) }
