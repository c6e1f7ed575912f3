// Package unit has the quantities of the trade as small integer types: bit
// rates, byte sizes and percentages. Each is parsed from, and printed in, the
// units people write; arithmetic on them is exact.
//
// A quantity always carries its unit: "12" is an error, and so is "12MB" where
// a rate is meant, because bits and bytes, or k and M, mixed up are the
// commonest mistake in a policy.
package unit

import (
	"cmp"
	"fmt"
	"math"
	"math/big"
	"math/bits"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Rate is a bit rate in bit/s. The zero Rate means "none given".
type Rate int64

// Bit rates the data path computes exactly with, and so the ones a file may
// hold.
const (
	BitPerSecond  Rate = 1
	KbitPerSecond      = 1000 * BitPerSecond
	MbitPerSecond      = 1000 * KbitPerSecond
	GbitPerSecond      = 1000 * MbitPerSecond

	MinRate = 500 * BitPerSecond
	MaxRate = 400 * GbitPerSecond
)

// Size is a number of bytes. The zero Size means "none given".
type Size int64

// Byte sizes; MaxSize bounds what a file may ask for.
const (
	Byte Size = 1
	KB        = 1000 * Byte
	MB        = 1000 * KB
	KiB       = 1024 * Byte
	MiB       = 1024 * KiB

	MaxSize = 1000 * MB
)

// MaxDuration bounds the durations a file may hold.
const MaxDuration = 24 * time.Hour

// Percent is a share of something in millionths of the whole: 30% is 300000.
type Percent int64

// Whole is 100%.
const Whole Percent = 1_000_000

// Of returns p of r, rounded down to a whole bit/s.
func (p Percent) Of(r Rate) Rate {
	hi, lo := bits.Mul64(uint64(r), uint64(p))
	q, _ := bits.Div64(hi, lo, uint64(Whole))
	return Rate(q)
}

// Bytes returns how many bytes pass at rate r in d, rounded down.
func (r Rate) Bytes(d time.Duration) Size {
	hi, lo := bits.Mul64(uint64(r), uint64(d))
	q, _ := bits.Div64(hi, lo, 8*uint64(time.Second))
	return Size(q)
}

// Time returns how long s takes at rate r, rounded up to a nanosecond: the
// serialisation delay of s bytes. The rate must not be 0.
func (r Rate) Time(s Size) time.Duration {
	hi, lo := bits.Mul64(uint64(s)*8, uint64(time.Second))
	q, rem := bits.Div64(hi, lo, uint64(r))
	if rem > 0 {
		q++
	}
	return time.Duration(q)
}

// A scale is one unit word and how many of the base unit it is.
type scale struct {
	word string
	size int64
}

var (
	rateScales     = []scale{{"Gbit/s", 1e9}, {"Mbit/s", 1e6}, {"kbit/s", 1e3}, {"bit/s", 1}}
	sizeScales     = []scale{{"MiB", 1 << 20}, {"KiB", 1 << 10}, {"MB", 1e6}, {"kB", 1e3}, {"B", 1}}
	durationScales = []scale{{"min", 60e9}, {"ms", 1e6}, {"us", 1e3}, {"ns", 1}, {"h", 3600e9}, {"s", 1e9}}
	percentScales  = []scale{{"%", 10_000}}
)

// ParseRate reads a bit rate such as "11.4Mbit/s".
func ParseRate(s string) (Rate, error) {
	v, err := parse(s, "rate", rateScales, "bit/s, kbit/s, Mbit/s or Gbit/s", int64(MinRate), int64(MaxRate))
	if err != nil {
		return 0, err
	}
	return Rate(v), nil
}

// ParseSize reads a byte size such as "3kB".
func ParseSize(s string) (Size, error) {
	v, err := parse(s, "size", sizeScales, "B, kB, MB, KiB or MiB", 1, int64(MaxSize))
	return Size(v), err
}

// ParseDuration reads a duration such as "40ms" or "1.5min". Zero is allowed.
func ParseDuration(s string) (time.Duration, error) {
	v, err := parse(s, "duration", durationScales, "ns, us, ms, s, min or h", 0, int64(MaxDuration))
	return time.Duration(v), err
}

// ParsePercent reads a percentage such as "30%", from 0% to 100%.
func ParsePercent(s string) (Percent, error) {
	v, err := parse(s, "percentage", percentScales, "%", 0, int64(Whole))
	return Percent(v), err
}

// parse reads a decimal number followed by a unit word and returns it in base
// units, exactly. The errors say what was wrong and what could be written there.
func parse(s, what string, scales []scale, words string, min, max int64) (int64, error) {
	if len(s) > 40 {
		return 0, fmt.Errorf("%.20q… is too long for a %s", s, what)
	}
	end := strings.IndexFunc(s, func(r rune) bool { return (r < '0' || r > '9') && r != '.' })
	number, word := s, ""
	if end >= 0 {
		number, word = s[:end], strings.TrimSpace(s[end:])
	}
	if strings.HasPrefix(s, "-") {
		return 0, fmt.Errorf("%q: a %s cannot be negative", s, what)
	}
	n, ok := new(big.Rat).SetString(number)
	if number == "" || !ok {
		return 0, fmt.Errorf("%q is not a %s: write a number and its unit (%s)", s, what, words)
	}
	if word == "" {
		return 0, fmt.Errorf("%q has no unit: a %s needs one of %s", s, what, words)
	}
	for _, sc := range scales {
		if word != sc.word {
			continue
		}
		n.Mul(n, new(big.Rat).SetInt64(sc.size))
		switch {
		case n.Cmp(new(big.Rat).SetInt64(min)) < 0:
			return 0, fmt.Errorf("%q is too small for a %s: the least is %s", s, what, inScale(min, scales))
		case n.Cmp(new(big.Rat).SetInt64(max)) > 0:
			return 0, fmt.Errorf("%q is too large for a %s: the most is %s", s, what, inScale(max, scales))
		case !n.IsInt():
			return 0, fmt.Errorf("%q is finer than a %s can be: the smallest step is %s", s, what, inScale(1, scales))
		}
		return n.Num().Int64(), nil
	}
	for _, sc := range scales {
		if strings.EqualFold(word, sc.word) || strings.EqualFold(word, strings.ReplaceAll(sc.word, "bit/s", "bps")) ||
			strings.EqualFold(word, strings.TrimSuffix(sc.word, "/s")) {
			return 0, fmt.Errorf("%q: the unit is written %s, as in %q", s, sc.word, number+sc.word)
		}
	}
	return 0, fmt.Errorf("%q: %q is not a unit of a %s; it needs one of %s", s, word, what, words)
}

// inScale prints v exactly, in the largest unit that needs at most three decimals; in
// units that are no power of ten, none.
func inScale(v int64, scales []scale) string {
	best := slices.MinFunc(scales, func(a, b scale) int { return cmp.Compare(a.size, b.size) })
	for _, sc := range scales {
		step := sc.size
		if decimal(sc.size) {
			step = max(1, sc.size/1000)
		}
		if v >= sc.size && v%step == 0 && sc.size > best.size {
			best = sc
		}
	}
	return trimZeros(new(big.Rat).SetFrac64(v, best.size).FloatString(6)) + best.word
}

// ParseDecimal reads a number of digits and at most one point: no sign, no exponent.
func ParseDecimal(s string) (float64, error) {
	if strings.Trim(s, "0123456789.") != "" {
		return 0, strconv.ErrSyntax
	}
	return strconv.ParseFloat(s, 64)
}

// decimal reports whether n is a power of ten.
func decimal(n int64) bool {
	for n%10 == 0 {
		n /= 10
	}
	return n == 1
}

func trimZeros(s string) string {
	if strings.Contains(s, ".") {
		s = strings.TrimRight(strings.TrimRight(s, "0"), ".")
	}
	return s
}

// String prints r exactly, in the form ParseRate reads: "90.5kbit/s".
func (r Rate) String() string {
	sc := rateScales[3]
	for _, c := range rateScales {
		if int64(r) >= c.size {
			sc = c
			break
		}
	}
	return trimZeros(new(big.Rat).SetFrac64(int64(r), sc.size).FloatString(9)) + sc.word
}

// String prints s exactly in decimal units: "3kB", "1500B".
func (s Size) String() string {
	for _, sc := range []scale{{"MB", 1e6}, {"kB", 1e3}} {
		if int64(s) >= sc.size && int64(s)*100%sc.size == 0 {
			return trimZeros(new(big.Rat).SetFrac64(int64(s), sc.size).FloatString(3)) + sc.word
		}
	}
	return strconv.FormatInt(int64(s), 10) + "B"
}

// String prints p exactly: "30%", "33.3%".
func (p Percent) String() string {
	return trimZeros(new(big.Rat).SetFrac64(int64(p), 10_000).FloatString(4)) + "%"
}

// FormatDuration prints d in the form ParseDuration reads: "40ms", "1.5s".
func FormatDuration(d time.Duration) string {
	for _, sc := range []scale{{"min", 60e9}, {"s", 1e9}, {"ms", 1e6}, {"us", 1e3}} {
		if int64(d) >= sc.size && int64(d)%(sc.size/1000) == 0 && (sc.word != "min" || int64(d)%sc.size == 0) {
			return trimZeros(new(big.Rat).SetFrac64(int64(d), sc.size).FloatString(3)) + sc.word
		}
	}
	if d == 0 {
		return "0s"
	}
	return strconv.FormatInt(int64(d), 10) + "ns"
}

// Share is a rate given outright or as a percentage of another: at most one of the
// fields is set. The zero Share means "none given".
type Share struct {
	Rate    Rate
	Percent Percent
	Nothing bool // 0%: given, and nothing
}

// IsZero reports whether no share was given.
func (s Share) IsZero() bool { return s == Share{} }

// Of resolves s against whole.
func (s Share) Of(whole Rate) Rate {
	if s.Percent > 0 {
		return s.Percent.Of(whole)
	}
	return s.Rate
}

func (s Share) String() string {
	if s.Percent > 0 || s.Nothing {
		return s.Percent.String()
	}
	return s.Rate.String()
}

// ParsePromise reads a rate or a percentage, which may be 0%.
func ParsePromise(s string) (Share, error) {
	if strings.HasSuffix(s, "%") {
		p, err := ParsePercent(s)
		return Share{Percent: p, Nothing: err == nil && p == 0}, err
	}
	return ParseShare(s)
}

// ParseShare reads a rate or a percentage above 0%.
func ParseShare(s string) (Share, error) {
	if strings.HasSuffix(s, "%") {
		p, err := ParsePercent(s)
		if err == nil && p == 0 {
			err = fmt.Errorf("%q is no share at all: leave the key out, or give more than 0%%", s)
		}
		return Share{Percent: p}, err
	}
	r, err := ParseRate(s)
	return Share{Rate: r}, err
}

// Clock is a point in time that advances by the time bits take at a rate,
// exactly: what a nanosecond cannot hold is carried over, so it does not drift
// over any number of packets. The zero Clock is at time zero.
type Clock struct {
	ns  time.Duration
	rem uint64 // in bit·ns of the rate last used, less than that rate
}

// Ready returns the first whole nanosecond at or after the clock's time.
func (c *Clock) Ready() time.Duration {
	if c.rem > 0 {
		return c.ns + 1
	}
	return c.ns
}

// NotBefore moves the clock up to t if it is before it.
func (c *Clock) NotBefore(t time.Duration) {
	if c.Ready() < t {
		c.ns, c.rem = t, 0
	}
}

// Set puts the clock at t.
func (c *Clock) Set(t time.Duration) { c.ns, c.rem = t, 0 }

// Advance moves the clock on by the time s bytes take at rate r, which must be
// the same at every call.
func (c *Clock) Advance(s int, r Rate) {
	total := uint64(s)*8*uint64(time.Second) + c.rem
	c.ns += time.Duration(total / uint64(r))
	c.rem = total % uint64(r)
}

// Pace is a rate prepared for moving clocks on without a division, which would
// be most of the work. The zero Pace is none.
type Pace struct{ rate, inverse uint64 }

// NewPace returns the pace of a rate; that of 0 is the zero Pace.
func NewPace(r Rate) Pace {
	if r == 0 {
		return Pace{}
	}
	return Pace{uint64(r), math.MaxUint64 / uint64(r)}
}

// IsZero reports whether there is no rate.
func (p *Pace) IsZero() bool { return p.rate == 0 }

// Rate returns the rate.
func (p *Pace) Rate() Rate { return Rate(p.rate) }

// Advance does what Clock.Advance does.
func (p *Pace) Advance(c *Clock, s int) {
	q, rem := p.divide(uint64(s)*8*uint64(time.Second) + c.rem)
	c.ns += time.Duration(q)
	c.rem = rem
}

// Time returns how long s bytes take, rounded down to the nanosecond.
func (p *Pace) Time(s int) time.Duration {
	q, _ := p.divide(uint64(s) * 8 * uint64(time.Second))
	return time.Duration(q)
}

// divide returns n divided by the rate and what is left. The product with the
// inverse is never too large and at most two too small.
func (p *Pace) divide(n uint64) (q, rem uint64) {
	q, _ = bits.Mul64(n, p.inverse)
	for rem = n - q*p.rate; rem >= p.rate; rem -= p.rate {
		q++
	}
	return q, rem
}

// A Number is a number of a policy file whatever it is of, so that it can be changed and
// written again: a count, a percentage, a rate, a size or a duration.
type Number struct {
	Value int64 // in the least unit of its kind
	Kind  NumberKind
}

// A NumberKind is what a number is of.
type NumberKind uint8

// The kinds of numbers.
const (
	ACount NumberKind = iota
	APercent
	ARate
	ASize
	ADuration
)

func (k NumberKind) String() string {
	return [...]string{"a count", "a percentage", "a rate", "a size", "a time"}[k]
}

// ParseNumber reads a number with its unit, or a count.
func ParseNumber(s string) (Number, error) {
	if v, err := strconv.ParseInt(s, 10, 32); err == nil {
		return Number{v, ACount}, nil
	}
	if v, err := ParsePercent(s); err == nil {
		return Number{int64(v), APercent}, nil
	}
	if v, err := ParseRate(s); err == nil {
		return Number{int64(v), ARate}, nil
	}
	if v, err := ParseSize(s); err == nil {
		return Number{int64(v), ASize}, nil
	}
	if v, err := ParseDuration(s); err == nil {
		return Number{int64(v), ADuration}, nil
	}
	return Number{}, fmt.Errorf("%.40q is not a number with a unit, such as 8Mbit/s, 40%%, 3kB, 20ms, or a count", s)
}

// With returns another number of the kind.
func (n Number) With(v int64) Number { return Number{v, n.Kind} }

// String returns the number as it is written.
func (n Number) String() string {
	switch n.Kind {
	case APercent:
		return Percent(n.Value).String()
	case ARate:
		return Rate(n.Value).String()
	case ASize:
		return Size(n.Value).String()
	case ADuration:
		return FormatDuration(time.Duration(n.Value))
	}
	return strconv.FormatInt(n.Value, 10)
}
