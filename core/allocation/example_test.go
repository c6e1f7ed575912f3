package allocation_test

import (
	"fmt"
	"time"

	"imbrel.example/imbrel/core/allocation"
	"imbrel.example/imbrel/core/codec"
	"imbrel.example/imbrel/core/policyfile"
	"imbrel.example/imbrel/core/unit"
)

func ExampleCompute() {
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
			"links": [{"ends": [{"at": "quay/wan", "sends": "2Mbit/s"}, {"at": "hill/wan", "sends": "2Mbit/s"}], "delay": "5ms"}]}}`), time.LoadLocation)
	if err != nil {
		fmt.Println(err)
		return
	}
	calls, _ := codec.ByName("g711")
	result, err := allocation.Compute(file, []allocation.Wish{{Class: "voice", Rate: 100 * unit.KbitPerSecond}, {Class: "rest", All: true}}, calls, nil)
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, c := range result.Interfaces[0].Classes {
		fmt.Printf("%s: %d when all are busy, %d now, %d calls\n", c.Class, c.AllBusy, c.Gets, c.Calls)
	}
	// Output:
	// voice: 380000 when all are busy, 100000 now, 3 calls
	// rest: 1520000 when all are busy, 1800000 now, 15 calls
}
