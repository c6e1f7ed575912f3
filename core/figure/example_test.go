package figure_test

import (
	"fmt"

	"imbrel/core/figure"
)

func Example() {
	fmt.Println(figure.Rate(571_200), figure.Milliseconds(4.594), figure.Ratio(0.00034), figure.Plural(9000, "packet"))
	fmt.Println(figure.Decided(150_004_000, 150e6, "bit/s"), "is above", figure.Rate(150e6))
	// Output:
	// 571 kbit/s 4.59 ms 0.03 % 9,000 packets
	// 150.004 Mbit/s is above 150 Mbit/s
}
