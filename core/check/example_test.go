package check_test

import (
	"fmt"
	"log"
	"time"

	"imbrel.example/imbrel/core/check"
	"imbrel.example/imbrel/core/policyfile"
)

// A priority without a bound, at a port without hosts that anybody could name.
func ExampleFile() {
	f, err := policyfile.Parse("office.json", []byte(`{"imbrel": 1,
		"classes": [{"name": "voice", "match": [{"dscp": "ef"}]}],
		"policies": [{"name": "up", "treat": [{"class": "voice", "priority": 1}, {"class": "rest", "at-least": "10%"}]}],
		"attach": [{"policy": "up", "at": "office/wan out"}],
		"network": {"nodes": [{"name": "office", "interfaces": [
			{"name": "lan", "rate": "1Gbit/s", "subnets": ["10.1.0.0/16"]}, {"name": "wan", "rate": "10Mbit/s", "subnets": ["10.2.0.0/16"]}]}]}}`), time.LoadLocation)
	if err != nil {
		log.Fatal(err)
	}
	for _, finding := range check.File(f, nil) {
		fmt.Println(finding.Level, finding.Name, "in line", finding.At.Line)
		fmt.Println(finding.Text()+":", finding.Fact.Consequence())
	}
	// Output:
	// warning unbounded-priority in line 3
	// at office/wan out, the priority of `voice` has no bound: it can take all of 10.0 Mbit/s, and then no promise to the others is kept
}
