package humanize_test

import (
	"fmt"

	"imbrel.example/imbrel/core/humanize"
)

func Example() {
	fmt.Println(humanize.Rate(571_200), humanize.Milliseconds(4.594), humanize.Ratio(0.00034), humanize.Plural(9000, "packet"))
	fmt.Println(humanize.Decided(150_004_000, 150e6, "bit/s"), "is above", humanize.Rate(150e6))
	// Output:
	// 571 kbit/s 4.59 ms 0.03 % 9,000 packets
	// 150.004 Mbit/s is above 150 Mbit/s
}
