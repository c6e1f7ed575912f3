package meter

import (
	"math/big"
	"math/rand/v2"
	"testing"
	"time"

	"imbrel.example/imbrel/core/unit"
)

// slowMeter is each marker as its RFC writes it, in big rationals of bytes.
type slowMeter struct {
	kind             Kind
	aware            bool
	cir, second      *big.Rat // bytes per nanosecond
	cbs, sbs, tc, ts *big.Rat
	last             time.Duration
}

func newSlow(kind Kind, cir unit.Rate, cbs unit.Size, second unit.Rate, sbs unit.Size, aware bool) *slowMeter {
	rate := func(r unit.Rate) *big.Rat { return big.NewRat(int64(r), 8e9) }
	size := func(s unit.Size) *big.Rat { return big.NewRat(int64(s), 1) }
	return &slowMeter{kind: kind, aware: aware, cir: rate(cir), second: rate(second), cbs: size(cbs), sbs: size(sbs), tc: size(cbs), ts: size(sbs)}
}

func (m *slowMeter) measure(now time.Duration, bytes int, arrives Color) Color {
	d := big.NewRat(int64(now-m.last), 1)
	m.last = now
	if !m.aware {
		arrives = Green
	}
	m.tc.Add(m.tc, new(big.Rat).Mul(m.cir, d))
	if m.kind == SingleRate {
		if over := new(big.Rat).Sub(m.tc, m.cbs); over.Sign() > 0 { // RFC 2697: Tc is full, so Te is incremented
			m.ts.Add(m.ts, over)
		}
	} else {
		m.ts.Add(m.ts, new(big.Rat).Mul(m.second, d))
	}
	if m.tc.Cmp(m.cbs) > 0 {
		m.tc.Set(m.cbs)
	}
	if m.ts.Cmp(m.sbs) > 0 {
		m.ts.Set(m.sbs)
	}
	b := big.NewRat(int64(bytes), 1)
	enough := func(t *big.Rat) bool { return t.Cmp(b) >= 0 }
	switch {
	case m.kind == TwoRate && (arrives == Red || !enough(m.ts)):
		return Red
	case m.kind == TwoRate && (arrives == Yellow || !enough(m.tc)):
		m.ts.Sub(m.ts, b)
		return Yellow
	case m.kind == TwoRate:
		m.ts.Sub(m.ts, b)
		m.tc.Sub(m.tc, b)
		return Green
	case arrives == Green && enough(m.tc):
		m.tc.Sub(m.tc, b)
		return Green
	case arrives <= Yellow && enough(m.ts):
		m.ts.Sub(m.ts, b)
		return Yellow
	}
	return Red
}

func TestMarkersAgainstTheirRFCs(t *testing.T) {
	r := rand.New(rand.NewPCG(40, 40))
	for _, kind := range []Kind{SingleRate, TwoRate, TwoRateExcess} {
		for trial := range 12 {
			aware := trial%2 == 1
			cir := []unit.Rate{500, 90_500, 900_000, 999_999_937, unit.MaxRate / 2, 11_400_000}[trial%6]
			cbs, sbs := unit.Size(1500+r.IntN(20_000)), unit.Size(1500+r.IntN(20_000))
			second := cir + unit.Rate(r.Int64N(int64(cir)))
			var m Meter
			switch kind {
			case SingleRate:
				m = NewSingleRate(cir, cbs, sbs, aware)
			case TwoRate:
				m = NewTwoRate(second, sbs, cir, cbs, aware)
			case TwoRateExcess:
				m = NewTwoRateExcess(cir, cbs, second, sbs, aware)
			}
			slow := newSlow(kind, cir, cbs, second, sbs, aware)
			mean := float64(cir.Time(700)) * 0.35
			now := time.Duration(0)
			var colors [3]int
			for n := range 8000 {
				now += time.Duration(r.ExpFloat64() * mean)
				size, arrives := 40+r.IntN(1460), Color(r.IntN(3))
				got, want := m.Measure(now, size, arrives), slow.measure(now, size, arrives)
				if got != want {
					t.Fatalf("kind %d, aware %t, packet %d of %d B at %v, arrives %s: %s; the RFC says %s", kind, aware, n, size, now, arrives, got, want)
				}
				colors[got]++
			}
			if colors[Green] == 0 || colors[Yellow] == 0 || colors[Red] == 0 {
				t.Fatalf("kind %d: colours %v: the test tests little", kind, colors)
			}
		}
	}
}

func BenchmarkTwoRate(b *testing.B) {
	m := NewTwoRate(20_000_000, 6000, 11_400_000, 3000, false)
	b.ReportAllocs()
	now := time.Duration(0)
	for b.Loop() {
		now += 100 * time.Microsecond
		m.Measure(now, 238, Green)
	}
}

