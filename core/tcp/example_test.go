package tcp_test

import (
	"fmt"
	"time"

	"imbrel.example/imbrel/core/tcp"
)

// Two ends exchange segments over a path of 10 ms each way on which nothing is lost.
func Example() {
	c := tcp.Config{MSS: 1460, ReceiveWindow: tcp.DefaultWindow, InitialWindow: tcp.DefaultInitialWindow}
	client, server := tcp.NewEnd(c), tcp.NewEnd(c)
	client.Open()
	client.Write(100_000)
	client.Close()
	server.Close()
	ends := []*tcp.End{client, server}
	now := time.Duration(0)
	for trip := 1; !client.Finished() || !server.Finished(); trip++ {
		var sent [2][]tcp.Segment
		for i, e := range ends {
			for s, ok := e.Next(now); ok; s, ok = e.Next(now) {
				sent[i] = append(sent[i], s)
			}
		}
		now += 10 * time.Millisecond
		for i, e := range ends {
			for k := range sent[1-i] {
				e.Receive(now, &sent[1-i][k])
			}
		}
	}
	fmt.Println(server.Received(), "bytes in", client.Segments, "segments,", client.Resent, "sent again")
	// Output: 100000 bytes in 70 segments, 0 sent again
}
