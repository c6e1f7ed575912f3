package explain_test

import (
	"fmt"
	"net/netip"
	"time"

	"imbrel.example/imbrel/core/explain"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policyfile"
)

func ExampleFollower_Ask() {
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
	answer, err := explain.New(file).Ask(explain.Question{Length: 200, Flow: packet.Flow{
		From: netip.MustParseAddr("10.1.0.7"), To: netip.MustParseAddr("10.2.0.9"), Protocol: packet.UDP, FromPort: 20000, ToPort: 20000}})
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, h := range answer.Hops {
		if h.Policy != "" {
			fmt.Printf("%s/%s %s: class %s, line %d; %s in, %s out\n", h.Node, h.Interface, h.Direction, h.Class, h.Line, h.MarksIn.DSCP, h.MarksOut.DSCP)
		}
	}
	fmt.Println("arrives as", answer.Arrives.DSCP)
	// Output:
	// quay/wan out: class voice, line 4; df in, ef out
	// arrives as ef
}
