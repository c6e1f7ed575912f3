package recognise

import (
	"encoding/binary"
	"slices"

	"imbrel.example/imbrel/core/policy"
)

// Hello returns the first bytes that a client sends to the server of a name: a request of HTTP to the ports of http, and otherwise
// a ClientHello of TLS with its server_name (RFC 8446 §4.1.2, RFC 6066 §3).
func Hello(name string, port uint16) []byte {
	if slices.Contains(httpPorts, port) {
		return []byte("GET / HTTP/1.1\r\nHost: " + name + "\r\n\r\n")
	}
	n := len(name)
	b := []byte{tlsHandshake, 3, 1, 0, 0, 1, 0, 0, 0, 3, 3}
	b = append(b, make([]byte, 32)...) // random
	b = append(b, 0)                   // no session
	b = append(b, 0, 2, 0x13, 0x01)    // one cipher suite: TLS_AES_128_GCM_SHA256
	b = append(b, 1, 0)                // no compression
	b = binary.BigEndian.AppendUint16(b, uint16(n+9))
	b = binary.BigEndian.AppendUint16(b, 0) // server_name
	b = binary.BigEndian.AppendUint16(b, uint16(n+5))
	b = binary.BigEndian.AppendUint16(b, uint16(n+3))
	b = append(b, 0)
	b = binary.BigEndian.AppendUint16(b, uint16(n))
	b = append(b, name...)
	binary.BigEndian.PutUint16(b[3:], uint16(len(b)-5))
	b[6], b[7], b[8] = 0, byte((len(b)-9)>>8), byte(len(b)-9)
	return b
}

// httpPorts are those of the catalogue's http.
var httpPorts = func() (out []uint16) {
	for _, a := range policy.Catalogue() {
		if a.Name == "http" {
			for _, r := range a.TCP {
				out = append(out, uint16(r.First))
			}
		}
	}
	return out
}()
