package codepoint

import (
	"fmt"
	"strconv"
	"strings"
)

// ServiceClass returns the service class that a codepoint is recommended for
// (RFC 4594 §2.3, RFC 5865, RFC 8622), or "".
func (d DSCP) ServiceClass() string {
	switch d {
	case DF:
		return "standard"
	case LE:
		return "lower effort"
	case CS1:
		return "low-priority data (see LE)"
	case CS2:
		return "operations, management (OAM)"
	case CS3:
		return "broadcast video"
	case CS4:
		return "real-time interactive"
	case CS5:
		return "signalling"
	case CS6:
		return "network control"
	case CS7:
		return "reserved for network control"
	case EF:
		return "telephony"
	case VoiceAdmit:
		return "telephony, capacity admitted"
	}
	return [...]string{"", "high-throughput data", "low-latency data", "multimedia streaming", "multimedia conferencing"}[d.AFClass()]
}

// Precedence returns the IP precedence, the upper three bits.
func (d DSCP) Precedence() uint8 { return uint8(d) >> 3 }

// PCP returns the 802.1Q priority code point for d by default: its
// upper three bits.
func (d DSCP) PCP() uint8 { return uint8(d) >> 3 }

// TC returns the MPLS traffic class for d by default (RFC 5462, RFC
// 3270): its upper three bits.
func (d DSCP) TC() uint8 { return uint8(d) >> 3 }

// UserPriority returns the 802.11 user priority recommended for d (RFC 8325
// §4.3); a codepoint without a recommendation has 0. Network control is 7 where
// it is expected on the wireless link.
func (d DSCP) UserPriority() uint8 {
	switch {
	case d == CS6 || d == CS7:
		return 7
	case d == EF || d == VoiceAdmit:
		return 6
	case d == CS5:
		return 5
	case d == CS4 || d == CS3 || d.AFClass() >= 3:
		return 4
	case d.AFClass() == 2:
		return 3
	case d == CS1 || d == LE:
		return 1
	}
	return 0
}

// Note returns what is easily got wrong about a codepoint; "" for most.
func (d DSCP) Note() string {
	switch d {
	case LE:
		return "the default map (DSCP >> 3) gives LE the PCP 0, best effort, which is above the PCP 1 of CS1, background (IEEE 802.1Q). Mark the PCP as well where switches use it"
	case CS1:
		return "PCP 1 is background, below PCP 0 (IEEE 802.1Q)"
	case CS6, CS7:
		return "network control: an access point should not take it from a client at user priority 7 (RFC 8325 §8); remark it where hosts send it"
	}
	return ""
}

// A Reading is one meaning of a value that someone wrote.
type Reading struct {
	As     string // "DSCP", "ToS byte", "PCP", "MPLS TC", "IP precedence"
	Points []DSCP // the codepoints that it means
	Note   string // what else is in the value
}

// Read returns every meaning of a value: a name ("ef", "af4*"), a decimal number
// ("46"), hexadecimal ("0x2e"), six or eight binary digits ("101110"), or one
// with its field before it ("tos:0xb8", "dscp:46", "pcp:5", "tc:5",
// "precedence:5"). A bare number may have several.
func Read(s string) ([]Reading, error) {
	low := strings.ToLower(strings.TrimSpace(s))
	if field, value, ok := strings.Cut(low, ":"); ok {
		return readField(s, field, value)
	}
	if prefix, ok := strings.CutSuffix(low, "*"); ok && prefix != "" && prefix[0] > '9' {
		var points []DSCP
		for d := range MaxDSCP + 1 {
			if strings.HasPrefix(d.Name(), prefix) {
				points = append(points, d)
			}
		}
		if len(points) == 0 {
			return nil, fmt.Errorf("%.40q: no codepoint has a name that begins with %q", s, prefix)
		}
		return []Reading{{As: "DSCP", Points: points}}, nil
	}
	if low != "" && low[0] > '9' {
		d, err := ParseDSCP(low)
		if err != nil {
			return nil, fmt.Errorf("%.40q is not a marking: write a name (ef, af41, cs5, af4*), a number, or a field and a number (tos:0xb8, pcp:5, tc:5)", s)
		}
		return []Reading{{As: "DSCP", Points: []DSCP{d}}}, nil
	}
	return readNumber(s, low)
}

func readField(s, field, value string) ([]Reading, error) {
	n, err := strconv.ParseUint(value, 0, 16)
	if strings.HasPrefix(value, "0b") || err != nil && isBinary(value) {
		n, err = strconv.ParseUint(strings.TrimPrefix(value, "0b"), 2, 16)
	}
	most := map[string]uint64{"dscp": 63, "tos": 255, "pcp": 7, "tc": 7, "precedence": 7}
	top, known := most[field]
	if !known {
		return nil, fmt.Errorf("%.40q: the field is dscp, tos, pcp, tc or precedence", s)
	}
	if err != nil || n > top {
		return nil, fmt.Errorf("%.40q: a %s is a number from 0 to %d", s, field, top)
	}
	switch field {
	case "dscp":
		return []Reading{{As: "DSCP", Points: []DSCP{DSCP(n)}}}, nil
	case "tos":
		return []Reading{tosReading(n)}, nil
	case "pcp":
		return []Reading{threeBits("PCP", n)}, nil
	case "tc":
		return []Reading{threeBits("MPLS TC", n)}, nil
	}
	return []Reading{threeBits("IP precedence", n)}, nil
}

func isBinary(s string) bool { return s != "" && strings.Trim(s, "01") == "" }

func tosReading(n uint64) Reading {
	r := Reading{As: "ToS byte", Points: []DSCP{DSCP(n >> 2)}}
	if ecn := n & 3; ecn != 0 {
		r.Note = "with ECN " + [...]string{"", "ECT(1)", "ECT(0)", "CE"}[ecn]
	}
	return r
}

// threeBits returns the codepoints of a three-bit field by default.
func threeBits(as string, n uint64) Reading {
	r := Reading{As: as}
	for d := range MaxDSCP + 1 {
		if name := d.Name(); uint64(d>>3) == n && name[0] > '9' {
			r.Points = append(r.Points, d)
		}
	}
	return r
}

func readNumber(s, low string) ([]Reading, error) {
	var out []Reading
	n, err := strconv.ParseUint(low, 0, 16)
	if len(low) > 1 && low[0] == '0' && isBinary(low) {
		err = strconv.ErrSyntax // 001010 is binary, not octal
	}
	if err == nil {
		if n <= 63 {
			out = append(out, Reading{As: "DSCP", Points: []DSCP{DSCP(n)}})
		}
		if n <= 255 {
			out = append(out, tosReading(n))
		}
		if n <= 7 && !strings.HasPrefix(low, "0x") {
			out = append(out, threeBits("IP precedence", n), threeBits("PCP", n), threeBits("MPLS TC", n))
		}
	}
	if isBinary(low) {
		b, _ := strconv.ParseUint(low, 2, 16)
		switch len(low) {
		case 6:
			out = append(out, Reading{As: "DSCP in binary", Points: []DSCP{DSCP(b)}})
		case 8:
			r := tosReading(b)
			r.As = "ToS byte in binary"
			out = append(out, r)
		}
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("%.40q is not a marking: a DSCP is 0 to 63, a ToS byte 0 to 255, binary six or eight digits", s)
	}
	return out, nil
}
