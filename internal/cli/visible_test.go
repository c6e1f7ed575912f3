package cli_test

import (
	"encoding/binary"
	"fmt"
	"strings"
	"testing"
	"unicode"
	"unicode/utf8"
)

// hiddenIn returns the first character of a text that a terminal acts on or that does not
// show, line breaks apart.
func hiddenIn(text string) string {
	for i, r := range text {
		if r != '\n' && unicode.In(r, unicode.Cc, unicode.Cf, unicode.Zl, unicode.Zp, unicode.Co) {
			return fmt.Sprintf("%q at %d: %q", r, i, text[max(0, i-40):min(len(text), i+20)])
		}
	}
	if !utf8.ValidString(text) {
		return "bytes that are no text"
	}
	return ""
}

// dnsAnswer is an Ethernet frame with an answer that names an address.
func dnsAnswer(name string) []byte {
	question := []byte{0x12, 0x34, 0x81, 0x80, 0, 1, 0, 1, 0, 0, 0, 0}
	label := append([]byte{byte(len(name))}, name...)
	label = append(append(label, 7), "example"...)
	label = append(label, 0)
	question = append(append(question, label...), 0, 1, 0, 1)
	answer := append(question, 0xc0, 12, 0, 1, 0, 1, 0, 0, 0, 60, 0, 4, 10, 2, 0, 7)
	return udpFrame([4]byte{10, 2, 0, 53}, [4]byte{10, 1, 0, 5}, 53, 40000, answer)
}

func udpFrame(from, to [4]byte, fromPort, toPort uint16, payload []byte) []byte {
	b := make([]byte, 42, 42+len(payload))
	binary.BigEndian.PutUint16(b[12:], 0x0800)
	b[14], b[22], b[23] = 0x45, 64, 17
	binary.BigEndian.PutUint16(b[16:], uint16(28+len(payload)))
	copy(b[26:], from[:])
	copy(b[30:], to[:])
	binary.BigEndian.PutUint16(b[34:], fromPort)
	binary.BigEndian.PutUint16(b[36:], toPort)
	binary.BigEndian.PutUint16(b[38:], uint16(8+len(payload)))
	return append(b, payload...)
}

// tcpFrame is an empty segment.
func tcpFrame(from, to [4]byte, fromPort, toPort uint16) []byte {
	b := udpFrame(from, to, fromPort, toPort, make([]byte, 12))
	b[23], b[46], b[47] = 6, 0x50, 0x10
	return b
}

// pcap is a capture file of frames a tenth of a second apart.
func pcap(frames ...[]byte) string {
	var b []byte
	for _, v := range []uint32{0xa1b2c3d4, 4<<16 | 2, 0, 0, 65535, 1} {
		b = binary.LittleEndian.AppendUint32(b, v)
	}
	for i, f := range frames {
		for _, v := range []uint32{uint32(i / 10), uint32(i%10) * 100_000, uint32(len(f)), uint32(len(f))} {
			b = binary.LittleEndian.AppendUint32(b, v)
		}
		b = append(b, f...)
	}
	return string(b)
}

