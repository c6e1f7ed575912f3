package language

import (
	"encoding/base64"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
)

// The single values of the language.
var (
	aText     = value("a text", func(s string) (string, error) { return s, nil })
	aRate     = matching(ratePattern, value("a rate such as 11.4Mbit/s", unit.ParseRate))
	aSize     = matching(sizePattern, value("a size such as 3kB", unit.ParseSize))
	anMTU     = bytesBetween("the length of a packet", 68, 65535)
	aDuration = matching(timePattern, value("a duration such as 40ms", unit.ParseDuration))
	someTime  = matching(timePattern, value("a duration such as 40ms, more than zero", func(s string) (time.Duration, error) {
		d, err := unit.ParseDuration(s)
		if err == nil && d == 0 {
			err = fmt.Errorf("%q is no time at all", s)
		}
		return d, err
	}))
	aShare     = matching(sharePattern, value("a rate such as 2Mbit/s or a percentage such as 30%", unit.ParseShare))
	aPromise   = matching(sharePattern, value("a rate such as 2Mbit/s or a percentage such as 30%", unit.ParsePromise))
	aDSCP      = listed(codepointWords(), `^([0-5]?[0-9]|6[0-3]|0x[0-9a-fA-F]+|[01]{6}|(dscp|tos|DSCP|ToS|TOS):.+)$`, value("a DSCP: a name such as ef or af41, or a number from 0 to 63", codepoint.ParseDSCP))
	anAddress  = value("an address such as 10.44.8.20", parseAddress)
	aPrefix    = value("a prefix such as 10.44.8.0/22", parsePrefix)
	aProtocol  = value("a protocol: udp, tcp, icmp, … or a number from 0 to 255", policy.ParseProtocol)
	ports      = value("a port such as 5060 or a range such as 7400-7410", policy.ParsePorts)
	aThreeBits = func(what string) shape[uint8] {
		return as(count(what, 0, 7), func(n int) uint8 { return uint8(n) })
	}
	aVLAN   = as(count("a VLAN", 0, 4095), func(n int) *uint16 { v := uint16(n); return &v })
	aMinute = matching(`^[0-9]{2}:[0-9]{2}$`, value(`a time of day such as "08:30"`, parseMinute))
	aMoment = value("a date and time such as 2026-03-02T08:30", ParseMoment)
	aPort   = value("a port from 0 to 65535", func(s string) (uint16, error) {
		n, err := strconv.ParseUint(s, 10, 16)
		if err != nil {
			return 0, fmt.Errorf("%.40q is not a port from 0 to 65535", s)
		}
		return uint16(n), nil
	})
	anIPVersion = value("an IP version: 4 or 6", func(s string) (six bool, err error) {
		if s != "4" && s != "6" {
			err = fmt.Errorf("%.40q is not an IP version", s)
		}
		return s == "6", err
	})
	anInterfaceName = ref("an interface, as node/interface")
)

// Types of values that are written in several places.
type (
	address = netip.Addr
	prefix  = netip.Prefix
)

// oneOf describes one of the words of a typed constant, which has them in order.
func oneOf[T ~uint8](list []string) shape[T] {
	return as(words(list...), func(s string) T { return T(max(slices.Index(list, s), 0)) })
}

// count describes a whole number from low to high.
func count(what string, low, high int) shape[int] {
	s := value(fmt.Sprintf("%s, a whole number from %d to %d", what, low, high), func(s string) (int, error) {
		n, err := strconv.Atoi(s)
		if err != nil || n < low || n > high {
			return 0, fmt.Errorf("%.40q is not a whole number from %d to %d", s, low, high)
		}
		return n, nil
	})
	s.schema = func(definitions) schema {
		return schema{"title": s.say, "anyOf": []schema{{"type": "integer", "minimum": low, "maximum": high}, {"type": "string", "pattern": "^[0-9]+$"}}}
	}
	return s
}

// hostPort reads a host and a port, which may be left out.
func hostPort(usual string) func(string) (string, error) {
	return func(s string) (string, error) {
		host, port := s, usual
		if after, bracket := strings.CutPrefix(s, "["); bracket {
			address, rest, closed := strings.Cut(after, "]")
			if host = address; !closed || rest != "" && rest[0] != ':' {
				host = ""
			} else if rest != "" {
				port = rest[1:]
			}
		} else if strings.Count(s, ":") == 1 {
			host, port, _ = strings.Cut(s, ":")
		}
		_, err := netip.ParseAddr(host)
		if n, e := strconv.ParseUint(port, 10, 16); e != nil || n == 0 || host == "" || err != nil && strings.ContainsAny(host, ":/ []") {
			return "", fmt.Errorf("%.60q is not a host, or HOST:PORT", s)
		}
		if strings.Contains(host, ":") {
			host = "[" + host + "]"
		}
		return host + ":" + port, nil
	}
}

