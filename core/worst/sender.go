package worst

import (
	"time"

	"imbrel.example/imbrel/core/bound"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
)

// A choice is how a sender sends in one run.
type choice struct {
	phase  time.Duration
	packet unit.Size // of the stream in its place; 0: it sends as its file says
}

// A sender is a traffic with a choice: the moment at which it begins, or, where it has no bound, the packets and bursts of a stream in
// its place.
type sender struct {
	at      int // in the traffic of the rehearsal
	traffic *policy.Traffic
	period  time.Duration // after which its phase makes no difference
	packets []unit.Size   // lengths, of a stream in its place; nil: it sends as its file says
	rate    unit.Rate     // of that stream
	starts  time.Duration
	lasts   time.Duration
}

// period returns after what time the packets of a traffic come again; 0: it has no phase.
func period(t *policy.Traffic) time.Duration {
	switch {
	case t.Kind == policy.Calls && t.Erlangs == 0:
		return t.Codec.Interval
	case t.Kind == policy.Stream && t.Ramp == nil && (t.Arrivals == policy.Constant || t.Arrivals == policy.Exact):
		return t.Rate.Time(t.Packet)
	case t.Kind == policy.Video:
		return time.Second / time.Duration(t.Frames)
	case t.Kind == policy.Hellos:
		return t.Every
	}
	return 0
}

// A stream in the place of traffic without a bound sends at floods times the least rate on its way, for floodLasts, but no more than
// maxFlood packets.
const (
	floods      = 4
	maxFlood    = 20_000
	floodLasts  = 2 * time.Second
	floodPeriod = 20 * time.Millisecond
)

// senderOf returns a traffic with its choices; nil: it has none.
func (s *search) senderOf(at int) *sender {
	t := &s.plan.Traffic[at]
	c := &sender{at: at, traffic: t, period: period(t), starts: t.Starts}
	if c.period > 0 {
		return c
	}
	path := s.proven.Sends(t)
	if path == nil || t.Ramp != nil || t.ServerName != "" {
		return nil
	}
	if path.Traffic == s.path.Traffic && path.Reverse != s.path.Reverse {
		return nil // there would be no answers
	}
	longest := min(path.Packets[1], policy.DefaultMTU)
	switch {
	case t.Kind == policy.Stream && t.Arrivals == policy.OnOff && !t.Varied:
		c.packets, c.rate = []unit.Size{t.Packet}, t.Rate
	case path.Loose && t.Kind == policy.Stream && !t.Varied:
		c.packets = []unit.Size{t.Packet}
	case path.Loose && (t.Kind == policy.Stream || t.Kind.OverTCP()):
		c.packets = []unit.Size{longest, max(longest/4, path.Packets[0]), path.Packets[0]}
	default:
		return nil
	}
	if c.rate == 0 {
		c.rate = floods * path.Slowest
	}
	end := s.plan.Lasts
	if t.Lasts > 0 {
		end = min(end, t.Starts+t.Lasts)
	}
	c.period, c.starts = floodPeriod, max(t.Starts, s.first)
	c.lasts = min(floodLasts, end-c.starts)
	if c.lasts <= 0 || c.rate <= 0 {
		return nil
	}
	return c
}

// sends returns the traffic with a choice.
func (c *sender) sends(how choice) policy.Traffic {
	t := *c.traffic
	switch {
	case c.packets == nil:
		t.Phase, t.Skew = &how.phase, 0
	case how.packet > 0:
		from, to := t.FirstPorts()
		t = policy.Traffic{Source: t.Source, Name: t.Name, Kind: policy.Stream, Arrivals: policy.Exact, Phase: &how.phase, From: t.From, To: t.To, FromPort: from, ToPort: to, Protocol: t.Protocol, VLAN: t.VLAN, PCP: t.PCP, ECN: t.ECN, MayFragment: t.MayFragment, DSCP: t.DSCP,
			Packet: how.packet, Rate: c.rate, Starts: c.starts, Lasts: min(c.lasts, max(c.rate.Time(maxFlood*how.packet).Round(time.Millisecond), time.Millisecond))}
		if c.traffic.Back() {
			t.From, t.To, t.FromPort, t.ToPort, t.VLAN, t.PCP = t.To, t.From, to, from, nil, nil
		}
	}
	return t
}

