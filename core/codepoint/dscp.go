// Package codepoint has the markings a packet can carry and the maps between
// them.
package codepoint

import (
	"fmt"
	"strconv"
	"strings"
)

// DSCP is a differentiated services codepoint, 0 to 63 (RFC 2474). It is the
// upper six bits of the IPv4 ToS or IPv6 Traffic Class byte; the zero DSCP is
// DF, the default forwarding behaviour.
type DSCP uint8

// Codepoints with a name of their own.
const (
	DF         DSCP = 0
	LE         DSCP = 1  // RFC 8622
	CS1        DSCP = 8  // RFC 2474: CSn = 8n
	CS2        DSCP = 16 //
	CS3        DSCP = 24 //
	CS4        DSCP = 32 //
	CS5        DSCP = 40 //
	VoiceAdmit DSCP = 44 // RFC 5865
	EF         DSCP = 46 // RFC 3246
	CS6        DSCP = 48 //
	CS7        DSCP = 56 //
)

// MaxDSCP is the largest codepoint.
const MaxDSCP DSCP = 63

// AF returns the assured forwarding codepoint of class x, 1 to 4, and drop
// precedence y, 1 to 3 (RFC 2597).
func AF(x, y int) DSCP { return DSCP(8*x + 2*y) }

// Name returns the registered name in lower case ("ef", "af41", "cs0" is
// "df"), or the number of a codepoint that has none.
func (d DSCP) Name() string {
	switch {
	case d == DF:
		return "df"
	case d == LE:
		return "le"
	case d == VoiceAdmit:
		return "voice-admit"
	case d == EF:
		return "ef"
	case d%8 == 0 && d <= CS7:
		return "cs" + strconv.Itoa(int(d/8))
	case d.AFClass() > 0:
		return fmt.Sprintf("af%d%d", d.AFClass(), d.DropPrecedence())
	}
	return strconv.Itoa(int(d))
}

// AFClass returns the class x of an assured forwarding codepoint AFxy
// (RFC 2597: 8x + 2y), 1 to 4, or 0.
func (d DSCP) AFClass() int {
	x, y := d/8, d%8/2
	if x < 1 || x > 4 || y < 1 || d%2 != 0 {
		return 0
	}
	return int(x)
}

// DropPrecedence returns the drop precedence y of AFxy, 1 to 3, higher dropped
// first, or 0 when d is no assured forwarding codepoint.
func (d DSCP) DropPrecedence() int {
	if d.AFClass() == 0 {
		return 0
	}
	return int(d % 8 / 2)
}

// ToS returns the whole ToS or Traffic Class byte with d in it and the ECN
// field at zero: four times d.
func (d DSCP) ToS() uint8 { return uint8(d) << 2 }

// Names returns the names ParseDSCP reads, in the order of their numbers.
func Names() []string {
	var names []string
	for d := range MaxDSCP + 1 {
		if n := d.Name(); n[0] > '9' {
			names = append(names, n)
		}
	}
	return names
}

// ParseDSCP reads a name ("ef", "AF41", "cs0", "be" is not one), a number from 0 to 63, hexadecimal up to 0x3f, six binary
// digits, or a number with its field ("dscp:46", "tos:0xb8"). The ECN bits of a ToS byte are ignored.
func ParseDSCP(s string) (DSCP, error) {
	low := strings.ToLower(s)
	if low == "cs0" {
		return DF, nil
	}
	if n, err := strconv.ParseUint(low, 10, 16); err == nil {
		if len(low) == 6 && isBinary(low) {
			n, _ = strconv.ParseUint(low, 2, 16)
		}
		if n > uint64(MaxDSCP) {
			hint := ""
			if n <= 255 && n%4 == 0 {
				hint = fmt.Sprintf(" (as a whole ToS byte %d is DSCP %d, %s)", n, n/4, DSCP(n/4).Name())
			}
			return 0, fmt.Errorf("%.40s is not a DSCP: it is a number from 0 to 63%s", s, hint)
		}
		return DSCP(n), nil
	}
	for d := range MaxDSCP + 1 {
		if low == d.Name() {
			return d, nil
		}
	}
	field, _, spelled := strings.Cut(low, ":")
	if binary := len(low) == 6 && isBinary(low); binary || strings.HasPrefix(low, "0x") || spelled && (field == "dscp" || field == "tos") {
		readings, err := Read(low)
		if err != nil {
			return 0, err
		}
		for _, r := range readings {
			if spelled || strings.HasPrefix(r.As, "DSCP") {
				return r.Points[0], nil
			}
		}
		return 0, fmt.Errorf("%.40s is not a DSCP but a ToS byte: write tos:%s, which is %s", s, s, readings[0].Points[0].Name())
	}
	return 0, fmt.Errorf("%.40q is not a DSCP: write a name such as ef, af41 or cs5, a number from 0 to 63, or a ToS byte such as tos:0xb8", s)
}
