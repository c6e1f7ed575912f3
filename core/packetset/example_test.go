package packetset_test

import (
	"fmt"
	"time"

	"imbrel.example/imbrel/core/packetset"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policyfile"
)

// What an entry takes that no entry before it does.
func Example() {
	f, err := policyfile.Parse("office", []byte(`{"imbrel": 1,
		"classes": [{"name": "web", "match": [{"to-port": "0-1023"}]}, {"name": "mail", "match": [{"to-port": [25, 587]}]}, {"name": "pop", "match": [{"to-port": 110}]}],
		"policies": [{"name": "up", "treat": [{"class": "web"}, {"class": "mail"}, {"class": "pop"}]}],
		"attach": [{"policy": "up", "at": "office/wan out"}],
		"network": {"nodes": [{"name": "office", "interfaces": [{"name": "wan", "rate": "10Mbit/s", "subnets": "10.1.0.0/16"}]}]}}`), time.LoadLocation)
	if err != nil {
		fmt.Println(err)
		return
	}
	s := packetset.New(f)
	for _, l := range s.Entries(0, plan.Attached(&f.Attach[0]), nil) {
		box, some := s.Search().In(&l)
		if packet, _ := s.Example(box); some {
			fmt.Println(l.Entry.Name+":", packet)
		} else {
			fmt.Println(l.Entry.Name + ": nothing")
		}
	}
	// Output:
	// web: udp, to port 0
	// mail: nothing
	// pop: nothing
	// rest: udp, to port 40000
}