// whole is a marker in whole numbers without bounds: tokens in bit·ns/s, as many
// as the rate a nanosecond. It is the slow twin for many packets.
type whole struct {
	kind             Kind
	cir, second      *big.Int
	cbs, sbs, tc, ts *big.Int
	last             time.Duration
	gain, cost       big.Int
}

func newWhole(kind Kind, cir unit.Rate, cbs unit.Size, second unit.Rate, sbs unit.Size) *whole {
	size := func(s unit.Size) *big.Int { return new(big.Int).Mul(big.NewInt(int64(s)), big.NewInt(8e9)) }
	return &whole{kind: kind, cir: big.NewInt(int64(cir)), second: big.NewInt(int64(second)), cbs: size(cbs), sbs: size(sbs), tc: size(cbs), ts: size(sbs)}
}

func (m *whole) measure(now time.Duration, bytes int) Color {
	d := big.NewInt(int64(now - m.last))
	m.last = now
	m.tc.Add(m.tc, m.gain.Mul(m.cir, d))
	if m.kind == SingleRate {
		if m.tc.Cmp(m.cbs) > 0 {
			m.ts.Add(m.ts, m.gain.Sub(m.tc, m.cbs))
		}
	} else {
		m.ts.Add(m.ts, m.gain.Mul(m.second, d))
	}
	if m.tc.Cmp(m.cbs) > 0 {
		m.tc.Set(m.cbs)
	}
	if m.ts.Cmp(m.sbs) > 0 {
		m.ts.Set(m.sbs)
	}
	m.cost.Mul(big.NewInt(int64(bytes)), big.NewInt(8e9))
	first, second := m.tc.Cmp(&m.cost) >= 0, m.ts.Cmp(&m.cost) >= 0
	switch {
	case m.kind == TwoRate && !second, m.kind != TwoRate && !first && !second:
		return Red
	case m.kind == TwoRate && !first, m.kind != TwoRate && !first:
		m.ts.Sub(m.ts, &m.cost)
		return Yellow
	case m.kind == TwoRate:
		m.ts.Sub(m.ts, &m.cost)
	}
	m.tc.Sub(m.tc, &m.cost)
	return Green
}

// Ten million random packets agree to the packet.
func TestTenMillionPackets(t *testing.T) {
	const each = 10_000_000 / 12
	for k, kind := range []Kind{SingleRate, TwoRate, TwoRateExcess} {
		for j, cir := range []unit.Rate{500, 90_500, 999_999_937, unit.MaxRate / 2} {
			t.Run(cir.String(), func(t *testing.T) {
				t.Parallel()
				r := rand.New(rand.NewPCG(uint64(k), uint64(j)))
				cbs, sbs, second := unit.Size(1500+r.IntN(20_000)), unit.Size(1500+r.IntN(20_000)), cir+unit.Rate(r.Int64N(int64(cir)))
				m := map[Kind]Meter{SingleRate: NewSingleRate(cir, cbs, sbs, false), TwoRate: NewTwoRate(second, sbs, cir, cbs, false),
					TwoRateExcess: NewTwoRateExcess(cir, cbs, second, sbs, false)}[kind]
				slow := newWhole(kind, cir, cbs, second, sbs)
				mean := float64(cir.Time(700)) * 0.35
				now := time.Duration(0)
				for n := range each {
					now += time.Duration(r.ExpFloat64() * mean)
					size := 40 + r.IntN(1460)
					if got, want := m.Measure(now, size, Green), slow.measure(now, size); got != want {
						t.Fatalf("kind %d, packet %d of %d B at %v: %s; exact arithmetic says %s", kind, n, size, now, got, want)
					}
				}
			})
		}
	}
}

// A packet fits a meter when the bucket that decides about red can hold it; a new meter's buckets are full.
func TestFits(t *testing.T) {
	for name, c := range map[string]struct {
		meter Meter
		holds int
	}{
		"one bucket":      {New(1_000_000, 1000, false), 1000},
		"one rate":        {NewSingleRate(1_000_000, 1000, 3000, false), 3000},
		"one rate, small": {NewSingleRate(1_000_000, 3000, 1000, false), 3000},
		"two rates":       {NewTwoRate(2_000_000, 2000, 1_000_000, 5000, false), 2000},
		"excess":          {NewTwoRateExcess(1_000_000, 1000, 500_000, 4000, false), 4000},
	} {
		m := c.meter
		if !m.Fits(c.holds) || m.Fits(c.holds+1) {
			t.Errorf("%s: a packet of %d bytes fits: %t; of one more: %t", name, c.holds, m.Fits(c.holds), m.Fits(c.holds+1))
		}
		if got := m.Measure(0, c.holds, Green); got == Red {
			t.Errorf("%s: the first packet is %s", name, got)
		}
		m = c.meter
		if got := m.Measure(time.Hour, c.holds+1, Green); got != Red {
			t.Errorf("%s: a packet that never fits is %s", name, got)
		}
	}
	if s := Color(9).String(); s == "" || s == Red.String() {
		t.Errorf("a colour that there is not is %q", s)
	}
}