// Nothing that comes from a file, a capture or an argument reaches a terminal as it is:
// every input with every character that a terminal acts on or that is not seen.
func TestNothingActsOnTheTerminal(t *testing.T) {
	t.Parallel()
	var bad []string
	for r := rune(0); r < 0xa0; r++ {
		if unicode.IsControl(r) {
			bad = append(bad, string(r))
		}
	}
	bad = append(bad, "\u00ad", "\u061c", "\u200b", "\u200e", "\u200f", "\u2028", "\u2029", "\u202a", "\u202e", "\u2066", "\u2069", "\ufeff", "\ue000", "\U000e0041", "\x1b]0;x\x07", "\x1b[2J", "\xff", "\xc3")
	all := strings.Join(bad, "")
	dir := t.TempDir()
	base := crossingWith(bothEnds, "7.6Mbit/s", anyVoice)
	yaml := func(s string) string { // as a double-quoted text of YAML
		var b strings.Builder
		for _, r := range s {
			if r == unicode.ReplacementChar {
				continue
			}
			fmt.Fprintf(&b, `\U%08X`, r)
		}
		return `"` + b.String() + `"`
	}
	seen := 0
	look := func(what string, r reply) {
		t.Helper()
		seen++
		for name, text := range map[string]string{"stdout": r.out, "stderr": r.err} {
			if h := hiddenIn(text); h != "" {
				t.Errorf("%s: %s has %s", what, name, h)
			}
		}
		if r.status == 3 {
			t.Errorf("%s: exit 3", what)
		}
	}
	for _, output := range []string{"text", "json"} {
		titled := strings.Replace(base, "imbrel: 1\n", "imbrel: 1\ntitle: "+yaml(all)+"\n", 1)
		put(t, dir, "titled.yaml", titled)
		r := imbrel(t, dir, "", nil, "rehearse", "titled.yaml", "-o", output)
		look("a title", r)
		if !strings.Contains(r.out, "202e") {
			t.Errorf("the title is not shown: %.300s", r.out)
		}
	}
	for i, c := range bad {
		// In every place of a file that takes a text.
		for place, change := range map[string][2]string{
			"a class":         {"{name: voice, match", "{name: " + yaml("v"+c) + ", match"},
			"a subject":       {`"voice loss = 0"`, yaml("v" + c + " loss = 0")},
			"a metric":        {`"voice loss = 0"`, yaml("voice l" + c + " = 0")},
			"a rate":          {"7.6Mbit/s", yaml("7" + c + "Mbit/s")},
			"an interface":    {"at: west/wan, direction", "at: " + yaml("west/w"+c) + ", direction"},
			"a key":           {"lasts: 4s", yaml("l"+c) + ": 4s"},
			"a capture":       {"{name: up, rate: 12Mbit/s, packet: 1500B, from: 10.1.0.9, to: 10.2.0.9}", "{name: up, enters: west/lan, capture: " + yaml("c"+c) + "}"},
			"an included one": {"imbrel: 1\n", "imbrel: 1\ninclude: [" + yaml("i"+c) + "]\n"},
			"the file itself": {"imbrel: 1\n", "imbrel: 1\ntit" + c + "le: x\n"},
		} {
			if whole := (i+len(place))%4 == 0 || len(c) > 3; whole && utf8.ValidString(c) || place == "the file itself" {
				look(place, imbrel(t, dir, strings.Replace(base, change[0], change[1], 1), nil, "rehearse", "-"))
			}
		}
		if c == "\x00" { // no argument can have it
			continue
		}
		put(t, dir, "p.yaml", base)
		for _, args := range [][]string{
			{"rehearse", "f" + c}, {"rehearse", "p.yaml", "n" + c}, {"rehearse", "p.yaml", "--class", "v" + c}, {"rehearse", "p.yaml", "--every", "1" + c},
			{"shares", "p.yaml", "--busy", "v" + c}, {"explain", "p.yaml", "--from", "1" + c, "--to", "10.2.0.1"}, {"codepoint", "e" + c}, {"x" + c}, {"--x" + c},
		} {
			if i%3 != 0 && len(c) < 4 {
				continue
			}
			look("the argument "+args[0], imbrel(t, dir, "", nil, args...))
		}
	}
	// A name that a DNS answer gives.
	for i, c := range bad {
		frames := [][]byte{dnsAnswer("w" + c)}
		for range 6 {
			frames = append(frames, tcpFrame([4]byte{10, 1, 0, 5}, [4]byte{10, 2, 0, 7}, 40001, 443))
		}
		put(t, dir, "dns.pcap", pcap(frames...))
		for _, output := range []string{"text", "json"}[i%2 : i%2+1] {
			r := imbrel(t, dir, "", nil, "explain", "p.yaml", "--capture", "dns.pcap", "-o", output)
			look("a name of DNS", r)
			if !strings.Contains(r.out, "example") {
				t.Fatalf("the name %q is not shown:\n%s%s", c, r.out, r.err)
			}
		}
	}
	t.Logf("%d outputs looked at", seen)
}

// Every output fits the terminal. A narrow one says as much as a wide one; from 60 columns up tables go without columns and name
// them.
func TestNarrowTerminals(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	imbrel(t, dir, "", nil, "demo", "--write", ".")
	for _, args := range [][]string{
		{"demo"}, {"rehearse", "ternrock.yaml", "--all", "--hops", "--every", "2s"}, {"rehearse", "ternrock.yaml", "--both"}, {"shares", "ternrock.yaml", "--busy", "voice"},
		{"codepoint"}, {"codepoint", "ef", "40"}, {"explain", "--apps"}, {"explain", "ternrock.yaml", "--capture", "ternrock-office.pcap"},
		{"explain", "ternrock.yaml", "--from", "10.44.8.20", "--to", "10.44.64.20", "--why"},
	} {
		wide := imbrel(t, dir, "", nil, args...)
		words := func(s string) map[string]bool {
			all := make(map[string]bool)
			for _, w := range strings.Fields(s) {
				all[strings.Trim(w, ",:")] = true
			}
			return all
		}
		for _, columns := range []int{59, 79, 100} {
			r := imbrel(t, dir, "", []string{fmt.Sprint("COLUMNS=", columns)}, args...)
			if r.status != wide.status {
				t.Errorf("%v in %d columns: exit %d, not %d", args, columns, r.status, wide.status)
			}
			for _, line := range strings.Split(r.out, "\n") {
				if n := len([]rune(line)); n > columns {
					t.Errorf("%v in %d columns: %d in %q", args, columns, n, line)
				}
			}
			said := words(r.out)
			for w := range words(wide.out) {
				if !said[w] && strings.ContainsAny(w, "0123456789") && (columns < 60 || !strings.Contains(r.out, "no room here for: ")) {
					t.Errorf("%v in %d columns does not say %q", args, columns, w)
				}
			}
		}
	}
}
