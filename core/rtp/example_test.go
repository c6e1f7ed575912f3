package rtp_test

import (
	"fmt"

	"imbrel.example/imbrel/core/rtp"
)

// A receiver that misses one packet of four reports it.
func ExampleReceiver() {
	var r rtp.Receiver
	for _, n := range []uint16{1, 2, 4} {
		r.Take(&rtp.Header{Sequence: n, Timestamp: uint32(n) * 160, Source: 7}, uint32(n)*160+80)
	}
	b := r.Block(rtp.Time(0))
	fmt.Println(b.Lost, "lost, the highest number is", b.Highest, "and the jitter", b.Jitter)
	// Output: 1 lost, the highest number is 4 and the jitter 0
}
