package deliver_test

import (
	"fmt"
	"runtime"
	"strings"
	"testing"

	"imbrel.example/imbrel/core/changes"
	"imbrel.example/imbrel/core/deliver"
	"imbrel.example/imbrel/core/language"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/policyfile"
	"imbrel.example/imbrel/core/yang"
)

// many returns a file of a hub with so many sites.
func many(n int, shape string) string {
	var b strings.Builder
	b.WriteString(`imbrel: 1
groups: {phones: [10.0.0.0/8]}
classes:
  - {name: voice, match: [{from: phones, protocol: udp, to-port: 16384-32767}]}
  - {name: charts, match: [{protocol: tcp, port: 8730}]}
policies:
  - name: wan
    shape: ` + shape + `
    treat: [{class: voice, mark: ef, priority: 1, police: {rate: 960kbit/s, burst: 16kB}}, {class: charts, mark: af11, at-least: 20%}, {class: rest, at-least: 20%}]
attach: [{policy: wan, at: "*/wan out"}]
network:
  nodes:
    - {name: hub, interfaces: [{name: lan, rate: 1Gbit/s, subnets: 192.0.2.0/24}]}
`)
	for i := range n {
		fmt.Fprintf(&b, "    - {name: site%d, interfaces: [{name: lan, rate: 1Gbit/s, subnets: 10.%d.%d.0/24}, {name: wan, rate: 100Mbit/s, link: {to: hub, sends: 10Mbit/s, receives: 10Mbit/s, delay: 5ms}}]}\n", i, i/250, i%250)
	}
	return b.String()
}

// What 2,000 devices are to have, and what that changes: from the file to the edits and the meaning.
func BenchmarkCompare2000(b *testing.B) {
	const sites = 2000
	read := func(shape string) (*policy.File, *policyfile.Source) {
		f, s, err := policyfile.Read("sites.yaml", strings.NewReader(many(sites, shape)), nil, nil)
		if err != nil {
			b.Fatal(err)
		}
		return f, s
	}
	form := language.DeviceForm()
	old, oldSource := read("9.5Mbit/s")
	has := make([]*yang.Element, sites+1)
	for i := range has {
		part := oldSource.Part(old, &old.Network.Nodes[i])
		has[i] = yang.Tree(form, &part).In(yang.Namespace)
	}
	for b.Loop() {
		f, source := read("9.4Mbit/s")
		differ := make([]bool, sites+1)
		deliver.Each(runtime.GOMAXPROCS(0), sites+1, func(i int) {
			part := source.Part(f, &f.Network.Nodes[i])
			w := deliver.Want(form, has[i], nil, yang.Tree(form, &part).In(yang.Namespace), false)
			var files [2]*policy.File
			for n, e := range []*yang.Element{has[i], w.Config} {
				var r yang.Reader
				v, err := r.Value(form, e)
				if err == nil {
					files[n], _, err = policyfile.FromValue(v, nil)
				}
				if err != nil {
					b.Error(err)
				}
			}
			differ[i] = !changes.Between(changes.Checked{File: files[0]}, changes.Checked{File: files[1]}).Same
		})
		for i, d := range differ {
			if d != (i > 0) {
				b.Fatalf("device %d: differs %v", i, d)
			}
		}
	}
}
