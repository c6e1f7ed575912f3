package suggest_test

import (
	"fmt"
	"time"

	"imbrel.example/imbrel/core/language"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/policyfile"
	"imbrel.example/imbrel/core/simulate"
	"imbrel.example/imbrel/core/suggest"
)

// A policer that lets less pass than the calls need: which rate would do?
func ExampleFinder_Change() {
	doc, err := policyfile.Document("quay.json", []byte(`{"imbrel": 1,
		"classes": [{"name": "voice", "match": [{"to-port": "16384-32767"}]}],
		"policies": [{"name": "wan", "shape": "1.9Mbit/s", "treat": [
			{"class": "voice", "priority": 1, "police": {"rate": "150kbit/s", "burst": "3kB"}},
			{"class": "rest"}]}],
		"attach": [{"policy": "wan", "at": ["quay/wan out", "hill/wan out"]}],
		"network": {
			"nodes": [
				{"name": "quay", "interfaces": [{"name": "lan", "rate": "1Gbit/s", "subnets": ["10.1.0.0/24"]}, {"name": "wan", "rate": "100Mbit/s"}]},
				{"name": "hill", "interfaces": [{"name": "wan", "rate": "100Mbit/s"}, {"name": "lan", "rate": "1Gbit/s", "subnets": ["10.2.0.0/24"]}]}],
			"links": [{"ends": [{"at": "quay/wan", "sends": "2Mbit/s"}, {"at": "hill/wan", "sends": "2Mbit/s"}], "delay": "5ms"}]},
		"rehearsals": [{"name": "busy", "lasts": "10s",
			"traffic": [
				{"name": "calls", "calls": 3, "codec": "g711", "between": ["10.1.0.7", "10.2.0.9"]},
				{"name": "backup", "rate": "5Mbit/s", "packet": "1500B", "from": "10.1.0.8", "to": "10.2.0.8"}],
			"expect": ["voice loss = 0"]}]}`))
	if err != nil {
		fmt.Println(err)
		return
	}
	rehearse := func(doc language.Value) (*measure.Result, error) {
		file, err := language.Read(doc, time.LoadLocation)
		if err != nil {
			return nil, err
		}
		return simulate.Run(file, &file.Rehearsals[0], simulate.Options{Seed: 1})
	}
	result, err := rehearse(doc)
	if err != nil {
		fmt.Println(err)
		return
	}
	finder := suggest.Finder{
		Number: func(path string) (string, policy.Place) {
			if v, ok := doc.Lookup(path); ok {
				return v.Text, v.At
			}
			return "", doc.At
		},
		Try: func(path, text string) (*measure.Result, error) {
			changed, err := doc.With(path, text)
			if err != nil {
				return nil, err
			}
			return rehearse(changed)
		},
	}
	c, _ := finder.Change(result, 0)
	fmt.Println(c.Path, "from", c.From, "to", c.To)
	// Output: policies.wan.treat.voice.police.rate from 150kbit/s to 299kbit/s
}
