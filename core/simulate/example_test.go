package simulate_test

import (
	"fmt"
	"time"

	"imbrel.example/imbrel/core/policyfile"
	"imbrel.example/imbrel/core/simulate"
)

func ExampleRun() {
	file, err := policyfile.Parse("quay.json", []byte(`{"imbrel": 1,
		"classes": [{"name": "voice", "match": [{"to-port": "16384-32767"}]}],
		"policies": [{"name": "wan", "shape": "1.9Mbit/s", "treat": [
			{"class": "voice", "mark": "ef", "priority": 1, "police": {"rate": "20%", "burst": "3kB"}},
			{"class": "rest"}]}],
		"attach": [{"policy": "wan", "at": "quay/wan out"}],
		"network": {
			"nodes": [
				{"name": "quay", "interfaces": [{"name": "lan", "rate": "1Gbit/s", "subnets": ["10.1.0.0/24"]}, {"name": "wan", "rate": "100Mbit/s"}]},
				{"name": "hill", "interfaces": [{"name": "wan", "rate": "100Mbit/s"}, {"name": "lan", "rate": "1Gbit/s", "subnets": ["10.2.0.0/24"]}]}],
			"links": [{"ends": [{"at": "quay/wan", "sends": "2Mbit/s"}, {"at": "hill/wan", "sends": "2Mbit/s"}], "delay": "5ms"}]},
		"rehearsals": [{"name": "busy", "lasts": "10s",
			"traffic": [
				{"name": "call", "calls": 1, "codec": "g711", "between": ["10.1.0.7", "10.2.0.9"]},
				{"name": "backup", "rate": "5Mbit/s", "packet": "1500B", "from": "10.1.0.8", "to": "10.2.0.8"}],
			"expect": ["call mos >= 4.3", "backup loss <= 1%"]}]}`), time.LoadLocation)
	if err != nil {
		fmt.Println(err)
		return
	}
	result, err := simulate.Run(file, &file.Rehearsals[0], simulate.Options{Seed: 1})
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, e := range result.Expectations {
		fmt.Printf("%s: %.2f, holds: %t\n", e.Text, *e.Measured, e.Holds)
	}
	fmt.Println(result.Verdict)
	// Output:
	// call mos >= 4.3: 4.41, holds: true
	// backup loss <= 1%: 64.50, holds: false
	// fail
}
