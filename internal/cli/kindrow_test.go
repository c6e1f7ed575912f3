package cli_test

import (
	"fmt"
	"strings"
	"testing"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
)

// kindLines has a line of traffic of every kind that a file can have.
var kindLines = map[policy.TrafficKind]string{
	policy.Stream:    "rate: 2Mbit/s, packet: 1000B, from: 10.1.0.1, to: 10.2.0.1",
	policy.Calls:     "calls: 2, codec: g711, between: [10.1.0.1, 10.2.0.1]",
	policy.TCPFlows:  "tcp: 2, from: 10.1.0.1, to: 10.2.0.1",
	policy.Exchanges: "requests: 2, answer: 100kB, think: 100ms, from: 10.1.0.1, to: 10.2.0.1",
	policy.Pages:     "pages: 2, objects: 3, object: 20kB, think: 100ms, from: 10.1.0.1, to: 10.2.0.1",
	policy.Video:     "video: 2Mbit/s, from: 10.1.0.1, to: 10.2.0.1",
	policy.Hellos:    "hellos: 100ms, dead: 1s, between: [a/wan, b/lan]",
	policy.Replay:    "capture: hops.pcap, enters: a/lan",
}

const kindFile = `imbrel: 1
classes: [{name: all, match: [{to: 10.2.0.0/16}]}]
policies: [{name: p, shape: 1Mbit/s, treat: [{class: all, at-least: 50%%, queue: {drop: %s}}, {class: rest}]}]
attach: [{policy: p, at: a/wan out}]
network:
  nodes:
    - {name: a, interfaces: [{name: lan, rate: 1Gbit/s, subnets: [10.1.0.0/16]}, {name: wan, rate: 1Gbit/s, address: 10.1.255.1, link: {to: b, delay: 1ms}}]}
    - {name: b, interfaces: [{name: lan, rate: 1Gbit/s, subnets: [10.2.0.0/16], address: 10.2.255.1}]}
rehearsals: [{name: r, lasts: 6s, traffic: [{name: kind, %s}], expect: [all delay max <= 100s]}]
`

// Every kind of traffic is checked, rehearsed with each kind of queue, and compared.
func TestEveryKindOfTrafficAndQueue(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	put(t, dir, "hops.pcap", string(hopsCapture()))
	for kind := range policy.TrafficKinds() {
		line := kindLines[kind]
		if line == "" && kind != policy.Conversations { // of a capture
			t.Errorf("%s has no line in this test", kind.Row().Name)
			continue
		} else if line == "" {
			continue
		}
		for i, drop := range policy.Droppers() {
			name := fmt.Sprintf("%s-%s.yaml", kind.Row().Name, drop)
			put(t, dir, name, fmt.Sprintf(kindFile, drop, line))
			if kind != policy.Stream && i != int(kind)%len(policy.Droppers()) {
				continue // each kind with one queue, a stream with all
			}
			if r := imbrel(t, dir, "", nil, "check", name); r.status != 0 {
				t.Errorf("check %s: exit %d: %s%s", name, r.status, r.out, r.err)
			}
			r := imbrel(t, dir, "", nil, "rehearse", name, "-o", "json")
			result := parsed[measure.Result](t, r.out)
			if r.status != 0 || len(result.Traffic) == 0 || result.Traffic[0].SentPackets == 0 {
				t.Errorf("rehearse %s: exit %d, traffic %+v: %s", name, r.status, result.Traffic, r.err)
			}
			for _, c := range result.Classes {
				if c.Class == "all" && c.SentPackets == 0 {
					t.Errorf("rehearse %s: the class has no packet", name)
				}
			}
			if other := fmt.Sprintf("%s-%s.yaml", kind.Row().Name, policy.Droppers()[0]); i > 0 {
				if r := imbrel(t, dir, "", nil, "changes", other, name); !strings.Contains(r.out, drop) {
					t.Errorf("changes %s %s does not name the queue: %s%s", other, name, r.out, r.err)
				}
			}
		}
	}
}
