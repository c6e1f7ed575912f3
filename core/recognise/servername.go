package recognise

import (
	"bytes"
	"encoding/binary"
	"strings"
)

// tlsHandshake is the type of a TLS record with a handshake message (RFC 8446 §5.1).
const tlsHandshake = 22

// looksLikeAStart reports whether a client could begin like this: a TLS
// handshake record, or an HTTP request.
func looksLikeAStart(b []byte) bool {
	if b[0] == tlsHandshake {
		return len(b) < 2 || b[1] == 3
	}
	return b[0] >= 'A' && b[0] <= 'Z'
}

// serverName finds the server name in the first bytes that a client sent: of a
// TLS ClientHello (RFC 8446 §4.1.2, RFC 6066 §3) or of an HTTP request. more
// says that further bytes may still tell.
func serverName(b []byte) (name string, more bool) {
	if b[0] == tlsHandshake {
		hello, whole := handshake(b)
		name := helloName(hello)
		return name, name == "" && !whole
	}
	return httpHost(b)
}

// handshake joins the fragments of the first handshake message from its TLS
// records, and reports whether it is whole, or will never be.
func handshake(b []byte) (message []byte, whole bool) {
	for len(b) >= 5 {
		if b[0] != tlsHandshake || b[1] != 3 {
			return message, true
		}
		n := int(binary.BigEndian.Uint16(b[3:]))
		b = b[5:]
		if n == 0 {
			return message, true
		}
		part := b[:min(n, len(b))]
		if message == nil && n <= len(b) {
			message = part // commonly all in one record
		} else {
			message = append(message[:len(message):len(message)], part...)
		}
		b = b[len(part):]
		if len(message) >= 4 {
			if message[0] != 1 { // no ClientHello
				return nil, true
			}
			if size := int(message[1])<<16 | int(message[2])<<8 | int(message[3]); len(message) >= 4+size {
				return message, true
			}
		}
	}
	return message, false
}

// helloName reads the server_name extension of as much of a ClientHello as is
// there.
func helloName(b []byte) string {
	const fixed = 4 + 2 + 32 // header, version, random
	if len(b) < fixed+1 {
		return ""
	}
	b = b[fixed:]
	skip := func(lengthBytes int) bool {
		if len(b) < lengthBytes {
			return false
		}
		n := int(b[0])
		if lengthBytes == 2 {
			n = int(binary.BigEndian.Uint16(b))
		}
		if len(b) < lengthBytes+n {
			return false
		}
		b = b[lengthBytes+n:]
		return true
	}
	// session identifier, cipher suites, compression methods
	if !skip(1) || !skip(2) || !skip(1) || len(b) < 2 {
		return ""
	}
	b = b[2:] // the length of all extensions; they may be cut
	for len(b) >= 4 {
		kind, n := binary.BigEndian.Uint16(b), int(binary.BigEndian.Uint16(b[2:]))
		b = b[4:]
		if len(b) < n {
			return ""
		}
		if kind == 0 && n >= 5 && b[2] == 0 { // a list of one host_name
			if size := int(binary.BigEndian.Uint16(b[3:])); size <= n-5 {
				return cleanName(b[5 : 5+size])
			}
		}
		b = b[n:]
	}
	return ""
}

// cleanName returns a name in lower case without a port, or "" when it cannot
// be one.
func cleanName(b []byte) string {
	s := strings.ToLower(string(b))
	if i := strings.LastIndexByte(s, ':'); i >= 0 && !strings.Contains(s[:i], ":") {
		s = s[:i]
	}
	s = strings.TrimSuffix(s, ".")
	if s == "" || len(s) > 253 {
		return ""
	}
	for _, c := range s {
		if !(c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || c == '-' || c == '_' || c == '.' || c == ':' || c == '[' || c == ']') {
			return ""
		}
	}
	return s
}

// httpHost reads the Host of an HTTP/1 request (RFC 9112 §3.2).
func httpHost(b []byte) (name string, more bool) {
	line, rest, found := bytes.Cut(b, []byte("\r\n"))
	if !found {
		return "", len(b) < 8192 && plausibleRequest(b)
	}
	if !bytes.Contains(line, []byte(" HTTP/1.")) {
		return "", false
	}
	for {
		line, after, found := bytes.Cut(rest, []byte("\r\n"))
		if !found {
			return "", true
		}
		if len(line) == 0 {
			return "", false // the end of the header
		}
		if field, value, ok := bytes.Cut(line, []byte(":")); ok && strings.EqualFold(string(field), "host") {
			return cleanName(bytes.TrimSpace(value)), false
		}
		rest = after
	}
}

// plausibleRequest reports whether bytes begin with a method.
func plausibleRequest(b []byte) bool {
	for i, c := range b[:min(len(b), 16)] {
		if c == ' ' && i > 0 {
			return true
		}
		if c < 'A' || c > 'Z' {
			return false
		}
	}
	return len(b) < 16
}
