package traffic_test

import (
	"fmt"
	"net/netip"
	"time"

	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/traffic"
	"imbrel.example/imbrel/core/unit"
)

func ExampleStream() {
	stream := traffic.Stream{Rate: 12 * unit.MbitPerSecond, Length: 1500, End: 3 * time.Millisecond,
		Flow: packet.Flow{From: netip.MustParseAddr("10.1.0.8"), To: netip.MustParseAddr("10.2.0.8"), Protocol: packet.UDP, ToPort: 5000}}
	var p packet.Packet
	room := make([]byte, packet.HeaderRoom)
	for {
		at, ok, err := stream.Next(&p, room)
		if !ok || err != nil {
			break
		}
		fmt.Println(at, p.Length, p.Flow.To)
	}
	// Output:
	// 0s 1500 10.2.0.8
	// 1ms 1500 10.2.0.8
	// 2ms 1500 10.2.0.8
}
