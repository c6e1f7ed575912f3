package capture

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"
)

// drawn are random frames, a few milliseconds apart.
func drawn(r *rand.Rand, n int) (frames [][]byte, infos []gopacket.CaptureInfo) {
	at := time.Unix(1_790_000_000, 0)
	for range n {
		frame := make([]byte, 14+r.IntN(1500))
		for i := range frame {
			frame[i] = byte(r.Uint32())
		}
		at = at.Add(time.Duration(r.IntN(5000)) * time.Microsecond)
		frames = append(frames, frame)
		infos = append(infos, gopacket.CaptureInfo{Timestamp: at, CaptureLength: len(frame), Length: len(frame) + r.IntN(3)*100})
	}
	return frames, infos
}

// inPcap and inNg are the frames in a file that an independent library writes.
func inPcap(t *testing.T, frames [][]byte, infos []gopacket.CaptureInfo, nano bool) []byte {
	var b bytes.Buffer
	w := pcapgo.NewWriter(&b)
	if nano {
		w = pcapgo.NewWriterNanos(&b)
	}
	if err := w.WriteFileHeader(65535, layers.LinkTypeEthernet); err != nil {
		t.Fatal(err)
	}
	for i := range frames {
		if err := w.WritePacket(infos[i], frames[i]); err != nil {
			t.Fatal(err)
		}
	}
	return b.Bytes()
}

func inNg(t *testing.T, frames [][]byte, infos []gopacket.CaptureInfo, links ...layers.LinkType) []byte {
	var b bytes.Buffer
	w, err := pcapgo.NewNgWriterInterface(&b, pcapgo.NgInterface{LinkType: links[0], TimestampResolution: 9}, pcapgo.DefaultNgWriterOptions)
	if err != nil {
		t.Fatal(err)
	}
	for _, l := range links[1:] {
		if _, err := w.AddInterface(pcapgo.NgInterface{LinkType: l, TimestampResolution: 6}); err != nil {
			t.Fatal(err)
		}
	}
	for i := range frames {
		infos[i].InterfaceIndex = i % len(links)
		if err := w.WritePacket(infos[i], frames[i]); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Flush(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// swapped turns a little-endian pcap file into a big-endian one.
func swapped(b []byte) []byte {
	b = bytes.Clone(b)
	swap := func(at, n int) { slices.Reverse(b[at : at+n]) }
	for at, n := range map[int]int{0: 4, 4: 2, 6: 2, 8: 4, 12: 4, 16: 4, 20: 4} {
		swap(at, n)
	}
	for at := 24; at < len(b); {
		length := int(binary.LittleEndian.Uint32(b[at+8:]))
		for i := range 4 {
			swap(at+4*i, 4)
		}
		at += 16 + length
	}
	return b
}

// readAll reads a file and returns its frames, lengths and times.
func readAll(t *testing.T, data []byte) (all []string, c *Reader) {
	t.Helper()
	c, err := NewReader("test", bufio.NewReader(bytes.NewReader(data)))
	if err != nil {
		t.Fatal(err)
	}
	for {
		frame, wire, at, ok, err := c.ReadFrame()
		if err != nil {
			t.Fatal(err)
		}
		if !ok {
			return all, c
		}
		all = append(all, fmt.Sprintf("%x %d %v", frame, wire, at.Truncate(time.Microsecond)))
	}
}

// What an independent library writes is read as it was: every kind of file, compressed or
// not, in both byte orders; and with parts of it damaged all frames but those are.
func TestFramesAreReadAsWritten(t *testing.T) {
	r := rand.New(rand.NewPCG(10, 1))
	frames, infos := drawn(r, 300)
	var want []string
	for i := range frames {
		want = append(want, fmt.Sprintf("%x %d %v", frames[i], infos[i].Length, infos[i].Timestamp.Sub(infos[0].Timestamp).Truncate(time.Microsecond)))
	}
	plain := inPcap(t, frames, infos, false)
	var zipped bytes.Buffer
	z := gzip.NewWriter(&zipped)
	_, _ = z.Write(inNg(t, frames, infos, layers.LinkTypeEthernet))
	_ = z.Close()
	for name, data := range map[string][]byte{
		"pcap": plain, "in nanoseconds": inPcap(t, frames, infos, true), "big-endian": swapped(plain), "pcapng": inNg(t, frames, infos, layers.LinkTypeEthernet),
		"two interfaces": inNg(t, frames, infos, layers.LinkTypeEthernet, layers.LinkTypeEthernet), "compressed": zipped.Bytes(),
		"two sections": append(inNg(t, frames[:100], infos[:100], layers.LinkTypeEthernet), inNg(t, frames[100:], infos[100:], layers.LinkTypeEthernet)...),
	} {
		got, c := readAll(t, data)
		if fmt.Sprint(got) != fmt.Sprint(want) || len(c.Skipped()) > 0 {
			t.Errorf("%s: %d of %d frames are as written; %v", name, len(got), len(want), c.Skipped())
		}
	}
	// Raw IP beside Ethernet, and a link that cannot be read, which is counted.
	ip := append([]byte{0x45, 0}, make([]byte, 38)...)
	mixed, c := readAll(t, inNg(t, [][]byte{frames[0], ip, frames[1]}, []gopacket.CaptureInfo{infos[0], {Timestamp: infos[0].Timestamp, CaptureLength: 40, Length: 40}, infos[1]},
		layers.LinkTypeEthernet, layers.LinkTypeRaw, layers.LinkTypeFDDI))
	if len(mixed) != 2 || len(c.Skipped()) != 1 || c.Skipped()[0].Count != 1 {
		t.Errorf("of three links %d frames are read, %v", len(mixed), c.Skipped())
	}
	// Damage: junk between records, or a length that is nonsense.
	for trial := range 200 {
		data := bytes.Clone(plain)
		if trial%2 == 0 {
			data = inNg(t, frames, infos, layers.LinkTypeEthernet)
		}
		at := 200 + r.IntN(len(data)-400)
		junk := make([]byte, 4*(1+r.IntN(10)))
		for i := range junk {
			junk[i] = byte(r.Uint32() | 0x80)
		}
		copy(data[at:], junk)
		c, err := NewReader("test", bufio.NewReader(bytes.NewReader(data)))
		if err != nil {
			t.Fatal(err)
		}
		read := 0
		for {
			_, _, _, ok, err := c.ReadFrame()
			if err != nil || !ok {
				break
			}
			read++
		}
		if read < len(frames)-3 {
			t.Errorf("trial %d: with %d bytes damaged at %d only %d of %d frames are read; %v", trial, len(junk), at, read, len(frames), c.Skipped())
		}
	}
}
