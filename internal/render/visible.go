package render

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Visible returns a text with everything in it that a terminal acts on, or that changes
// how the text around it reads, made visible: control characters and escapes, marks of
// direction, characters without width, and bytes that are no text. All that comes from a
// file, a capture, an argument or the network is shown through it.
func Visible(s string) string {
	if strings.IndexFunc(s, hidden) < 0 && utf8.ValidString(s) {
		return s
	}
	var b strings.Builder
	for len(s) > 0 {
		r, n := utf8.DecodeRuneInString(s)
		switch {
		case r == utf8.RuneError && n == 1:
			fmt.Fprintf(&b, `\x%02x`, s[0])
		case !hidden(r):
			b.WriteRune(r)
		case r < 0x100:
			fmt.Fprintf(&b, `\x%02x`, r)
		case r < 0x10000:
			fmt.Fprintf(&b, `\u%04x`, r)
		default:
			fmt.Fprintf(&b, `\U%08x`, r)
		}
		s = s[n:]
	}
	return b.String()
}

// hidden reports whether a character is one that Visible shows.
func hidden(r rune) bool {
	if ' ' <= r && r <= '~' {
		return false
	}
	return unicode.In(r, unicode.Cc, unicode.Cf, unicode.Zl, unicode.Zp, unicode.Co, unicode.Cs)
}

// painted is text with colours of our own: the rest of it is visible.
type painted string

// shown returns a value as it is printed.
func shown(v any) any {
	switch v := v.(type) {
	case painted:
		return string(v)
	case string:
		return Visible(v)
	case error:
		return Visible(v.Error())
	case fmt.Stringer:
		return Visible(v.String())
	}
	return v
}
