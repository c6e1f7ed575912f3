package cli_test

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"

	"imbrel.example/imbrel/core/explain"
	"imbrel.example/imbrel/core/measure"
)

// marksIn reads a pcapng file with an independent library and counts packets by
// destination port and ToS byte; every header checksum must be right.
func marksIn(t *testing.T, path string) map[[2]int]int {
	t.Helper()
	f, err := os.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	r, err := pcapgo.NewNgReader(f, pcapgo.DefaultNgReaderOptions)
	if err != nil {
		t.Fatalf("%s: %v", path, err)
	}
	counts := make(map[[2]int]int)
	for {
		data, _, err := r.ReadPacketData()
		if errors.Is(err, io.EOF) {
			return counts
		}
		if err != nil {
			t.Fatalf("%s: %v", path, err)
		}
		p := gopacket.NewPacket(data, layers.LayerTypeEthernet, gopacket.Default)
		tos := -1
		switch ip := p.NetworkLayer().(type) {
		case *layers.IPv4:
			tos = int(ip.TOS)
			if sum(ip.Contents) != 0xffff {
				t.Errorf("%s: wrong header checksum in %x", path, ip.Contents)
			}
		case *layers.IPv6:
			tos = int(ip.TrafficClass)
		}
		port := 0
		switch l4 := p.TransportLayer().(type) {
		case *layers.UDP:
			port = int(l4.DstPort)
		case *layers.TCP:
			port = int(l4.DstPort)
		}
		counts[[2]int{port, tos}]++
	}
}

func sum(b []byte) (s uint32) {
	for i := 0; i+1 < len(b); i += 2 {
		s += uint32(binary.BigEndian.Uint16(b[i:]))
	}
	for s > 0xffff {
		s = s&0xffff + s>>16
	}
	return s
}

const marking = `imbrel: 1
classes:
  - {name: media, match: [{to-port: [23456, 23457], protocol: udp}]}
  - {name: radar, match: [{to-port: 7400}]}
policies:
  - name: mark
    treat: [{class: media, mark: ef, priority: 1}, {class: radar, mark: cs4}, {class: rest, mark: af12}]
attach: [{policy: mark, at: a/wan out}]
network:
  nodes:
    - name: a
      interfaces: [{name: lan, rate: 1Gbit/s, subnets: [10.61.8.0/24, "fd61:8::/64"]}, {name: wan, rate: 100Mbit/s}]
    - name: b
      interfaces: [{name: wan, rate: 100Mbit/s}, {name: lan, rate: 1Gbit/s, subnets: [10.61.64.0/24, "fd61:64::/64"]}]
  links: [{ends: [{at: a/wan}, {at: b/wan}], delay: 1ms}]
rehearsals:
  - name: replay
    lasts: 20s
    traffic: [{name: site, capture: "CAPTURE", enters: a/lan}]
`

