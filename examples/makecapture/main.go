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

	"imbrel/core/codepoint"
	"imbrel/core/packet"
	"imbrel/core/traffic"
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
			seen = append(seen, sighting{at, packet.Flow{From: host(desk), To: server(53), FromPort: port, ToPort: 53, Protocol: packet.UDP}, 0, 72})
			flow := packet.Flow{From: host(desk), To: server(80), FromPort: port, ToPort: 443, Protocol: packet.TCP}
			sent := at + 30_000
			for n := 3 + random.IntN(60); n > 0; n-- { // an upload of some tens of packets
				length := 1500
				if random.IntN(4) == 0 {
					length = 52 + random.IntN(600)
				}
				seen = append(seen, sighting{sent, flow, 0, length})
				sent += 200 + exponential(2500)
			}
		}
	}
	mail := packet.Flow{From: host(23), To: server(25), FromPort: 51000, ToPort: 587, Protocol: packet.TCP}
	for at := int64(8e6); at < 14e6; at += 9_000 {
		seen = append(seen, sighting{at, mail, 0, 1500})
	}
	// The backup client marks itself EF, in the hope of being quicker.
	backup := packet.Flow{From: host(40), To: server(99), FromPort: 52000, ToPort: 873, Protocol: packet.TCP}
	for at := int64(2e6); at < seconds*1e6; at += 6_500 + exponential(1500) {
		seen = append(seen, sighting{at, backup, codepoint.EF, 1500})
	}
	return seen
}
