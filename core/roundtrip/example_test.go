package roundtrip_test

import (
	"fmt"
	"time"

	"imbrel.example/imbrel/core/codec"
	"imbrel.example/imbrel/core/roundtrip"
)

// Fifty packets of a call, each 10 ms on the way there and 30 ms on the way back, to a far end whose
// clock is an hour ahead.
func ExampleJudge() {
	var packets []roundtrip.Packet
	for n := range int64(50) {
		sent := time.Duration(n) * 20 * time.Millisecond
		came := sent + 10*time.Millisecond + time.Hour
		packets = append(packets, roundtrip.Packet{Sent: sent, Returned: true, Came: came, Left: came, Back: sent + 40*time.Millisecond, Number: n})
	}
	g711, _ := codec.ByName("g711")
	call := roundtrip.Judge(g711, 40*time.Millisecond, packets, roundtrip.Offset(packets, false), 0)
	fmt.Printf("round trip %.0f ms, half of it %.0f ms, MOS %.2f\n", call.RoundTrip.P50, call.There.Delay.Mean, *call.There.MOS)
	// Output: round trip 40 ms, half of it 20 ms, MOS 4.41
}