// siteCaptures returns the captures of real traffic that the project has: plain, with
// a VLAN tag and under labels; as pcapng; and with every packet cut to 96 bytes.
func siteCaptures(t *testing.T) []string {
	t.Helper()
	paths, _ := filepath.Glob(filepath.Join("testdata", "site*.pcap"))
	if len(paths) != 3 {
		t.Fatalf("captures %v; want three", paths)
	}
	for i := range paths {
		paths[i], _ = filepath.Abs(paths[i])
	}
	in, err := os.Open(filepath.Join("testdata", "site.pcap"))
	if err != nil {
		t.Fatal(err)
	}
	defer in.Close()
	r, err := pcapgo.NewReader(in)
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	ng, cut := new(bytes.Buffer), new(bytes.Buffer)
	w, err := pcapgo.NewNgWriter(ng, layers.LinkTypeEthernet)
	if err != nil {
		t.Fatal(err)
	}
	short := pcapgo.NewWriter(cut)
	if err := short.WriteFileHeader(96, layers.LinkTypeEthernet); err != nil {
		t.Fatal(err)
	}
	for {
		data, info, err := r.ReadPacketData()
		if errors.Is(err, io.EOF) {
			break
		}
		if err == nil {
			info.InterfaceIndex = 0
			err = w.WritePacket(info, data)
		}
		if info.CaptureLength = min(info.CaptureLength, 96); err == nil {
			err = short.WritePacket(info, data[:info.CaptureLength])
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Flush(); err != nil {
		t.Fatal(err)
	}
	return append(paths, put(t, dir, "site.pcapng", ng.String()), put(t, dir, "site-snap96.pcap", cut.String()))
}

// A real capture goes in and comes out marked.
func TestARealCaptureComesOutMarked(t *testing.T) {
	t.Parallel()
	for _, source := range siteCaptures(t) {
		name, dir := filepath.Base(source), t.TempDir()
		put(t, dir, "p.yaml", strings.Replace(marking, "CAPTURE", source, 1))
		r := imbrel(t, dir, "", nil, "rehearse", "p.yaml", "--capture-out", "out")
		if r.status != 0 {
			t.Fatalf("%s: exit %d: %s", name, r.status, r.err)
		}
		if !strings.Contains(r.out, "packets were sent") || !strings.Contains(r.out, "travelling the other way") {
			t.Errorf("%s: does not say what of the capture was sent:\n%s", name, r.out)
		}
		before, after := marksIn(t, filepath.Join(dir, "out", "a", "lan-in.pcapng")), marksIn(t, filepath.Join(dir, "out", "a", "wan-out.pcapng"))
		media, marked := 0, 0
		for k, n := range before {
			if k[0] == 23456 {
				media += n
			}
		}
		for k, n := range after {
			switch k[1] >> 2 {
			case 46:
				if k[0] != 23456 && k[0] != 23457 {
					t.Errorf("%s: %d packets to port %d left as EF", name, n, k[0])
				}
				if k[0] == 23456 {
					marked += n
				}
			case 32:
				if k[0] != 7400 && k[0] != 0 { // the library reads no ports of fragments
					t.Errorf("%s: %d packets to port %d left as CS4", name, n, k[0])
				}
			case 12:
			default:
				t.Errorf("%s: %d packets to port %d left with ToS 0x%02x", name, n, k[0], k[1])
			}
		}
		t.Logf("%s: %d media packets in, %d out as EF", name, media, marked)
		if media < 14 || marked != media {
			t.Errorf("%s: %d media packets went in, %d came out as EF", name, media, marked)
		}
		if again := imbrel(t, dir, "", nil, "rehearse", "p.yaml", "--capture-out", "out"); again.status != 2 || !strings.Contains(again.err, "already exists") {
			t.Errorf("writing over captures: exit %d, %s", again.status, again.err)
		}
	}
}

func TestTheDemosCaptureComesOutMarked(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	imbrel(t, dir, "", nil, "demo", "--write", ".")
	if r := imbrel(t, dir, "", nil, "rehearse", "ternrock.yaml", "--capture-out", "seen"); r.status != 0 {
		t.Fatalf("exit %d: %s", r.status, r.err)
	}
	untrusted := [2]int{873, 46 << 2} // a PC that marks itself EF
	if n := marksIn(t, filepath.Join(dir, "seen", "ternrock", "lan-in.pcapng"))[untrusted]; n == 0 {
		t.Error("the office capture has no packet that marks itself EF")
	}
	for k, n := range marksIn(t, filepath.Join(dir, "seen", "ternrock", "radio-out.pcapng")) {
		if ef := k[1] == 46<<2; ef != (k[0] >= 16384 && k[0] < 32768) {
			t.Errorf("%d packets to port %d left with ToS 0x%02x", n, k[0], k[1])
		}
	}
}

// A replay classifies as `explain --capture` does: names that were said in the other
// direction, fragments and all.
func TestAReplayClassifiesAsExplained(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	put(t, dir, "site.yaml", example(t, "site-wan.yaml"))
	for _, source := range siteCaptures(t) {
		name := filepath.Base(source)
		put(t, dir, "replay.yaml", readFile(t, dir, "site.yaml")+"rehearsals:\n  - {name: r, lasts: 60s, traffic: [{name: site, capture: "+source+", enters: a/lan}]}\n")
		r := imbrel(t, dir, "", nil, "explain", "site.yaml", "--capture", source, "-o", "json")
		var said explain.CaptureResult
		if err := json.Unmarshal([]byte(r.out), &said); err != nil {
			t.Fatal(name, err, r.err)
		}
		r = imbrel(t, dir, "", nil, "rehearse", "replay.yaml", "-o", "json")
		var did measure.Result
		if err := json.Unmarshal([]byte(r.out), &did); err != nil {
			t.Fatal(name, err, r.err)
		}
		want := make(map[string]int64)
		for _, c := range said.Classes {
			if c.Interface == "a/wan" {
				want[c.Class] = c.Packets
			}
		}
		classes := 0
		for _, f := range did.Interfaces {
			for _, c := range f.Classes {
				if f.Node != "a" || f.PolicyAt == "" {
					continue
				}
				classes++
				if int64(c.OfferedPackets) != want[c.Class] {
					t.Errorf("%s: %d packets of %s were rehearsed, %d explained", name, c.OfferedPackets, c.Class, want[c.Class])
				}
			}
		}
		if classes < 8 {
			t.Errorf("%s: only %d classes", name, classes)
		}
	}
}

// A capture with a wild time, a frame of another kind of link and more than the rehearsal
// plays: each is counted and said, and nothing else is lost.
func TestWhatOfACaptureIsNotSent(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	frame := udpFrame([4]byte{10, 1, 0, 5}, [4]byte{10, 2, 0, 5}, 5000, 6000, make([]byte, 100))
	var frames [][]byte
	for range 80 { // of eight seconds
		frames = append(frames, frame)
	}
	data := []byte(pcap(frames...))
	for i := range 80 { // the eleventh is of another century
		if at := 24 + i*(16+len(frame)); i == 10 {
			binary.LittleEndian.PutUint32(data[at:], 4_000_000_000)
		}
	}
	put(t, dir, "c.pcap", string(data))
	text := strings.Replace(crossingWith(bothEnds, "7.6Mbit/s", anyVoice), "{name: up, rate: 12Mbit/s, packet: 1500B, from: 10.1.0.9, to: 10.2.0.9}", "{name: up, capture: c.pcap, enters: west/lan}", 1)
	put(t, dir, "p.yaml", text)
	r := imbrel(t, dir, "", nil, "rehearse", "p.yaml", "-o", "json")
	var res measure.Result
	if err := json.Unmarshal([]byte(r.out), &res); err != nil {
		t.Fatalf("%v: %s", err, r.err)
	}
	c := res.Captures[0]
	if c.Replayed < 39 || c.Replayed > 42 || c.Wild != 2 || c.NotRead < 0.4 || c.NotRead > 0.6 {
		t.Errorf("of 80 packets in 8 s, 4 s of which are rehearsed: %+v", c)
	}
	text = imbrel(t, dir, "", nil, "rehearse", "p.yaml").out
	for _, want := range []string{"more than a day away: 2.", "of the file was not read"} {
		if !strings.Contains(text, want) {
			t.Errorf("the text does not say %q", want)
		}
	}
}
