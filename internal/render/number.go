// Package render turns results into what people and programs read. It computes
// nothing that a result does not hold.
package render

import (
	"fmt"
	"strconv"
	"strings"
)

// Rate prints a bit rate in people's units, to three digits: "571 kbit/s".
func Rate(bps int64) string {
	for _, u := range []struct {
		size int64
		word string
	}{{1e9, "Gbit/s"}, {1e6, "Mbit/s"}, {1e3, "kbit/s"}} {
		if bps >= u.size {
			return threeDigits(float64(bps)/float64(u.size)) + " " + u.word
		}
	}
	return strconv.FormatInt(bps, 10) + " bit/s"
}

// ms prints milliseconds to three digits: "4.59 ms", "1.20 s".
func ms(v float64) string {
	switch {
	case v >= 1000:
		return threeDigits(v/1000) + " s"
	case v > 0 && v < 0.01:
		return "<0.01 ms"
	}
	return threeDigits(v) + " ms"
}

func threeDigits(v float64) string {
	switch {
	case v == 0:
		return "0"
	case v >= 99.95:
		return strconv.FormatFloat(v, 'f', 0, 64)
	case v >= 9.995:
		return strconv.FormatFloat(v, 'f', 1, 64)
	}
	return strconv.FormatFloat(v, 'f', 2, 64)
}

// count prints a number with a comma every three digits: "9,000".
func count[T int | int64 | uint64](n T) string {
	s := fmt.Sprint(n)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}

// bytes prints a size in people's units.
func bytes(n int64) string {
	switch {
	case n >= 1e6:
		return threeDigits(float64(n)/1e6) + " MB"
	case n >= 1e4:
		return threeDigits(float64(n)/1e3) + " kB"
	}
	return count(n) + " B"
}

// ratio prints a ratio as a percentage: "0 %", "0.03 %", "31.2 %".
func ratio(v float64) string {
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

// plural returns "1 call", "2 calls".
func plural(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return count(n) + " " + one + "s"
}

// list joins words as "a, b and c".
func list(words []string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " and " + words[len(words)-1]
}

// short cuts a name to at most n characters.
func short(s string, n int) string {
	if len(s) <= n {
		return s
	}
	return s[:n-1] + "…"
}
