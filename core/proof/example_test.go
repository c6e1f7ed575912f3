package proof_test

import (
	"fmt"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/proof"
)

// A stream that got 3 % less than was rehearsed differs.
func ExampleCompare() {
	met := func(bps int64) *measure.Result {
		return &measure.Result{Rehearsal: "busy", Traffic: []measure.Row{{Name: "radar", Direction: "forward", TrafficFigures: measure.TrafficFigures{SentPackets: 9000, ReceivedPackets: 9000, RateBps: bps}}}}
	}
	for _, f := range proof.Compare(met(2_000_000), met(1_940_000)).Figures {
		fmt.Println(f.Name, f.Metric, f.Word)
	}
	// Output:
	// radar rate differs
	// radar loss agrees
}
