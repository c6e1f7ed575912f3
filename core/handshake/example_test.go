package handshake_test

import (
	"fmt"
	"net/netip"
	"time"

	"imbrel.example/imbrel/core/handshake"
)

// A far end knows its cookie again, and gives every address another one.
func ExampleBaker() {
	baker := handshake.NewBaker([32]byte{1, 2, 3})
	peer, other := netip.MustParseAddr("192.0.2.1"), netip.MustParseAddr("192.0.2.2")
	now := time.Unix(1_800_000_000, 0)
	cookie := baker.Bake(peer, now)
	fmt.Println(baker.Knows(cookie, peer, now.Add(10*time.Minute)), baker.Knows(cookie, other, now))
	// Output: true false
}