// parseFingerprint reads the fingerprint of a key: its SHA-256 in base 64.
func parseFingerprint(s string) (string, error) {
	sum, found := strings.CutPrefix(s, "SHA256:")
	if b, err := base64.RawStdEncoding.DecodeString(sum); !found || err != nil || len(b) != 32 {
		return "", fmt.Errorf("%.60q is not a fingerprint of a key", s)
	}
	return s, nil
}

// parseSkew reads parts in a million.
func parseSkew(s string) (int, error) {
	n, err := strconv.Atoi(strings.TrimSpace(strings.TrimSuffix(s, "ppm")))
	if err != nil || n < 0 || n > 1000 || n > 0 && !strings.HasSuffix(s, "ppm") {
		return 0, fmt.Errorf("%.40q is not parts in a million from 0 to 1000ppm", s)
	}
	return n, nil
}

func parsePrefix(s string) (netip.Prefix, error) {
	if p, err := netip.ParsePrefix(s); err == nil {
		if p.Masked() != p {
			return p, fmt.Errorf("%s has address bits beyond its length: the prefix is %s", s, p.Masked())
		}
		return p, nil
	}
	return netip.Prefix{}, fmt.Errorf("%.60q is not a prefix", s)
}

// codepointWords returns the names of codepoints that ParseDSCP takes, in lower and in upper case.
func codepointWords() (out []string) {
	for d := range codepoint.DSCP(codepoint.MaxDSCP + 1) {
		for _, name := range []string{d.Name(), strings.ToUpper(d.Name())} {
			if _, err := codepoint.ParseDSCP(name); err == nil && name[0] > '9' {
				out = append(out, name)
			}
		}
	}
	for _, name := range []string{"be", "BE", "default", "voice-admit"} {
		if _, err := codepoint.ParseDSCP(name); err == nil {
			out = append(out, name)
		}
	}
	return out
}

// framingWords returns the names of framings.
func framingWords() (out []string) {
	for _, f := range packet.Framings() {
		out = append(out, f.Name)
	}
	return out
}

// The forms of quantities, for the schema.
const (
	ratePattern  = `^[0-9.]+ *(bit|kbit|Mbit|Gbit)/s$`
	sizePattern  = `^[0-9.]+ *(B|kB|MB|KiB|MiB)$`
	timePattern  = `^[0-9.]+ *(ns|us|ms|s|min|h)$`
	sharePattern = `^([0-9.]+ *(bit|kbit|Mbit|Gbit)/s|[0-9.]+%)$`
)

// ParseFraming returns the framing of a name. The error lists them, the nearest first.
func ParseFraming(s string) (packet.Framing, error) {
	f, err := packet.ParseFraming(s)
	if err != nil {
		var names []string
		for _, f := range packet.Framings() {
			names = append(names, f.Name)
		}
		err = fmt.Errorf("%w; %sthere are: %s", err, policy.DidYouMean(s, names), strings.Join(names, ", "))
	}
	return f, err
}

// maxOverhead bounds a cell, so that the sizes and times of its packets stay numbers.
const maxOverhead = 100

// parseCells reads "48/53": how much of each cell is payload.
func parseCells(s string) ([2]int, error) {
	a, b, _ := strings.Cut(s, "/")
	payload, err1 := strconv.Atoi(a)
	cell, err2 := strconv.Atoi(b)
	if err1 != nil || err2 != nil || payload < 1 || cell < payload || cell > 9000 {
		return [2]int{}, fmt.Errorf("%.40q is not the payload and the whole of a cell", s)
	}
	if cell > maxOverhead*payload {
		return [2]int{}, fmt.Errorf("%.40q: a cell is at most %d times its payload", s, maxOverhead)
	}
	return [2]int{payload, cell}, nil
}

// parseDays reads a day or a range of days, "mon-fri".
func parseDays(s string) ([7]bool, error) {
	var days [7]bool
	a, b, ranged := strings.Cut(s, "-")
	if !ranged {
		b = a
	}
	from, to := slices.Index(policy.DayWords(), a), slices.Index(policy.DayWords(), b)
	if from < 0 || to < 0 {
		return days, fmt.Errorf("%.40q is not a day or a range of days", s)
	}
	for d := from; ; d = (d + 1) % 7 {
		days[d] = true
		if d == to {
			return days, nil
		}
	}
}

// parseMinute reads a time of day.
func parseMinute(s string) (int, error) {
	if s == "24:00" {
		return 24 * 60, nil
	}
	t, err := time.Parse("15:04", s)
	if err != nil {
		return 0, fmt.Errorf("%.40q is not a time of day", s)
	}
	return t.Hour()*60 + t.Minute(), nil
}