// wrapped returns a phase within a period.
func wrapped(phase, period time.Duration) time.Duration {
	if phase %= period; phase < 0 {
		phase += period
	}
	return phase
}

// meetings returns choices by which the first packets of all senders are at each of the path's places at one moment, the longest wait
// first; those of the path a little later, so that the others are there.
func (s *search) meetings() (out [][]choice) {
	places := s.path.ByWait()
	for _, h := range places[:min(len(places), 4)] {
		for _, later := range []time.Duration{0, time.Microsecond, 50 * time.Microsecond, 200 * time.Microsecond} {
			choices := make([]choice, len(s.senders))
			for i, c := range s.senders {
				meets := s.first + floodPeriod - c.starts - s.arrives(c.traffic, h)
				if c.traffic.Name == s.path.Traffic {
					meets += later
				}
				choices[i].phase = wrapped(meets, c.period)
				if c.packets != nil {
					choices[i].packet = c.packets[0]
				}
			}
			out = append(out, choices)
		}
	}
	return out
}

// arrives returns how long the packets of a traffic take to a place at least; 0: they do not come there.
func (s *search) arrives(t *policy.Traffic, at *bound.Hop) time.Duration {
	for i := range s.proven.Paths {
		if p := &s.proven.Paths[i]; p.Traffic == t.Name && (t.Name != s.path.Traffic || p.Reverse == s.path.Reverse) {
			if h := p.At(at.Place); h != nil {
				return h.Arrives
			}
		}
	}
	return 0
}

// draw draws how a sender sends.
func (s *search) draw(c *sender) choice {
	how := choice{phase: time.Duration(s.random.Int64N(int64(c.period)))}
	if n := s.random.IntN(len(c.packets) + 1); n < len(c.packets) {
		how.packet = c.packets[n]
	}
	return how
}

// anywhere draws all choices.
func (s *search) anywhere() []choice {
	out := make([]choice, len(s.senders))
	for i, c := range s.senders {
		out[i] = s.draw(c)
	}
	return out
}

// near changes some choices, most by little: by up to what a packet takes where it waits longest.
func (s *search) near(from []choice) []choice {
	out := append([]choice(nil), from...)
	step := int64(max(s.path.Longest().Blocking, 20*time.Microsecond))
	for range 1 + s.random.IntN(3) {
		i := s.random.IntN(len(out))
		if s.random.IntN(4) == 0 {
			out[i] = s.draw(s.senders[i])
		} else {
			out[i].phase = wrapped(out[i].phase+time.Duration(s.random.Int64N(2*step+1)-step), s.senders[i].period)
		}
	}
	return out
}

// A Sending is how a traffic sends in the worst that was found.
type Sending struct {
	Traffic string  `json:"traffic"`
	PhaseMs float64 `json:"phase_ms"`         // from its start to its first packet
	Stream  *Stream `json:"stream,omitempty"` // in its place; nil: it sends as its file says

	As policy.Traffic `json:"-"`
}

// A Stream sends in the place of a traffic without a bound.
type Stream struct {
	Rate    unit.Rate `json:"rate_bps"`
	Packet  unit.Size `json:"packet_bytes"`
	StartsS float64   `json:"starts_s"`
	LastsS  float64   `json:"lasts_s"`
}

// sendings returns what was chosen, of the senders that do not send as their file says.
func (s *search) sendings(choices []choice) (out []Sending) {
	for i, how := range choices {
		c := s.senders[i]
		if c.packets != nil && how.packet == 0 {
			continue
		}
		one := Sending{Traffic: c.traffic.Name, PhaseMs: float64(how.phase) / 1e6, As: c.sends(how)}
		if c.packets != nil {
			one.Stream = &Stream{one.As.Rate, one.As.Packet, one.As.Starts.Seconds(), one.As.Lasts.Seconds()}
		}
		out = append(out, one)
	}
	return out
}
