// Package humanize writes numbers for people: three digits in a unit that suits.
package humanize

import (
	"fmt"
	"math"
	"strconv"
	"strings"
)

// Rate prints a bit rate in people's units, to three digits: "571 kbit/s".
func Rate(bps int64) string { return rate(float64(bps), 3) }

func rate(bps float64, digits int) string {
	for _, u := range []struct {
		size float64
		word string
	}{{1e9, "Gbit/s"}, {1e6, "Mbit/s"}, {1e3, "kbit/s"}} {
		if bps >= u.size {
			return toDigits(bps/u.size, digits) + " " + u.word
		}
	}
	return strconv.FormatInt(int64(bps), 10) + " bit/s"
}

// Milliseconds prints milliseconds to three digits: "4.59 ms", "1.20 s".
func Milliseconds(v float64) string { return milliseconds(v, 3) }

func milliseconds(v float64, digits int) string {
	switch {
	case v >= 1000:
		return toDigits(v/1000, digits) + " s"
	case v > 0 && v < 0.01 && digits == 3:
		return "<0.01 ms"
	}
	return toDigits(v, digits) + " ms"
}

// Digits prints a number to three digits.
func Digits(v float64) string { return toDigits(v, 3) }

func toDigits(v float64, digits int) string {
	if v == 0 {
		return "0"
	}
	after := digits - 1
	for limit := 10 - 0.5*math.Pow10(1-digits); after > 0 && v >= limit; limit *= 10 {
		after--
	}
	return strconv.FormatFloat(v, 'f', after, 64)
}

// Decided prints a number that was compared with a limit in a unit of an outcome, with
// as many digits as show on which side of the limit it is.
func Decided(v, limit float64, unit string) string {
	print := func(v float64, digits int) string {
		switch unit {
		case "ms":
			return milliseconds(v, digits)
		case "%":
			if digits == 3 {
				return Ratio(v / 100)
			}
			return toDigits(v, digits) + " %"
		case "times":
			return Plural(int(v), "time")
		case "packets":
			return Plural(int(v), "packet")
		case "bit/s":
			return rate(v, digits)
		case "bytes":
			if digits > 3 {
				return Count(int64(v)) + " B"
			}
			return Bytes(int64(v))
		case "ratio":
			return toDigits(v, digits)
		}
		return strconv.FormatFloat(v, 'f', digits-1, 64)
	}
	for digits := 3; digits < 9; digits++ {
		if v == limit || print(v, digits) != print(limit, digits) {
			return print(v, digits)
		}
	}
	return print(v, 9)
}

// Count prints a number with a comma every three digits: "9,000".
func Count[T int | int64 | uint64](n T) string {
	s := fmt.Sprint(n)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}

// Bytes prints a size in people's units.
func Bytes(n int64) string {
	switch {
	case n >= 1e10:
		return Digits(float64(n)/1e9) + " GB"
	case n >= 1e6:
		return Digits(float64(n)/1e6) + " MB"
	case n >= 1e4:
		return Digits(float64(n)/1e3) + " kB"
	}
	return Count(n) + " B"
}

// Ratio prints a ratio as a percentage: "0 %", "0.03 %", "31.2 %".
func Ratio(v float64) string {
	switch p := v * 100; {
	case p == 0:
		return "0 %"
	case p < 0.01:
		return "<0.01 %"
	case p < 1:
		return strconv.FormatFloat(p, 'f', 2, 64) + " %"
	case p > 99.9 && p < 100:
		return ">99.9 %"
	default:
		return strconv.FormatFloat(p, 'f', 1, 64) + " %"
	}
}

// Plural returns "1 call", "2 calls".
func Plural(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return Count(n) + " " + one + "s"
}

// List joins words as "a, b and c".
func List(words []string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " and " + words[len(words)-1]
}

// Short cuts a name to at most n characters.
func Short(s string, n int) string {
	if len(s) <= n {
		return s
	}
	return s[:n-1] + "…"
}