// ParseMoment reads a date and time without a zone; the zone is UTC.
func ParseMoment(s string) (time.Time, error) {
	for _, form := range []string{"2006-01-02T15:04", "2006-01-02T15:04:05", time.RFC3339} {
		if t, err := time.Parse(form, s); err == nil {
			return t, nil
		}
	}
	return time.Time{}, fmt.Errorf("%.40q is not a date and time", s)
}

// parseServerName reads a name, or "*." before one.
func parseServerName(s string) (string, error) {
	name := strings.TrimPrefix(s, "*.")
	ok := name != "" && len(s) <= 253
	for _, c := range name {
		ok = ok && (c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.ContainsRune("-_.", c))
	}
	if !ok {
		return "", fmt.Errorf("%.60q is not a server name: write a name such as www.weather.example, or *.weather.example for all below", s)
	}
	return strings.ToLower(s), nil
}

func parseQueueLimit(s string) (policy.Queue, error) {
	if n, err := strconv.Atoi(s); err == nil {
		if n < 1 || n > 10_000_000 {
			return policy.Queue{}, fmt.Errorf("a limit of %d packets is out of range: 1 to 10000000", n)
		}
		return policy.Queue{Packets: n}, nil
	}
	if strings.HasSuffix(s, "B") {
		n, err := unit.ParseSize(s)
		return policy.Queue{Bytes: n}, err
	}
	d, err := unit.ParseDuration(s)
	if err == nil && d == 0 {
		err = fmt.Errorf("a limit of %.40s lets nothing wait; the least is one packet", s)
	}
	return policy.Queue{Time: d}, err
}

// parseAddress reads an IP address.
func parseAddress(s string) (netip.Addr, error) {
	a, err := netip.ParseAddr(s)
	if err != nil || a.Zone() != "" {
		return netip.Addr{}, fmt.Errorf("%.60q is not an address", s)
	}
	return a.Unmap(), nil
}

// parseShapeBurst reads a burst: a size, or a time.
func parseShapeBurst(s string) (policy.ShapeBurst, error) {
	if strings.HasSuffix(s, "B") {
		n, err := unit.ParseSize(s)
		return policy.ShapeBurst{Bytes: n}, err
	}
	d, err := unit.ParseDuration(s)
	if err == nil && (d <= 0 || d > 10*time.Second) {
		err = fmt.Errorf("a burst of %.40s is out of range: up to 10s", s)
	}
	return policy.ShapeBurst{Time: d}, err
}

// parseErlangs reads a number of calls that there are on average.
func parseErlangs(s string) (float64, error) {
	v, err := unit.ParseDecimal(s)
	if err != nil || v < 0.001 || v > 100_000 {
		return 0, fmt.Errorf("%.40q is not a number of calls from 0.001 to 100000", s)
	}
	return v, nil
}

// parseBurst reads the mean length of a burst of lost packets.
func parseBurst(s string) (float64, error) {
	v, err := unit.ParseDecimal(s)
	if err != nil || v < 1 || v > 1_000_000 {
		return 0, fmt.Errorf("%.40q is not a number of packets from 1 to 1000000", s)
	}
	return v, nil
}

// parseSpeed reads how fast a capture is replayed.
func parseSpeed(s string) (float64, error) {
	number, ok := strings.CutSuffix(s, "%")
	v, err := unit.ParseDecimal(strings.TrimSpace(number))
	if err != nil || !ok || v < 0.01 || v > 1_000_000 {
		return 0, fmt.Errorf("%.40q is not a percentage from 0.01%% to 1000000%%", s)
	}
	return v / 100, nil
}

// bytesBetween is a size in bytes within bounds, as a number.
func bytesBetween(what string, least, most int) shape[int] {
	return matching(sizePattern, value(fmt.Sprintf("%s such as 1400B, from %dB to %dB", what, least, most), func(s string) (int, error) {
		v, err := unit.ParseSize(s)
		if err == nil && (v < unit.Size(least) || v > unit.Size(most)) {
			err = fmt.Errorf("%s is not from %dB to %dB", v, least, most)
		}
		return int(v), err
	}))
}

// parseWeight reads the weight of a sample in an average.
func parseWeight(s string) (float64, error) {
	v, err := unit.ParseDecimal(s)
	if err == nil && (v <= 0 || v > 1) {
		err = fmt.Errorf("%s is not above 0 and up to 1", s)
	}
	return v, err
}

// parseWindow reads the length of a replay window.
func parseWindow(s string) (int, error) {
	n, err := strconv.Atoi(s)
	if err != nil || n < 0 || n > 65536 {
		return 0, fmt.Errorf("%.40q is not a number of packets from 0 to 65536", s)
	}
	return n, nil
}
