package capture

import (
	"bytes"
	"testing"

	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/examples"
)

// A capture file ends, whatever it holds, and what it yields can be parsed.
func FuzzCapture(f *testing.F) {
	data, err := examples.FS.ReadFile("ternrock-office.pcap")
	if err != nil {
		f.Fatal(err)
	}
	f.Add(data[:600])
	f.Add(data[:23])
	f.Add([]byte("\x0a\x0d\x0d\x0a\x1c\x00\x00\x00\x4d\x3c\x2b\x1a\x01\x00\x00\x00\xff\xff\xff\xff\xff\xff\xff\xff\x1c\x00\x00\x00" +
		"\x01\x00\x00\x00\x14\x00\x00\x00\x01\x00\x00\x00\x00\x00\x00\x00\x14\x00\x00\x00"))
	for _, link := range []byte{0, 12, 101, 113} {
		d := bytes.Clone(data[:400])
		d[20] = link
		f.Add(d)
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		c, err := NewReader("fuzz", bytes.NewReader(data))
		if err != nil {
			return
		}
		for n := 0; ; n++ {
			frame, wire, _, ok, err := c.ReadFrame()
			if err != nil || !ok {
				return
			}
			if n > len(data) {
				t.Fatalf("%d packets in a file of %d bytes", n, len(data))
			}
			var p packet.Packet
			_ = p.Parse(frame, wire)
		}
	})
}
