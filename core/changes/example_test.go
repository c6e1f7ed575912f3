package changes_test

import (
	"fmt"
	"time"

	"imbrel.example/imbrel/core/changes"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/policyfile"
)

func read(ports string) *policy.File {
	f, err := policyfile.Parse("office", []byte(`{"imbrel": 1,
		"classes": [{"name": "mail", "match": [{"to-port": `+ports+`, "protocol": "tcp"}]}],
		"policies": [{"name": "up", "treat": [{"class": "mail", "at-least": "20%"}, {"class": "rest"}]}],
		"attach": [{"policy": "up", "at": "office/wan out"}],
		"network": {"nodes": [{"name": "office", "interfaces": [{"name": "wan", "rate": "10Mbit/s", "subnets": "10.1.0.0/16"}]}]}}`), time.LoadLocation)
	if err != nil {
		panic(err)
	}
	return f
}

// What an edit changes in meaning.
func Example() {
	r := changes.Between(changes.Checked{File: read("[25, 587]")}, changes.Checked{File: read("[25, 465]")})
	for _, m := range r.Interfaces[0].Packets {
		fmt.Printf("%s → %s, for example %s\n", m.From, m.To, m.Example)
	}
	fmt.Println(changes.Between(changes.Checked{File: read("[25, 587]")}, changes.Checked{File: read("[587, 25]")}).Same)
	// Output:
	// mail → rest, for example tcp, to port 587
	// rest → mail, for example tcp, to port 465
	// true
}
