// Command makecapture writes the capture of office traffic that the demo
// replays: made-up hosts at Ternrock that browse, look up names, mail and back
// up, one of which marks its packets EF without being a phone. It is the same
// capture every time.
package main

import (
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"os"
	"sort"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/traffic"
)

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "usage: makecapture FILE")
		os.Exit(2)
	}
	if err := os.WriteFile(os.Args[1], capture(), 0o666); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// A sighting is one packet at one time, in microseconds.
type sighting struct {
	at     int64
	flow   packet.Flow
	dscp   codepoint.DSCP
	length int
	seq    uint32 // of TCP
	flags  byte
}

// The flags of a TCP segment that are set here (RFC 9293 §3.1).
const (
	fin = 0x01
	syn = 0x02
	psh = 0x08
	ack = 0x10
)

// A sender is the sending end of a TCP conversation.
type sender struct {
	flow packet.Flow
	dscp codepoint.DSCP
	seq  uint32
}

// send returns a segment with so many bytes of data.
func (s *sender) send(at int64, data int, flags byte) sighting {
	out := sighting{at, s.flow, s.dscp, packet.IPv4Header + 20 + data, s.seq, flags}
	s.seq += uint32(data)
	if flags&(syn|fin) != 0 {
		s.seq++
	}
	return out
}

const seconds = 30

// capture returns a classic pcap file with every packet cut to its headers.
func capture() []byte {
	random := rand.New(rand.NewPCG(44, 10))
	seen := office(random)
	sort.SliceStable(seen, func(a, b int) bool { return seen[a].at < seen[b].at })
	file := binary.LittleEndian.AppendUint32(nil, 0xa1b2c3d4)
	file = binary.LittleEndian.AppendUint16(file, 2)
	file = binary.LittleEndian.AppendUint16(file, 4)
	file = append(file, make([]byte, 8)...)
	file = binary.LittleEndian.AppendUint32(file, 96)
	file = binary.LittleEndian.AppendUint32(file, 1) // Ethernet
	const epoch = 1_700_000_000
	for _, s := range seen {
		var p packet.Packet
		p.Build(make([]byte, packet.HeaderRoom), s.flow, s.dscp, s.length, 0)
		if s.flow.Protocol == packet.TCP {
			h := p.Transport()
			binary.BigEndian.PutUint32(h[4:], s.seq)
			h[13] = s.flags
			p.Seal()
		}
		for _, v := range []uint32{uint32(epoch + s.at/1e6), uint32(s.at % 1e6), uint32(len(p.Bytes)), uint32(p.WireLength())} {
			file = binary.LittleEndian.AppendUint32(file, v)
		}
		file = append(file, p.Bytes...)
	}
	return file
}

// office makes the traffic of nine desks for half a minute.
func office(random *rand.Rand) []sighting {
	var seen []sighting
	host := func(last byte) netip.Addr { return netip.AddrFrom4([4]byte{10, 44, 10, last}) }
	server := func(last byte) netip.Addr { return netip.AddrFrom4([4]byte{10, 44, 64, last}) }
	exponential := func(mean float64) int64 { return int64(mean * traffic.Exponential(random)) }
	for desk := byte(20); desk < 29; desk++ {
		for at := exponential(1e6); at < seconds*1e6; at += exponential(1.2e6) {
			port := uint16(40000 + random.IntN(20000))
			seen = append(seen, sighting{at: at, flow: packet.Flow{From: host(desk), To: server(53), FromPort: port, ToPort: 53, Protocol: packet.UDP}, length: 72})
			upload := sender{flow: packet.Flow{From: host(desk), To: server(80), FromPort: port, ToPort: 443, Protocol: packet.TCP}, seq: random.Uint32()}
			seen = append(seen, upload.send(at+10_000, 0, syn), upload.send(at+20_000, 0, ack))
			sent := at + 30_000
			for n := 3 + random.IntN(60); n > 0; n-- { // an upload of some tens of packets
				data := 1460
				if random.IntN(4) == 0 {
					data = 12 + random.IntN(600)
				}
				seen = append(seen, upload.send(sent, data, ack|psh))
				sent += 200 + exponential(2500)
			}
			seen = append(seen, upload.send(sent, 0, fin|ack))
		}
	}
	mail := sender{flow: packet.Flow{From: host(23), To: server(25), FromPort: 51000, ToPort: 587, Protocol: packet.TCP}}
	for at := int64(8e6); at < 14e6; at += 9_000 {
		seen = append(seen, mail.send(at, 1460, ack))
	}
	// The backup client marks itself EF, in the hope of being quicker.
	backup := sender{flow: packet.Flow{From: host(40), To: server(99), FromPort: 52000, ToPort: 873, Protocol: packet.TCP}, dscp: codepoint.EF}
	for at := int64(2e6); at < seconds*1e6; at += 6_500 + exponential(1500) {
		seen = append(seen, backup.send(at, 1460, ack))
	}
	return seen
}
