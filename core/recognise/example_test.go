package recognise_test

import (
	"fmt"
	"net/netip"

	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/recognise"
)

func ExampleRecogniser() {
	r := recognise.New([]policy.App{{Name: "maps", ServerNames: []string{"*.weather.example"}}})
	const request = "GET / HTTP/1.1\r\nHost: maps.weather.example\r\n\r\n"
	var p packet.Packet
	p.Build(make([]byte, packet.HeaderRoom), packet.Flow{From: netip.MustParseAddr("10.1.0.8"), To: netip.MustParseAddr("10.2.0.8"),
		FromPort: 50000, ToPort: 80, Protocol: packet.TCP}, 0, 40+len(request), 0)
	frame := append(p.Bytes, request...)
	if err := p.Parse(frame, len(frame)); err != nil {
		fmt.Println(err)
		return
	}
	r.Watch(0, &p)
	fmt.Println(r.Known(p.Flow).Name, p.Apps)
	// Output: maps.weather.example [1]
}
