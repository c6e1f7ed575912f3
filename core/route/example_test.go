package route_test

import (
	"fmt"
	"net/netip"
	"time"

	"imbrel.example/imbrel/core/policyfile"
	"imbrel.example/imbrel/core/route"
)

func ExampleTable_Route() {
	file, err := policyfile.Parse("quay.json", []byte(`{"imbrel": 1,
		"network": {
			"nodes": [
				{"name": "quay", "interfaces": [{"name": "lan", "rate": "1Gbit/s", "subnets": ["10.1.0.0/24"]}, {"name": "wan", "rate": "100Mbit/s"}]},
				{"name": "hill", "interfaces": [{"name": "wan", "rate": "100Mbit/s"}, {"name": "lan", "rate": "1Gbit/s", "subnets": ["10.2.0.0/24"]}]}],
			"links": [{"ends": [{"at": "quay/wan", "sends": "2Mbit/s"}, {"at": "hill/wan", "sends": "2Mbit/s"}], "delay": "5ms"}]}}`), time.LoadLocation)
	if err != nil {
		fmt.Println(err)
		return
	}
	table := route.New(file)
	hops, err := table.Route(table.Where(netip.MustParseAddr("10.1.0.7")), table.Where(netip.MustParseAddr("10.2.0.9")), route.Key{})
	for _, hop := range hops {
		fmt.Println("in by", hop.In.Path(), "and out by", hop.Out.Path())
	}
	fmt.Println(err)
	// Output:
	// in by quay/lan and out by quay/wan
	// in by hill/wan and out by hill/lan
	// <nil>
}
